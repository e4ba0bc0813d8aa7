package mods

import (
	"path"
	"slices"

	"ostrov/internal/core/ledger"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
)

// want is what one path is to become.
type want struct {
	at   ledger.Place
	file *ledger.File  // nil: nothing
	of   *ledger.Entry // whose change it is
	// back tells that it is what a mod had covered.
	back bool
}

// arrange plans the steps from what lies in the folders to what the ledger will say, and the ledger itself.
func (w *work) arrange() error {
	before, after := ledger.NewShelf(w.now, rank(w.presentOrder())), ledger.NewShelf(w.then, rank(w.order))
	bottoms := ledger.Bottoms(w.now)
	w.made, w.before, w.after = before.Folders(), before, after
	var wants []want
	for _, p := range places(before, after) {
		wanted, err := w.decide(p, before, after, bottoms)
		if err != nil {
			return err
		}
		if wanted != nil {
			wants = append(wants, *wanted)
		}
	}
	wants = append(wants, w.extra...)
	after = ledger.NewShelf(w.then, rank(w.order)) // with what was found out about edited files
	for p, f := range bottoms {
		if f.Dir {
			w.folders[p] = true
		}
	}
	after.Settle(bottoms)
	w.then = after.Entries()
	for _, f := range after.Hidden() {
		w.hold(&f)
	}
	for _, f := range ledger.Bottoms(w.then) {
		w.hold(&f)
	}
	if err := w.steps(wants); err != nil {
		return err
	}
	if err := w.list.plan(w); err != nil {
		return err
	}
	w.enter()
	return nil
}

// places are all paths that mods have now or then, in order.
func places(a, b *ledger.Shelf) []ledger.Place {
	all := append(a.Places(), b.Places()...)
	slices.SortFunc(all, comparePlaces)
	return slices.Compact(all)
}

// decide says what is to become of a path; nil is that it stays as it is.
func (w *work) decide(p ledger.Place, before, after *ledger.Shelf, bottoms map[ledger.Place]ledger.File) (*want, error) {
	was, said := before.Top(p)
	is, will := after.Top(p)
	if was != nil && is != nil && was.Key() == is.Key() && said.Same(will) && said.Entry().Mode == will.Entry().Mode {
		return nil, nil
	}
	lies, err := w.lies(p, &said)
	if err != nil {
		return nil, err
	}
	switch {
	case was == nil:
		return w.cover(p, is, will, lies, bottoms)
	case is == nil:
		return w.uncover(p, was, said, lies, bottoms)
	}
	edited := lies != nil && !isOwn(lies, said) && !lies.Same(will)
	if was.Key() == is.Key() && lies != nil && !lies.Same(will) && isYours(lies, said) {
		return w.mergeInto(p, is, said, will, lies)
	}
	if edited { // the edit stays with its mod, below the other one
		w.edited(was, said, lies)
	}
	if isOwn(lies, will) {
		return nil, nil
	}
	return &want{at: p, file: &will, of: is}, nil
}

// cover puts a mod's file where none of a mod lies.
func (w *work) cover(p ledger.Place, is *ledger.Entry, will ledger.File, lies *ledger.File, bottoms map[ledger.Place]ledger.File) (*want, error) {
	if !is.Adopted { // the folders of one that lies there are its own
		if err := w.coverFolders(p, bottoms); err != nil {
			return nil, err
		}
	}
	switch {
	case lies == nil:
	case lies.Dir && will.Dir:
		return nil, nil // a folder that is there already is nobody's
	case lies.Dir && w.empties(p):
	case lies.Dir != will.Dir:
		full, err := w.path(p)
		if err != nil {
			return nil, err
		}
		return nil, problem.Usage(problem.Advise("move it away first"), "%s has a file %s, and a folder of that name lies there, or the other way round; nothing has been changed", is.Name(), full)
	case is.Adopted && isOwn(lies, will):
		return nil, nil
	default:
		if _, ok := bottoms[p]; !ok {
			bottoms[p] = *lies
		}
		w.hold(lies)
		if lies.Same(will) {
			return nil, nil
		}
	}
	return &want{at: p, file: &will, of: is}, nil
}

