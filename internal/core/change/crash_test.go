package change

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/tree"
)

// stop is what a test's crash is.
type stop struct{}

// crashAt runs do and stops it at its n-th step on folders, as a kill would; it reports whether it was stopped. With n 0 it only counts.
func crashAt(n int, do func() error) (stopped bool, steps int, err error) {
	defer func() {
		fault = func(string) error { return nil }
		if r := recover(); r != nil {
			if _, ok := r.(stop); !ok {
				panic(r)
			}
			stopped = true
		}
	}()
	fault = func(string) error {
		if steps++; steps == n {
			panic(stop{})
		}
		return nil
	}
	return false, steps, do()
}

// folders are three folders of a game, the third on another volume where there is one.
type folders struct {
	t     *testing.T
	roots []string
}

func newFolders(t *testing.T) folders {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	other := dir
	if runtime.GOOS == "linux" {
		if d, err := os.MkdirTemp("/dev/shm", "ostrov-"); err == nil {
			other = d
			t.Cleanup(func() { os.RemoveAll(d) })
		}
	}
	f := folders{t, []string{filepath.Join(dir, "game", "saves"), filepath.Join(dir, "config"), filepath.Join(other, "mods", "data")}}
	for i, root := range f.roots {
		require.NoError(t, os.MkdirAll(filepath.Join(root, "slot"), 0o755))
		write(t, filepath.Join(root, "replaced"), fmt.Sprint("old ", i))
		write(t, filepath.Join(root, "slot", "voyage"), fmt.Sprint("voyage ", i))
	}
	return f
}

// plan replaces, removes and adds something in each folder.
func (f folders) plan() Plan {
	p := Plan{Title: "all", Install: "game@main", Listed: f.roots, Now: then, Announce: known.announce}
	for i, root := range f.roots {
		p.Items = append(p.Items,
			Item{Root: root, Create: true, Name: "replaced", Fill: fill(fmt.Sprint("new ", i)), Safe: Aside()},
			Item{Root: root, Name: "slot", Safe: Aside()},
			Item{Root: root, Create: true, Name: "deep/added", Fill: fill(fmt.Sprint("added ", i))})
	}
	return p
}

// state is everything in the folders, as text.
func (f folders) state() string {
	var b strings.Builder
	for _, root := range f.roots {
		require.NoError(f.t, filepath.WalkDir(root, func(path string, d os.DirEntry, err error) error {
			if err == nil && !d.IsDir() {
				fmt.Fprintln(&b, path, read(f.t, path))
			} else if err == nil {
				fmt.Fprintln(&b, path)
			}
			return err
		}))
	}
	return b.String()
}

// settle is the next command, by each of the folders: a crash may be met from any.
func (f folders) settle(from int) {
	roots := append(append([]string{}, f.roots[from:]...), f.roots[:from]...)
	_, err := Recover(f.t.Context(), roots, f.roots, known.vouch, "")
	require.NoError(f.t, err)
	for _, root := range f.roots {
		left, err := filepath.Glob(filepath.Join(filepath.Dir(root), tree.NoteName+"*"))
		require.NoError(f.t, err)
		assert.Empty(f.t, left, "no note is left")
		r, err := Unfinished([]string{root}, f.roots)
		require.NoError(f.t, err)
		assert.True(f.t, r == nil, "no change is unfinished")
	}
}

// last is the newest change that is on record, or nil.
func (f folders) last() *Record {
	a, err := findArea(f.roots[0], f.roots, false)
	require.NoError(f.t, err)
	if a == nil {
		return nil
	}
	var last *Record
	for _, id := range a.changes() {
		if r, err := Find(f.roots[0], f.roots, id); err == nil {
			last = r
		}
	}
	return last
}

// TestACrashAtAnyStep stops a change of three folders on two volumes at every step that it takes on them, before and after its commit,
// settles, and demands the old state everywhere or the new one; the new one is taken back. Undo is stopped at every step in the same way.
func TestACrashAtAnyStep(t *testing.T) {
	f := newFolders(t)
	before := f.state()
	r, err := Apply(t.Context(), f.plan())
	require.NoError(t, err)
	after := f.state()
	_, err = Undo(t.Context(), r, Plan{Listed: f.roots, Now: then, Announce: known.announce}, false)
	require.NoError(t, err)
	require.Equal(t, before, f.state())
	happened, not := 0, 0
	for n := 1; ; n++ {
		stopped, _, err := crashAt(n, func() error { _, err := Apply(t.Context(), f.plan()); return err })
		require.NoError(t, err)
		f.settle(n % 3)
		switch now := f.state(); now {
		case before:
			not++
		default:
			require.Equal(t, after, now, "stopped at step %d", n)
			happened++
			undoStopped(t, f, n, before, after)
		}
		if !stopped {
			assert.Greater(t, n, 60, "there were steps to stop at")
			break
		}
	}
	assert.Greater(t, happened, 8, "some of the steps are after the commit")
	assert.Greater(t, not, 30)
}

// undoStopped takes the last change back, stopped at one step and then settled, until it is through.
func undoStopped(t *testing.T, f folders, n int, before, after string) {
	how := Plan{Listed: f.roots, Now: then, Announce: known.announce}
	for m := n; ; m += 17 { // each of these takes other steps; together they take all
		r := f.last()
		require.NotNil(t, r)
		require.False(t, r.Back)
		stopped, _, err := crashAt(m, func() error { _, err := Undo(t.Context(), r, how, false); return err })
		require.NoError(t, err)
		f.settle(m % 3)
		if now := f.state(); now == before {
			return
		} else {
			require.Equal(t, after, now, "undo stopped at step %d", m)
		}
		require.True(t, stopped, "it was not stopped and did nothing")
	}
}

