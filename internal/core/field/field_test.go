package field_test

import (
	"maps"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
)

// described is a kind of save that is a folder, with the fields and lists given.
func described(t *testing.T, fields string) *game.Save {
	t.Helper()
	d, err := game.Parse("fields.toml", []byte(`ostrov  = 1
id      = "fields"
title   = "Fields"
version = { default = "1.0" }
[install]
marker = ["x"]
[[folder]]
id   = "saves"
path = "{game}/saves"
[[save]]
id     = "run"
unit   = "folder"
folder = "saves"
name   = "{name}"
[save.file.head]
path = "head.json"
form = "json"
[save.file.set]
path = "set.ini"
form = "ini"
[save.file.crew]
path = "crew/*.json"
form = "json"
[save.file.more]
path     = "more.txt"
form     = "lines"
optional = true
`+fields))
	require.NoError(t, err)
	return &d.Saves[0]
}

const (
	crewA = `{"name": "Anker", "needs": {"rope": ">= 2", "tar": "1"}}`
	crewB = `{"name": "Boje", "needs": {"lamp": "3"}}`
)

func opened(t *testing.T, kind *game.Save) *field.Files {
	fsys := fstest.MapFS{}
	for name, text := range map[string]string{
		"head.json":   `{"v": "17", "at": {"x": 3, "y": 4}, "mods": [{"id": "rope", "v": "2"}, {"id": "tar"}], "none": [], "tags": ["a", "b"], "odd": [{"id": "rope"}, {"v": "1"}]}`,
		"set.ini":     "[Mods]\nrope = 2\ntar = 1\n[Other]\nlamp = 3\n[Line]\nneeds = moss:1.4, reed\n[Nothing]\n",
		"crew/a.json": crewA, "crew/b.json": crewB,
	} {
		fsys[name] = &fstest.MapFile{Data: []byte(text)}
	}
	files := field.InFS(fsys, "a run", slices.Sorted(maps.Keys(fsys)), kind.Files)
	t.Cleanup(func() { assert.NoError(t, files.Close()) })
	return files
}

func TestField(t *testing.T) {
	for said, want := range map[string]string{
		`{ in = "head", at = "$.v" }`:                                     "17",
		`{ in = "head", at = "$.v", map = { "17" = "1.4" } }`:             "1.4",
		`{ in = "head", at = "$.v", map = { "16" = "1.3" } }`:             "unknown 17",
		`{ in = "head", at = "$.v", show = { "17" = "spring" } }`:         "17 spring",
		`{ in = "head", at = ["$.at.x", "$.at.y"], join = "." }`:          "3.4",
		`{ in = "head", at = ["$.at.x", "$.at.z"], join = "." }`:          "",
		`{ in = "head", at = "$.no", default = "one" }`:                   "one",
		`{ in = "head", at = "$.no" }`:                                    "",
		`[{ in = "head", at = "$.no" }, { in = "set", at = "Mods.tar" }]`: "1",
		`[{ in = "more", at = "(.)" }, { from_name = "(\\w+)$" }]`:        "run",
		`{ in = "crew", at = "$.name" }`:                                  "Anker",
		`{ in = "crew", from_name = "(.)\\.json" }`:                       "a",
		`{ in = "head", at = "$.v", as = "at_least" }`:                    ">= 17",
		`{ in = "head", at = "$.v", as = "at_most" }`:                     "<= 17",
		`{ in = "head", at = "$.tags[*]" }`:                               "a",
	} {
		kind := described(t, "[save.field]\nx = "+said+"\n")
		v, ok, err := opened(t, kind).Field(t.Context(), kind.Field["x"])
		require.NoError(t, err, said)
		got := v.Raw
		if v.Unmapped != "" {
			got = "unknown " + v.Unmapped
		} else if v.Text != v.Raw {
			got += " " + v.Text
		}
		assert.Equal(t, want, got, said)
		assert.Equal(t, want != "", ok, said)
	}
}

func TestAllValuesOfAField(t *testing.T) {
	for said, want := range map[string][]string{
		`{ in = "crew", at = "$.name" }`:            {"Anker", "Boje"},
		`{ in = "crew", from_name = "(.)\\.json" }`: {"a", "b"},
		`{ in = "head", at = "$.tags[*]" }`:         {"a", "b"},
		`{ in = "head", at = "$.v" }`:               {"17"},
		`{ in = "head", at = "$.no" }`:              nil,
		`{ from_name = "(\\w+)$" }`:                 {"run"},
		`{ in = "set", at = "Mods.rope" }`:          {"2"},
	} {
		kind := described(t, "[save.field]\nx = "+said+"\n")
		got, err := opened(t, kind).All(t.Context(), &kind.Field["x"][0])
		require.NoError(t, err, said)
		assert.Equal(t, want, got, said)
	}
}

