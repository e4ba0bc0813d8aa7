package cli_test

import (
	"archive/zip"
	"bytes"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
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

	// one lock, one journal, one history: what one of them did is taken back whole, and swaps of places that both have are one exchange each
	w.ok("play", "tidewrack@second", "--yes", "--", "true")
	require.NoError(t, os.CopyFS(w.voyages("slot_00"), os.DirFS(w.path("sample"))))
	w.ok("keep", "tidewrack@second")
	theirs := state(t, w.voyages())
	w.ok("play", "tidewrack@main", "--yes", "--", "true")
	assert.Equal(t, before, state(t, w.voyages()))
	w.ok("undo", "--yes")
	assert.Equal(t, theirs, state(t, w.voyages()))
	assert.Equal(t, "again", w.saves("tidewrack@main")["slot_00"].Playthrough)
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

// pebbles is a small game whose saves say neither version nor mods.
const pebbles = `ostrov = 1
id      = "pebbles"
title   = "Pebbles"
version = { in = "release", at = "(.+)" }
[install]
marker = ["release.txt"]
[file.release]
path = "{game}/release.txt"
form = "text"
[[folder]]
id   = "saves"
path = "{game}/saves"
[[folder]]
id   = "mods"
path = "{game}/mods"
[[save]]
id     = "run"
unit   = "file"
folder = "saves"
name   = "{name}.run"
[[mod]]
id     = "mod"
unit   = "folder"
folder = "mods"
[[rule]]
save = "older"
says = "fit"
`

// small adds a game with files of its own, from its description, and returns a way to write them.
func (w *world) small(description, id string, files map[string]string) (write func(name, text string)) {
	home := filepath.Join(w.dir, "ostrov", "games")
	require.NoError(w.t, os.MkdirAll(home, 0o755))
	require.NoError(w.t, os.WriteFile(filepath.Join(home, id+".toml"), []byte(description), 0o644))
	dir := w.path("games", id)
	write = func(name, text string) {
		path := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(w.t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(w.t, os.WriteFile(path, []byte(text), 0o644))
	}
	for name, text := range files {
		write(name, text)
	}
	w.ok("games", "add", id, "--at", dir, "--yes")
	return write
}

// TestWhatChangedUnseenIsUnclear goes on with saves that say nothing of themselves after the game or its mods have changed.
func TestWhatChangedUnseenIsUnclear(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		change        func(w *world, write func(name, text string))
		version, mods string // evidence afterwards
	}{
		"nothing":           {func(*world, func(string, string)) {}, "descends", "descends"},
		"the game's update": {func(_ *world, write func(string, string)) { write("release.txt", "2.0") }, "", "descends"},
		"a mod was taken out": {func(w *world, _ func(string, string)) {
			require.NoError(w.t, os.RemoveAll(w.path("games", "pebbles", "mods", "moss")))
		}, "descends", ""},
		"seen between": {func(w *world, write func(string, string)) { write("release.txt", "2.0"); w.ok("look", "pebbles") }, "", "descends"},
		"an old state was brought back and played on": {func(w *world, write func(string, string)) {
			w.ok("keep", "pebbles")
			write("release.txt", "2.0")
			write("saves/a.run", strings.Repeat("played in 2.0 ", 20))
			w.ok("restore", "pebbles.1", "--yes", "--older")
			w.ok("look", "pebbles")
		}, "", "descends"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := newWorld(t)
			write := w.small(pebbles, "pebbles", map[string]string{"release.txt": "1.0", "saves/a.run": strings.Repeat("first evening ", 20), "mods/moss/moss.txt": "green"})
			w.ok("look", "pebbles")
			c.change(w, write)
			write("saves/a.run", strings.Repeat("second evening ", 20))
			w.ok("look", "pebbles")
			var doc struct {
				Verdict string
				Save    struct {
					Needs struct {
						VersionEvidence string `json:"version_evidence"`
						ModsEvidence    string `json:"mods_evidence"`
					}
				}
			}
			w.decode(&doc, "needs", "pebbles/a.run")
			assert.Equal(t, c.version, doc.Save.Needs.VersionEvidence)
			assert.Equal(t, c.mods, doc.Save.Needs.ModsEvidence)
			want := "fit"
			if c.version+c.mods != "descendsdescends" {
				want = "unclear"
				assert.Contains(t, w.ok("needs", "pebbles/a.run").out, "changed since")
			}
			assert.Equal(t, want, doc.Verdict)
		})
	}
}

