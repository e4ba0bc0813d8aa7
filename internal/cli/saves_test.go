package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/view"
)

// TestSavesAreHandled does what is otherwise done in a file manager.
func TestSavesAreHandled(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	before := state(t, w.voyages())
	assert.Contains(t, w.ok("saves", "duplicate", "tidewrack/1", "--yes").out, "copied")
	assert.Equal(t, "Gannet Rock", w.titles("tidewrack")["6"])
	assert.Contains(t, w.ok("saves", "rename", "tidewrack/6", "10", "--yes").out, "renamed")
	assert.Contains(t, w.ok("undo", "--list").out, "rename slot 6 to slot 10")
	assert.Equal(t, "Gannet Rock", w.titles("tidewrack")["10"])
	r := w.fails(2, "saves", "rename", "tidewrack/10", "2", "--yes")
	assert.Contains(t, r.err, "taken")
	r = w.ok("saves", "remove", "tidewrack/2", "--yes")
	assert.Contains(t, r.out, "kept in tidewrack.", "it says what keeps it")
	assert.NotContains(t, w.ok("look", "tidewrack").out, "save-gone", "what was removed on purpose is not missed")
	assert.Equal(t, 7, w.run("saves", "remove", "tidewrack/1").status, "nobody agreed")
	for range 3 {
		w.ok("undo", "--yes")
	}
	assert.Equal(t, before, state(t, w.voyages()))
	var doc view.ChangeDoc
	w.decode(&doc, "saves", "remove", "tidewrack/1", "--dry-run")
	assert.False(t, doc.Done)
	assert.NotEmpty(t, doc.Plan)
}

func TestAnInstallIsForgotten(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "brass-orchard")
	before := state(t, w.path("games"), w.path("player"), w.path("ostrov", "archive"))
	r := w.ok("games", "forget", "brass-orchard@main")
	assert.Contains(t, r.out, "ostrov games add brass-orchard --at")
	assert.Equal(t, before, state(t, w.path("games"), w.path("player"), w.path("ostrov", "archive")))
	assert.NotContains(t, w.ok("look").out, "Brass Orchard")
	assert.Contains(t, w.ok("kept").out, "brass-orchard.1", "what was kept stays")
	w.fails(2, "games", "forget", "brass-orchard@main")
	w.ok("games", "add", "brass-orchard", "--at", w.path("games", "BrassOrchard"), "--player-home", w.path("player"), "--yes")
	assert.Contains(t, w.ok("look", "brass-orchard").out, "North Terrace")
}

func TestANoteIsGivenLater(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack", "-m", "first", "--tag", "old")
	file, err := filepath.Glob(w.path("ostrov", "archive", "playthroughs", "tidewrack", "*.json"))
	require.NoError(t, err)
	require.Len(t, file, 1)
	was, err := os.ReadFile(file[0])
	require.NoError(t, err)
	w.ok("kept", "tidewrack.1", "-m", "the good one", "--tag", "best")
	now, err := os.ReadFile(file[0])
	require.NoError(t, err)
	assert.Equal(t, was, now, "what was published is not altered")
	r := w.ok("kept", "tidewrack.best")
	assert.Contains(t, r.out, "the good one")
	assert.Contains(t, r.out, "old, best")
	assert.NotContains(t, r.out, "first")
	assert.Contains(t, w.ok("archive", "verify").out, "whole")
	other := filepath.Join(t.TempDir(), "other")
	w.ok("archive", "add", other)
	assert.Contains(t, w.ok("kept", "tidewrack.1").out, "the good one", "it goes with the snapshot")
	w.ok("kept", "tidewrack.1", "-m", "the better one")
	for _, dir := range []string{other, w.path("ostrov", "archive")} {
		said, err := filepath.Glob(filepath.Join(dir, "playthroughs", "tidewrack", "*.remark.json"))
		require.NoError(t, err)
		require.Len(t, said, 1, dir)
	}
	assert.Contains(t, w.ok("kept", "tidewrack.1").out, "the better one")
	w.fails(2, "kept", "tidewrack", "-m", "which?")
	w.fails(2, "kept", "tidewrack.1", "--tag", "NO")
	remark, err := filepath.Glob(filepath.Join(other, "playthroughs", "tidewrack", "*.remark.json"))
	require.NoError(t, err)
	require.Len(t, remark, 1)
	require.NoError(t, os.WriteFile(remark[0], []byte("{}"), 0o644))
	assert.Contains(t, w.run("archive", "verify").out, "remark.json")
}

