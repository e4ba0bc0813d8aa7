package cli_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func (w *world) cogs(parts ...string) string {
	return w.path(append([]string{"games", "BrassOrchard", "cogs"}, parts...)...)
}

func (w *world) read(path string) string {
	w.t.Helper()
	data, err := os.ReadFile(path)
	require.NoError(w.t, err)
	return string(data)
}

// modsDoc is what commands that change the mod set say in JSON.
type modsDoc struct {
	Verdict  string
	Done     bool
	Findings []struct{ Code, Severity, Subject, Evidence string }
	Mods     []struct {
		Do, ID, Version, Was string
		Files                int
		From                 []struct{ Name, Digest, URL, Commit, Part string }
		Covers               []struct{ Path, Of string }
		Needed               []struct{ Address, Evidence string } `json:"needed_by"`
	}
	Saves []struct {
		Address string
		Now     string `json:"verdict_now"`
		Then    string `json:"verdict_then"`
	}
	Yours []struct{ Path, How string }
	Left  []string `json:"left_out"`
}

func (w *world) modsJSON(args ...string) modsDoc {
	w.t.Helper()
	var doc modsDoc
	require.NoError(w.t, json.Unmarshal([]byte(w.ok(append(args, "--json")...).out), &doc))
	return doc
}

// TestModsAreJudgedBeforeTheyCome shows what a mod does before anything is touched, in words and in JSON.
func TestModsAreJudgedBeforeTheyCome(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	before := state(t, w.path("games"))
	doc := w.modsJSON("mods", "add", "downloads/brass-voice.zip", "--dry-run")
	assert.Equal(t, before, state(t, w.path("games")))
	require.Len(t, doc.Mods, 1)
	assert.Equal(t, "brass-voice", doc.Mods[0].ID)
	assert.Equal(t, "winder/winder.ini", doc.Mods[0].Covers[0].Path, "the game's own file, by its path")
	assert.Len(t, doc.Saves, 6, "every save now and then")
	assert.Contains(t, doc.Left, "Brass Voice/readme.txt")
	w.ok("mods", "add", "downloads/brass-voice.zip", "--yes")
	doc = w.modsJSON("mods", "add", "downloads/copper-voice.zip", "--dry-run")
	assert.Equal(t, "brass-voice", doc.Mods[0].Covers[0].Of, "whose file it covers")

	doc = w.modsJSON("mods", "drop", "tidewrack+deep-tides", "--dry-run")
	assert.Equal(t, "unfit", doc.Verdict)
	assert.Equal(t, "fit", doc.Saves[0].Now)
	assert.Equal(t, "unfit", doc.Saves[0].Then)
	require.NotEmpty(t, doc.Mods[0].Needed)
	assert.Equal(t, "written", doc.Mods[0].Needed[0].Evidence)
	out := w.ok("mods", "drop", "tidewrack+deep-tides", "--dry-run").out
	assert.Contains(t, out, "fit → unfit")
	assert.Contains(t, out, "Kelp Farms: needs deep-tides >= 2.0: not installed")
}

