package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// second makes a second install of the first game in a prefix of its own, whose folder of documents, a level above the saves, is the link
// or the folder that documents makes of it.
func (w *world) second(documents func(path string)) {
	require.NoError(w.t, os.CopyFS(w.path("second", "game"), os.DirFS(w.path("games", "Tidewrack"))))
	require.NoError(w.t, os.CopyFS(w.path("second", "prefix"), os.DirFS(w.path("prefix"))))
	docs := w.path("second", "prefix", "drive_c", "users", "keeper", "Documents")
	require.NoError(w.t, os.RemoveAll(docs))
	documents(docs)
	w.ok("games", "add", "tidewrack", "--at", w.path("second", "game"), "--prefix", w.path("second", "prefix"), "--name", "second", "--yes")
}

type savedDoc struct{ Name, Playthrough, Title string }

// saves are the saves of an install, by name.
func (w *world) saves(install string) map[string]savedDoc {
	var doc struct{ Saves []savedDoc }
	w.decode(&doc, "saves", install)
	named := map[string]savedDoc{}
	for _, s := range doc.Saves {
		named[s.Name] = s
	}
	return named
}

// evidence is what look says in all findings of a code on an install.
func (w *world) evidence(install, code string) string {
	var doc struct {
		Installs []struct {
			Findings []struct{ Code, Evidence string }
		}
	}
	w.decode(&doc, "look", install)
	text := ""
	for _, f := range doc.Installs[0].Findings {
		if f.Code == code {
			text += f.Evidence + "\n"
		}
	}
	return text
}

func (w *world) documents() string {
	return w.path("prefix", "drive_c", "users", "keeper", "Documents")
}

// TestNeighbours has two installs on one folder of saves, one of them through a link two levels above it: what is whose is one thing for both.
func TestNeighbours(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack", "--as", "first")
	w.second(func(path string) { require.NoError(t, os.Symlink(w.documents(), path)) })
	shown := w.ok("games", "show", "tidewrack@second").out
	assert.Contains(t, shown, "through a link above it "+w.voyages())
	assert.Contains(t, shown, "tidewrack@main keeps its saves there too")
	assert.Contains(t, w.ok("look", "tidewrack@main").out, "tidewrack@second keeps its saves there too")

	// they are the first one's, whoever looks
	for _, in := range []string{"tidewrack@main", "tidewrack@second"} {
		for _, s := range w.saves(in) {
			assert.Equal(t, "first", s.Playthrough, in)
		}
	}
	w.ok("playthroughs", "start", "Other", "tidewrack@second")
	before := state(t, w.voyages())
	require.NoError(t, os.CopyFS(w.path("sample"), os.DirFS(w.voyages("slot_00"))))
	w.ok("fresh", "Again", "tidewrack@second", "--yes")
	assert.Equal(t, before, state(t, w.voyages()), "a fresh start of one does not take the other's saves away")

	// the other's turn: the first one's are put away, and neither takes the other's for its own
	w.ok("play", "tidewrack@second", "--yes", "--", "true")
	assert.Empty(t, w.saves("tidewrack@second"))
	require.NoError(t, os.CopyFS(w.voyages("slot_05"), os.DirFS(w.path("sample"))))
	assert.Equal(t, "again", w.saves("tidewrack@second")["slot_05"].Playthrough)
	look := w.ok("look", "tidewrack@main").out
	assert.Contains(t, look, "The saves here are of again, which is played on tidewrack@second. The 7 saves of")
	assert.NotContains(t, look, "save-gone")
	assert.Contains(t, w.fails(7, "keep", "tidewrack@main").err, "put away and safe in first.")
	w.ok("play", "tidewrack@main", "--yes", "--", "true")
	assert.Equal(t, before, state(t, w.voyages()))
	assert.Contains(t, w.ok("look", "tidewrack@second").out, "The 1 save of again")
}

