package coretest_test

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/coretest"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/handle"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/record"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/vet"
	"ostrov/internal/longtest"
)

// walk is a player who does anything in no order. What it checks is that no bytes are lost that once lay in the folder of saves, but for
// those that the player deletes.
type walk struct {
	*coretest.World
	t      *testing.T
	r      *rand.Rand
	turn   int
	done   []string
	must   map[tree.Digest]string // file digests that are to be had somewhere, and since when
	in     map[string]map[tree.Digest]bool
	before []map[string]string // what the folder was before each change that can be taken back
}

// present is what lies in the folder of saves.
func (w *walk) present() map[string]string { return seen(w.t, w.Voyages()) }

// digests are those of all files below a folder.
func (w *walk) digests(dir string, into map[tree.Digest]bool) {
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return err
		}
		data, err := os.ReadFile(path)
		into[tree.Digest(blake3.Sum256(data))] = true
		return err
	})
	require.True(w.t, err == nil || errors.Is(err, fs.ErrNotExist), err)
}

// everywhere is all that is to be had: in the folder, aside beside it, and in the archive.
func (w *walk) everywhere() map[tree.Digest]bool {
	all := map[tree.Digest]bool{}
	w.digests(w.Voyages(), all)
	for dir := w.Voyages(); len(dir) > len(w.Root); dir = filepath.Dir(dir) {
		w.digests(filepath.Join(dir, tree.AreaName), all)
	}
	a, err := w.Existing()
	if errors.Is(err, fs.ErrNotExist) {
		return all
	}
	require.NoError(w.t, err)
	names, err := a.Playthroughs()
	require.NoError(w.t, err)
	for _, name := range names {
		snapshots, broken, err := a.Snapshots(name)
		require.NoError(w.t, err)
		require.Empty(w.t, broken)
		for _, s := range snapshots {
			if w.in[s.ID] == nil {
				w.in[s.ID] = map[tree.Digest]bool{}
				for _, root := range s.Roots {
					require.NoError(w.t, a.Nodes(w.t.Context(), root, func(n archive.Node) error { w.in[s.ID][n.Digest] = true; return nil }))
				}
			}
			maps.Copy(all, w.in[s.ID])
		}
	}
	return all
}

// see is what the next command does first. What lies in the folder then must not be lost any more.
func (w *walk) see() *facts.State {
	w.Again()
	st := w.See("tidewrack")
	now := map[tree.Digest]bool{}
	w.digests(w.Voyages(), now)
	for d := range now {
		if w.must[d] == "" {
			w.must[d] = fmt.Sprint("turn ", w.turn)
		}
	}
	return st
}

// tried reports whether something went well. What a command refuses changes nothing.
func (w *walk) tried(before map[string]string, err error) bool {
	if err == nil {
		return true
	}
	require.True(w.t, errors.As(err, new(*problem.Error)), "%v: %v", w.done, err)
	require.Equal(w.t, before, w.present(), "%v: refused, and changed: %v", w.done, err)
	return false
}

// change plans something, now and then only to show it, and carries it out.
func (w *walk) change(planned func(*facts.State) (*plan.Plan, error)) {
	st := w.see()
	before := w.present()
	p, err := planned(st)
	if !w.tried(before, err) {
		return
	}
	require.Equal(w.t, before, w.present(), "%v: a plan changes nothing", w.done)
	if p.Empty() || w.r.IntN(6) == 0 { // shown only
		return
	}
	_, err = keep.Before(w.t.Context(), w.Home, p, keep.PresentList)
	if !w.tried(before, err) {
		return
	}
	_, err = p.Apply(w.t.Context())
	if w.tried(before, err) {
		w.before = append(w.before, before)
	}
}

func (w *walk) save(st *facts.State) *facts.Save {
	if len(st.Saves) == 0 {
		return nil
	}
	return st.Saves[w.r.IntN(len(st.Saves))]
}

// play writes into any slot, as the game would.
func (w *walk) play() {
	slot := w.Voyages(fmt.Sprintf("slot_%02d", w.r.IntN(10)))
	if _, err := os.Stat(slot); err != nil {
		require.NoError(w.t, os.CopyFS(slot, os.DirFS(filepath.Join(w.Root, "template"))))
	}
	gone := map[tree.Digest]bool{}
	w.digests(slot, gone)
	require.NoError(w.t, os.WriteFile(filepath.Join(slot, "chart.bin"), fmt.Appendf(nil, "chart of turn %d, %d", w.turn, w.r.Int()), 0o644))
	w.forget(gone)
}

