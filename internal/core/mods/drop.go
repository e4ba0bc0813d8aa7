package mods

import (
	"context"
	"slices"
	"strings"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
)

// DropRequest says which mods go.
type DropRequest struct {
	Mods     []string
	Settings bool // the settings of theirs that lie outside, too
}

// Dropping proposes to remove mods: exactly their files.
func Dropping(ctx context.Context, h *home.Home, now *assess.Install, req DropRequest) (*Proposal, error) {
	p, err := begin(ctx, h, now.State, "mods drop "+strings.Join(req.Mods, " "))
	if err != nil {
		return nil, err
	}
	w := p.work
	w.dropping = true
	entries, err := w.entriesOf(req.Mods)
	if err != nil {
		return nil, err
	}
	var changes []assess.Change
	for _, e := range entries {
		gone := w.modsOf(e)
		item := Item{Verb: Drop, Name: e.Name(), ID: e.ID, Version: e.Version, Files: len(e.Files), Bytes: e.Bytes(), From: e.From, Needed: neededBy(now.State, idsOf(e))}
		p.Items = append(p.Items, item)
		for _, m := range gone {
			changes = append(changes, assess.Change{Words: "without " + m.Name(), Drop: m})
		}
		w.edit().remove = append(w.edit().remove, idsOf(e)...)
		if e.State != ledger.InPlace { // its files lie beside the folder, until no change needs them any more
			p.Warnings = append(p.Warnings, e.Name()+" was set aside; undo brings it back as it was")
		}
		w.replace(e, nil)
		if req.Settings {
			if err := w.dropSettings(e); err != nil {
				return nil, err
			}
		}
	}
	p.suppose(now, changes)
	return p.finish()
}

// entriesOf are the entries of mods that words mean. What is nobody's yet is adopted first, so that undo knows whose it was.
func (w *work) entriesOf(words []string) ([]*ledger.Entry, error) {
	var all []*ledger.Entry
	for _, word := range words {
		e, lies, err := w.found(word)
		if err != nil {
			return nil, err
		}
		if e == nil {
			if e, err = w.take(lies[0]); err != nil {
				return nil, err
			}
		}
		if !slices.Contains(all, e) {
			all = append(all, e)
		}
	}
	return all, nil
}

// take adopts a mod as a part of what is done with it.
func (w *work) take(m *mod.Mod) (*ledger.Entry, error) {
	if m.Folder.Managed {
		return nil, problem.Usage(problem.Advise("switch it off in the program that manages it"), "another program owns %s, which is never written", m.Dir())
	}
	if len(m.Unread) > 0 {
		return nil, problem.New(problem.Advise("nothing has been changed"), "%s cannot be read whole: %w", m.Name(), m.Unread[0].Err)
	}
	if e := w.owner(m); e != nil {
		return e, nil
	}
	e, err := w.adopt(m)
	if err != nil {
		return nil, err
	}
	w.now, w.then = append(w.now, e), append(w.then, e)
	w.adopted = append(w.adopted, e)
	return e, nil
}

// idsOf are the ids of the mods of an entry.
func idsOf(e *ledger.Entry) []string {
	if len(e.Mods) > 0 {
		return append([]string{e.ID}, e.Mods...)
	}
	return []string{e.ID}
}

// modsOf are the mods of an entry that lie in the game's folders.
func (w *work) modsOf(e *ledger.Entry) []*mod.Mod {
	var all []*mod.Mod
	for _, m := range w.st.Mods.Mods {
		if m.HiddenBy != "" && !e.Adopted || m.Kind.Base {
			continue
		}
		if m.Kind.ID == e.Kind && e.Is(m.ID) || w.lieIn(e, m) {
			all = append(all, m)
		}
	}
	return all
}

// lieIn reports whether a mod lies in what an entry brings.
func (w *work) lieIn(e *ledger.Entry, m *mod.Mod) bool {
	if m.Kind.ID == e.Kind {
		return false
	}
	root, rel, err := w.placeOf(m)
	return err == nil && slices.ContainsFunc(e.Files, func(f ledger.File) bool {
		return f.Root == root && (f.Path == rel || strings.HasPrefix(f.Path, rel+"/"))
	})
}

// dropSettings plans to take the settings of a mod away that lie outside its folder.
func (w *work) dropSettings(e *ledger.Entry) error {
	for _, g := range w.st.Groups {
		if g.Kind != game.SettingsFiles || g.Active {
			continue
		}
		files, err := facts.GroupFiles(w.ctx, g)
		if err != nil {
			return err
		}
		for _, f := range files {
			id, by, ofMod := g.ModOf(f.Path)
			if !ofMod || !w.isSetting(e, id, by) {
				continue
			}
			step := plan.Step{What: f.Path, Root: g.Dir, Note: "a setting of " + e.Name()}
			w.p.Remove(w.ctx, step, plan.LeaveAside(), nil, f.Path)
		}
	}
	return nil
}

// isSetting reports whether a settings file that tells its mod by its id, or by a field, is one of an entry's.
func (w *work) isSetting(e *ledger.Entry, id, by string) bool {
	if by == "" {
		return e.Is(id)
	}
	return slices.ContainsFunc(w.modsOf(e), func(m *mod.Mod) bool { return strings.EqualFold(m.Fields[by], id) })
}
