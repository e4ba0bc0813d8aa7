package mods

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/facts"
	"ostrov/internal/core/home"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/tree"
)

// opener opens one content.
type opener = func() (io.ReadCloser, error)

// work is what becomes of the mods of an install: the ledger now and then, and where contents are to be had from. arrange turns the difference
// into steps.
type work struct {
	ctx context.Context
	h   *home.Home
	st  *facts.State
	p   *Proposal

	now  []*ledger.Entry
	then []*ledger.Entry
	// order is the load order that will be, by id in lower case; where the game has none, it is empty.
	order []string
	// sources are contents that come from elsewhere.
	sources map[tree.Digest]opener
	// left is what earlier changes took away, of mods that come back, by folder and name.
	left map[ledger.Place][]plan.Left
	// whole are folders that are a mod's own: they are set aside with all that is in them.
	whole map[ledger.Place]bool
	// folders are those that no mod made: they stay. made are those in which mods in place have something, seen those that were looked at.
	folders, made, seen map[ledger.Place]bool
	roots               map[string]string
	disk                map[ledger.Place]*ledger.File // what lies there now; nil is nothing
	before, after       *ledger.Shelf
	// dropping tells that edited files of a mod that goes stay.
	dropping bool
	adopted  []*ledger.Entry  // as a part of what is done with them
	unowned  func(mod string) // is told of mods that have no entry
	swaps    []want           // the player's versions of files, of another playthrough
	extra    []want           // what comes beside edited files
	list     *listEdit
}

func newWork(ctx context.Context, h *home.Home, st *facts.State, p *Proposal, now []*ledger.Entry) *work {
	w := &work{ctx: ctx, h: h, st: st, p: p, now: now, then: slices.Clone(now), sources: map[tree.Digest]opener{}, whole: map[ledger.Place]bool{},
		folders: map[ledger.Place]bool{}, seen: map[ledger.Place]bool{}, roots: map[string]string{}, disk: map[ledger.Place]*ledger.File{}}
	if st.Mods.Ordered {
		for _, m := range st.Mods.Mods {
			if m.Order > 0 {
				w.order = append(w.order, strings.ToLower(m.ID))
			}
		}
	}
	return w
}

// rank is the place of a mod in a load order, 0 for none.
func rank(order []string) func(*ledger.Entry) int {
	return func(e *ledger.Entry) int {
		best := 0
		for i, id := range order {
			if e.Is(id) {
				best = i + 1
			}
		}
		return best
	}
}

// presentOrder is the load order now.
func (w *work) presentOrder() []string {
	var order []string
	for _, m := range w.st.Mods.Mods {
		if w.st.Mods.Ordered && m.Order > 0 {
			order = append(order, strings.ToLower(m.ID))
		}
	}
	return order
}

// replace makes an entry of the ledger another one; after is nil for one that goes, before for one that comes.
func (w *work) replace(before, after *ledger.Entry) {
	i := slices.Index(w.then, before)
	switch {
	case before == nil:
		w.then = append(w.then, after)
	case after == nil:
		w.then = slices.Delete(w.then, i, i+1)
	default:
		w.then[i] = after
	}
}

// nextOrder is the number of the next mod that comes in.
func (w *work) nextOrder() int64 {
	var last int64
	for _, e := range slices.Concat(w.now, w.then) {
		last = max(last, e.Order)
	}
	return last + 1
}

// root is where a root of the ledger lies.
func (w *work) root(name string) (string, error) {
	if dir, ok := w.roots[name]; ok {
		return dir, nil
	}
	dir, err := w.st.Install.RootOf(w.ctx, name)
	if err == nil {
		w.roots[name] = dir
	}
	return dir, err
}

// path is where a place lies on this machine.
func (w *work) path(p ledger.Place) (string, error) {
	dir, err := w.root(p.Root)
	return filepath.Join(dir, filepath.FromSlash(p.Path)), err
}