// TestHelpForAllThatIsAsked asks for help in every way, and mistypes.
func TestHelpForAllThatIsAsked(t *testing.T) {
	t.Parallel()
	w := &world{t: t, dir: t.TempDir(), bin: program}
	all := w.ok("help").out
	assert.Equal(t, all, w.ok("--help").out)
	for _, c := range w.commands() {
		help := w.ok(append([]string{"help"}, strings.Fields(c)...)...).out
		assert.Contains(t, help, strings.Fields(c)[len(strings.Fields(c))-1])
		assert.Contains(t, help, "USAGE")
		help = w.ok(append(strings.Fields(c), "--help")...).out
		for _, more := range [][]string{{"-h"}, {"brass-orchard/A", "--help"}, {"x", "--yes", "-h"}, {"--json", "x", "y=1", "--help"}} {
			assert.Equal(t, help, w.ok(append(strings.Fields(c), more...)...).out, "%s %v", c, more)
		}
	}
	assert.Equal(t, w.ok("set", "--help").out, w.ok("--home", w.dir, "--json", "set", "x", "--help").out)
	for typed, meant := range map[string]string{"loook": "look", "kep": "keep", "games ad": "add", "archive verfy": "verify", "playthroughs strat": "start", "help kepp": "keep", "kepp --help": "keep", "kepp x -h": "keep"} {
		r := w.run(strings.Fields(typed)...)
		assert.Equal(t, 2, r.status, typed)
		assert.Contains(t, r.err, meant, typed)
	}
}

// TestOneBrokenDescriptionHindersNoOtherGame has descriptions of the player's own that cannot be used.
func TestOneBrokenDescriptionHindersNoOtherGame(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	w.ok("place", "downloads/quiet-cove.zip", "--yes")
	require.NoError(t, os.MkdirAll(w.path("ostrov", "games"), 0o755))
	good, err := os.ReadFile(filepath.Join("..", "..", "games", "brass-orchard.toml"))
	require.NoError(t, err)
	for name, text := range map[string]string{"brass-orchard.toml": strings.Replace(string(good), "[[save]]", "[[sve]]", 1), "mine.toml": "not toml at all [", "latin.toml": "name = \"\xe9\""} {
		require.NoError(t, os.WriteFile(w.path("ostrov", "games", name), []byte(text), 0o644))
	}
	r := w.ok("look", "tidewrack")
	assert.Contains(t, r.out, "Gannet Rock")
	for _, args := range [][]string{{"kept"}, {"archive", "verify"}, {"restore", "tidewrack.1", "--to", filepath.Join(t.TempDir(), "out")}, {"undo", "--yes"}, {"keep", "tidewrack"}, {"vet", "downloads/quiet-cove.zip", "--for", "tidewrack"}} {
		w.ok(args...)
	}
	r = w.run("look", "brass-orchard")
	assert.NotZero(t, r.status)
	assert.Contains(t, r.out+r.err, "brass-orchard.toml", "it says which file")
	all := w.run("look")
	assert.Contains(t, all.out, "Gannet Rock")
	assert.Contains(t, all.out+all.err, "brass-orchard")
}

// TestADamagedListOfActiveModsIsNamed has the file that says which mods are on be a folder, then nonsense: a snapshot can always be taken.
func TestADamagedListOfActiveModsIsNamed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	order := w.path("games", "Tidewrack", "mods", "order.txt")
	require.NoError(t, os.Remove(order))
	require.NoError(t, os.Mkdir(order, 0o755))
	r := w.ok("look", "tidewrack")
	assert.Contains(t, r.out, "Gannet Rock")
	assert.NotContains(t, r.out, "Gannet Rock       1 Mar 21:14  1.6.2      10  fit", "nothing is fit while it is not known")
	assert.Contains(t, r.out, "cannot be read")
	w.ok("keep", "tidewrack")
	assert.Contains(t, w.ok("archive", "verify").out, "whole")
}

// TestDamageIsToldInTheSameOrder verifies an archive with several damages several times.
func TestDamageIsToldInTheSameOrder(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for range 3 {
		w.ok("keep", "tidewrack", "--with", "mods")
		w.ok("keep", "brass-orchard")
	}
	files, err := filepath.Glob(w.path("ostrov", "archive", "*", "*", "*.json"))
	require.NoError(t, err)
	for _, f := range files[1:] {
		data, err := os.ReadFile(f)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(f, []byte(strings.Replace(string(data), `"taken": "2`, `"taken": "1`, 1)), 0o644))
	}
	first := w.run("archive", "verify", "--json").out
	assert.Contains(t, first, "not as it was written")
	for range 5 {
		assert.Equal(t, first, w.run("archive", "verify", "--json").out)
	}
}