// TestPrefixes adds a Windows game that lies in or beside the prefixes in which launchers keep such games.
func TestPrefixes(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("games", "forget", "tidewrack@main", "--yes")
	prefix := func(parts ...string) string {
		dir := w.path(append([]string{"lib"}, parts...)...)
		require.NoError(t, os.CopyFS(dir, os.DirFS(w.path("prefix"))))
		return dir
	}
	shown := func(args ...string) string {
		return w.ok(append([]string{"games", "add", "tidewrack", "--dry-run"}, args...)...).out
	}
	// inside a prefix, which is not named
	inside := prefix("inside")
	at := filepath.Join(inside, "drive_c", "Program Files", "Tidewrack Works", "Games", "Tidewrack")
	require.NoError(t, os.CopyFS(at, os.DirFS(w.path("games", "Tidewrack"))))
	assert.Contains(t, shown("--at", at), "prefix       "+inside)
	assert.Contains(t, shown("--under", w.path("lib")), "game         "+at)
	assert.Contains(t, shown("--prefix", inside), "game         "+at)

	// beside: one in a numbered folder has run the game, the other has not
	ran, other := prefix("compat", "4711", "pfx"), prefix("compat", "815", "pfx")
	require.NoError(t, os.RemoveAll(filepath.Join(other, "drive_c", "users", "keeper", "Documents", "Tidewrack")))
	for _, named := range []string{w.path("lib", "compat"), filepath.Dir(ran), ran, filepath.Join(ran, "drive_c")} {
		assert.Contains(t, shown("--at", w.path("games", "Tidewrack"), "--prefix", named), "prefix       "+ran, named)
	}
	require.NoError(t, os.CopyFS(filepath.Join(other, "drive_c", "users", "keeper", "Documents"), os.DirFS(w.documents())))
	several := w.fails(2, "games", "add", "tidewrack", "--at", w.path("games", "Tidewrack"), "--prefix", w.path("lib", "compat")).err
	assert.Contains(t, several, "--prefix "+ran)
	assert.Contains(t, several, "--prefix "+other)
	assert.Contains(t, w.fails(2, "games", "add", "tidewrack", "--at", w.path("games", "Tidewrack"), "--prefix", w.path("games")).err, "is no compatibility prefix and holds none")

	// a folder that has no place is shown, with the reason
	toml := strings.Replace(pebbles, `"{game}/mods"`, `"{local_low}/Pebbles"`, 1)
	require.NoError(t, os.MkdirAll(filepath.Join(w.dir, "ostrov", "games"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(w.dir, "ostrov", "games", "pebbles.toml"), []byte(toml), 0o644))
	require.NoError(t, os.MkdirAll(w.path("games", "pebbles"), 0o755))
	require.NoError(t, os.WriteFile(w.path("games", "pebbles", "release.txt"), []byte("1"), 0o644))
	assert.Contains(t, w.ok("games", "add", "pebbles", "--at", w.path("games", "pebbles"), "--yes").out, "mods         has no place: {local_low} has no place here")
	assert.Contains(t, w.ok("games", "show", "pebbles").out, "{local_low} has no place here")
}

// TestAnInstallThatIsRenamedOrMovedStaysItself gives an install another name and another place: its lines, its changes and what was seen of
// its saves stay its own.
func TestAnInstallThatIsRenamedOrMovedStaysItself(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "brass-orchard")
	w.ok("playthroughs", "start", "Second", "brass-orchard")
	w.ok("games", "base", "brass-orchard")
	owners := w.saves("brass-orchard")
	w.ok("saves", "remove", "brass-orchard/a", "--yes")
	w.ok("games", "rename", "brass-orchard@main", "shed")
	assert.Contains(t, w.ok("look", "brass-orchard@main").out, "brass-orchard, ", "the former name still means it")
	w.fails(2, "games", "rename", "brass-orchard", "No Name")
	assert.Contains(t, w.ok("undo", "--list").out, "brass-orchard@shed")
	w.ok("undo", "--yes")
	assert.Equal(t, owners, w.saves("brass-orchard@shed"))
	assert.Contains(t, w.ok("playthroughs").out, "second")
	assert.Contains(t, w.ok("keep", "brass-orchard", "--as", "brass-orchard").out, "nothing to keep")

	// moved: the game's folder, and the prefix
	w.ok("keep", "tidewrack")
	w.ok("playthroughs", "start", "Third", "tidewrack")
	owners = w.saves("tidewrack")
	require.NoError(t, os.Rename(w.path("games", "Tidewrack"), w.path("games", "Elsewhere")))
	require.NoError(t, os.Rename(w.path("prefix"), w.path("other-prefix")))
	out := w.ok("games", "add", "tidewrack", "--at", w.path("games", "Elsewhere"), "--prefix", w.path("other-prefix"), "--yes").out
	assert.Contains(t, out, "tidewrack@main was at "+w.path("games", "Tidewrack"))
	assert.Equal(t, owners, w.saves("tidewrack"), "what moved with its folder is whose it was")
	assert.Contains(t, w.ok("keep", "tidewrack").out, "kept third.1")
	assert.NotContains(t, w.ok("look", "tidewrack").out, "went on")
}

