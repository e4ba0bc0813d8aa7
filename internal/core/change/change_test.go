package change

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/tree"
)

var then = time.Date(2026, 3, 1, 20, 0, 0, 0, time.UTC)

// world is a game's folders: saves/ with a file and a folder in it.
func world(t *testing.T) (dir, saves string) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	saves = filepath.Join(dir, "game", "saves")
	require.NoError(t, os.MkdirAll(filepath.Join(saves, "slot_00"), 0o750))
	write(t, filepath.Join(saves, "a.sav"), "old a")
	write(t, filepath.Join(saves, "slot_00", "voyage"), "old voyage")
	return dir, saves
}

func write(t *testing.T, path, text string) {
	require.NoError(t, os.WriteFile(path, []byte(text), 0o640))
	require.NoError(t, os.Chtimes(path, then, then))
}

func read(t *testing.T, path string) string {
	data, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return "(none)"
	}
	require.NoError(t, err)
	return string(data)
}

// fill writes text as the target, a file.
func fill(text string) func(context.Context, *Stage) error {
	return func(_ context.Context, s *Stage) error {
		return s.Write(".", tree.Entry{Mode: 0o600, ModTime: then.Add(time.Hour)}, func(w io.Writer) error {
			_, err := io.WriteString(w, text)
			return err
		})
	}
}

func plan(saves string, items ...Item) Plan {
	for i := range items {
		items[i].Root = saves
	}
	return Plan{Title: "test", Install: "game@main", Items: items, Listed: []string{saves}, Now: then}
}

func printOf(t *testing.T, path string) Print {
	p, err := PrintOf(t.Context(), path)
	require.NoError(t, err)
	return p
}

func TestApplyAndUndo(t *testing.T) {
	_, saves := world(t)
	before := printOf(t, saves)
	r, err := Apply(t.Context(), plan(saves,
		Item{Name: "a.sav", Fill: fill("new a")},
		Item{Name: "b.sav", Fill: fill("new b")},
		Item{Name: "slot_00"},
		Item{Name: "deep/er/c.sav", Fill: fill("new c")},
	))
	require.NoError(t, err)
	assert.Equal(t, "new a", read(t, filepath.Join(saves, "a.sav")))
	assert.Equal(t, "new b", read(t, filepath.Join(saves, "b.sav")))
	assert.Equal(t, "new c", read(t, filepath.Join(saves, "deep", "er", "c.sav")))
	assert.NoDirExists(t, filepath.Join(saves, "slot_00"))

	stored, err := ReadRecord(r.Dir)
	require.NoError(t, err)
	changed, err := stored.Changed(t.Context())
	require.NoError(t, err)
	assert.Empty(t, changed)
	back, err := Undo(t.Context(), stored, plan(saves), false)
	require.NoError(t, err)
	require.NoError(t, os.Remove(filepath.Join(saves, "deep", "er")))
	require.NoError(t, os.Remove(filepath.Join(saves, "deep")))
	assert.True(t, before.Equal(printOf(t, saves)), "bytes, times and modes are back")
	assert.Equal(t, "old a", read(t, filepath.Join(saves, "a.sav")))

	stored, err = ReadRecord(r.Dir)
	require.NoError(t, err)
	assert.True(t, stored.Undone)
	_, err = Undo(t.Context(), back, plan(saves), false)
	require.NoError(t, err, "an undo can be taken back too")
	assert.Equal(t, "new b", read(t, filepath.Join(saves, "b.sav")))
}

func TestUndoRefusesWhatWasPlayedOn(t *testing.T) {
	_, saves := world(t)
	r, err := Apply(t.Context(), plan(saves, Item{Name: "a.sav", Fill: fill("new a")}))
	require.NoError(t, err)
	write(t, filepath.Join(saves, "a.sav"), "played on")
	_, err = Undo(t.Context(), r, plan(saves), false)
	require.ErrorIs(t, err, ErrChanged)
	assert.Equal(t, "played on", read(t, filepath.Join(saves, "a.sav")))
	_, err = Undo(t.Context(), r, plan(saves), true)
	require.NoError(t, err)
	assert.Equal(t, "old a", read(t, filepath.Join(saves, "a.sav")))
}

