// Package tree looks at folders: what is in them, whether it changed since it was last read, and what its content's digest is.
//
// It promises to read a file only when its identity says that it may have changed (Hasher), to hold one folder level in memory at a time,
// and never to follow a link: a link is reported as one. It never writes into what it looks at.
package tree

import (
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/zeebo/blake3"
)

// Digest is the BLAKE3 of some content, or of a listing of contents (ListDigest). The zero Digest is that of nothing read yet.
type Digest [32]byte

// prefix is the name of the algorithm in front of every digest that is written down.
const prefix = "blake3:"

// IsZero reports whether the digest has not been taken.
func (d Digest) IsZero() bool { return d == Digest{} }

// Hex is the digest without its algorithm's name.
func (d Digest) Hex() string { return hex.EncodeToString(d[:]) }

// String is the digest as it is written down, or "" for the zero Digest.
func (d Digest) String() string {
	if d.IsZero() {
		return ""
	}
	return prefix + d.Hex()
}

// MarshalText makes digests strings in JSON.
func (d Digest) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText reads what MarshalText wrote.
func (d *Digest) UnmarshalText(text []byte) error {
	parsed, err := ParseDigest(string(text))
	if err == nil {
		*d = parsed
	}
	return err
}

// ParseDigest reads what String wrote; "" is the zero Digest.
func ParseDigest(s string) (Digest, error) {
	var d Digest
	if s == "" {
		return d, nil
	}
	b, err := hex.DecodeString(strings.TrimPrefix(s, prefix))
	if err != nil || len(b) != len(d) || !strings.HasPrefix(s, prefix) {
		return d, fmt.Errorf("%.80q is not a digest", s)
	}
	copy(d[:], b)
	return d, nil
}

// Named is one file of a listing.
type Named struct {
	Path   string // slash-separated, relative
	Digest Digest
}

// ListDigest is the digest of a folder or set of files: of the lines "HEX PATH\n", sorted by path. Times and modes do not count.
func ListDigest(files []Named) Digest {
	sorted := append([]Named(nil), files...)
	sort.Slice(sorted, func(i, j int) bool { return sorted[i].Path < sorted[j].Path })
	h := NewListHasher()
	for _, f := range sorted {
		h.Add(f)
	}
	return h.Sum()
}

// ListHasher takes a ListDigest of files that come sorted by path.
type ListHasher struct{ h *blake3.Hasher }

// NewListHasher begins one.
func NewListHasher() ListHasher { return ListHasher{blake3.New()} }

// Add adds the next file.
func (h ListHasher) Add(f Named) { fmt.Fprintf(h.h, "%s %q\n", f.Digest.Hex(), f.Path) }

// Sum is the digest of the files added so far.
func (h ListHasher) Sum() Digest { return Digest(h.h.Sum(nil)) }

// Kind is what an entry of a folder is.
type Kind string

// Kinds of entries. Special is whatever is none of the others: a device, a pipe, a socket. Unread is what cannot be looked at.
const (
	File    Kind = "file"
	Dir     Kind = "dir"
	Link    Kind = "link"
	Special Kind = "special"
	Unread  Kind = "unread"
)

// Entry is one thing in a folder.
type Entry struct {
	Path    string // slash-separated, relative to the folder walked
	Kind    Kind
	Size    int64 // bytes; 0 for what is not a file
	Mode    fs.FileMode
	ModTime time.Time
	// ChangeTime and FileID are zero where the system or file system has none.
	ChangeTime time.Time
	FileID     uint64
	Target     string // of a link, as it is stored
	Err        error  `json:"-"` // of what is Unread: why
}

// Bounds of one walk.
const (
	maxDepth   = 64
	maxEntries = 4_000_000
)

// ErrTooMany says that a folder holds more than a walk takes.
var ErrTooMany = errors.New("holds too much")

// Walk calls visit for everything below dir, in order of the paths as texts: folders come before what is in them, and a.txt before a/b.
// dir itself is not visited. A folder for which visit returns fs.SkipDir is not entered. Names that are not valid UTF-8 come as they are.
// What cannot be read hinders nothing else: a folder that cannot be listed is visited twice, the second time as Unread.
func Walk(ctx context.Context, dir string, visit func(Entry) error) error {
	w := walker{ctx: ctx, dir: dir, visit: visit}
	return w.folder("", 1)
}

type walker struct {
	ctx   context.Context
	dir   string
	visit func(Entry) error
	count int
}

