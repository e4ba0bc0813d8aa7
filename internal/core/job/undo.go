package job

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"ostrov/internal/core/change"
)

// pointerTo is what Ostrov's home knows of a change: where its record lies.
type pointerTo struct {
	ID      string `json:"id"`
	Title   string `json:"title"`
	Install string `json:"install"`
	Dir     string `json:"dir"`
	// Outcome is what the logbook is to know once the change has happened, and OnUndo once it has been taken back; nil where that is all known
	// from the folders. Recorded tells that it does.
	Outcome  *outcome `json:"outcome,omitempty"`
	OnUndo   *outcome `json:"on_undo,omitempty"`
	Recorded bool     `json:"recorded,omitempty"`
}

// announce notes where the record of a change will be, and what it will mean.
func (s *Session) announce(now, undone *outcome) func(*change.Record) error {
	return func(r *change.Record) error {
		return s.writePointer(pointerTo{ID: r.ID, Title: r.Title, Install: r.Install, Dir: r.Dir, Outcome: now, OnUndo: undone})
	}
}

func (s *Session) writePointer(p pointerTo) error {
	data, err := json.MarshalIndent(p, "", "  ")
	if err != nil {
		return err
	}
	return s.writeHome(filepath.Join("changes", p.ID+".json"), data)
}

// LastChange is the newest change that can be taken back.
func (s *Session) LastChange() (*change.Record, error) {
	all, err := s.pointers()
	if err != nil {
		return nil, err
	}
	var newest *change.Record
	for _, name := range slices.Backward(slices.Sorted(maps.Keys(all))) {
		p := all[name]
		r, err := change.ReadRecord(p.Dir)
		if errors.Is(err, fs.ErrNotExist) {
			if _, err := os.Stat(filepath.Dir(p.Dir)); err == nil { // it never happened, or what it moved aside is gone by now
				_ = os.Remove(filepath.Join(s.Home, "changes", name))
			}
			continue
		}
		if err != nil {
			return nil, err
		}
		if !r.Undone && (newest == nil || r.Time.After(newest.Time)) {
			newest = r
		}
	}
	if newest == nil {
		return nil, usage("", "there is no change to take back")
	}
	return newest, nil
}

// PlayedOn are the targets of a change that are not as it left them.
func (s *Session) PlayedOn(ctx context.Context, r *change.Record) ([]string, error) {
	return r.Changed(ctx)
}

// Undo takes a change back. What was played on since is kept in the archive first, and needs force.
func (s *Session) Undo(ctx context.Context, r *change.Record, force bool) (*Done, error) {
	if err := s.RequireRecords(); err != nil {
		return nil, err
	}
	in, err := s.Install(r.Install)
	if err != nil {
		return nil, err
	}
	l, err := s.Look(ctx, in)
	if err != nil {
		return nil, err
	}
	p := s.newPlan(ctx, l, "undo "+r.Title, nil)
	if err := p.plan.Guard(); err != nil {
		return nil, err
	}
	pointer := pointerTo{}
	if err := s.readHome(filepath.Join("changes", r.ID+".json"), &pointer); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	p.outcome, p.undone = pointer.OnUndo, pointer.Outcome
	p.plan.Announce = s.announce(p.outcome, p.undone)
	done := &Done{}
	if force {
		if done.Safety, err = s.keepBefore(ctx, p); err != nil {
			return nil, err
		}
	}
	if done.Record, err = change.Undo(ctx, r, p.plan, force); err != nil {
		return nil, s.changeError(err)
	}
	s.recordDone(ctx, p, done.Record)
	delete(s.looks, in)
	return done, nil
}

// DescribeChange is a change in one line for people.
func DescribeChange(r *change.Record) string {
	return fmt.Sprintf("%s (%s, %s)", r.Title, r.Install, r.Time.Local().Format("2 January 15:04"))
}