// TestRefusedMods are downloads that nothing is done with, each with its reason.
func TestRefusedMods(t *testing.T) {
	t.Parallel()
	w := newWorld(t).withTrams()
	for _, c := range []struct {
		args   []string
		status int
		says   string
	}{
		{[]string{"mods", "add", "downloads/gold-lamps.zip", "--yes"}, 7, "dangerous"},
		{[]string{"mods", "add", "downloads/gold-lamps.zip", "--yes", "--anyway"}, 7, "dangerous"},
		{[]string{"mods", "add", "downloads/harbour-signs.zip", "--yes"}, 2, "large print, small print"},
		{[]string{"mods", "add", "downloads/harbour-signs.zip", "--pick", "huge", "--yes"}, 2, "huge"},
		{[]string{"mods", "add", "downloads/glass-pears-2.0.0.zip", "downloads/glass-pears-shapes-1.9.0.zip", "--yes"}, 7, "cog is 2.0.0, shapes is 1.9.0"},
		{[]string{"mods", "add", "downloads/quiet-cove.zip", "--yes"}, 2, "nothing in it is laid out as a mod"},
		{[]string{"mods", "add", "downloads/tide-bells-half.zip", "--yes"}, 7, "cannot be read"},
		{[]string{"mods", "add", "downloads/nowhere.zip", "--yes"}, 1, "not there"},
		{[]string{"mods", "add", "games/Tidewrack/mods/deep-tides", "--yes"}, 2, "already"},
		{[]string{"mods", "add"}, 2, "FILE is missing"},
		{[]string{"mods", "add", "downloads/whale-songs-1.0.0.zip"}, 7, "consent"},
		{[]string{"mods", "drop", "tidewrack+nothing", "--yes"}, 2, "no mod"},
		{[]string{"mods", "off", "deep-tides", "--yes"}, 2, "tidewrack"},
		{[]string{"mods", "order", "tidewrack+deep-tides", "--yes"}, 2, "--before"},
		{[]string{"mods", "order", "brass-orchard+mainspring", "--after", "cider-press", "--yes"}, 2, "no load order"},
		{[]string{"mods", "pin", "tidewrack", "--yes"}, 7, "no mod"},
		{[]string{"mods", "needs", "tidewrack+deep-tides", ">> 3"}, 2, "requirement"},
		{[]string{"mods", "ad", "x"}, 2, "add"},
	} {
		r := w.fails(c.status, c.args...)
		assert.Contains(t, r.err+r.out, c.says, c.args)
	}
}

// TestVetAMod says of a download of a mod what it is and what adding it would do.
func TestVetAMod(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	before := state(t, w.dir)
	for file, status := range map[string]int{"whale-songs-1.0.0.zip": 0, "clock-faces.zip": 3, "gold-lamps.zip": 6, "harbour-signs.zip": 5, "tide-bells-half.zip": 4, "glass-pears-shapes-2.0.0.zip": 4} {
		r := w.run("vet", "downloads/"+file)
		assert.Equal(t, status, r.status, "%s: %s%s", file, r.out, r.err)
		if file != "tide-bells-half.zip" {
			assert.NotContains(t, r.out, "not-a-save", file)
		}
	}
	r := w.run("vet", "downloads/clock-faces.zip", "--json")
	var doc struct {
		Would []struct {
			Install string
			Mods    []struct{ ID string }
			Plan    []struct{ Do, Path string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &doc))
	require.Len(t, doc.Would, 1)
	assert.Equal(t, "brass-orchard@main", doc.Would[0].Install)
	assert.Equal(t, "clock-faces", doc.Would[0].Mods[0].ID)
	assert.Equal(t, before, state(t, w.dir), "vet touches nothing")
}

// TestSettingsAreMerged updates a mod whose settings the player has changed: what both changed alone is joined, what clashes is kept twice.
func TestSettingsAreMerged(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	options := w.path("games", "Tidewrack", "mods", "kelp-lights", "options.ini")
	w.ok("mods", "add", "downloads/kelp-lights-1.0.0.zip", "--yes")
	edited := strings.Replace(w.read(options), "brightness = 4", "brightness = 7", 1)
	require.NoError(t, os.WriteFile(options, []byte(edited), 0o644))

	doc := w.modsJSON("mods", "add", "downloads/kelp-lights-1.1.0.zip", "--update", "--yes")
	assert.Equal(t, "1.0.0", doc.Mods[0].Was)
	require.Len(t, doc.Yours, 1)
	assert.Contains(t, doc.Yours[0].How, "merged")
	assert.Contains(t, w.read(options), "brightness = 7", "the player's")
	assert.Contains(t, w.read(options), "range = 45", "the new version's")

	doc = w.modsJSON("mods", "add", "downloads/kelp-lights-2.0.0.zip", "--update", "--yes")
	require.Len(t, doc.Yours, 1)
	assert.Contains(t, doc.Yours[0].How, "options.ini.new")
	assert.Contains(t, doc.Yours[0].How, "brightness")
	assert.Contains(t, w.read(options), "brightness = 7", "the player's stays")
	assert.Contains(t, w.read(options+".new"), "brightness = 9", "the new version's lies beside")
	w.ok("mods", "drop", "tidewrack+kelp-lights", "--yes")
	assert.NoFileExists(t, options+".new")
	w.ok("undo", "--yes")
	assert.Contains(t, w.read(options+".new"), "brightness = 9")
}

// TestEditedFilesOfAnUpdateStay updates a mod to a version that lacks a file which was changed: it stays and is named.
func TestEditedFilesOfAnUpdateStay(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	pack := func(name string, files ...string) string {
		dir := w.path("made", name, "whistles")
		for _, f := range append(files, "mod.json") {
			text := "text of " + f + "\n"
			if f == "mod.json" {
				text = `{"id": "whistles", "version": "` + name + `", "title": "Whistles"}`
			}
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, f)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, f), []byte(text), 0o644))
		}
		return dir
	}
	w.ok("mods", "add", pack("1.0", "tunes.txt", "gone.bin", "a/b.txt"), "--for", "tidewrack", "--yes")
	dir := w.path("games", "Tidewrack", "mods", "whistles")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tunes.txt"), []byte("mine\n"), 0o644))
	doc := w.modsJSON("mods", "add", pack("2.0", "a"), "--for", "tidewrack", "--update", "--yes")
	require.Len(t, doc.Yours, 1)
	assert.Contains(t, doc.Yours[0].Path, "tunes.txt")
	assert.Equal(t, "mine\n", w.read(filepath.Join(dir, "tunes.txt")))
	assert.NoFileExists(t, filepath.Join(dir, "gone.bin"))
	assert.FileExists(t, filepath.Join(dir, "a"), "a file where a folder was")
	w.ok("undo", "--yes")
	assert.FileExists(t, filepath.Join(dir, "a", "b.txt"))
	assert.Equal(t, "mine\n", w.read(filepath.Join(dir, "tunes.txt")))
}

