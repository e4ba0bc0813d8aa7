package form

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
	"io/fs"
	"ostrov/internal/core/glob"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
)

// Layer is one wrapping around the content of a file.
type Layer struct {
	Name string // one of layerNames
	Arg  string // the entry of zip, the number of skip and lines, the type of length, the key of xor, the rest of checksum
}

// layerNames are the layers understood. Those that the second half names take something after a colon.
var layerNames = []string{"auto", "gzip", "zlib", "deflate", "zstd", "lz4", "lzo", "xz", "bzip2", "base64",
	"skip", "lines", "length", "xor", "zip", "checksum", "framed"}

// Layers are the wrappings of a file, outermost first; or, with a tag, several such lists of which the file's first bytes choose one.
type Layers struct {
	Chain []Layer
	Tag   *Tag
}

// AnyCompression are the layers of a file of which nothing is known: whatever known compression its first bytes show.
var AnyCompression = Layers{Chain: []Layer{{Name: "auto"}}}

// Tag chooses layers by some bytes at the start of the file, read as ASCII.
type Tag struct {
	From, To int // byte offsets
	Chains   map[string][]Layer
	Strict   bool // a tag that is not in Chains is damage; else it is not understood
}

// maxTag bounds how far into a file a tag may reach, in bytes.
const maxTag = 4096

// ParseLayer reads one layer as a description spells it: "gzip", "skip:8", "zip:world.json", "checksum:crc32@4 over 8..".
func ParseLayer(s string) (Layer, error) {
	name, arg, has := strings.Cut(s, ":")
	place := slices.Index(layerNames, name)
	switch {
	case place < 0:
		return Layer{}, fmt.Errorf("no layer %q; there are %s", s, strings.Join(layerNames, ", "))
	case place < slices.Index(layerNames, "skip") && has:
		return Layer{}, fmt.Errorf("layer %q takes nothing after a colon", name)
	}
	var err error
	switch name {
	case "skip", "lines":
		if n, e := strconv.Atoi(arg); e != nil || n < 0 {
			err = fmt.Errorf("layer %q: %s takes a number", s, name)
		}
	case "zip":
		if arg == "" || !glob.Valid(arg) {
			err = fmt.Errorf("layer %q: zip takes the name of an entry, or a glob", s)
		}
	case "framed":
		_, err = parseFrames(arg)
	case "length":
		_, err = lengthType(arg)
	case "xor":
		if key, e := hex.DecodeString(arg); e != nil || len(key) == 0 {
			err = fmt.Errorf("layer %q: xor takes a key in hex", s)
		}
	case "checksum":
		_, err = parseChecksum(arg)
	}
	if err != nil {
		return Layer{}, err
	}
	return Layer{name, arg}, nil
}

// ParseTag reads where a tag stands: "0:4" is the first four bytes.
func ParseTag(s string) (from, to int, err error) {
	a, b, ok := strings.Cut(s, ":")
	from, err1 := strconv.Atoi(a)
	to, err2 := strconv.Atoi(b)
	if !ok || err1 != nil || err2 != nil || from < 0 || to <= from || to > maxTag {
		return 0, 0, fmt.Errorf("%q is not FROM:TO, in bytes, up to %d", s, maxTag)
	}
	return from, to, nil
}

// Peel reads r through all layers and returns the content, at most limits.Decoded bytes.
func (l Layers) Peel(r io.Reader, limits Limits) ([]byte, error) {
	content, err := l.Reader(r, limits)
	if err != nil {
		return nil, err
	}
	defer content.Close()
	size := int64(0)
	if f, ok := r.(fs.File); ok {
		if info, err := f.Stat(); err == nil {
			size = info.Size() // unpacked it will be more
		}
	}
	data, err := readAbout(content, size, limits.Decoded)
	if err != nil {
		return nil, damaged("", err)
	}
	return data, nil
}

// Reader reads r through all layers as a stream that ends with ErrTooLarge past limits.Decoded bytes. Layers that need a whole (zip,
// checksum, length, lzo) hold it in memory within the same limit.
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
	s := &peeled{left: limits.Decoded}
	for _, layer := range chain {
		next, closer, err := layer.peel(r, limits)
		if err != nil {
			return nil, errors.Join(damaged(layer.Name, err), s.Close())
		}
		if closer != nil {
			s.closers = append(s.closers, closer)
		}
		r = next
	}
	s.r = r
	return s, nil
}

// chainFor is the chain for a file that begins with head.
func (l Layers) chainFor(head []byte) ([]Layer, error) {
	if l.Tag == nil {
		return l.Chain, nil
	}
	if len(head) < l.Tag.To {
		return nil, fmt.Errorf("%w: ends before byte %d", ErrDamaged, l.Tag.To)
	}
	tag := string(head[l.Tag.From:l.Tag.To])
	chain, ok := l.Tag.Chains[tag]
	if !ok {
		what := ErrUnknown
		if l.Tag.Strict {
			what = ErrDamaged
		}
		return nil, fmt.Errorf("%w: begins with %q instead of %s", what, tag, strings.Join(l.Tag.names(), " or "))
	}
	return chain, nil
}

