package wrap

import (
	"bufio"
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strconv"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zlib"
	"github.com/pierrec/lz4/v4"
)

// Wrap puts a content into the layers of an original file, which says all that the layers hold besides content; checksums and lengths are computed
// anew. What it returns has been unwrapped again: it holds just this content, except for checksums that stand inside it. Errors wrap ErrNotWritable
// if that cannot be.
func (l Layers) Wrap(content, original Content, limits Limits) ([]byte, error) {
	head := make([]byte, min(original.Size(), maxTag))
	if _, err := original.ReadAt(head, 0); err != nil && err != io.EOF {
		return nil, err
	}
	chain, err := l.chainFor(head)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	if err := wrapInto(&out, chain, content, original); err != nil {
		return nil, err
	}
	again, err := l.Reader(bytes.NewReader(out.Bytes()), limits)
	if err != nil {
		return nil, fmt.Errorf("what was written does not unwrap again: %w: %w", err, ErrNotWritable)
	}
	defer again.Close()
	if err := same(again, all(content), sumsOf(chain)); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}

// Rewrite returns the file original with what edit makes of its content, in the same layers; see Wrap.
func (l Layers) Rewrite(original []byte, limits Limits, edit func(content []byte) ([]byte, error)) ([]byte, error) {
	content, err := l.Peel(bytes.NewReader(original), limits)
	if err != nil {
		return nil, err
	}
	if content, err = edit(content); err != nil {
		return nil, err
	}
	return l.Wrap(bytes.NewReader(content), bytes.NewReader(original), limits)
}

// sumsOf returns the number of bytes that the checksums and lengths of a chain may change.
func sumsOf(chain []Layer) (n int) {
	for _, l := range chain {
		switch l.Name {
		case "checksum":
			c, _ := parseChecksum(l.Arg)
			n += c.size()
		case "length":
			if p, _ := parseLength(l.Arg); p.placed {
				n += p.kind.Size
			}
		}
	}
	return n
}

// same compares two streams, in which at most this many bytes may differ.
func same(a, b io.Reader, differ int) error {
	bufA, bufB := make([]byte, 64<<10), make([]byte, 64<<10)
	for {
		n, errA := io.ReadFull(a, bufA)
		m, errB := io.ReadFull(b, bufB)
		if end := io.ErrUnexpectedEOF; errA != nil && errA != end && errA != io.EOF {
			return fmt.Errorf("what was written does not unwrap again: %w: %w", errA, ErrNotWritable)
		} else if errB != nil && errB != end && errB != io.EOF {
			return errB
		}
		if n != m {
			return fmt.Errorf("what was written unwraps to something else: %w", ErrNotWritable)
		}
		if !bytes.Equal(bufA[:n], bufB[:n]) {
			for i := range n {
				if bufA[i] != bufB[i] {
					differ--
				}
			}
			if differ < 0 {
				return fmt.Errorf("what was written unwraps to something else: %w", ErrNotWritable)
			}
		}
		if errA != nil {
			return nil
		}
	}
}

// former opens the packed bytes that a layer held before, as often as needed.
type former struct {
	chain    []Layer // the layers around it
	original Content
}

// open reads it. Checksums around it are not checked, as the content is being replaced.
func (f former) open() (io.ReadCloser, error) {
	var chain []Layer
	for _, l := range f.chain {
		if p, _ := parseLength(l.Arg); l.Name != "checksum" && (l.Name != "length" || !p.placed) {
			chain = append(chain, l)
		}
	}
	return Layers{Chain: chain}.Reader(all(f.original), Limits{Decoded: 1 << 40})
}

// head is its beginning, at most n bytes.
func (f former) head(n int) ([]byte, error) {
	r, err := f.open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	head := make([]byte, n)
	n, err = io.ReadFull(r, head)
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		err = nil
	}
	return head[:n], err
}

