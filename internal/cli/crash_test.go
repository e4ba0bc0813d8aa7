package cli_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/gofrs/flock"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// mess makes the voyages differ from the snapshot in every way that a restore mends.
func (w *world) mess() {
	require.NoError(w.t, os.RemoveAll(w.voyages("slot_01")))
	require.NoError(w.t, os.WriteFile(w.voyages("slot_00", "chart.bin"), []byte("other"), 0o644))
	require.NoError(w.t, os.Mkdir(w.voyages("slot_09"), 0o755))
	require.NoError(w.t, os.CopyFS(w.voyages("slot_09"), os.DirFS(w.voyages("slot_02"))))
}

// changed runs a changing command to its end on a fresh world and returns the states before and after.
func crashWorld(t *testing.T, command []string) (w *world, before, after map[string]string) {
	w = newWorld(t)
	w.ok("keep", "tidewrack")
	if command[0] == "swap" { // to one that has saves of its own, in slots that the present one has too
		w.ok("fresh", "Night Run", "tidewrack", "--yes")
		w.ok("place", "downloads/quiet-cove.zip", "--slot", "1", "--yes")
		w.ok("swap", "tidewrack", "--yes")
	}
	if command[0] == "play" { // of a second install, which keeps its saves in the same folder
		w.ok("keep", "tidewrack", "--with", "game")
		w.updateTo("1.6.4")
		w.ok("restore", "tidewrack.2", "--only", "game", "--to", w.path("games", "Former"))
	}
	w.mess()
	w.ok("keep", "tidewrack@main") // so that no run has to keep first: the crashes are to hit the change
	before = state(t, w.voyages())
	w.ok(command...)
	after = state(t, w.voyages())
	require.NotEqual(t, before, after)
	w.ok("undo", "--yes")
	require.Equal(t, before, state(t, w.voyages()), "undo returns bytes, times and modes")
	return w, before, after
}

var changing = map[string][]string{
	"place":   {"place", "downloads/quiet-cove.zip", "--yes"},
	"restore": {"restore", "tidewrack.1", "--yes"},
	"swap":    {"swap", "night-run", "--yes"},
	"fresh":   {"fresh", "Third Run", "tidewrack", "--yes"},
	"play":    {"play", "tidewrack@1-6-2", "--yes", "--", "true"},
}

// settled runs the next command and demands the old state or the new one; new is taken back. It reports whether the change had happened.
func (w *world) settled(before, after map[string]string, what string) bool {
	w.t.Helper()
	w.bin, w.env = program, nil
	w.ok("look", "tidewrack@main")
	now := state(w.t, w.voyages())
	if len(now) == len(before) && assert.ObjectsAreEqual(before, now) {
		return false
	}
	require.Equal(w.t, after, now, what)
	w.ok("undo", "--yes")
	require.Equal(w.t, before, state(w.t, w.voyages()), what)
	return true
}

func TestStoppedAtEachStep(t *testing.T) {
	for name, command := range changing {
		for _, how := range []string{"kill", "full"} {
			t.Run(name+" "+how, func(t *testing.T) {
				t.Parallel()
				w, before, after := crashWorld(t, command)
				done := 0
				for step := 1; ; step++ {
					require.Less(t, step, 200, "the command never gets through")
					w.bin, w.env = faulty, []string{fmt.Sprintf("OSTROV_FAULT=%d:%s", step, how)}
					r := w.run(command...)
					what := fmt.Sprintf("step %d", step)
					if how == "full" && r.status != 0 {
						assert.Contains(t, r.err, "the drive is full", what)
					}
					if w.settled(before, after, what) {
						done++
					}
					if r.status == 0 {
						assert.Greater(t, step, 8, "there are steps to stop at")
						break
					}
				}
				assert.Positive(t, done)
				left, _ := filepath.Glob(filepath.Join(filepath.Dir(filepath.Dir(w.voyages())), ".ostrov", "*", "journal.json"))
				assert.Empty(t, left)
				w.ok("archive", "verify")
			})
		}
	}
}

func TestKilledAtRandomTimes(t *testing.T) {
	runs := 100 // of each command
	if testing.Short() {
		runs = 10
	}
	for name, command := range changing {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w, before, after := crashWorld(t, command)
			start := time.Now()
			w.ok(command...)
			took := time.Since(start)
			w.ok("undo", "--yes")
			killed, done := 0, 0
			for i := range runs {
				wait := time.Duration(rand.Int64N(int64(took)))
				ctx, cancel := context.WithTimeout(t.Context(), wait)
				r := w.command(ctx, command...) // SIGKILL at the deadline
				cancel()
				if r.status != 0 {
					killed++
				}
				if w.settled(before, after, fmt.Sprintf("run %d, killed after %v", i, wait)) {
					done++
				}
			}
			assert.Greater(t, killed, runs/2)
			t.Logf("%d of %d killed; the change had happened in %d", killed, runs, done)
			w.ok("archive", "verify")
		})
	}
}

