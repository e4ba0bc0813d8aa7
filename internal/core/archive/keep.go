package archive

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"ostrov/internal/core/tree"
)

// Keeping is a snapshot under way. Commit publishes it; Abandon, which may be called after Commit too, ends one that comes to nothing.
type Keeping struct {
	a      *Archive
	hasher *tree.Hasher
	w      contentWriter
	before map[string]map[string]Node // by root key and path: what an earlier snapshot has
	used   map[tree.Digest]bool       // see use
	reused []string                   // content files of roots that were taken over whole

	omitting sync.Mutex // guards leftOut
	leftOut  []LeftOut

	copied, left atomic.Int64
	progress     func(n int64)
}

// Copied are the bytes of files that had to be read, Reused those of files that had not.
func (k *Keeping) Copied() int64 { return k.copied.Load() }

// LeftOut is what could not be read of roots whose files need not be read together. It is not in the snapshot.
func (k *Keeping) LeftOut() []LeftOut { return k.leftOut }

// omit makes n stand for a file that cannot be read.
func (k *Keeping) omit(dir string, e tree.Entry, err error, n *Node) {
	*n = Node{Path: e.Path, Kind: tree.Unread}
	k.omitting.Lock()
	defer k.omitting.Unlock()
	k.leftOut = append(k.leftOut, LeftOut{filepath.Join(dir, filepath.FromSlash(e.Path)), unreadable(err).Error()})
}

// unreadable is why a file cannot be read, without its path, or nil where that is not what the error says.
func unreadable(err error) error {
	var of *fs.PathError
	if errors.As(err, &of) && !errors.Is(err, fs.ErrNotExist) {
		return of.Err
	}
	return nil
}

// Reused are the bytes of files that had not changed and were not read.
func (k *Keeping) Reused() int64 { return k.left.Load() }

// Keep begins a snapshot. What before has, an earlier snapshot or nil, is not read again while it is unchanged. progress is told the bytes
// that have been dealt with, from several goroutines.
func (a *Archive) Keep(ctx context.Context, hasher *tree.Hasher, before *Snapshot, now time.Time, progress func(n int64)) (*Keeping, error) {
	a.clearTemps(now)
	if err := a.load(); err != nil {
		return nil, err
	}
	k := &Keeping{a: a, hasher: hasher, before: map[string]map[string]Node{}, used: map[tree.Digest]bool{}, progress: progress}
	k.w.a, k.w.now = a, now
	if before == nil {
		return k, nil
	}
	for _, root := range before.Roots {
		if root.Kind == Mods || root.Kind == Game { // see WholeRoot: these are large, and seldom change
			continue
		}
		if err := k.remember(ctx, root); ctx.Err() != nil {
			return nil, ctx.Err()
		} else if err != nil {
			continue // a damaged snapshot only costs reading again
		}
	}
	return k, nil
}

// remember reads what an earlier snapshot has of a root.
func (k *Keeping) remember(ctx context.Context, root Root) error {
	nodes := map[string]Node{}
	err := k.a.Nodes(ctx, root, func(n Node) error { nodes[n.Path] = n; return nil })
	if err == nil {
		k.before[root.Key()] = nodes
	}
	return err
}

// tries is how often a file that changes while it is read is read anew, and pause how long to wait before.
const (
	tries = 5
	pause = 200 * time.Millisecond
)

// reader reads files of one root, one after the other.
type reader struct {
	k   *Keeping
	sha bool
	packer
	small  []byte // the file that is being read
	bundle []byte // small files that make up one entry
	inside []*Node
}

