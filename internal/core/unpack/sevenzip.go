package unpack

import (
	"context"
	"errors"
	"hash/crc32"
	"io"
	"os"
	"strings"
	"sync"

	"github.com/bodgit/sevenzip"
	"github.com/ulikunitz/xz/lzma"

	"ostrov/internal/core/tree"
)

// bound7z makes the 7z reader refuse what asks for more memory than is given to any download: it would allocate what the file says.
var bound7z = sync.OnceFunc(func() {
	single := func(readers []io.ReadCloser) (io.ReadCloser, error) {
		if len(readers) != 1 {
			return nil, errors.New("is packed in a way that is not understood yet")
		}
		return readers[0], nil
	}
	sevenzip.RegisterDecompressor([]byte{3, 1, 1}, func(p []byte, size uint64, readers []io.ReadCloser) (io.ReadCloser, error) {
		in, err := single(readers)
		if err != nil {
			return nil, err
		}
		r, err := newLZMA(p, int64(size), in)
		return closing{r, in}, err
	})
	sevenzip.RegisterDecompressor([]byte{0x21}, func(p []byte, _ uint64, readers []io.ReadCloser) (io.ReadCloser, error) {
		in, err := single(readers)
		if err != nil {
			return nil, err
		}
		r, err := newLZMA2(p, in)
		return closing{r, in}, err
	})
	sevenzip.RegisterDecompressor([]byte{3, 4, 1}, func([]byte, uint64, []io.ReadCloser) (io.ReadCloser, error) {
		return nil, errors.New("is packed with PPMd, which is not understood yet")
	})
})

// newLZMA2 reads an LZMA2 stream. The size of its dictionary is coded in one byte: 2 or 3 times a power of two, from 4 KiB on (7-Zip,
// DOC/7zFormat.txt; xz file format 5.3.1).
func newLZMA2(properties []byte, r io.Reader) (io.Reader, error) {
	if len(properties) != 1 || properties[0] > 40 {
		return nil, errMemory
	}
	dictionary := (2 | uint64(properties[0])&1) << (properties[0]/2 + 11)
	if dictionary > maxLZMADict {
		return nil, errMemory
	}
	return lzma.Reader2Config{DictCap: int(max(dictionary, lzma.MinDictCap))}.NewReader2(r)
}

type closing struct {
	io.Reader
	c io.Closer
}

func (c closing) Close() error { return c.c.Close() }

// open7z spools the files of a 7z in its own order, in which packed blocks are read once.
func (d *Download) open7z(ctx context.Context, f *os.File) (err error) {
	bound7z()
	defer d.recovered("7z", &err)
	if err := check7z(f, d.Packed); errors.Is(err, errSealed) {
		d.Encrypted = append(d.Encrypted, d.Name)
		return nil
	} else if errors.Is(err, errCrowded) {
		d.hazard(d.Name, err.Error())
		return nil
	} else if err != nil {
		return d.unread(d.Name, "the 7z cannot be read: ", err)
	}
	z, err := sevenzip.NewReader(f, d.Packed)
	if needsPassword(err) {
		d.Encrypted = append(d.Encrypted, d.Name)
		return nil
	}
	if err != nil {
		return d.unread(d.Name, "the 7z cannot be read: ", err)
	}
	for _, file := range z.File {
		if d.full || len(d.Hazards) >= maxHazards || ctx.Err() != nil {
			return ctx.Err()
		}
		e := tree.Entry{Path: strings.TrimSuffix(strings.ReplaceAll(file.Name, `\`, "/"), "/"), Kind: tree.File, Size: int64(file.UncompressedSize), Mode: 0o644, ModTime: file.Modified}
		switch info := file.FileInfo(); {
		case info.IsDir():
			e.Kind, e.Size = tree.Dir, 0
		case info.Mode()&os.ModeSymlink != 0:
			e.Kind, e.Size, e.Target = tree.Link, 0, "somewhere else"
		case !info.Mode().IsRegular():
			e.Kind, e.Size = tree.Special, 0
		}
		if err := d.add7z(ctx, file, e); needsPassword(err) {
			d.Encrypted = append(d.Encrypted, e.Path)
		} else if err != nil {
			if err := d.unread(e.Path, "", err); err != nil {
				return err
			}
		}
	}
	return nil
}

func (d *Download) add7z(ctx context.Context, file *sevenzip.File, e tree.Entry) error {
	if e.Kind != tree.File {
		d.accept(e)
		return nil
	}
	r, err := file.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	if file.CRC32 == 0 { // it has none
		return d.addSpooled(ctx, e, r)
	}
	// The library itself compares the checksums of directories only.
	return d.addSpooled(ctx, e, &checked{r: r, want: file.CRC32, sum: crc32.NewIEEE()})
}

func needsPassword(err error) bool {
	var read *sevenzip.ReadError
	return errors.As(err, &read) && read.Encrypted
}