// TestList tells a list that is empty from one that is not there, and from one of which an entry cannot be told.
func TestList(t *testing.T) {
	const unknown = "unknown"
	for said, want := range map[string]string{
		"in = \"head\"\neach = \"$.mods[*]\"\nid = \"$.id\"\nversion = \"$.v\"":                                                      "rope 2, tar",
		"in = \"head\"\neach = \"$.tags[*]\"":                                                                                        "a, b",
		"in = \"head\"\neach = \"$.none[*]\"\nid = \"$.id\"":                                                                         "",
		"in = \"head\"\neach = \"$.no[*]\"\nid = \"$.id\"":                                                                           unknown,
		"in = \"head\"\neach = \"$.odd[*]\"\nid = \"$.id\"":                                                                          unknown,
		"in = \"head\"\neach = \"$.no[*]\"\nid = \"$.id\"\nempty = \"$.v\"":                                                          "",
		"in = \"head\"\neach = \"$.no[*]\"\nid = \"$.id\"\nrequired = true":                                                          "damaged",
		"in = \"crew\"\neach = \"$.needs\"\nid = \"@key\"\nrange = \"@value\"":                                                       "rope >= 2, tar 1, lamp 3",
		"in = \"set\"\nsection = \"Mods\"\nid = \"@key\"\nversion = \"@value\"":                                                      "rope 2, tar 1",
		"in = \"set\"\nsection = \"Nothing\"\nid = \"@key\"":                                                                         "",
		"in = \"set\"\nsection = \"Lost\"\nid = \"@key\"":                                                                            unknown,
		"in = \"set\"\neach = \"Mods\\\\.(?P<id>.+)\"\non = \"2\"":                                                                   "rope",
		"in = \"set\"\nat = \"Line.needs\"\nsplit = \",\"\neach = '(?P<id>[^:]+)(?::(?P<range>.+))?'\nrange = { as = \"at_least\" }": "moss >= 1.4, reed",
		"in = \"set\"\nat = \"Line.needs\"\nsplit = \",\"\neach = '(?P<id>[^:]+):(?P<version>.+)'":                                   unknown,
		"in = \"set\"\nat = \"Line.needs\"\nsplit = \",\"\neach = '!?(?P<id>[^:]+)(?::(?P<version>.+))?'\non = 'm.*'":                "moss 1.4",
		"in = \"more\"\neach = \"(?P<id>.+)\"":                                                                                       unknown,
		"in = \"head\"\nat = \"$.v\"\nsplit = \"7\"":                                                                                 "1",
		"in = \"head\"\neach = \"$.mods[*]\"\nid = { at = \"$.v\", map = { \"2\" = \"reed\" }, default = \"2\" }":                    "reed, reed",
	} {
		kind := described(t, "[save.mods]\n"+said+"\n")
		items, known, err := opened(t, kind).List(t.Context(), kind.Mods)
		var got []string
		for _, i := range items {
			got = append(got, strings.TrimSpace(i.ID+" "+i.Version+i.Range))
		}
		switch {
		case want == "damaged":
			assert.Error(t, err, said)
		case want == unknown:
			require.NoError(t, err, said)
			assert.False(t, known, "%s: %v", said, got)
		default:
			require.NoError(t, err, said)
			assert.True(t, known, said)
			assert.Equal(t, want, strings.Join(got, ", "), said)
		}
	}
}

// TestTry tells how each thing was looked for.
func TestTry(t *testing.T) {
	kind := described(t, "[save.field]\nx = { in = \"head\", at = \"$.tags[*]\" }\n[save.mods]\nin = \"head\"\neach = \"$.none[*]\"\n")
	files := opened(t, kind)
	tried := files.Try(t.Context(), &kind.Field["x"][0])
	assert.True(t, tried.Found)
	assert.Equal(t, 2, tried.Several)
	list := files.TryList(t.Context(), &kind.Mods[0])
	assert.True(t, list.There)
	assert.Empty(t, list.Items)
	crew := files.Opened(t.Context(), "crew", time.Now)
	assert.Equal(t, 1, crew.More)
	assert.Equal(t, int64(len(crewA)), crew.Size)
	assert.Equal(t, "json", crew.Form)
	assert.Error(t, files.Opened(t.Context(), "more", time.Now).Err)
}

// TestATextKeepsItsSpaces gives a field that is a text a value with spaces at its ends, and a number the same.
func TestATextKeepsItsSpaces(t *testing.T) {
	raw, err := new(field.Field).Raw(" a reed ", "")
	require.NoError(t, err)
	assert.Equal(t, " a reed ", raw)
}