// TestEditedFilesStay drops a mod of which a file was changed: it stays and is named, and no other does.
func TestEditedFilesStay(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("mods", "add", "downloads/kelp-lights-1.0.0.zip", "--yes")
	dir := w.path("games", "Tidewrack", "mods", "kelp-lights")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "things.json"), []byte("{}"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "notes of mine.txt"), []byte("mine"), 0o644))
	doc := w.modsJSON("mods", "drop", "tidewrack+kelp-lights", "--yes")
	require.Len(t, doc.Yours, 1)
	assert.Contains(t, doc.Yours[0].How, "it stays")
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 2, "the changed file and the player's own")
}

// TestModsAsideAndBack sets all mods aside, and brings them back to the byte; in between the game is clean, and the saves say so.
func TestModsAsideAndBack(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	require.NoError(t, os.WriteFile(w.cogs("mainspring", "cache.tmp"), []byte("of the game"), 0o600))
	before := state(t, w.path("games"))
	w.ok("mods", "aside", "brass-orchard", "--but", "Painted Bark", "--yes")
	left, err := os.ReadDir(w.cogs())
	require.NoError(t, err)
	assert.Len(t, left, 1)
	out := w.ok("mods", "brass-orchard").out
	assert.Contains(t, out, "set aside")
	look := w.ok("look", "brass-orchard").out
	assert.Contains(t, look, "mod-off")
	assert.NotContains(t, look, "mod-missing mainspring")
	w.ok("mods", "on", "brass-orchard+mainspring", "--yes")
	assert.FileExists(t, w.cogs("mainspring", "cache.tmp"))
	w.ok("mods", "back", "brass-orchard", "--yes")
	assert.Equal(t, before, state(t, w.path("games")))

	w.ok("mods", "aside", "tidewrack", "--yes")
	w.ok("mods", "back", "tidewrack", "--yes")
	assert.Equal(t, before, state(t, w.path("games")), "with the list of mods, and its time")
}

