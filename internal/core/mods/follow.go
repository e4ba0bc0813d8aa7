package mods

import (
	"bytes"
	"context"
	"slices"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/assess"
	"ostrov/internal/core/home"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/plan"
)

// Following says which playthrough makes way for which.
type Following struct {
	From, To string
	// Clean tells that the one that comes is played without mods.
	Clean bool
}

// Follow adds to a plan that brings another playthrough what that means for the mods: what was pinned for one is set aside while another is
// played, what the player changed in mods for one is not there for another, and a playthrough without mods has them all set aside. Mods that
// the plan itself brings from a snapshot are left to it. finder stays open until the plan is carried out.
func Follow(ctx context.Context, finder *Finder, now *assess.Install, p *plan.Plan, f Following) error {
	h := finder.h
	entries, err := h.Ledger(ctx, now.Install)
	if err != nil {
		return err
	}
	prop := &Proposal{Plan: p}
	w := newWork(ctx, h, now.State, prop, entries)
	clean, err := h.CleanLines()
	if err != nil {
		return err
	}
	if f.Clean || clean[f.To] {
		if err := w.asideBut(nil); err != nil {
			return err
		}
	}
	if err := w.find(slices.DeleteFunc(slices.Clone(w.now), func(e *ledger.Entry) bool { return e.State == ledger.InPlace })); err != nil {
		return err
	}
	for _, e := range slices.Clone(w.then) {
		switch {
		case e.Kind == listKind || w.plannedAlready(e):
		case e.For != "" && e.For != f.To && e.State == ledger.InPlace:
			_, err = w.setAside(e, ledger.Off, Off)
		case e.For == f.To && e.For != "" && e.State == ledger.Off:
			_, err = w.bring(e, On)
		case e.State == ledger.Aside && !f.Clean && !clean[f.To] && clean[f.From]:
			_, err = w.bring(e, Back)
		case e.State == ledger.InPlace:
			err = w.swapEdits(finder, e, f)
		}
		if err != nil {
			return err
		}
	}
	if err := w.arrange(); err != nil {
		return err
	}
	if err := w.swapped(); err != nil {
		return err
	}
	if a, err := h.Archive(); err == nil {
		if snap, err := a.Newest(f.To, archive.Any); err == nil && snap != nil {
			if err := Restored(ctx, finder, now, p, snap); err != nil {
				return err
			}
		}
	}
	for _, k := range prop.Kept {
		p.Warnings = append(p.Warnings, k.Path+": "+k.How)
	}
	return p.Err()
}

// plannedAlready reports whether the plan has a step for where a mod lies.
func (w *work) plannedAlready(e *ledger.Entry) bool {
	return slices.ContainsFunc(e.Files, func(f ledger.File) bool {
		root, err := w.root(f.Root)
		return err == nil && w.p.Touches(root, f.Path)
	})
}

// swapEdits exchanges what the player changed in a mod for one playthrough by what was changed for another.
func (w *work) swapEdits(finder *Finder, e *ledger.Entry, f Following) error {
	after := *e
	after.Edits = map[string][]ledger.File{}
	for line, files := range e.Edits {
		if line != f.From {
			after.Edits[line] = files
		}
	}
	shelf := ledger.NewShelf(w.now, rank(w.presentOrder()))
	changed := false
	for _, file := range e.Files {
		if top, _ := shelf.Top(file.Place()); top == nil || top.Key() != e.Key() || file.Digest.IsZero() {
			continue
		}
		lies, err := w.lies(file.Place(), &file)
		if err != nil {
			return err
		}
		if lies == nil || lies.Dir {
			continue
		}
		if f.From != "" && !lies.Same(file) {
			after.Edits[f.From] = append(after.Edits[f.From], *lies)
			w.hold(lies)
		}
		version := file
		if i := slices.IndexFunc(e.Edits[f.To], func(o ledger.File) bool { return o.Place() == file.Place() }); i >= 0 {
			version = e.Edits[f.To][i]
		}
		if version.Same(*lies) {
			continue
		}
		open, err := finder.find(w.ctx, e, version)
		if err != nil {
			return err
		}
		full, err := w.path(file.Place())
		if err != nil {
			return err
		}
		if open == nil {
			w.keep(full, "it was changed for "+f.From+", and is not to be had any more as it came: it stays")
			continue
		}
		w.sources[version.Digest] = open
		w.swaps = append(w.swaps, want{at: file.Place(), file: &version, of: e})
		changed = true
	}
	if changed || len(after.Edits[f.From]) > 0 || len(e.Edits[f.From]) > 0 {
		w.replace(e, &after)
	}
	return nil
}

