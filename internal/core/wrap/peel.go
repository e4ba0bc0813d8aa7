package wrap

import (
	"archive/zip"
	"bufio"
	"bytes"
	"compress/bzip2"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strconv"
	"sync"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/therootcompany/xz"
)

// Peel reads r through all layers and returns the content, at most limits.Decoded bytes.
func (l Layers) Peel(r io.Reader, limits Limits) ([]byte, error) {
	content, err := l.Reader(r, limits)
	if err != nil {
		return nil, err
	}
	defer content.Close()
	data, err := ReadAtMost(content, limits.Decoded)
	if err != nil {
		return nil, asDamage("", err)
	}
	return data, nil
}

// Reader reads r through all layers as a stream, which ends with ErrTooLarge past limits.Decoded bytes. Layers that need a whole (zip, checksum,
// length, lzo) hold it in memory, at most MaxHeld bytes.
func (l Layers) Reader(r io.Reader, limits Limits) (io.ReadCloser, error) {
	chain := l.Chain
	if l.Tag != nil {
		b := bufio.NewReaderSize(r, maxTag)
		head, err := b.Peek(l.Tag.To)
		if err != nil {
			return nil, fmt.Errorf("%w: ends before byte %d", ErrDamaged, l.Tag.To)
		}
		if chain, err = l.chainFor(head); err != nil {
			return nil, err
		}
		r = b
	}
	p := &peeled{limit: limits.Decoded, left: limits.Decoded, says: -1}
	for _, layer := range chain {
		next, err := layer.peel(r, limits, p)
		if err != nil {
			return nil, errors.Join(asDamage(layer.Name, err), p.Close())
		}
		r = next
	}
	p.r = r
	return p, nil
}

// peeled is content with all layers peeled.
type peeled struct {
	r       io.Reader
	limit   int64
	left    int64
	n       int64 // bytes read
	says    int64 // how many there are, as a layer says, or -1
	closers []func()
}

func (p *peeled) Read(b []byte) (int, error) {
	n, err := p.r.Read(b)
	p.n += int64(n)
	if p.left -= int64(n); p.left < 0 {
		return 0, fmt.Errorf("%w: more than %s unpacked", ErrTooLarge, inUnits(p.limit))
	}
	if err == io.EOF && p.says >= 0 && p.says != p.n {
		return n, fmt.Errorf("%w: %d bytes are there unpacked of the %d that it says", ErrDamaged, p.n, p.says)
	}
	if err != nil && err != io.EOF {
		err = asDamage("", err)
	}
	return n, err
}

func (p *peeled) Close() error {
	for _, c := range p.closers {
		c()
	}
	p.closers = nil
	return nil
}

// asDamage is an error of reading a layer as one of ours.
func asDamage(layer string, err error) error {
	if errors.Is(err, ErrTooLarge) || errors.Is(err, ErrDamaged) || errors.Is(err, ErrUnknown) {
		return err
	}
	if errors.Is(err, zstd.ErrWindowSizeExceeded) || errors.Is(err, zstd.ErrDecoderSizeExceeded) || errors.Is(err, xz.ErrMemlimit) {
		return fmt.Errorf("%w: %v", ErrTooLarge, err)
	}
	if layer != "" {
		return fmt.Errorf("%w: not %s: %v", ErrDamaged, layer, err)
	}
	return fmt.Errorf("%w: %v", ErrDamaged, err)
}

// peel reads r through one layer; what it needs closed, it adds to p.
func (l Layer) peel(r io.Reader, limits Limits, p *peeled) (io.Reader, error) {
	switch l.Name {
	case "auto":
		b := bufio.NewReader(r)
		head, _ := b.Peek(trial)
		if name := Compression(head); name != "" {
			return Layer{Name: name}.peel(b, limits, p)
		}
		return b, nil
	case "skip":
		n, _ := strconv.ParseInt(l.Arg, 10, 64)
		if got, err := io.CopyN(io.Discard, r, n); err != nil {
			return nil, fmt.Errorf("%w: ends after %d of %d bytes to skip", ErrDamaged, got, n)
		}
		return r, nil
	case "lines":
		_, rest, err := l.lines(r)
		return rest, err
	case "xor":
		key, _ := hex.DecodeString(l.Arg)
		return &xored{r: r, key: key}, nil
	case "base64":
		return base64.NewDecoder(base64.StdEncoding, &textOnly{r}), nil
	case "framed":
		f, err := parseFrames(l.Arg)
		if err != nil {
			return nil, err
		}
		f.r, f.limits = bufio.NewReader(r), limits
		return f, nil
	case "gzip":
		return newGzip(r)
	case "zlib":
		return zlib.NewReader(r)
	case "deflate":
		return flate.NewReader(r), nil
	case "bzip2":
		return bzip2.NewReader(r), nil
	case "xz":
		return xz.NewReader(r, uint32(min(limits.dictionary(), 1<<31)))
	case "zstd":
		return peelZstd(r, limits, p)
	case "lz4":
		return lz4Reader(r), nil
	}
	whole, err := ReadAtMost(r, min(limits.Decoded, MaxHeld))
	if err != nil {
		return nil, err
	}
	return l.peelWhole(whole, limits, p)
}

