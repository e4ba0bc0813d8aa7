package game

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/field"
)

const played = `
ostrov = 1
id = "pebble"
title = "Pebble"
editions = ["island", "harbour"]
version = { in = "info", at = "v" }
[versions]
build = { in = "info", at = "b" }
[install]
marker = ["pebble.exe"]
[file.info]
path = "{game}/info.ini"
form = "ini"
[file.log]
path = "{game}/log.txt"
form = "lines"
[value.depots]
in = "info"
at = "depots"
[[folder]]
id = "saves"
path = "{game}/saves"
[[save]]
id = "save"
unit = "file"
folder = "saves"
name = "{name}.sav"
[log]
in = "log"
begins = "^begin"
loaded = '^loaded (?P<id>\S+) (?P<version>\S+)'
failed = '^failed (?P<id>\S+)'
error = "^error"
save = '^save (?P<save>.+)'
[[require]]
value = "depots"
is = "open"
effect = "shut"
fix = "open them"
[[require]]
exists = "{game}/loader.dll"
effect = "no mods"
fix = "put it there"
[[require]]
save_exists = "first.sav"
effect = "no start"
fix = "start once"
[[require]]
mods = "none"
effect = "crash"
fix = "aside"
[[rule]]
save = "older"
says = "fit"
edition = "harbour"
[[rule]]
save = "newer"
says = "unfit"
effect = "no"
if = { edition = "island" }
[[rule]]
save = "same"
says = "risky"
effect = "odd"
if = { value = { id = "depots", is = "shut" } }
`

func playedInstall(t *testing.T, info string) *Install {
	d, err := Parse("pebble.toml", []byte(played))
	require.NoError(t, err)
	root := t.TempDir()
	for name, text := range map[string]string{"pebble.exe": "", "info.ini": info} {
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o644))
	}
	in := &Install{Game: d, Root: root, PlayerHome: t.TempDir()}
	require.NoError(t, in.Open())
	return in
}

func TestReadLog(t *testing.T) {
	d, err := Parse("pebble.toml", []byte(played))
	require.NoError(t, err)
	read, err := d.Log.Read(strings.NewReader("begin\nloaded old 1\nerror before\nbegin again\nloaded moth 1.0\nloaded fog 2\nfailed gas no\nerror one\nsave Lower Town\nnoise\n"))
	require.NoError(t, err)
	assert.Equal(t, []field.Item{{ID: "moth", Version: "1.0"}, {ID: "fog", Version: "2"}}, read.Loaded, "of the last session only")
	assert.Equal(t, []field.Item{{ID: "gas"}}, read.Failed)
	assert.Equal(t, []string{"error one"}, read.Errors)
	assert.Equal(t, "Lower Town", read.Save)
	read, err = d.Log.Read(strings.NewReader(strings.Repeat("error\n", 2*maxLogErrors)))
	require.NoError(t, err)
	assert.Len(t, read.Errors, maxLogErrors)
	_, err = d.Log.Read(strings.NewReader(strings.Repeat("x", maxLogLine+1)))
	assert.Error(t, err)
}

func TestRequirements(t *testing.T) {
	fixes := func(in *Install, saves []string, mods bool) (list []string) {
		unmet, err := in.Unmet(t.Context(), saves, mods)
		require.NoError(t, err)
		for _, r := range unmet {
			list = append(list, r.Fix)
		}
		return list
	}
	in := playedInstall(t, "v=1\ndepots=shut\n")
	assert.Equal(t, []string{"open them", "put it there", "start once", "aside"}, fixes(in, nil, true))
	in = playedInstall(t, "v=1\ndepots=open\n")
	require.NoError(t, os.WriteFile(filepath.Join(in.Root, "loader.dll"), nil, 0o644))
	assert.Empty(t, fixes(in, []string{"first.sav"}, false))
	in = playedInstall(t, "v=1\n")
	assert.Contains(t, fixes(in, nil, false), "open them", "a value that is missing is not as required")
}

func TestRulesOfAnEdition(t *testing.T) {
	for _, c := range []struct {
		edition, info string
		want          int
	}{{"", "v=1", 0}, {"harbour", "v=1", 1}, {"island", "v=1", 1}, {"harbour", "v=1\ndepots=shut", 2}} {
		in := playedInstall(t, c.info)
		in.Edition = c.edition
		rules, err := in.Rules(t.Context())
		require.NoError(t, err)
		assert.Len(t, rules, c.want, c)
	}
	in := playedInstall(t, "v=1\nb=4711\n")
	build, err := in.Build(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "4711", build)
	in.Edition = "island"
	data, err := EncodeInstalls([]*Install{in}, nil)
	require.NoError(t, err)
	again, _, err := DecodeInstalls(data, func(string) *Description { return in.Game })
	require.NoError(t, err)
	assert.Equal(t, "island", again[0].Edition)
	path, ok, err := in.FilePath(t.Context(), "log")
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, filepath.Join(in.Root, "log.txt"), path)
}

// TestALastListThatIsNotThereSaysNothing tells a file without a list from one whose list is empty.
func TestAListThatIsNotThereSaysNothing(t *testing.T) {
	for _, c := range []struct {
		form, each, text string
		empty            string
		known            bool
	}{
		{"json", "$.mods[*]", `{"mods": []}`, "", true}, {"json", "$.mods[*]", `{"other": []}`, "", false}, {"json", "$[*]", `[]`, "", true},
		{"json", "$..mods[*]", `{"mods": []}`, "", false}, {"json", "$..mods[*]", `{"mods": [], "plain": true}`, "$.plain", true},
		{"xml", "/bay/cogs/cog", "<bay><cogs/></bay>", "", true}, {"xml", "/bay/cogs/cog", "<bay/>", "", false}, {"xml", "//cog", "<bay/>", "", false},
		{"lines", "^(?P<id>x)$", "y", "", false}, {"lines", "^(?P<id>x)$", "none", "^(none)$", true}, {"lines", "^(?P<id>x)$", "y", "^(none)$", false},
		{"text", "mod (?P<id>x)", "no mods", "(no mods)", true}, {"text", "mod (?P<id>x)", "cut", "(no mods)", false},
		{"blocks", "$.mod[*]", "a = 1", "", true}, {"blocks", "$.set[0].mod[*]", "a = 1", "", false}, {"ini", "load_(?P<id>.+)", "a = 1", "", false}, {"ini", "load_(?P<id>.+)", "a = 1", "a", true},
	} {
		root := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(root, "f"), []byte(c.text), 0o644))
		files := field.InFS(os.DirFS(root), "f", []string{"f"}, map[string]field.File{"f": {Path: ".", Form: c.form}})
		items, known, err := files.List(t.Context(), field.Lists{{In: "f", Each: c.each, ID: field.Column{At: field.Strings{"$"}}, Empty: c.empty}})
		require.NoError(t, err)
		assert.Empty(t, items)
		assert.Equal(t, c.known, known, c)
		require.NoError(t, files.Close())
	}
}