// TestVerifyAndFix names what is gone, altered and nobody's, and brings back from the archive what is broken.
func TestVerifyAndFix(t *testing.T) {
	t.Parallel()
	w := newWorld(t).withTrams()
	w.ok("mods", "add", "downloads/whale-songs-1.0.0.zip", "--yes")
	dir := w.path("games", "Tidewrack", "mods", "whale-songs")
	before := state(t, dir)
	assert.Contains(t, w.ok("mods", "verify", "tidewrack").out, "all as they came")
	require.NoError(t, os.Remove(filepath.Join(dir, "mod.json")))
	require.NoError(t, os.Truncate(filepath.Join(dir, "art", "whale-songs.art"), 10))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "things.json"), []byte(`{"things": []}`), 0o644))
	require.NoError(t, os.WriteFile(w.path("games", "Tidewrack", "mods", "stray.txt"), []byte("?"), 0o644))
	out := w.ok("mods", "verify", "tidewrack").out
	for _, says := range []string{"mod.json is gone", "whale-songs.art is not as it came", "things.json has been changed", "stray.txt", "--fix"} {
		assert.Contains(t, out, says)
	}
	require.NoError(t, os.Remove(w.path("downloads", "whale-songs-1.0.0.zip")), "it vanished from where it came from")
	w.ok("mods", "verify", "tidewrack", "--fix", "--yes")
	now := state(t, dir)
	things := filepath.Join(dir, "things.json")
	assert.NotEqual(t, before[things], now[things], "what the player may have changed stays")
	before[things] = now[things]
	assert.Equal(t, before, now)

	options := w.tram("options.ini")
	require.NoError(t, os.WriteFile(options, []byte("; mine\n[play]\ndepots = shut\nspeed = 2\n"), 0o644))
	assert.Contains(t, w.ok("mods", "verify", "night-tram").out, "setting-needed")
	w.ok("mods", "verify", "night-tram", "--fix", "--yes")
	assert.Equal(t, "; mine\n[play]\ndepots = open\nspeed = 2\n", w.read(options))
}

// TestLoadOrder changes the load order in the game's own file, the rest of it byte for byte.
func TestLoadOrder(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	order := w.path("games", "Tidewrack", "mods", "order.txt")
	text := strings.Replace(w.read(order), "gull-post\n", "; lights last\ngull-post\n", 1)
	require.NoError(t, os.WriteFile(order, []byte(text), 0o644))
	w.ok("keep", "tidewrack", "--as", "Before")
	w.ok("mods", "order", "tidewrack+barnacle-fix", "--before", "Lantern Core", "--yes")
	assert.True(t, strings.HasPrefix(w.read(order), "barnacle-fix\nlantern-core\n"), w.read(order))
	assert.Contains(t, w.read(order), "; lights last\n")
	w.ok("mods", "order", "tidewrack", "--like", "before.1", "--yes")
	assert.Equal(t, text, w.read(order))
	w.ok("mods", "off", "tidewrack+gull-post", "--yes")
	assert.Equal(t, strings.Replace(text, "gull-post", "#gull-post", 1), w.read(order))
	w.ok("mods", "on", "tidewrack+gull-post", "--yes")
	assert.Equal(t, text, w.read(order))
}

// TestModListsTravel writes a list with sources, compares it, and brings in from a folder of downloads whatever it wants.
func TestModListsTravel(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	list := w.path("list.json")
	w.ok("mods", "add", "downloads/whale-songs-1.0.0.zip", "downloads/kelp-lights-1.1.0.zip", "--yes")
	w.ok("mods", "needs", "tidewrack+whale-songs", "lantern >= 5.4")
	assert.Contains(t, w.ok("mods", "tidewrack").out, "needs lantern >= 5.4, as you said: not installed")
	w.ok("mods", "tidewrack", "--write", list)
	var file struct {
		Mods []struct {
			ID, Source, Download string
			Needs                []string
		}
	}
	require.NoError(t, json.Unmarshal([]byte(w.read(list)), &file))
	for _, m := range file.Mods {
		if m.ID == "whale-songs" {
			assert.Equal(t, "whale-songs-1.0.0.zip", m.Source)
			assert.True(t, strings.HasPrefix(m.Download, "blake3:"), m.Download)
			assert.Equal(t, []string{"lantern >= 5.4"}, m.Needs)
		}
	}
	w.ok("mods", "needs", "tidewrack+whale-songs", "lantern >= 5.4", "--forget")
	w.ok("mods", "drop", "tidewrack+whale-songs", "tidewrack+kelp-lights", "tidewrack+fog-horns", "--yes")
	w.ok("mods", "off", "tidewrack+gull-post", "--yes")
	out := w.ok("compare", list, "tidewrack").out
	for _, says := range []string{"Whale Songs", "Kelp Lights", "Fog Horns", "Gull Post"} {
		assert.Contains(t, out, says)
	}
	r := w.ok("mods", "add", "--like", list, "--from", "downloads", "--for", "tidewrack", "--yes")
	assert.Contains(t, r.err, "not there: Fog Horns 1.1.0")
	mods := w.ok("mods", "tidewrack").out
	assert.Contains(t, mods, "Whale Songs    1.0.0")
	assert.Contains(t, mods, "Kelp Lights    1.1.0")
	assert.Contains(t, w.ok("mods", "add", "--like", list, "--from", "downloads", "--for", "tidewrack", "--yes").out, "nothing to do")
}

