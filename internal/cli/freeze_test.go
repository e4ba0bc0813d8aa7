package cli_test

import (
	"archive/zip"
	"bufio"
	"bytes"
	"compress/gzip"
	"crypto/sha512"
	"encoding/hex"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/view"
)

// updateTo makes Tidewrack another version.
func (w *world) updateTo(version string) {
	require.NoError(w.t, os.WriteFile(w.path("games", "Tidewrack", "version.json"), []byte(`{"version": "`+version+`", "build": 9001}`), 0o644))
}

// TestFreeze keeps a game before its update and lays the former version out as a second install, whose saves lie in the same folder.
func TestFreeze(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack", "--with", "game", "--tag", "before-update")
	own := state(t, w.voyages())
	game := state(t, w.path("games", "Tidewrack"))
	w.updateTo("1.6.4")
	r := w.ok("look", "tidewrack")
	assert.Regexp(t, `updated-since 1\.6\.2 in tidewrack\.1, 1\.6\.4 now; not saved with 1\.6\.4 yet: 1, 2`, r.out)
	assert.Contains(t, r.out, "ostrov restore tidewrack.1 --only game --to DIR")

	w.fails(2, "restore", "tidewrack.1", "--only", "game")
	w.fails(2, "restore", "tidewrack.1", "--only", "game", "--to", w.path("games", "Tidewrack"))
	former := w.path("games", "Former")
	r = w.ok("restore", "tidewrack.before-update", "--only", "game", "--to", former)
	assert.Contains(t, r.out, "tidewrack@1-6-2")
	assert.Contains(t, r.out, "keeps its saves in the same folder as tidewrack@main")
	assert.Equal(t, moved(game, w.path("games", "Tidewrack"), former), state(t, former), "every file, time and mode of the game and its mods")
	assert.Equal(t, own, state(t, w.voyages()))

	var doc view.PlaythroughsDoc
	count := func(name string) int {
		w.decode(&doc, "playthroughs")
		for _, p := range doc.Playthroughs {
			if p.Name == name {
				return p.Saves
			}
		}
		return -1
	}
	assert.Equal(t, 7, count("tidewrack"))
	assert.Equal(t, 0, count("tidewrack-1-6-2"))
	require.NoError(t, os.RemoveAll(w.voyages("slot_08")))
	present := state(t, w.voyages())

	w.fails(7, "play", "tidewrack@1-6-2", "--", "true")
	w.ok("play", "tidewrack@1-6-2", "--yes", "--", "true")
	assert.Equal(t, own, state(t, w.voyages()), "the frozen state")
	assert.Equal(t, 0, count("tidewrack"))
	assert.Equal(t, 7, count("tidewrack-1-6-2"))
	w.ok("undo", "--yes")
	assert.Equal(t, present, state(t, w.voyages()))
	assert.Equal(t, 6, count("tidewrack"))
	assert.Equal(t, 0, count("tidewrack-1-6-2"))

	w.ok("play", "tidewrack@1-6-2", "--yes", "--", "true")
	require.NoError(t, os.CopyFS(w.voyages("slot_05"), os.DirFS(w.voyages("slot_00"))))
	assert.Equal(t, 8, count("tidewrack-1-6-2"), "what is written now is of the install that is played")
	w.ok("play", "tidewrack@main", "--yes", "--", "true")
	assert.Equal(t, present, state(t, w.voyages()))
	w.ok("play", "tidewrack@1-6-2", "--yes", "--", "true")
	assert.DirExists(t, w.voyages("slot_05"))
	assert.Contains(t, w.ok("archive", "verify").out, "whole")
}

// moved is a state with the paths of one folder in place of those of another.
func moved(files map[string]string, from, to string) map[string]string {
	m := map[string]string{}
	for path, is := range files {
		m[strings.Replace(path, from, to, 1)] = is
	}
	return m
}

func TestUpdateThatWasNotKept(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	w.updateTo("1.6.4")
	r := w.ok("look", "tidewrack")
	assert.Contains(t, r.out, "1.6.2 was not kept")
	assert.Contains(t, r.out, "ostrov keep tidewrack --with game")
	assert.Contains(t, w.fails(2, "restore", "tidewrack.1", "--only", "game", "--to", w.path("x")).err, "has not kept the game itself")
	assert.Regexp(t, `game +updated 1\.6\.2 → 1\.6\.4`, w.ok("keep", "tidewrack").out)
	assert.Contains(t, w.ok("kept").out, "game 1.6.2 → 1.6.4")
}

