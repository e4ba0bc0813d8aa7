package archive

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"iter"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"ostrov/internal/core/tree"
)

// Group is entries found in one folder that must be read without any change in between: all files of one save.
type Group struct {
	Dir     string
	Entries []tree.Entry
	// Busy is called, from several goroutines, where the entries go on changing: then they are left out. Without it that is an error.
	Busy func()
	// apart tells that the entries need not be read together. Then small files are stored several in one entry of the archive: one by one
	// they would be packed badly, and slowly.
	apart  bool
	before map[string]Node // what an earlier snapshot has of them, by path
}

// Root keeps groups of entries as one root of the snapshot and returns it with its listing, which is held in memory: for what is small.
// Groups are read side by side; one that goes on changing is tree.ErrBeingWritten. sha asks for the SHA-256 of every file.
func (k *Keeping) Root(ctx context.Context, root Root, groups []Group, sha bool) (Root, []Node, error) {
	for i := range groups {
		groups[i].before = k.before[root.Key()]
	}
	var nodes []Node
	err := k.each(ctx, sha, slices.Values(groups), func(read []Node) error { nodes = append(nodes, read...); return nil })
	if err != nil {
		return root, nil, err
	}
	slices.SortFunc(nodes, func(a, b Node) int { return strings.Compare(a.Path, b.Path) })
	l := k.listing(root)
	for _, n := range nodes {
		l.add(n)
	}
	root, _, err = l.end(nil)
	return root, nodes, err
}

// WholeRoot keeps the entries of a folder, dir, which come in order of their paths, as a root of the snapshot, without SHA-256, holding no
// more than some of them in memory. It takes the root over from before without looking at single files where none of the entries has
// changed since: then it costs no more than finding them. place names it in the hasher's notes. visit is told each entry that was kept, in
// order, and each that is Unread; of what was taken over it is told nothing. entries may be asked for several times.
func (k *Keeping) WholeRoot(ctx context.Context, place string, before *Snapshot, root Root, dir string, entries iter.Seq[tree.Entry], visit func(Node)) (Root, error) {
	var known taken
	var err error
	missed := false
	k.hasher.Once(place, tree.Digest{2}, dir+"\x00"+k.a.ID+root.Key(), entries, &known, func() bool {
		missed = true
		known, err = k.freshRoot(ctx, before, root, dir, entries, visit)
		return err == nil && !known.partial
	})
	if err != nil || missed {
		return known.Root, err
	}
	for _, name := range known.Content {
		if _, err := os.Stat(filepath.Join(k.a.Dir, "content", name)); err != nil || k.a.marked[name] { // cleared meanwhile
			known, err = k.freshRoot(ctx, before, root, dir, entries, visit)
			return known.Root, err
		}
	}
	k.reused = append(k.reused, known.Content...)
	k.left.Add(known.Root.Bytes)
	k.progress(known.Root.Bytes)
	return known.Root, nil
}

// taken is what is noted of a root that was kept, to take it over whole while nothing in it has changed.
type taken struct {
	Archive string   `json:"archive"`
	Root    Root     `json:"root"`
	Content []string `json:"content"`
	partial bool
}

// freshRoot keeps a root by its files and says which content it uses.
func (k *Keeping) freshRoot(ctx context.Context, before *Snapshot, root Root, dir string, entries iter.Seq[tree.Entry], visit func(Node)) (taken, error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	old := k.former(ctx, before, root)
	defer old.stop()
	l := k.listing(root)
	err := k.each(ctx, false, batches(dir, entries, old), func(read []Node) error {
		for _, n := range read {
			l.add(n)
			visit(n)
		}
		return nil
	})
	root, used, err := l.end(err)
	t := taken{Archive: k.a.ID, Root: root, partial: l.partial}
	if err != nil {
		return t, err
	}
	t.Content, err = k.contentOf(used)
	return t, err
}

// contentOf names the content files that entries lie in, publishing those that are new.
func (k *Keeping) contentOf(used map[tree.Digest]bool) ([]string, error) {
	if err := k.w.publish(); err != nil {
		return nil, err
	}
	files := map[string]bool{}
	for d := range used {
		files[k.a.where[d]] = true
	}
	return slices.Sorted(maps.Keys(files)), nil
}

// Entries that need not be read together are read so many at a time, by one worker. Where another mod begins a batch ends, if it has some
// already: the same mods make the same batches, and are stored once.
const (
	batch      = 64
	shortBatch = 16
)

// batches makes groups of entries in order, and brings to each what an earlier snapshot has of it.
func batches(dir string, entries iter.Seq[tree.Entry], old *former) iter.Seq[Group] {
	return func(yield func(Group) bool) {
		var g Group
		last := ""
		begin := func() {
			g = Group{Dir: dir, Entries: make([]tree.Entry, 0, batch), apart: true, before: map[string]Node{}}
		}
		begin()
		for e := range entries {
			top, _, _ := strings.Cut(e.Path, "/")
			if len(g.Entries) == batch || len(g.Entries) >= shortBatch && top != last {
				if !yield(g) {
					return
				}
				begin()
			}
			last = top
			g.Entries = append(g.Entries, e)
			if n, ok := old.at(e.Path); ok {
				g.before[e.Path] = n
			}
		}
		if len(g.Entries) > 0 {
			yield(g)
		}
	}
}

