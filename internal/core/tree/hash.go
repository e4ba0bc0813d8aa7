package tree

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"iter"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/zeebo/blake3"
)

// ErrBeingWritten says that a file kept changing while it was read.
var ErrBeingWritten = errors.New("is being written")

// Sums are the digests of one file's content.
type Sums struct {
	Blake3 Digest
	// SHA256 is in hex; "" where it was not asked for.
	SHA256 string
}

// Known is what an Index remembers of a file: its state when it was last read and the digests found then.
type Known struct {
	Entry Entry
	Sums  Sums
	Seen  time.Time // when it was read
}

// Index remembers digests between runs. It may forget at any time: it saves reading, nothing depends on it.
type Index interface {
	Lookup(path string) (Known, bool)
	Store(path string, known Known)
}

// Notes remembers, between runs, what was read out of some files: one note for each place. Like an Index it may forget at any time.
type Notes interface {
	// Recall fills into with what was noted at place for just this state, and reports whether there was anything.
	Recall(place string, state Digest, into any) bool
	// Note replaces what was noted at place. What cannot be written as JSON is not noted.
	Note(place string, state Digest, what any)
}

// Hasher takes digests and re-reads nothing that has not changed. It is safe for concurrent use when its Index is.
type Hasher struct {
	Index  Index // nil: remember no digests
	Notes  Notes // nil: remember nothing else
	Now    func() time.Time
	Reread bool // read everything, whatever the Index says
	// Opens counts the files opened for reading.
	Opens atomic.Int64
}

// settle is how long before its last look a file must have been left alone for its times to be trusted: file systems round times, to as
// much as two seconds.
const settle = 2 * time.Second

// Recall returns the digests of entry, found below dir, without reading it, when they are known and it has not changed since.
func (h *Hasher) Recall(dir string, entry Entry, sha bool) (Sums, bool) {
	if h.Index == nil || h.Reread {
		return Sums{}, false
	}
	known, ok := h.Index.Lookup(filepath.Join(dir, filepath.FromSlash(entry.Path)))
	if !ok || !SameState(known.Entry, entry) || sha && known.Sums.SHA256 == "" {
		return Sums{}, false
	}
	if known.Seen.Before(settled(entry)) {
		return Sums{}, false
	}
	return known.Sums, true
}

// Wrote remembers the digests of a file that Ostrov itself has just written and read back, so that it is not read again because it is young. Where
// a file system's times are rough, another program could have written it since within the same tick: there it is read once more.
func (h *Hasher) Wrote(dir string, entry Entry, sums Sums) {
	if h.Index == nil || entry.ChangeTime.Nanosecond()%int(time.Millisecond) == 0 {
		return
	}
	h.Index.Store(filepath.Join(dir, filepath.FromSlash(entry.Path)), Known{Entry: entry, Sums: sums, Seen: settled(entry)})
}

// settled is when an entry's times can be trusted.
func settled(e Entry) time.Time {
	if e.ModTime.After(e.ChangeTime) {
		return e.ModTime.Add(settle)
	}
	return e.ChangeTime.Add(settle)
}

// Once fills into by read, which reads the entries below dir, unless that was done before for the same entries unchanged and is remembered.
// place names what is read; scope stands for everything else that the result depends on. What read reports not to be worth remembering, and
// what files give that are too young for their times to be trusted, is not.
func (h *Hasher) Once(place string, scope Digest, dir string, entries iter.Seq[Entry], into any, read func() (remember bool)) {
	state, settled := h.state(scope, dir, entries)
	if settled && !h.Reread && h.Notes.Recall(place, state, into) {
		return
	}
	if remember := read(); remember && settled {
		h.Notes.Note(place, state, into)
	}
}

// Known fills into with what is noted of the entries, unchanged, as Once would, and reports whether there is anything.
func (h *Hasher) Known(place string, scope Digest, dir string, entries iter.Seq[Entry], into any) bool {
	state, settled := h.state(scope, dir, entries)
	return settled && !h.Reread && h.Notes.Recall(place, state, into)
}

// Note notes what Known then recalls, as long as the entries stay as they are given.
func (h *Hasher) Note(place string, scope Digest, dir string, entries iter.Seq[Entry], what any) {
	if state, settled := h.state(scope, dir, entries); settled {
		h.Notes.Note(place, state, what)
	}
}

// state is a digest of what tells, without reading, whether entries have changed.
func (h *Hasher) state(scope Digest, dir string, entries iter.Seq[Entry]) (Digest, bool) {
	if h.Notes == nil {
		return Digest{}, false
	}
	now := h.Now()
	sum := blake3.New()
	var line []byte
	text := func(s string) {
		line = binary.AppendUvarint(line, uint64(len(s)))
		line = append(line, s...)
	}
	line = append(line, scope[:]...)
	text(dir)
	for e := range entries {
		if now.Before(settled(e)) {
			if _, known := h.Recall(dir, e, false); !known { // else Ostrov itself wrote it
				return Digest{}, false
			}
		}
		text(e.Path)
		text(string(e.Kind))
		text(e.Target)
		for _, n := range [...]uint64{uint64(e.Size), uint64(e.ModTime.UnixNano()), uint64(e.ChangeTime.UnixNano()), e.FileID, uint64(e.Mode)} {
			line = binary.LittleEndian.AppendUint64(line, n)
		}
		if len(line) > 16<<10 {
			_, _ = sum.Write(line) // cannot fail
			line = line[:0]
		}
	}
	_, _ = sum.Write(line)
	return Digest(sum.Sum(nil)), true
}