// TestModsOfAPlaythrough keeps what was changed in mods for one playthrough out of another, and a fresh start without mods has none.
func TestModsOfAPlaythrough(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("mods", "add", "downloads/kelp-lights-1.0.0.zip", "--yes")
	w.ok("keep", "tidewrack", "--as", "Old Isles")
	options := w.path("games", "Tidewrack", "mods", "kelp-lights", "options.ini")
	came := w.read(options)
	require.NoError(t, os.WriteFile(options, []byte("[lights]\nbrightness = 1\n"), 0o644))
	w.ok("fresh", "New Isles", "tidewrack", "--yes")
	assert.Equal(t, came, w.read(options), "what was changed for the other playthrough is not here")
	w.ok("swap", "old-isles", "--yes")
	assert.Equal(t, "[lights]\nbrightness = 1\n", w.read(options))

	before := state(t, w.path("games", "Tidewrack", "mods"))
	w.ok("fresh", "Clean Isles", "tidewrack", "--mods", "none", "--yes")
	left, err := os.ReadDir(w.path("games", "Tidewrack", "mods"))
	require.NoError(t, err)
	assert.Len(t, left, 1, "the list of mods")
	w.ok("swap", "old-isles", "--yes")
	assert.Equal(t, before, state(t, w.path("games", "Tidewrack", "mods")))
	w.ok("swap", "clean-isles", "--yes")
	left, err = os.ReadDir(w.path("games", "Tidewrack", "mods"))
	require.NoError(t, err)
	assert.Len(t, left, 1)
}

// TestModSettingsElsewhere takes the settings of a mod along that lie outside its folder, where that is asked for.
func TestModSettingsElsewhere(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	settings := w.path("player", ".config", "brass-orchard", "cogs", "cider-press.ini")
	require.NoError(t, os.MkdirAll(filepath.Dir(settings), 0o755))
	require.NoError(t, os.WriteFile(settings, []byte("[press]\nhard = 1\n"), 0o644))
	w.ok("mods", "drop", "brass-orchard+cider-press", "--yes")
	assert.FileExists(t, settings)
	assert.Contains(t, w.ok("look", "brass-orchard").out, "settings-orphaned")
	w.ok("undo", "--yes")
	w.ok("mods", "drop", "brass-orchard+cider-press", "--settings", "--yes")
	assert.NoFileExists(t, settings)
	w.ok("undo", "--yes")
	assert.FileExists(t, settings)
}

// git runs the real git in a folder.
func (w *world) git(dir string, args ...string) string {
	w.t.Helper()
	cmd := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=Selene", "-c", "user.email=s@example.invalid", "-c", "safe.directory=*"}, args...)...)
	cmd.Env = append(os.Environ(), "HOME="+w.path("nobody"), "GIT_CONFIG_NOSYSTEM=1")
	out, err := cmd.CombinedOutput()
	require.NoError(w.t, err, "git %v: %s", args, out)
	return strings.TrimSpace(string(out))
}

