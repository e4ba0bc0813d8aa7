package archive

import (
	"io"
	"math/rand/v2"
	"slices"
)

// Splitting of large files into parts at borders that their content defines, so that an insertion moves only the parts around it. The gear
// hash and the two masks are those of FastCDC (Xia et al., USENIX ATC 2016), with normalised chunk sizes.
const (
	minPart  = 256 << 10
	meanPart = 1 << 20
	maxPart  = 4 << 20
	// whole is the size up to which a file is one part.
	whole = maxPart
)

var gear = func() (t [256]uint64) {
	r := rand.New(rand.NewPCG(0x6f7374726f76, 1)) // fixed for ever: other numbers would split every file anew
	for i := range t {
		t[i] = r.Uint64()
	}
	return t
}()

// cut returns the length of the first part of data, which is the rest of the file or at least maxPart of it.
func cut(data []byte) int {
	if len(data) <= minPart {
		return len(data)
	}
	const strict, loose = (1<<22 - 1) << 40, (1<<18 - 1) << 40 // harder to meet before the mean, easier after
	data = data[:min(len(data), maxPart)]
	h, n := border(0, data[minPart:min(len(data), meanPart)], strict)
	if n >= 0 {
		return minPart + n
	}
	if len(data) > meanPart {
		if _, n = border(h, data[meanPart:], loose); n >= 0 {
			return meanPart + n
		}
	}
	return len(data)
}

// border carries the hash on over data until it meets the mask, and returns it with the length up to there, or -1 where it does not.
func border(h uint64, data []byte, mask uint64) (uint64, int) {
	for i, b := range data {
		if h = h<<1 + gear[b]; h&mask == 0 {
			return h, i + 1
		}
	}
	return h, -1
}

// window is how much of a file is in memory while it is split, in bytes: as the largest part must be seen whole, a window twice as large
// moves what is left over half as often.
const window = 2 * maxPart

// split stores what in gives as parts, holding no more than a window of it in memory. What fits into one part is one.
func (r *reader) split(in io.Reader) ([]Chunk, error) {
	var parts []Chunk
	buf, start := r.buf[:0], 0 // from start on, buf is what is not stored yet
	defer func() { r.buf = buf }()
	for end := false; !end; {
		buf = append(buf[:0], buf[start:]...)
		start = 0
		for !end && len(buf) < window {
			if len(buf) == cap(buf) {
				buf = slices.Grow(buf, min(window-len(buf), max(64<<10, len(buf))))
			}
			n, err := io.ReadFull(in, buf[len(buf):min(cap(buf), window)])
			buf = buf[:len(buf)+n]
			end = err == io.EOF || err == io.ErrUnexpectedEOF
			if err != nil && !end {
				return nil, err
			}
		}
		for rest := buf[start:]; len(rest) >= maxPart || end && len(rest) > 0; rest = buf[start:] {
			length := len(rest)
			if !end || len(parts) > 0 || length > maxPart {
				length = cut(rest)
			}
			d, err := r.k.w.add(&r.packer, rest[:length])
			if err != nil {
				return nil, err
			}
			parts = append(parts, Chunk{Blob: d, Length: int64(length)})
			start += length
		}
	}
	return parts, nil
}
