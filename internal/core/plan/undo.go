package plan

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/change"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/problem"
)

// Undoing is taking back a change, or making one again that was taken back: a plan that can be shown first.
type Undoing struct {
	*Plan
	Of    *Change
	Again bool // it is made again
	// PlayedOn are targets that are not as the change left them: what they are now has to be kept first.
	PlayedOn []string
}

// Undo plans to take back the newest change, of one install or, for nil, of all: changes go back one by one. What was interrupted has been
// put in order before.
func Undo(ctx context.Context, h *home.Home, only *game.Install) (*Undoing, error) {
	list, err := History(ctx, h, only)
	if err != nil {
		return nil, err
	}
	for _, c := range slices.Backward(list) {
		if !c.Undone {
			return undoing(ctx, h, c)
		}
	}
	return nil, problem.Usage(nil, "there is no change to take back")
}

// Redo plans to make a change again: the one that was taken back last, as long as nothing new has been done since.
func Redo(ctx context.Context, h *home.Home, only *game.Install) (*Undoing, error) {
	list, err := History(ctx, h, only)
	if err != nil {
		return nil, err
	}
	for i, c := range list {
		if !c.Undone {
			continue
		}
		newer := slices.ContainsFunc(list[i:], func(o *Change) bool { return o.first.Install == c.first.Install && o.first.Seq > c.latest.Seq })
		if newer {
			continue
		}
		return undoing(ctx, h, c)
	}
	return nil, problem.Usage(problem.Do("undo").With("list"), "there is nothing to make again")
}

func undoing(ctx context.Context, h *home.Home, c *Change) (*Undoing, error) {
	st, err := facts.Gather(ctx, h, c.in)
	if err != nil {
		return nil, err
	}
	verb := "undo "
	if c.Undone {
		verb = "redo "
	}
	u := &Undoing{Plan: New(ctx, h, st, verb+c.Title, nil), Of: c, Again: c.Undone}
	if c.record == nil {
		return u, nil
	}
	if u.PlayedOn, err = c.record.Changed(ctx); err != nil {
		return nil, err
	}
	for _, x := range slices.Backward(c.record.Items) {
		step := Step{Verb: Replace, Root: x.Root, Name: x.Name, What: u.called(x)}
		switch {
		case x.Old == "":
			step.Verb, step.Note = Remove, "it was put there"
		case x.New == "":
			step.Verb, step.Note = Put, "it was taken away"
		default:
			step.Note = "the former state"
		}
		before := u.look(ctx, x.Root, x.Name)
		step.targets = []target{{root: x.Root, name: x.Name, shown: x.Root, before: before, guard: u.guardOf(x)}}
		u.Steps = append(u.Steps, step)
	}
	for _, path := range u.PlayedOn {
		u.Warnings = append(u.Warnings, path+" has changed since; its present state is kept first")
	}
	return u, u.err
}

// called is what to call a target before people: the save that lies there, or its name.
func (u *Undoing) called(x change.Exchange) string {
	for _, s := range u.State.Saves {
		if s.Folder.Real == x.Root && slices.Contains(s.Tops(), x.Name) {
			return Describe(s)
		}
	}
	for _, e := range u.Of.first.Effects.Saves {
		for _, stand := range []Stand{e.Before, e.After} {
			if e.Key.Name == x.Name && stand.Place != nil && stand.Place.Title != "" {
				return fmt.Sprintf("%q", stand.Place.Title)
			}
		}
	}
	return x.Name
}

// guardOf keeps the line whose save lies at a target now, where it was played on.
func (u *Undoing) guardOf(x change.Exchange) Safeguard {
	if !slices.Contains(u.PlayedOn, x.Target()) {
		return LeaveAside()
	}
	for _, s := range u.State.Saves {
		if s.Folder.Real == x.Root && s.Line != "" && slices.ContainsFunc(s.Tops(), func(top string) bool { return top == x.Name || strings.HasPrefix(x.Name, top+"/") }) {
			return KeepLine(s.Line)
		}
	}
	return LeaveAside()
}

// Apply takes the change back.
func (u *Undoing) Apply(ctx context.Context) (*Done, error) {
	if err := u.h.RequireRecords(); err != nil {
		return nil, err
	}
	all, err := pointers(u.h)
	if err != nil {
		return nil, err
	}
	note := pointer{Title: u.Title, Install: u.Install().Address(), Time: u.h.Now(), Of: u.Of.ID, Back: !u.Again, Effects: u.Of.latest.undone()}
	if u.Of.record == nil {
		return recordOnly(ctx, u.h, note, lastSeq(all))
	}
	how, err := u.how(ctx, lastSeq(all))
	if err != nil {
		return nil, err
	}
	how.Announce = announce(u.h, &note)
	r, err := change.Undo(ctx, u.Of.record, how, len(u.PlayedOn) > 0)
	if err != nil && r == nil && errors.Is(err, fs.ErrNotExist) {
		err = problem.New(problem.Do("undo").With("list"), "what %s moved aside is not there any more: %w", u.Of.Title, err)
	}
	return finish(ctx, u.h, note, r, err)
}

// dropUnhappened forgets what the home has of a change that never happened.
func dropUnhappened(h *home.Home, p pointer, err error) {
	if errors.Is(err, fs.ErrNotExist) && len(p.Roots) > 0 {
		if _, statErr := filepath.EvalSymlinks(p.Roots[0]); statErr == nil {
			dropPointer(h, p)
		}
	}
}
