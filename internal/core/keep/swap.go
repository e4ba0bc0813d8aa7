package keep

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/home"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/record"
)

// SwapRequest says what of a playthrough is swapped.
type SwapRequest struct {
	Kind   string // only saves of this kind; "" is all
	Anyway bool   // also when a mod that it needs is nowhere
	// Settings is a set of settings to lay over those that stay, or "".
	Settings string
}

// Swap plans to put the present playthrough of an install away and bring another one: its saves, mod list and settings, and its mods where
// they were kept. Saves of other playthroughs and unassigned ones stay, as do settings that the description marks so.
func Swap(ctx context.Context, h *home.Home, st *facts.State, to logbook.Playthrough, req SwapRequest) (*plan.Plan, error) {
	if err := h.RequireRecords(); err != nil {
		return nil, err
	}
	from := st.Current()
	if from != nil && from.Name == to.Name {
		return nil, problem.Usage(problem.Do("look", st.Called), "%s is being played already", to.Name)
	}
	if err := checkKind(st, req.Kind); err != nil {
		return nil, err
	}
	if err := plan.MayChange(ctx, st.Install, nil, nil); err != nil {
		return nil, err
	}
	p := plan.New(ctx, h, st, "swap "+to.Name, nil)
	p.Activate(to.Name)
	snap, err := newestOf(h, to.Name)
	if err != nil {
		return nil, err
	}
	if snap != nil && !req.Anyway {
		if err := nowhere(st, snap); err != nil {
			return nil, err
		}
	}
	r := &restorer{h: h, ctx: ctx, snap: snap, st: st, p: p, swapping: true}
	if from != nil {
		if err := r.putAway(from.Name, req.Kind); err != nil {
			return nil, err
		}
		p.Keep(from.Name)
	}
	if snap != nil {
		if err := r.bring(from, req); err != nil {
			return nil, err
		}
	}
	return p, p.Err()
}

// checkKind refuses a kind of save that the game does not have.
func checkKind(st *facts.State, kind string) error {
	if kind == "" || kindOf(st.Install.Game, kind) != nil {
		return nil
	}
	var ids []string
	for i := range st.Install.Game.Saves {
		ids = append(ids, st.Install.Game.Saves[i].ID)
	}
	return problem.Usage(problem.Advise("there are: %s", strings.Join(ids, ", ")), "%s has no kind of save %q", st.Install.Game.Title, kind)
}

// Fresh plans to put the present playthrough of an install away and start a new one with no saves. Mods stay, and settings that the
// description marks so, or all where it marks none.
func Fresh(ctx context.Context, h *home.Home, st *facts.State, title string, req SwapRequest) (*plan.Plan, error) {
	if err := h.RequireRecords(); err != nil {
		return nil, err
	}
	from := st.Current()
	if from == nil {
		hints := problem.Do("keep", st.Called)
		if len(st.Lines) > 0 {
			hints = problem.Do("playthroughs activate", "NAME").Or(hints.With("as", "PLAYTHROUGH"))
		}
		return nil, problem.Usage(hints, "no playthrough of %s is being played, so there is nothing to put away", st.Called)
	}
	start, err := record.NewLine(ctx, h, st.Install, title)
	if err != nil {
		return nil, err
	}
	if err := checkKind(st, req.Kind); err != nil {
		return nil, err
	}
	if err := plan.MayChange(ctx, st.Install, nil, nil); err != nil {
		return nil, err
	}
	p := plan.New(ctx, h, st, "fresh "+start.Name, nil)
	p.Start(start)
	p.Activate(start.Name)
	r := &restorer{h: h, ctx: ctx, st: st, p: p, swapping: true}
	if err := r.putAway(from.Name, req.Kind); err != nil {
		return nil, err
	}
	p.Keep(from.Name)
	if err := r.clearBehind(from.Name); err != nil {
		return nil, err
	}
	if req.Settings == "" {
		return p, p.Err()
	}
	if r.snap, err = settingsSet(h, st.Install, req.Settings); err != nil {
		return nil, err
	}
	if r.a, err = h.Existing(); err != nil {
		return nil, err
	}
	for _, root := range r.snap.Roots {
		if err := r.fileGroup(root); err != nil {
			return nil, err
		}
	}
	return p, p.Err()
}