// TestCheckouts adds a mod from a repository, updates it forward only, and compares with the real git.
func TestCheckouts(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("needs the Debian package git")
	}
	w := newWorld(t).withTrams()
	repo, depot := w.path("repositories", "moon-line"), w.path("games", "NightTram", "depots", "moon-line")
	url := "file://" + filepath.ToSlash(repo)
	w.git(repo, "reset", "-q")
	doc := w.modsJSON("mods", "add", url, "--yes")
	require.Len(t, doc.Mods, 1)
	assert.Equal(t, w.git(repo, "rev-parse", "HEAD"), doc.Mods[0].From[0].Commit)
	assert.Equal(t, w.read(filepath.Join(repo, "moon-line", "stops.txt")), w.read(filepath.Join(depot, "stops.txt")), "the depot lies one level down in it")
	assert.NoFileExists(t, filepath.Join(depot, "readme.md"))

	assert.Contains(t, w.ok("mods", "add", "--update", "night-tram+moon-line", "--yes").out, "at the last commit")
	require.NoError(t, os.WriteFile(filepath.Join(depot, "stops.txt"), []byte("Moon Gate\nSea of Rails\nmy own stop\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(repo, "moon-line", "stops.txt"), []byte("Before the Gate\nMoon Gate\nSea of Rails\n"), 0o644))
	w.git(repo, "reset", "-q")
	w.git(repo, "commit", "-qam", "one stop more")
	doc = w.modsJSON("mods", "add", "--update", "night-tram+moon-line", "--yes")
	assert.Equal(t, w.git(repo, "rev-parse", "HEAD"), doc.Mods[0].From[0].Commit)
	assert.Equal(t, "Before the Gate\nMoon Gate\nSea of Rails\nmy own stop\n", w.read(filepath.Join(depot, "stops.txt")), "the player's line stays")

	w.git(repo, "commit", "-q", "--amend", "-m", "rewritten")
	r := w.fails(7, "mods", "add", "--update", "night-tram+moon-line", "--yes")
	assert.Contains(t, r.err, "does not go on")

	before := state(t, w.path("ostrov"))
	for _, nameless := range []string{"https://", "file:///", "https://example.invalid/..", "https://example.invalid/.", "git@example.invalid:"} {
		assert.Contains(t, w.fails(2, "mods", "add", nameless, "--for", "night-tram", "--yes").err, "names no repository")
	}
	assert.Equal(t, before, state(t, w.path("ostrov")), "nothing was fetched")

	// a checkout that the player made
	mine := w.path("games", "NightTram", "depots", "mine")
	other := w.path("repositories", "mine")
	require.NoError(t, os.MkdirAll(other, 0o755))
	w.git(other, "init", "-q", "-b", "main")
	require.NoError(t, os.WriteFile(filepath.Join(other, "depot.ini"), []byte("[depot]\nid = mine\ntitle = Mine\n"), 0o644))
	w.git(other, "add", ".")
	w.git(other, "commit", "-qm", "first")
	w.git(w.dir, "clone", "-q", other, mine)
	assert.Contains(t, w.ok("mods", "night-tram").out, w.git(mine, "rev-parse", "HEAD")[:10], "its commit is its version")
	require.NoError(t, os.WriteFile(filepath.Join(other, "more.txt"), []byte("more\n"), 0o644))
	w.git(other, "add", ".")
	w.git(other, "commit", "-qm", "second")
	w.ok("mods", "add", "--update", "night-tram+mine", "--yes")
	assert.Equal(t, "more\n", w.read(filepath.Join(mine, "more.txt")))
	assert.Equal(t, w.git(other, "rev-parse", "HEAD"), w.git(mine, "rev-parse", "HEAD"), "git says the same")
	assert.Empty(t, w.git(mine, "status", "--porcelain"), "and finds nothing changed")
	w.ok("undo", "--yes")
	assert.Equal(t, w.git(other, "rev-parse", "HEAD~1"), w.git(mine, "rev-parse", "HEAD"))

	// a checkout as a folder: git's own files, scripts among them, are no part of the mod
	w.ok("mods", "drop", "night-tram+moon-line", "--yes")
	cloned := w.path("cloned")
	w.git(w.dir, "clone", "-q", repo, cloned)
	require.NoError(t, os.MkdirAll(filepath.Join(cloned, ".git", "hooks"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(cloned, ".git", "hooks", "pre-commit"), []byte("#!/bin/sh\nexit 1\n"), 0o755))
	doc = w.modsJSON("mods", "add", cloned, "--yes")
	assert.Equal(t, w.git(repo, "rev-parse", "HEAD"), doc.Mods[0].From[0].Commit)
	assert.NoDirExists(t, filepath.Join(depot, ".git"))

	require.NoError(t, os.RemoveAll(filepath.Join(mine, ".git", "objects")))
	assert.Contains(t, w.ok("mods", "night-tram").out, "cannot be read", "a partial checkout is damaged")
	w.fails(1, "mods", "add", "--update", "night-tram+mine", "--yes")
}

// TestRestoredModsHaveOwners brings mods back from a snapshot: the ledger says what it said then, also of files outside the folders of mods.
func TestRestoredModsHaveOwners(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("mods", "add", "downloads/brass-voice.zip", "downloads/glass-pears-2.0.0.zip", "downloads/glass-pears-shapes-2.0.0.zip", "--yes")
	w.ok("keep", "brass-orchard", "--with", "mods", "--as", "Both")
	before := state(t, w.path("games", "BrassOrchard"))
	w.ok("mods", "drop", "brass-orchard+brass-voice", "brass-orchard+glass-pears", "--yes")
	w.ok("restore", "both.1", "--only", "mods", "--yes")
	assert.Equal(t, before, state(t, w.path("games", "BrassOrchard")))
	w.agree("restored")
	assert.Contains(t, w.ok("mods", "drop", "brass-orchard+brass-voice", "--yes").out, "what brass-voice had covered")
	assert.Contains(t, w.read(w.path("games", "BrassOrchard", "winder", "winder.ini")), "quiet = no", "what it had covered comes back")
}

const quarry = `ostrov  = 1
id      = "quarry"
title   = "Quarry"
version = { in = "about", at = "$.version" }
install = { marker = ["quarry.bin"] }
folder  = [{ id = "saves", path = "{game}/saves" }, { id = "rocks", path = "{game}/rocks", each = true }, { id = "rocks", path = "{home}/shop/rocks", each = true, managed = true }]
file    = { about = { path = "{game}/about.json", form = "json" }, list = { path = "{game}/rocks/list.json", form = "json", optional = true } }
[[save]]
id     = "dig"
unit   = "file"
folder = "saves"
name   = "{name}.dig"
[save.file.dig]
path = "."
form = "json"
[save.field]
version = { in = "dig", at = "$.version" }
[save.mods]
in   = "dig"
each = "$.rocks[*]"
id   = "$"
[[mod]]
id     = "rock"
unit   = "file"
folder = "rocks"
name   = "*.rock"
[mod.file.rock]
path = "."
form = "json"
[mod.field]
id      = { in = "rock", at = "$.id" }
version = { in = "rock", at = "$.version" }
[active]
in        = "list"
each      = "$.rocks[*]"
id        = "$.id"
off       = "$.off"
order     = true
entry     = '{"id": "{id}"}'
entry_off = '{"id": "{id}", "off": true}'
`

// TestPinning copies what a store manages into the game's own folder, for the playthrough that runs; the list of mods is JSON here.
func TestPinning(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	write := func(text string, parts ...string) {
		at := w.path(append([]string{"quarry"}, parts...)...)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
	}
	list := "{\n  \"rocks\": [\n    {\"id\": \"flint\"},\n    {\"id\": \"slate\"}\n  ],\n  \"other\": 1\n}\n"
	write(quarry, "quarry.toml")
	write("x", "game", "quarry.bin")
	write(`{"version": "2.0"}`, "game", "about.json")
	write(list, "game", "rocks", "list.json")
	write(`{"id": "flint", "version": "1.0"}`, "game", "rocks", "flint.rock")
	write(`{"id": "slate", "version": "1.1"}`, "shop", "rocks", "slate.rock")
	write(`{"version": "2.0", "rocks": ["flint", "slate"]}`, "game", "saves", "pit.dig")
	write(`{"id": "marl", "version": "0.5"}`, "marl.rock")
	w.ok("games", "add", w.path("quarry", "quarry.toml"), "--at", w.path("quarry", "game"), "--player-home", w.path("quarry"), "--yes")
	w.ok("keep", "quarry", "--as", "Deep Pit")
	doc := w.modsJSON("mods", "pin", "quarry+slate", "--yes")
	assert.Equal(t, "pin", doc.Mods[0].Do)
	pinned := w.path("quarry", "game", "rocks", "slate.rock")
	assert.FileExists(t, pinned)
	write(`{"id": "slate", "version": "2.0"}`, "shop", "rocks", "slate.rock")
	assert.Contains(t, w.ok("look", "quarry").out, "1 of 1 save fit", "the update does not reach it")
	w.ok("fresh", "Shallow Pit", "quarry", "--yes")
	assert.NoFileExists(t, pinned, "what was pinned for one playthrough is not there for another")
	w.ok("swap", "deep-pit", "--yes")
	assert.FileExists(t, pinned)

	path := w.path("quarry", "game", "rocks", "list.json")
	was := w.read(path)
	w.ok("mods", "add", w.path("quarry", "marl.rock"), "--for", "quarry", "--yes")
	assert.Contains(t, w.read(path), "    {\"id\": \"slate\"},\n    {\"id\": \"marl\"}\n  ],")
	w.ok("mods", "off", "quarry+flint", "--yes")
	assert.Contains(t, w.read(path), `{"id": "flint", "off": true},`)
	w.ok("mods", "on", "quarry+flint", "--yes")
	w.ok("mods", "drop", "quarry+marl", "--yes")
	assert.Equal(t, was, w.read(path))
	w.fails(2, "mods", "drop", "quarry+slate", "quarry+nothing", "--yes")
}

// TestAListThatNamesMods has a list of mods with what they are called, a remark of the player's, and one that is spelled in capitals.
func TestAListThatNamesMods(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	description := strings.NewReplacer(`entry     = '{"id": "{id}"}'`, `entry = '{"id": "{id}", "name": "{title}"}'`, `entry_off = '{"id": "{id}", "off": true}'`, `entry_off = '{"id": "{id}", "name": "{title}", "off": true}'`,
		"version = { in = \"rock\", at = \"$.version\" }", "version = { in = \"rock\", at = \"$.version\" }\ntitle = { in = \"rock\", at = \"$.title\" }").Replace(quarry)
	write := func(text string, parts ...string) {
		at := w.path(append([]string{"quarry"}, parts...)...)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
	}
	write(description, "quarry.toml")
	write("x", "game", "quarry.bin")
	write(`{"version": "2.0"}`, "game", "about.json")
	list := `{"rocks": [{"id": "Flint", "name": "Flint & \"Fire\"", "first": 7}, {"id": "slate", "name": "Roof"}]}`
	write(list, "game", "rocks", "list.json")
	write(`{"id": "Flint", "version": "1.0", "title": "Flint & \"Fire\""}`, "game", "rocks", "flint.rock")
	write(`{"id": "slate", "version": "1.1", "title": "Roof"}`, "game", "rocks", "slate.rock")
	write(`{"id": "Marl", "version": "0.5", "title": "Marl \"soft\""}`, "game", "rocks", "marl.rock")
	w.ok("games", "add", w.path("quarry", "quarry.toml"), "--at", w.path("quarry", "game"), "--player-home", w.path("quarry"), "--yes")
	path := w.path("quarry", "game", "rocks", "list.json")
	w.ok("mods", "off", "quarry+slate", "--yes")
	assert.Equal(t, strings.Replace(list, `"Roof"}`, `"Roof", "off": true}`, 1), w.read(path))
	w.ok("mods", "on", "quarry+slate", "--yes")
	assert.Equal(t, list, w.read(path))
	w.ok("mods", "on", "quarry+Marl", "--yes")
	assert.Contains(t, w.read(path), `{"id": "Marl", "name": "Marl \"soft\""}`, "as the mod itself spells it")
	assert.Contains(t, w.read(path), `"first": 7`)
	w.ok("mods", "off", "quarry+Flint", "--yes")
	assert.Contains(t, w.read(path), `"off": true`)
	w.ok("undo", "--yes")
	w.ok("undo", "--yes")
	assert.Equal(t, list, w.read(path))
}

// TestStatedNeedsGoAlong puts what was stated of a mod into parcels.
func TestStatedNeedsGoAlong(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("mods", "add", "downloads/whale-songs-1.0.0.zip", "--yes")
	w.ok("mods", "needs", "tidewrack+deep-tides", "whale-songs >= 1")
	w.ok("parcel", "tidewrack/1", "-o", "out.zip", "--yes")
	out, err := exec.Command("unzip", "-p", w.path("out.zip"), "*needs.json").Output()
	if err != nil {
		t.Skip("needs the Debian package unzip")
	}
	assert.Contains(t, string(out), `whale-songs \u003e= 1`)
}
