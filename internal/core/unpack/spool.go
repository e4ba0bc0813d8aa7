package unpack

import (
	"archive/tar"
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"github.com/bodgit/sevenzip"
	"github.com/nwaples/rardecode/v2"
	"github.com/ulikunitz/xz/lzma"

	"ostrov/internal/core/form"
	"ostrov/internal/core/tree"
)

// spool writes what can only be read in order into the scratch folder, under a number, and returns how to open it.
func (d *Download) spool(e tree.Entry, r io.Reader) (opener, error) {
	if d.scratch == "" {
		dir, err := os.MkdirTemp(d.temp, "unpack-")
		if err != nil {
			return nil, err
		}
		d.scratch = dir
		d.closers = append(d.closers, func() error { return os.RemoveAll(dir) })
	}
	f, err := os.CreateTemp(d.scratch, "file-")
	if err != nil {
		return nil, err
	}
	n, err := io.Copy(f, io.LimitReader(r, e.Size+1))
	if err == nil && n != e.Size {
		err = fmt.Errorf("is not the %d bytes that the download says", e.Size)
	}
	name := f.Name()
	return func() (io.ReadCloser, error) { return os.Open(name) }, errors.Join(err, f.Close())
}

// addSpooled accepts an entry whose content r has and spools it.
func (d *Download) addSpooled(e tree.Entry, r io.Reader) error {
	if !d.accept(e) || e.Kind != tree.File {
		return nil
	}
	open, err := d.spool(e, r)
	if open != nil {
		d.files[e.Path] = open
	}
	return err
}

// openTar spools the files of a tar, which may be compressed.
func (d *Download) openTar(ctx context.Context, f *os.File) error {
	var r io.Reader = bufio.NewReaderSize(f, 1<<20)
	if d.Kind != "tar" {
		inner, err := form.Layers{Chain: []form.Layer{{Name: "auto"}}}.Reader(r, form.Limits{Decoded: MaxBytes})
		if err != nil {
			return err
		}
		defer inner.Close()
		r = inner
	}
	t := tar.NewReader(r)
	for ctx.Err() == nil && !d.full && len(d.Hazards) < maxHazards {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			d.damage(d.Name, "the tar cannot be read on: "+plain(err).Error())
			return nil
		}
		e := tree.Entry{Path: strings.TrimSuffix(strings.TrimPrefix(h.Name, "./"), "/"), Size: h.Size, Mode: h.FileInfo().Mode().Perm(), ModTime: h.ModTime, Target: h.Linkname}
		switch h.Typeflag {
		case tar.TypeReg:
			e.Kind = tree.File
		case tar.TypeDir:
			e.Kind, e.Size = tree.Dir, 0
		case tar.TypeXGlobalHeader:
			continue
		case tar.TypeLink, tar.TypeSymlink:
			e.Kind, e.Size = tree.Link, 0
		default:
			e.Kind, e.Size = tree.Special, 0
		}
		if e.Path == "." || e.Path == "" && e.Kind == tree.Dir {
			continue
		}
		if err := d.addSpooled(e, t); err != nil {
			d.damage(e.Path, plain(err).Error())
			return nil
		}
	}
	return ctx.Err()
}

