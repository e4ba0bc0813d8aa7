package job

import (
	"context"
	"strings"

	"ostrov/internal/core/check"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/mod"
)

// NeedsOf is what a save needs, with all evidence.
type NeedsOf struct {
	Look     *Look
	Save     *SaveState
	Evidence []logbook.Evidence
}

// FindSave finds the save that an address means.
func (s *Session) FindSave(ctx context.Context, address string) (*Look, *SaveState, error) {
	install, folder, name := saveAddress(address)
	in, err := s.Install(install)
	if err != nil {
		return nil, nil, err
	}
	l, err := s.Look(ctx, in)
	if err != nil {
		return nil, nil, err
	}
	st, err := l.Find(folder, name)
	return l, st, err
}

// Needs tells what a save needs and how that is known.
func (s *Session) Needs(ctx context.Context, address string) (*NeedsOf, error) {
	l, st, err := s.FindSave(ctx, address)
	if err != nil {
		return nil, err
	}
	evidence, err := s.Logbook.Evidence(ctx, st.Digest)
	return &NeedsOf{Look: l, Save: st, Evidence: evidence}, err
}

// State records what the player knows of a save: "clean", "version V", "mod ID" or "mod ID VERSION", each with a note.
func (s *Session) State(ctx context.Context, address string, statements []string, note string) error {
	if err := s.RequireRecords(); err != nil {
		return err
	}
	l, st, err := s.FindSave(ctx, address)
	if err != nil {
		return err
	}
	for _, text := range statements {
		e, err := parseStatement(text)
		if err != nil {
			return err
		}
		e.Kind, e.At, e.Note = check.Stated, s.Now(), note
		for i := range e.Mods {
			for _, m := range l.Mods.Mods {
				if strings.EqualFold(m.ID, e.Mods[i].ID) {
					e.Mods[i].ID, e.Mods[i].Title = m.ID, m.Title
				}
			}
		}
		if err := s.Logbook.Add(ctx, st.Digest, e); err != nil {
			return err
		}
	}
	delete(s.looks, l.Install)
	return nil
}

func parseStatement(text string) (logbook.Evidence, error) {
	words := strings.Fields(text)
	switch {
	case len(words) == 1 && words[0] == "clean":
		return logbook.Evidence{Clean: true}, nil
	case len(words) == 2 && words[0] == "version":
		return logbook.Evidence{Version: words[1]}, nil
	case (len(words) == 2 || len(words) == 3) && words[0] == "mod":
		m := mod.Listed{ID: words[1], On: true}
		if len(words) == 3 {
			m.Version = words[2]
		}
		return logbook.Evidence{Mods: []logbook.Needed{{Listed: m}}}, nil
	}
	return logbook.Evidence{}, usage(`--state clean, --state "version 1.6.2" or --state "mod deep-tides 2.1"`, "%q is no statement", text)
}
