package game

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const beside = small + `
[settings]
files = ["{game}/config/*.ini"]
[pictures]
files = ["{game}/pictures/**/*.png", "{saved_games}/nowhere here/*"]
[[mod]]
id = "m"
unit = "folder"
folder = "saves"
[mod.settings]
files = ["{game}/config/mods/{id}.ini", "{game}/config/old/{id}/*.cfg"]
[mod.data]
files = ["{game}/plans/p_{id}.json"]
`

// TestFileGroups holds which files a description says there are beside saves and mods, what archives call them, and whose they are.
func TestFileGroups(t *testing.T) {
	in := install(t, parse(t, beside), map[string]string{"game/pebble.exe": "", "game/info.json": `{"v": "1"}`})
	require.NoError(t, in.Open())
	groups, err := in.FileGroups(t.Context())
	require.NoError(t, err)
	byName := map[string]FileGroup{}
	counts := map[FileKind]int{}
	for _, g := range groups {
		counts[g.Kind]++
		byName[fmt.Sprintf("%s-%d", g.Kind, counts[g.Kind])] = g
		assert.NotEmpty(t, g.Pattern, "which names it in archives")
	}
	for name, want := range map[string][2]string{
		"settings-1": {"config", "*.ini"}, "settings-2": {"config/mods", "*.ini"}, "settings-3": {"config/old", "*/*.cfg"}, "data-1": {"plans", "p_*.json"}, "pictures-1": {"pictures", "**/*.png"},
	} {
		g, ok := byName[name]
		require.True(t, ok, name)
		assert.Equal(t, filepath.Join(in.Root, filepath.FromSlash(want[0])), g.Dir, name)
		assert.Equal(t, want[1], g.Glob, name)
		assert.Equal(t, FileKind(strings.Split(name, "-")[0]), g.Kind, name)
	}
	for _, c := range []struct {
		group, path, mod string
		ofMod            bool
	}{
		{"settings-1", "display.ini", "", false},
		{"settings-2", "deep-tides.ini", "deep-tides", true},
		{"settings-2", "deep.tides.ini", "deep.tides", true},
		{"settings-2", "x/deep.ini", "", false},
		{"settings-2", "deep.txt", "", false},
		{"settings-3", "rope/a.cfg", "rope", true},
		{"settings-3", "rope/b/a.cfg", "", false},
		{"data-1", "p_lamp.json", "lamp", true},
		{"data-1", "lamp.json", "", false},
	} {
		id, _, ofMod := byName[c.group].ModOf(c.path)
		assert.Equal(t, c.ofMod, ofMod, c.path)
		assert.Equal(t, c.mod, id, c.path)
	}
}

func TestFilesBesideAreChecked(t *testing.T) {
	for name, c := range map[string]struct{ from, to, want string }{
		"no glob":        {`"{game}/config/*.ini"`, `"{game}/config/"`, "is not a folder and a glob below it"},
		"climbs":         {`"{game}/config/*.ini"`, `"{game}/../*.ini"`, "must use / and no .."},
		"no id":          {`"{game}/plans/p_{id}.json"`, `"{game}/plans/*.json"`, "must say once where the mod's {id} stands"},
		"two ids":        {`"{game}/plans/p_{id}.json"`, `"{game}/plans/{id}/{id}.json"`, "must say once where the mod's {id} stands"},
		"id of no mod":   {`"{game}/pictures/**/*.png"`, `"{game}/pictures/*_{name}.png"`, "is not a folder and a glob below it"},
		"unknown folder": {`"{game}/pictures/**/*.png"`, `"{photos}/*.png"`, `there is no known folder "photos"`},
		"no files":       {`files = ["{game}/plans/p_{id}.json"]`, `file = []`, `unknown key "file" in mod.data`},
	} {
		require.Contains(t, beside, c.from, name)
		_, err := Parse("pebble.toml", []byte(strings.Replace(beside, c.from, c.to, 1)))
		assert.ErrorContains(t, err, c.want, name)
	}
}
