package job

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
	"ostrov/internal/core/logbook"
)

// sharers are the other installs of the same game that have a folder of saves in common with the one looked at.
func (s *Session) sharers(ctx context.Context, l *Look) ([]*game.Install, error) {
	mine := map[string]bool{}
	for _, f := range l.Folders {
		if isSaves(l.Install.Game, f.ID) {
			mine[f.Path] = true
		}
	}
	var found []*game.Install
	for _, other := range s.Installs {
		if other == l.Install || other.Game.ID != l.Install.Game.ID || other.Open() != nil {
			continue // one that has been moved away shares nothing now
		}
		folders, err := other.Folders(ctx)
		if err != nil {
			return nil, err
		}
		if slices.ContainsFunc(folders, func(f game.Located) bool { return mine[f.Path] && isSaves(other.Game, f.ID) }) {
			found = append(found, other)
		}
	}
	return found, nil
}

func isSaves(d *game.Description, folder string) bool {
	return slices.ContainsFunc(d.Saves, func(k game.Save) bool { return k.Folder == folder })
}

// ofOthers are the saves of a look that belong to playthroughs of installs which share its folders, with the playthrough. An install that had its one
// playthrough before this one had any need not have been told that all saves were that playthrough's.
func (s *Session) ofOthers(ctx context.Context, l *Look, all []logbook.Playthrough, own map[logbook.Key]string) (map[logbook.Key]string, error) {
	theirs := map[logbook.Key]string{}
	for _, other := range l.sharers {
		belongs, err := s.Logbook.Belongs(ctx, other.Address())
		if err != nil {
			return nil, err
		}
		only := slices.DeleteFunc(slices.Clone(all), func(p logbook.Playthrough) bool { return p.Game != other.Game.ID || p.Install != other.Name })
		first := len(only) == 1 && len(belongs) == 0 && len(own) == 0 && (len(l.Playthroughs) == 0 || only[0].Started.Before(l.Playthroughs[0].Started))
		for _, st := range l.Saves {
			if playthrough, ok := belongs[st.Key()]; ok {
				theirs[st.Key()] = playthrough
			} else if first {
				theirs[st.Key()] = only[0].Name
			}
		}
	}
	return theirs, nil
}

// noteSharers notes which other installs keep their saves in the same folder.
func (l *Look) noteSharers() {
	for _, other := range l.sharers {
		l.Findings = append(l.Findings, check.New(check.SharedFolder, "", other.Address()+" keeps its saves there too"))
	}
}

// PlanTurn plans what it takes to play an install whose folder of saves another install of the game uses too: the other's saves are put away, kept
// first, and those of the install's own playthrough are brought. It changes nothing where the other's saves are not there.
func (s *Session) PlanTurn(ctx context.Context, in *game.Install) (*Planned, error) {
	l, err := s.Look(ctx, in)
	if err != nil {
		return nil, err
	}
	for _, other := range l.sharers {
		p, err := s.planTurn(ctx, l, other)
		if err != nil || p.Changes() {
			return p, err
		}
	}
	return &Planned{Install: in}, nil
}

func (s *Session) planTurn(ctx context.Context, l *Look, other *game.Install) (*Planned, error) {
	there, err := s.Look(ctx, other)
	if err != nil {
		return nil, err
	}
	from := there.Current()
	if from == nil || !slices.ContainsFunc(there.Saves, func(st *SaveState) bool { return st.Playthrough == from.Name }) {
		return &Planned{Install: l.Install}, nil
	}
	if err := s.RequireRecords(); err != nil {
		return nil, err
	}
	for _, in := range []*game.Install{other, l.Install} {
		if err := mayChange(ctx, in, nil, nil); err != nil {
			return nil, err
		}
	}
	p := s.newPlan(ctx, there, "play "+l.Install.Address(), nil)
	p.outcome, p.undone = &outcome{}, &outcome{}
	if err := s.putAway(ctx, p, from.Name, ""); err != nil {
		return nil, err
	}
	to := l.Current()
	if to == nil {
		return p, nil
	}
	snap, err := s.newestOf(to.Name)
	if err != nil || snap == nil {
		return p, err
	}
	a, err := s.Archive(false)
	if err != nil {
		return nil, err
	}
	then := *l // as it is when the other's saves are away
	then.Saves = slices.DeleteFunc(slices.Clone(l.Saves), func(st *SaveState) bool {
		return slices.Contains(p.outcome.Forget, st.Key())
	})
	r := restorer{s, ctx, a, snap, &then, p}
	for _, root := range snap.Roots {
		if root.What != archive.Saves {
			continue
		}
		if err := r.swapSaves(root, ""); err != nil {
			return nil, err
		}
	}
	for i := range p.outcome.Assign {
		p.outcome.Assign[i].Install = l.Install.Address()
		p.outcome.Forget = append(p.outcome.Forget, p.outcome.Assign[i].Key) // what the other had there before is there no more
	}
	for _, key := range p.undone.Forget { // what is brought is another install's than the one the change is recorded for
		p.undone.Assign = append(p.undone.Assign, assigned{Key: key, Install: l.Install.Address()})
	}
	p.undone.Forget = nil
	p.once()
	return p, nil
}