// whole is all of it.
func (f former) whole() ([]byte, error) {
	r, err := f.open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	return ReadAtMost(r, MaxHeld)
}

// sink takes the content of a layer and writes the layer.
type sink struct {
	io.Writer
	close func() error // writes the bytes after the content
}

func wrapInto(out io.Writer, chain []Layer, content, original Content) error {
	var sinks []sink
	for i, layer := range chain {
		size := int64(-1) // of what is put into this layer
		if i == len(chain)-1 {
			size = content.Size()
		}
		s, err := layer.put(out, former{chain[:i], original}, size, content.Size())
		if err != nil {
			return asDamageOrRefusal(layer.Name, err)
		}
		sinks = append(sinks, s)
		out = s
	}
	if _, err := io.Copy(out, all(content)); err != nil {
		return err
	}
	for i := len(sinks) - 1; i >= 0; i-- {
		if err := sinks[i].close(); err != nil {
			return asDamageOrRefusal(chain[i].Name, err)
		}
	}
	return nil
}

func asDamageOrRefusal(layer string, err error) error {
	if errors.Is(err, ErrNotWritable) {
		return err
	}
	return asDamage(layer, err)
}

// put begins a layer in out. size is the number of bytes that it will hold, or -1, and total the size of the content inside all layers.
func (l Layer) put(out io.Writer, was former, size, total int64) (sink, error) {
	nothing := func() error { return nil }
	switch l.Name {
	case "auto":
		head, err := was.head(trial)
		if err != nil {
			return sink{}, err
		}
		if l.Name = Compression(head); l.Name == "" {
			return sink{out, nothing}, nil
		}
		return l.put(out, was, size, total)
	case "skip":
		n, _ := strconv.Atoi(l.Arg)
		head, err := was.head(n)
		if err == nil {
			_, err = out.Write(head)
		}
		return sink{out, nothing}, err
	case "lines":
		r, err := was.open()
		if err != nil {
			return sink{}, err
		}
		defer r.Close()
		skipped, _, err := l.lines(r)
		if err == nil {
			_, err = out.Write(skipped)
		}
		return sink{out, nothing}, err
	case "xor":
		key, _ := hex.DecodeString(l.Arg)
		return sink{&xorWriter{w: out, key: key}, nothing}, nil
	case "zlib", "deflate":
		return l.putDeflated(out, was)
	case "gzip":
		return putGzip(out, was)
	case "xz":
		return putXZ(out, was)
	case "bzip2":
		return putBzip2(out, was)
	case "zstd":
		return putZstd(out, was, size)
	}
	if l.Name == "lz4" {
		head, err := was.head(4)
		if err != nil {
			return sink{}, err
		}
		if Compression(head) == "lz4" || isSkippable(head) {
			return putLZ4(out, was, size)
		}
	}
	return l.putWhole(out, was, total), nil
}

// putWhole writes a layer that needs all of its content.
func (l Layer) putWhole(out io.Writer, was former, total int64) sink {
	var b bytes.Buffer
	limited := writerFunc(func(p []byte) (int, error) {
		if b.Len()+len(p) > MaxHeld {
			return 0, fmt.Errorf("%w: more than %d bytes in the layer %s", ErrTooLarge, MaxHeld, l.word())
		}
		return b.Write(p)
	})
	return sink{limited, func() error {
		original, err := was.whole()
		if err != nil {
			return err
		}
		written, err := l.around(b.Bytes(), original, total)
		if err == nil {
			_, err = out.Write(written)
		}
		return err
	}}
}

type writerFunc func([]byte) (int, error)

func (f writerFunc) Write(p []byte) (int, error) { return f(p) }

