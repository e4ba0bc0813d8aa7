package job

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/tree"
)

// SwapRequest says what of a playthrough is swapped.
type SwapRequest struct {
	Kind   string // only saves of this kind; "" is all
	Anyway bool   // also when a mod that it needs is nowhere
}

// PlanSwap plans to put the present playthrough of an install away and bring another one: its saves, mod list and settings, and its mods where
// they were kept. Saves of other playthroughs and unassigned ones stay, as do settings that the description marks so.
func (s *Session) PlanSwap(ctx context.Context, name string, req SwapRequest) (*Planned, error) {
	if err := s.RequireRecords(); err != nil {
		return nil, err
	}
	to, err := s.FindPlaythrough(ctx, name)
	if err != nil {
		return nil, err
	}
	in, err := s.Install(to.Game + "@" + to.Install)
	if err != nil {
		return nil, err
	}
	l, err := s.Look(ctx, in)
	if err != nil {
		return nil, err
	}
	from := l.Current()
	if from != nil && from.Name == name {
		return nil, usage("ostrov look "+l.Called, "%s is being played already", name)
	}
	if err := mayChange(ctx, in, nil, nil); err != nil {
		return nil, err
	}
	p := s.newPlan(ctx, l, "swap "+name, nil)
	p.outcome = &outcome{Activate: name}
	p.undone = &outcome{}
	snap, err := s.newestOf(name)
	if err != nil {
		return nil, err
	}
	if snap != nil && !req.Anyway {
		if err := s.nowhere(l, snap); err != nil {
			return nil, err
		}
	}
	if from != nil {
		p.undone.Activate = from.Name
		p.putAway(ctx, from.Name, req.Kind)
	}
	if snap != nil {
		if err := s.bring(ctx, p, snap, req); err != nil {
			return nil, err
		}
	}
	p.once()
	return p, nil
}

// PlanFresh plans to put the present playthrough of an install away and start a new one with no saves. Settings and mods stay.
func (s *Session) PlanFresh(ctx context.Context, l *Look, title string, req SwapRequest) (*Planned, error) {
	if err := s.RequireRecords(); err != nil {
		return nil, err
	}
	from := l.Current()
	if from == nil {
		return nil, usage("ostrov keep "+l.Called+"\nostrov playthroughs activate NAME", "no playthrough of %s is being played, so there is nothing to put away", l.Called)
	}
	start := logbook.Playthrough{Name: slug(title), Title: title, Game: l.Install.Game.ID, Install: l.Install.Name, Started: s.Now(), Active: true}
	if err := archive.CheckName(start.Name); err != nil {
		return nil, usage("", "%v", err)
	}
	if _, err := s.FindPlaythrough(ctx, start.Name); err == nil {
		return nil, usage("ostrov swap "+start.Name, "there is a playthrough %s already", start.Name)
	}
	if err := mayChange(ctx, l.Install, nil, nil); err != nil {
		return nil, err
	}
	p := s.newPlan(ctx, l, "fresh "+start.Name, nil)
	p.outcome = &outcome{Start: &start, Activate: start.Name}
	p.undone = &outcome{Activate: from.Name, Drop: start.Name}
	p.putAway(ctx, from.Name, req.Kind)
	return p, nil
}

// newestOf is the newest snapshot of a playthrough, or nil.
func (s *Session) newestOf(playthrough string) (*archive.Snapshot, error) {
	a, err := s.Archive(false)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return a.Newest(playthrough, archive.Any)
}

// nowhere refuses a playthrough that needs mods which are neither installed nor kept.
func (s *Session) nowhere(l *Look, snap *archive.Snapshot) error {
	kept := slices.ContainsFunc(snap.Roots, func(r archive.Root) bool { return r.What == archive.Mods })
	if kept || snap.ByHand {
		return nil
	}
	var missing []string
	for _, m := range snap.Mods {
		here := slices.ContainsFunc(l.Mods.Mods, func(have *mod.Mod) bool { return strings.EqualFold(have.ID, m.ID) })
		if m.On && !here {
			name := m.Title
			if name == "" {
				name = m.ID
			}
			missing = append(missing, strings.TrimSpace(name+" "+m.Version))
		}
	}
	if len(missing) == 0 {
		return nil
	}
	return &Error{Text: fmt.Sprintf("%s needs mods that are neither installed nor in the archive: %s; nothing has been changed", snap.Playthrough, strings.Join(missing, ", ")),
		Hint: "install them first\nostrov swap " + snap.Playthrough + " --anyway", Err: ErrDeclined}
}