// Frozen is a former state of a game, laid out as a second install.
type Frozen struct {
	Install  *game.Install
	Files    int
	Warnings []string
	// Playthrough is the one that was started for it, with the state of the snapshot as its first.
	Playthrough logbook.Playthrough
	// Shares are the installs that keep their saves in the same folder.
	Shares []string
}

// RestoreGame lays out the game of a snapshot, with its mods and its settings as far as they lie in its folder, as a second install in dir, which must
// be missing or empty, and registers it. It touches nothing else: dir is there whole or not at all.
func (s *Session) RestoreGame(ctx context.Context, snap *archive.Snapshot, dir string) (*Frozen, error) {
	if err := s.RequireRecords(); err != nil {
		return nil, err
	}
	if !snap.Holds(archive.Game) {
		return nil, usage("ostrov keep "+snap.Game+" --with game, before the next update", "%s has not kept the game itself", snap.Address())
	}
	first, err := s.installOf(ctx, snap)
	if err != nil {
		return nil, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	f := &Frozen{}
	if err := s.layOut(ctx, snap, first, dir, f); err != nil {
		return nil, err
	}
	in, _, err := s.PlanAdd(ctx, AddRequest{Game: snap.Game, At: dir, Prefix: first.Prefix, PlayerHome: first.PlayerHome, Edition: first.Edition, Name: s.freeVersionName(first, snap.Version)})
	if err != nil {
		return nil, problem("ostrov games add "+snap.Game+" --at "+Quoted(dir), "the game is in %s, but could not be added: %w", dir, err)
	}
	for value, path := range in.Pins {
		if first.Pins[value] != path { // it points elsewhere than what the player has confirmed
			return nil, usage("ostrov games add "+snap.Game+" --at "+Quoted(dir), "the game is in %s; its files name the folder %s, which you have not confirmed yet", dir, path)
		}
	}
	if err := s.ConfirmAdd(in); err != nil {
		return nil, err
	}
	f.Install = in
	return f, s.startFrozen(ctx, snap, f)
}

// freeVersionName is what to call a second install: its version.
func (s *Session) freeVersionName(first *game.Install, version string) string {
	name := slug(version)
	if name == "" {
		return ""
	}
	base := name
	for i := 2; slices.ContainsFunc(s.Installs, func(in *game.Install) bool { return in.Game.ID == first.Game.ID && in.Name == name }); i++ {
		name = fmt.Sprintf("%s-%d", base, i)
	}
	return name
}

// startFrozen starts a playthrough on the second install, with the snapshot as its first state.
func (s *Session) startFrozen(ctx context.Context, snap *archive.Snapshot, f *Frozen) error {
	name := snap.Playthrough + "-" + f.Install.Name
	if _, err := s.FindPlaythrough(ctx, name); err == nil {
		return usage("ostrov playthroughs", "%s is registered; there is a playthrough %s already, which stays as it is", f.Install.Address(), name)
	}
	p := logbook.Playthrough{Name: name, Title: fmt.Sprintf("%s (%s)", snap.Title, snap.Version), Game: f.Install.Game.ID, Install: f.Install.Name, Started: s.Now(), Active: true}
	if err := archive.CheckName(p.Name); err != nil {
		return usage("", "%v", err)
	}
	clear(s.looks)
	l, err := s.Look(ctx, f.Install)
	if err != nil {
		return err
	}
	for _, other := range l.sharers {
		f.Shares = append(f.Shares, other.Address())
	}
	if err := s.Logbook.Start(ctx, p, nil); err != nil {
		return err
	}
	f.Playthrough = p
	a, err := s.Archive(false)
	if err != nil {
		return err
	}
	clear(s.looks)
	return a.Branch(ctx, snap, p.Name, p.Title, s.Now())
}