// around is a content in one layer that needs all of it.
func (l Layer) around(content, original []byte, total int64) ([]byte, error) {
	switch l.Name {
	case "length":
		n, _ := parseLength(l.Arg)
		if n.placed {
			return n.put(content, total)
		}
		_, after, err := n.cut(original)
		if err != nil {
			return nil, err
		}
		number, err := n.kind.Encode(strconv.Itoa(len(content)), n.kind.Size)
		return append(append(number, content...), after...), err
	case "checksum":
		c, _ := parseChecksum(l.Arg)
		return c.put(content, original)
	case "zip":
		return l.putZip(content, original)
	case "framed":
		f, err := parseFrames(l.Arg)
		if err != nil {
			return nil, err
		}
		return f.put(content, original)
	case "lzo":
		return lzo1xOf(content), nil
	case "lz4":
		return lz4OneBlock(content)
	case "base64":
		return base64As(content, original), nil
	}
	return nil, fmt.Errorf("a layer %q %w", l.Name, ErrNotWritable)
}

// xorWriter writes under a repeating key.
type xorWriter struct {
	w   io.Writer
	key []byte
	at  int
}

func (x *xorWriter) Write(p []byte) (int, error) {
	b := make([]byte, len(p))
	for i := range p {
		b[i] = p[i] ^ x.key[x.at]
		x.at = (x.at + 1) % len(x.key)
	}
	return x.w.Write(b)
}

// base64As spells content in lines as long as the original's, with its line ends, and with what white space stands around all.
func base64As(content, original []byte) []byte {
	text := []byte(base64.StdEncoding.EncodeToString(content))
	const white = " \t\r\n"
	inner := bytes.Trim(original, white)
	before, after, _ := bytes.Cut(original, inner)
	long := bytes.IndexAny(inner, white)
	if long <= 0 {
		return append(append(bytes.Clone(before), text...), after...)
	}
	end := inner[long:]
	end = end[:len(end)-len(bytes.TrimLeft(end, white))]
	out := bytes.Clone(before)
	for i := 0; len(text) > 0; i++ {
		if i > 0 {
			out = append(out, end...)
		}
		n := min(long, len(text))
		out, text = append(out, text[:n]...), text[n:]
	}
	return append(out, after...)
}

func lz4OneBlock(content []byte) ([]byte, error) {
	out := make([]byte, lz4.CompressBlockBound(len(content)))
	n, err := lz4.CompressBlock(content, out, nil)
	if err == nil && n == 0 && len(content) > 0 {
		err = errors.New("cannot be made smaller, and a bare LZ4 block has no other way to hold it")
	}
	return out[:n], err
}

// putDeflated writes zlib (RFC 1950), at the level in the original's header (FLEVEL), or bare deflate (RFC 1951), and the bytes after it.
func (l Layer) putDeflated(out io.Writer, was former) (sink, error) {
	r, err := was.open()
	if err != nil {
		return sink{}, err
	}
	defer r.Close()
	b := bufio.NewReader(r) // so that the decoder reads no byte too many
	head, _ := b.Peek(2)
	var z io.Reader = flate.NewReader(b)
	level := flate.DefaultCompression
	if l.Name == "zlib" {
		if z, err = zlib.NewReader(b); err != nil {
			return sink{}, err
		}
		level = []int{zlib.BestSpeed, 4, zlib.DefaultCompression, zlib.BestCompression}[head[1]>>6]
	}
	if _, err := io.Copy(io.Discard, z); err != nil {
		return sink{}, err
	}
	behind, err := ReadAtMost(b, MaxHeld)
	if err != nil {
		return sink{}, err
	}
	var w io.WriteCloser
	if l.Name == "zlib" {
		w, err = zlib.NewWriterLevel(out, level)
	} else {
		w, err = flate.NewWriter(out, level)
	}
	return closing(w, out, behind), err
}

// closing is a sink that closes a writer and then writes the bytes after the stream.
func closing(w io.WriteCloser, out io.Writer, behind []byte) sink {
	return sink{w, func() error {
		err := w.Close()
		if err == nil && len(behind) > 0 {
			_, err = out.Write(behind)
		}
		return err
	}}
}
