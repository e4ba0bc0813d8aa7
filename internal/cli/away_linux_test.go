package cli_test

import (
	"context"
	"os"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/longtest"
)

// stick is a drive that can be connected and taken away.
type stick struct {
	t             *testing.T
	disk, mounted string
}

func newStick(t *testing.T, dir string) *stick {
	s := &stick{t, filepath.Join(dir, "disk"), filepath.Join(dir, "stick")}
	require.NoError(t, os.MkdirAll(s.disk, 0o755))
	require.NoError(t, os.MkdirAll(s.mounted, 0o755))
	if err := syscall.Mount(s.disk, s.mounted, "", syscall.MS_BIND, ""); err != nil {
		t.Skipf("needs the right to mount (root): %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(s.mounted, syscall.MNT_DETACH) }) // it may be away
	return s
}

func (s *stick) away() { require.NoError(s.t, syscall.Unmount(s.mounted, syscall.MNT_DETACH)) }
func (s *stick) back() {
	require.NoError(s.t, syscall.Mount(s.disk, s.mounted, "", syscall.MS_BIND, ""))
}

// TestADriveThatIsAway keeps while the archive's drive is away, and finds everything in it when it is back.
func TestADriveThatIsAway(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	s := newStick(t, w.dir)
	arch := filepath.Join(s.mounted, "archive")
	w.ok("archive", "add", arch)
	w.ok("keep", "tidewrack")
	w.ok("fresh", "Other", "tidewrack", "--yes")
	w.ok("keep", "tidewrack")
	s.away()

	look := w.ok("look", "tidewrack").out
	assert.NotContains(t, look, "Nothing has been kept")
	assert.Contains(t, look, "archive-away")
	for _, args := range [][]string{{"restore", "tidewrack.1", "--yes"}, {"swap", "tidewrack", "--yes"}, {"kept", "tidewrack.1"}, {"restore", "tidewrack", "--to", "out"}} {
		assert.Contains(t, w.fails(1, args...).err, arch+", which may have it, is not there now", args)
	}
	assert.Contains(t, w.ok("archive").out, arch+": not there now")
	assert.Contains(t, w.fails(1, "archive", "verify").out, "not checked: "+arch)
	kept := w.ok("keep", "tidewrack").out
	assert.Contains(t, kept, "kept other.2", "its number is its own")
	assert.Contains(t, kept, "archive-away")
	assert.Contains(t, w.ok("kept", "other").err, arch+" is not there")
	w.ok("restore", "other.2", "--yes")

	s.back()
	timeline := w.ok("kept", "other").out
	for _, snapshot := range []string{"other.1", "other.2"} {
		assert.Contains(t, timeline, snapshot, "it is copied by itself")
	}
	assert.NotContains(t, w.ok("archive").out, "not there now")
	w.ok("archive", "verify")
	w.ok("swap", "tidewrack", "--yes")

	// a second archive misses what is kept while it is away, and gets it, too
	second := w.path("second")
	w.ok("archive", "add", second)
	s.away()
	assert.Contains(t, w.ok("keep", "tidewrack").out, "it gets this snapshot when it is")
	s.back()
	w.ok("look", "tidewrack")
	assert.Contains(t, w.ok("archive", "copy", arch).out, "has everything already")
}

// TestADriveThatGoesAtAnyMoment takes the archive's drive away in the middle of each command. Whatever the command said, every save is as it
// was or as it was to be, and what was kept before is whole when the drive is back.
func TestADriveThatGoesAtAnyMoment(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	s := newStick(t, w.dir)
	w.ok("archive", "add", filepath.Join(s.mounted, "archive"))
	w.ok("keep", "tidewrack", "--with", "mods")
	one := state(t, w.voyages())
	w.written("slot_00", "another evening")
	w.ok("keep", "tidewrack")
	other := state(t, w.voyages())
	commands := [][]string{
		{"keep", "tidewrack"}, {"restore", "tidewrack.1", "--only", "saves", "--yes", "--older"}, {"look", "tidewrack"}, {"kept", "tidewrack"}, {"archive", "verify"},
		{"restore", "tidewrack.2", "--only", "saves", "--yes"}, {"kept", "tidewrack.1", "--export", w.path("out.zip")}, {"undo", "--yes"}, {"archive", "clear-old", "--yes"},
	}
	for round := range longtest.Of(1, 12) {
		for i, args := range commands {
			done := make(chan result)
			go func() {
				c := w.command(context.Background(), args...)
				done <- c
			}()
			time.Sleep(time.Duration(7*(round+1)*(i+1)%97) * time.Millisecond)
			s.away()
			r := <-done
			require.NotContains(t, r.err, "panic", args)
			w.run("look", "tidewrack") // what was interrupted is put in order, also while the drive is away
			now := state(t, w.voyages())
			s.back()
			require.Contains(t, []map[string]string{one, other}, now, args)
			require.Contains(t, w.ok("kept", "tidewrack").out, "tidewrack.2")
			w.ok("archive", "verify")
			_ = os.Remove(w.path("out.zip")) // so that the next export can write it
		}
	}
}
