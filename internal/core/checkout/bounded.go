package checkout

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/go-git/go-billy/v5"
	"github.com/go-git/go-billy/v5/osfs"
	git "github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/cache"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/format/packfile"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/storage/filesystem"
)

// A repository may be a few kilobytes that unpack to more than any drive holds: a file of zeros, differences of differences, a folder that is ten times in
// each of ten that are. So what is sent is looked through before it is unpacked, and what a commit consists of is counted before it is written.

const (
	// MaxFiles bounds how many files and folders a commit has.
	MaxFiles = 200_000
	// maxObjects bounds how many objects are sent: of each, something is remembered.
	maxObjects = 1_000_000
	// maxHeld bounds one object that is sent, in bytes: each is held in memory, and what it is a difference of, too. The usual forges take no larger files.
	maxHeld = 100 << 20
	// maxDepth is how deep folders nest.
	maxDepth = 200
)

// storage keeps a repository's objects, of those that are sent at most so many bytes.
type storage struct {
	*filesystem.Storage
	dot  billy.Filesystem
	most int64
	// stop ends the transfer. An error of the writer would not: whoever sends would be waited for, and waits to be read.
	stop context.CancelCauseFunc
}

// newStorage is a storage in an empty folder, and the folder that the files go into.
func newStorage(dir string, most int64, stop context.CancelCauseFunc) (*storage, billy.Filesystem, error) {
	files := osfs.New(dir)
	dot, err := files.Chroot(git.GitDirName)
	if err != nil {
		return nil, nil, err
	}
	objects := filesystem.NewStorageWithOptions(dot, cache.NewObjectLRU(16*cache.MiByte), filesystem.Options{LargeObjectThreshold: 1 << 20}) // larger files are written as they are read
	return &storage{objects, dot, most, stop}, files, nil
}

// PackfileWriter takes what is sent.
func (s *storage) PackfileWriter() (io.WriteCloser, error) {
	f, err := s.dot.TempFile("objects", "sent-")
	if err != nil {
		return nil, err
	}
	return &sent{s: s, f: f}, nil
}

// sent is a pack on its way, which is unpacked once all of it is there and has been looked through.
type sent struct {
	s   *storage
	f   billy.File
	n   int64
	err error
}

func (p *sent) Write(b []byte) (int, error) {
	if p.n += int64(len(b)); p.err == nil && p.n > p.s.most {
		p.err = fmt.Errorf("%w: more than %d MB", ErrTooLarge, p.s.most>>20)
	}
	if p.err == nil {
		_, p.err = p.f.Write(b)
	}
	if p.err != nil {
		p.s.stop(p.err)
	}
	return len(b), nil
}

func (p *sent) Close() error {
	err := p.err
	if err == nil && p.n > 0 {
		err = p.unpack()
	}
	return errors.Join(err, p.f.Close(), p.s.dot.Remove(p.f.Name()))
}

func (p *sent) unpack() (err error) {
	if _, err := p.f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if err := checkPack(p.f, p.s.most); err != nil {
		return err
	}
	if _, err := p.f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	w, err := p.s.Storage.PackfileWriter()
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, w.Close()) }()
	_, err = io.Copy(w, p.f)
	return err
}

// checkPack looks a pack through (Git, gitformat-pack) before it is unpacked: all objects together have at most so many bytes then, and each at most
// maxHeld.
func checkPack(r io.ReadSeeker, most int64) error {
	pack := packfile.NewScanner(r)
	_, count, err := pack.Header()
	if err != nil {
		return err
	}
	if count > maxObjects {
		return fmt.Errorf("%w: %d objects", ErrTooLarge, count)
	}
	var total int64
	for range count {
		h, err := pack.NextObjectHeader()
		if err != nil {
			return err
		}
		size, held := h.Length, h.Length
		if h.Type.IsDelta() && held <= maxHeld {
			var d beginning
			if _, _, err := pack.NextObject(&d); err != nil {
				return err
			}
			var base int64
			if base, size, err = d.sizes(); err != nil {
				return err
			}
			held = max(held, base, size)
		}
		if held < 0 || held > maxHeld {
			return fmt.Errorf("%w: a file of %d MB, and %d are the most", ErrTooLarge, held>>20, maxHeld>>20)
		}
		if total += size; total > most {
			return fmt.Errorf("%w: more than %d MB, unpacked", ErrTooLarge, most>>20)
		}
	}
	return nil
}

// beginning keeps the first bytes of what is written: as many as the two lengths of a difference take.
type beginning struct{ data []byte }

func (b *beginning) Write(p []byte) (int, error) {
	b.data = append(b.data, p[:min(len(p), 2*binary.MaxVarintLen64-len(b.data))]...)
	return len(p), nil
}

// sizes are the lengths of what a difference is from, and of what it makes.
func (b *beginning) sizes() (base, result int64, err error) {
	from, n := binary.Uvarint(b.data)
	makes, m := binary.Uvarint(b.data[max(n, 0):])
	if n <= 0 || m <= 0 || from > 1<<62 || makes > 1<<62 {
		return 0, 0, fmt.Errorf("%w: a difference without its lengths", ErrBroken)
	}
	return int64(from), int64(makes), nil
}

// count adds up what a commit consists of, of which nothing is read but its folders, and each of these once. It is ErrTooLarge where that is too much, and
// another error where something is not there.
type count struct {
	r    *git.Repository
	most int64
	seen map[plumbing.Hash]sum
}

// sum is what is in a folder, and how deep the deepest of it lies.
type sum struct {
	bytes        int64
	files, depth int
}

func (c *count) commit(at plumbing.Hash) error {
	if err := c.held(at); err != nil {
		return err
	}
	commit, err := c.r.CommitObject(at)
	if err != nil {
		return err
	}
	c.seen = map[plumbing.Hash]sum{}
	_, err = c.folder(commit.TreeHash, 0)
	return err
}

func (c *count) folder(at plumbing.Hash, depth int) (sum, error) {
	if s, ok := c.seen[at]; ok {
		return s, nil
	}
	if err := c.held(at); err != nil {
		return sum{}, err
	}
	folder, err := object.GetTree(c.r.Storer, at)
	if err != nil {
		return sum{}, err
	}
	var all sum
	for _, e := range folder.Entries {
		one := sum{}
		switch e.Mode {
		case filemode.Dir:
			if depth < maxDepth {
				one, err = c.folder(e.Hash, depth+1)
			}
			one.depth++
		case filemode.Submodule: // is not fetched
		default:
			one.bytes, err = c.r.Storer.EncodedObjectSize(e.Hash)
		}
		if err != nil {
			return sum{}, err
		}
		// each of these is within its bound, so that no sum is beyond all numbers
		all = sum{all.bytes + one.bytes, all.files + one.files + 1, max(all.depth, one.depth)}
		if one.bytes < 0 || one.bytes > c.most || all.bytes > c.most || all.files > MaxFiles || depth+all.depth > maxDepth {
			return sum{}, fmt.Errorf("%w: more than %d MB or %d files, or deeper than %d folders", ErrTooLarge, c.most>>20, MaxFiles, maxDepth)
		}
	}
	c.seen[at] = all
	return all, nil
}

// held refuses an object that is too large to be held in memory.
func (c *count) held(at plumbing.Hash) error {
	size, err := c.r.Storer.EncodedObjectSize(at)
	if err == nil && size > maxHeld {
		err = fmt.Errorf("%w: an object of %d bytes that is no file", ErrTooLarge, size)
	}
	return err
}
