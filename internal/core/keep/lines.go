package keep

import (
	"context"
	"fmt"
	"slices"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/line"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/record"
)

// Which lines a keep keeps: the active one, or the one that is asked for; and those that went on all the same.

// resting is the newest snapshot of a line that is asked for by name, is not active, and whose saves are just as that snapshot has them; else
// nil. What mods and settings are now belongs to the line that is played: they are not filed under one that rests.
func resting(h *home.Home, st *facts.State, req Request) *archive.Snapshot {
	current := st.Current()
	went := slices.ContainsFunc(st.Others, func(s facts.Since) bool { return s.Line == req.As })
	for _, g := range st.Gone { // that it is so is to be kept
		went = went || g.Line == req.As
	}
	for _, s := range st.Saves {
		went = went || s.Line == req.As && (s.Shrank != nil || s.Again != "")
	}
	known := slices.ContainsFunc(st.Lines, func(p logbook.Playthrough) bool { return p.Name == req.As })
	if !known || req.From != "" || len(req.With) > 0 || current == nil || current.Name == req.As || went {
		return nil
	}
	snap, err := newestOf(h, req.As)
	if err != nil {
		return nil
	}
	return snap
}

// others keeps the lines that are not played now but whose saves have changed all the same: a keep leaves no changed save behind. What was
// kept of the active line is first, or nil.
func others(ctx context.Context, h *home.Home, st *facts.State, first *Kept, before string) (*Kept, error) {
	for _, since := range st.Others {
		kept, err := keepLine(ctx, h, st, since.Line, before, WrittenList, false)
		if err != nil {
			return nil, fmt.Errorf("the saves of %s have changed and could not be kept: %w", since.Line, err)
		}
		if first == nil {
			first = kept
		} else {
			first.Also = append(first.Also, kept)
		}
	}
	return first, nil
}

// presumed is the playthrough that will be kept, as far as it is known before looking; its name is "" where one must be started first.
func presumed(ctx context.Context, h *home.Home, in *game.Install, as string) (logbook.Playthrough, error) {
	all, err := h.Logbook.Playthroughs(ctx)
	if err != nil {
		return logbook.Playthrough{}, err
	}
	own := line.LinesOf(all, in.Game.ID, in.PlayedAs()...)
	if named := line.Named(own, as); named != nil {
		return *named, nil
	}
	for _, p := range own {
		if as == "" && (p.Active || len(own) == 1) {
			return p, nil
		}
	}
	return logbook.Playthrough{}, nil
}

// lineFor finds the playthrough to keep, starting one where the install has none.
func lineFor(ctx context.Context, h *home.Home, st *facts.State, as string, kept *Kept) (logbook.Playthrough, error) {
	for _, p := range st.Lines {
		if p.Name == as {
			return p, nil
		}
	}
	if as == "" {
		if p := st.Current(); p != nil {
			return *p, nil
		}
		if len(st.Lines) > 0 {
			return logbook.Playthrough{}, problem.Usage(problem.Do("keep", st.Called).With("as", "PLAYTHROUGH"), "none of the playthroughs of %s is active: say which to keep", st.Called)
		}
		var err error
		if as, err = FirstLine(ctx, h, st.Install); err != nil {
			return logbook.Playthrough{}, err
		}
	} else if len(st.Lines) > 0 {
		return logbook.Playthrough{}, problem.Usage(problem.Do("playthroughs start", as, st.Called), "%s has no playthrough %q", st.Called, as)
	}
	p, err := record.StartLine(ctx, h, st, as, false)
	if err == nil {
		kept.Started = p.Name
	}
	return p, err
}

// FirstLine is what the first line of an install is called: after the game, and after the install where the game has others or another line has
// that name already.
func FirstLine(ctx context.Context, h *home.Home, in *game.Install) (string, error) {
	all, err := h.Logbook.Playthroughs(ctx)
	if err != nil {
		return "", err
	}
	taken := func(name string) bool {
		return slices.ContainsFunc(all, func(p logbook.Playthrough) bool { return p.Name == name })
	}
	if called := h.Called(in); (called == in.Game.ID || in.Name == "main") && !taken(in.Game.ID) {
		return in.Game.ID, nil
	}
	name := in.Game.ID + "-" + home.Slug(in.Name)
	for n := 2; taken(name); n++ {
		name = fmt.Sprintf("%s-%s-%d", in.Game.ID, home.Slug(in.Name), n)
	}
	return name, nil
}
