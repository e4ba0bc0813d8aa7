package cli_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// firstWorld lays over a demo world what the first state of the program that kept archives left there: its home with an archive of two
// snapshots, and the records of a change that was made and taken back. That state lay in /tmp/old/w.
func firstWorld(t *testing.T) *world {
	w := newWorld(t)
	w.ok("place", "downloads/quiet-cove.zip", "--yes")
	w.ok("undo", "--yes")
	areas, err := filepath.Glob(filepath.Join(filepath.Dir(filepath.Dir(w.voyages())), ".ostrov", "*"))
	require.NoError(t, err)
	require.Len(t, areas, 1)
	require.NoError(t, os.RemoveAll(areas[0]))
	require.NoError(t, os.RemoveAll(w.path("ostrov")))
	packed, err := os.Open(filepath.Join("testdata", "first", "world.tar.gz"))
	require.NoError(t, err)
	defer packed.Close()
	z, err := gzip.NewReader(packed)
	require.NoError(t, err)
	for files := tar.NewReader(z); ; {
		h, err := files.Next()
		if err == io.EOF {
			return w
		}
		require.NoError(t, err)
		name := h.Name
		if _, inside, ok := strings.Cut(name, "/.ostrov/"); ok { // the area is called after the path of the folder
			_, inside, _ = strings.Cut(inside, "/")
			name = strings.TrimPrefix(filepath.Join(areas[0], inside), w.dir)
		}
		to := filepath.Join(w.dir, filepath.FromSlash(name))
		if h.Typeflag == tar.TypeDir {
			require.NoError(t, os.MkdirAll(to, 0o755))
			continue
		}
		data, err := io.ReadAll(files)
		require.NoError(t, err)
		if strings.HasSuffix(name, ".json") && !strings.Contains(name, "archive") {
			data = bytes.ReplaceAll(data, []byte("/tmp/old/w"), []byte(w.dir))
			data = bytes.ReplaceAll(data, []byte(".ostrov/3e162d76b686e7fa"), []byte(".ostrov/"+filepath.Base(areas[0])))
		}
		require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
		require.NoError(t, os.WriteFile(to, data, 0o644))
	}
}

// TestWhatTheFirstStateWroteIsRead uses a home and an archive of the first state as if they were of today.
func TestWhatTheFirstStateWroteIsRead(t *testing.T) {
	t.Parallel()
	w := firstWorld(t)
	assert.Contains(t, w.ok("look").out, "Gannet Rock")
	kept := w.ok("kept").out
	assert.Contains(t, kept, "tidewrack.1")
	assert.Contains(t, kept, "tidewrack.2")
	assert.Contains(t, w.ok("archive", "verify").out, "whole")
	list := w.ok("undo", "--list").out
	assert.Contains(t, list, "quiet-cove.zip")
	assert.Contains(t, list, "taken back")
	out := filepath.Join(t.TempDir(), "out")
	w.ok("restore", "tidewrack.1", "--to", out)
	assert.FileExists(t, filepath.Join(out, "Tidewrack", "lit", "70431", "slot_00", "voyage.json.gz"))
	kept1 := filepath.Join(out, "Tidewrack", "lit", "70431", "slot_00")
	require.NoError(t, os.RemoveAll(w.voyages("slot_00")))
	w.ok("playthroughs", "activate", "tidewrack")
	w.ok("restore", "tidewrack.2", "--only", "settings", "--yes")
	w.ok("restore", "tidewrack.1", "--slot", "1", "--yes")
	want := map[string]string{}
	for path, is := range state(t, kept1) {
		want[strings.Replace(path, kept1, w.voyages("slot_00"), 1)] = is
	}
	assert.Equal(t, want, state(t, w.voyages("slot_00")), "bytes, times and modes")
	assert.Contains(t, w.ok("keep", "tidewrack", "--tag", "now").out, "tidewrack.3", "the numbers go on")
}