// TestManySaves has more saves than fit on a glance, labels, and copies of one save in several places.
func TestManySaves(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	files := map[string]string{"release.txt": "1"}
	for i := range 40 {
		files[fmt.Sprintf("saves/evening %02d.run", i)] = fmt.Sprint(i)
	}
	for i := range 5 {
		files[fmt.Sprintf("saves/auto %02d.run", i)] = fmt.Sprint("auto", i)
	}
	w.small(pebbles, "pebbles", files)
	for i := range 40 {
		at := time.Date(2026, 1, 1+i%28, i, 0, 0, 0, time.UTC)
		require.NoError(t, os.Chtimes(w.path("games", "pebbles", "saves", fmt.Sprintf("evening %02d.run", i)), at, at))
	}
	w.ok("look", "pebbles")
	assert.Contains(t, w.ok("saves", "label", "pebbles/evening 00.run", "before the flood").out, `is called "before the flood"`)
	look := w.ok("look", "pebbles").out
	assert.Contains(t, look, "and 25 saves, older or made by the game itself: 25 fit")
	assert.Contains(t, look, "before the flood", "what has a label is never folded")
	assert.NotContains(t, look, "auto 0")
	assert.Contains(t, w.ok("look", "pebbles", "--all").out, "auto 04.run")
	w.ok("saves", "rename", "pebbles/evening 00.run", "flood", "--yes")
	assert.Contains(t, w.ok("look", "pebbles").out, "before the flood", "a label goes with its save")
	w.ok("saves", "label", "pebbles/flood.run")
	assert.NotContains(t, w.ok("look", "pebbles", "--all").out, "before the flood")

	w.ok("keep", "pebbles")
	w.ok("playthroughs", "start", "Autos", "pebbles")
	w.ok("playthroughs", "assign", "autos", "pebbles/auto*")
	assert.Equal(t, "autos", w.saves("pebbles")["auto 03.run"].Playthrough)
	assert.Equal(t, "pebbles", w.saves("pebbles")["evening 03.run"].Playthrough)

	// the same save in two accounts' folders
	require.NoError(t, os.CopyFS(filepath.Join(filepath.Dir(w.voyages()), "55555", "slot_03"), os.DirFS(w.voyages("slot_00"))))
	newest := w.ok("saves", "tidewrack", "--newest").out
	assert.Contains(t, newest, "Gannet Rock")
	assert.Regexp(t, `tidewrack/4.*newest|tidewrack:55555/4.*newest`, newest, "a copy made just now is the newest")
	assert.Contains(t, newest, "the same")
	assert.Equal(t, "No save is in several places.\n", w.ok("saves", "brass-orchard", "--newest").out)
}

// TestASetOfChosenSettings keeps only some settings, and lists them.
func TestASetOfChosenSettings(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	require.NoError(t, os.WriteFile(filepath.Join(w.documents(), "Tidewrack", "config", "keys.ini"), []byte("jump = space"), 0o644))
	w.ok("keep", "tidewrack", "--settings", "mine", "k*.ini")
	kept := w.ok("kept", "mine.1").out
	assert.Contains(t, kept, "Tidewrack/config/keys.ini")
	assert.Equal(t, 1, strings.Count(kept, ".ini"))
	assert.Contains(t, w.fails(2, "keep", "tidewrack", "--settings", "mine", "nothing.ini").err, "there are: display.ini, keys.ini")
	w.fails(2, "keep", "tidewrack", "keys.ini")
}

