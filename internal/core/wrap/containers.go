package wrap

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"time"

	"github.com/dsnet/compress/bzip2"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"
)

// What follows writes a container as the original has it: readers of games are often made for what their own writer does.

// putGzip writes a gzip with the header of the original (RFC 1952): name, comment, time, system, and with the zeros behind it.
func putGzip(out io.Writer, was former) (sink, error) {
	r, err := was.open()
	if err != nil {
		return sink{}, err
	}
	defer r.Close()
	head, err := was.head(10)
	if err != nil {
		return sink{}, err
	}
	z, err := newGzip(r)
	if err != nil {
		return sink{}, err
	}
	if _, err := io.Copy(io.Discard, z); err != nil {
		return sink{}, err
	}
	if z.named {
		return sink{}, fmt.Errorf("a gzip of several members that have names or remarks %w", ErrNotWritable)
	}
	level := gzip.DefaultCompression
	if known, ok := map[byte]int{2: gzip.BestCompression, 4: gzip.BestSpeed}[head[8]]; ok { // XFL
		level = known
	}
	w, err := gzip.NewWriterLevel(out, level)
	if err != nil {
		return sink{}, err
	}
	if w.Header = z.first; w.ModTime.IsZero() { // which the library would not write as none
		w.ModTime = time.Unix(0, 0)
	}
	return closing(w, out, make([]byte, z.zeros)), nil
}

// putXZ writes an xz with the kind of check that the original's stream header tells, as small readers know only CRC-32, and with its padding.
func putXZ(out io.Writer, was former) (sink, error) {
	head, err := was.head(8)
	if err != nil {
		return sink{}, err
	}
	r, err := was.open()
	if err != nil {
		return sink{}, err
	}
	defer r.Close()
	zeros, buf := 0, make([]byte, 64<<10)
	for {
		n, err := r.Read(buf)
		if kept := len(bytes.TrimRight(buf[:n], "\x00")); kept > 0 {
			zeros = n - kept
		} else {
			zeros += n
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return sink{}, err
		}
	}
	config := xz.WriterConfig{}
	if len(head) > 7 {
		if config.CheckSum = head[7] & 0xf; config.CheckSum == 0 {
			config.NoCheckSum = true
		}
	}
	w, err := config.NewWriter(out)
	if err != nil {
		return sink{}, err
	}
	return closing(w, out, make([]byte, zeros)), nil
}

// putBzip2 writes a bzip2 with blocks of the size that the original's header tells.
func putBzip2(out io.Writer, was former) (sink, error) {
	head, err := was.head(4)
	if err != nil {
		return sink{}, err
	}
	config := bzip2.WriterConfig{}
	if len(head) > 3 && head[3] >= '1' && head[3] <= '9' {
		config.Level = int(head[3] - '0')
	}
	w, err := bzip2.NewWriter(out, &config)
	if err != nil {
		return sink{}, err
	}
	return closing(w, out, nil), nil
}

// isSkippable reports whether a frame of zstd or LZ4 begins here that holds no content but something of its writer's (RFC 8878, 3.1.2).
func isSkippable(head []byte) bool {
	return len(head) >= 4 && head[0]&0xf0 == 0x50 && head[1] == 0x2a && head[2] == 0x4d && head[3] == 0x18
}

// aroundFrames are the skippable frames before and behind the frames of content, and the beginning of the first of these. One between is an error
// that wraps ErrNotWritable. next passes over one frame of content.
func aroundFrames(was former, next func(*bufio.Reader) error) (before, behind, head []byte, err error) {
	r, err := was.open()
	if err != nil {
		return nil, nil, nil, err
	}
	defer r.Close()
	b := bufio.NewReader(r)
	for {
		start, _ := b.Peek(maxFrameHead)
		switch {
		case len(start) == 0:
			return before, behind, head, nil
		case isSkippable(start) && len(start) >= 8:
			frame, err := ReadAtMost(io.LimitReader(b, 8+int64(binary.LittleEndian.Uint32(start[4:]))), MaxHeld)
			if err != nil {
				return nil, nil, nil, err
			}
			if head == nil {
				before = append(before, frame...)
			} else {
				behind = append(behind, frame...)
			}
		case behind != nil:
			return nil, nil, nil, fmt.Errorf("a file with a note between its packed frames %w", ErrNotWritable)
		default:
			if head == nil {
				head = bytes.Clone(start)
			}
			if err := next(b); err != nil {
				return nil, nil, nil, err
			}
		}
	}
}