// stable keeps the entries of one group, again until none of them changed meanwhile.
func (r *reader) stable(ctx context.Context, group Group) ([]Node, error) {
	var err error
	for try := range tries {
		if try > 0 {
			select {
			case <-time.After(pause):
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		}
		var nodes []Node
		if nodes, err = r.group(ctx, group); err == nil || !errors.Is(err, tree.ErrBeingWritten) {
			return nodes, err
		}
		for i, e := range group.Entries { // take the new state
			if e, err := tree.Stat(group.Dir, e.Path); err == nil {
				group.Entries[i] = e
			}
		}
	}
	return nil, err
}

func (r *reader) group(ctx context.Context, group Group) ([]Node, error) {
	nodes := make([]Node, len(group.Entries))
	r.bundle, r.inside = r.bundle[:0], r.inside[:0]
	for i, e := range group.Entries {
		switch err := r.node(ctx, group, e, &nodes[i]); {
		case group.apart && unreadable(err) != nil:
			r.k.omit(group.Dir, e, err, &nodes[i])
			group.Entries[i].Kind = tree.Unread
		case err != nil:
			return nil, err
		}
	}
	if err := r.endBundle(); err != nil {
		return nil, err
	}
	for _, e := range group.Entries {
		if e.Kind != tree.File || group.apart && e.Size <= whole { // these were looked at as they were read
			continue
		}
		if now, err := tree.Stat(group.Dir, e.Path); err != nil || !tree.SameState(now, e) {
			return nil, fmt.Errorf("%s %w", filepath.Join(group.Dir, filepath.FromSlash(e.Path)), tree.ErrBeingWritten)
		}
	}
	return nodes, nil
}

// node keeps one entry and makes n say so. A file that an earlier snapshot has and that has not changed is not opened.
func (r *reader) node(ctx context.Context, group Group, e tree.Entry, n *Node) error {
	k, dir := r.k, group.Dir
	if err := ctx.Err(); err != nil {
		return err
	}
	*n = Node{Path: e.Path, Kind: e.Kind, Time: e.ModTime.UTC(), Mode: strconv.FormatUint(uint64(e.Mode.Perm()), 8), Target: e.Target}
	if e.Kind == tree.Unread {
		return e.Err
	}
	if e.Kind != tree.File {
		return nil
	}
	defer k.progress(e.Size)
	n.Size = e.Size
	old, had := group.before[e.Path]
	if sums, ok := k.hasher.Recall(dir, e, r.sha); ok {
		n.Digest, n.SHA256 = sums.Blake3, sums.SHA256
		if had && old.Digest == n.Digest && old.Size == n.Size {
			n.Chunks = old.Chunks
		} else if n.Size <= whole && k.w.holds(n.Digest) && n.Size > 0 {
			n.Chunks = []Chunk{{Blob: n.Digest, Length: n.Size}}
		}
		if (n.Chunks != nil && k.holdsAll(n.Chunks)) || n.Size == 0 {
			k.left.Add(n.Size)
			return nil
		}
	}
	k.copied.Add(n.Size)
	if e.Size <= whole {
		return r.loaded(group, e, n)
	}
	split := r.split
	if had && old.Size > whole {
		split = func(in io.Reader) ([]Chunk, error) { return r.splitAgainst(ctx, old, in) }
	}
	parts, sums, err := r.read(ctx, dir, e, split)
	if err != nil {
		return err
	}
	n.Digest, n.SHA256, n.Chunks = sums.Blake3, sums.SHA256, parts
	return nil
}

// bundled is the size, in bytes, below which files that need not be read together are stored several in one entry, and of such an entry at
// most.
const bundled = 256 << 10

// loaded keeps a file of one part.
func (r *reader) loaded(group Group, e tree.Entry, n *Node) error {
	sums, content, err := r.k.hasher.Load(group.Dir, e, r.sha, r.small)
	if r.small = content; err != nil {
		return err
	}
	n.Digest, n.SHA256 = sums.Blake3, sums.SHA256
	switch {
	case n.Size == 0:
		return nil
	case r.k.w.holds(n.Digest) || !group.apart || n.Size > bundled/4:
		n.Chunks = []Chunk{{Blob: n.Digest, Length: n.Size}}
		return r.k.w.put(&r.packer, n.Digest, content)
	}
	if len(r.bundle)+len(content) > bundled {
		if err := r.endBundle(); err != nil {
			return err
		}
	}
	n.Chunks = []Chunk{{Offset: int64(len(r.bundle)), Length: n.Size}} // its entry is known when the bundle ends
	r.bundle = append(r.bundle, content...)
	r.inside = append(r.inside, n)
	return nil
}

// endBundle stores the small files that were gathered.
func (r *reader) endBundle() error {
	if len(r.inside) == 0 {
		return nil
	}
	d, err := r.k.w.add(&r.packer, r.bundle)
	for _, n := range r.inside {
		n.Chunks[0].Blob = d
	}
	r.bundle, r.inside = r.bundle[:0], r.inside[:0]
	return err
}

// read passes a large file through split while its digests are taken.
func (r *reader) read(ctx context.Context, dir string, e tree.Entry, split func(io.Reader) ([]Chunk, error)) ([]Chunk, tree.Sums, error) {
	pr, pw := io.Pipe()
	type result struct {
		parts []Chunk
		err   error
	}
	done := make(chan result, 1)
	go func() {
		parts, err := split(pr)
		pr.CloseWithError(err)
		done <- result{parts, err}
	}()
	sums, err := r.k.hasher.Read(ctx, dir, e, r.sha, pw)
	pw.CloseWithError(err) // nil ends the stream
	got := <-done
	if err == nil {
		err = got.err
	}
	return got.parts, sums, err
}

func (k *Keeping) holdsAll(parts []Chunk) bool {
	for _, p := range parts {
		if !k.w.holds(p.Blob) {
			return false
		}
	}
	return true
}

// Commit publishes the snapshot, first its content, then its JSON. It looks again whether what it builds on is still there. Its number is
// the next one of the playthrough, and higher than above, the highest that was given elsewhere.
func (k *Keeping) Commit(s *Snapshot, above int) error {
	if err := CheckName(s.Playthrough); err != nil {
		return err
	}
	if err := k.w.publish(); err != nil {
		return err
	}
	files := map[string]bool{}
	for d := range k.used {
		files[k.a.where[d]] = true
	}
	for _, name := range k.reused {
		files[name] = true
	}
	s.Content = s.Content[:0]
	for name := range files {
		if _, err := os.Stat(filepath.Join(k.a.Dir, "content", name)); err != nil {
			return fmt.Errorf("content/%s went away while it was being used: %w", name, err)
		}
		s.Content = append(s.Content, name)
	}
	slices.Sort(s.Content)
	last, err := k.a.Last(s.Playthrough)
	if err != nil {
		return err
	}
	s.Format, s.ID, s.Number, s.Twin, s.Machine = Format, newID(k.w.now), max(last, above)+1, "", host()
	data, err := json.MarshalIndent(s.spelled(), "", " ")
	if err != nil {
		return err
	}
	file := k.a.snapshotFile(s.Playthrough, s.ID)
	if err := os.MkdirAll(filepath.Dir(file), folderMode); err != nil {
		return err
	}
	if err := publish(file, sealJSON(data)); err != nil {
		return err
	}
	k.a.numbersOf[s.Playthrough][s.ID] = s.Number
	return k.a.declare([]string{s.name()}, nil)
}

// TakeOver has the snapshot use the content of an earlier one, so that it may have roots of it as they are. It is fs.ErrNotExist where some of
// that content is not there any more.
func (k *Keeping) TakeOver(s *Snapshot) error {
	for _, name := range s.Content {
		if _, err := os.Stat(filepath.Join(k.a.Dir, "content", name)); err != nil {
			return err
		}
		if k.a.marked[name] {
			return fs.ErrNotExist
		}
	}
	k.reused = append(k.reused, s.Content...)
	return nil
}

// Branch makes a snapshot the first of another playthrough. It shares all its content.
func (a *Archive) Branch(ctx context.Context, s *Snapshot, playthrough, title string, now time.Time) error {
	k, err := a.Keep(ctx, nil, nil, now, func(int64) {})
	if err != nil {
		return err
	}
	defer k.Abandon()
	branch := *s
	branch.Playthrough, branch.Title, branch.Tags, branch.Before = playthrough, title, nil, ""
	k.reused = s.Content
	return k.Commit(&branch, 0)
}

// Stored is how many bytes of content files the snapshot added.
func (k *Keeping) Stored() int64 { return k.w.bytes }

// Abandon ends a snapshot that comes to nothing. Content files that are full already stay, for a keep that is begun again.
func (k *Keeping) Abandon() {
	if k.w.file != nil || len(k.w.done) > 0 {
		k.w.abandon()
	}
}
