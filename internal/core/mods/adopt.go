package mods

import (
	"context"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
)

// Adopting proposes to take over mods that lie there and came some other way: all that are nobody's yet where none is named.
func Adopting(ctx context.Context, h *home.Home, now *assess.Install, names []string) (*Proposal, error) {
	p, err := begin(ctx, h, now.State, "mods adopt")
	if err != nil {
		return nil, err
	}
	w := p.work
	mods, err := w.nobodys(names)
	if err != nil {
		return nil, err
	}
	for _, m := range mods {
		if w.owner(m) != nil {
			continue // it came with the one before, as one
		}
		e, err := w.adopt(m)
		if err != nil {
			return nil, err
		}
		w.replace(nil, e)
		p.Items = append(p.Items, Item{Verb: Adopt, Name: m.Name(), ID: m.ID, Version: m.Version, Files: len(e.Files), Bytes: e.Bytes(), From: e.From})
	}
	if len(p.Items) == 0 {
		p.Reason = "every mod of " + now.Called + " has a ledger already"
	}
	return p.finish()
}

// nobodys are the mods that lie there and have no entry: those named, else all.
func (w *work) nobodys(names []string) ([]*mod.Mod, error) {
	var mods []*mod.Mod
	for _, name := range names {
		e, some, err := w.found(name)
		if err != nil {
			return nil, err
		}
		if e != nil {
			return nil, problem.Usage(problem.Do("mods", w.st.Called), "%s has a ledger already", e.Name())
		}
		for _, m := range some {
			if m.Folder.Managed {
				return nil, problem.Usage(problem.Do("mods pin", w.st.Called+"+"+m.ID), "another program owns %s, which is never written", m.Dir())
			}
		}
		mods = append(mods, some...)
	}
	if len(names) > 0 {
		return mods, nil
	}
	for _, m := range w.st.Mods.Mods {
		if !m.Kind.Base && !m.Folder.Managed && w.owner(m) == nil && !m.Unreadable() {
			mods = append(mods, m)
		}
	}
	return mods, nil
}

// owner is the entry that has a mod, or nil.
func (w *work) owner(m *mod.Mod) *ledger.Entry {
	root, rel, err := w.placeOf(m)
	for _, e := range w.then {
		if err == nil && e.State == ledger.InPlace && slices.ContainsFunc(e.Files, func(f ledger.File) bool {
			return f.Root == root && (f.Path == rel || strings.HasPrefix(f.Path, rel+"/"))
		}) {
			return e
		}
	}
	return nil
}

// placeOf is where a mod lies: where its link does, where it is one.
func (w *work) placeOf(m *mod.Mod) (root, rel string, err error) {
	return w.st.Install.PlaceOf(w.ctx, filepath.Join(tree.Real(m.Folder.Path), filepath.FromSlash(m.Path)))
}

// adopt is the entry of a mod that lies there: of a pack, of all of it.
func (w *work) adopt(m *mod.Mod) (*ledger.Entry, error) {
	e := &ledger.Entry{Game: w.st.Install.Game.ID, Install: w.st.Install.Address(), Kind: m.Kind.ID, ID: m.ID, Version: m.Version, Title: m.Title,
		Order: w.nextOrder(), Came: w.h.Now().UTC(), Adopted: true}
	top := m.Path
	if m.Pack != "" {
		top = strings.SplitN(m.Path, "/", 2)[0]
		for _, o := range w.st.Mods.Mods {
			if o.Kind == m.Kind && o.Folder.Path == m.Folder.Path && strings.HasPrefix(o.Path, top+"/") {
				e.Mods = append(e.Mods, o.ID)
			}
		}
		e.ID, e.Version, e.Title = top, "", ""
	}
	e.From = []ledger.Source{{Name: "found in " + path.Base(m.Folder.Path)}}
	files, err := w.filesOf(m, top)
	if err != nil {
		return nil, err
	}
	e.Files = files
	if commit := checkoutOf(m); commit != nil {
		e.From = []ledger.Source{*commit}
	}
	return e, nil
}

// filesOf are the files of what lies at the top of a mod's folder.
func (w *work) filesOf(m *mod.Mod, top string) ([]ledger.File, error) {
	dir := tree.Real(m.Folder.Path)
	root, base, err := w.st.Install.PlaceOf(w.ctx, filepath.Join(dir, filepath.FromSlash(top)))
	if err != nil {
		return nil, err
	}
	var files []ledger.File
	take := func(rel string) error {
		f, err := w.lies(ledger.Place{Root: root, Path: rel}, nil)
		if err == nil && f != nil {
			files = append(files, *f)
			if isText(*f) {
				w.hold(f)
			}
		}
		return err
	}
	lies, err := w.lies(ledger.Place{Root: root, Path: base}, nil)
	if err != nil {
		return nil, err
	}
	if m.Kind.Unit == game.UnitFile || lies != nil && lies.Link != "" {
		err := take(base)
		return files, err
	}
	var dirs []string
	full, err := w.path(ledger.Place{Root: root, Path: base})
	if err != nil {
		return nil, err
	}
	err = tree.Walk(w.ctx, full, func(e tree.Entry) error {
		switch {
		case e.Kind == tree.Dir && e.Path == gitDir:
			return fs.SkipDir
		case e.Kind == tree.Dir:
			dirs = append(dirs, e.Path)
			return nil
		case e.Kind == tree.Special, e.Kind == tree.Unread, e.Path == gitDir, strings.HasPrefix(e.Path, gitDir+"/"):
			return nil
		}
		return take(path.Join(base, e.Path))
	})
	for _, d := range dirs {
		if !slices.ContainsFunc(files, func(f ledger.File) bool { return strings.HasPrefix(f.Path, path.Join(base, d)+"/") }) &&
			!slices.ContainsFunc(dirs, func(o string) bool { return strings.HasPrefix(o, d+"/") }) {
			files = append(files, ledger.File{Root: root, Path: path.Join(base, d), Dir: true, Mode: 0o755})
		}
	}
	slices.SortFunc(files, func(a, b ledger.File) int { return comparePlaces(a.Place(), b.Place()) })
	return files, err
}