func TestKeepWith(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	pictures := w.path("player", ".local", "share", "brass-orchard", "pictures")
	require.NoError(t, os.MkdirAll(pictures, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(pictures, "pears.png"), []byte("a picture"), 0o644))
	held := func(address string) map[string]int {
		var doc view.KeptDoc
		w.decode(&doc, "kept", address)
		files := map[string]int{}
		for _, h := range doc.Snapshots[0].With {
			files[string(h.What)] = h.Files
		}
		return files
	}
	w.ok("keep", "brass-orchard", "--with", "mods,pictures", "--always", "--tag", "2.3")
	w.ok("keep", "brass-orchard")
	w.ok("keep", "brass-orchard", "--with", "nothing")
	for address, want := range map[string]map[string]int{
		"brass-orchard.2.3": {"mods": 26, "pictures": 1, "settings": 1}, "brass-orchard.2": {"mods": 26, "pictures": 1, "settings": 1}, "brass-orchard.3": {"settings": 1},
	} {
		assert.Equal(t, want, held(address), address)
	}
	require.NoError(t, os.Remove(filepath.Join(pictures, "pears.png")))
	w.ok("restore", "brass-orchard.2", "--only", "pictures", "--yes")
	assert.FileExists(t, filepath.Join(pictures, "pears.png"))
	for _, args := range [][]string{{"--with", "everything"}, {"--always"}, {"--tag", "7"}, {"--tag", "../x"}, {"--settings", "x", "--tag", "y"}} {
		w.fails(2, append([]string{"keep", "brass-orchard"}, args...)...)
	}
	w.fails(2, "kept", "brass-orchard.no-such-tag")
}

// TestExport checks an export as someone without Ostrov would: by its manifest.
func TestExport(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack", "--with", "mods", "-m", "to show")
	file := w.path("out.zip")
	r := w.fails(7, "kept", "tidewrack.1", "--export", file)
	assert.Contains(t, r.out, "would tell of you")
	assert.Contains(t, r.err, "--blank")
	w.ok("kept", "tidewrack.1", "--export", file, "--yes")
	assert.Contains(t, w.fails(7, "kept", "tidewrack.1", "--export", file).err, "is there already")
	blanked := w.path("blanked.zip")
	w.ok("kept", "tidewrack.1", "--export", blanked, "--blank")
	z, err := zip.OpenReader(blanked)
	require.NoError(t, err)
	for _, f := range z.File {
		assert.NotContains(t, f.Name, "70431")
		r, err := f.Open()
		require.NoError(t, err)
		data, err := io.ReadAll(r)
		require.NoError(t, err)
		if strings.HasSuffix(f.Name, ".gz") {
			unpacked, err := gzip.NewReader(bytes.NewReader(data))
			require.NoError(t, err)
			data, err = io.ReadAll(unpacked)
			require.NoError(t, err)
		}
		assert.NotContains(t, string(data), "70431", f.Name)
	}
	require.NoError(t, z.Close())
	w.fails(2, "kept", "--export", file)
	z, err = zip.OpenReader(file)
	require.NoError(t, err)
	defer z.Close()
	content := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		data, err := io.ReadAll(r)
		require.NoError(t, err)
		content[f.Name] = string(data)
	}
	lines := bufio.NewScanner(strings.NewReader(content["out/manifest-sha512.txt"]))
	n := 0
	for ; lines.Scan(); n++ {
		sum, path, ok := strings.Cut(lines.Text(), "  ")
		require.True(t, ok)
		got := sha512.Sum512([]byte(content["out/"+path]))
		assert.Equal(t, sum, hex.EncodeToString(got[:]), path)
	}
	assert.Greater(t, n, 40)
	save, err := os.ReadFile(w.voyages("slot_00", "voyage.json.gz"))
	require.NoError(t, err)
	assert.Equal(t, string(save), content["out/data/saves-saves-70431/slot_00/voyage.json.gz"])
	for _, word := range []string{"to show", "Deep Tides", "Gannet Rock", "sha512sum -c"} {
		assert.Contains(t, content["out/data/READ-ME.txt"], word)
	}
	assert.Contains(t, content["out/data/mods.json"], `"ostrov_mods": 1`)
}