// openRar spools the files of a rar, which may be solid.
func (d *Download) openRar(ctx context.Context, f *os.File) error {
	r, err := rardecode.NewReader(f, rardecode.MaxDictionarySize(maxLZMADict))
	if errors.Is(err, rardecode.ErrArchiveEncrypted) {
		d.Encrypted = append(d.Encrypted, d.Name)
		return nil
	}
	if err != nil {
		d.damage(d.Name, "the rar cannot be read: "+plain(err).Error())
		return nil
	}
	for ctx.Err() == nil && !d.full && len(d.Hazards) < maxHazards {
		h, err := r.Next()
		if err == io.EOF {
			return nil
		}
		if errors.Is(err, rardecode.ErrArchiveEncrypted) || errors.Is(err, rardecode.ErrArchivedFileEncrypted) {
			d.Encrypted = append(d.Encrypted, d.Name)
			return nil
		}
		if err != nil {
			d.damage(d.Name, "the rar cannot be read on: "+plain(err).Error())
			return nil
		}
		e := tree.Entry{Path: strings.TrimSuffix(strings.ReplaceAll(h.Name, `\`, "/"), "/"), Kind: tree.File, Size: h.UnPackedSize, Mode: 0o644, ModTime: h.ModificationTime}
		switch mode := h.Mode(); {
		case h.IsDir:
			e.Kind, e.Size = tree.Dir, 0
		case mode&os.ModeSymlink != 0:
			e.Kind, e.Size, e.Target = tree.Link, 0, "somewhere else"
		case !mode.IsRegular():
			e.Kind, e.Size = tree.Special, 0
		}
		if h.Encrypted {
			d.Encrypted = append(d.Encrypted, e.Path)
			continue
		}
		if h.UnKnownSize {
			d.damage(e.Path, "does not say how large it is")
			continue
		}
		if err := d.addSpooled(e, r); err != nil {
			d.damage(e.Path, plain(err).Error())
		}
	}
	return ctx.Err()
}

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
		// The size of the dictionary is coded in one byte: 2 or 3 times a power of two, from 4 KiB on (7-Zip, DOC/7zFormat.txt; xz file format 5.3.1).
		if len(p) != 1 || p[0] > 40 {
			return nil, errMemory
		}
		dictionary := (2 | uint64(p[0])&1) << (p[0]/2 + 11)
		if dictionary > maxLZMADict {
			return nil, errMemory
		}
		r, err := lzma.Reader2Config{DictCap: int(max(dictionary, lzma.MinDictCap))}.NewReader2(in)
		return closing{r, in}, err
	})
	sevenzip.RegisterDecompressor([]byte{3, 4, 1}, func([]byte, uint64, []io.ReadCloser) (io.ReadCloser, error) {
		return nil, errors.New("is packed with PPMd, which is not understood yet")
	})
})

type closing struct {
	io.Reader
	c io.Closer
}

func (c closing) Close() error { return c.c.Close() }

// open7z spools the files of a 7z in its own order, in which packed blocks are read once.
func (d *Download) open7z(f *os.File) (err error) {
	bound7z()
	defer func() { // the reader has panicked on directories that contradict themselves
		if p := recover(); p != nil {
			d.damage(d.Name, "the 7z cannot be read")
			err = nil
		}
	}()
	z, err := sevenzip.NewReader(f, d.Packed)
	if needsPassword(err) {
		d.Encrypted = append(d.Encrypted, d.Name)
		return nil
	}
	if err != nil {
		d.damage(d.Name, "the 7z cannot be read: "+plain(err).Error())
		return nil
	}
	for _, file := range z.File {
		if d.full || len(d.Hazards) >= maxHazards {
			return nil
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
		if err := d.add7z(file, e); needsPassword(err) {
			d.Encrypted = append(d.Encrypted, e.Path)
		} else if err != nil {
			d.damage(e.Path, plain(err).Error())
		}
	}
	return nil
}

func (d *Download) add7z(file *sevenzip.File, e tree.Entry) error {
	if e.Kind != tree.File {
		d.accept(e)
		return nil
	}
	r, err := file.Open()
	if err != nil {
		return err
	}
	defer r.Close()
	return d.addSpooled(e, r)
}

func needsPassword(err error) bool {
	var read *sevenzip.ReadError
	return errors.As(err, &read) && read.Encrypted
}

// openInside opens the archive that the entry e is, spooled already, and adds what is in it below e's path.
func (d *Download) openInside(ctx context.Context, e tree.Entry, spooled string) error {
	in := &Download{Path: spooled, Name: filepath.Base(e.Path), Packed: e.Size, temp: d.temp, nested: true}
	in.start()
	in.Size = d.Size // the bounds are those of the whole
	err := in.openArchive(ctx)
	d.closers = append(d.closers, in.Close)
	if err == nil {
		err = in.Inspect(ctx)
	}
	if err != nil {
		return err
	}
	d.Inside = append(d.Inside, e.Path)
	d.Size = in.Size
	within := func(path string) string { return e.Path + "/" + path }
	for _, h := range in.Hazards {
		d.hazard(within(h.Path), h.Why)
	}
	for _, c := range in.Code {
		d.Code = append(d.Code, Code{within(c.Path), c.Format, c.Why})
	}
	for _, x := range in.Damaged {
		d.damage(within(x.Path), x.Why)
	}
	for _, x := range in.Encrypted {
		d.Encrypted = append(d.Encrypted, within(x))
	}
	for _, x := range in.Entries {
		at := x.Path
		x.Path = within(at)
		if len(d.Entries) >= MaxEntries {
			d.hazard(x.Path, fmt.Sprintf("is one of more than %d files", MaxEntries))
			break
		}
		d.Entries = append(d.Entries, x)
		if open, ok := in.files[at]; ok {
			d.files[x.Path], d.Digests[x.Path] = open, in.Digests[at]
		}
	}
	return nil
}