// TestOneLineOnTwoInstalls states that the same line is played on both: nothing is swapped between them.
func TestOneLineOnTwoInstalls(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	w.second(func(path string) { require.NoError(t, os.Symlink(w.documents(), path)) })
	before := state(t, w.voyages())
	w.ok("playthroughs", "assign", "tidewrack", "tidewrack@second")
	w.ok("play", "tidewrack@second", "--yes", "--", "true")
	assert.Equal(t, before, state(t, w.voyages()))
	w.written("slot_00", "played on the second")
	assert.Contains(t, w.ok("keep", "tidewrack@second").out, "kept tidewrack.2")
	assert.Contains(t, w.ok("look", "tidewrack@main").out, "Nothing has changed since tidewrack.2")
	assert.Contains(t, w.ok("games", "show", "tidewrack@second").out, "the same playthroughs are played on both")
	w.fails(2, "playthroughs", "assign", "tidewrack", "brass-orchard@main")
}

// TestLinksAmongSaves has links in the place of a save, of an account's folder, and of all the saves.
func TestLinksAmongSaves(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	elsewhere := filepath.Join(t.TempDir(), "slot_02")
	require.NoError(t, os.Rename(w.voyages("slot_02"), elsewhere))
	require.NoError(t, os.Symlink(elsewhere, w.voyages("slot_02")))
	require.NoError(t, os.Symlink(filepath.Join(w.dir, "nowhere"), w.voyages("slot_03.new")))
	require.NoError(t, os.RemoveAll(w.voyages("slot_03")))
	require.NoError(t, os.Rename(w.voyages("slot_03.new"), w.voyages("slot_03")))
	assert.Contains(t, w.evidence("tidewrack", "linked-save"), "it is a link to "+elsewhere+", and links in the place of a save are not followed")
	assert.Contains(t, w.evidence("tidewrack", "linked-save"), "it is a link to "+filepath.Join(w.dir, "nowhere")+", which is not there")
	assert.Contains(t, w.ok("keep", "tidewrack").out, "slot_02")
	assert.NotContains(t, w.saves("tidewrack"), "slot_02")
	there := state(t, filepath.Dir(elsewhere))
	w.ok("fresh", "New", "tidewrack", "--yes")
	assert.Equal(t, there, state(t, filepath.Dir(elsewhere)), "what a link leads to is never touched")

	// an account's folder that is a link to another account's is that one
	other := filepath.Join(filepath.Dir(w.voyages()), "55555")
	require.NoError(t, os.Symlink(w.voyages(), other))
	w.ok("swap", "tidewrack", "--yes")
	assert.Len(t, w.saves("tidewrack"), 5)
	assert.Contains(t, w.ok("games", "show", "tidewrack").out, "also as 55555")
	w.ok("needs", "tidewrack:55555/1")

	// the drive that the saves are linked to is away: nothing is gone
	moved := w.path("prefix", "drive_c", "users", "keeper", "drive")
	lit := filepath.Dir(filepath.Dir(w.voyages()))
	require.NoError(t, os.Remove(other))
	require.NoError(t, os.Rename(lit, moved))
	require.NoError(t, os.Symlink(moved, lit))
	w.ok("look", "tidewrack")
	require.NoError(t, os.Rename(moved, moved+"-away"))
	assert.NotContains(t, w.ok("look", "tidewrack").out, "save-gone")
	assert.Contains(t, w.evidence("tidewrack", "never-started"), lit+" is a link to "+moved+", which is not there")
	require.NoError(t, os.Rename(moved+"-away", moved))
	assert.Len(t, w.saves("tidewrack"), 5)
}

// TestTheFolderChangedNotTheSaves takes away the file that decides which folder the game uses.
func TestTheFolderChangedNotTheSaves(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	require.NoError(t, os.Rename(w.path("games", "Tidewrack", "lantern.dll"), w.path("games", "Tidewrack", "lantern.off")))
	look := w.ok("look", "tidewrack").out
	assert.Contains(t, w.evidence("tidewrack", "folder-changed"), "7 saves lie in "+w.voyages())
	assert.NotContains(t, look, "save-gone")
	assert.NotContains(t, look, "ostrov restore")
	require.NoError(t, os.Rename(w.path("games", "Tidewrack", "lantern.off"), w.path("games", "Tidewrack", "lantern.dll")))
	look = w.ok("look", "tidewrack").out
	assert.NotContains(t, look, "folder-changed")
	assert.Contains(t, look, "Nothing has changed since tidewrack.1")
}
