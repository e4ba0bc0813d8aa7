package cli_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/longtest"
)

// killedAtRandom runs a command again and again, each time killed at another moment of what it takes to its end, and then looks whether the
// archive is whole. Prepare gives each run something to do. The time that it takes is learned anew from each run that came to its end, so that the
// kills land inside the command however busy the machine is.
func (w *world) killedAtRandom(prepare func(run int), command ...string) {
	runs := 25
	prepare(0)
	start := time.Now()
	w.ok(command...)
	took := time.Since(start)
	killed := 0
	for i := range runs {
		prepare(i + 1)
		wait := time.Duration(rand.Int64N(int64(took)))
		ctx, cancel := context.WithTimeout(w.t.Context(), wait)
		start := time.Now()
		r := w.command(ctx, command...) // SIGKILL at the deadline
		cancel()
		if r.status != 0 {
			killed++
		} else {
			took = min(took, time.Since(start))
		}
		v := w.run("archive", "verify")
		require.Contains(w.t, v.out, "whole", "run %d, killed after %v: %s", i, wait, v.err)
	}
	assert.Greater(w.t, killed, runs/2)
	w.ok(command...)
}

// picture gives a save something to keep that no snapshot has, large enough that a kill hits the middle of it.
func (w *world) picture(run int) {
	data := make([]byte, 1<<20)
	for i := range data {
		data[i] = byte(rand.Uint32())
	}
	require.NoError(w.t, os.WriteFile(w.voyages("slot_00", fmt.Sprintf("picture%d.png", run%3)), data, 0o644))
}

func TestKeepKilledAtRandomTimes(t *testing.T) {
	longtest.Only(t)
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack", "-m", "as it was")
	first := state(t, w.voyages())
	w.killedAtRandom(w.picture, "keep", "tidewrack")
	w.ok("restore", "tidewrack.1", "--yes")
	assert.Equal(t, first, state(t, w.voyages()), "what was kept before comes back to the byte")

	left := func() []string {
		var found []string
		for _, depth := range []string{"*", filepath.Join("*", "*")} {
			temporary, err := filepath.Glob(w.path("ostrov", "archive", depth, ".part-*"))
			require.NoError(t, err)
			found = append(found, temporary...)
		}
		return found
	}
	w.ok("keep", "tidewrack")
	assert.Empty(t, left(), "a keep clears away what killed ones left")
}

func TestCopyKilledAtRandomTimes(t *testing.T) {
	longtest.Only(t)
	t.Parallel()
	w := newWorld(t)
	other := filepath.Join(t.TempDir(), "drive")
	w.ok("archive", "add", other)
	w.ok("archive", "add", filepath.Join(t.TempDir(), "main"))
	for i := range 3 {
		w.picture(i)
		w.ok("keep", "tidewrack")
	}
	w.killedAtRandom(func(int) {
		for _, part := range []string{"content", "playthroughs"} { // an empty one again
			require.NoError(t, os.RemoveAll(filepath.Join(other, part)))
			require.NoError(t, os.Mkdir(filepath.Join(other, part), 0o755))
		}
	}, "archive", "copy", other)
	assert.Contains(t, w.ok("archive", "copy", other).out, "has everything already")
}

func TestClearOldKilledAtRandomTimes(t *testing.T) {
	longtest.Only(t)
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack", "-m", "as it was")
	first := state(t, w.voyages())
	w.killedAtRandom(func(run int) {
		for i := range 2 {
			w.picture(run*2 + i)
			w.ok("keep", "tidewrack")
		}
	}, "archive", "clear-old", "--days", "0", "--count", "1", "--yes")
	w.ok("restore", "tidewrack.1", "--yes")
	assert.Equal(t, first, state(t, w.voyages()), "one with a note stays, and all that it needs")
}

// TestKilledWhereThePlayerHadItWritten kills at file-system calls of the commands that write beside the player's own files: the next command
// removes what is not whole, and what has its name is whole.
func TestKilledWhereThePlayerHadItWritten(t *testing.T) {
	longtest.Only(t)
	t.Parallel()
	strace, err := exec.LookPath("strace")
	if err != nil {
		t.Skip("needs the Debian package strace")
	}
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	mine := w.path("mine")
	for target, command := range map[string][]string{
		"saves.zip":  {"kept", "tidewrack.1", "--export", filepath.Join(mine, "saves.zip"), "--yes"},
		"parcel.zip": {"parcel", "tidewrack/2", "-o", filepath.Join(mine, "parcel.zip"), "--yes"},
		"folder":     {"restore", "tidewrack.1", "--to", filepath.Join(mine, "folder")},
	} {
		first, stride := longtest.Share(9, 3)
		killed := 0
		for n := first; ; n += stride {
			require.NoError(t, os.RemoveAll(mine))
			require.NoError(t, os.Mkdir(mine, 0o755))
			call := "renameat,renameat2,mkdirat,fsync,fdatasync,openat,fchmod,fchmodat,write,unlinkat"
			prefix := []string{"-f", "-qq", "-o", os.DevNull, "-e", "trace=" + call, "-e", fmt.Sprintf("inject=%s:signal=KILL:when=%d", call, n), program}
			w.bin = strace
			r := w.run(append(prefix, command...)...)
			w.bin = program
			if strings.Contains(r.err, "ptrace") {
				t.Skip("processes cannot be traced here")
			}
			if r.status == 0 {
				break
			}
			require.Equal(t, -1, r.status, "call %d of %s: %s", n, command[0], r.err)
			killed++
			w.ok("keep", "tidewrack")
			left, err := os.ReadDir(mine)
			require.NoError(t, err)
			for _, e := range left {
				assert.Equal(t, target, e.Name(), "call %d of %s", n, command[0])
			}
			notes, err := filepath.Glob(w.path("ostrov", "parts", "*"))
			require.NoError(t, err)
			assert.Empty(t, notes)
		}
		assert.Greater(t, killed, 5, command[0])
	}
}
