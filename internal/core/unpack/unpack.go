// Package unpack opens downloads, which come from strangers: it lists what is in a folder, file, zip, tar or tar.gz, judges it, and gives
// what is harmless to read as an fs.FS.
//
// It promises to bound entries, bytes, depth and ratio (names.go), to follow no link, and to write nowhere but into the scratch folder it
// is given, there only through os.Root and only regular files. Kinds are told by content, never by ending. What it refuses is in Hazards;
// what it refuses cannot be read through FS.
package unpack

import (
	"archive/tar"
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zip"
	"github.com/zeebo/blake3"

	"ostrov/internal/core/tree"
)

// Hazard is one dangerous thing in a download.
type Hazard struct {
	Path string // as it stands in the download, unchanged: show it only with control characters made visible
	Why  string // half a sentence: "leads out of the download"
}

// Damage is one entry that cannot be read whole.
type Damage struct{ Path, Why string }

// Download is an open download.
type Download struct {
	Path string // where it lies
	// Name is its file name without the endings of archives.
	Name    string
	Kind    string // folder, file, zip, tar or tar.gz
	Packed  int64  // bytes it takes
	Size    int64  // bytes it unpacks to
	Entries []tree.Entry
	FS      fs.FS
	Hazards []Hazard
	Damaged []Damage
	// Encrypted are entries that need a password.
	Encrypted []string
	// Digests are those of the entries' contents, set by Inspect.
	Digests map[string]tree.Digest

	clashes *clashes
	close   func() error
}

// Close frees what the download holds, its scratch files too.
func (d *Download) Close() error {
	if d.close == nil {
		return nil
	}
	return d.close()
}

// Open opens the download at path. scratch is an existing folder for what has to be spooled; it is cleaned on Close.
// An error says that the download cannot be looked at, not that it is bad.
func Open(ctx context.Context, file, scratch string) (*Download, error) {
	info, err := os.Lstat(file)
	if err != nil {
		return nil, err
	}
	if info.Mode()&fs.ModeSymlink != 0 {
		if info, err = os.Stat(file); err != nil {
			return nil, err
		}
	}
	d := &Download{Path: file, Name: filepath.Base(file), Packed: info.Size(), Digests: map[string]tree.Digest{}, clashes: newClashes()}
	switch {
	case info.IsDir():
		d.Kind = "folder"
		return d, d.openFolder(ctx)
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("%s is neither a file nor a folder", file)
	}
	f, err := os.Open(file)
	if err != nil {
		return nil, err
	}
	head := make([]byte, 512)
	n, err := io.ReadFull(f, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && err != io.EOF {
		return nil, errors.Join(err, f.Close())
	}
	head = head[:n]
	switch {
	case bytes.HasPrefix(head, []byte("PK\x03\x04")), bytes.HasPrefix(head, []byte("PK\x05\x06")):
		d.Kind = "zip"
		err = d.openZip(f, info.Size())
	case isTar(head):
		d.Kind = "tar"
		err = d.openTar(ctx, f, scratch, false)
	case bytes.HasPrefix(head, []byte{0x1f, 0x8b}) && gzipHoldsTar(f):
		d.Kind = "tar.gz"
		err = d.openTar(ctx, f, scratch, true)
	default:
		d.Kind = "file"
		err = d.openFile(f, info)
	}
	if d.Kind != "file" {
		d.Name = strings.TrimSuffix(d.Name, filepath.Ext(d.Name))
		d.Name = strings.TrimSuffix(d.Name, ".tar")
	}
	if err != nil {
		return nil, errors.Join(err, f.Close(), d.Close())
	}
	return d, nil
}

func isTar(head []byte) bool { return len(head) >= 262 && string(head[257:262]) == "ustar" }

func gzipHoldsTar(f *os.File) bool {
	defer f.Seek(0, io.SeekStart)
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return false
	}
	z, err := gzip.NewReader(f)
	if err != nil {
		return false
	}
	head := make([]byte, 262)
	_, err = io.ReadFull(z, head)
	return err == nil && isTar(head)
}

// hazard notes a dangerous thing; the list is bounded, as thousands say no more than a few.
func (d *Download) hazard(path, why string) {
	if len(d.Hazards) < 100 {
		d.Hazards = append(d.Hazards, Hazard{path, why})
	}
}