func TestWhatFailsLeavesEverythingAsItWas(t *testing.T) {
	boom := errors.New("boom")
	for name, change := range map[string]func(saves string, p *Plan){
		"filling":  func(_ string, p *Plan) { p.Items[1].Fill = func(context.Context, *Stage) error { return boom } },
		"guard":    func(_ string, p *Plan) { p.Guard = func() error { return boom } },
		"expected": func(saves string, p *Plan) { p.Items[0].Expect = &Print{} },
		"no root":  func(saves string, p *Plan) { p.Items[1].Root = filepath.Join(saves, "none") },
		"a target that cannot be made": func(saves string, p *Plan) {
			p.Items[1].Name = "a.sav/below-a-file"
		},
	} {
		t.Run(name, func(t *testing.T) {
			dir, saves := world(t)
			before := printOf(t, saves)
			p := plan(saves, Item{Name: "slot_00", Fill: fill("new")}, Item{Name: "b.sav", Fill: fill("b")})
			change(saves, &p)
			_, err := Apply(t.Context(), p)
			require.Error(t, err)
			assert.True(t, before.Equal(printOf(t, saves)))
			assert.Equal(t, "old voyage", read(t, filepath.Join(saves, "slot_00", "voyage")))
			left, _ := filepath.Glob(filepath.Join(dir, "game", areaDir, "*", "20*"))
			assert.Empty(t, left, "nothing staged is left")
		})
	}
}

// TestRecover interrupts a change of three targets after each of its renames and lets Recover put it back; then it does the same with a
// change whose journal says that it is done.
func TestRecover(t *testing.T) {
	for done := range 4 {
		_, saves := world(t)
		before := printOf(t, saves)
		p := plan(saves, Item{Name: "a.sav", Fill: fill("new")}, Item{Name: "b.sav", Fill: fill("b")}, Item{Name: "slot_00"})
		tx := begin(t, p)
		require.NoError(t, tx.journal())
		for i := range tx.r.Items[:done] {
			require.NoError(t, tx.swap(&tx.r.Items[i]))
		}
		did, err := Recover(t.Context(), []string{saves}, p.Listed)
		require.NoError(t, err)
		assert.True(t, did)
		assert.True(t, before.Equal(printOf(t, saves)), "after %d exchanges", done)
		did, err = Recover(t.Context(), []string{saves}, p.Listed)
		require.NoError(t, err)
		assert.False(t, did, "once is enough")
	}
	_, saves := world(t)
	tx := begin(t, plan(saves, Item{Name: "a.sav", Fill: fill("new")}))
	require.NoError(t, tx.exchange())
	_, err := Recover(t.Context(), []string{saves}, []string{saves})
	require.NoError(t, err)
	assert.Equal(t, "new", read(t, filepath.Join(saves, "a.sav")))
	r, err := ReadRecord(tx.r.Dir)
	require.NoError(t, err)
	_, err = Undo(t.Context(), r, plan(saves), false)
	require.NoError(t, err)
	assert.Equal(t, "old a", read(t, filepath.Join(saves, "a.sav")))
}

// begin stages a plan as Apply does, without holding the locks of a process that lives on.
func begin(t *testing.T, p Plan) *transaction {
	areas, unlock, err := lockAreas(t.Context(), p)
	require.NoError(t, err)
	unlock()
	r := &Record{Format: recordFormat, ID: "20260301T200000Z-abcdef", State: "applying"}
	lead := areas[p.Items[0].Root]
	r.Dir = filepath.Join(lead.dir, r.ID)
	tx := &transaction{t.Context(), p, r, areas, lead}
	require.NoError(t, tx.stage())
	for i := range r.Items {
		if !exists(r.Items[i].Target) {
			r.Items[i].Old = ""
		}
	}
	return tx
}