// peeled is content with all layers peeled.
type peeled struct {
	r       io.Reader
	left    int64
	closers []func()
}

func (p *peeled) Read(b []byte) (int, error) {
	n, err := p.r.Read(b)
	if p.left -= int64(n); p.left < 0 {
		return 0, fmt.Errorf("%w: more than the limit", ErrTooLarge)
	}
	if err != nil && err != io.EOF {
		err = damaged("", err)
	}
	return n, err
}

func (p *peeled) Close() error {
	for _, c := range p.closers {
		c()
	}
	return nil
}

func (t *Tag) names() []string {
	var names []string
	for name := range t.Chains {
		names = append(names, strconv.Quote(name))
	}
	sort.Strings(names)
	return names
}

func damaged(layer string, err error) error {
	if errors.Is(err, ErrTooLarge) || errors.Is(err, ErrDamaged) || errors.Is(err, ErrUnknown) {
		return err
	}
	if errors.Is(err, zstd.ErrWindowSizeExceeded) || errors.Is(err, zstd.ErrDecoderSizeExceeded) {
		return fmt.Errorf("%w: %v", ErrTooLarge, err)
	}
	if layer != "" {
		return fmt.Errorf("%w: not %s: %v", ErrDamaged, layer, err)
	}
	return fmt.Errorf("%w: %v", ErrDamaged, err)
}

func (l Layer) peel(r io.Reader, limits Limits) (io.Reader, func(), error) {
	switch l.Name {
	case "auto":
		b := bufio.NewReader(r)
		head, _ := b.Peek(trial)
		if name := Compression(head); name != "" {
			return Layer{Name: name}.peel(b, limits)
		}
		return b, nil, nil
	case "skip":
		n, _ := strconv.ParseInt(l.Arg, 10, 64)
		if got, err := io.CopyN(io.Discard, r, n); err != nil {
			return nil, nil, fmt.Errorf("%w: ends after %d of %d bytes to skip", ErrDamaged, got, n)
		}
		return r, nil, nil
	case "gzip":
		z, err := newGzip(r)
		return z, nil, err
	case "zlib":
		z, err := zlib.NewReader(r)
		return z, nil, err
	case "bzip2":
		return bzip2.NewReader(r), nil, nil
	case "xz":
		z, err := newXZ(r, limits.dictionary())
		return z, nil, err
	case "zstd":
		if limits.Dictionary > 0 {
			z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(uint64(limits.Dictionary)))
			return z, z.Close, err
		}
		z, err := zstdReaders.get(r)
		if err != nil {
			return nil, nil, err
		}
		return z, func() { zstdReaders.Put(z) }, nil
	case "deflate":
		return flate.NewReader(r), nil, nil
	case "lz4":
		return lz4Reader(r), nil, nil
	case "base64":
		return base64.NewDecoder(base64.StdEncoding, &textOnly{r}), nil, nil
	case "lines":
		n, _ := strconv.Atoi(l.Arg)
		b := bufio.NewReader(r)
		for i := range n {
			if _, err := b.ReadSlice('\n'); err != nil {
				return nil, nil, fmt.Errorf("%w: ends after %d of %d lines to skip", ErrDamaged, i, n)
			}
		}
		return b, nil, nil
	case "xor":
		key, _ := hex.DecodeString(l.Arg)
		return &xored{r: r, key: key}, nil, nil
	case "zip":
		return l.zipEntry(r, limits)
	case "framed":
		f, err := parseFrames(l.Arg)
		if err != nil {
			return nil, nil, err
		}
		f.r, f.limits = bufio.NewReader(r), limits
		return f, nil, nil
	}
	whole, err := readAtMost(r, min(limits.Decoded, maxHeld))
	if err != nil {
		return nil, nil, err
	}
	switch l.Name {
	case "lzo":
		whole, err = lzo1x(whole, limits.Decoded)
	case "length":
		t, _ := lengthType(l.Arg)
		_, whole, _, err = t.cut(whole)
	case "checksum":
		c, _ := parseChecksum(l.Arg)
		err = c.check(whole)
	}
	return bytes.NewReader(whole), nil, err
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

// textOnly leaves out white space, which base64 in files is broken into lines with.
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
	if Compression(head) == "lz4" {
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
		packed, err := readAtMost(l.r, maxLZ4Block)
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

func (l Layer) zipEntry(r io.Reader, limits Limits) (io.Reader, func(), error) {
	data, err := readAtMost(r, min(limits.Decoded, maxHeld))
	if err != nil {
		return nil, nil, err
	}
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, nil, err
	}
	for _, f := range z.File {
		if f.Name == l.Arg || doublestar.MatchUnvalidated(l.Arg, f.Name) {
			entry, err := f.Open()
			return entry, nil, err
		}
	}
	return nil, nil, fmt.Errorf("%w: has no entry %q inside", ErrDamaged, l.Arg)
}