// former is what an earlier snapshot has of a root, to be asked for in order.
type former struct {
	next func() (Node, bool)
	stop func()
	node Node
	ok   bool
}

var errStopped = errors.New("stopped")

// former opens what before has of a root. A damaged snapshot has less, which only costs reading again.
func (k *Keeping) former(ctx context.Context, before *Snapshot, root Root) *former {
	f := &former{stop: func() {}}
	if before == nil {
		return f
	}
	i := slices.IndexFunc(before.Roots, func(r Root) bool { return r.Key() == root.Key() })
	if i < 0 {
		return f
	}
	f.next, f.stop = iter.Pull(func(yield func(Node) bool) {
		_ = k.a.Nodes(ctx, before.Roots[i], func(n Node) error {
			if !yield(n) {
				return errStopped
			}
			return nil
		})
	})
	f.node, f.ok = f.next()
	return f
}

// at is what there is of a path; paths must be asked for in order.
func (f *former) at(path string) (Node, bool) {
	for f.ok && f.node.Path < path {
		f.node, f.ok = f.next()
	}
	if f.ok && f.node.Path == path {
		return f.node, true
	}
	return Node{}, false
}

// task is a group that a worker reads.
type task struct {
	group Group
	nodes chan []Node
}

// each reads groups side by side and hands what it kept of them to take, in their order. Few groups are on their way at once.
func (k *Keeping) each(ctx context.Context, sha bool, groups iter.Seq[Group], take func([]Node) error) error {
	work, ctx := errgroup.WithContext(ctx)
	workers := runtime.GOMAXPROCS(0)
	tasks, order := make(chan task), make(chan task, 4*workers)
	work.Go(func() error {
		defer close(tasks)
		defer close(order)
		for g := range groups {
			t := task{g, make(chan []Node, 1)}
			for _, to := range []chan task{order, tasks} {
				select {
				case to <- t:
				case <-ctx.Done():
					return ctx.Err()
				}
			}
		}
		return nil
	})
	for range workers {
		work.Go(func() error {
			r := &reader{k: k, sha: sha}
			for t := range tasks {
				nodes, err := r.stable(ctx, t.group)
				if t.group.Busy != nil && errors.Is(err, tree.ErrBeingWritten) {
					t.group.Busy()
					nodes, err = nil, nil
				}
				if err != nil {
					return err
				}
				t.nodes <- nodes
			}
			return nil
		})
	}
	work.Go(func() error {
		for t := range order {
			select {
			case nodes := <-t.nodes:
				if err := take(nodes); err != nil {
					return err
				}
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		return nil
	})
	return work.Wait()
}

// listing writes the listing of a root as its entries come.
type listing struct {
	k     *Keeping
	root  Root
	used  map[tree.Digest]bool
	out   *io.PipeWriter
	lines *json.Encoder
	err   error
	// partial tells that something is missing in it which could not be read.
	partial bool
	parts   chan splitResult
}

type splitResult struct {
	parts []Chunk
	err   error
}

func (k *Keeping) listing(root Root) *listing {
	in, out := io.Pipe()
	l := &listing{k: k, root: root, used: map[tree.Digest]bool{}, out: out, lines: json.NewEncoder(out), parts: make(chan splitResult, 1)}
	l.lines.SetEscapeHTML(false)
	go func() {
		parts, err := (&reader{k: k}).split(in)
		in.CloseWithError(err)
		l.parts <- splitResult{parts, err}
	}()
	_, l.err = io.WriteString(out, listingHead+"\n")
	return l
}

func (l *listing) add(n Node) {
	if n.Kind == tree.Unread { // the keeping names it
		l.partial = true
		return
	}
	if n.Kind == tree.File {
		l.root.Files++
		l.root.Bytes += n.Size
	}
	for _, p := range n.Chunks {
		l.used[p.Blob] = true
	}
	if l.err == nil {
		l.err = l.lines.Encode(n.spelled())
	}
}

// end ends the listing, for good where err is nil, and returns the root and the entries that it uses.
func (l *listing) end(err error) (Root, map[tree.Digest]bool, error) {
	l.out.CloseWithError(errors.Join(err, l.err)) // nil ends the stream
	result := <-l.parts
	if err = errors.Join(err, l.err); err == nil {
		err = result.err
	}
	if err != nil {
		return l.root, nil, err
	}
	for _, p := range result.parts {
		l.used[p.Blob] = true
	}
	for d := range l.used {
		l.k.used[d] = true
	}
	l.root.Listing = result.parts
	return l.root, l.used, nil
}