// TestWhatOstrovWroteIsNotReadAgain swaps away and back: the keep afterwards knows all files.
func TestWhatOstrovWroteIsNotReadAgain(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	w.ok("fresh", "Other", "tidewrack", "--yes")
	w.ok("swap", "tidewrack", "--yes")
	assert.Contains(t, w.ok("keep", "tidewrack").out, "44 kB unchanged and not read again")
	w.written("slot_00", "the game wrote since")
	assert.NotContains(t, w.ok("keep", "tidewrack").out, "44 kB unchanged")
}

// bundles is a game whose saves are zips themselves; its kinds differ in their names only.
const bundles = `ostrov = 1
id      = "bundles"
title   = "Bundles"
version = { in = "release", at = "(.+)" }
[install]
marker = ["release.txt"]
[file.release]
path = "{game}/release.txt"
form = "text"
[[folder]]
id   = "saves"
path = "{game}/saves"
[[rule]]
save = "older"
says = "fit"
[[save]]
id     = "day"
unit   = "file"
folder = "saves"
name   = "day_{name}.bundle"
[save.file.data]
path   = "."
layers = ["zip:data.json"]
form   = "json"
[save.is]
has = ["title"]
[save.field]
title   = { in = "data", at = "$.title" }
version = { in = "data", at = "$.version" }
[[save]]
id     = "night"
unit   = "file"
folder = "saves"
name   = "night_{name}.bundle"
[save.file.data]
path   = "."
layers = ["zip:data.json"]
form   = "json"
[save.is]
has = ["title"]
[save.field]
title   = { in = "data", at = "$.title" }
version = { in = "data", at = "$.version" }
`

