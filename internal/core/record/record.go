// Package record writes what was seen into the logbook.
//
// It is a step of its own, which a command takes after package facts has looked: vet, completion and dry runs do not. It may be repeated:
// what is known already is not written again. It decides nothing and touches nothing but the logbook.
package record

import (
	"context"
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/line"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/strict"
	"ostrov/internal/core/tree"
)

// Seen writes down what looking at an install found.
func Seen(ctx context.Context, h *home.Home, st *facts.State) error {
	in := st.Install
	if err := Learnt(ctx, h, st.Learnt); err != nil {
		return err
	}
	if err := h.Logbook.SeeMods(ctx, in.Game.ID, st.Learnt.Mods, h.Now()); err != nil {
		return err
	}
	if err := h.Logbook.SetIdentifiers(ctx, in.Game.ID, st.Learnt.Identifiers); err != nil {
		return err
	}
	if err := h.Logbook.SeeFolders(ctx, st.Learnt.Folders); err != nil {
		return err
	}
	for from, to := range st.Learnt.Respelled {
		if err := h.Logbook.Respell(ctx, from, to); err != nil {
			return err
		}
	}
	if err := h.Logbook.SetPlaces(ctx, st.Learnt.Places); err != nil {
		return err
	}
	for name, keys := range st.Learnt.Claims {
		if err := h.Logbook.Assign(ctx, keys, name); err != nil {
			return err
		}
	}
	return nil
}

// Acknowledged writes down that the player has kept these lines of an install as they are: their saves that are gone, have shrunk or
// went back to an older state are not named any more. What
// comes to lie at the place of one that is gone is another save.
func Acknowledged(ctx context.Context, h *home.Home, st *facts.State, lines []string) error {
	for _, p := range st.Gone {
		if p.Line != "" && !slices.Contains(lines, p.Line) {
			continue
		}
		if err := h.Logbook.Forget(ctx, p.Key); err != nil {
			return err
		}
	}
	var places []logbook.Place
	for _, s := range st.Saves {
		if slices.Contains(lines, s.Line) && (s.Shrank != nil || s.Again != "") {
			places = append(places, s.Stands(h.Now()))
		}
	}
	return h.Logbook.SetPlaces(ctx, places)
}

// Learnt writes down states and evidence.
func Learnt(ctx context.Context, h *home.Home, l facts.Learnt) error {
	if err := h.Logbook.See(ctx, l.States, h.Now()); err != nil {
		return err
	}
	for _, e := range l.Evidence {
		if err := h.Logbook.Add(ctx, e.Digest, e.Evidence); err != nil {
			return err
		}
	}
	return nil
}

// Altered writes down that a save, as it stands now, was made by Ostrov out of another state: it needs what that one needed, and what is
// installed tells nothing of it. The things of the mods out have been taken out of it, so it needs them no longer. That holds in place of what a look takes it for; of a state that was known before since, nothing is written down.
func Altered(ctx context.Context, h *home.Home, st *facts.State, s *facts.Save, parent tree.Digest, out []string, since time.Time) error {
	known, err := h.Logbook.Evidence(ctx, s.Digest)
	if err != nil || slices.ContainsFunc(known, func(e logbook.Evidence) bool { return e.At.Before(since) }) {
		return err
	}
	if _, err := h.Logbook.TakeBack(ctx, s.Digest, check.Descends); err != nil {
		return err
	}
	e := logbook.Evidence{Kind: check.Descends, At: h.Now(), Note: logbook.Altered, Parent: parent}
	if len(out) > 0 {
		needed, err := h.Logbook.Needs(ctx, parent)
		if err != nil {
			return err
		}
		if needed.ModsEvidence != "" {
			e.Mods = modlist.Without(needed.Mods, out)
		}
	}
	state := logbook.State{Digest: s.Digest, Game: st.Install.Game.ID, Kind: s.Kind.ID, Title: s.Facts.Title(), Size: s.Size}
	return Learnt(ctx, h, facts.Learnt{States: []logbook.State{state}, Evidence: []facts.OfState{{Digest: s.Digest, Evidence: e}}})
}

