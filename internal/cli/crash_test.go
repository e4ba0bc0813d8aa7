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

	"ostrov/internal/longtest"
)

// places are the folders that the changes below concern: saves, settings and mods.
func (w *world) places() []string {
	return []string{w.path("prefix"), w.path("games", "Tidewrack", "mods")}
}

// mess makes saves, settings and mods differ from the snapshot in every way that a restore mends.
func (w *world) mess() {
	require.NoError(w.t, os.RemoveAll(w.voyages("slot_01")))
	require.NoError(w.t, os.WriteFile(w.voyages("slot_00", "chart.bin"), []byte("other"), 0o644))
	require.NoError(w.t, os.Mkdir(w.voyages("slot_09"), 0o755))
	require.NoError(w.t, os.CopyFS(w.voyages("slot_09"), os.DirFS(w.voyages("slot_02"))))
	settings := w.path("prefix", "drive_c", "users", "keeper", "Documents", "Tidewrack", "config")
	require.NoError(w.t, os.WriteFile(filepath.Join(settings, "display.ini"), []byte("[display]\nwidth=1\n"), 0o644))
	require.NoError(w.t, os.WriteFile(w.path("games", "Tidewrack", "mods", "barnacle-fix", "things.json"), []byte("{}"), 0o644))
}

// crashWorld runs a changing command to its end on a fresh world and returns the states before and after.
func crashWorld(t *testing.T, command []string) (w *world, before, after map[string]string) {
	w = newWorld(t)
	w.ok("keep", "tidewrack", "--with", "mods")
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
	if command[0] == "undo" {
		w.ok("restore", "tidewrack.1", "--yes")
	}
	before = state(t, w.places()...)
	w.ok(command...)
	after = state(t, w.places()...)
	require.NotEqual(t, before, after)
	w.back(command)
	require.Equal(t, before, state(t, w.places()...), "undo returns bytes, times and modes")
	return w, before, after
}

// back takes back what a changing command did.
func (w *world) back(command []string) {
	if command[0] == "undo" {
		w.ok("redo", "--yes")
		return
	}
	w.ok("undo", "--yes")
}

var changing = map[string][]string{
	"place":   {"place", "downloads/quiet-cove.zip", "--yes"},
	"restore": {"restore", "tidewrack.1", "--yes"},
	"swap":    {"swap", "night-run", "--yes"},
	"fresh":   {"fresh", "Third Run", "tidewrack", "--yes"},
	"play":    {"play", "tidewrack@1-6-2", "--yes", "--", "true"},
	"undo":    {"undo", "--yes"},
}

// settled looks at what a stopped command left, first with commands that only show, then with one that puts it in order, and demands the
// old state or the new one; the new one is taken back. turn chooses the commands. It reports whether the change had happened.
func (w *world) settled(turn int, command []string, before, after map[string]string, what string) bool {
	w.t.Helper()
	w.bin, w.env = program, nil
	shown := [][]string{{"vet", "downloads/quiet-cove.zip"}, {"undo", "--dry-run"}, {"place", "downloads/quiet-cove.zip", "--dry-run"}, {"look", "tidewrack@main", "--dry-run"}}[turn%4]
	half := state(w.t, w.path())
	r := w.run(shown...)
	require.NotContains(w.t, r.err, "panic", what)
	require.Equal(w.t, half, state(w.t, w.path()), "%s: %v changes nothing", what, shown)
	if unfinished := w.run("undo", "--list"); strings.Contains(unfinished.out+unfinished.err, "unfinished") {
		require.Contains(w.t, r.out+r.err, "unfinished", "%s: %v says so", what, shown)
	}
	ordering := [][]string{{"look", "tidewrack@main"}, {"look"}, {"saves", "tidewrack@main"}, {"keep", "tidewrack@main"}}[turn/4%4]
	if r := w.run(ordering...); !strings.Contains(r.err, "put away and safe in") { // what the play of the second install did has nothing here to keep
		require.Zero(w.t, r.status, "%v: %s", ordering, r.err)
	}
	now := state(w.t, w.places()...)
	if assert.ObjectsAreEqual(before, now) {
		return false
	}
	require.Equal(w.t, after, now, what)
	w.back(command)
	require.Equal(w.t, before, state(w.t, w.places()...), what)
	return true
}

// nothingLeft demands that no journal is left, and that the archive is whole.
func (w *world) nothingLeft() {
	left, _ := filepath.Glob(filepath.Join(filepath.Dir(filepath.Dir(w.voyages())), ".ostrov", "*", "journal.json"))
	assert.Empty(w.t, left)
	w.ok("archive", "verify")
}

