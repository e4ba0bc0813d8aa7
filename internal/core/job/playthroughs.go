package job

import (
	"context"
	"slices"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/game"
	"ostrov/internal/core/logbook"
)

// startPlaythrough starts one on the install of a look; its name is taken from the title.
func (s *Session) startPlaythrough(ctx context.Context, l *Look, title string) (logbook.Playthrough, error) {
	p := logbook.Playthrough{Name: slug(title), Title: title, Game: l.Install.Game.ID, Install: l.Install.Name, Started: s.Now(), Active: true}
	if p.Name == l.Install.Game.ID {
		p.Title = l.Install.Game.Title
	}
	if err := archive.CheckName(p.Name); err != nil {
		return p, usage("", "%v", err)
	}
	var keys []logbook.Key
	for _, st := range l.Saves {
		keys = append(keys, st.Key())
	}
	if err := s.Logbook.Start(ctx, p, keys); err != nil {
		return p, err
	}
	l.Playthroughs = append(l.Playthroughs, p)
	if len(l.Playthroughs) == 1 {
		for _, st := range l.Saves {
			st.Playthrough = p.Name
		}
	}
	return p, nil
}

// StartPlaythrough starts a playthrough; saves written from now on belong to it.
func (s *Session) StartPlaythrough(ctx context.Context, in *game.Install, title string) (logbook.Playthrough, error) {
	if err := s.RequireRecords(); err != nil {
		return logbook.Playthrough{}, err
	}
	l, err := s.Look(ctx, in)
	if err != nil {
		return logbook.Playthrough{}, err
	}
	defer delete(s.looks, in)
	return s.startPlaythrough(ctx, l, title)
}

// Playthroughs are all that are known, with how many saves each has.
func (s *Session) Playthroughs(ctx context.Context) ([]logbook.Playthrough, map[string]int, error) {
	all, err := s.Logbook.Playthroughs(ctx)
	if err != nil {
		return nil, nil, err
	}
	counts := map[string]int{}
	for _, in := range s.Installs {
		l, err := s.Look(ctx, in)
		if err != nil {
			continue // its saves cannot be counted now
		}
		for _, st := range l.Saves {
			if slices.ContainsFunc(l.Playthroughs, func(p logbook.Playthrough) bool { return p.Name == st.Playthrough }) { // else another install's look counts it
				counts[st.Playthrough]++
			}
		}
	}
	return all, counts, nil
}

// FindPlaythrough finds one by name.
func (s *Session) FindPlaythrough(ctx context.Context, name string) (logbook.Playthrough, error) {
	all, err := s.Logbook.Playthroughs(ctx)
	if err != nil {
		return logbook.Playthrough{}, err
	}
	for _, p := range all {
		if p.Name == name {
			return p, nil
		}
	}
	return logbook.Playthrough{}, usage("ostrov playthroughs", "there is no playthrough %q", name)
}

// Assign makes saves belong to a playthrough.
func (s *Session) Assign(ctx context.Context, name string, saves []string) error {
	if err := s.RequireRecords(); err != nil {
		return err
	}
	p, err := s.FindPlaythrough(ctx, name)
	if err != nil {
		return err
	}
	for _, address := range saves {
		l, st, err := s.FindSave(ctx, address)
		if err != nil {
			return err
		}
		if l.Install.Game.ID != p.Game || l.Install.Name != p.Install {
			return usage("", "%s is not a save of %s@%s, on which %s is played", address, p.Game, p.Install, name)
		}
		if err := s.Logbook.Assign(ctx, l.Install.Address(), []logbook.Key{st.Key()}, name); err != nil {
			return err
		}
		delete(s.looks, l.Install)
	}
	return nil
}

// ChangePlaythrough makes a playthrough the active one, or closes it.
func (s *Session) ChangePlaythrough(ctx context.Context, name string, change func(*logbook.Playthrough)) error {
	if err := s.RequireRecords(); err != nil {
		return err
	}
	p, err := s.FindPlaythrough(ctx, name)
	if err != nil {
		return err
	}
	change(&p)
	return s.Logbook.Update(ctx, name, p)
}

// Activate makes a playthrough the one that is played: saves written from now on belong to it.
func (s *Session) Activate(ctx context.Context, name string) error {
	return s.ChangePlaythrough(ctx, name, func(p *logbook.Playthrough) { p.Active, p.Closed = true, false })
}