func TestSetsOfSettings(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	config := w.path("player", ".config", "brass-orchard")
	own := filepath.Join(config, "settings.ini")
	good, err := os.ReadFile(own)
	require.NoError(t, err)
	require.NoError(t, os.Mkdir(filepath.Join(config, "cogs"), 0o755))
	for _, cog := range []string{"cider-press", "honey-dials"} {
		require.NoError(t, os.WriteFile(filepath.Join(config, "cogs", cog+".ini"), []byte("[x]\ny = 1\n"), 0o644))
	}
	w.ok("keep", "brass-orchard")
	w.ok("keep", "brass-orchard", "--settings", "usual", "-m", "large rows")
	assert.Contains(t, w.ok("kept").out, "a set of settings")
	assert.Contains(t, w.fails(2, "keep", "brass-orchard", "--as", "usual").err, "no playthrough")
	assert.Contains(t, w.fails(2, "keep", "tidewrack", "--settings", "usual").err, "no set of settings of tidewrack")
	assert.Contains(t, w.fails(2, "keep", "brass-orchard", "--settings", "brass-orchard").err, "there is a playthrough")

	r := w.ok("look", "brass-orchard")
	assert.Regexp(t, `settings-orphaned +honey-dials: honey-dials.ini`, r.out)
	assert.NotContains(t, r.out, "cider-press.ini")
	w.fails(7, "look", "brass-orchard", "--put-aside")
	w.ok("look", "brass-orchard", "--put-aside", "--yes")
	assert.NoFileExists(t, filepath.Join(config, "cogs", "honey-dials.ini"))
	assert.FileExists(t, filepath.Join(config, "cogs", "cider-press.ini"))
	w.ok("undo", "--yes")
	assert.FileExists(t, filepath.Join(config, "cogs", "honey-dials.ini"))

	assert.Contains(t, w.ok("kept", "usual.1").out, "a set of settings of Brass Orchard")
	require.NoError(t, os.WriteFile(own, []byte("[view]\nrows = 3\n"), 0o644))
	w.ok("restore", "usual", "--yes")
	back, err := os.ReadFile(own)
	require.NoError(t, err)
	assert.Equal(t, string(good), string(back))
	require.NoError(t, os.WriteFile(own, []byte("[view]\nrows = 2\n"), 0o644))
	w.ok("fresh", "Second", "brass-orchard", "--yes")
	assert.NoFileExists(t, filepath.Join(config, "cogs", "cider-press.ini"), "settings that are not marked to stay are the playthrough's")
	changed, err := os.ReadFile(own)
	require.NoError(t, err)
	assert.Equal(t, "[view]\nrows = 2\n", string(changed), "and this one stays")
	w.ok("fresh", "Third", "brass-orchard", "--settings", "usual", "--yes")
	now, err := os.ReadFile(own)
	require.NoError(t, err)
	assert.Equal(t, string(good), string(now))
	assert.FileExists(t, filepath.Join(config, "cogs", "cider-press.ini"))
	assert.NoFileExists(t, filepath.Join(config, "cogs", "honey-dials.ini"), "its mod is not installed")
	w.fails(2, "fresh", "Fourth", "brass-orchard", "--settings", "brass-orchard", "--yes")
	w.ok("swap", "brass-orchard", "--yes")
	assert.FileExists(t, filepath.Join(config, "cogs", "honey-dials.ini"), "it comes back as it was kept")
}

// TestSettingsAreKeptBeforeTheyGo holds that a change of settings alone is kept before a change clears them.
func TestSettingsAreKeptBeforeTheyGo(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	config := w.path("player", ".config", "brass-orchard", "cogs")
	w.ok("keep", "brass-orchard")
	require.NoError(t, os.Mkdir(config, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(config, "cider-press.ini"), []byte("[x]\n"), 0o644))
	assert.Contains(t, w.ok("fresh", "Second", "brass-orchard", "--yes").out, "kept as brass-orchard.2")
	assert.NoFileExists(t, filepath.Join(config, "cider-press.ini"))
	w.ok("swap", "brass-orchard", "--yes")
	assert.FileExists(t, filepath.Join(config, "cider-press.ini"))
}