func TestStoppedAtEachStep(t *testing.T) {
	for name, command := range changing {
		for _, how := range []string{"kill", "full"} {
			t.Run(name+" "+how, func(t *testing.T) {
				t.Parallel()
				if how == "full" || name == "play" || name == "fresh" {
					longtest.Only(t)
				}
				w, before, after := crashWorld(t, command)
				done := 0
				first, stride := longtest.Share(31, 3)
				if how == "full" { // what a kill leaves is the harder case
					stride *= 3
				}
				for step := first; ; step += stride {
					require.Less(t, step, 2000, "the command never gets through")
					w.bin, w.env = faulty, []string{fmt.Sprintf("OSTROV_FAULT=%d:%s", step, how)}
					r := w.run(command...)
					what := fmt.Sprintf("step %d", step)
					if how == "full" && r.status != 0 {
						assert.Contains(t, r.err, "the drive is full", what)
					}
					if w.settled(step, command, before, after, what) {
						done++
					}
					if r.status == 0 {
						assert.Greater(t, step, 8, "there are steps to stop at")
						break
					}
				}
				assert.Positive(t, done)
				w.nothingLeft()
			})
		}
	}
}

// TestStoppedWhilePuttingInOrder stops a change, and then the command that puts it in order, at each of its steps.
func TestStoppedWhilePuttingInOrder(t *testing.T) {
	longtest.Only(t)
	command := changing["restore"]
	w, before, after := crashWorld(t, command)
	for step := 10; ; step += 17 {
		stopped := func() bool {
			w.bin, w.env = faulty, []string{fmt.Sprintf("OSTROV_FAULT=%d:kill", step)}
			return w.run(command...).status != 0
		}
		if !stopped() {
			break
		}
		for inner := 1; ; inner += 3 {
			w.bin, w.env = faulty, []string{fmt.Sprintf("OSTROV_FAULT=%d:kill", inner)}
			if w.run("look", "tidewrack@main").status == 0 {
				break
			}
		}
		w.settled(step, command, before, after, fmt.Sprintf("step %d", step))
	}
	w.settled(0, command, before, after, "in the end")
	w.nothingLeft()
}

// TestKilledInTheExchange kills at random times while a change is under way; the trace says at which step each landed.
func TestKilledInTheExchange(t *testing.T) {
	longtest.Only(t)
	runs := 30
	if os.Getenv("OSTROV_LONG") == "all" {
		runs = 90
	}
	landed := make(chan string, 1000)
	t.Run("group", func(t *testing.T) {
		for name, command := range changing {
			t.Run(name, func(t *testing.T) {
				t.Parallel()
				w, before, after := crashWorld(t, command)
				trace := filepath.Join(t.TempDir(), "trace")
				steps := func() []string {
					data, _ := os.ReadFile(trace)
					return strings.Split(strings.TrimSpace(string(data)), "\n")
				}
				w.bin, w.env = faulty, []string{"OSTROV_FAULTS=" + trace}
				start := time.Now()
				w.ok(command...)
				took := time.Since(start)
				all := len(steps())
				w.settled(0, command, before, after, "to its end")
				for i := range runs {
					require.NoError(t, os.RemoveAll(trace))
					w.bin, w.env = faulty, []string{"OSTROV_FAULTS=" + trace}
					at := 1 + rand.IntN(all)
					ctx, cancel := context.WithTimeout(t.Context(), 2*took+time.Second)
					go func() {
						for ctx.Err() == nil && len(steps()) < at {
							time.Sleep(300 * time.Microsecond)
						}
						time.Sleep(time.Duration(rand.Int64N(int64(time.Millisecond))))
						cancel()
					}()
					r := w.command(ctx, command...)
					cancel()
					if list := steps(); r.status != 0 {
						landed <- name + " " + list[len(list)-1]
					}
					w.settled(i, command, before, after, fmt.Sprintf("run %d, killed after step %d", i, len(steps())))
				}
				w.nothingLeft()
			})
		}
	})
	close(landed)
	count, kinds := 0, map[string]bool{}
	for l := range landed {
		count++
		kinds[l] = true
	}
	t.Logf("%d kills landed, at %d different steps", count, len(kinds))
	assert.Greater(t, count, len(changing)*runs*4/5, "of %d", len(changing)*runs)
	assert.Greater(t, len(kinds), min(2*runs, 100))
}

// TestKilledAtFileSystemCalls kills at each call of one sort that the whole program makes, also outside of a change.
func TestKilledAtFileSystemCalls(t *testing.T) {
	longtest.Only(t)
	strace, err := exec.LookPath("strace")
	if err != nil {
		t.Skip("needs the Debian package strace")
	}
	for _, call := range []string{"renameat,renameat2", "unlinkat", "mkdirat", "fsync,fdatasync", "ftruncate,fchmod"} {
		t.Run(call, func(t *testing.T) {
			t.Parallel()
			command := changing["restore"]
			w, before, after := crashWorld(t, command)
			first, stride := longtest.Share(9, 5)
			for n := first; ; n += stride {
				require.Less(t, n, 1000)
				prefix := []string{"-f", "-qq", "-o", os.DevNull, "-e", "trace=" + call, "-e", fmt.Sprintf("inject=%s:signal=KILL:when=%d", call, n), program}
				w.bin, w.env = strace, nil
				r := w.run(append(prefix, command...)...)
				if strings.Contains(r.err, "ptrace") {
					t.Skip("processes cannot be traced here")
				}
				w.settled(n, command, before, after, fmt.Sprintf("call %d", n))
				if r.status == 0 {
					break
				}
			}
			w.nothingLeft()
		})
	}
}

func TestTwoAtOnce(t *testing.T) {
	t.Parallel()
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