// lies is what lies at a place now, nil for nothing. known is what the ledger says of it: with its size and time it is not read again.
func (w *work) lies(p ledger.Place, known *ledger.File) (*ledger.File, error) {
	if f, ok := w.disk[p]; ok {
		return f, nil
	}
	f, err := w.look(p, known)
	if err == nil {
		w.disk[p] = f
	}
	return f, err
}

func (w *work) look(p ledger.Place, known *ledger.File) (*ledger.File, error) {
	dir, err := w.root(p.Root)
	if err != nil {
		return nil, err
	}
	e, err := tree.Stat(dir, p.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	f := &ledger.File{Root: p.Root, Path: p.Path, Mode: e.Mode.Perm(), Time: e.ModTime.UTC()}
	switch e.Kind {
	case tree.Dir:
		f.Dir = true
	case tree.Link:
		f.Link = e.Target
	case tree.File:
		f.Size = e.Size
		sums, recalled := w.h.Hasher.Recall(dir, e, false)
		if !recalled {
			if sums, err = w.h.Hasher.File(w.ctx, dir, e, false); err != nil {
				return nil, err
			}
		}
		f.Digest = sums.Blake3
	}
	return f, nil
}

// isOwn reports whether what lies at a place is what the ledger says.
func isOwn(lies *ledger.File, said ledger.File) bool {
	return lies != nil && (lies.Same(said) || lies.Dir && said.Dir)
}

// isYours reports whether what lies at a place has the player's changes in it: now, or when the ledger was written.
func isYours(lies *ledger.File, said ledger.File) bool {
	return !isOwn(lies, said) || !said.Came.IsZero() && lies.Digest != said.Came
}

// open opens a content: what comes in, what the store has, what lies aside, what lies in the folders.
func (w *work) open(d tree.Digest, at ledger.Place) opener {
	if open, ok := w.sources[d]; ok {
		return open
	}
	return func() (io.ReadCloser, error) {
		if f, err := w.h.Store().Open(d); err == nil {
			return f, nil
		}
		full, err := w.path(at)
		if err != nil {
			return nil, err
		}
		if there := w.disk[at]; there != nil && there.Digest == d {
			return tree.Open(full)
		}
		for _, lies := range w.leftAt(at) {
			if w.isContent(lies, d) {
				return os.Open(lies)
			}
		}
		return tree.Open(full)
	}
}

// find finds what earlier changes took away of mods that are to come back.
func (w *work) find(entries []*ledger.Entry) error {
	left, err := plan.LeftBy(w.ctx, w.h, w.st.Install, entries)
	if err != nil {
		return err
	}
	if w.left == nil {
		w.left = map[ledger.Place][]plan.Left{}
	}
	for _, l := range left {
		at := ledger.Place{Root: l.Root, Path: l.Name}
		w.left[at] = append(w.left[at], l)
	}
	return nil
}

// leftAt is where files lie that earlier changes took away from a place, or in a folder around it.
func (w *work) leftAt(p ledger.Place) []string {
	root, err := w.root(p.Root)
	if err != nil || w.left == nil {
		return nil
	}
	var all []string
	for name := p.Path; name != "."; name = path.Dir(name) {
		for _, l := range w.left[ledger.Place{Root: root, Path: name}] {
			all = append(all, l.Within(root, p.Path))
		}
	}
	return all
}

// isContent reports whether a file has a digest.
func (w *work) isContent(file string, d tree.Digest) bool {
	e, err := tree.Stat(filepath.Dir(file), filepath.Base(file))
	if err != nil || e.Kind != tree.File {
		return false
	}
	sums, err := w.h.Hasher.File(w.ctx, filepath.Dir(file), e, false)
	return err == nil && sums.Blake3 == d
}

// sourceBytes notes that a content comes from memory.
func (w *work) sourceBytes(d tree.Digest, data []byte) {
	w.sources[d] = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(data)), nil }
}

// hold has the store keep what lies at a place.
func (w *work) hold(f *ledger.File) {
	if f == nil || f.Digest.IsZero() || w.h.Store().Has(f.Digest) {
		return
	}
	w.p.Hold(f.Digest, w.open(f.Digest, f.Place()))
}