// Forgotten takes back what is known of a save by one kind of evidence. What the save says of itself and what is inferred are found anew at each look:
// there is nothing to take back.
func Forgotten(ctx context.Context, h *home.Home, st *facts.State, s *facts.Save, kind string) error {
	if err := h.RequireRecords(); err != nil {
		return err
	}
	kinds := []string{string(check.Stated), string(check.Parcel), string(check.Loaded), string(check.Seen), string(check.Descends)}
	switch {
	case kind == string(check.Written) || kind == string(check.Inferred):
		return problem.Usage(problem.Do("needs", st.Address(s)).With("state", "version V"), "%s is found anew at each look, and cannot be taken back; state what is right, which counts more than what is inferred", kind)
	case !slices.Contains(kinds, kind):
		hint := problem.Advise("there are: %s", strings.Join(kinds, ", "))
		if near := strict.Nearest(kind, kinds); near != "" {
			hint = problem.Advise("did you mean %s?", near)
		}
		return problem.Usage(hint, "there is no kind of evidence %q", kind)
	}
	n, err := h.Logbook.TakeBack(ctx, s.Digest, check.Evidence(kind))
	if err == nil && n == 0 {
		return problem.Usage(problem.Do("needs", st.Address(s)), "nothing is known of %s by what is %s", st.Address(s), kind)
	}
	return err
}

// Stated writes down what the player knows of a save: "clean", "version V", "mod ID" or "mod ID VERSION", each with a note.
func Stated(ctx context.Context, h *home.Home, st *facts.State, s *facts.Save, statements []string, note string) error {
	var all []logbook.Evidence
	for _, text := range statements {
		e, err := parse(text)
		if err != nil {
			return err
		}
		e.Kind, e.At, e.Note = check.Stated, h.Now(), note
		for i := range e.Mods {
			for _, m := range st.Mods.Mods {
				if strings.EqualFold(m.ID, e.Mods[i].ID) {
					e.Mods[i].ID, e.Mods[i].Title = m.ID, m.Title
				}
			}
		}
		all = append(all, e)
	}
	if h.ReadOnly {
		return nil
	}
	if err := h.RequireRecords(); err != nil {
		return err
	}
	for _, e := range all {
		if err := h.Logbook.Add(ctx, s.Digest, e); err != nil {
			return err
		}
	}
	return nil
}

func parse(text string) (logbook.Evidence, error) {
	words := strings.Fields(text)
	switch {
	case len(words) == 1 && words[0] == "clean":
		return logbook.Evidence{Clean: true}, nil
	case len(words) == 2 && words[0] == "version":
		return logbook.Evidence{Version: words[1]}, nil
	case (len(words) == 2 || len(words) == 3) && words[0] == "mod":
		m := modlist.Listed{ID: words[1], On: true}
		if len(words) == 3 {
			m.Version = words[2]
		}
		return logbook.Evidence{Mods: []modlist.Needed{{Listed: m}}}, nil
	}
	hints := problem.Do("needs", "SAVE").With("state", "clean")
	hints = hints.Or(problem.Do("needs", "SAVE").With("state", "version 1.6.2"), problem.Do("needs", "SAVE").With("state", "mod deep-tides 2.1"))
	return logbook.Evidence{}, problem.Usage(hints, "%q is no statement", text)
}

// Taken is the playthrough that has a name, or nil.
func Taken(ctx context.Context, h *home.Home, name string) (*logbook.Playthrough, error) {
	all, err := h.Logbook.Playthroughs(ctx)
	i := slices.IndexFunc(all, func(p logbook.Playthrough) bool { return p.Name == name })
	if err != nil || i < 0 {
		return nil, err
	}
	return &all[i], nil
}

// Line finds a playthrough by name, or by its title.
func Line(ctx context.Context, h *home.Home, name string) (logbook.Playthrough, error) {
	all, err := h.Logbook.Playthroughs(ctx)
	if err != nil {
		return logbook.Playthrough{}, err
	}
	if p := line.Named(all, name); p != nil {
		return *p, nil
	}
	var names []string
	for _, p := range all {
		names = append(names, p.Name)
	}
	hint := problem.Do("playthroughs")
	if near := strict.Nearest(name, names); near != "" {
		hint = problem.Advise("did you mean %s?", near)
	}
	return logbook.Playthrough{}, problem.Usage(hint, "there is no playthrough %q", name)
}

