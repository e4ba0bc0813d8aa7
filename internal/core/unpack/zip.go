package unpack

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"strings"
	"sync"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz/lzma"

	"ostrov/internal/core/tree"
)

// Methods of packing in zips beyond those of every reader (APPNOTE 4.4.5).
const (
	zipBzip2    = 12
	zipLZMA     = 14
	zipOldZstd  = 20
	zipZstd     = zstd.ZipMethodWinZip
	maxZipTail  = 22 + 1<<16 // the end record with the longest comment
	unixLink    = 0xa        // the kind of file that a symbolic link is, in the highest bits of the attributes
	maxLZMADict = 64 << 20   // bytes of memory that a packed file may ask for
)

func (d *Download) openZip(ctx context.Context, f *os.File) error {
	info, err := f.Stat()
	if err != nil {
		return err
	}
	z, err := zip.NewReader(f, info.Size())
	if err != nil {
		return d.unread(d.Name, "the zip cannot be read: ", err)
	}
	z.RegisterDecompressor(zip.Deflate, inflate)
	z.RegisterDecompressor(zipBzip2, func(r io.Reader) io.ReadCloser { return io.NopCloser(bzip2.NewReader(r)) })
	unzstd := zstd.ZipDecompressor(zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxLZMADict), zstd.WithDecoderMaxMemory(MaxBytes))
	z.RegisterDecompressor(zipZstd, unzstd)
	z.RegisterDecompressor(zipOldZstd, unzstd)
	decode, backslashes := codePage(z.File), byBackslash(z.File)
	for _, file := range z.File {
		name, why := decode(file)
		if usual := strings.ReplaceAll(name, `\`, "/"); backslashes && CheckName(strings.TrimSuffix(usual, "/")) == "" {
			name = usual
		}
		e := tree.Entry{Path: strings.TrimSuffix(name, "/"), Kind: tree.File, Size: int64(file.UncompressedSize64), Mode: 0o644, ModTime: file.Modified}
		switch mode := file.Mode(); {
		case strings.HasSuffix(name, "/"):
			e.Kind, e.Size = tree.Dir, 0
		case mode&fs.ModeSymlink != 0, file.ExternalAttrs>>28 == unixLink: // some readers take it so wherever it was packed
			e.Kind, e.Target = tree.Link, "somewhere else"
		case !mode.IsRegular():
			e.Kind = tree.Special
		}
		if why != "" {
			d.hazard(e.Path, why)
			continue
		}
		if file.Flags&1 != 0 {
			d.Encrypted = append(d.Encrypted, e.Path)
			continue
		}
		d.add(e, func() (io.ReadCloser, error) { return openZipped(file) })
		if file.Method == zipLZMA || file.Method == zipZstd || file.Method == zipOldZstd {
			d.large[e.Path] = true
		}
		if d.full {
			break
		}
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	if d.full {
		return nil
	}
	return d.checkZip(f, info.Size())
}

// inflater reads what is deflated. It is used again with all that it has made: a download may have a hundred thousand files.
type inflater struct {
	io.ReadCloser
	from *bufio.Reader
}

var inflaters = sync.Pool{New: func() any {
	from := bufio.NewReader(nil)
	return &inflater{flate.NewReader(from), from}
}}

func inflate(r io.Reader) io.ReadCloser {
	i := inflaters.Get().(*inflater)
	i.from.Reset(r)
	_ = i.ReadCloser.(flate.Resetter).Reset(i.from, nil) // of no dictionary there is no error
	return &inflating{i}
}

// inflating is one use of an inflater.
type inflating struct{ *inflater }

func (i *inflating) Read(p []byte) (int, error) {
	if i.inflater == nil {
		return 0, fs.ErrClosed
	}
	return i.inflater.Read(p)
}

func (i *inflating) Close() error {
	if i.inflater == nil {
		return nil
	}
	err := i.inflater.Close()
	i.from.Reset(nil)
	inflaters.Put(i.inflater)
	i.inflater = nil
	return err
}

// byBackslash reports whether a zip has no other separator in its names than \, as some packers on Windows write them.
func byBackslash(files []*zip.File) bool {
	found := false
	for _, f := range files {
		if strings.Contains(f.Name, "/") {
			return false
		}
		found = found || strings.Contains(f.Name, `\`)
	}
	return found
}

// openZipped opens one file of a zip. What is packed with LZMA does not say its length inside, so the directory's is given to it.
func openZipped(f *zip.File) (io.ReadCloser, error) {
	if f.Method != zipLZMA {
		return f.Open()
	}
	raw, err := f.OpenRaw()
	if err != nil {
		return nil, err
	}
	var head [9]byte // version, length of the properties, the properties (APPNOTE 5.8.8)
	if _, err := io.ReadFull(raw, head[:]); err != nil {
		return nil, err
	}
	if binary.LittleEndian.Uint16(head[2:]) != 5 {
		return nil, errors.New("has LZMA properties of an unknown kind")
	}
	r, err := newLZMA(head[4:], int64(f.UncompressedSize64), raw)
	if err != nil {
		return nil, err
	}
	return io.NopCloser(&checked{r: io.LimitReader(r, int64(f.UncompressedSize64)), want: f.CRC32, sum: crc32.NewIEEE()}), nil
}

// newLZMA reads a bare LZMA stream with its five bytes of properties; what asks for more memory than maxLZMADict is refused.
func newLZMA(properties []byte, size int64, r io.Reader) (io.Reader, error) {
	if len(properties) < 5 || binary.LittleEndian.Uint32(properties[1:]) > maxLZMADict {
		return nil, errMemory
	}
	head := binary.LittleEndian.AppendUint64(bytes.Clone(properties[:5]), uint64(size))
	return lzma.NewReader(io.MultiReader(bytes.NewReader(head), r))
}

var errMemory = fmt.Errorf("needs more than %d MiB of memory to unpack", maxLZMADict>>20)

// checked is a stream whose CRC-32 is held against the one that the directory says.
type checked struct {
	r    io.Reader
	want uint32
	sum  hash.Hash32
}

func (c *checked) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.sum.Write(p[:n])
	if err == io.EOF && c.sum.Sum32() != c.want {
		return n, zip.ErrChecksum
	}
	return n, err
}