// TestWhatIsKeptFirstIsReadBack damages the archive: a change that would take saves away refuses, as what it keeps first is not whole.
func TestWhatIsKeptFirstIsReadBack(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	contents, err := filepath.Glob(w.path("ostrov", "archive", "content", "*.zip"))
	require.NoError(t, err)
	require.NotEmpty(t, contents)
	for _, path := range contents {
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		for i := 200; i < len(data)/2; i += 500 {
			data[i] ^= 0x10
		}
		require.NoError(t, os.WriteFile(path, data, 0o644))
	}
	r := w.fails(1, "fresh", "New", "tidewrack", "--yes")
	assert.Contains(t, r.err, "nothing has been changed")
	assert.Contains(t, r.err, "ostrov archive verify")
	assert.Len(t, w.titles("tidewrack"), 7)
}

func TestPlaythroughNotes(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	r := w.ok("playthroughs", "note", "tidewrack", "waits for Deep Tides 2.2")
	assert.Contains(t, r.out, "waits for Deep Tides 2.2")
	assert.Regexp(t, `tidewrack .*active`, r.out)
	w.ok("fresh", "Other", "tidewrack", "--yes")
	assert.Regexp(t, `tidewrack .*resting`, w.ok("playthroughs").out)
	w.fails(2, "playthroughs", "note", "nobody", "x")
}

// TestLinkedMod keeps a mod that is a link to where its maker works on it, and brings it back.
func TestLinkedMod(t *testing.T) {
	t.Parallel()
	if runtime.GOOS == "windows" {
		t.Skip("links need a right there")
	}
	w := newWorld(t)
	mod := w.path("games", "Tidewrack", "mods", "gull-post")
	elsewhere := w.path("workshop")
	require.NoError(t, os.Rename(mod, elsewhere))
	require.NoError(t, os.Symlink(elsewhere, mod))
	card, err := os.ReadFile(filepath.Join(mod, "mod.json"))
	require.NoError(t, err)
	w.ok("keep", "tidewrack", "--with", "mods")
	assert.Contains(t, w.ok("archive", "verify").out, "whole")
	require.NoError(t, os.Remove(mod))
	w.ok("restore", "tidewrack.1", "--only", "mods", "--yes")
	got, err := os.ReadFile(filepath.Join(mod, "mod.json"))
	require.NoError(t, err)
	assert.Equal(t, string(card), string(got))
}

// TestAlteredModsAreMarked holds that a mod edited by hand is marked in every list, and stays marked when it is kept.
func TestAlteredModsAreMarked(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack", "--with", "mods")
	assert.NotContains(t, w.ok("mods", "tidewrack").out, "altered")
	file := w.path("games", "Tidewrack", "mods", "deep-tides", "things.json")
	good, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(`{"things": ["deep-tides:own"]}`), 0o644))
	w.ok("keep", "tidewrack", "--with", "mods")
	assert.Contains(t, w.ok("keep", "tidewrack").out, "1 altered")
	assert.Contains(t, w.ok("look", "tidewrack").out, "1 altered")
	assert.Regexp(t, `Deep Tides .*on, altered`, w.ok("mods", "tidewrack").out)
	assert.Contains(t, w.ok("kept", "tidewrack.3").out, "altered Deep Tides")
	assert.NotContains(t, w.ok("kept", "tidewrack.1").out, "altered Deep Tides")
	for ending, text := range map[string]string{".md": "(altered)", ".csv": ",true", ".json": `"altered": true`} {
		list := filepath.Join(t.TempDir(), "mods"+ending)
		w.ok("mods", "tidewrack", "--write", list)
		got, err := os.ReadFile(list)
		require.NoError(t, err)
		assert.Contains(t, string(got), text)
	}
	assert.Contains(t, w.ok("compare", "tidewrack+deep-tides", "tidewrack.1").out, "deep-tides:own")
	require.NoError(t, os.WriteFile(file, good, 0o644))
	assert.NotContains(t, w.ok("mods", "tidewrack").out, "altered")
}