// empties reports whether all that lies in a folder is of mods that take it away.
func (w *work) empties(p ledger.Place) bool {
	full, err := w.path(p)
	if err != nil {
		return false
	}
	all := true
	err = tree.Walk(w.ctx, full, func(e tree.Entry) error {
		at := ledger.Place{Root: p.Root, Path: p.Path + "/" + e.Path}
		was, said := w.before.Top(at)
		is, _ := w.after.Top(at)
		if e.Kind == tree.Dir {
			return nil
		}
		lies, err := w.lies(at, &said)
		all = all && err == nil && was != nil && is == nil && !isYours(lies, said)
		return err
	})
	return err == nil && all
}

// coverFolders notes the folders around a path that are there and that no mod made, so that they stay when the mods go.
func (w *work) coverFolders(p ledger.Place, bottoms map[ledger.Place]ledger.File) error {
	for dir := path.Dir(p.Path); dir != "."; dir = path.Dir(dir) {
		at := ledger.Place{Root: p.Root, Path: dir}
		if w.seen[at] || w.made[at] {
			continue
		}
		w.seen[at] = true
		lies, err := w.lies(at, nil)
		if err != nil {
			return err
		}
		if lies != nil && lies.Dir {
			bottoms[at] = *lies
		}
	}
	return nil
}

// uncover takes a mod's file away: what it had covered comes back.
func (w *work) uncover(p ledger.Place, was *ledger.Entry, said ledger.File, lies *ledger.File, bottoms map[ledger.Place]ledger.File) (*want, error) {
	bottom, covered := bottoms[p]
	delete(bottoms, p)
	edited := lies != nil && isYours(lies, said)
	stays := w.dropping || w.updated(was) // else it goes with its mod, and comes back with it
	full, err := w.path(p)
	if err != nil {
		return nil, err
	}
	switch {
	case edited && stays && !covered:
		w.keep(full, "you have changed it: it stays")
		return nil, nil
	case edited && stays:
		w.hold(lies)
		w.keep(full, "you have changed it: what it covered comes back, and undo brings your version back")
	case edited:
		w.edited(was, said, lies)
	case lies == nil && !covered:
		return nil, nil
	}
	if covered {
		if lies != nil && lies.Same(bottom) {
			return nil, nil
		}
		return &want{at: p, file: &bottom, of: was, back: true}, nil
	}
	return &want{at: p, of: was}, nil
}

// updated reports whether a mod is in place then, too, without one of its files.
func (w *work) updated(was *ledger.Entry) bool {
	return slices.ContainsFunc(w.then, func(e *ledger.Entry) bool { return e.Key() == was.Key() && e.State == ledger.InPlace })
}

// keep names a file of the player's.
func (w *work) keep(full, how string) { w.p.Kept = append(w.p.Kept, KeptFile{full, how}) }

// edited notes in the ledger that the player has changed a file of a mod, so that it comes back as it is now.
func (w *work) edited(of *ledger.Entry, said ledger.File, lies *ledger.File) {
	for i, e := range w.then {
		if e.Key() != of.Key() {
			continue
		}
		changed := *e
		changed.Files = slices.Clone(e.Files)
		for j, f := range changed.Files {
			if f.Place() == said.Place() {
				came := f.Came
				if came.IsZero() {
					came = f.Digest
				}
				changed.Files[j] = *lies
				changed.Files[j].Came = came
			}
		}
		w.then[i] = &changed
		w.hold(lies)
	}
}

// enter plans what the ledger will say.
func (w *work) enter() {
	key := map[ledger.Key]*ledger.Entry{}
	for _, e := range w.now {
		if !slices.Contains(w.adopted, e) {
			key[e.Key()] = e
		}
	}
	for _, e := range w.then {
		before := key[e.Key()]
		delete(key, e.Key())
		if before != e {
			w.p.Enter(before, e)
		}
	}
	for _, e := range w.now {
		if _, gone := key[e.Key()]; gone {
			w.p.Enter(e, nil)
		}
	}
}