// zipped writes a zip with files in it.
func zipped(t *testing.T, path string, files map[string]string) string {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, name := range slices.Sorted(maps.Keys(files)) {
		f, err := z.Create(name)
		require.NoError(t, err)
		_, err = f.Write([]byte(files[name]))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	require.NoError(t, os.WriteFile(path, b.Bytes(), 0o644))
	return b.String()
}

// TestSavesThatAreZips brings in saves that are archives themselves, bare, in a zip and in a parcel.
func TestSavesThatAreZips(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.small(bundles, "bundles", map[string]string{"release.txt": "1.0"})
	require.NoError(t, os.MkdirAll(w.path("games", "bundles", "saves"), 0o755))
	data := map[string]string{"data.json": `{"title": "Long Night", "version": "1.0"}`, "picture.bin": "xyz"}
	bare := zipped(t, w.path("night_one.bundle"), data)
	zipped(t, w.path("outer.zip"), map[string]string{"folder/night_two.bundle": bare, "readme.txt": "hello"})
	w.ok("vet", w.path("night_one.bundle"))
	w.ok("place", w.path("night_one.bundle"), "--yes")
	w.ok("place", w.path("outer.zip"), "--yes")
	for _, name := range []string{"night_one.bundle", "night_two.bundle"} {
		got, err := os.ReadFile(w.path("games", "bundles", "saves", name))
		require.NoError(t, err)
		assert.Equal(t, bare, string(got))
	}
	w.ok("parcel", "bundles/night_one.bundle", "-o", w.path("parcel.zip"))
	assert.NotContains(t, w.ok("vet", w.path("parcel.zip")).out, "damaged")

	// called as no kind is: both could be meant
	zipped(t, w.path("something.zip"), data)
	out := w.fails(5, "vet", w.path("something.zip")).out
	assert.Contains(t, out, "it could be of 2 kinds of save")
	assert.Contains(t, out, "--pick day")
	w.ok("place", w.path("something.zip"), "--pick", "day", "--yes")
	assert.FileExists(t, w.path("games", "bundles", "saves", "day_Long Night.bundle"))
	// a zip that is no save of it is none
	zipped(t, w.path("other.zip"), map[string]string{"notes.txt": "none"})
	w.fails(4, "vet", w.path("other.zip"), "--for", "bundles")
}

// TestVetKnowsWhatItWasGiven vets what is no download, a parcel of a game that nobody has described, and a save where the game lacks what it needs.
func TestVetKnowsWhatItWasGiven(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for _, path := range []string{w.path("games", "Tidewrack"), w.voyages(), filepath.Dir(w.voyages())} {
		assert.Contains(t, w.fails(2, "vet", path).err, "ostrov look tidewrack", path)
	}
	assert.Contains(t, w.fails(2, "vet", w.path("games", "NightTram")).err, "ostrov games add night-tram --at ")

	write := w.small(pebbles+"[[require]]\nexists = \"{game}/loader.txt\"\neffect = \"starts without mods\"\nfix = \"put the loader back\"\n", "pebbles",
		map[string]string{"release.txt": "1.0", "saves/a.run": "evening", "loader.txt": "x"})
	w.ok("needs", "pebbles/a.run", "--state", "version 1.0", "--state", "clean")
	w.ok("parcel", "pebbles/a.run", "-o", w.path("p.zip"))
	w.ok("vet", w.path("p.zip"))
	require.NoError(t, os.Remove(w.path("games", "pebbles", "loader.txt")))
	assert.Contains(t, w.fails(3, "vet", w.path("p.zip")).out, "setting-needed")
	assert.Contains(t, w.ok("look", "pebbles").out, "risky")
	write("loader.txt", "x")
	w.ok("games", "base", "pebbles")
	write("release.txt", "1.0\n")
	assert.Contains(t, w.run("vet", w.path("p.zip")).out, "base-altered")

	w.ok("games", "forget", "pebbles")
	require.NoError(t, os.Remove(filepath.Join(w.dir, "ostrov", "games", "pebbles.toml")))
	out := w.fails(5, "vet", w.path("p.zip")).out
	assert.Contains(t, out, "a parcel with a save of Pebbles (pebbles)")
}

// TestWhatLiesBesideIsSaidAndLetGo makes many changes: what snapshots hold is let go beyond the last few, and archive says how much is left.
func TestWhatLiesBesideIsSaidAndLetGo(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	aside := func() (changes int) {
		var doc struct {
			Aside map[string][]struct{ Changes int }
		}
		w.decode(&doc, "archive")
		for _, k := range doc.Aside["tidewrack@main"] {
			changes += k.Changes
		}
		return changes
	}
	w.ok("keep", "tidewrack")
	w.ok("playthroughs", "start", "Other", "tidewrack", "--resting")
	for i := range 12 {
		w.written("slot_00", strings.Repeat("x", i+1))
		w.ok("restore", "tidewrack.1", "--slot", "1", "--yes", "--older")
	}
	assert.Equal(t, 8, aside())
	assert.Contains(t, w.ok("archive").out, "of 8 changes, for undo, in")
	assert.Len(t, w.saves("tidewrack"), 7, "what lies beside is no save")
}
