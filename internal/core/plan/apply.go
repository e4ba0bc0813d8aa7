package plan

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/change"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// lockWait is how long a change waits for another Ostrov.
const lockWait = 10 * time.Second

// Done is a change that has been made.
type Done struct {
	ID    string // what it is called in the history
	Moved bool   // false where only the logbook changed
}

// Apply carries a plan out, whole or not at all, and records what it means. Every step has been secured before.
func (p *Plan) Apply(ctx context.Context) (*Done, error) {
	if err := p.h.RequireRecords(); err != nil {
		return nil, err
	}
	if p.err != nil {
		return nil, p.err
	}
	all, err := pointers(p.h)
	if err != nil {
		return nil, err
	}
	note := pointer{Title: p.Title, Install: p.Install().Address(), Time: p.h.Now(), Effects: p.all()}
	if note.Effects.Mods, err = p.prepare(ctx); err != nil {
		return nil, err
	}
	if !p.Moves() {
		return recordOnly(ctx, p.h, note, lastSeq(all))
	}
	how, err := p.how(ctx, lastSeq(all))
	if err != nil {
		return nil, err
	}
	for _, s := range p.Steps {
		for _, t := range s.targets {
			before := t.before
			how.Items = append(how.Items, change.Item{Root: t.root, Create: t.fill != nil || t.place != "", Name: t.name, Fill: t.fill, From: t.place, Expect: &before, Safe: t.safe, Source: t.source})
		}
	}
	how.Announce = announce(p.h, &note)
	r, err := change.Apply(ctx, how)
	if err == nil {
		p.wrote(r)
	}
	return finish(ctx, p.h, note, r, err)
}

// wrote remembers what has been written, so that the next look need not read it, as far as nobody has written it since.
func (p *Plan) wrote(r *change.Record) {
	i := 0
	for _, s := range p.Steps {
		for _, t := range s.targets {
			for _, e := range r.Items[i].After.Entries {
				at := path.Join(t.name, e.Path)
				sums, ok := t.content[at]
				if !ok {
					continue
				}
				if now, err := tree.Stat(t.shown, at); err == nil && now.Kind == tree.File && now.Size == e.Size && now.ModTime.Equal(e.ModTime) {
					p.h.Hasher.Wrote(t.shown, now, sums)
				}
			}
			i++
		}
	}
}

// recordOnly makes a change that moves nothing.
func recordOnly(ctx context.Context, h *home.Home, note pointer, last int64) (*Done, error) {
	note.Seq = last + 1
	note.ID = fmt.Sprintf("c%010d-%s", note.Seq, "logbok")
	if note.Of == "" {
		note.Of = note.ID
	}
	if err := h.Write(note.file(), note); err != nil {
		return nil, err
	}
	return &Done{ID: note.ID}, record(ctx, h, note)
}

// how is all of a change but its items.
func (p *Plan) how(ctx context.Context, last int64) (change.Plan, error) {
	_, listed, err := changeable(ctx, p.h, p.Install())
	return change.Plan{Title: p.Title, Install: p.Install().Address(), Listed: listed, Guard: p.guarded(ctx), Held: held(p.h), Above: last, Now: p.h.Now(), Wait: lockWait}, err
}

// guarded asks the plan's guard, and that no other program has a target open for writing.
func (p *Plan) guarded(ctx context.Context) func() error {
	return func() error {
		if err := p.guard(); err != nil {
			return err
		}
		var paths []string
		for _, s := range p.Steps {
			for _, t := range s.targets {
				if !t.before.Missing() {
					paths = append(paths, t.path())
				}
			}
		}
		return notOpen(ctx, paths)
	}
}

// notOpen refuses to touch what another program has open for writing, as far as the system lets that be seen.
func notOpen(ctx context.Context, paths []string) error {
	if by, path := facts.OpenForWriting(ctx, paths); by != nil {
		return problem.Busy(problem.Advise("close it there, then try again"), "%s is open for writing in %s (process %d); nothing has been changed", path, by.Name, by.PID)
	}
	return nil
}

// announce notes in Ostrov's home what a change will be, and what it will mean.
func announce(h *home.Home, note *pointer) func(*change.Record) error {
	return func(r *change.Record) error {
		note.ID, note.Seq, note.Of, note.Back, note.Roots, note.Digest = r.ID, r.Seq, r.Of, r.Back, r.Roots(), r.Digest()
		return h.Write(note.file(), *note)
	}
}

