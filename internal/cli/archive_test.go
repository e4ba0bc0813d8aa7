package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSeveralArchives keeps into two, loses one's drive, copies what it missed, and repairs a damage from the other.
func TestSeveralArchives(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	other := filepath.Join(t.TempDir(), "drive", "ostrov")
	main := filepath.Join(t.TempDir(), "main")
	require.NoError(t, os.MkdirAll(filepath.Dir(other), 0o755))
	w.ok("archive", "add", other)
	w.ok("archive", "add", main)
	r := w.ok("keep", "tidewrack", "-m", "one")
	assert.Contains(t, r.out, "and in "+other)
	away := filepath.Join(t.TempDir(), "away")
	require.NoError(t, os.Rename(other, away))
	rewrite(t, w.voyages("slot_00", "voyage.json.gz"), `"lamps"`, `"lamps "`)
	assert.Contains(t, w.ok("keep", "tidewrack").out, "archive-away")
	require.NoError(t, os.Rename(away, other))
	assert.Contains(t, w.ok("archive", "copy", other).out, "has everything already", "what it missed came by itself")
	late, err := filepath.Glob(filepath.Join(other, "playthroughs", "tidewrack", "*.json"))
	require.NoError(t, err)
	assert.Len(t, late, 2)
	w.fails(2, "archive", "copy", main)
	w.fails(1, "archive", "copy", t.TempDir())

	contents, err := filepath.Glob(filepath.Join(main, "content", "*.zip"))
	require.NoError(t, err)
	require.NotEmpty(t, contents)
	data, err := os.ReadFile(contents[0])
	require.NoError(t, err)
	data[120] ^= 1 // in the content of its first entry, behind the header of 94 bytes
	require.NoError(t, os.WriteFile(contents[0], data, 0o644))
	assert.Contains(t, w.ok("archive", "verify", "--fast").out, "all there", "what is in it is not read")
	assert.Equal(t, 1, w.run("archive", "verify").status)
	assert.Contains(t, w.ok("archive", "verify", "--repair", other).out, "1 file was taken")
	assert.Contains(t, w.ok("archive", "verify").out, "whole")
	require.NoError(t, os.Remove(contents[0]))
	r = w.run("archive", "verify", "--fast")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.out, "missing from the archive")
	w.ok("archive", "verify", "--repair", other)

	require.NoError(t, os.Rename(main, main+"-away")) // the first one's drive is absent: the next one there serves
	require.NoError(t, os.RemoveAll(w.voyages("slot_01")))
	w.ok("restore", "tidewrack.1", "--slot", "2", "--yes")
	assert.DirExists(t, w.voyages("slot_01"))
	require.NoError(t, os.Rename(other, away)) // and without any, one in Ostrov's home
	rewrite(t, w.voyages("slot_00", "voyage.json.gz"), `"lamps "`, `"lamps"`)
	w.ok("keep", "tidewrack", "-m", "while both were away")
	assert.DirExists(t, w.path("ostrov", "archive", "content"))
	require.NoError(t, os.Rename(away, other))
	assert.Contains(t, w.ok("kept").out, "while both were away", "the archive that is there again has it")
	verified := w.fails(1, "archive", "verify").out
	assert.Contains(t, verified, "whole: "+other)
	assert.Contains(t, verified, "not checked: "+main)
	w.ok("archive", "clear-old", "--days", "0", "--count", "1", "--yes")
	before := w.ok("kept").out
	assert.Equal(t, before, w.ok("kept").out, "and what is cleared there does not come back")
}

// TestAnArchiveTakesOver holds that what was kept stays in sight when an archive is added.
func TestAnArchiveTakesOver(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack", "-m", "at home")
	drive := filepath.Join(t.TempDir(), "drive")
	assert.Contains(t, w.ok("archive", "add", drive).out, "1 snapshot that you had")
	assert.Contains(t, w.ok("keep", "tidewrack").out, "kept tidewrack.2")
	assert.Contains(t, w.ok("kept").out, "at home")
	assert.Contains(t, w.ok("archive", "add", filepath.Join(t.TempDir(), "other")).out, "2 snapshots that you had")
	assert.Contains(t, w.fails(1, "kept", "tidewrack.1", "--export", filepath.Join(t.TempDir(), "no", "x.zip"), "--yes").err, "no is not there")
}

func TestClearOld(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack", "-m", "before the storm")
	for i, text := range []string{`"lamps "`, `"lamps  "`, `"lamps   "`} {
		rewrite(t, w.voyages("slot_00", "voyage.json.gz"), []string{`"lamps"`, `"lamps "`, `"lamps  "`}[i], text)
		w.ok("keep", "tidewrack")
	}
	assert.Contains(t, w.ok("archive", "clear-old").out, "no snapshot goes; 4 stay", "all of the last days")
	r := w.ok("archive", "clear-old", "--days", "0", "--count", "1", "--dry-run")
	assert.Contains(t, r.out, "2 snapshots go, 2 stay")
	w.fails(7, "archive", "clear-old", "--days", "0", "--count", "1")
	w.fails(2, "archive", "clear-old", "--count", "0")
	w.ok("archive", "clear-old", "--days", "0", "--count", "1", "--yes")
	kept := w.ok("kept").out
	assert.Contains(t, kept, "before the storm", "one with a note stays")
	assert.Contains(t, kept, "tidewrack.4", "it keeps its number")
	assert.NotContains(t, kept, "tidewrack.3")
	assert.FileExists(t, w.path("ostrov", "archive", "unused.json"), "content is marked first")
	assert.Contains(t, w.ok("archive", "verify").out, "whole")
	assert.Contains(t, w.ok("keep", "tidewrack").out, "kept tidewrack.5", "and nobody gets one that was given before")
	w.ok("restore", "tidewrack.1", "--to", filepath.Join(t.TempDir(), "out"))
}
