package job

import (
	"fmt"
	"hash/crc32"
	"log/slog"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/archive"
)

// slots are the saves of one playthrough: what stands in the chart of each.
type slots map[string]string

// walk is a player who does this and that in no order, with a model of what must then be in the folder of saves.
type walk struct {
	*world
	r      *rand.Rand
	folder string
	active string
	own    map[string]slots // by playthrough, that which is played and those that are put away
	loose  slots            // what belongs to a playthrough that is not played and not put away
	kept   []keptState
	done   []string // what was done so far, for messages
}

type keptState struct {
	playthrough, address string
	saves                slots
}

const shared = "slot_09" // of the playthrough that is never played

func newWalk(t *testing.T, seed uint64) *walk {
	w := &walk{world: newWorld(t), r: rand.New(rand.NewPCG(seed, 5)), active: "tidewrack", own: map[string]slots{}, loose: slots{}}
	w.folder = w.path("prefix", "drive_c", "users", "keeper", "Documents", "Tidewrack", "lit", "70431")
	require.NoError(t, os.CopyFS(filepath.Join(w.folder, shared), os.DirFS(filepath.Join(w.folder, "slot_00"))))
	w.keep() // with one playthrough all saves are its own
	w.begin()
	return w
}

// begin makes a second playthrough to swap to, and a third one, which is never played, for one save.
func (w *walk) begin() {
	w.own[w.active] = w.present()
	in := w.tidewrack().Install
	for _, title := range []string{"Spare", "Other"} {
		_, err := w.StartPlaythrough(w.t.Context(), in, title)
		require.NoError(w.t, err)
	}
	w.own["spare"] = slots{}
	require.NoError(w.t, w.Activate(w.t.Context(), w.active))
	w.loose[shared] = w.own[w.active][shared]
	delete(w.own[w.active], shared)
	require.NoError(w.t, w.Assign(w.t.Context(), "other", []string{"tidewrack/" + shared}))
}

// again is the next command: what the last one had in memory is gone.
func (w *walk) again() {
	home := w.Home
	require.NoError(w.t, w.Close())
	s, err := Open(Options{Home: home, Now: time.Now, Log: slog.New(slog.DiscardHandler)})
	require.NoError(w.t, err)
	w.Session = s
}

func (w *walk) tidewrack() *Look {
	in, err := w.Install("tidewrack")
	require.NoError(w.t, err)
	l, err := w.Look(w.t.Context(), in)
	require.NoError(w.t, err)
	return l
}

// present is what is in the folder of saves.
func (w *walk) present() slots {
	found := slots{}
	list, err := os.ReadDir(w.folder)
	require.NoError(w.t, err)
	for _, e := range list {
		chart, err := os.ReadFile(filepath.Join(w.folder, e.Name(), "chart.bin"))
		if err == nil {
			found[e.Name()] = short(chart)
		}
	}
	return found
}

// short stands for what is in a chart.
func short(chart []byte) string {
	if len(chart) > 60 {
		return fmt.Sprintf("%08x", crc32.ChecksumIEEE(chart))
	}
	return string(chart)
}

// play writes a save as the game does, over one that is there or into a free slot.
func (w *walk) play() {
	slot := fmt.Sprintf("slot_%02d", w.r.IntN(9))
	dir := filepath.Join(w.folder, slot)
	if _, err := os.Stat(dir); err != nil {
		require.NoError(w.t, os.CopyFS(dir, os.DirFS(filepath.Join(w.folder, shared))))
	}
	chart := fmt.Sprintf("%s, %d", w.active, w.r.Uint32())
	require.NoError(w.t, os.WriteFile(filepath.Join(dir, "chart.bin"), []byte(chart), 0o644))
	w.own[w.active][slot] = chart
	w.tidewrack() // Ostrov sees it while this playthrough is active
}

// lose is the game that loses a save.
func (w *walk) lose() {
	for slot := range w.own[w.active] {
		require.NoError(w.t, os.RemoveAll(filepath.Join(w.folder, slot)))
		delete(w.own[w.active], slot)
		return
	}
}

func (w *walk) keep() *archive.Snapshot {
	kept, err := w.Keep(w.t.Context(), w.tidewrack().Install, KeepRequest{})
	require.NoError(w.t, err, w.done)
	if len(w.own) > 0 {
		w.kept = append(w.kept, keptState{w.active, kept.Snapshot.Address(), maps.Clone(w.own[w.active])})
	}
	return kept.Snapshot
}

