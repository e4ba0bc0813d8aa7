package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAGameIsFoundInItsUsualFolder begins as a player does who knows nothing yet.
func TestAGameIsFoundInItsUsualFolder(t *testing.T) {
	t.Parallel()
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	w := &world{t: t, dir: filepath.Join(dir, "demo"), bin: program}
	w.ok("demo", "--dir", w.dir, "--quiet")
	assert.Contains(t, w.ok().out, "ostrov games add GAME   add one of yours")
	r := w.fails(2, "games", "add", "brass-orchard")
	assert.Contains(t, r.err, "Brass Orchard is in none of its usual folders")
	assert.Contains(t, r.err, "ostrov games add brass-orchard --at DIR")

	home := filepath.Join("Games", "BrassOrchard")
	require.NoError(t, os.CopyFS(w.path("nobody", home), os.DirFS(w.path("games", "BrassOrchard"))))
	r = w.fails(0, "games", "add", "brass-orchard", "--dry-run")
	assert.Contains(t, r.out, w.path("nobody", home))
	assert.Contains(t, r.out, "not there yet", "the folders are shown before they are used")
	assert.Contains(t, w.fails(7, "games", "add", "brass-orchard").err, "--yes", "and agreed to")
	assert.NotContains(t, w.ok("games").out, "brass-orchard@main")
	w.ok("games", "add", "brass-orchard", "--yes")
	assert.Contains(t, w.ok("games").out, "brass-orchard@main  "+w.path("nobody", home))
	r = w.ok()
	assert.Contains(t, r.out, "Brass Orchard 2.3: no saves", "alone it is look")
	assert.Contains(t, r.out, "Nothing has been kept yet.")
}

func TestAGameIsFoundBelowAFolder(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	assert.Contains(t, w.fails(2, "games", "add", "night-tram", "--under", w.path("downloads"), "--yes").err, "nowhere below")
	assert.Contains(t, w.fails(1, "games", "add", "night-tram", "--under", w.path("missing"), "--yes").err, "missing")
	assert.Contains(t, w.fails(2, "games", "add", "night-tram", "--under", w.dir, "--at", w.dir, "--yes").err, "does not go with --under")
	r := w.ok("games", "add", "night-tram", "--under", w.dir, "--player-home", w.path("player"), "--yes")
	assert.Contains(t, r.out, w.path("games", "NightTram"))
	require.NoError(t, os.CopyFS(w.path("old drive", "night", "tram"), os.DirFS(w.path("games", "NightTram"))))
	r = w.fails(2, "games", "add", "night-tram", "--under", w.dir, "--yes")
	assert.Contains(t, r.err, "Night Tram is in several folders: say which")
	assert.Contains(t, r.err, "--at '"+w.path("old drive", "night", "tram")+"'")
	deep := w.path("a", "b", "c", "d", "e", "f", "g", "h")
	require.NoError(t, os.MkdirAll(filepath.Dir(deep), 0o755))
	require.NoError(t, os.Rename(w.path("old drive", "night", "tram"), deep))
	assert.Contains(t, w.fails(2, "games", "add", "night-tram", "--under", w.path("a"), "--yes").err, "nowhere below", "it is not looked for for ever")
}

func TestLookOverAllGames(t *testing.T) {
	t.Parallel()
	w := newWorld(t).withTrams()
	all := w.ok()
	for _, want := range []string{"Tidewrack 1.6.2: 4 of 7 saves fit", "Brass Orchard 2.3: ", "Night Tram "} {
		assert.Contains(t, all.out, want)
	}
	assert.Equal(t, all.out, w.ok("look").out)
	var doc lookDoc
	w.decode(&doc, "look")
	assert.Len(t, doc.Installs, 3)
	assert.Equal(t, 4, w.run("look", "--check").status, "the worst save of all")

	assert.Contains(t, w.fails(2, "keep", "nowhere").err, `no install "nowhere" is known`)
}

func TestKeepSaysWhatItWouldTake(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	r := w.fails(0, "keep", "tidewrack", "--dry-run")
	assert.Contains(t, r.out, "saves     7 saves, 44 kB")
	assert.Contains(t, r.out, "settings  2 files")
	assert.NotContains(t, r.out, "\n  mods")
	assert.Contains(t, r.out, "Nothing has been kept: --dry-run.")
	assert.NoDirExists(t, w.path("ostrov", "archive"))

	w.ok("keep", "tidewrack", "--with", "mods", "--always")
	var doc struct {
		Playthrough string
		Takes       []struct {
			What  string
			Count int
			Bytes int64
		}
	}
	w.decode(&doc, "keep", "tidewrack", "--dry-run")
	assert.Equal(t, "tidewrack", doc.Playthrough)
	require.Len(t, doc.Takes, 3)
	assert.Equal(t, "mods", doc.Takes[2].What, "as it is kept always")
	assert.Equal(t, 12, doc.Takes[2].Count)
	w.decode(&doc, "keep", "tidewrack", "--dry-run", "--settings", "plain")
	assert.Len(t, doc.Takes, 1)
	assert.Contains(t, w.fails(2, "keep", "tidewrack", "--dry-run", "--from", w.path("downloads")).err, "holds no save")
	w.ok("keep", "tidewrack", "--with", "nothing", "--always")
	assert.NotContains(t, w.ok("keep", "tidewrack", "--dry-run").out, "\n  mods")
}

// TestAModListInAFileIsCompared compares what is installed with a list that was written a while ago.
func TestAModListInAFileIsCompared(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	list := filepath.Join(t.TempDir(), "list.json")
	w.ok("mods", "tidewrack", "--write", list)
	assert.Contains(t, w.ok("compare", "tidewrack", list).out, "no difference")
	require.NoError(t, os.RemoveAll(w.path("games", "Tidewrack", "mods", "deep-tides")))
	r := w.ok("compare", list, "tidewrack")
	assert.Contains(t, r.out, "Deep Tides")
	require.NoError(t, os.WriteFile(list, []byte(`{"mods": 7}`), 0o644))
	r = w.fails(2, "compare", "tidewrack", list)
	assert.Contains(t, r.err, "list.json")
}