// lose deletes a save, as a player may in the game.
func (w *walk) lose() {
	slot := w.Voyages(fmt.Sprintf("slot_%02d", w.r.IntN(10)))
	gone := map[tree.Digest]bool{}
	w.digests(slot, gone)
	require.NoError(w.t, os.RemoveAll(slot))
	w.forget(gone)
}

// forget drops what the player has deleted and nothing else has.
func (w *walk) forget(gone map[tree.Digest]bool) {
	all := w.everywhere()
	for d := range gone {
		if !all[d] {
			delete(w.must, d)
		}
	}
}

func (w *walk) lines() []logbook.Playthrough {
	return w.See("tidewrack").Lines
}

func (w *walk) line() string {
	lines := w.lines()
	if len(lines) == 0 {
		return "none"
	}
	return lines[w.r.IntN(len(lines))].Name
}

func (w *walk) keep() {
	w.see()
	req := keep.Request{}
	if w.r.IntN(3) == 0 {
		req.As = w.line()
	}
	_, err := keep.Keep(w.t.Context(), w.Home, w.In("tidewrack"), req)
	w.tried(w.present(), err)
}

// place brings in a download, into any slot: also one that a save of another line has.
func (w *walk) place() {
	dir := filepath.Join(w.Root, "generated", fmt.Sprint("turn ", w.turn), "slot_04")
	require.NoError(w.t, os.MkdirAll(filepath.Dir(dir), 0o755))
	require.NoError(w.t, os.CopyFS(dir, os.DirFS(filepath.Join(w.Root, "template"))))
	require.NoError(w.t, os.WriteFile(filepath.Join(dir, "chart.bin"), fmt.Appendf(nil, "download of turn %d", w.turn), 0o644))
	req := vet.Request{For: "tidewrack@main"}
	if w.r.IntN(3) > 0 {
		req.Slot = fmt.Sprint(1 + w.r.IntN(10))
	}
	var v *vet.Vetting
	var a *vet.Assessment
	w.change(func(*facts.State) (*plan.Plan, error) {
		var err error
		if v, err = vet.Vet(w.t.Context(), w.Home, dir, req); err != nil {
			return nil, err
		}
		var p *plan.Plan
		p, a, err = v.Place(w.t.Context(), true)
		return p, err
	})
	if v != nil {
		require.NoError(w.t, v.Close())
	}
	_ = a
}

func (w *walk) snapshot() *archive.Snapshot {
	a, err := w.Existing()
	if err != nil {
		return nil
	}
	names, err := a.Playthroughs()
	require.NoError(w.t, err)
	if len(names) == 0 {
		return nil
	}
	all, _, err := a.Snapshots(names[w.r.IntN(len(names))])
	require.NoError(w.t, err)
	if len(all) == 0 {
		return nil
	}
	return all[w.r.IntN(len(all))]
}

func (w *walk) restore() {
	w.change(func(st *facts.State) (*plan.Plan, error) { return someRestore(w.World, w.r, st, w.snapshot()) })
}

// someRestore plans to put a snapshot back, all of it or one slot.
func someRestore(w *coretest.World, r *rand.Rand, st *facts.State, snap *archive.Snapshot) (*plan.Plan, error) {
	if snap == nil {
		return nil, problem.Usage(nil, "nothing is kept")
	}
	req := keep.RestoreRequest{}
	if len(snap.Saves) > 0 && r.IntN(2) == 0 {
		req.Slot = snap.Saves[r.IntN(len(snap.Saves))].Slot
	}
	return keep.Restore(w.T.Context(), w.Home, st, snap, req)
}

func (w *walk) swap() {
	w.change(func(st *facts.State) (*plan.Plan, error) { return someSwap(w.World, w.r, st) })
}

// someSwap plans to swap to any line.
func someSwap(w *coretest.World, r *rand.Rand, st *facts.State) (*plan.Plan, error) {
	if len(st.Lines) == 0 {
		return nil, problem.Usage(nil, "no line")
	}
	return keep.Swap(w.T.Context(), w.Home, st, st.Lines[r.IntN(len(st.Lines))], keep.SwapRequest{Anyway: true})
}

func (w *walk) fresh() {
	if len(w.lines()) > 3 {
		return
	}
	w.change(func(st *facts.State) (*plan.Plan, error) {
		return keep.Fresh(w.t.Context(), w.Home, st, fmt.Sprint("Run ", w.turn), keep.SwapRequest{})
	})
}