// finish records a change that has happened. What fails after it has happened is caught up with by the next command.
func finish(ctx context.Context, h *home.Home, note pointer, r *change.Record, err error) (*Done, error) {
	if r == nil {
		if note.ID != "" {
			dropPointer(h, note)
		}
		return nil, explain(err)
	}
	if err == nil {
		err = record(ctx, h, note)
	}
	if err != nil {
		h.Log.Error("the change is made but not recorded", "error", err)
	}
	return &Done{ID: r.ID, Moved: true}, nil
}

// record makes the logbook know what a change meant.
func record(ctx context.Context, h *home.Home, note pointer) error {
	if err := learn(ctx, h, note.done()); err != nil {
		return err
	}
	note.Recorded = true
	return h.Write(note.file(), note)
}

// held reports whether something else keeps the old content of a change: the snapshot that it was kept in, if that is still there, or, of a
// save that belonged to no line then, a snapshot that has just that state of it since.
func held(h *home.Home) func(*change.Record, change.Exchange) bool {
	var all []pointer
	return func(r *change.Record, x change.Exchange) bool {
		a, err := h.Archive()
		if err != nil {
			return false
		}
		if playthrough, id, ok := strings.Cut(x.Safe.Snapshot, "/"); ok {
			return a.Has(playthrough, id)
		}
		if all == nil {
			if all, err = pointers(h); err != nil {
				return false
			}
		}
		for _, p := range all {
			if p.ID != r.ID || p.Digest != r.Digest() {
				continue
			}
			return keptSince(h, p, x.Root)
		}
		return false
	}
}

// keptSince reports whether snapshots have all the saves that a change replaced in a folder, as they were.
func keptSince(h *home.Home, p pointer, root string) bool {
	some := false
	for _, e := range p.Effects.Saves {
		if e.at().Folder != root || !e.Before.There {
			continue
		}
		if some = true; e.Before.Place == nil || !h.IsKept(e.Before.Place.Digest) {
			return false
		}
	}
	return some
}

// Beside is what lies beside a folder for undo.
type Beside = change.Kept

// Aside is what lies beside the folders of an install of what changes moved aside, to be taken back by undo.
func Aside(ctx context.Context, h *home.Home, in *game.Install) ([]Beside, error) {
	roots, listed, err := changeable(ctx, h, in)
	if err != nil {
		return nil, err
	}
	return change.KeptBeside(ctx, roots, listed)
}

// explain says what went wrong with a change in words for people.
func explain(err error) error {
	var locked *change.LockedError
	var unknown *change.UnknownError
	var unfinished *change.UnfinishedError
	switch {
	case errors.As(err, &locked):
		return problem.Busy(problem.Advise("nothing has been changed"), "%v", locked)
	case errors.As(err, &unfinished):
		return problem.Busy(problem.Do("look"), "%v; nothing has been changed", unfinished)
	case errors.As(err, &unknown):
		return explainUnknown(unknown)
	case errors.Is(err, change.ErrChanged):
		return problem.New(problem.Advise("everything is as it was; look again and repeat the command"), "%w", err)
	case home.IsFull(err):
		return problem.New(problem.Advise("everything is as it was; make room and repeat the command"), "the drive is full: %w", err)
	case errors.Is(err, change.ErrNoRoom), errors.Is(err, change.ErrLink):
		return problem.New(problem.Advise("everything is as it was"), "%w", err)
	}
	return err
}

func explainUnknown(u *change.UnknownError) error {
	var lines []string
	for _, x := range u.Record.Items {
		lines = append(lines, x.Target())
	}
	hints := problem.Advise("it says that it concerns %s", strings.Join(lines, ", "))
	hints = hints.Or(problem.Do("undo").With("unfinished").Note("if it was begun with another home of Ostrov's, on this or another computer"))
	return problem.Declined(hints, "%v; nothing has been changed", u)
}