// File returns the digests of the file entry below dir, reading it only if need be. With sha the SHA-256 is taken too.
// A file that goes on changing while it is read is ErrBeingWritten.
func (h *Hasher) File(ctx context.Context, dir string, entry Entry, sha bool) (Sums, error) {
	if sums, ok := h.Recall(dir, entry, sha); ok {
		return sums, nil
	}
	return h.Read(ctx, dir, entry, sha, io.Discard)
}

// Read reads the file entry below dir through to w and returns its digests, which the Index then knows. It fails with ErrBeingWritten
// when the file changed meanwhile, and then what w received is to be thrown away.
func (h *Hasher) Read(ctx context.Context, dir string, entry Entry, sha bool, w io.Writer) (Sums, error) {
	before, err := Stat(dir, entry.Path)
	if err != nil {
		return Sums{}, err
	}
	return h.reading(dir, before, func(f *os.File) (Sums, int64, error) { return SumReader(ctx, f, sha, w) })
}

// Load is Read for small files: it returns the content in buf, which it makes larger where it must. The file must be in the very state
// that entry says, else that is ErrBeingWritten too.
func (h *Hasher) Load(dir string, entry Entry, sha bool, buf []byte) (Sums, []byte, error) {
	sums, err := h.reading(dir, entry, func(f *os.File) (Sums, int64, error) {
		if int64(cap(buf)) <= entry.Size {
			buf = make([]byte, 0, entry.Size+entry.Size/4+512)
		}
		n, err := io.ReadFull(f, buf[:entry.Size+1]) // one more than there should be, to meet the end
		if err == io.ErrUnexpectedEOF || err == io.EOF {
			err = nil
		}
		buf = buf[:n]
		sums := Sums{Blake3: Digest(blake3.Sum256(buf))}
		if sha {
			sum := sha256.Sum256(buf)
			sums.SHA256 = hex.EncodeToString(sum[:])
		}
		return sums, int64(n), err
	})
	return sums, buf, err
}

// reading opens a file, has it read, and looks whether it is then as it was before.
func (h *Hasher) reading(dir string, before Entry, read func(*os.File) (Sums, int64, error)) (Sums, error) {
	path := filepath.Join(dir, filepath.FromSlash(before.Path))
	if before.Kind != File {
		return Sums{}, fmt.Errorf("%s is not a file any more", path)
	}
	seen := h.Now()
	h.Opens.Add(1)
	f, err := Open(path)
	if err != nil {
		return Sums{}, err
	}
	defer f.Close()
	sums, n, err := read(f)
	if err != nil {
		return Sums{}, fmt.Errorf("%s: %w", path, err)
	}
	after, err := Stat(dir, before.Path)
	if err != nil {
		return Sums{}, err
	}
	if !SameState(before, after) || n != before.Size {
		return Sums{}, fmt.Errorf("%s %w", path, ErrBeingWritten)
	}
	if h.Index != nil {
		h.Index.Store(path, Known{Entry: after, Sums: sums, Seen: seen})
	}
	return sums, nil
}

// SumReader takes the digests of r while passing it on to w, and returns how many bytes there were.
func SumReader(ctx context.Context, r io.Reader, sha bool, w io.Writer) (Sums, int64, error) {
	b := blake3.New()
	to := []io.Writer{b}
	if w != io.Discard {
		to = append(to, w)
	}
	var s hash.Hash
	if sha {
		s = sha256.New()
		to = append(to, s)
	}
	buf := buffers.Get().(*[128 << 10]byte)
	defer buffers.Put(buf)
	n, err := io.CopyBuffer(io.MultiWriter(to...), contextReader{ctx, r}, buf[:])
	sums := Sums{Blake3: Digest(b.Sum(nil))}
	if sha {
		sums.SHA256 = hex.EncodeToString(s.Sum(nil))
	}
	return sums, n, err
}

// buffers are for copying: making one for each file would cost more than reading most files.
var buffers = sync.Pool{New: func() any { return new([128 << 10]byte) }}

// contextReader ends a long copy soon after its context does.
type contextReader struct {
	ctx context.Context
	r   io.Reader
}

func (c contextReader) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.r.Read(p)
}

// ListFS returns everything below name of fsys, as Walk would; it serves what is not on disk as such. Links are reported, not followed.
func ListFS(fsys fs.FS, name string) ([]Entry, error) {
	var entries []Entry
	err := fs.WalkDir(fsys, name, func(path string, d fs.DirEntry, err error) error {
		if err != nil || path == name && d.IsDir() {
			return err
		}
		if len(entries) >= maxEntries {
			return fmt.Errorf("%s %w", name, ErrTooMany)
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		rel := path
		if name != "." && path != name {
			rel = strings.TrimPrefix(path, name+"/")
		}
		e := Entry{Path: rel, Kind: File, Size: info.Size(), Mode: info.Mode().Perm(), ModTime: info.ModTime()}
		switch {
		case d.IsDir():
			e.Kind, e.Size = Dir, 0
		case d.Type()&fs.ModeSymlink != 0:
			e.Kind, e.Size = Link, 0
		case !d.Type().IsRegular():
			e.Kind, e.Size = Special, 0
		}
		entries = append(entries, e)
		return nil
	})
	return entries, err
}
