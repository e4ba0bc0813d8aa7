// Package unpack opens downloads, which come from strangers: it lists what is in a folder, a file or an archive (zip, 7z, rar, tar plain or
// compressed), judges it, and gives what is harmless to read as an fs.FS. Archives inside are opened too, and those in them, to a depth.
//
// It promises to bound entries, bytes, depth, ratio and memory (names.go), to follow no link, and to write nowhere but into the scratch
// folder it is given, under names of its own. Kinds are told by content, never by ending. What it refuses is in Hazards; what it refuses
// cannot be read through FS.
package unpack

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"

	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
)

// Hazard is one dangerous thing in a download.
type Hazard struct {
	Path string // as it stands in the download, unchanged: show it only with control characters made visible
	Why  string // half a sentence: "leads out of the download"
}

// Code is one file of a format that runs code when the game loads it.
type Code struct{ Path, Format, Why string }

// Damage is one entry that cannot be read whole.
type Damage struct{ Path, Why string }

// Download is an open download.
type Download struct {
	Path string // where it lies
	// Name is its file name without the endings of archives.
	Name    string
	Kind    string // folder, file, zip, 7z, rar, tar or tar.gz and its like
	Packed  int64  // bytes it takes
	Size    int64  // bytes it unpacks to
	Entries []tree.Entry
	FS      fs.FS
	Hazards []Hazard
	Code    []Code
	Damaged []Damage
	// Encrypted are entries that need a password.
	Encrypted []string
	// Inside are the entries that are archives themselves, whose content is listed below their path too.
	Inside []string
	// Closed are the archives that lie deeper than was looked.
	Closed []string
	// Digests are those of the entries' contents, set by Inspect.
	Digests map[string]tree.Digest

	files files
	// Programs tells that programs are Code rather than Hazards: mods of some kinds are programs. It is to be set before Inspect.
	Programs bool

	programs []program // those that are hazards
	clashes  *clashes
	// full is set when a bound is hit that makes reading on pointless.
	full    bool
	depth   int             // how many archives this one lies in
	whole   int64           // bytes that the outermost one takes
	scratch string          // a folder of the download's own, made at first need
	temp    string          // where scratch is made
	mu      sync.Mutex      // guards closers while entries are inspected side by side
	large   map[string]bool // entries that take much memory to unpack
	one     sync.Mutex      // held while one of these is
	closers []func() error
}

// files opens the accepted files of a download by path. It needs no folders: callers have the list of entries.
type files map[string]opener

type opener func() (io.ReadCloser, error)

// Open opens one file.
func (f files) Open(name string) (fs.File, error) {
	open, ok := f[name]
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	r, err := open()
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: name, Err: plain(err)}
	}
	if file, ok := r.(fs.File); ok {
		return file, nil
	}
	return streamed{r, name}, nil
}

// streamed is a file that can only be read through.
type streamed struct {
	io.ReadCloser
	name string
}

// Stat is not to be had of a stream; nobody who reads downloads needs it.
func (s streamed) Stat() (fs.FileInfo, error) {
	return nil, &fs.PathError{Op: "stat", Path: s.name, Err: errors.ErrUnsupported}
}

// Close frees what the download holds, its scratch files too.
func (d *Download) Close() error {
	var err error
	for i := len(d.closers) - 1; i >= 0; i-- {
		err = errors.Join(err, d.closers[i]())
	}
	d.closers = nil
	return err
}

// Open opens the download at path. temp is an existing folder for what has to be spooled; it is cleaned on Close.
// An error says that the download cannot be looked at, not that it is bad.
func Open(ctx context.Context, file, temp string) (*Download, error) {
	info, err := os.Stat(file)
	if err != nil {
		return nil, err
	}
	d := &Download{Path: file, Name: filepath.Base(file), Packed: info.Size(), whole: info.Size(), temp: temp}
	d.start()
	switch {
	case info.IsDir():
		d.Kind = "folder"
		err = d.openFolder(ctx)
	case !info.Mode().IsRegular():
		return nil, fmt.Errorf("%s is neither a file nor a folder", file)
	default:
		err = d.openArchive(ctx)
	}
	if err != nil {
		return nil, errors.Join(err, d.Close())
	}
	return d, nil
}

