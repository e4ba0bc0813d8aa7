package job

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"ostrov/internal/core/change"
	"ostrov/internal/core/game"
	"ostrov/internal/core/logbook"
)

// outcome is what the logbook is to know once a change has happened. It is written down before the exchange, so that a crash between the two
// leaves nothing that is only half known.
type outcome struct {
	Start    *logbook.Playthrough `json:"start,omitempty"`
	Activate string               `json:"activate,omitempty"` // the playthrough that is played then
	Assign   []assigned           `json:"assign,omitempty"`
	Forget   []logbook.Key        `json:"forget,omitempty"`
	Drop     string               `json:"drop,omitempty"` // a playthrough that is no more, unless it has saves by now
}

// assigned is a save and the playthrough that it belongs to.
type assigned struct {
	Key         logbook.Key `json:"key"`
	Playthrough string      `json:"playthrough"`       // "": to none any more
	Install     string      `json:"install,omitempty"` // its address, where that is another than the change's
}

// learn makes the logbook know an outcome. It may be repeated.
func (s *Session) learn(ctx context.Context, install string, o *outcome) error {
	if o.Start != nil {
		if err := s.Logbook.Start(ctx, *o.Start, nil); err != nil && !errors.Is(err, logbook.ErrExists) {
			return err
		}
	}
	for _, key := range o.Forget {
		if err := s.Logbook.Forget(ctx, install, key); err != nil {
			return err
		}
	}
	for _, a := range o.Assign {
		whose := install
		if a.Install != "" {
			whose = a.Install
		}
		if a.Playthrough == "" {
			if err := s.Logbook.Forget(ctx, whose, a.Key); err != nil {
				return err
			}
			continue
		}
		if err := s.Logbook.Assign(ctx, whose, []logbook.Key{a.Key}, a.Playthrough); err != nil {
			return err
		}
	}
	if o.Activate != "" {
		if err := s.Activate(ctx, o.Activate); err != nil {
			return err
		}
	}
	if o.Drop == "" {
		return nil
	}
	return s.Logbook.Drop(ctx, o.Drop)
}

// pointers reads what Ostrov's home knows of changes, by file name.
func (s *Session) pointers() (map[string]pointerTo, error) {
	list, err := os.ReadDir(filepath.Join(s.Home, "changes"))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	all := map[string]pointerTo{}
	for _, e := range list {
		if !strings.HasSuffix(e.Name(), ".json") {
			continue
		}
		var p pointerTo
		if err := s.readHome(filepath.Join("changes", e.Name()), &p); err != nil {
			return nil, err
		}
		all[e.Name()] = p
	}
	return all, nil
}

// catchUp records the outcomes of changes of a game's installs that happened and were not recorded, since Ostrov was stopped in between. Installs may
// share folders, so those of the others count too.
func (s *Session) catchUp(ctx context.Context, in *game.Install) error {
	all, err := s.pointers()
	if err != nil {
		return err
	}
	for _, p := range all {
		if p.Outcome == nil || p.Recorded || !strings.HasPrefix(p.Install, in.Game.ID+"@") {
			continue
		}
		if _, err := change.ReadRecord(p.Dir); err != nil {
			continue // it did not happen
		}
		if err := s.finishOutcome(ctx, p); err != nil {
			return err
		}
	}
	return nil
}

// finishOutcome records the outcome of a change that has happened.
func (s *Session) finishOutcome(ctx context.Context, p pointerTo) error {
	if err := s.learn(ctx, p.Install, p.Outcome); err != nil {
		return err
	}
	p.Recorded = true
	return s.writePointer(p)
}