func TestTwoRootsAreOneChange(t *testing.T) {
	dir, saves := world(t)
	other := filepath.Join(dir, "else", "settings")
	require.NoError(t, os.MkdirAll(other, 0o755))
	write(t, filepath.Join(other, "s.ini"), "old")
	p := plan(saves, Item{Name: "a.sav", Fill: fill("new")})
	p.Items = append(p.Items, Item{Root: other, Name: "s.ini", Fill: fill("new")})
	p.Listed = append(p.Listed, other)
	tx := begin(t, p)
	require.NoError(t, tx.journal())
	for i := range tx.r.Items {
		require.NoError(t, tx.swap(&tx.r.Items[i]))
	}
	assert.FileExists(t, filepath.Join(dir, "else", noteName))
	_, err := Recover(t.Context(), []string{other}, p.Listed) // the follower's folder alone is enough to find the journal
	require.NoError(t, err)
	assert.Equal(t, "old", read(t, filepath.Join(other, "s.ini")))
	assert.Equal(t, "old a", read(t, filepath.Join(saves, "a.sav")))
	assert.NoFileExists(t, filepath.Join(dir, "else", noteName))
}

func TestLockedFolderNamesItsHolder(t *testing.T) {
	_, saves := world(t)
	a, err := findArea(saves, []string{saves}, true)
	require.NoError(t, err)
	unlock, err := a.lock(t.Context(), 0)
	require.NoError(t, err)
	_, err = Apply(t.Context(), plan(saves, Item{Name: "a.sav", Fill: fill("new")}))
	var locked *LockedError
	require.ErrorAs(t, err, &locked)
	assert.Contains(t, err.Error(), "process")
	unlock()
	_, err = Apply(t.Context(), plan(saves, Item{Name: "a.sav", Fill: fill("new")}))
	require.NoError(t, err)
}

func TestAreaLiesOutsideListedFolders(t *testing.T) {
	dir, saves := world(t)
	a, err := findArea(saves, []string{saves, filepath.Join(dir, "game")}, true)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(dir, areaDir), filepath.Dir(a.dir))
	_, err = findArea(saves, []string{string(filepath.Separator)}, true)
	assert.ErrorIs(t, err, ErrNoRoom)
}

// TestAFolderOfManyFilesIsExchangedWhole stages more files than are synced one by one, with folders and links among them.
func TestAFolderOfManyFilesIsExchangedWhole(t *testing.T) {
	_, saves := world(t)
	later := then.Add(time.Hour)
	many := func(_ context.Context, s *Stage) error {
		err := errors.Join(s.Mkdir(".", tree.Entry{Mode: 0o750, ModTime: then}), s.Mkdir("islands", tree.Entry{Mode: 0o700, ModTime: later}))
		for i := range 60 {
			err = errors.Join(err, s.Write(fmt.Sprintf("islands/%d", i), tree.Entry{Mode: 0o644, ModTime: later}, func(w io.Writer) error {
				_, err := fmt.Fprint(w, "island ", i)
				return err
			}))
		}
		return errors.Join(err, s.Symlink("newest", "islands/59"))
	}
	r, err := Apply(t.Context(), plan(saves, Item{Name: "slot_00", Fill: many}))
	require.NoError(t, err)
	slot := filepath.Join(saves, "slot_00")
	assert.Equal(t, "(none)", read(t, filepath.Join(slot, "voyage")), "what was there before is gone whole")
	assert.Equal(t, "island 7", read(t, filepath.Join(slot, "islands", "7")))
	assert.Equal(t, "island 59", read(t, filepath.Join(slot, "newest")))
	for path, want := range map[string]time.Time{slot: then, filepath.Join(slot, "islands"): later, filepath.Join(slot, "islands", "59"): later} {
		info, err := os.Stat(path)
		require.NoError(t, err)
		assert.True(t, want.Equal(info.ModTime()), path)
	}
	_, err = Undo(t.Context(), r, plan(saves), false)
	require.NoError(t, err)
	assert.Equal(t, "old voyage", read(t, filepath.Join(slot, "voyage")))
	assert.NoDirExists(t, filepath.Join(slot, "islands"))

	escape := func(_ context.Context, s *Stage) error {
		return s.Write("../../../outside", tree.Entry{Mode: 0o644}, func(io.Writer) error { return nil })
	}
	_, err = Apply(t.Context(), plan(saves, Item{Name: "slot_00", Fill: escape}))
	assert.Error(t, err, "nothing is written outside the target")
	assert.Equal(t, "old voyage", read(t, filepath.Join(slot, "voyage")))
}