// TestWhatAGameTakes places saves where the game has one name for them, does not use their kind, or does without what lies beside them.
func TestWhatAGameTakes(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	description := strings.Replace(pebbles, "name   = \"{name}.run\"", "name   = \"world.run\"\ncompanions = { files = [\"*.png\"], need = false }\n[save.file.run]\npath = \".\"\nform = \"text\"\n[save.is]\nmagic = \"50454242@0\"", 1) +
		"[[save]]\nid = \"night\"\nunit = \"file\"\nfolder = \"saves\"\nname = \"{name}.night\"\nif = { exists = \"{game}/lamp.txt\" }\n"
	write := w.small(description, "pebbles", map[string]string{"release.txt": "1", "saves/world.run": "PEBB mine"})
	w.ok("keep", "pebbles")
	download := w.path("world.run")
	require.NoError(t, os.WriteFile(download, []byte("PEBB another's"), 0o644))
	out := w.run("vet", download).out
	assert.Contains(t, strings.Join(strings.Fields(out), " "), "the game does not need it")
	r := w.fails(7, "place", download, "--yes")
	assert.Contains(t, r.err, `world.run is the only name that the game has for it, and "world.run" is there, of the playthrough pebbles`)
	assert.Contains(t, r.err, "ostrov place "+download+" --slot world.run")
	assert.Contains(t, r.err, "ostrov saves remove pebbles/world.run")
	w.ok("place", download, "--slot", "world.run", "--anyway", "--yes")
	data, err := os.ReadFile(w.path("games", "pebbles", "saves", "world.run"))
	require.NoError(t, err)
	assert.Equal(t, "PEBB another's", string(data))
	w.ok("undo", "--yes")

	night := w.path("one.night")
	require.NoError(t, os.WriteFile(night, []byte("x"), 0o644))
	assert.Contains(t, w.fails(4, "vet", night, "--for", "pebbles").out, "not-listed")
	w.fails(7, "place", night, "--for", "pebbles", "--yes")
	write("lamp.txt", "lit")
	assert.NotContains(t, w.run("vet", night, "--for", "pebbles").out, "not-listed")
}

// TestTwoKindsOfModWithOnePattern puts settings aside that two kinds of mod could have.
func TestTwoKindsOfModWithOnePattern(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	settings := "[mod.settings]\nfiles = [\"{game}/config/{id}.ini\"]\n"
	description := strings.Replace(pebbles, "[[rule]]", settings+"[[mod]]\nid = \"other\"\nunit = \"file\"\nfolder = \"mods\"\nname = \"*.other\"\n"+settings+"[[rule]]", 1)
	w.small(description, "pebbles", map[string]string{"release.txt": "1", "saves/a.run": "x", "mods/moss/m": "x", "config/moss.ini": "x", "config/gone.ini": "x"})
	w.ok("keep", "pebbles")
	w.ok("look", "pebbles", "--put-aside", "--yes")
	assert.NoFileExists(t, w.path("games", "pebbles", "config", "gone.ini"))
	assert.FileExists(t, w.path("games", "pebbles", "config", "moss.ini"))
	w.ok("undo", "--yes")
	assert.FileExists(t, w.path("games", "pebbles", "config", "gone.ini"))
}

// TestOriginStaysWithASave places a stranger's save that says nothing of itself: what lies in the install says nothing of it, wherever it goes.
func TestOriginStaysWithASave(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	description := strings.Replace(pebbles, "[[mod]]", "[save.file.run]\npath = \".\"\nform = \"text\"\n[save.is]\nmagic = \"50454242@0\"\n[[mod]]", 1)
	write := w.small(description, "pebbles", map[string]string{"release.txt": "1", "saves/own.run": "PEBB own", "mods/moss/m": "x"})
	verdict := func(save string) string {
		var doc struct{ Verdict string }
		w.decode(&doc, "needs", "pebbles/"+save)
		return doc.Verdict
	}
	w.ok("look", "pebbles")
	assert.Equal(t, "fit", verdict("own.run"), "one that was written here")
	download := w.path("stranger.run")
	require.NoError(t, os.WriteFile(download, []byte("PEBB stranger's"), 0o644))
	w.fails(5, "vet", download)
	w.ok("place", download, "--yes")
	assert.Equal(t, "unclear", verdict("stranger.run"))
	w.ok("saves", "rename", "pebbles/stranger.run", "renamed", "--yes")
	w.ok("look", "pebbles")
	assert.Equal(t, "unclear", verdict("renamed.run"))
	w.ok("saves", "duplicate", "pebbles/renamed.run", "copy", "--yes")
	assert.Equal(t, "unclear", verdict("copy.run"))
	w.ok("keep", "pebbles")
	w.ok("saves", "remove", "pebbles/copy.run", "--yes")
	w.ok("restore", "pebbles.1", "--slot", "copy.run", "--yes")
	assert.Equal(t, "unclear", verdict("copy.run"))
	write("saves/copy.run", "PEBB written here by the game")
	w.ok("look", "pebbles")
	assert.Equal(t, "fit", verdict("copy.run"), "from then on it was written here")
}