// accept judges an entry by all but its content and reports whether it may be read.
func (d *Download) accept(e tree.Entry) bool {
	if len(d.Entries) >= MaxEntries {
		d.hazard(e.Path, fmt.Sprintf("is one of more than %d files", MaxEntries))
		return false
	}
	if why := CheckName(e.Path); why != "" {
		d.hazard(e.Path, why)
		return false
	}
	switch e.Kind {
	case tree.Link:
		d.hazard(e.Path, "is a link to "+e.Target)
		return false
	case tree.Special:
		d.hazard(e.Path, "is a device or pipe, not a file")
		return false
	}
	if other := d.clashes.add(e.Path, e.Kind == tree.Dir); other != "" {
		d.hazard(e.Path, fmt.Sprintf("is the same name as %s on some systems", other))
		return false
	}
	if e.Size < 0 || d.Size+e.Size > MaxBytes || d.tooDense(d.Size+e.Size) {
		d.hazard(e.Path, fmt.Sprintf("makes the download unpack to more than %d times its size, or more than %d GiB", MaxRatio, MaxBytes>>30))
		return false
	}
	d.Size += e.Size
	d.Entries = append(d.Entries, e)
	return true
}

func (d *Download) tooDense(size int64) bool {
	return d.Kind != "folder" && size > RatioFrom && size/MaxRatio > d.Packed
}

func (d *Download) openFile(f *os.File, info fs.FileInfo) error {
	f.Close()
	name := filepath.Base(d.Path)
	d.FS = os.DirFS(filepath.Dir(d.Path))
	d.accept(tree.Entry{Path: name, Kind: tree.File, Size: info.Size(), Mode: info.Mode().Perm(), ModTime: info.ModTime()})
	return nil
}

// openFolder lists a folder under its own name, as a zip of it would.
func (d *Download) openFolder(ctx context.Context) error {
	dir, err := filepath.Abs(d.Path)
	if err != nil {
		return err
	}
	d.Name = filepath.Base(dir)
	root, err := os.OpenRoot(filepath.Dir(dir)) // reading through a root: a link planted meanwhile leads nowhere else
	if err != nil {
		return err
	}
	d.FS, d.close = root.FS(), root.Close
	return tree.Walk(ctx, dir, func(e tree.Entry) error {
		e.Path = d.Name + "/" + e.Path
		if !d.accept(e) && e.Kind == tree.Dir {
			return fs.SkipDir
		}
		return nil
	})
}

func (d *Download) openZip(f *os.File, size int64) error {
	d.close = f.Close
	z, err := zip.NewReader(f, size)
	if err != nil {
		d.Damaged = append(d.Damaged, Damage{d.Name, "the zip cannot be read: " + err.Error()})
		d.FS = zipFS{}
		return nil
	}
	files := zipFS{}
	for _, file := range z.File {
		e := tree.Entry{Path: strings.TrimSuffix(file.Name, "/"), Kind: tree.File, Size: int64(file.UncompressedSize64), Mode: 0o644, ModTime: file.Modified}
		switch mode := file.Mode(); {
		case strings.HasSuffix(file.Name, "/"):
			e.Kind, e.Size = tree.Dir, 0
		case mode&fs.ModeSymlink != 0:
			e.Kind, e.Target = tree.Link, "somewhere else"
		case !mode.IsRegular():
			e.Kind = tree.Special
		}
		if file.Flags&1 != 0 {
			d.Encrypted = append(d.Encrypted, e.Path)
			continue
		}
		if d.accept(e) && e.Kind == tree.File {
			files[e.Path] = file
		}
	}
	d.FS = files
	return nil
}

// zipFS opens the accepted files of a zip. It needs no folders: callers have the list of entries.
type zipFS map[string]*zip.File

func (z zipFS) Open(name string) (fs.File, error) {
	f, ok := z[name]
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	r, err := f.Open()
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: err}
	}
	return zipFile{r, f}, nil
}

type zipFile struct {
	io.ReadCloser
	f *zip.File
}

func (z zipFile) Stat() (fs.FileInfo, error) { return z.f.FileInfo(), nil }