// maxFrameHead is the largest head of a frame of zstd or LZ4, in bytes.
const maxFrameHead = 19

// zstdFrame passes over one frame (RFC 8878, 3.1.1): its head, blocks, and checksum.
func zstdFrame(b *bufio.Reader) error {
	head, _ := b.Peek(maxFrameHead)
	var h zstd.Header
	if err := h.Decode(head); err != nil {
		return err
	}
	if _, err := b.Discard(h.HeaderSize); err != nil {
		return err
	}
	for last := false; !last; {
		var three [3]byte
		if _, err := io.ReadFull(b, three[:]); err != nil {
			return err
		}
		n := int(three[0]) | int(three[1])<<8 | int(three[2])<<16
		last = n&1 == 1
		size := n >> 3
		if n>>1&3 == 1 { // one byte that repeats
			size = 1
		}
		if _, err := b.Discard(size); err != nil {
			return err
		}
	}
	if h.HasCheckSum {
		_, err := b.Discard(4)
		return err
	}
	return nil
}

// putZstd writes a zstd that has what the original's frame has: a checksum, its size.
func putZstd(out io.Writer, was former, size int64) (sink, error) {
	before, behind, head, err := aroundFrames(was, zstdFrame)
	if err != nil {
		return sink{}, err
	}
	var h zstd.Header
	if err := h.Decode(head); err != nil {
		return sink{}, err
	}
	if _, err := out.Write(before); err != nil {
		return sink{}, err
	}
	options := []zstd.EOption{zstd.WithEncoderCRC(h.HasCheckSum), zstd.WithEncoderConcurrency(1)}
	if h.HasFCS && size >= 0 && size < 256 { // too small to be said in another way
		options = append(options, zstd.WithSingleSegment(true))
	}
	w, err := zstd.NewWriter(out, options...)
	if err == nil && h.HasFCS && size >= 0 {
		w.ResetContentSize(out, size)
	}
	return closing(w, out, behind), err
}

// lz4Frame passes over one frame (lz4_Frame_format.md): its head, blocks, and checksum.
func lz4Frame(b *bufio.Reader) error {
	head, _ := b.Peek(maxFrameHead)
	if len(head) < 7 || Compression(head) != "lz4" {
		return errors.New("it is no frame")
	}
	flags, size := head[4], 7
	if flags&8 != 0 {
		size += 8
	}
	if flags&1 != 0 {
		size += 4
	}
	if _, err := b.Discard(size); err != nil {
		return err
	}
	for {
		var four [4]byte
		if _, err := io.ReadFull(b, four[:]); err != nil {
			return err
		}
		n := binary.LittleEndian.Uint32(four[:])
		if n == 0 {
			break
		}
		block := int(n &^ (1 << 31))
		if flags&16 != 0 {
			block += 4
		}
		if _, err := b.Discard(block); err != nil {
			return err
		}
	}
	if flags&4 != 0 {
		_, err := b.Discard(4)
		return err
	}
	return nil
}

// putLZ4 writes an LZ4 frame that has what the original's has: checksums, its size, the size of blocks.
func putLZ4(out io.Writer, was former, size int64) (sink, error) {
	before, behind, head, err := aroundFrames(was, lz4Frame)
	if err != nil {
		return sink{}, err
	}
	if len(head) < 6 {
		return sink{}, errors.New("it has no frame")
	}
	if _, err := out.Write(before); err != nil {
		return sink{}, err
	}
	flags := head[4]
	options := []lz4.Option{lz4.ChecksumOption(flags&4 != 0), lz4.BlockChecksumOption(flags&16 != 0)}
	if flags&8 != 0 && size >= 0 {
		options = append(options, lz4.SizeOption(uint64(size)))
	}
	if code := head[5] >> 4 & 7; code >= 4 {
		options = append(options, lz4.BlockSizeOption(lz4.BlockSize(1<<(8+2*code))))
	}
	w := lz4.NewWriter(out)
	if err := w.Apply(options...); err != nil {
		return sink{}, err
	}
	return closing(w, out, behind), nil
}
