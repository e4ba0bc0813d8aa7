package cli_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/longtest"
)

// inside are the commands that change what is in a save.
var inside = map[string][]string{
	"set":     {"set", "tidewrack/3", "title=Another", "keeper[1].hat=none", "--yes"},
	"borrow":  {"borrow", "islands", "--from", "tidewrack/1", "--into", "tidewrack/2", "--yes"},
	"strip":   {"strip", "tidewrack/3", "--of", "gull-post", "--of", "fog-horns", "--yes"},
	"convert": {"convert", "tidewrack/5", "--to", "1.6.0", "--yes"},
	"members": {"members", "copy", "tidewrack/1", "Cael", "--into", "tidewrack/2", "--as", "10", "--yes"},
}

// insideWorld runs such a command to its end on a fresh world, and returns the states before and after.
func insideWorld(t *testing.T, command []string) (w *world, before, after map[string]string) {
	w = newWorld(t)
	w.ok("keep", "tidewrack")
	before = state(t, w.places()...)
	w.ok(command...)
	after = state(t, w.places()...)
	require.NotEqual(t, before, after)
	w.ok("undo", "--yes")
	require.Equal(t, before, state(t, w.places()...), "undo returns bytes, times and modes")
	return w, before, after
}

// insideSettled demands the old state or the new one after whatever a stopped command left was put in order. The time at which a file was edited is its
// own each time; all else of the new state is compared.
func (w *world) insideSettled(before, after map[string]string, what string) {
	w.t.Helper()
	w.bin, w.env = program, nil
	w.ok("look", "tidewrack")
	now := state(w.t, w.places()...)
	if assert.ObjectsAreEqual(before, now) {
		return
	}
	untimed := func(all map[string]string) map[string]string {
		kept := map[string]string{}
		for path, is := range all {
			words := strings.Fields(is)
			if len(words) == 4 && before[path] != is { // its mode, time, size and digest
				is = words[0] + " " + words[2]
			}
			kept[path] = is
		}
		return kept
	}
	require.Equal(w.t, slices.Sorted(maps.Keys(after)), slices.Sorted(maps.Keys(now)), what)
	require.Equal(w.t, untimed(after), untimed(now), what)
	w.ok("undo", "--yes")
	require.Equal(w.t, before, state(w.t, w.places()...), what)
}

// TestKilledInsideASave kills each of them at random: the save is as it was or as it was to be.
func TestKilledInsideASave(t *testing.T) {
	longtest.Only(t)
	_, share := longtest.Share(1, 6)
	runs := 60 / share // of each of five commands: all are 300
	killed := make(chan struct{}, 1000)
	t.Run("group", func(t *testing.T) {
		for _, name := range slices.Sorted(maps.Keys(inside)) {
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				w, before, after := insideWorld(t, inside[name])
				w.killedAfterSteps(runs, killed, func(what string) { w.insideSettled(before, after, what) }, inside[name]...)
				w.ok("archive", "verify")
			})
		}
	})
	close(killed)
	assert.Greater(t, len(killed), len(inside)*runs*3/5)
}

// TestInsideAFullDisk has the drive full at each step of a change of what is in a save.
func TestInsideAFullDisk(t *testing.T) {
	t.Parallel()
	w, before, after := insideWorld(t, inside["strip"])
	full := 0
	for step := 1; ; step += 4 {
		w.bin, w.env = faulty, []string{fmt.Sprintf("OSTROV_FAULT=%d:full", step)}
		r := w.run(inside["strip"]...)
		w.insideSettled(before, after, fmt.Sprintf("full at step %d", step))
		if r.status == 0 {
			break
		}
		full++
		assert.NotContains(t, r.err, "panic")
	}
	assert.Greater(t, full, 3)
}