// openTar spools the files of a tar into the scratch folder, since a tar cannot be read in any order.
func (d *Download) openTar(ctx context.Context, f *os.File, scratch string, zipped bool) error {
	defer f.Close()
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	dir, err := os.MkdirTemp(scratch, "tar-")
	if err != nil {
		return err
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	d.FS = root.FS()
	d.close = func() error { return errors.Join(root.Close(), os.RemoveAll(dir)) }
	var r io.Reader = bufio.NewReaderSize(f, 1<<20)
	if zipped {
		if r, err = gzip.NewReader(r); err != nil {
			return err
		}
	}
	t := tar.NewReader(r)
	for ctx.Err() == nil {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			d.Damaged = append(d.Damaged, Damage{d.Name, "the tar cannot be read on: " + err.Error()})
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
		if !d.accept(e) {
			if len(d.Hazards) >= 100 {
				return nil
			}
			continue
		}
		if err := spool(root, e, t); err != nil {
			d.Damaged = append(d.Damaged, Damage{e.Path, err.Error()})
			return nil
		}
	}
	return ctx.Err()
}

func spool(root *os.Root, e tree.Entry, r io.Reader) error {
	if e.Kind == tree.Dir {
		return root.MkdirAll(e.Path, 0o700)
	}
	if dir := path.Dir(e.Path); dir != "." {
		if err := root.MkdirAll(dir, 0o700); err != nil {
			return err
		}
	}
	f, err := root.OpenFile(e.Path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	n, err := io.Copy(f, io.LimitReader(r, e.Size+1))
	if err == nil && n != e.Size {
		err = fmt.Errorf("is %d bytes instead of %d", n, e.Size)
	}
	return errors.Join(err, f.Close(), root.Chtimes(e.Path, time.Time{}, e.ModTime))
}

// Inspect reads every entry once, whole: it finds programs, damage, entries that are not as large as they say, and takes the digests.
func (d *Download) Inspect(ctx context.Context) error {
	kept := d.Entries[:0]
	buf := make([]byte, 128<<10)
	for _, e := range d.Entries {
		if err := ctx.Err(); err != nil {
			return err
		}
		if e.Kind != tree.File {
			kept = append(kept, e)
			continue
		}
		why, err := d.inspect(e, buf)
		switch {
		case err != nil:
			d.Damaged = append(d.Damaged, Damage{e.Path, err.Error()})
			kept = append(kept, e)
		case why != "":
			d.hazard(e.Path, why)
		default:
			kept = append(kept, e)
		}
	}
	d.Entries = kept
	sort.SliceStable(d.Entries, func(i, j int) bool { return d.Entries[i].Path < d.Entries[j].Path })
	return nil
}

func (d *Download) inspect(e tree.Entry, buf []byte) (hazard string, err error) {
	f, err := d.FS.Open(e.Path)
	if err != nil {
		return "", plain(err)
	}
	defer f.Close()
	head := make([]byte, headSize)
	n, err := io.ReadFull(f, head)
	if err != nil && err != io.ErrUnexpectedEOF && err != io.EOF {
		return "", plain(err)
	}
	head = head[:n]
	if kind := Program(e.Path, head); kind != "" {
		return "is " + kind, nil
	}
	h := blake3.New()
	total, err := io.CopyBuffer(h, io.LimitReader(io.MultiReader(bytes.NewReader(head), f), e.Size+1), buf)
	if err != nil {
		return "", plain(err)
	}
	if total != e.Size {
		return "", fmt.Errorf("is not the %d bytes that the download says", e.Size)
	}
	d.Digests[e.Path] = tree.Digest(h.Sum(nil))
	return "", nil
}

// plain says what is wrong without words from inside.
func plain(err error) error {
	switch {
	case errors.Is(err, zip.ErrChecksum):
		return errors.New("does not match its checksum")
	case errors.Is(err, zip.ErrAlgorithm):
		return errors.New("is packed in a way that is not understood yet")
	case errors.Is(err, io.ErrUnexpectedEOF):
		return errors.New("ends too early")
	}
	if pe := (*fs.PathError)(nil); errors.As(err, &pe) {
		return pe.Err
	}
	return err
}