// swapped plans the steps of exchanged edits.
func (w *work) swapped() error {
	by := map[ledger.Key][]goal{}
	var order []*ledger.Entry
	for _, one := range w.swaps {
		if by[one.of.Key()] == nil {
			order = append(order, one.of)
		}
		by[one.of.Key()] = append(by[one.of.Key()], goal{one.at, []want{one}})
	}
	for _, e := range order {
		step := plan.Step{What: e.Name(), Note: count(len(by[e.Key()]), "file of yours", "files of yours")}
		if err := w.step(step, false, by[e.Key()]); err != nil {
			return err
		}
	}
	return nil
}

// Restored adds to a plan that brings mods back from a snapshot what that means for the ledger: what the snapshot's own ledger says of them. Files of
// theirs that the snapshot does not have, since they lie outside the folders of mods, come from the store or from the archive's downloads; a mod
// of which one is nowhere is left without a ledger, and named. finder stays open until the plan is carried out.
func Restored(ctx context.Context, finder *Finder, now *assess.Install, p *plan.Plan, snap *archive.Snapshot) error {
	h := finder.h
	kept, err := keptLedger(ctx, h, snap)
	if err != nil || len(kept) == 0 {
		return err
	}
	entries, err := h.Ledger(ctx, now.Install)
	if err != nil {
		return err
	}
	w := newWork(ctx, h, now.State, &Proposal{Plan: p}, entries)
	for _, e := range kept {
		e.Install = now.Install.Address()
		if e.State != ledger.InPlace || e.Kind == listKind || !w.plannedAlready(e) {
			continue
		}
		goals, missing, err := w.rest(finder, e)
		if err != nil {
			return err
		}
		if missing != "" {
			p.Warnings = append(p.Warnings, e.Name()+": "+missing+" is neither in the snapshot nor to be had from elsewhere; add the mod anew")
			continue
		}
		var before *ledger.Entry
		if i := slices.IndexFunc(entries, func(o *ledger.Entry) bool { return o.Key() == e.Key() }); i >= 0 {
			before = entries[i]
			e.Covered = before.Covered
		} else {
			e.Covered = nil
		}
		if err := w.coverAll(e, goals); err != nil {
			return err
		}
		if len(goals) > 0 {
			if err := w.step(plan.Step{What: e.Name(), Note: count(len(goals), "file outside the folder of mods", "files outside the folder of mods")}, false, goals); err != nil {
				return err
			}
		}
		p.Enter(before, e)
	}
	return p.Err()
}

// rest are the files of a mod that a plan does not bring and that do not lie there; missing is one that is nowhere.
func (w *work) rest(finder *Finder, e *ledger.Entry) (goals []goal, missing string, err error) {
	for _, f := range e.Files {
		root, err := w.root(f.Root)
		if err != nil {
			return nil, f.Path, nil
		}
		if f.Digest.IsZero() || w.p.Touches(root, f.Path) {
			continue
		}
		lies, err := w.lies(f.Place(), &f)
		if err != nil {
			return nil, "", err
		}
		if lies != nil && lies.Same(f) {
			continue
		}
		open, err := finder.find(w.ctx, e, f)
		if err != nil || open == nil {
			return nil, f.Path, err
		}
		w.sources[f.Digest] = open
		goals = append(goals, goal{f.Place(), []want{{at: f.Place(), file: &f, of: e}}})
	}
	return goals, "", nil
}

// coverAll notes what files that come lie on top of, where no mod of the ledger has it.
func (w *work) coverAll(e *ledger.Entry, goals []goal) error {
	shelf := ledger.NewShelf(w.now, rank(w.presentOrder()))
	for _, g := range goals {
		if top, _ := shelf.Top(g.at); top != nil {
			continue
		}
		lies, err := w.lies(g.at, nil)
		if err != nil {
			return err
		}
		if lies != nil {
			e.Covered = append(slices.Clone(e.Covered), *lies)
			w.hold(lies)
		}
	}
	return nil
}

// keptLedger are the entries that a snapshot has.
func keptLedger(ctx context.Context, h *home.Home, snap *archive.Snapshot) ([]*ledger.Entry, error) {
	a, err := h.Existing()
	if err != nil {
		return nil, err
	}
	var all []*ledger.Entry
	for _, root := range snap.Roots {
		if root.Kind != archive.Ledger {
			continue
		}
		err := a.Nodes(ctx, root, func(n archive.Node) error {
			if n.Size > ledger.MaxSize {
				return ledger.ErrDamaged
			}
			var data bytes.Buffer
			if err := a.Copy(ctx, n, &data); err != nil {
				return err
			}
			e, err := ledger.Parse(data.Bytes())
			if err == nil {
				all = append(all, e)
			}
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}
