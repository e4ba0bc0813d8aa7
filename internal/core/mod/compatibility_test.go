package mod

import (
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
)

const depots = `
ostrov = 1
id = "pebble"
title = "Pebble"
version = { default = "1" }
[install]
marker = ["pebble.exe"]
[[folder]]
id = "mods"
path = "{game}/mods"
[[mod]]
id = "mod"
unit = "folder"
folder = "mods"
marker = ["mod.ini"]
[mod.file.card]
path = "mod.ini"
form = "ini"
[mod.file.things]
path = "things.txt"
form = "lines"
optional = true
[mod.field]
id = { in = "card", at = "id" }
version = { in = "card", at = "version" }
game = { in = "card", at = "game" }
[mod.clashes]
in = "card"
at = "not_with"
split = ","
[[mod.adds]]
prefix = "{id}/"
[[mod.adds]]
in = "things"
each = "^(?P<id>.+)$"
[[mod]]
id = "patch"
unit = "file"
folder = "mods"
name = "*.patch"
[mod.file.patch]
path = "."
form = "lines"
[mod.field]
id = { in = "patch", at = "^id (.+)$" }
`

func TestWhatModsSayOfEachOther(t *testing.T) {
	d, err := game.Parse("pebble.toml", []byte(depots))
	require.NoError(t, err)
	in := installOf(t, d, map[string]string{
		"mods/a/mod.ini": "id=moth\nversion=1.0\ngame = >= 2\nnot_with=fog,gas\n", "mods/a/things.txt": "moth wing\nmoth lamp\n",
		"mods/b/mod.ini": "id=fog\nversion=2.0\nnot_with=moth\n", "mods/c/mod.ini": "id=hermit\nnot_with=*\n", "mods/d/mod.ini": "id=broken\ngame = ><2\n",
		"mods/x.patch": "id tar\n",
	})
	set, err := Scan(t.Context(), in, &tree.Hasher{Now: time.Now})
	require.NoError(t, err)
	byID := map[string]*Mod{}
	for _, m := range set.Mods {
		byID[m.ID] = m
	}
	assert.Equal(t, game.Added{Exact: []string{"moth wing", "moth lamp"}, Prefixes: []string{"moth/"}}, byID["moth"].Adds)
	assert.Equal(t, ">= 2", byID["moth"].Supports.String())
	assert.Error(t, byID["broken"].Problem)
	var pairs []string
	for _, c := range set.Clashes() {
		pairs = append(pairs, c.Mod.ID+" "+c.With.ID)
	}
	assert.ElementsMatch(t, []string{"fog moth", "hermit broken", "hermit fog", "hermit moth", "hermit tar"}, pairs, "each pair once, and only of mods that are here")
	byID["fog"].On = false
	pairs = nil
	for _, c := range set.Clashes() {
		pairs = append(pairs, c.Mod.ID+" "+c.With.ID)
	}
	assert.NotContains(t, pairs, "fog moth", "one that is off clashes with nothing")
}

func TestModsInDownloads(t *testing.T) {
	d, err := game.Parse("pebble.toml", []byte(depots))
	require.NoError(t, err)
	for name, c := range map[string]struct {
		files map[string]string
		want  []string
	}{
		"a folder":         {map[string]string{"moth/mod.ini": "id=moth\nversion=2\n", "readme.txt": "x"}, []string{"moth 2 moth"}},
		"in outer folders": {map[string]string{"pack/v2/moth/mod.ini": "id=moth\nversion=2\n"}, []string{"moth 2 pack/v2/moth"}},
		"two":              {map[string]string{"a/mod.ini": "id=moth\n", "b/mod.ini": "id=fog\nversion=1\n"}, []string{"moth  a", "fog 1 b"}},
		"one in another":   {map[string]string{"moth/mod.ini": "id=moth\n", "moth/in/fog/mod.ini": "id=fog\n", "moth/in/fog/x/y/z.txt": "x"}, []string{"moth  moth", "fog  moth/in/fog"}},
		"at the top":       {map[string]string{"mod.ini": "id=moth\n", "a/b/c.txt": "x"}, []string{"moth  ."}},
		"a file":           {map[string]string{"x/new.patch": "id tar\n"}, []string{"tar  x/new.patch"}},
		"none":             {map[string]string{"a/readme.txt": "x", "b/mod.json": "{}"}, nil},
	} {
		fsys := fstest.MapFS{}
		for n, text := range c.files {
			fsys[n] = &fstest.MapFile{Data: []byte(text)}
		}
		entries, err := tree.ListFS(fsys, ".")
		require.NoError(t, err)
		var got []string
		for _, m := range InDownload(t.Context(), d, fsys, entries) {
			got = append(got, m.ID+" "+m.Version+" "+m.Path)
		}
		assert.Equal(t, c.want, got, name)
	}
}
