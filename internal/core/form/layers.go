package form

import (
	"archive/zip"
	"bufio"
	"bytes"
	"compress/bzip2"
	"errors"
	"fmt"
	"io"
	"sort"
	"strconv"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
)

// Layer is one wrapping around the content of a file.
type Layer struct {
	Name string // auto, gzip, zlib, zstd, xz, bzip2, zip or skip
	Arg  string // the entry of zip, the number of bytes of skip
}

// Layers are the wrappings of a file, outermost first; or, with a tag, several such lists of which the file's first bytes choose one.
type Layers struct {
	Chain []Layer
	Tag   *Tag
}

// Tag chooses layers by some bytes at the start of the file, read as ASCII.
type Tag struct {
	From, To int // byte offsets
	Chains   map[string][]Layer
}

// maxTag bounds how far into a file a tag may reach, in bytes.
const maxTag = 4096

// ParseLayer reads one layer as a description spells it: "gzip", "skip:8", "zip:world.json".
func ParseLayer(s string) (Layer, error) {
	name, arg, has := strings.Cut(s, ":")
	switch name {
	case "auto", "gzip", "zlib", "zstd", "xz", "bzip2":
		if has {
			return Layer{}, fmt.Errorf("layer %q takes nothing after a colon", name)
		}
	case "skip":
		if n, err := strconv.Atoi(arg); err != nil || n < 0 {
			return Layer{}, fmt.Errorf("layer %q: skip takes a number of bytes", s)
		}
	case "zip":
		if arg == "" {
			return Layer{}, fmt.Errorf("layer %q: zip takes the name of an entry", s)
		}
	case "deflate", "lz4", "lzo", "base64", "lines", "length", "xor", "checksum":
		return Layer{}, fmt.Errorf("layer %q is not understood by this Ostrov yet", name)
	default:
		return Layer{}, fmt.Errorf("no layer %q", s)
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
	chain := l.Chain
	if l.Tag != nil {
		b := bufio.NewReaderSize(r, maxTag)
		head, err := b.Peek(l.Tag.To)
		if err != nil {
			return nil, fmt.Errorf("%w: ends before byte %d", ErrDamaged, l.Tag.To)
		}
		tag := string(head[l.Tag.From:])
		var ok bool
		if chain, ok = l.Tag.Chains[tag]; !ok {
			return nil, fmt.Errorf("%w: begins with %q instead of %s", ErrDamaged, tag, strings.Join(l.Tag.names(), " or "))
		}
		r = b
	}
	for _, layer := range chain {
		next, closer, err := layer.peel(r, limits)
		if err != nil {
			return nil, damaged(layer.Name, err)
		}
		if closer != nil {
			defer closer()
		}
		r = next
	}
	data, err := readAtMost(r, limits.Decoded)
	if err != nil {
		return nil, damaged("", err)
	}
	return data, nil
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
	if errors.Is(err, ErrTooLarge) || errors.Is(err, ErrDamaged) {
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
		head, _ := b.Peek(6)
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
		z, err := gzip.NewReader(r)
		return z, nil, err
	case "zlib":
		z, err := zlib.NewReader(r)
		return z, nil, err
	case "bzip2":
		return bzip2.NewReader(r), nil, nil
	case "xz":
		z, err := xz.ReaderConfig{DictCap: 64 << 20}.NewReader(r)
		return z, nil, err
	case "zstd":
		z, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(64<<20), zstd.WithDecoderMaxMemory(uint64(limits.Decoded)+1))
		if err != nil {
			return nil, nil, err
		}
		return z, z.Close, nil
	case "zip":
		return l.zipEntry(r, limits)
	default:
		return nil, nil, fmt.Errorf("no layer %q", l.Name)
	}
}

func (l Layer) zipEntry(r io.Reader, limits Limits) (io.Reader, func(), error) {
	data, err := readAtMost(r, limits.Decoded)
	if err != nil {
		return nil, nil, err
	}
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, nil, err
	}
	for _, f := range z.File {
		if f.Name == l.Arg {
			entry, err := f.Open()
			return entry, nil, err
		}
	}
	return nil, nil, fmt.Errorf("%w: has no entry %q inside", ErrDamaged, l.Arg)
}

// Compression names the compression that the first bytes of a file show, or is "" where they show none.
// zlib is recognised by its two header bytes (RFC 1950), which a plain file begins with only by rare chance.
func Compression(head []byte) string {
	switch {
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}):
		return "gzip"
	case bytes.HasPrefix(head, []byte{0x28, 0xb5, 0x2f, 0xfd}):
		return "zstd"
	case bytes.HasPrefix(head, []byte{0xfd, '7', 'z', 'X', 'Z', 0}):
		return "xz"
	case len(head) >= 4 && string(head[:3]) == "BZh" && head[3] >= '1' && head[3] <= '9':
		return "bzip2"
	case len(head) >= 2 && head[0] == 0x78 && (uint(head[0])<<8|uint(head[1]))%31 == 0:
		return "zlib"
	}
	return ""
}

// Wrap is the reverse of Peel: it puts content back into the layers of a file. Layers that hold more than content (skip, zip) and those
// that only decompress here cannot be put back.
func (l Layers) Wrap(content, original []byte) ([]byte, error) {
	if l.Tag != nil {
		return nil, errors.New("layers chosen by a tag cannot be written yet")
	}
	data := content
	for i := len(l.Chain) - 1; i >= 0; i-- {
		name := l.Chain[i].Name
		if name == "auto" {
			if i > 0 {
				return nil, errors.New("an inner layer \"auto\" cannot be written")
			}
			if name = Compression(original); name == "" {
				continue
			}
		}
		var b bytes.Buffer
		var w io.WriteCloser
		switch name {
		case "gzip":
			w = gzip.NewWriter(&b)
		case "zlib":
			w = zlib.NewWriter(&b)
		case "zstd":
			w, _ = zstd.NewWriter(&b)
		default:
			return nil, fmt.Errorf("a layer %q cannot be written yet", name)
		}
		if _, err := w.Write(data); err != nil {
			return nil, err
		}
		if err := w.Close(); err != nil {
			return nil, err
		}
		data = b.Bytes()
	}
	return data, nil
}
