package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSwap has two playthroughs share slots, with a save of neither in between.
func TestSwap(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	settings := filepath.Join(filepath.Dir(filepath.Dir(w.voyages())), "config")
	w.ok("keep", "tidewrack", "-m", "first line")
	first := state(t, w.voyages())
	order, err := os.ReadFile(w.path("games", "Tidewrack", "mods", "order.txt"))
	require.NoError(t, err)

	r := w.ok("fresh", "Night Run", "tidewrack", "--yes")
	assert.Contains(t, r.out, `started "Night Run" afresh`)
	left, err := os.ReadDir(w.voyages())
	require.NoError(t, err)
	assert.Empty(t, left)
	time.Sleep(20 * time.Millisecond)
	require.NoError(t, os.Mkdir(w.voyages("slot_00"), 0o755))
	w.restoreFile("tidewrack.1", "slot_00")
	require.NoError(t, os.WriteFile(filepath.Join(settings, "fog.ini"), []byte("[fog]\nthick = yes\n"), 0o644))
	require.NoError(t, os.WriteFile(w.path("games", "Tidewrack", "mods", "order.txt"), []byte("lantern-core\ngull-post\n"), 0o644))
	assert.Contains(t, w.ok("saves", "tidewrack").out, "night-run", "what is written now is of the new one")
	w.ok("keep", "tidewrack")
	second := state(t, w.voyages())

	r = w.ok("swap", "tidewrack", "--yes")
	assert.Contains(t, r.out, "swapped to tidewrack")
	assert.Equal(t, first, state(t, w.voyages()))
	now, err := os.ReadFile(w.path("games", "Tidewrack", "mods", "order.txt"))
	require.NoError(t, err)
	assert.Equal(t, string(order), string(now), "the mod list comes back")
	assert.NoFileExists(t, filepath.Join(settings, "fog.ini"), "a setting that the other one does not have")
	assert.Contains(t, w.fails(2, "swap", "tidewrack", "--yes").err, "is being played already")

	w.ok("swap", "night-run", "--yes")
	assert.Equal(t, second, state(t, w.voyages()))
	assert.FileExists(t, filepath.Join(settings, "fog.ini"))
	w.ok("undo", "--yes")
	assert.Equal(t, first, state(t, w.voyages()))
	assert.Regexp(t, `tidewrack .*active`, w.ok("playthroughs").out, "and the one that was played is so again")

	stray := w.voyages("slot_07") // however old it is: nobody had seen it, so it is the active one's
	require.NoError(t, os.CopyFS(stray, os.DirFS(w.voyages("slot_01"))))
	old := time.Now().Add(-1000 * time.Hour)
	for _, f := range []string{"voyage.json.gz", "chart.bin", "."} {
		require.NoError(t, os.Chtimes(filepath.Join(stray, f), old, old))
	}
	w.ok("swap", "night-run", "--yes")
	assert.NoDirExists(t, stray)
	w.ok("swap", "tidewrack", "--yes")
	assert.DirExists(t, stray)
	w.ok("archive", "verify")
}

// restoreFile copies a save of a snapshot into the game's folder, as a player would by hand.
func (w *world) restoreFile(snapshot, slot string) {
	out := filepath.Join(w.t.TempDir(), "out")
	w.ok("restore", snapshot, "--to", out, "--only", "saves")
	found, err := filepath.Glob(filepath.Join(out, "*", "*", "*", slot))
	require.NoError(w.t, err)
	require.Len(w.t, found, 1)
	for _, f := range []string{"voyage.json.gz", "chart.bin"} {
		data, err := os.ReadFile(filepath.Join(found[0], f))
		require.NoError(w.t, err)
		require.NoError(w.t, os.WriteFile(w.voyages(slot, f), data, 0o644))
	}
	rewrite(w.t, w.voyages(slot, "voyage.json.gz"), "Gannet Rock", "Night Harbour")
}

// TestSwapNamesWhatIsNowhere swaps to a playthrough whose mod has vanished.
func TestSwapNamesWhatIsNowhere(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	w.ok("fresh", "Night Run", "tidewrack", "--yes")
	require.NoError(t, os.RemoveAll(w.path("games", "Tidewrack", "mods", "gull-post")))
	r := w.fails(7, "swap", "tidewrack", "--yes")
	assert.Contains(t, r.err, "neither installed nor in the archive: Gull Post 1.4.2")
	w.ok("swap", "tidewrack", "--yes", "--anyway")
}

// TestSwapOfManySaves has fifty saves and autosaves that rotate, in a game without mods of its own.
func TestSwapOfManySaves(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	bay := func(name string) string { return w.path("player", "Orchards", name) }
	for i := range 50 {
		text := fmt.Sprintf(`<bay title="Season %d" release="2.3"><purse coins="%d"/><cogs/></bay>`, i, i)
		require.NoError(t, os.WriteFile(bay(fmt.Sprintf("season_%02d.orchard", i+10)), []byte(text), 0o644))
	}
	w.ok("keep", "brass-orchard")
	first := state(t, w.path("player", "Orchards"))
	w.ok("fresh", "Second Orchard", "brass-orchard", "--yes")
	for i := range 3 { // the game writes its autosaves anew, under the names of the other line's
		require.NoError(t, os.WriteFile(bay(fmt.Sprintf("season_%02d.orchard", i+10)), []byte(fmt.Sprintf(`<bay title="Other %d" release="2.3"><cogs/></bay>`, i)), 0o644))
		w.ok("look", "brass-orchard")
	}
	second := state(t, w.path("player", "Orchards"))
	require.Less(t, len(second), 6)
	w.ok("swap", "brass-orchard", "--yes")
	assert.Equal(t, first, state(t, w.path("player", "Orchards")))
	w.ok("swap", "second-orchard", "--yes")
	assert.Equal(t, second, state(t, w.path("player", "Orchards")))
}