func TestTwoAtOnce(t *testing.T) {
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	w.ok("place", "downloads/quiet-cove.zip", "--yes") // the area with the lock is there now
	locks, err := filepath.Glob(filepath.Join(filepath.Dir(filepath.Dir(w.voyages())), ".ostrov", "*", "lock"))
	require.NoError(t, err)
	require.NotEmpty(t, locks)
	var held []*flock.Flock
	for _, l := range locks {
		f := flock.New(l)
		ok, err := f.TryLock()
		require.NoError(t, err)
		require.True(t, ok)
		held = append(held, f)
	}
	before := state(t, w.voyages())
	waiting := make(chan result, 1)
	go func() { waiting <- w.command(context.Background(), "undo", "--yes") }()
	select {
	case r := <-waiting:
		t.Fatalf("it did not wait: %s%s", r.out, r.err)
	case <-time.After(1500 * time.Millisecond):
	}
	assert.Equal(t, before, state(t, w.voyages()))
	r := w.run("place", "downloads/lamp-race.zip", "--pick", "10 lamps", "--yes")
	assert.Equal(t, 7, r.status)
	assert.Contains(t, r.err, "is being changed by another Ostrov")
	for _, f := range held {
		require.NoError(t, f.Unlock())
	}
	if r := <-waiting; r.status != 0 {
		assert.Contains(t, r.err, "is being changed by another Ostrov")
	}

	done := make(chan result)
	for range 4 {
		go func() {
			done <- w.command(context.Background(), "place", "downloads/quiet-cove.zip", "--slot", "6", "--yes")
		}()
	}
	succeeded := 0
	for range 4 {
		if r := <-done; r.status == 0 {
			succeeded++
		}
	}
	assert.Positive(t, succeeded)
	assert.Equal(t, "Quiet Cove", w.titles("tidewrack")["6"])
	w.ok("archive", "verify")
}

// TestFullDisk puts the game's saves, and then the archive, on a small volume of its own.
func TestFullDisk(t *testing.T) {
	if runtime.GOOS != "linux" || os.Getuid() != 0 {
		t.Skip("needs Linux and root, to mount a small tmpfs; TestStoppedAtEachStep has the same with a fault point")
	}
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	documents := filepath.Dir(filepath.Dir(filepath.Dir(w.voyages())))
	small := func(dir string) {
		saved := filepath.Join(t.TempDir(), "saved")
		require.NoError(t, os.CopyFS(saved, os.DirFS(dir)))
		if out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=600k", "tmpfs", dir).CombinedOutput(); err != nil {
			t.Skipf("a tmpfs cannot be mounted here: %s", out)
		}
		t.Cleanup(func() { _ = exec.Command("umount", dir).Run() })
		require.NoError(t, os.CopyFS(dir, os.DirFS(saved)))
	}
	small(documents)
	w.ok("look", "tidewrack")
	w.ok("keep", "tidewrack")
	filler := filepath.Join(documents, "filler")
	_ = os.WriteFile(filler, []byte(strings.Repeat("x", 590<<10)), 0o644) // as much as fits
	before := state(t, w.voyages())
	r := w.run("place", "downloads/quiet-cove.zip", "--yes")
	assert.Equal(t, 1, r.status, r.out)
	assert.Contains(t, r.err, "the drive is full")
	assert.Equal(t, before, state(t, w.voyages()))
	require.NoError(t, os.Remove(filler))
	w.ok("place", "downloads/quiet-cove.zip", "--yes")

	small(w.path("ostrov", "archive"))
	w.ok("archive", "verify")
	big := make([]byte, 2<<20)
	for i := range big {
		big[i] = byte(rand.Uint32())
	}
	require.NoError(t, os.Remove(w.path("prefix", "drive_c", "users", "keeper", "Documents", "Tidewrack", "config", "display.ini")))
	require.NoError(t, os.WriteFile(w.path("player", "Orchards", "bay_e.orchard"), append([]byte(`<bay title="Big" release="2.3"><!--`), append([]byte(fmt.Sprintf("%x", big)), "--></bay>"...)...), 0o644))
	r = w.run("keep", "brass-orchard")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.err, "the drive of the archive")
	assert.Contains(t, r.err, "ostrov archive clear-old")
	assert.Contains(t, w.ok("archive", "verify").out, "whole")
}
