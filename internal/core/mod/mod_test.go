package mod

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/game"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
)

const description = `ostrov = 1
id = "pebble"
title = "Pebble"
[install]
marker = ["pebble.exe"]
[file.order]
path = "{game}/order.txt"
form = "lines"
optional = true
[[folder]]
id = "mods"
path = "{game}/mods"
[[folder]]
id = "more"
path = "{game}/more"
[active]
in = "order"
each = "^(?P<off>#?)(?P<id>[a-z-]+)$"
off = "off"
order = true
[[mod]]
id = "mod"
unit = "folder"
folder = "mods"
nested = true
marker = ["mod.json"]
pack = ["pack.txt"]
[mod.file.card]
path = "mod.json"
form = "json"
[mod.field]
id = { in = "card", at = "$.id" }
version = { in = "card", at = "$.v" }
[mod.needs]
in = "card"
each = "$.needs[*]"
id = "$.id"
range = "$.v"
[[mod]]
id = "plugin"
unit = "file"
folder = "more"
name = "*.{dll,so}"
`

func install(t *testing.T, files map[string]string) *game.Install {
	d, err := game.Parse("pebble.toml", []byte(description))
	require.NoError(t, err)
	return installOf(t, d, files)
}

func installOf(t *testing.T, d *game.Description, files map[string]string) *game.Install {
	root, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	files["pebble.exe"] = ""
	for name, text := range files {
		path := filepath.Join(root, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	in := &game.Install{Game: d, Root: root, PlayerHome: t.TempDir()}
	require.NoError(t, in.Open())
	return in
}

func scan(t *testing.T, in *game.Install) Set {
	s, err := Scan(t.Context(), in, &tree.Hasher{Now: time.Now})
	require.NoError(t, err)
	require.NoError(t, s.TakeDigests(t.Context(), &tree.Hasher{Now: time.Now}, true, func(int64) {}))
	return s
}

func describe(s Set) []string {
	var got []string
	for _, m := range s.Mods {
		text := m.ID
		if m.Version != "" {
			text += " " + m.Version
		}
		if m.Pack != "" {
			text += " in " + m.Pack
		}
		if !m.On {
			text += " off"
		}
		if m.HiddenBy != "" {
			text += " hidden"
		}
		if m.Problem != nil {
			text += " broken"
		}
		got = append(got, text)
	}
	return got
}

func TestScan(t *testing.T) {
	in := install(t, map[string]string{
		"mods/a/mod.json": `{"id": "deep", "v": "2"}`, "mods/b/mod.json": `{"v": "1"}`, "mods/c/mod.json": `{broken`,
		"mods/pack/pack.txt": "", "mods/pack/x/mod.json": `{"id": "x"}`, "mods/pack/y/mod.json": `{"id": "y"}`, "mods/pack/docs/readme": "",
		"mods/z-copy/mod.json": `{"id": "DEEP", "v": "1"}`, "mods/loose.txt": "", "mods/not-a-mod/readme": "",
		"more/tool.dll": "MZ", "more/readme.txt": "",
		"order.txt": "deep\n#b\ny\nx\ngone\ntool\n",
	})
	s := scan(t, in)
	assert.True(t, s.Ordered)
	assert.Equal(t, []string{"deep 2", "b 1 off", "y in pack", "x in pack", "tool", "c off broken", "DEEP 1 off hidden"}, describe(s))
	assert.Len(t, s.List(), 6, "the hidden one is not in the list")
	assert.False(t, s.Mods[0].Digest.IsZero())
	assert.Len(t, s.ForCheck(time.Time{}), 7, "a save may say that it loads the hidden one")

	require.NoError(t, os.Remove(filepath.Join(in.Root, "order.txt")))
	again := &game.Install{Game: in.Game, Root: in.Root, PlayerHome: in.PlayerHome}
	require.NoError(t, again.Open())
	s = scan(t, again)
	assert.False(t, s.Ordered)
	assert.Equal(t, "b 1", describe(s)[0], "without the file that says which are on, all are")
}

func TestFingerprint(t *testing.T) {
	files := func() map[string]string {
		return map[string]string{"mods/a/mod.json": `{"id": "a", "v": "1"}`, "mods/a/data": "x", "mods/b/mod.json": `{"id": "b", "v": "1"}`, "order.txt": "a\nb\n"}
	}
	print := func(change func(map[string]string)) modlist.Fingerprint {
		f := files()
		change(f)
		return modlist.FingerprintOf(scan(t, install(t, f)).List())
	}
	first := print(func(map[string]string) {})
	assert.Regexp(t, "^[bcdfghjklmnpqrstvwxyz]{6}$", first)
	assert.Equal(t, first, print(func(map[string]string) {}), "the same everywhere")
	seen := map[modlist.Fingerprint]bool{first: true}
	for name, change := range map[string]func(map[string]string){
		"version": func(f map[string]string) { f["mods/a/mod.json"] = `{"id": "a", "v": "2"}` },
		"content": func(f map[string]string) { f["mods/a/data"] = "edited by hand" },
		"order":   func(f map[string]string) { f["order.txt"] = "b\na\n" },
		"off":     func(f map[string]string) { f["order.txt"] = "a\n#b\n" },
		"renamed": func(f map[string]string) { f["mods/a/data2"] = f["mods/a/data"]; delete(f, "mods/a/data") },
	} {
		p := print(change)
		assert.False(t, seen[p], name)
		seen[p] = true
	}
}

func TestUnmetRequirements(t *testing.T) {
	s := scan(t, install(t, map[string]string{
		"mods/a/mod.json": `{"id": "a", "needs": [{"id": "core", "v": ">= 2"}, {"id": "off"}, {"id": "gone"}, {"id": "B"}]}`,
		"mods/b/mod.json": `{"id": "b", "needs": [{"id": "nothing"}]}`, "mods/core/mod.json": `{"id": "core", "v": "1.9"}`, "mods/off/mod.json": `{"id": "off"}`,
		"order.txt": "core\na\nb\n#off\n",
	}))
	var got []string
	for _, u := range s.Unmet() {
		got = append(got, u.Mod.ID+" "+u.Need.ID+": "+u.Why)
	}
	assert.Equal(t, []string{"a core: you have 1.9", "a off: switched off", "a gone: not installed", "b nothing: not installed"}, got)
}

func TestLargeModsWaitUntilTheyAreNeeded(t *testing.T) {
	in := install(t, map[string]string{"mods/a/mod.json": `{"id": "a"}`, "mods/a/big": string(make([]byte, small+1)), "mods/b/mod.json": `{"id": "b"}`})
	s, err := Scan(t.Context(), in, &tree.Hasher{Now: time.Now})
	require.NoError(t, err)
	h := &tree.Hasher{Now: time.Now}
	require.NoError(t, s.TakeDigests(t.Context(), h, false, func(int64) {}))
	assert.True(t, s.Mods[0].Digest.IsZero())
	assert.False(t, s.Mods[1].Digest.IsZero())
	require.NoError(t, s.TakeDigests(t.Context(), h, true, func(int64) {}))
	assert.False(t, s.Mods[0].Digest.IsZero())
}

func TestLatestIsThatOfAllTimes(t *testing.T) {
	in := install(t, map[string]string{"mods/a/mod.json": `{"id": "a"}`})
	old := time.Now().Add(-1000 * time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(in.Root, "mods", "a", "mod.json"), old, old))
	s := scan(t, in)
	assert.WithinDuration(t, time.Now(), s.Mods[0].Latest, time.Minute, "unpacking keeps old times; the folder, or the change time, tells")
}

// TestTheCommitOfACheckout reads it from the branch's own file, from a long list of packed ones, and of a HEAD that is no branch.
func TestTheCommitOfACheckout(t *testing.T) {
	const commit, other = "0123456789abcdef0123456789abcdef01234567", "89abcdef0123456789abcdef0123456789abcdef"
	long := "# pack-refs with: peeled fully-peeled sorted\n" + strings.Repeat(other+" refs/heads/reed\n^"+other+"\n", 60_000)
	for _, c := range []struct {
		files         map[string]string
		want, refused string
	}{
		{map[string]string{"HEAD": commit + "\n", "objects/00/x": ""}, commit, ""},
		{map[string]string{"HEAD": "ref: refs/heads/fern\n", "refs/heads/fern": commit + "\n", "packed-refs": other + " refs/heads/fern\n", "objects/00/x": ""}, commit, ""},
		{map[string]string{"HEAD": "ref: refs/heads/fern\n", "packed-refs": long + commit + " refs/heads/fern\n", "objects/00/x": ""}, commit, ""},
		{map[string]string{"HEAD": "ref: refs/heads/fern\n", "packed-refs": long, "objects/00/x": ""}, "", "refs/heads/fern names no commit"},
		{map[string]string{"HEAD": "ref: ../../outside\n", "objects/00/x": ""}, "", "leads elsewhere"},
		{map[string]string{"HEAD": strings.Repeat("0", maxRefs+1), "objects/00/x": ""}, "", "HEAD"},
		{map[string]string{"HEAD": "fern\n", "objects/00/x": ""}, "", "names no commit"},
		{map[string]string{"HEAD": commit + "\n"}, commit, "no objects"},
		{map[string]string{"objects/00/x": ""}, "", "no HEAD"},
	} {
		dir := t.TempDir()
		for name, text := range c.files {
			path := filepath.Join(dir, ".git", filepath.FromSlash(name))
			require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
			require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		}
		got, err := commitOf(dir)
		assert.Equal(t, c.want, got)
		if c.refused == "" {
			assert.NoError(t, err)
			continue
		}
		assert.ErrorContains(t, err, c.refused)
		assert.ErrorIs(t, err, wrap.ErrDamaged)
	}
	got, err := commitOf(t.TempDir())
	assert.NoError(t, err)
	assert.Empty(t, got, "no checkout at all")
}
