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
	"regexp"
	"slices"
	"strings"

	"github.com/nwaples/rardecode/v2"

	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
)

// spool writes what can only be read in order into the scratch folder, under a number, and returns how to open it.
func (d *Download) spool(ctx context.Context, e tree.Entry, r io.Reader) (opener, error) {
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
	n, err := io.Copy(f, contextReader{ctx, io.LimitReader(r, e.Size+1)})
	if err == nil && n != e.Size {
		err = fmt.Errorf("is not the %d bytes that the download says", e.Size)
	}
	name := f.Name()
	return func() (io.ReadCloser, error) { return os.Open(name) }, errors.Join(err, f.Close())
}

// addSpooled accepts an entry whose content r has and spools it.
func (d *Download) addSpooled(ctx context.Context, e tree.Entry, r io.Reader) error {
	if !d.accept(e) || e.Kind != tree.File {
		return nil
	}
	open, err := d.spool(ctx, e, r)
	if open != nil {
		d.files[e.Path] = open
	}
	return err
}

// openTar spools the files of a tar, which may be compressed.
func (d *Download) openTar(ctx context.Context, f *os.File) error {
	var r io.Reader = bufio.NewReaderSize(f, 1<<20)
	if d.Kind != "tar" {
		inner, err := wrap.Layers{Chain: []wrap.Layer{{Name: "auto"}}}.Reader(r, wrap.Limits{Decoded: MaxBytes})
		if err != nil {
			return err
		}
		defer inner.Close()
		r = inner
	}
	content := &zeroTail{r: contextReader{ctx, r}}
	t := tar.NewReader(content)
	for ctx.Err() == nil && !d.full && len(d.Hazards) < maxHazards {
		h, err := t.Next()
		if err == io.EOF {
			return d.checkTarEnd(content)
		}
		if err != nil {
			return d.unread(d.Name, "the tar cannot be read on: ", err)
		}
		e := tree.Entry{Path: strings.TrimSuffix(strings.TrimPrefix(h.Name, "./"), "/"), Size: h.Size, Mode: h.FileInfo().Mode().Perm(), ModTime: h.ModTime, Target: h.Linkname}
		if why := readTwoWays(h); why != "" {
			d.hazard(e.Path, why)
		}
		switch h.Typeflag {
		case tar.TypeReg, tar.TypeGNUSparse: // which is read with its holes
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
		if err := d.addSpooled(ctx, e, t); err != nil {
			return d.unread(e.Path, "", err)
		}
	}
	return ctx.Err()
}

// readTwoWays says what in a header of a tar other readers take otherwise, or is "". A global header (POSIX.1-2017, pax) speaks for all entries behind
// it, which some readers follow and some do not; so it may say of them what does no harm only. The content of a folder is passed over by some, and
// read as the next header by others. Where names are given in several ways, there is no saying which one counts.
func readTwoWays(h *tar.Header) string {
	switch {
	case h.Typeflag == tar.TypeXGlobalHeader:
		for key := range h.PAXRecords {
			if key == "path" || key == "linkpath" || key == "size" || key == "hdrcharset" || strings.HasPrefix(key, "GNU.sparse.") || strings.HasPrefix(key, "SCHILY.realsize") {
				return "gives all files another " + key + ", which only some readers follow"
			}
		}
	case h.Typeflag == tar.TypeDir && h.Size != 0:
		return "is a folder that is said to have content, which only some readers pass over"
	case differs(h.PAXRecords, "path", h.Name) && sparseFolder.ReplaceAllString(h.PAXRecords["path"], "") != h.PAXRecords["GNU.sparse.name"],
		differs(h.PAXRecords, "linkpath", h.Linkname):
		return "has two names, of which each reader takes another"
	}
	return ""
}

// sparseFolder is a folder of which GNU tar says that a file with holes lies in it, for readers that do not know these (GNU tar, "PAX Format, Version 1.0").
var sparseFolder = regexp.MustCompile(`\bGNUSparseFile\.\d+/`)

func differs(records map[string]string, key, value string) bool {
	record, ok := records[key]
	return ok && strings.TrimSuffix(record, "/") != strings.TrimSuffix(value, "/")
}

// endOfTar is how many bytes of zeros, at least, end a tar (POSIX.1-2017, pax, "ustar Interchange Format").
const endOfTar = 1024

// checkTarEnd reads on behind the end of a tar, where the checksum of what it is packed with comes, and where other readers may find another tar.
func (d *Download) checkTarEnd(content *zeroTail) error {
	ended := content.zeros >= endOfTar
	more := false
	buf := make([]byte, 64<<10)
	for {
		n, err := content.Read(buf)
		more = more || slices.ContainsFunc(buf[:n], func(c byte) bool { return c != 0 })
		if err == io.EOF {
			break
		}
		if err != nil {
			return d.unread(d.Name, "the tar cannot be read to its end: ", err)
		}
	}
	if more {
		d.hazard(d.Name, "has something behind its end, which other readers may unpack too")
	} else if !ended {
		d.damage(d.Name, "the tar ends without the mark of its end: it may be cut")
	}
	return nil
}

// zeroTail counts the zeros that what has been read ends with.
type zeroTail struct {
	r     io.Reader
	zeros int
}

func (z *zeroTail) Read(p []byte) (int, error) {
	n, err := z.r.Read(p)
	last := n
	for last > 0 && p[last-1] == 0 {
		last--
	}
	if last > 0 {
		z.zeros = 0
	}
	z.zeros += n - last
	return n, err
}

// recovered is deferred round a library that has panicked on archives that contradict themselves: these are damaged.
func (d *Download) recovered(kind string, err *error) {
	if recover() != nil {
		d.damage(d.Name, "the "+kind+" cannot be read: it contradicts itself")
		*err = nil
	}
}

// openRar spools the files of a rar, which may be solid.
func (d *Download) openRar(ctx context.Context, f *os.File) (err error) {
	defer d.recovered("rar", &err)
	r, err := rardecode.NewReader(contextReader{ctx, f}, rardecode.MaxDictionarySize(maxLZMADict))
	if errors.Is(err, rardecode.ErrArchiveEncrypted) {
		d.Encrypted = append(d.Encrypted, d.Name)
		return nil
	}
	if err != nil {
		return d.unread(d.Name, "the rar cannot be read: ", err)
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
			return d.unread(d.Name, "the rar cannot be read on: ", err)
		}
		e := tree.Entry{Path: strings.TrimSuffix(strings.ReplaceAll(h.Name, `\`, "/"), "/"), Kind: tree.File, Size: h.UnPackedSize, Mode: 0o644, ModTime: h.ModificationTime}
		switch mode := h.Mode(); {
		case h.LinkType != 0: // a symbolic or hard link, a junction, or a copy of what another path holds then
			e.Kind, e.Size, e.Target = tree.Link, 0, h.LinkTarget
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
		if err := d.addSpooled(ctx, e, r); err != nil {
			if err := d.unread(e.Path, "", err); err != nil {
				return err
			}
		}
	}
	return ctx.Err()
}

// openInside opens the archive that the entry e is, spooled already, and adds what is in it below e's path.
func (d *Download) openInside(ctx context.Context, e tree.Entry, spooled string) error {
	in := &Download{Path: spooled, Name: filepath.Base(e.Path), Packed: e.Size, temp: d.temp, depth: d.depth + 1, Programs: d.Programs}
	in.start()
	in.Size, in.whole = d.Size, d.whole // the bounds are those of the whole
	err := in.openArchive(ctx)
	d.closers = append(d.closers, in.Close)
	if err == nil {
		err = in.Inspect(ctx, func(int64) {})
	}
	if err != nil {
		return err
	}
	d.Size = in.Size
	within := func(path string) string { return e.Path + "/" + path }
	d.Inside = append(d.Inside, e.Path)
	for _, path := range in.Inside {
		d.Inside = append(d.Inside, within(path))
	}
	for _, path := range in.Closed {
		d.Closed = append(d.Closed, within(path))
	}
	for _, h := range in.Hazards {
		d.hazard(within(h.Path), h.Why)
	}
	for _, p := range in.programs {
		p.entry.Path = within(p.entry.Path)
		d.programs = append(d.programs, p)
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
