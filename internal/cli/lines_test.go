package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// written is what the game does to a save of the first game: it writes it anew.
func (w *world) written(slot, text string) {
	require.NoError(w.t, os.WriteFile(w.voyages(slot, "chart.bin"), []byte(text), 0o644))
}

// emptied is what the game does to a slot on a bad night.
func (w *world) emptied(slot string) {
	files, err := filepath.Glob(w.voyages(slot, "*"))
	require.NoError(w.t, err)
	require.NotEmpty(w.t, files)
	for _, f := range files {
		require.NoError(w.t, os.Truncate(f, 0))
	}
}

func TestAKeepLeavesNoChangedSaveBehind(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	w.ok("playthroughs", "start", "Second", "tidewrack")
	assert.Contains(t, w.ok("look", "tidewrack").out, "Nothing has been kept yet")

	w.written("slot_01", "an old slot was gone on with")
	out := w.ok("look", "tidewrack").out
	assert.Contains(t, out, "The playthrough tidewrack went on: 1 changed save (since tidewrack.1")
	assert.Contains(t, out, "ostrov keep tidewrack")
	assert.Contains(t, w.ok("keep", "tidewrack", "--dry-run").out, "tidewrack went on too and would be kept: 1 changed save")
	assert.NotContains(t, w.ok("kept", "tidewrack").out, "tidewrack.2")

	out = w.ok("keep", "tidewrack").out
	assert.Contains(t, out, "kept second.1")
	assert.Contains(t, out, "tidewrack went on too: kept as tidewrack.2, 1 changed save")
	w.written("slot_01", "something else")
	assert.Contains(t, w.ok("look", "tidewrack").out, "1 changed save (since tidewrack.2")
	w.ok("restore", "tidewrack.2", "--slot", "2", "--yes")
	data, err := os.ReadFile(w.voyages("slot_01", "chart.bin"))
	require.NoError(t, err)
	assert.Equal(t, "an old slot was gone on with", string(data))

	assert.NotContains(t, w.ok("keep", "tidewrack").out, "went on too", "it has just this state")
	w.ok("playthroughs", "close", "second")
	w.written("slot_01", "with none active")
	assert.Contains(t, w.ok("keep", "tidewrack").out, "kept tidewrack.")
}

func TestTheWayBackIsOneSave(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	before := state(t, w.voyages("slot_00"))
	w.emptied("slot_00")
	require.NoError(t, os.RemoveAll(w.voyages("slot_02")))
	out := w.ok("look", "tidewrack").out
	assert.Contains(t, out, "ostrov restore tidewrack.1 --slot 1\n")
	assert.Contains(t, out, "ostrov restore tidewrack.1 --slot 3\n")
	assert.NotContains(t, out, "ostrov restore tidewrack.1\n", "a whole restore takes back what was played in the others")

	w.ok("keep", "tidewrack")
	assert.Regexp(t, `1 .* 0 B +cut|1 .* 0 B +empty`, w.ok("kept", "tidewrack.2").out)
	out = w.ok("look", "tidewrack").out
	assert.Contains(t, out, "damaged")
	assert.Contains(t, out, "ostrov restore tidewrack.1 --slot 1\n", "the newest snapshot has it no better")
	w.ok("restore", "tidewrack.1", "--slot", "1", "--yes")
	assert.Equal(t, before, state(t, w.voyages("slot_00")))
	out = w.ok("restore", "tidewrack.2", "--slot", "1", "--dry-run").out
	assert.Contains(t, out, "slot 1 was empty already when tidewrack.2 was taken")
}

// TestAStateThatComesBackIsKnown has something else than Ostrov put an older state of a save in its place.
func TestAStateThatComesBackIsKnown(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	first, err := os.ReadFile(w.voyages("slot_00", "chart.bin"))
	require.NoError(t, err)
	w.ok("keep", "tidewrack")
	w.written("slot_00", "the second evening")
	w.ok("keep", "tidewrack")
	w.ok("look", "tidewrack")

	w.written("slot_00", string(first)) // the cloud
	for range 2 {                       // it is said until the player does something about it
		out := w.ok("look", "tidewrack").out
		assert.Contains(t, out, "save-went-back")
		assert.Contains(t, out, "1 save as kept before")
		assert.Contains(t, out, "ostrov restore tidewrack.2 --slot 1\n")
	}
	assert.Contains(t, w.ok("needs", "tidewrack/1").out, "it is as in tidewrack.1, of ")
	w.ok("restore", "tidewrack.2", "--slot", "1", "--yes")
	assert.NotContains(t, w.ok("look", "tidewrack").out, "save-went-back")
	w.ok("undo", "--yes")
	assert.NotContains(t, w.ok("look", "tidewrack").out, "save-went-back", "Ostrov itself brought it")

	w.ok("redo", "--yes")
	w.written("slot_00", string(first))
	w.ok("keep", "tidewrack")
	assert.NotContains(t, w.ok("look", "tidewrack").out, "save-went-back", "it was kept so on purpose")

	// Right after a placing, what was there before comes back.
	w.ok("place", "downloads/quiet-cove.zip", "--slot", "1", "--yes")
	require.NoError(t, os.RemoveAll(w.voyages("slot_00")))
	w.ok("restore", "tidewrack.1", "--to", w.path("cloud"))
	require.NoError(t, os.CopyFS(w.voyages("slot_00"), os.DirFS(w.path("cloud", "saves-saves-70431", "slot_00"))))
	out := w.ok("look", "tidewrack").out
	assert.Contains(t, out, "save-went-back")
	assert.NotContains(t, out, "--slot 1\n", "no snapshot has what was placed")
}