// AsFile opens an archive once more, as the one file that it is: a save may be an archive itself. What was found wrong with the archive holds
// for the file, too.
func (d *Download) AsFile() (*Download, error) {
	whole := &Download{Path: d.Path, Name: filepath.Base(d.Path), Kind: "file", Packed: d.Packed, whole: d.whole, temp: d.temp, Programs: d.Programs}
	whole.start()
	whole.Damaged, whole.Encrypted = d.Damaged, d.Encrypted
	return whole, whole.openFile()
}

func (d *Download) start() {
	d.Digests, d.clashes, d.files = map[string]tree.Digest{}, newClashes(), files{}
	d.large = map[string]bool{}
	d.FS = d.files
}

// openArchive opens the file at d.Path by what it is.
func (d *Download) openArchive(ctx context.Context) error {
	f, err := os.Open(d.Path)
	if err != nil {
		return err
	}
	d.closers = append(d.closers, f.Close)
	d.Kind = kindOf(f)
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	switch d.Kind {
	case "file":
		return d.openFile()
	case "zip":
		err = d.openZip(ctx, f)
	case "7z":
		err = d.open7z(ctx, f)
	case "rar":
		err = d.openRar(ctx, f)
	default:
		err = d.openTar(ctx, f)
	}
	d.Name = strings.TrimSuffix(d.Name, filepath.Ext(d.Name))
	d.Name = strings.TrimSuffix(d.Name, ".tar")
	return err
}

// headSize is how much of a file tells its kind, in bytes: the first block of a tar.
const headSize = 512

// kindOf tells what a file is by its content; what is no archive is a file.
func kindOf(r io.Reader) string {
	head := make([]byte, headSize)
	n, _ := io.ReadFull(r, head)
	head = head[:n]
	switch {
	case bytes.HasPrefix(head, []byte("PK\x03\x04")), bytes.HasPrefix(head, []byte("PK\x05\x06")):
		return "zip"
	case bytes.HasPrefix(head, []byte("7z\xbc\xaf\x27\x1c")):
		return "7z"
	case bytes.HasPrefix(head, []byte("Rar!\x1a\x07")):
		return "rar"
	case isTar(head):
		return "tar"
	}
	packing := wrap.Compression(head)
	if packing == "" {
		return "file"
	}
	inner, err := wrap.Layers{Chain: []wrap.Layer{{Name: packing}}}.Reader(io.MultiReader(bytes.NewReader(head), r), wrap.Limits{Decoded: MaxBytes})
	if err != nil {
		return "file"
	}
	defer inner.Close()
	head = make([]byte, headSize)
	if _, err := io.ReadFull(inner, head); err != nil || !isTar(head) {
		return "file"
	}
	return "tar." + endings[packing]
}

// endings are what tars in the compressions are called.
var endings = map[string]string{"gzip": "gz", "bzip2": "bz2", "xz": "xz", "zstd": "zst", "lz4": "lz4", "zlib": "zlib"}

// isTar reports whether a file begins with the header of a tar: one whose checksum is right (POSIX.1-1988, ustar), whatever its magic.
func isTar(head []byte) bool {
	if len(head) < headSize || head[0] == 0 {
		return false
	}
	sum, stored := 8*int(' '), 0
	for i, c := range head[:headSize] {
		if i < 148 || i >= 156 {
			sum += int(c)
		}
	}
	digits := strings.Trim(string(head[148:156]), " \x00")
	for _, c := range digits {
		if c < '0' || c > '7' {
			return false
		}
		stored = stored<<3 | int(c-'0')
	}
	return digits != "" && stored == sum
}

