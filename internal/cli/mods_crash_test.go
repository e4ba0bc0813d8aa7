package cli_test

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/longtest"
)

// three are downloads whose files go into three folders of Brass Orchard.
var three = []string{"downloads/brass-voice.zip", "downloads/glass-pears-2.0.0.zip", "downloads/glass-pears-shapes-2.0.0.zip"}

// modChange is a change of the mod set: what comes before it, and the command.
type modChange struct {
	before  [][]string
	command []string
}

func add(more ...string) []string {
	return slices.Concat([]string{"mods", "add"}, more, []string{"--yes", "--for", "brass-orchard"})
}

var modChanges = map[string]modChange{
	"add":    {nil, add(three...)},
	"drop":   {[][]string{add(three...)}, []string{"mods", "drop", "brass-orchard+brass-voice", "brass-orchard+glass-pears", "brass-orchard+cider-press", "--yes"}},
	"off":    {[][]string{add(three...)}, []string{"mods", "off", "brass-orchard+brass-voice", "brass-orchard+glass-pears", "--yes"}},
	"on":     {[][]string{add(three...), {"mods", "off", "brass-orchard+brass-voice", "brass-orchard+glass-pears", "--yes"}}, []string{"mods", "on", "brass-orchard+brass-voice", "brass-orchard+glass-pears", "--yes"}},
	"aside":  {[][]string{add(three...)}, []string{"mods", "aside", "brass-orchard", "--yes"}},
	"back":   {[][]string{add(three...), {"mods", "aside", "brass-orchard", "--yes"}}, []string{"mods", "back", "brass-orchard", "--yes"}},
	"update": {[][]string{add(three...)}, add("downloads/copper-voice.zip", "downloads/quick-winder-1.4.zip", "downloads/glass-pears-2.0.0.zip", "--update")},
	"fresh":  {[][]string{add(three...), {"keep", "brass-orchard"}}, []string{"fresh", "Clean Year", "brass-orchard", "--mods", "none", "--yes"}},
}

// orchards are the folders that changes of mods concern.
func (w *world) orchards() []string { return []string{w.path("games", "BrassOrchard")} }

// agree demands that the ledger and the folders say the same: no file of a mod is gone, broken or half there.
func (w *world) agree(what string) {
	w.t.Helper()
	w.bin, w.env = program, nil
	var doc struct {
		Broken []struct{ Mod, Path string }
		Mods   int
	}
	r := w.ok("mods", "verify", "brass-orchard", "--json")
	require.NoError(w.t, json.Unmarshal([]byte(r.out), &doc))
	require.Empty(w.t, doc.Broken, what)
}

func modCrashWorld(t *testing.T, c modChange) (w *world, before, after map[string]string) {
	w = newWorld(t)
	for _, command := range c.before {
		w.ok(command...)
	}
	before = state(t, w.orchards()...)
	w.ok(c.command...)
	after = state(t, w.orchards()...)
	require.NotEqual(t, before, after)
	w.agree("after it")
	w.ok("undo", "--yes")
	require.Equal(t, before, state(t, w.orchards()...), "undo returns bytes, times and modes")
	w.agree("after undo")
	return w, before, after
}

// modsSettled puts in order what a stopped change of mods left, and demands the old state or the new one, and a ledger that agrees.
func (w *world) modsSettled(before, after map[string]string, what string) bool {
	w.t.Helper()
	w.bin, w.env = program, nil
	w.ok("look", "brass-orchard")
	now := state(w.t, w.orchards()...)
	w.agree(what)
	if assert.ObjectsAreEqual(before, now) {
		return false
	}
	require.Equal(w.t, after, now, what)
	w.ok("undo", "--yes")
	require.Equal(w.t, before, state(w.t, w.orchards()...), what)
	w.agree(what + ", taken back")
	return true
}

// TestModsStoppedAtEachStep stops changes of the mod set, each over three folders, at each step.
func TestModsStoppedAtEachStep(t *testing.T) {
	for _, name := range slices.Sorted(maps.Keys(modChanges)) {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			c := modChanges[name]
			if name == "fresh" || name == "update" || name == "on" {
				longtest.Only(t)
			}
			w, before, after := modCrashWorld(t, c)
			done := 0
			first, stride := longtest.Share(29, 5)
			for step := first; ; step += stride {
				require.Less(t, step, 3000, "the command never gets through")
				w.bin, w.env = faulty, []string{fmt.Sprintf("OSTROV_FAULT=%d:kill", step)}
				r := w.run(c.command...)
				if w.modsSettled(before, after, fmt.Sprintf("step %d", step)) {
					done++
				}
				if r.status == 0 {
					assert.Greater(t, step, 8, "there are steps to stop at")
					break
				}
			}
			assert.Positive(t, done)
		})
	}
}

// killedAfterSteps runs a command to its end, and then so many times until it is killed after one of its steps, at random; settled looks at what is left
// each time.
func (w *world) killedAfterSteps(runs int, killed chan<- struct{}, settled func(what string), command ...string) {
	trace := filepath.Join(w.t.TempDir(), "trace")
	steps := func() int {
		data, _ := os.ReadFile(trace)
		return strings.Count(string(data), "\n")
	}
	w.bin, w.env = faulty, []string{"OSTROV_FAULTS=" + trace}
	w.ok(command...)
	all := steps()
	settled("to its end")
	for i := range runs {
		require.NoError(w.t, os.RemoveAll(trace))
		w.bin, w.env = faulty, []string{"OSTROV_FAULTS=" + trace}
		at := 1 + rand.IntN(all)
		ctx, cancel := context.WithTimeout(w.t.Context(), 20*time.Second)
		go func() {
			for ctx.Err() == nil && steps() < at {
				time.Sleep(300 * time.Microsecond)
			}
			cancel()
		}()
		r := w.command(ctx, command...)
		cancel()
		if r.status != 0 {
			killed <- struct{}{}
		}
		settled(fmt.Sprintf("run %d, killed after step %d of %d", i, at, all))
	}
}

// TestModsKilled kills changes of the mod set at random times.
func TestModsKilled(t *testing.T) {
	longtest.Only(t)
	_, share := longtest.Share(1, 3)
	runs := 38 / share // of each of eight commands: all are more than 300
	killed := make(chan struct{}, 1000)
	t.Run("group", func(t *testing.T) {
		for _, name := range slices.Sorted(maps.Keys(modChanges)) {
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				c := modChanges[name]
				w, before, after := modCrashWorld(t, c)
				w.killedAfterSteps(runs, killed, func(what string) { w.modsSettled(before, after, what) }, c.command...)
			})
		}
	})
	close(killed)
	count := 0
	for range killed {
		count++
	}
	t.Logf("%d kills", count)
	assert.Greater(t, count, len(modChanges)*runs*3/5)
}