func (w *walk) handle() {
	w.change(func(st *facts.State) (*plan.Plan, error) {
		s := w.save(st)
		if s == nil {
			return nil, problem.Usage(nil, "no save")
		}
		to := fmt.Sprint(1 + w.r.IntN(10))
		switch w.r.IntN(3) {
		case 0:
			return handle.Rename(w.t.Context(), w.Home, st, s, to)
		case 1:
			return handle.Duplicate(w.t.Context(), w.Home, st, s, to)
		default:
			return handle.Remove(w.t.Context(), w.Home, st, s)
		}
	})
}

// lineUp assigns saves, and starts, closes and activates lines: also so that none is played.
func (w *walk) lineUp() {
	st := w.see()
	before := w.present()
	ctx := w.t.Context()
	switch s := w.save(st); w.r.IntN(4) {
	case 0:
		if len(st.Lines) < 4 {
			_, err := record.StartLine(ctx, w.Home, st, fmt.Sprint("Line ", w.turn), false)
			w.tried(before, err)
		}
	case 1:
		w.tried(before, record.ChangeLine(ctx, w.Home, w.line(), func(p *logbook.Playthrough) { p.Active, p.Closed = false, true }))
	case 2:
		w.tried(before, record.ChangeLine(ctx, w.Home, w.line(), func(p *logbook.Playthrough) { p.Active, p.Closed = true, false }))
	default:
		if s != nil && len(st.Lines) > 0 {
			w.tried(before, record.Assign(ctx, w.Home, st, s, st.Lines[w.r.IntN(len(st.Lines))]))
		}
	}
	require.Equal(w.t, before, w.present(), w.done)
}

// undo takes back what was done last, or makes it again.
func (w *walk) undo(back func(context.Context) (*plan.Undoing, error)) {
	w.see()
	before := w.present()
	u, err := back(w.t.Context())
	if !w.tried(before, err) {
		return
	}
	_, err = keep.Before(w.t.Context(), w.Home, u.Plan, keep.PresentList)
	if !w.tried(before, err) {
		return
	}
	_, err = u.Apply(w.t.Context())
	w.tried(before, err)
}

// TestWhateverAPlayerDoesNothingIsLost plays, deletes, keeps, places, restores, swaps, starts over, handles, assigns and takes back in no
// order.
func TestWhateverAPlayerDoesNothingIsLost(t *testing.T) {
	steps := []struct {
		name   string
		often  int
		action func(*walk)
	}{
		{"play", 6, (*walk).play}, {"lose", 1, (*walk).lose}, {"keep", 2, (*walk).keep}, {"place", 4, (*walk).place}, {"restore", 3, (*walk).restore},
		{"swap", 3, (*walk).swap}, {"fresh", 1, (*walk).fresh}, {"handle", 3, (*walk).handle}, {"line", 2, (*walk).lineUp},
		{"undo", 3, func(w *walk) {
			w.undo(func(ctx context.Context) (*plan.Undoing, error) { return plan.Undo(ctx, w.Home, nil) })
		}},
		{"redo", 2, func(w *walk) {
			w.undo(func(ctx context.Context) (*plan.Undoing, error) { return plan.Redo(ctx, w.Home, nil) })
		}},
	}
	var dice []int
	for i, s := range steps {
		dice = append(dice, slices.Repeat([]int{i}, s.often)...)
	}
	for seed := range longtest.Of(4, 30) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			t.Parallel()
			w := &walk{World: coretest.New(t), t: t, r: rand.New(rand.NewPCG(uint64(seed), 8)), must: map[tree.Digest]string{}, in: map[string]map[tree.Digest]bool{}}
			require.NoError(t, os.CopyFS(w.Path("template"), os.DirFS(w.Voyages("slot_00"))))
			w.see()
			changes := 0
			for w.turn = range longtest.Of(25, 60) {
				step := steps[dice[w.r.IntN(len(dice))]]
				w.done = append(w.done, step.name)
				count := len(w.before)
				step.action(w)
				changes += len(w.before) - count
				all := w.everywhere()
				for d, since := range w.must {
					require.True(t, all[d], "bytes that lay in the folder since %s are nowhere, after %s", since, strings.Join(w.done, ", "))
				}
			}
			require.Positive(t, changes)
			t.Logf("%d changes", changes)
		})
	}
}