// hazard notes a dangerous thing; the list is bounded, as thousands say no more than a few.
func (d *Download) hazard(path, why string) {
	if len(d.Hazards) < maxHazards {
		d.Hazards = append(d.Hazards, Hazard{path, why})
	}
}

const maxHazards = 100

func (d *Download) damage(path, why string) {
	if len(d.Damaged) < maxHazards {
		d.Damaged = append(d.Damaged, Damage{path, why})
	}
}

// unread notes that something cannot be read, as words say. What has nothing to do with the download is an error: that it was stopped, that the drive
// failed, that the player may not read it.
func (d *Download) unread(path, words string, err error) error {
	if outside(err) {
		return fmt.Errorf("%s: %w", path, err)
	}
	d.damage(path, words+plain(err).Error())
	return nil
}

// outside reports whether an error is the system's, or the player's, and not about what a file holds.
func outside(err error) bool {
	return errors.Is(err, context.Canceled) || errors.Is(err, context.DeadlineExceeded) || errors.As(err, new(syscall.Errno))
}

// accept judges an entry by all but its content and reports whether it may be read.
func (d *Download) accept(e tree.Entry) bool {
	if len(d.Entries) >= MaxEntries {
		d.hazard(e.Path, fmt.Sprintf("is one of more than %d files", MaxEntries))
		d.full = true
		return false
	}
	if slices.ContainsFunc(strings.Split(e.Path, "/"), tree.Ours) {
		d.hazard(e.Path, "is called like what Ostrov leaves beside the folders that it changes")
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
		why := fmt.Sprintf("is the same name as %s on some systems", other)
		if other == e.Path {
			why = "is in it twice"
		}
		d.hazard(e.Path, why)
		return false
	}
	if e.Size < 0 || d.Size+e.Size > MaxBytes || d.tooDense(d.Size+e.Size) {
		d.hazard(e.Path, fmt.Sprintf("makes the download unpack to more than %d times its size, or more than %d GiB", MaxRatio, MaxBytes>>30))
		d.full = true
		return false
	}
	d.Size += e.Size
	d.Entries = append(d.Entries, e)
	return true
}

func (d *Download) tooDense(size int64) bool {
	return d.Kind != "folder" && size > RatioFrom && size/MaxRatio > d.whole
}

func (d *Download) openFile() error {
	info, err := os.Stat(d.Path)
	if err != nil {
		return err
	}
	d.add(tree.Entry{Path: d.Name, Kind: tree.File, Size: info.Size(), Mode: info.Mode().Perm(), ModTime: info.ModTime()},
		func() (io.ReadCloser, error) { return os.Open(d.Path) })
	return nil
}

// add accepts an entry that open reads, and reports whether it did.
func (d *Download) add(e tree.Entry, open opener) bool {
	if !d.accept(e) {
		return false
	}
	if e.Kind == tree.File {
		d.files[e.Path] = open
	}
	return true
}

// openFolder lists a folder under its own name, as a zip of it would.
func (d *Download) openFolder(ctx context.Context) error {
	dir, err := filepath.Abs(d.Path)
	if err != nil {
		return err
	}
	d.Name = filepath.Base(dir)
	root, err := os.OpenRoot(dir) // reading through a root: a link planted meanwhile leads nowhere else
	if err != nil {
		return err
	}
	d.closers = append(d.closers, root.Close)
	return tree.Walk(ctx, dir, func(e tree.Entry) error {
		inside := e.Path
		if path.Base(inside) == ".git" { // of a checkout: git's own, and nothing that a game reads
			if e.Kind == tree.Dir {
				return fs.SkipDir
			}
			return nil
		}
		if e.Kind == tree.Unread {
			return d.unread(d.Name+"/"+inside, "cannot be read: ", e.Err)
		}
		e.Path = d.Name + "/" + e.Path
		if !d.add(e, func() (io.ReadCloser, error) { return root.Open(inside) }) && e.Kind == tree.Dir {
			return fs.SkipDir
		}
		if d.full {
			return fs.SkipAll
		}
		return nil
	})
}
