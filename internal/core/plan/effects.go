package plan

import (
	"context"
	"errors"
	"path/filepath"
	"slices"

	"ostrov/internal/core/facts"
	"ostrov/internal/core/home"
	"ostrov/internal/core/logbook"
)

// Stand is how a save stands at a place.
type Stand struct {
	There bool   `json:"there,omitempty"`
	Line  string `json:"line,omitempty"` // the playthrough that it is assigned to; "" for none, or where there is only one
	// Place is what the logbook has of it, where that is known.
	Place *logbook.Place `json:"place,omitempty"`
}

// Effect is what a step means for one save.
type Effect struct {
	Key    logbook.Key `json:"key"`
	Before Stand       `json:"before"`
	After  Stand       `json:"after"`
	// Install is what the first homes had beside a key whose folder was a name and no path.
	Install string `json:"install,omitempty"`
}

// at is the place that an effect is about.
func (e Effect) at() logbook.Key {
	if e.Install != "" && !filepath.IsAbs(e.Key.Folder) {
		return logbook.Key{Folder: logbook.Former(e.Install, e.Key.Folder), Name: e.Key.Name}
	}
	return e.Key
}

// stand is what is at the place afterwards, or nil.
func (e Effect) stand() *logbook.Place {
	if e.After.Place == nil {
		return nil
	}
	p := *e.After.Place
	p.Key = e.at()
	return &p
}

// Effects are what the logbook is to know once a change has happened. They are written down before the exchange, so that a crash between
// the two leaves nothing that is only half known. Reversed they are what it is to know once the change is taken back.
type Effects struct {
	Saves     []Effect             `json:"saves,omitempty"`
	Start     *logbook.Playthrough `json:"start,omitempty"`
	Drop      *logbook.Playthrough `json:"drop,omitempty"` // it is no more, unless it has saves by now
	Active    string               `json:"active,omitempty"`
	WasActive string               `json:"was_active,omitempty"`
	// At are the snapshots that lines stand at afterwards.
	At []LineAt `json:"at,omitempty"`
	// Mods are the entries of the ledger.
	Mods []EntryEffect `json:"mods,omitempty"`
}

// LineAt is the snapshot that a line stands at, before and afterwards.
type LineAt struct {
	Line string `json:"line"`
	Was  string `json:"was,omitempty"`
	Is   string `json:"is"`
}

func (e Effects) empty() bool {
	return len(e.Saves) == 0 && e.Start == nil && e.Drop == nil && e.Active == e.WasActive && len(e.Mods) == 0
}

// reversed are the effects of taking the change back.
func (e Effects) reversed() Effects {
	r := Effects{Start: e.Drop, Drop: e.Start, Active: e.WasActive, WasActive: e.Active}
	for _, a := range e.At {
		r.At = append(r.At, LineAt{a.Line, a.Is, a.Was})
	}
	for _, m := range slices.Backward(e.Mods) {
		r.Mods = append(r.Mods, EntryEffect{m.Game, m.Key, m.After, m.Before})
	}
	for _, s := range slices.Backward(e.Saves) {
		r.Saves = append(r.Saves, Effect{s.Key, s.After, s.Before, s.Install})
	}
	return r
}

// all are the effects of a plan: those of its steps, and its own.
func (p *Plan) all() Effects {
	e := p.effects
	e.Saves = nil
	for _, s := range p.Steps {
		e.Saves = append(e.Saves, s.effects...)
	}
	e.Saves = append(e.Saves, p.effects.Saves...)
	return e
}

// learn makes the logbook know effects. It may be repeated.
func learn(ctx context.Context, h *home.Home, e Effects) error {
	if e.Start != nil {
		if err := h.Logbook.Start(ctx, *e.Start, nil); err != nil && !errors.Is(err, logbook.ErrExists) {
			return err
		}
	}
	for _, s := range e.Saves { // what goes first: what comes may take its place
		if !s.After.There {
			if err := h.Logbook.Forget(ctx, s.at()); err != nil {
				return err
			}
		}
	}
	for _, s := range e.Saves {
		if !s.After.There {
			continue
		}
		if err := h.Logbook.Stand(ctx, s.at(), s.After.Line, s.stand()); err != nil {
			return err
		}
	}
	if err := enter(h, e.Mods); err != nil {
		return err
	}
	if e.Active != "" {
		if err := h.Logbook.Activate(ctx, e.Active); err != nil {
			return err
		}
	}
	for _, a := range e.At {
		if err := h.Logbook.StandAt(ctx, a.Line, a.Is); err != nil {
			return err
		}
	}
	if e.Drop == nil {
		return nil
	}
	return h.Logbook.Drop(ctx, e.Drop.Name)
}

// Standing is how a save stands now.
func Standing(st *facts.State, s *facts.Save) Stand {
	stand := Stand{There: true}
	if len(st.Lines) > 1 { // with one playthrough, saves need no assignment
		stand.Line = s.Line
	}
	if !s.Digest.IsZero() {
		place := s.Stands(s.Modified)
		stand.Place = &place
	}
	return stand
}
