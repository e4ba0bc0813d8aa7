package plan

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/change"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/tree"
)

// pointer is what Ostrov's home knows of a change: by its digest the journals and records beside the folders are believed.
type pointer struct {
	ID      string    `json:"id"`
	Seq     int64     `json:"seq,omitempty"`
	Of      string    `json:"of,omitempty"`
	Back    bool      `json:"back,omitempty"`
	Title   string    `json:"title"`
	Install string    `json:"install"`
	Time    time.Time `json:"time,omitzero"`
	Roots   []string  `json:"roots,omitempty"` // none: it moves nothing
	Digest  string    `json:"digest,omitempty"`
	Effects Effects   `json:"effects,omitzero"`
	// Recorded tells that the logbook knows the effects.
	Recorded bool `json:"recorded,omitempty"`

	// What the first homes had instead.
	Dir     string       `json:"dir,omitempty"`
	Outcome *firstEffect `json:"outcome,omitempty"`
	OnUndo  *firstEffect `json:"on_undo,omitempty"`
}

// firstEffect is what the first homes had for Effects.
type firstEffect struct {
	Start    *logbook.Playthrough `json:"start"`
	Activate string               `json:"activate"`
	Assign   []struct {
		Key         logbook.Key `json:"key"`
		Playthrough string      `json:"playthrough"`
		Install     string      `json:"install"`
	} `json:"assign"`
	Forget []logbook.Key `json:"forget"`
	Drop   string        `json:"drop"`
}

func (f *firstEffect) effects(install string) Effects {
	if f == nil {
		return Effects{}
	}
	e := Effects{Start: f.Start, Active: f.Activate}
	if f.Drop != "" {
		e.Drop = &logbook.Playthrough{Name: f.Drop}
	}
	for _, key := range f.Forget {
		e.Saves = append(e.Saves, Effect{Install: install, Key: key})
	}
	for _, a := range f.Assign {
		whose := install
		if a.Install != "" {
			whose = a.Install
		}
		e.Saves = append(e.Saves, Effect{Install: whose, Key: a.Key, After: Stand{There: a.Playthrough != "", Line: a.Playthrough}})
	}
	return e
}

const changesDir = "changes"

func (p pointer) file() string { return changesDir + "/" + p.ID + ".json" }

// effects of the change and, reversed, of taking it back.
func (p pointer) undone() Effects {
	if p.Dir != "" {
		return p.OnUndo.effects(p.Install)
	}
	return p.Effects.reversed()
}

func (p pointer) done() Effects {
	if p.Dir != "" {
		return p.Outcome.effects(p.Install)
	}
	return p.Effects
}

// pointers are what the home knows of changes, in their order.
func pointers(h *home.Home) ([]pointer, error) {
	names, err := h.List(changesDir, ".json")
	if err != nil {
		return nil, err
	}
	var all []pointer
	for _, name := range names {
		var p pointer
		if err := h.Read(changesDir+"/"+name, &p); err != nil {
			h.Log.Warn("a note of a change cannot be read", "error", err)
			continue
		}
		if p.ID+".json" != name {
			continue
		}
		if in := h.Named(p.Install); in != nil {
			p.Install = in.Address() // it may have been renamed since
		}
		all = append(all, p)
	}
	slices.SortStableFunc(all, func(a, b pointer) int {
		if a.Seq != b.Seq {
			return int(a.Seq - b.Seq)
		}
		return strings.Compare(a.ID, b.ID)
	})
	return all, nil
}

func lastSeq(all []pointer) int64 {
	var last int64
	for _, p := range all {
		last = max(last, p.Seq)
	}
	return last
}

// vouch knows a change by what the home has of it.
func vouch(h *home.Home) change.Vouch {
	return func(id, digest string) bool {
		all, err := pointers(h)
		if err != nil {
			return false
		}
		return slices.ContainsFunc(all, func(p pointer) bool {
			return p.ID == id && (p.Digest == digest || p.Digest == "" && p.Dir != "")
		})
	}
}