func (w *walker) folder(rel string, depth int) error {
	if depth > maxDepth {
		return fmt.Errorf("%s %w: folders deeper than %d", filepath.Join(w.dir, filepath.FromSlash(rel)), ErrTooMany, maxDepth)
	}
	if err := w.ctx.Err(); err != nil {
		return err
	}
	in, err := openFolder(filepath.Join(w.dir, filepath.FromSlash(rel)))
	var names []string
	if err == nil {
		defer in.close()
		names, err = in.names()
	}
	if rel != "" && w.ctx.Err() == nil && unreadable(err) {
		return w.visit(Entry{Path: rel, Kind: Unread, Err: err})
	}
	if err != nil {
		return err
	}
	var folders []string // to be entered, each with / behind it: sorted so, they stand where what is in them belongs
	enter := func(before string) error {
		for len(folders) > 0 && (before == "" || folders[0] < before) {
			next := strings.TrimSuffix(folders[0], "/")
			folders = folders[1:]
			if err := w.folder(join(rel, next), depth+1); err != nil {
				return err
			}
		}
		return nil
	}
	for _, name := range names {
		if err := enter(name); err != nil {
			return err
		}
		if w.count++; w.count > maxEntries {
			return fmt.Errorf("%s %w: more than %d files", w.dir, ErrTooMany, maxEntries)
		}
		entry, err := in.stat(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue // gone since the folder was listed
		}
		if unreadable(err) {
			entry = Entry{Kind: Unread, Err: err}
		} else if err != nil {
			return err
		}
		entry.Path = join(rel, name)
		switch err := w.visit(entry); {
		case errors.Is(err, fs.SkipDir):
			continue
		case err != nil:
			return err
		}
		if entry.Kind == Dir {
			i, _ := slices.BinarySearch(folders, name+"/")
			folders = slices.Insert(folders, i, name+"/")
		}
	}
	return enter("")
}

func join(rel, name string) string {
	if rel == "" {
		return name
	}
	return rel + "/" + name
}

// unreadable reports whether an error is of one file or folder: it may not be read, or the drive fails there. Not so what is simply gone.
func unreadable(err error) bool {
	var of *fs.PathError
	return errors.As(err, &of) && !errors.Is(err, fs.ErrNotExist)
}

// folder is one that is being walked.
type folder struct {
	*os.File
	path string
}

func openFolder(path string) (folder, error) {
	f, err := os.Open(path)
	return folder{f, path}, err
}

func (f folder) close() { _ = f.Close() } // nothing was written

func (f folder) names() ([]string, error) {
	names, err := f.Readdirnames(-1)
	sort.Strings(names)
	return names, err
}

// Stat returns the entry at path, slash-separated, below dir. The path "." is dir itself.
func Stat(dir, path string) (Entry, error) {
	full := filepath.Join(dir, filepath.FromSlash(path))
	info, err := os.Lstat(full)
	if err != nil {
		return Entry{}, err
	}
	e := Entry{Path: path, Mode: info.Mode().Perm(), ModTime: info.ModTime()}
	e.ChangeTime, e.FileID = identity(info)
	switch info.Mode().Type() {
	case 0:
		e.Kind, e.Size = File, info.Size()
	case fs.ModeDir:
		e.Kind = Dir
	case fs.ModeSymlink:
		e.Kind = Link
		e.Target, err = os.Readlink(full)
	default:
		e.Kind = Special
		if info.Mode()&fs.ModeIrregular != 0 && info.IsDir() { // a junction on Windows
			e.Kind = Link
		}
	}
	return e, err
}

// SameState reports whether b is, as far as anything but reading tells, the unchanged a.
func SameState(a, b Entry) bool {
	return a.Kind == b.Kind && a.Size == b.Size && a.ModTime.Equal(b.ModTime) && a.ChangeTime.Equal(b.ChangeTime) && a.FileID == b.FileID && a.Target == b.Target
}

// Names of what Ostrov itself leaves beside the folders that it changes.
const (
	// AreaName is the folder in which changes are prepared. No name of a game or download begins so.
	AreaName = ".ostrov"
	// NoteName is the note that tells of a change which is not finished.
	NoteName = "ostrov-change-not-finished.txt"
)

// Ours reports whether a name in a folder is Ostrov's own.
func Ours(name string) bool {
	return len(name) >= len(AreaName) && strings.EqualFold(name[:len(AreaName)], AreaName) || strings.EqualFold(name, NoteName)
}

// LeadsOut is where a link leads that lies in top, "" where it stays in there. A top of "" is the folder that the entry's path is in.
func (e Entry) LeadsOut(top string) string {
	target := filepath.ToSlash(e.Target)
	to := path.Join(path.Dir(e.Path), target)
	inside := to == top || strings.HasPrefix(to, top+"/")
	if top == "" {
		inside = to != ".." && !strings.HasPrefix(to, "../")
	}
	if inside && !path.IsAbs(target) && filepath.VolumeName(e.Target) == "" {
		return ""
	}
	return e.Target
}