// TestACrashWhilePuttingInOrder stops a change at a step, and putting it in order at every step of that, again and again until it is in
// order.
func TestACrashWhilePuttingInOrder(t *testing.T) {
	for _, at := range []int{40, 48, 56, 64, 70, 74, 78, 82, 86, 90} {
		f := newFolders(t)
		before := f.state()
		_, err := Apply(t.Context(), f.plan())
		require.NoError(t, err)
		after := f.state()
		_, err = Undo(t.Context(), f.last(), Plan{Listed: f.roots, Now: then, Announce: known.announce}, false)
		require.NoError(t, err)
		stopped, _, err := crashAt(at, func() error { _, err := Apply(t.Context(), f.plan()); return err })
		require.NoError(t, err)
		for n := 1; stopped; n++ {
			stopped, _, err = crashAt(n, func() error {
				_, err := Recover(t.Context(), f.roots, f.roots, known.vouch, "")
				return err
			})
			require.NoError(t, err)
		}
		f.settle(0)
		assert.Contains(t, []string{before, after}, f.state(), "stopped at step %d", at)
		assert.True(t, f.state() == before || f.last() != nil && !f.last().Back)
	}
}

// TestAFullDriveAtAnyStep fails a change at every step: whatever could not be written, the folders are as they were, or all new.
func TestAFullDriveAtAnyStep(t *testing.T) {
	f := newFolders(t)
	before := f.state()
	for n := 1; ; n++ {
		steps := 0
		fault = func(string) error {
			if steps++; steps == n {
				return errFull
			}
			return nil
		}
		_, err := Apply(t.Context(), f.plan())
		fault = func(string) error { return nil }
		f.settle(0)
		if now := f.state(); now != before {
			_, err := Undo(t.Context(), f.last(), Plan{Listed: f.roots, Now: then, Announce: known.announce}, false)
			require.NoError(t, err)
			require.Equal(t, before, f.state())
		}
		if err == nil && steps < n {
			assert.Greater(t, n, 60)
			return
		}
	}
}

var errFull = fmt.Errorf("no space left")

// TestAJournalIsNotBelieved plants a journal as a mod could bring it: nothing that it says is done, wherever it points.
func TestAJournalIsNotBelieved(t *testing.T) {
	dir, saves := world(t)
	victim := filepath.Join(dir, "victim")
	write(t, victim, "mine")
	a, err := findArea(saves, []string{saves}, true)
	require.NoError(t, err)
	plant := func(r any) {
		data, err := json.Marshal(r)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(a.journalFile(), data, 0o600))
	}
	id := "c0000000001-abcdef"
	planted := filepath.Join(a.dir, id, "old", "0000")
	require.NoError(t, os.MkdirAll(filepath.Dir(planted), 0o755))
	write(t, planted, "theirs")
	before := signatureOf(t, saves)
	honest := Record{Format: recordFormat, ID: id, Of: id, State: applying, Title: "free lamps", Items: []Exchange{{Root: saves, Name: "a.sav", Old: id + "/old/0000"}}}
	for name, r := range map[string]any{
		"a target in the folder":  honest,
		"a target outside":        Record{Format: recordFormat, ID: id, Of: id, State: applying, Items: []Exchange{{Root: dir, Name: "victim", Old: id + "/old/0000"}}},
		"a name that leads out":   Record{Format: recordFormat, ID: id, Of: id, State: applying, Items: []Exchange{{Root: saves, Name: "../../victim", Old: id + "/old/0000"}}},
		"a place that leads out":  Record{Format: recordFormat, ID: id, Of: id, State: applying, Items: []Exchange{{Root: saves, Name: "a.sav", Old: "../../../victim"}}},
		"an id that leads out":    Record{Format: recordFormat, ID: "../../..", Of: id, State: applying, Items: honest.Items},
		"the first format":        map[string]any{"ostrov_change": 1, "id": "20260301T200000Z-abcdef", "state": "applying", "items": []map[string]any{{"root": saves, "target": victim, "old": planted}}},
		"a lead somewhere else":   map[string]any{"lead": filepath.Join(dir, "elsewhere"), "id": "20260301T200000Z-abcdef"},
		"no JSON at all":          "lamps",
		"done, with nothing done": Record{Format: recordFormat, ID: id, Of: id, State: done, Items: honest.Items},
	} {
		plant(r)
		_, err := Recover(t.Context(), []string{saves}, []string{saves}, known.vouch, "")
		assert.Error(t, err, name)
		_, err = Apply(t.Context(), plan(saves, Item{Name: "b.sav", Fill: fill("b"), Create: true}))
		assert.Error(t, err, name)
		assert.True(t, before.Equal(signatureOf(t, saves)), name)
		assert.Equal(t, "mine", read(t, victim), name)
	}
	plant(honest)
	var unknown *UnknownError
	_, err = Recover(t.Context(), []string{saves}, []string{saves}, known.vouch, "")
	require.ErrorAs(t, err, &unknown)
	_, err = Recover(t.Context(), []string{filepath.Dir(saves)}, []string{saves}, known.vouch, unknown.Record.Digest())
	require.NoError(t, err, "beside another folder there is nothing")
	did, err := Recover(t.Context(), []string{saves}, []string{saves}, known.vouch, unknown.Record.Digest())
	require.NoError(t, err, "the player has seen it and says so")
	assert.Len(t, did, 1)
	assert.Equal(t, "theirs", read(t, filepath.Join(saves, "a.sav")))
}