// Change is one that was made, or taken back.
type Change struct {
	ID      string
	Title   string
	Install string
	Time    time.Time
	Undone  bool // it has been taken back, and not made again

	first  pointer // the change as such
	latest pointer // what was done of it last: the change, its undoing, or its making again
	record *change.Record
	in     *game.Install // or nil where it is not known any more
}

// History are the changes that can be taken back or made again, oldest first; of one install, or of all for nil.
func History(ctx context.Context, h *home.Home, only *game.Install) ([]*Change, error) {
	all, err := pointers(h)
	if err != nil {
		return nil, err
	}
	var list []*Change
	byID := map[string]*Change{}
	for _, p := range all {
		if only != nil && p.Install != only.Address() {
			continue
		}
		in, r, err := recordOf(ctx, h, p)
		// It may never have happened, its install be away, or what it moved aside be gone by now: then it only says what a later undoing of it is of.
		gone := err != nil || r == nil && (len(p.Roots) > 0 || p.Dir != "")
		of, back := cmp.Or(p.Of, p.ID), p.Back
		if !gone && r != nil {
			of, back = r.Of, r.Back
		}
		c := byID[of]
		if c == nil {
			c = &Change{ID: of, Title: p.Title, Install: p.Install, Time: p.Time, first: p, in: in}
			if !gone && r != nil && c.Time.IsZero() {
				c.Time = r.Time
			}
			byID[of] = c
			list = append(list, c)
		}
		if !gone {
			c.latest, c.record, c.Undone = p, r, back
		}
	}
	return slices.DeleteFunc(list, func(c *Change) bool { return c.latest.ID == "" }), nil
}

// recordOf finds the install of a change and its record; nil for one that moved nothing.
func recordOf(ctx context.Context, h *home.Home, p pointer) (*game.Install, *change.Record, error) {
	in := h.Named(p.Install)
	if in == nil {
		return nil, nil, fs.ErrNotExist
	}
	if p.Dir != "" {
		r, err := change.ReadFirst(p.Dir)
		return in, r, err
	}
	if len(p.Roots) == 0 {
		return in, nil, nil
	}
	_, listed, err := changeable(ctx, h, in)
	if err != nil {
		return in, nil, err
	}
	r, err := change.Find(p.Roots[0], listed, p.ID)
	if err == nil && r.Digest() != p.Digest {
		err = errors.New("it is not the record that was written")
	}
	return in, r, err
}

// changeable are the folders of an install that Ostrov changes, and those in or directly beside which nothing may be staged: the game
// lists what is in them, and account folders by their parent.
func changeable(ctx context.Context, h *home.Home, in *game.Install) (roots, listed []string, err error) {
	if err := facts.Open(ctx, h, in); err != nil {
		return nil, nil, err
	}
	folders, err := in.Folders(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, f := range folders {
		listed = append(listed, f.Path, f.Real)
		if f.Account != "" {
			listed = append(listed, filepath.Dir(f.Path), filepath.Dir(f.Real))
		}
		if !f.Managed {
			roots = append(roots, f.Real)
		}
	}
	if in.Game.MergesIntoGame() {
		roots = append(roots, tree.Real(in.Root))
	}
	groups, err := in.FileGroups(ctx)
	for _, g := range groups {
		roots = append(roots, tree.Real(g.Dir))
	}
	slices.Sort(roots)
	return slices.Compact(roots), listed, err
}

// dropPointer forgets a change that never happened, where its folder is there to tell.
func dropPointer(h *home.Home, p pointer) {
	dir := p.Dir
	if dir == "" && len(p.Roots) > 0 {
		dir = p.Roots[0]
	}
	if _, err := os.Stat(filepath.Dir(dir)); err == nil && dir != "" {
		if err := h.Remove(p.file()); err != nil {
			h.Log.Warn("a note of a change stays", "error", err)
		}
	}
}
