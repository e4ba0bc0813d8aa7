package cli_test

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// asNobody runs the program as somebody who may read the world and write nothing in it.
func (w *world) asNobody(args ...string) result {
	w.t.Helper()
	return w.asUser(65534, args...)
}

// asUser runs the program as another user. Only root can.
func (w *world) asUser(uid uint32, args ...string) result {
	w.t.Helper()
	if os.Getuid() != 0 {
		w.t.Skip("needs root, to run a command as somebody else")
	}
	for dir := w.dir; len(dir) > len(os.TempDir()); dir = filepath.Dir(dir) { // the way to the world
		require.NoError(w.t, os.Chmod(dir, 0o755))
	}
	require.NoError(w.t, os.Chmod(filepath.Dir(w.bin), 0o755))
	cmd := exec.Command(w.bin, args...)
	cmd.Dir = w.dir
	cmd.Env = append(os.Environ(), "OSTROV_HOME="+w.path("ostrov"), "HOME="+w.path("nobody"), "TZ=UTC")
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uid, Gid: uid}}
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	if err := cmd.Run(); cmd.ProcessState == nil {
		require.NoError(w.t, err)
	}
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// readable lets everybody read the world.
func (w *world) readable() {
	require.NoError(w.t, filepath.WalkDir(w.dir, func(path string, d os.DirEntry, err error) error {
		if err == nil && d.IsDir() {
			return os.Chmod(path, 0o755)
		}
		if err == nil && d.Type().IsRegular() {
			return os.Chmod(path, 0o644)
		}
		return err
	}))
}

// give makes the whole world another user's.
func (w *world) give(t *testing.T, uid int) {
	require.NoError(t, filepath.WalkDir(w.dir, func(path string, _ os.DirEntry, err error) error {
		if err == nil {
			err = os.Lchown(path, uid, uid)
		}
		return err
	}))
}

// TestWhatCannotBeReadHindersNothingElse has a file, a folder of a save and a mod that may not be read, and a pipe where a file is
// expected.
func TestWhatCannotBeReadHindersNothingElse(t *testing.T) {
	t.Parallel()
	const uid = 65534
	w := newWorld(t)
	closed := []string{w.voyages("slot_01", "chart.bin"), w.voyages("slot_02"), w.path("games", "Tidewrack", "mods", "fog-horns", "things.json")}
	for _, path := range closed {
		require.NoError(t, os.Chmod(path, 0))
	}
	require.NoError(t, syscall.Mkfifo(w.voyages("slot_03", "pipe"), 0o644))
	w.give(t, uid)
	for _, args := range [][]string{{"look", "tidewrack"}, {"vet", "downloads/quiet-cove.zip"}, {"saves", "tidewrack"}} {
		r := w.asUser(uid, args...)
		require.Contains(t, []int{0, 5}, r.status, "%v: %s", args, r.err) // 5: a mod that it needs cannot be read
		require.NotContains(t, r.out, "not of Tidewrack")
	}
	require.Contains(t, w.asUser(uid, "needs", "tidewrack/2").out, "permission denied")
	r := w.asUser(uid, "keep", "tidewrack", "--with", "mods", "--yes")
	require.Zero(t, r.status, r.err)
	shown := w.asUser(uid, "kept", "tidewrack.1").out
	for _, name := range []string{"slot_01", "slot_02", "things.json", "pipe"} {
		require.Contains(t, shown, name, "what is left out is named")
	}
	r = w.asUser(uid, "restore", "tidewrack.1", "--to", w.path("out"), "--yes")
	require.Zero(t, r.status, r.err)
	require.FileExists(t, w.path("out", "Tidewrack", "lit", "70431", "slot_00", "chart.bin"))
	require.FileExists(t, w.path("out", "mods-mods", "barnacle-fix", "things.json"))
	require.Contains(t, w.asUser(uid, "archive", "verify").out, "whole")
	// A save that no snapshot has stays aside when it is replaced.
	r = w.asUser(uid, "place", "downloads/quiet-cove.zip", "--slot", "2", "--yes")
	require.Zero(t, r.status, r.err)
	for range 3 {
		r = w.asUser(uid, "saves", "duplicate", "tidewrack/1", "--yes")
		require.Zero(t, r.status, r.err)
	}
	for range 4 {
		r = w.asUser(uid, "undo", "--yes")
		require.Zero(t, r.status, r.err)
	}
	require.FileExists(t, closed[0])
}

// TestLinksOutOfASave keeps a save with links: what one leads to outside is no part of it, and that is said, whenever it is kept or brought back.
func TestLinksOutOfASave(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	require.NoError(t, os.Symlink("chart.bin", w.voyages("slot_01", "inside")))
	require.NoError(t, os.Symlink(w.path("downloads"), w.voyages("slot_01", "outside")))
	require.NoError(t, os.Symlink("../slot_02/chart.bin", w.voyages("slot_01", "beside")))
	for _, args := range [][]string{{"keep", "tidewrack"}, {"kept", "tidewrack.1"}, {"restore", "tidewrack.1", "--to", w.path("out")}} {
		out := w.ok(args...).out
		for _, name := range []string{"outside", "beside"} {
			assert.Regexp(t, name+`[: (]+a link out of the save, to `, out, args)
		}
		assert.NotContains(t, out, "inside", args)
	}
	require.NoError(t, os.WriteFile(w.voyages("slot_01", "chart.bin"), []byte("another"), 0o644))
	assert.Contains(t, strings.Join(strings.Fields(w.ok("restore", "tidewrack.1", "--slot", "2", "--yes").out), " "), "a link out of the save")
	target, err := os.Readlink(w.voyages("slot_01", "inside"))
	require.NoError(t, err)
	assert.Equal(t, "chart.bin", target)
	w.ok("undo", "--yes")
	target, err = os.Readlink(w.voyages("slot_01", "outside"))
	require.NoError(t, err, "what was moved aside comes back with all its links")
	assert.Equal(t, w.path("downloads"), target)
}

// TestReadOnlyHome runs what only shows on a home that cannot be written.
func TestReadOnlyHome(t *testing.T) {
	t.Parallel()
	w := dryWorld(t)
	w.readable()
	before := everything(t, w.dir)
	for _, args := range [][]string{{"look"}, {"look", "tidewrack"}, {"vet", "downloads/quiet-cove.zip"}, {"kept"}, {"saves", "tidewrack"}, {"compare", "tidewrack.1", "tidewrack@main"},
		{"undo", "--list"}, {"place", "downloads/quiet-cove.zip", "--dry-run"}, {"undo", "--dry-run"}, {"mods", "tidewrack"}, {"needs", "tidewrack/3"}, {"complete", "zsh", "--", "needs", ""}} {
		r := w.asNobody(args...)
		assert.Zero(t, r.status, "%v: %s", args, r.err)
		assert.Equal(t, before, everything(t, w.dir), args)
	}
	assert.Equal(t, before, everything(t, w.dir))
}

// TestSignals stops a session of play: the status says what stopped it.
func TestSignals(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for signal, status := range map[syscall.Signal]int{syscall.SIGTERM: 143, syscall.SIGHUP: 129} {
		cmd := exec.Command(w.bin, "play", "tidewrack", "--yes", "--", "sleep", "3")
		cmd.Dir = w.dir
		cmd.Env = append(os.Environ(), "OSTROV_HOME="+w.path("ostrov"))
		require.NoError(t, cmd.Start())
		time.Sleep(1500 * time.Millisecond)
		require.NoError(t, cmd.Process.Signal(signal))
		_ = cmd.Wait()
		assert.Equal(t, status, cmd.ProcessState.ExitCode(), signal)
	}
}