// apply carries a plan out, and half of the times takes it back and carries it out once more.
func (w *walk) apply(plan func() (*Planned, error)) {
	before := w.present()
	for range 1 + w.r.IntN(2) {
		p, err := plan()
		require.NoError(w.t, err, w.done)
		if !p.Changes() && !p.Activates() { // it is just so
			return
		}
		done, err := w.Apply(w.t.Context(), p)
		require.NoError(w.t, err, w.done)
		if done.Record == nil || w.r.IntN(2) == 0 {
			return
		}
		w.again()
		_, err = w.Undo(w.t.Context(), done.Record, false)
		require.NoError(w.t, err, w.done)
		assert.Equal(w.t, before, w.present(), "%v, taken back", w.done)
		w.again()
	}
	p, err := plan()
	require.NoError(w.t, err, w.done)
	_, err = w.Apply(w.t.Context(), p)
	require.NoError(w.t, err, w.done)
}

func (w *walk) restore() {
	var of []keptState
	for _, k := range w.kept {
		if k.playthrough == w.active {
			of = append(of, k)
		}
	}
	if len(of) == 0 {
		return
	}
	k := of[w.r.IntN(len(of))]
	w.apply(func() (*Planned, error) {
		snap, err := w.Snapshot(k.address)
		require.NoError(w.t, err)
		return w.PlanRestore(w.t.Context(), snap, RestoreRequest{})
	})
	w.own[w.active] = maps.Clone(k.saves)
}

func (w *walk) swap() {
	names := slices.Sorted(maps.Keys(w.own))
	to := names[w.r.IntN(len(names))]
	if to == w.active {
		return
	}
	w.apply(func() (*Planned, error) { return w.PlanSwap(w.t.Context(), to, SwapRequest{}) })
	w.active = to
}

func (w *walk) fresh() {
	if len(w.own) > 4 {
		return
	}
	title := fmt.Sprint("Fresh ", len(w.own))
	w.apply(func() (*Planned, error) { return w.PlanFresh(w.t.Context(), w.tidewrack(), title, SwapRequest{}) })
	w.active = slug(title)
	w.own[w.active] = slots{}
}

// check compares the folder with the model.
func (w *walk) check() {
	want := maps.Clone(w.loose)
	maps.Copy(want, w.own[w.active])
	require.Equal(w.t, want, w.present(), "after %v", w.done)
	for _, st := range w.tidewrack().Saves {
		whose := w.active
		if st.Name == shared {
			whose = "other"
		}
		require.Equal(w.t, whose, st.Playthrough, "%s after %v", st.Name, w.done)
	}
}

// TestWhateverAPlayerDoesEverySaveIsWhereItBelongs plays, loses, keeps, restores, swaps and starts over in no order.
func TestWhateverAPlayerDoesEverySaveIsWhereItBelongs(t *testing.T) {
	steps := []struct {
		name   string
		often  int
		action func(*walk)
	}{
		{"play", 5, (*walk).play}, {"lose", 1, (*walk).lose}, {"keep", 3, func(w *walk) { w.keep() }},
		{"restore", 2, (*walk).restore}, {"swap", 3, (*walk).swap}, {"fresh", 1, (*walk).fresh},
	}
	var dice []int
	for i, s := range steps {
		dice = append(dice, slices.Repeat([]int{i}, s.often)...)
	}
	for _, seed := range []uint64{3, 9, 11, 19} { // these found something once
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			w := newWalk(t, seed)
			w.check()
			for range 30 {
				step := steps[dice[w.r.IntN(len(dice))]]
				w.done = append(w.done, step.name)
				w.again()
				step.action(w)
				w.again()
				w.check()
			}
			report, err := w.VerifyArchive(t.Context())
			require.NoError(t, err)
			assert.Empty(t, report.Damage)
			for _, k := range w.kept { // and each of them is still to be had
				snap, err := w.Snapshot(k.address)
				require.NoError(t, err)
				to := filepath.Join(t.TempDir(), "there")
				_, err = w.RestoreTo(t.Context(), snap, to, RestoreRequest{Only: []string{archive.Saves}})
				require.NoError(t, err)
				got := slots{}
				charts, err := filepath.Glob(filepath.Join(to, "*", "*", "chart.bin"))
				require.NoError(t, err)
				for _, c := range charts {
					data, err := os.ReadFile(c)
					require.NoError(t, err)
					got[filepath.Base(filepath.Dir(c))] = short(data)
				}
				assert.Equal(t, k.saves, got, k.address)
			}
		})
	}
}
