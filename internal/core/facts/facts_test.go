package facts_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/coretest"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
)

// TestLookingTouchesNothing gathers the facts of all games and compares the whole world, Ostrov's own files but its cache included.
func TestLookingTouchesNothing(t *testing.T) {
	w := coretest.New(t)
	w.See("tidewrack")
	before := coretest.State(t, w.Path("games"), w.Path("prefix"), w.Path("player"))
	for _, in := range w.Installs {
		st, err := facts.Gather(t.Context(), w.Home, in)
		require.NoError(t, err)
		assert.NotEmpty(t, st.Saves, in.Address())
		for _, s := range st.Saves {
			assert.False(t, s.Digest.IsZero(), "%s: %s", in.Address(), s.Name)
			assert.NoError(t, s.Facts.Problem)
		}
	}
	assert.Equal(t, before, coretest.State(t, w.Path("games"), w.Path("prefix"), w.Path("player")))
}

// TestSavesThatGoAndShrink are compared with the last look that was recorded.
func TestSavesThatGoAndShrink(t *testing.T) {
	w := coretest.New(t)
	w.See("tidewrack")
	require.NoError(t, os.RemoveAll(w.Voyages("slot_01")))
	require.NoError(t, os.WriteFile(w.Voyages("slot_00", "voyage.json.gz"), nil, 0o644))
	require.NoError(t, os.WriteFile(w.Voyages("slot_00", "chart.bin"), nil, 0o644))
	for range 2 { // until somebody says that it is known
		w.Again()
		st := w.See("tidewrack")
		require.Len(t, st.Gone, 1)
		assert.Equal(t, "slot_01", st.Gone[0].Name)
		s, err := st.Find("", "1")
		require.NoError(t, err)
		require.NotNil(t, s.Shrank)
		assert.Greater(t, s.Shrank.Size, s.Size)
	}
}

// TestSavesAreFoundByWhatPeopleCallThem tries slots, names and what is not there.
func TestSavesAreFoundByWhatPeopleCallThem(t *testing.T) {
	w := coretest.New(t)
	st := w.See("tidewrack")
	for _, name := range []string{"2", "slot_01"} {
		s, err := st.Find("", name)
		require.NoError(t, err, name)
		assert.Equal(t, "slot_01", s.Name)
	}
	for _, name := range []string{"6", "slot_99", "", "../slot_01"} {
		_, err := st.Find("", name)
		assert.ErrorIs(t, err, problem.ErrUsage, name)
	}
	st = w.See("brass-orchard")
	s, err := st.Find("", "season_01.orchard")
	require.NoError(t, err)
	assert.Equal(t, "season_01.orchard", s.Name)
	_, err = st.Find("", "a")
	assert.NoError(t, err, "slots are letters of either case")
}

// TestAnInstallThatMovedSaysSo hides the game.
func TestAnInstallThatMovedSaysSo(t *testing.T) {
	w := coretest.New(t)
	require.NoError(t, os.Rename(w.Path("games", "Tidewrack"), w.Path("games", "Moved")))
	w.Again()
	_, err := facts.Gather(t.Context(), w.Home, w.In("tidewrack"))
	require.Error(t, err)
	assert.Contains(t, err.Error(), "is not where it was")
}

// TestWhatIsOpenForWritingIsFound has another program hold a file of a save open.
func TestWhatIsOpenForWritingIsFound(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("open files are looked for on Linux")
	}
	w := coretest.New(t)
	path := w.Voyages("slot_00", "chart.bin")
	look := func(paths ...string) string {
		_, what := facts.OpenForWriting(t.Context(), paths)
		return what
	}
	assert.Empty(t, look(w.Voyages("slot_00")))
	hold := func(mode int) func() { // as another program does, for as long as it runs
		f, err := os.OpenFile(path, mode, 0)
		require.NoError(t, err)
		cmd := exec.Command("sleep", "30")
		cmd.Stdout = f
		require.NoError(t, cmd.Start())
		require.NoError(t, f.Close())
		return func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }
	}
	end := hold(os.O_RDONLY)
	assert.Empty(t, look(w.Voyages("slot_00")), "reading harms nothing")
	end()
	end = hold(os.O_RDWR)
	assert.NotEmpty(t, look(w.Voyages("slot_00")))
	assert.Empty(t, look(w.Voyages("slot_01")))
	end()
	assert.Empty(t, look(w.Voyages("slot_00")))
}

// TestFilesOfAPattern lists them, and not what lies beside them.
func TestFilesOfAPattern(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"a.ini", "b.ini", "c.txt", "sub/d.ini", ".ostrov/e.ini"} {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, filepath.Dir(name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o644))
	}
	for glob, want := range map[string][]string{"*.ini": {"a.ini", "b.ini"}, "**/*.ini": {"a.ini", "b.ini", "sub/d.ini"}, "none*": nil} {
		entries, err := facts.GroupFiles(t.Context(), game.FileGroup{Dir: dir, Glob: glob})
		require.NoError(t, err)
		var got []string
		for _, e := range entries {
			got = append(got, e.Path)
		}
		assert.Equal(t, want, got, glob)
	}
	entries, err := facts.GroupFiles(t.Context(), game.FileGroup{Dir: filepath.Join(dir, "none"), Glob: "*"})
	require.NoError(t, err)
	assert.Empty(t, entries)
}