// nowhere refuses a playthrough that needs mods which are neither installed nor kept.
func nowhere(st *facts.State, snap *archive.Snapshot) error {
	if snap.Holds(archive.Mods) || snap.ByHand {
		return nil
	}
	var missing []string
	for _, m := range snap.Mods {
		here := slices.ContainsFunc(slices.Concat(st.Mods.Mods, st.Mods.Away), func(have *mod.Mod) bool { return strings.EqualFold(have.ID, m.ID) })
		if m.On && !here {
			missing = append(missing, strings.TrimSpace(m.Name()+" "+m.Version))
		}
	}
	if len(missing) == 0 {
		return nil
	}
	hints := problem.Advise("install them first").Or(problem.Do("swap", snap.Playthrough).With("anyway"))
	return problem.Declined(hints, "%s needs mods that are neither installed nor in the archive: %s; nothing has been changed", snap.Playthrough, strings.Join(missing, ", "))
}

// putAway plans to take away the saves of a playthrough, of one kind or all.
func (r *restorer) putAway(playthrough, kind string) error {
	there := map[logbook.Key]bool{}
	for _, s := range r.st.Saves {
		if there[s.Key()] = true; s.Line != playthrough {
			continue
		}
		before := plan.Standing(r.st, s)
		before.Line = playthrough // said, as soon as there are two
		if kind != "" && s.Kind.ID != kind {
			r.p.Own(plan.Save{Key: s.Key(), Before: before, After: before}) // it stays, and stays its own
			continue
		}
		step := plan.Step{What: plan.Describe(s), Root: s.Folder.Path, Name: s.Name, Note: "of " + playthrough}
		r.p.Remove(r.ctx, step, plan.Guard(s), &plan.Save{Key: s.Key(), Before: before}, s.Tops()...)
	}
	if kind != "" {
		return nil
	}
	belongs, err := r.h.Logbook.Belongs(r.ctx, r.st.Learnt.Folders)
	for key, whose := range belongs { // the game lost the save: a later save of this name belongs to another playthrough
		if whose == playthrough && !there[key] {
			r.p.Own(plan.Save{Key: key, Before: plan.Stand{There: true, Line: playthrough}})
		}
	}
	return err
}

// bring plans to put the newest state of another playthrough into the place of the one that is put away.
func (r *restorer) bring(from *logbook.Playthrough, req SwapRequest) error {
	var err error
	if r.a, err = r.h.Existing(); err != nil {
		return err
	}
	if !r.snap.ByHand && req.Kind == "" {
		r.p.StandAt(r.snap.Playthrough, r.snap.ID)
	}
	// without the saves that are put away: what comes may have their names
	r.st = r.st.WithoutSaves(func(s *facts.Save) bool {
		return from != nil && s.Line == from.Name && (req.Kind == "" || s.Kind.ID == req.Kind)
	})
	for _, root := range r.snap.Roots {
		switch root.Kind {
		case archive.Saves:
			err = r.saves(root, func(k archive.KeptSave) bool { return req.Kind == "" || k.Kind == req.Kind })
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

// Turn plans what it takes to play an install whose folder of saves another install of the game uses too: the other's saves are put away,
// and those of the install's own playthrough are brought. There is nothing to do where the other's saves are not there. there is the state
// of that other one.
func Turn(ctx context.Context, h *home.Home, st, there *facts.State) (*plan.Plan, error) {
	from := there.Current()
	p := plan.New(ctx, h, there, "play "+st.Install.Address(), nil)
	if from == nil || !slices.ContainsFunc(there.Saves, func(s *facts.Save) bool { return s.Line == from.Name }) {
		return p, nil
	}
	if err := h.RequireRecords(); err != nil {
		return nil, err
	}
	for _, in := range []*facts.State{there, st} {
		if err := plan.MayChange(ctx, in.Install, nil, nil); err != nil {
			return nil, err
		}
	}
	away := restorer{h: h, ctx: ctx, st: there, p: p, swapping: true}
	if err := away.putAway(from.Name, ""); err != nil {
		return nil, err
	}
	to := st.Current()
	if to == nil {
		return p, p.Err()
	}
	snap, err := newestOf(h, to.Name)
	if err != nil || snap == nil {
		return p, err
	}
	a, err := h.Existing()
	if err != nil {
		return nil, err
	}
	then := st.WithoutSaves(func(s *facts.Save) bool {
		return slices.ContainsFunc(there.Saves, func(o *facts.Save) bool { return o.Line == from.Name && o.Key() == s.Key() })
	})
	own := &restorer{h: h, ctx: ctx, a: a, snap: snap, st: then, p: p, swapping: true}
	for _, root := range snap.Roots {
		if root.Kind != archive.Saves {
			continue
		}
		if err := own.saves(root, func(archive.KeptSave) bool { return true }); err != nil {
			return nil, err
		}
	}
	if len(snap.Saves) == 0 {
		p.Warnings = append(p.Warnings, fmt.Sprintf("%s has no saves yet", to.Name))
	}
	return p, p.Err()
}
