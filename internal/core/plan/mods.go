package plan

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/change"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/tree"
)

// EntryEffect is what a change means for the ledger: the entry of a mod before and after it, as the home's store has them; zero for none.
type EntryEffect struct {
	Game   string      `json:"game"`
	Key    ledger.Key  `json:"key"`
	Before tree.Digest `json:"before,omitzero"`
	After  tree.Digest `json:"after,omitzero"`
}

// entering is a change of the ledger that a plan makes.
type entering struct {
	key           ledger.Key
	before, after *ledger.Entry
}

// holding is a content that must be in the home's store before a plan is carried out.
type holding struct {
	digest tree.Digest
	open   func() (io.ReadCloser, error)
}

// Enter plans that the ledger has after instead of before; nil is none.
func (p *Plan) Enter(before, after *ledger.Entry) {
	e := entering{before: before, after: after}
	if after != nil {
		e.key = after.Key()
	} else {
		e.key = before.Key()
	}
	p.entries = append(p.entries, e)
}

// Entering are the entries that the ledger will have anew, or otherwise than now.
func (p *Plan) Entering() []*ledger.Entry {
	var all []*ledger.Entry
	for _, e := range p.entries {
		if e.after != nil {
			all = append(all, e.after)
		}
	}
	return all
}

// Hold plans that the home's store has a content before anything is changed.
func (p *Plan) Hold(digest tree.Digest, open func() (io.ReadCloser, error)) {
	p.held = append(p.held, holding{digest, open})
}

// Before plans that something is done before anything is changed, which leaves at most something unused behind: a download is put into the
// archive.
func (p *Plan) Before(do func(context.Context) error) { p.first = append(p.first, do) }

// prepare stores what the plan's steps and the ledger stand on, and returns what it means for the ledger.
func (p *Plan) prepare(ctx context.Context) ([]EntryEffect, error) {
	for _, do := range p.first {
		if err := do(ctx); err != nil {
			return nil, err
		}
	}
	store := p.h.Store()
	for _, hold := range p.held {
		if store.Has(hold.digest) {
			continue
		}
		r, err := hold.open()
		if err == nil {
			err = store.Put(ctx, hold.digest, r)
			r.Close()
		}
		if err != nil {
			return nil, fmt.Errorf("what lies under a mod cannot be kept, so nothing has been changed: %w", err)
		}
	}
	var effects []EntryEffect
	for _, e := range p.entries {
		effect := EntryEffect{Game: p.Install().Game.ID, Key: e.key}
		var err error
		if effect.Before, err = p.h.NoteEntry(ctx, e.before); err != nil {
			return nil, err
		}
		if effect.After, err = p.h.NoteEntry(ctx, e.after); err != nil {
			return nil, err
		}
		effects = append(effects, effect)
	}
	return effects, store.Sync()
}

// enter makes the ledger what a change means for it.
func enter(h *home.Home, effects []EntryEffect) error {
	var set []home.Entered
	for _, e := range effects {
		if in := h.Named(e.Key.Install); in != nil {
			e.Key.Install = in.Address() // it may have been renamed since
		}
		set = append(set, home.Entered{Game: e.Game, Key: e.Key, Noted: e.After})
	}
	return h.SetEntries(set)
}

// Left is something that a change took out of a folder, or replaced in it, and left beside it.
type Left struct {
	Root, Name string
	Place      string // in the folder's area, for Target.Place
	Path       string // where it lies
}

// LeftBy is what lies beside the folders of an install of what the changes took away that made the ledger say this of mods; what nothing has any
// more is not among it.
func LeftBy(ctx context.Context, h *home.Home, in *game.Install, entries []*ledger.Entry) ([]Left, error) {
	wanted := map[tree.Digest]bool{}
	for _, e := range entries {
		data, err := e.Encode()
		if err != nil {
			return nil, err
		}
		sums, _, err := tree.SumReader(ctx, bytes.NewReader(data), false, io.Discard)
		if err != nil {
			return nil, err
		}
		wanted[sums.Blake3] = true
	}
	all, err := pointers(h)
	if err != nil {
		return nil, err
	}
	_, listed, err := changeable(ctx, h, in)
	if err != nil {
		return nil, err
	}
	var left []Left
	for _, p := range slices.Backward(all) {
		if len(wanted) == 0 {
			break
		}
		made := false
		for _, f := range p.done().Mods {
			if wanted[f.After] {
				made = true
			}
		}
		if !made {
			continue
		}
		_, r, err := recordOf(ctx, h, p)
		if err != nil || r == nil {
			continue
		}
		for _, f := range p.done().Mods {
			delete(wanted, f.After)
		}
		left = append(left, leftOf(r, listed)...)
	}
	return left, nil
}

func leftOf(r *change.Record, listed []string) []Left {
	var left []Left
	for _, x := range r.Items {
		if place, full := x.Left(listed); place != "" {
			left = append(left, Left{x.Root, x.Name, place, full})
		}
	}
	return left
}

// Within is what of it lies at a path below its root, or "".
func (l Left) Within(root, name string) string {
	if root != l.Root {
		return ""
	}
	rest, below := strings.CutPrefix(name, l.Name+"/")
	switch {
	case name == l.Name:
		return l.Path
	case below:
		return filepath.Join(l.Path, filepath.FromSlash(rest))
	}
	return ""
}
