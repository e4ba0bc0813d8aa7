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
	"ostrov/internal/core/change"
	"ostrov/internal/core/game"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/mod"
)

// SwapRequest says what of a playthrough is swapped.
type SwapRequest struct {
	Kind   string // only saves of this kind; "" is all
	Anyway bool   // also when a mod that it needs is nowhere
	// Settings is a set of settings to lay over those that stay, or "".
	Settings string
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
		if err := s.putAway(ctx, p, from.Name, req.Kind); err != nil {
			return nil, err
		}
	}
	if snap != nil {
		if err := s.bring(ctx, p, snap, req); err != nil {
			return nil, err
		}
	}
	p.once()
	return p, nil
}

// PlanFresh plans to put the present playthrough of an install away and start a new one with no saves. Mods stay, and settings that the
// description marks so, or all where it marks none.
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
	if err := s.putAway(ctx, p, from.Name, req.Kind); err != nil {
		return nil, err
	}
	r := restorer{s: s, ctx: ctx, l: l, p: p}
	if err := r.clearBehind(from.Name); err != nil {
		return nil, err
	}
	if req.Settings == "" {
		return p, nil
	}
	var err error
	if r.snap, err = s.settingsSet(l.Install, req.Settings); err != nil {
		return nil, err
	}
	if r.a, err = s.Archive(false); err != nil {
		return nil, err
	}
	for _, root := range r.snap.Roots {
		if err := r.fileGroup(root); err != nil {
			return nil, err
		}
	}
	p.once()
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
	kept := snap.Holds(archive.Mods)
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
func (s *Session) putAway(ctx context.Context, p *Planned, playthrough, kind string) error {
	forget := func(key logbook.Key) {
		p.outcome.Forget = append(p.outcome.Forget, key)
		p.undone.Assign = append(p.undone.Assign, assigned{Key: key, Playthrough: playthrough})
	}
	there := map[logbook.Key]bool{}
	for _, st := range p.look.Saves {
		if there[st.Key()] = true; st.Playthrough != playthrough {
			continue
		}
		if kind != "" && st.Kind.ID != kind { // it stays, and stays its own
			p.outcome.Assign = append(p.outcome.Assign, assigned{Key: st.Key(), Playthrough: playthrough})
			continue
		}
		p.Steps = append(p.Steps, Step{"remove", describe(st), filepath.Join(st.Folder.Path, st.Name), "of " + playthrough + "; kept first"})
		for _, top := range st.Tops() {
			p.remove(ctx, st.Folder.Path, top)
		}
		forget(st.Key())
	}
	if kind != "" {
		return nil
	}
	belongs, err := s.Logbook.Belongs(ctx, p.look.Install.Address())
	for key, whose := range belongs { // what the game lost: what comes to lie there next is another's
		if whose == playthrough && !there[key] {
			forget(key)
		}
	}
	return err
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
		case archive.Settings, archive.Data, archive.Pictures:
			err = r.fileGroup(root)
		case archive.Mods:
			err = r.mods(root)
		}
		if err != nil {
			return err
		}
	}
	if err := r.clearFiles(); err != nil {
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
			r.p.outcome.Assign = append(r.p.outcome.Assign, assigned{Key: key, Playthrough: r.snap.Playthrough})
			r.p.undone.Forget = append(r.p.undone.Forget, key)
		}
	}
	return nil
}

// clearFiles plans to take away settings and data of mods that the playthrough which is brought does not have: settings of mods that it lacks would
// cause errors. They are kept with the one that is put away. What the description marks stays, and so does all where the snapshot says nothing of
// settings.
func (r *restorer) clearFiles() error {
	if !r.snap.Holds(archive.Settings) {
		return nil
	}
	groups, err := r.l.Install.FileGroups(r.ctx)
	if err != nil {
		return err
	}
	for _, g := range groups {
		if g.Active || g.What == game.PictureFiles {
			continue
		}
		kept := map[string]bool{}
		for _, root := range r.snap.Roots {
			if root.Folder != g.Name {
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
		note := fmt.Sprintf("%s that %s does not have; kept first", fileOf[g.What], r.snap.Playthrough)
		if err := r.clearGroup(g, note, func(path string) bool { return kept[path] }); err != nil {
			return err
		}
	}
	return nil
}

// clearBehind plans to take away what a playthrough leaves behind besides saves: what its mods stored, and where the description says which settings
// stay, the others. It is kept first.
func (r *restorer) clearBehind(from string) error {
	groups, err := r.l.Install.FileGroups(r.ctx)
	if err != nil {
		return err
	}
	d := r.l.Install.Game
	for _, g := range groups {
		if g.Active || g.What == game.PictureFiles || g.What == game.SettingsFiles && (d.Settings == nil || len(d.Settings.Stays) == 0) {
			continue
		}
		if err := r.clearGroup(g, fmt.Sprintf("%s of %s; kept first", fileOf[g.What], from), func(string) bool { return false }); err != nil {
			return err
		}
	}
	return nil
}

// fileOf is what to call one file of a group.
var fileOf = map[string]string{game.SettingsFiles: "a setting", game.DataFiles: "what a mod stored"}

// clearGroup plans to take away the files of a pattern, but what stays.
func (r *restorer) clearGroup(g game.FileGroup, note string, stays func(path string) bool) error {
	entries, err := groupFiles(r.ctx, g)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if stays(e.Path) || g.What == game.SettingsFiles && r.stays(e.Path) {
			continue
		}
		r.p.Steps = append(r.p.Steps, Step{"remove", e.Path, filepath.Join(g.Dir, filepath.FromSlash(e.Path)), note})
		r.p.remove(r.ctx, g.Dir, e.Path)
	}
	return nil
}

// stays reports whether a settings file stays as it is through swaps and fresh starts.
func (r *restorer) stays(path string) bool {
	d := r.l.Install.Game
	return d.Settings != nil && r.p.outcome != nil && slices.ContainsFunc(d.Settings.Stays, func(g string) bool { return doublestar.MatchUnvalidated(g, path) })
}

// spare drops the planned removal of what is to stay after all.
func (p *Planned) spare(root, name string) {
	path := filepath.Join(root, filepath.FromSlash(name))
	p.plan.Items = slices.DeleteFunc(p.plan.Items, func(i change.Item) bool {
		return i.Fill == nil && filepath.Join(i.Root, filepath.FromSlash(i.Name)) == path
	})
	p.Steps = slices.DeleteFunc(p.Steps, func(s Step) bool { return s.Do == "remove" && s.Path == path })
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