// putAway plans to take away the saves of a playthrough, which are kept first.
func (p *Planned) putAway(ctx context.Context, playthrough, kind string) {
	for _, st := range p.look.Saves {
		if st.Playthrough != playthrough {
			continue
		}
		if kind != "" && st.Kind.ID != kind { // it stays, and stays its own
			p.outcome.Assign = append(p.outcome.Assign, assigned{st.Key(), playthrough})
			continue
		}
		p.Steps = append(p.Steps, Step{"remove", describe(st), filepath.Join(st.Folder.Path, st.Name), "of " + playthrough + "; kept first"})
		for _, top := range st.Tops() {
			p.remove(ctx, st.Folder.Path, top)
		}
		p.outcome.Forget = append(p.outcome.Forget, st.Key())
		p.undone.Assign = append(p.undone.Assign, assigned{st.Key(), playthrough})
	}
}

// bring plans to put the newest state of another playthrough into the place of the one that is put away.
func (s *Session) bring(ctx context.Context, p *Planned, snap *archive.Snapshot, req SwapRequest) error {
	a, err := s.Archive(false)
	if err != nil {
		return err
	}
	then := *p.look // without the saves that are put away: what comes may have their names
	then.Saves = slices.DeleteFunc(slices.Clone(p.look.Saves), func(st *SaveState) bool {
		return slices.ContainsFunc(p.outcome.Forget, func(k logbook.Key) bool { return k == st.Key() })
	})
	r := restorer{s, ctx, a, snap, &then, p}
	for _, root := range snap.Roots {
		switch root.What {
		case archive.Saves:
			err = r.swapSaves(root, req.Kind)
		case archive.Settings:
			err = r.settings(root)
		case archive.Mods:
			err = r.mods(root)
		}
		if err != nil {
			return err
		}
	}
	if err := r.clearSettings(); err != nil {
		return err
	}
	r.warn(true)
	return nil
}

// swapSaves plans to bring the saves of one root and notes whose they are then.
func (r *restorer) swapSaves(root archive.Root, kind string) error {
	if kind != "" {
		only := *r.snap
		only.Saves = slices.DeleteFunc(slices.Clone(r.snap.Saves), func(k archive.KeptSave) bool { return k.Kind != kind })
		r.snap = &only
	}
	if err := r.saves(root, ""); err != nil {
		return err
	}
	folder, err := r.folder(root)
	if err != nil {
		return err
	}
	for _, kept := range r.snap.Saves {
		if kept.Folder == root.Folder && kept.Account == root.Account {
			key := logbook.Key{Folder: folder.ID, Name: kept.Name}
			if folder.Account != "" {
				key.Folder += ":" + folder.Account
			}
			r.p.outcome.Assign = append(r.p.outcome.Assign, assigned{key, r.snap.Playthrough})
			r.p.undone.Forget = append(r.p.undone.Forget, key)
		}
	}
	return nil
}

// clearSettings plans to take away settings that the playthrough which is brought does not have: those of mods that it lacks would cause errors.
// They are kept with the one that is put away. What the description marks stays, and so does all where the snapshot says nothing of settings.
func (r *restorer) clearSettings() error {
	d := r.l.Install.Game
	if d.Settings == nil || !slices.ContainsFunc(r.snap.Roots, func(root archive.Root) bool { return root.What == archive.Settings }) {
		return nil
	}
	groups, err := r.l.Install.SettingsGroups(r.ctx)
	if err != nil {
		return err
	}
	for i, g := range groups {
		kept := map[string]bool{}
		for _, root := range r.snap.Roots {
			if root.What != archive.Settings || root.Folder != fmt.Sprintf("settings-%d", i+1) {
				continue
			}
			nodes, err := r.nodes(root)
			if err != nil {
				return err
			}
			for _, n := range nodes {
				kept[n.Path] = true
			}
		}
		entries, err := settingsFiles(r.ctx, g)
		if err != nil {
			return err
		}
		for _, e := range entries {
			if e.Kind != tree.File || kept[e.Path] || r.stays(e.Path) {
				continue
			}
			r.p.Steps = append(r.p.Steps, Step{"remove", e.Path, filepath.Join(g.Dir, filepath.FromSlash(e.Path)), "a setting that " + r.snap.Playthrough + " does not have; kept first"})
			r.p.remove(r.ctx, g.Dir, e.Path)
		}
	}
	return nil
}

// stays reports whether a settings file stays as it is through swaps and fresh starts.
func (r *restorer) stays(path string) bool {
	d := r.l.Install.Game
	return d.Settings != nil && r.p.outcome != nil && slices.ContainsFunc(d.Settings.Stays, func(g string) bool { return doublestar.MatchUnvalidated(g, path) })
}

// once drops the removal of what is put as well: an exchange moves aside what was there by itself.
func (p *Planned) once() {
	put := map[string]bool{}
	for _, i := range p.plan.Items {
		if i.Fill != nil {
			put[filepath.Join(i.Root, filepath.FromSlash(i.Name))] = true
		}
	}
	kept := p.plan.Items[:0]
	for _, i := range p.plan.Items {
		if i.Fill != nil || !put[filepath.Join(i.Root, filepath.FromSlash(i.Name))] {
			kept = append(kept, i)
		}
	}
	p.plan.Items = kept
}