// NewLine is a playthrough of an install that is called after a title. One of that name must not be there.
func NewLine(ctx context.Context, h *home.Home, in *game.Install, title string) (logbook.Playthrough, error) {
	p := logbook.Playthrough{Name: home.Slug(title), Title: title, Game: in.Game.ID, Install: in.Plays(), Started: h.Now(), Active: true}
	switch {
	case p.Name == in.Game.ID:
		p.Title = in.Game.Title
	case p.Name == title && strings.HasPrefix(p.Name, in.Game.ID+"-"): // an install's first line
		p.Title = in.Game.Title + ", " + strings.TrimPrefix(p.Name, in.Game.ID+"-")
	}
	if err := archive.CheckName(p.Name); err != nil {
		return p, problem.Usage(nil, "%v", err)
	}
	other, err := Taken(ctx, h, p.Name)
	if err != nil {
		return p, err
	}
	if other != nil {
		hint := problem.Do("swap", other.Name)
		if other.Game != p.Game || other.Install != p.Install {
			hint = problem.Advise("choose another title: that one is played on %s@%s", other.Game, other.Install)
		}
		return p, problem.Usage(hint, "there is a playthrough %s already", p.Name)
	}
	return p, nil
}

// StartLine starts a playthrough on an install: saves written from now on belong to it, unless it rests at first, as one that old copies are
// filed under.
func StartLine(ctx context.Context, h *home.Home, st *facts.State, title string, rests bool) (logbook.Playthrough, error) {
	p, err := NewLine(ctx, h, st.Install, title)
	p.Active = !rests
	if err != nil || h.ReadOnly {
		return p, err
	}
	if err := h.RequireRecords(); err != nil {
		return p, err
	}
	var keys []logbook.Key
	for _, s := range st.Saves {
		if len(st.Lines) == 1 && s.Line == st.Lines[0].Name { // the only line's own, without being assigned
			keys = append(keys, s.Key())
		}
	}
	if err := h.Logbook.Start(ctx, p, keys); err != nil {
		return p, err
	}
	st.Lines = append(st.Lines, p)
	if len(st.Lines) == 1 {
		for _, s := range st.Saves {
			if s.Line == "" {
				s.Line = p.Name
			}
		}
	}
	return p, nil
}

// Assign makes a save belong to a playthrough.
func Assign(ctx context.Context, h *home.Home, st *facts.State, s *facts.Save, p logbook.Playthrough) error {
	if st.Install.Game.ID != p.Game || !slices.Contains(st.Install.PlayedAs(), p.Install) {
		return problem.Usage(nil, "%s is not a save of %s@%s, on which %s is played", st.Address(s), p.Game, p.Install, p.Name)
	}
	if h.ReadOnly {
		return nil
	}
	return h.Logbook.Assign(ctx, []logbook.Key{s.Key()}, p.Name)
}

// PlayWith makes the lines of play of one install those of another one too: both are played on the same saves, so nothing is swapped between
// them. The first is a neighbour of the second.
func PlayWith(h *home.Home, in *game.Install, st *facts.State) error {
	if !slices.Contains(st.Sharers, in) || in.Game.ID != st.Install.Game.ID {
		return problem.Usage(problem.Do("games show", in.Address()), "%s and %s have no folder of saves in common", in.Address(), st.Install.Address())
	}
	if h.ReadOnly {
		return nil
	}
	if in.With = st.Install.Plays(); in.With == in.Name {
		in.With = ""
	}
	return h.Register(in)
}

// Label gives a save the player's own words; "" takes them away.
func Label(ctx context.Context, h *home.Home, s *facts.Save, words string) error {
	if h.ReadOnly {
		return nil
	}
	if err := h.RequireRecords(); err != nil {
		return err
	}
	s.Label = words
	return h.Logbook.Label(ctx, s.Key(), words)
}

// Rename gives an install another name. Its lines, changes and snapshots stay its own, and the former name still means it.
func Rename(ctx context.Context, h *home.Home, in *game.Install, name string) error {
	was := in.Name
	if name == was || h.ReadOnly {
		return h.Renamable(in, name)
	}
	if err := h.Rename(in, name); err != nil {
		return err
	}
	return h.Logbook.RenameInstall(ctx, in.Game.ID, was, name)
}

// ChangeLine changes what is said of a playthrough.
func ChangeLine(ctx context.Context, h *home.Home, name string, change func(*logbook.Playthrough)) error {
	p, err := Line(ctx, h, name)
	if err != nil || h.ReadOnly {
		return err
	}
	if err := h.RequireRecords(); err != nil {
		return err
	}
	was := p.Name // it may have been found by its title
	change(&p)
	return h.Logbook.Update(ctx, was, p)
}