// peelWhole takes off a layer that needs all of its content.
func (l Layer) peelWhole(whole []byte, limits Limits, p *peeled) (io.Reader, error) {
	var err error
	switch l.Name {
	case "lzo":
		whole, err = lzo1x(whole, limits.Decoded)
	case "length":
		n, _ := parseLength(l.Arg)
		if !n.placed {
			whole, _, err = n.cut(whole)
			break
		}
		number, want, wrong := n.at(whole)
		switch is := int64(-1); {
		case wrong != nil:
			err = wrong
		case n.unpacked:
			p.says = int64(min(n.kind.number(number), 1<<62))
		default:
			if is = int64(min(n.kind.number(number), 1<<62)); is != want {
				err = fmt.Errorf("%w: %d bytes are there of the %d that it says", ErrDamaged, want, is)
			}
		}
	case "checksum":
		c, _ := parseChecksum(l.Arg)
		err = c.check(whole)
	case "zip":
		f, wrong := l.zipEntry(whole)
		if wrong != nil {
			return nil, wrong
		}
		entry, wrong := f.Open()
		return entry, wrong
	}
	return bytes.NewReader(whole), err
}

// zipEntry is the entry of a zip that the layer names.
func (l Layer) zipEntry(data []byte) (*zip.File, error) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) { // the names inside are no paths here
		return nil, err
	}
	for _, f := range z.File {
		if f.Name == l.Arg || doublestar.MatchUnvalidated(l.Arg, f.Name) {
			return f, nil
		}
	}
	return nil, fmt.Errorf("%w: has no entry %q inside", ErrDamaged, l.Arg)
}

// maxLines bounds the lines that a layer skips, in bytes.
const maxLines = 1 << 20

// lines reads the lines to skip, and returns them and what follows.
func (l Layer) lines(r io.Reader) (skipped []byte, rest io.Reader, err error) {
	n, _ := strconv.Atoi(l.Arg)
	b := bufio.NewReader(r)
	for i := range n {
		for ended := false; !ended; {
			part, err := b.ReadSlice('\n')
			skipped = append(skipped, part...)
			if ended = err == nil; len(skipped) > maxLines || err != nil && err != bufio.ErrBufferFull {
				return nil, nil, fmt.Errorf("%w: ends after %d of %d lines to skip", ErrDamaged, i, n)
			}
		}
	}
	return skipped, b, nil
}

func peelZstd(r io.Reader, limits Limits, p *peeled) (io.Reader, error) {
	if limits.Dictionary > 0 {
		z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(uint64(limits.Dictionary)))
		if err == nil {
			p.closers = append(p.closers, z.Close)
		}
		return z, err
	}
	z, err := zstdReaders.get(r)
	if err == nil {
		p.closers = append(p.closers, func() { zstdReaders.Put(z) })
	}
	return z, err
}

// zstdPool keeps readers for the next use: a database may hold a hundred thousand small frames. What they unpack to is bounded by whoever
// reads from them.
type zstdPool struct{ sync.Pool }

var zstdReaders zstdPool

func (p *zstdPool) get(r io.Reader) (*zstd.Decoder, error) {
	if z, ok := p.Get().(*zstd.Decoder); ok {
		return z, z.Reset(r)
	}
	return zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxDictionary))
}

// xored is a stream under a repeating key.
type xored struct {
	r   io.Reader
	key []byte
	at  int
}

func (x *xored) Read(p []byte) (int, error) {
	n, err := x.r.Read(p)
	for i := range p[:n] {
		p[i] ^= x.key[x.at]
		x.at = (x.at + 1) % len(x.key)
	}
	return n, err
}

// textOnly leaves out white space: base64 in files is broken into lines with it.
type textOnly struct{ r io.Reader }

func (t *textOnly) Read(p []byte) (int, error) {
	n, err := t.r.Read(p)
	kept := 0
	for _, c := range p[:n] {
		if c != ' ' && c != '\t' && c != '\n' && c != '\r' {
			p[kept] = c
			kept++
		}
	}
	return kept, err
}

// lz4Reader reads the LZ4 frame format; what does not begin as a frame is one block (lz4_Block_format.md).
func lz4Reader(r io.Reader) io.Reader {
	b := bufio.NewReader(r)
	head, _ := b.Peek(4)
	if Compression(head) == "lz4" || isSkippable(head) {
		return lz4.NewReader(b)
	}
	return &lz4Block{r: b}
}

// lz4Block unpacks one block whole, at first use. A block does not say how large it is unpacked: it is at most 255 times its size.
type lz4Block struct {
	r    io.Reader
	data *bytes.Reader
}

// maxLZ4Block bounds one bare block unpacked, in bytes.
const maxLZ4Block = 64 << 20

func (l *lz4Block) Read(p []byte) (int, error) {
	if l.data == nil {
		packed, err := ReadAtMost(l.r, maxLZ4Block)
		if err != nil {
			return 0, err
		}
		for size := 4 * (len(packed) + 16); ; size *= 4 {
			out := make([]byte, min(size, maxLZ4Block))
			n, err := lz4.UncompressBlock(packed, out)
			if err == nil {
				l.data = bytes.NewReader(out[:n])
				break
			}
			if size >= 255*len(packed) || size >= maxLZ4Block {
				return 0, fmt.Errorf("%w: not an LZ4 block", ErrDamaged)
			}
		}
	}
	return l.data.Read(p)
}
