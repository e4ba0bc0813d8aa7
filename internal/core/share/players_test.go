package share_test

import (
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/coretest"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/share"
)

// heath is a game whose worlds are folders with a file for each character; the names of some stand only in what these are called.
const heath = `ostrov  = 1
id      = "heath"
title   = "Heath"
version = { default = "1.0" }
[install]
marker = ["heath.bin"]
[[folder]]
id   = "worlds"
path = "{game}/worlds"
[[save]]
id     = "world"
unit   = "folder"
folder = "worlds"
name   = "{name}"
[save.file.world]
path = "world.json"
form = "json"
[save.file.walkers]
path = "walkers/*.json"
form = "json"
[save.file.packs]
path     = "packs/*.dat"
form     = "text"
encoding = "binary"
optional = true
[save.file.map]
path = "map.bin"
form = "bytes"
[save.is]
has = ["version"]
[save.field]
version = { in = "world", at = "$.v" }
title   = { in = "world", at = "$.title", personal = true }
walker  = { in = "walkers", at = "$.name", personal = true }
pack    = { in = "packs", from_name = '^(.+)\.dat$', personal = true }
invited = { in = "world", at = "$.invited[*]", personal = true }
`

// TestTwoCharactersInOneWorld makes a parcel and an export of a world whose characters stand in fields, in names of files and in logs.
func TestTwoCharactersInOneWorld(t *testing.T) {
	w := coretest.New(t)
	files := map[string]string{
		"heath.bin":                                 "x",
		"worlds/Marta's heath/world.json":           `{"v": "1.0", "title": "Marta's heath", "invited": ["Edda", "Marta"], "last": "Jonas", "village": "Martaville"}`,
		"worlds/Marta's heath/walkers/Marta.json":   `{"name": "Marta", "at": [1, 2]}`,
		"worlds/Marta's heath/walkers/Jonas.json":   `{"name": "Jonas", "friend": "marta"}`,
		"worlds/Marta's heath/walkers/marta.json":   `{"name": "Marta Lampwick"}`,
		"worlds/Marta's heath/walkers/player9.json": `{"name": "Nobody At All"}`,
		"worlds/Marta's heath/packs/Halvard.dat":    "rope",
		"worlds/Marta's heath/map.bin":              "\x00\x01map",
		"worlds/Marta's heath/logs/day.log":         "jonas joined\nMarta says: hello Edda and Halvard\nMarta Lampwick left\nAnnotated by nobody\nwrite to jonas@example.org, or /home/edda/heath\n",
		"worlds/Marta's heath/pictures/Jonas.png":   "\x89PNG\x00\x00 pixels",
		"worlds/Marta's heath/pictures/view.png":    "\x89PNG\x00\x00 by Jonas",
	}
	w.Describe(heath, files)

	players := []string{"marta", "jonas", "edda", "halvard", "lampwick"}
	tells := func(file string) (who map[string][]string) {
		who = map[string][]string{}
		for name, content := range inside(t, file) {
			for _, p := range players {
				if strings.Contains(strings.ToLower(strings.ReplaceAll(name+"\n"+content, "Martaville", "")), p) {
					who[p] = append(who[p], name)
				}
			}
		}
		return who
	}
	for _, blank := range []bool{false, true} {
		st := w.See("heath")
		require.Len(t, st.Saves, 1)
		require.NoError(t, st.Saves[0].Facts.Problem)
		out := filepath.Join(t.TempDir(), "parcel.zip")
		wrapped, err := share.Wrap(t.Context(), w.Home, st, st.Saves[0], share.Request{Out: out, Blank: blank})
		require.NoError(t, err)
		require.NoError(t, wrapped.Write(t.Context(), w.Home, false))
		if blank {
			assert.Empty(t, wrapped.Private)
			assert.Empty(t, tells(out))
			all := inside(t, out)
			var names []string
			for name, content := range all {
				if _, inside, ok := strings.Cut(name, "/data/save/player"); ok {
					names = append(names, strings.TrimLeft(inside, "123456789"))
				}
				if strings.HasSuffix(name, "world.json") {
					assert.Contains(t, content, `"village": "Martaville"`, "what only looks like a name stays")
				}
			}
			assert.Len(t, names, len(files)-2, "%v: all but the game's program and the picture in which someone is named", slices.Sorted(maps.Keys(all)))
			continue
		}
		subjects := map[string]bool{}
		for _, f := range wrapped.Private {
			subjects[strings.TrimPrefix(f.Subject, "Marta's heath/")] = true
		}
		for _, name := range []string{"world.json", "walkers/Marta.json", "walkers/Jonas.json", "packs/Halvard.dat", "logs/day.log", "pictures/Jonas.png", "pictures/view.png"} {
			assert.True(t, subjects[name], "%s is named", name)
		}
		assert.Len(t, tells(out), len(players))
	}

	kept, err := keep.Keep(t.Context(), w.Home, w.In("heath"), keep.Request{})
	require.NoError(t, err)
	e, err := share.PlanExport(t.Context(), w.Home, w.See("heath"), kept.Snapshot, true)
	require.NoError(t, err)
	out := filepath.Join(t.TempDir(), "export.zip")
	require.NoError(t, e.Write(t.Context(), out, false))
	left := map[string]bool{}
	for _, f := range e.Private {
		left[f.Subject] = true
	}
	for who, where := range tells(out) {
		for _, name := range where {
			assert.Contains(t, name, "view.png", "%s is told in %s", who, name)
		}
	}
	assert.Len(t, left, 1, "the picture, which cannot be rewritten, is named: %v", left)
}
