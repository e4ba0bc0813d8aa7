package change

import (
	"context"
	"encoding/json"
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

func write(t testing.TB, path, text string) {
	require.NoError(t, os.WriteFile(path, []byte(text), 0o640))
	require.NoError(t, os.Chtimes(path, then, then))
}

func read(t testing.TB, path string) string {
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

// book is what a home knows of changes.
type book map[string]string

func (b book) announce(r *Record) error { b[r.ID] = r.Digest(); return nil }

func (b book) vouch(id, digest string) bool { return b[id] == digest && digest != "" }

var known = book{}

func plan(saves string, items ...Item) Plan {
	for i := range items {
		items[i].Root = saves
		if items[i].Safe.IsZero() {
			items[i].Safe = Aside()
		}
	}
	return Plan{Title: "test", Install: "game@main", Items: items, Listed: []string{saves}, Now: then, Announce: known.announce}
}

func signatureOf(t testing.TB, path string) Signature {
	p, err := SignatureOf(t.Context(), path)
	require.NoError(t, err)
	return p
}

func TestApplyUndoAndRedo(t *testing.T) {
	_, saves := world(t)
	before := signatureOf(t, saves)
	r, err := Apply(t.Context(), plan(saves,
		Item{Name: "a.sav", Fill: fill("new a"), Create: true},
		Item{Name: "b.sav", Fill: fill("new b"), Create: true},
		Item{Name: "slot_00"},
		Item{Name: "deep/er/c.sav", Fill: fill("new c"), Create: true},
	))
	require.NoError(t, err)
	after := signatureOf(t, saves)
	assert.Equal(t, "new a", read(t, filepath.Join(saves, "a.sav")))
	assert.Equal(t, "new c", read(t, filepath.Join(saves, "deep", "er", "c.sav")))
	assert.NoDirExists(t, filepath.Join(saves, "slot_00"))

	stored, err := Find(saves, []string{saves}, r.ID)
	require.NoError(t, err)
	assert.Equal(t, r.Digest(), stored.Digest())
	changed, err := stored.Changed(t.Context())
	require.NoError(t, err)
	assert.Empty(t, changed)
	back, err := Undo(t.Context(), stored, plan(saves), false)
	require.NoError(t, err)
	assert.True(t, before.Equal(signatureOf(t, saves)), "bytes, times and modes are back, and the folders that were made are gone")
	assert.True(t, back.Back)
	assert.Equal(t, r.ID, back.Of)

	again, err := Undo(t.Context(), back, plan(saves), false)
	require.NoError(t, err, "what was taken back can be made again")
	assert.False(t, again.Back)
	assert.True(t, after.Equal(signatureOf(t, saves)))
	_, err = Undo(t.Context(), again, plan(saves), false)
	require.NoError(t, err)
	assert.True(t, before.Equal(signatureOf(t, saves)))
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
		"announce": func(_ string, p *Plan) { p.Announce = func(*Record) error { return boom } },
		"expected": func(saves string, p *Plan) { p.Items[0].Expect = &Signature{} },
		"unsafe":   func(_ string, p *Plan) { p.Items[0].Safe = Safe{} },
		"no root":  func(saves string, p *Plan) { p.Items[1].Root = filepath.Join(saves, "none") },
		"a target that cannot be made": func(saves string, p *Plan) {
			p.Items[1].Name = "a.sav/below-a-file"
		},
		"a link on the way": func(saves string, p *Plan) {
			require.NoError(t, os.Symlink(filepath.Dir(saves), filepath.Join(saves, "out")))
			t.Cleanup(func() { os.Remove(filepath.Join(saves, "out")) })
			p.Items[1].Name = "out/b.sav"
		},
		"a name that leads out": func(_ string, p *Plan) { p.Items[1].Name = "../b.sav" },
	} {
		t.Run(name, func(t *testing.T) {
			dir, saves := world(t)
			p := plan(saves, Item{Name: "slot_00", Fill: fill("new")}, Item{Name: "b.sav", Fill: fill("b")})
			change(saves, &p)
			before := signatureOf(t, saves)
			_, err := Apply(t.Context(), p)
			require.Error(t, err)
			assert.True(t, before.Equal(signatureOf(t, saves)))
			assert.NoFileExists(t, filepath.Join(dir, "game", "b.sav"))
			left, _ := filepath.Glob(filepath.Join(dir, "game", tree.AreaName, "*", "c*"))
			assert.Empty(t, left, "nothing staged is left")
		})
	}
}

// TestWhatNothingElseKeepsStays holds that what a change moved aside is there for as long as nothing else keeps it, however many changes
// follow.
func TestWhatNothingElseKeepsStays(t *testing.T) {
	_, saves := world(t)
	area, err := findArea(saves, []string{saves}, true)
	require.NoError(t, err)
	has := func(text string) bool {
		found, err := filepath.Glob(filepath.Join(area.dir, "*", "old", "0000"))
		require.NoError(t, err)
		for _, f := range found {
			if read(t, f) == text {
				return true
			}
		}
		return false
	}
	put := func(text string, safe Safe) {
		p := plan(saves, Item{Name: "a.sav", Fill: fill(text), Safe: safe})
		p.Held = func(_ *Record, x Exchange) bool { return x.Safe.Snapshot == "line/kept" }
		_, err := Apply(t.Context(), p)
		require.NoError(t, err)
	}
	put("kept", Aside())
	put("gone", InSnapshot("line", "kept"))
	put("lost", InSnapshot("line", "cleared"))
	for i := range 2 * keepRecords {
		put(fmt.Sprint(i), InSnapshot("line", "kept"))
	}
	assert.True(t, has("old a"), "it is nowhere else")
	assert.False(t, has("kept"), "a snapshot has it")
	assert.True(t, has("gone"), "the snapshot that had it was cleared")
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
	assert.Equal(t, filepath.Join(dir, tree.AreaName), filepath.Dir(a.dir))
	_, err = findArea(saves, []string{string(filepath.Separator)}, true)
	assert.ErrorIs(t, err, ErrNoRoom)
}

// TestALeftOverTrialHindersNothing has what an Ostrov leaves that is killed between the trial rename and its end.
func TestALeftOverTrialHindersNothing(t *testing.T) {
	_, saves := world(t)
	require.NoError(t, os.Mkdir(filepath.Join(saves, trialName), 0o700))
	_, err := Apply(t.Context(), plan(saves, Item{Name: "a.sav", Fill: fill("new")}))
	require.NoError(t, err)
	assert.NoDirExists(t, filepath.Join(saves, trialName))
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

// TestTheClockOrdersNothing makes changes while the clock goes back: the counter goes on.
func TestTheClockOrdersNothing(t *testing.T) {
	_, saves := world(t)
	last := ""
	for i := range 12 {
		p := plan(saves, Item{Name: "a.sav", Fill: fill(fmt.Sprint(i))})
		p.Now = then.Add(-time.Duration(i) * 24 * time.Hour)
		r, err := Apply(t.Context(), p)
		require.NoError(t, err)
		assert.Greater(t, r.ID, last)
		last = r.ID
	}
}

func FuzzRecord(f *testing.F) {
	for _, text := range []string{
		`{"ostrov_change":2,"id":"c0000000001-abcdef","seq":1,"title":"t","install":"g@main","time":"2026-03-01T00:00:00Z","state":"applying","of":"c0000000001-abcdef",` +
			`"items":[{"root":"/a","name":"b","new":"c0000000001-abcdef/new/0001","after":{"entries":[]}}]}`,
		`{"id":"20260301T211402Z-abcdef","state":"done","items":[{"root":"/a","target":"/a/b","new":"/a/.ostrov/x/20260301T211402Z-abcdef/new/0001","made":["/a"]}]}`,
		`{"ostrov_change":3}`, `[]`,
	} {
		f.Add([]byte(text))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := parseRecord(data)
		if err != nil {
			return
		}
		for _, x := range r.Items {
			rel, err := filepath.Rel(x.Root, x.Target())
			require.NoError(t, err)
			assert.True(t, filepath.IsLocal(rel) && rel != ".", "%q of %q", x.Name, x.Root)
		}
		again, err := json.Marshal(r)
		require.NoError(t, err)
		back, err := parseRecord(again)
		require.NoError(t, err)
		assert.Equal(t, r.Digest(), back.Digest(), "written and read again")
	})
}
