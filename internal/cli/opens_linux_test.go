package cli_test

import (
	"encoding/binary"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// opens counts the files of folders that are opened while do runs, whoever opens them.
func opens(t testing.TB, do func(), folders ...string) int {
	fd, err := unix.InotifyInit1(unix.IN_CLOEXEC | unix.IN_NONBLOCK)
	require.NoError(t, err)
	defer unix.Close(fd)
	for _, folder := range folders {
		require.NoError(t, filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
			if err == nil && d.IsDir() {
				_, err = unix.InotifyAddWatch(fd, path, unix.IN_OPEN)
			}
			return err
		}))
	}
	do()
	count := 0
	buf := make([]byte, 1<<16)
	for {
		n, err := unix.Read(fd, buf)
		if err == unix.EAGAIN {
			return count
		}
		require.NoError(t, err)
		for at := 0; at < n; { // struct inotify_event: wd, mask, cookie, len, name (inotify(7))
			if binary.NativeEndian.Uint32(buf[at+4:])&unix.IN_ISDIR == 0 {
				count++
			}
			at += unix.SizeofInotifyEvent + int(binary.NativeEndian.Uint32(buf[at+12:]))
		}
	}
}

// kept are the folders of what keep keeps: the saves and each mod. The mods' order file beside them is asked each time, as is the version.
func (w *world) kept() []string {
	mods, err := filepath.Glob(w.path("games", "Tidewrack", "mods", "*", "."))
	require.NoError(w.t, err)
	require.NotEmpty(w.t, mods)
	return append(mods, w.voyages())
}

func TestKeepReadsNothingUnchangedAgain(t *testing.T) {
	w := newWorld(t)
	time.Sleep(2100 * time.Millisecond) // times are trusted when they are older than that
	w.ok("keep", "tidewrack", "--with", "mods")
	folders := w.kept()
	again := func() { w.ok("keep", "tidewrack", "--with", "mods") }
	assert.Zero(t, opens(t, again, folders...))
	require.NoError(t, os.WriteFile(w.voyages("slot_00", "chart.bin"), []byte("played on"), 0o644))
	assert.Positive(t, opens(t, again, folders...), "what changed is read")
}

// BenchmarkKeepUnchanged reports as opens/op how many files of saves and mods a keep opens when nothing has changed.
func BenchmarkKeepUnchanged(b *testing.B) {
	w := newWorld(b)
	time.Sleep(2100 * time.Millisecond)
	w.ok("keep", "tidewrack", "--with", "mods")
	total := 0
	for b.Loop() {
		total += opens(b, func() { w.ok("keep", "tidewrack", "--with", "mods") }, w.kept()...)
	}
	b.ReportMetric(float64(total)/float64(b.N), "opens/op")
}