// MayChange refuses to touch the folders of a running game. Of a kind of save that the game only reads on loading, saves that it has not
// written since it was started may be added and replaced.
func MayChange(ctx context.Context, in *game.Install, kind *game.Save, existing *save.Save) error {
	running, err := facts.Running(ctx, in.Game.Install.Process)
	if err != nil || len(running) == 0 {
		return err
	}
	p := running[0]
	if kind != nil && kind.WhileRunning == "others" && (existing == nil || existing.Modified.Before(p.Started)) {
		return nil
	}
	return problem.Busy(problem.Advise("close the game, then try again"), "%s runs (process %d); nothing has been changed", p.Name, p.PID)
}

// Unfinished is an error where a change of an install's folders is not finished: its saves are neither the old ones nor the new ones then.
// It touches nothing.
func Unfinished(ctx context.Context, h *home.Home, in *game.Install) error {
	roots, listed, err := changeable(ctx, h, in)
	if err != nil {
		return err
	}
	r, err := change.Unfinished(roots, listed)
	if err != nil {
		return err
	}
	if r == nil {
		return nil
	}
	return problem.Busy(problem.Do("look", h.Called(in)).Note("puts it in order"), "a change of %s is not finished: %s", in.Address(), r.Title)
}

// Settled is what Settle put in order.
type Settled struct {
	Finished []string // titles of changes that had happened
	Undone   []string // titles of changes that were put back
}

// Any reports whether there was anything to put in order.
func (s Settled) Any() bool { return len(s.Finished)+len(s.Undone) > 0 }

// Settle puts in order what an interrupted command left in the folders of an install, and makes the logbook know of changes that happened.
func Settle(ctx context.Context, h *home.Home, in *game.Install) (Settled, error) {
	return settle(ctx, h, in, "")
}

// SettleUnknown is Settle that also believes a journal which this home knows nothing of: the player has seen what it says, and that is
// Unknown's digest.
func SettleUnknown(ctx context.Context, h *home.Home, in *game.Install, digest string) (Settled, error) {
	return settle(ctx, h, in, digest)
}

// Unknown is the change beside an install's folders that is not finished and that this home knows nothing of: its title, each path that it
// concerns, and its digest; "" where there is none.
func Unknown(ctx context.Context, h *home.Home, in *game.Install) (title string, paths []string, digest string, err error) {
	roots, listed, err := changeable(ctx, h, in)
	if err != nil {
		return "", nil, "", err
	}
	for _, root := range roots {
		r, err := change.Unfinished([]string{root}, listed)
		if err != nil {
			return "", nil, "", err
		}
		if r == nil || vouch(h)(r.ID, r.Digest()) {
			continue
		}
		for _, x := range r.Items {
			if !slices.Contains(roots, x.Root) {
				return "", nil, "", problem.Declined(nil, "the change beside %s concerns %s, which is no folder of %s; it is left alone", root, x.Target(), in.Address())
			}
			paths = append(paths, x.Target())
		}
		return r.Title, paths, r.Digest(), nil
	}
	return "", nil, "", nil
}

func settle(ctx context.Context, h *home.Home, in *game.Install, believe string) (Settled, error) {
	var s Settled
	roots, listed, err := changeable(ctx, h, in)
	if err != nil {
		return s, err
	}
	did, err := change.Recover(ctx, roots, listed, vouch(h), believe)
	for _, r := range did {
		if r.State == "done" {
			s.Finished = append(s.Finished, r.Title)
		} else {
			s.Undone = append(s.Undone, r.Title)
		}
	}
	if err != nil {
		return s, explain(err)
	}
	return s, catchUp(ctx, h, in)
}

// catchUp records what changes of a game's installs meant that happened and were not recorded, since Ostrov was stopped in between.
// Installs may share folders, so those of the others count too.
func catchUp(ctx context.Context, h *home.Home, in *game.Install) error {
	if h.Unrecorded != nil {
		return nil
	}
	all, err := pointers(h)
	if err != nil {
		return err
	}
	for _, p := range all {
		if p.Recorded || !strings.HasPrefix(p.Install, in.Game.ID+"@") || p.Dir != "" && p.Outcome == nil {
			continue
		}
		if _, r, err := recordOf(ctx, h, p); err != nil {
			dropUnhappened(h, p, err)
			continue
		} else if r == nil && len(p.Roots) > 0 {
			continue
		}
		if err := record(ctx, h, p); err != nil {
			return err
		}
	}
	return nil
}
