package game

import (
	"context"
	"encoding/json"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/field"
)

// small is about the least that describes a game.
const small = `ostrov = 1
id = "pebble"
title = "Pebble"
version = { in = "info", at = "$.v" }
[install]
marker = ["pebble.exe"]
[file.info]
path = "{game}/info.json"
form = "json"
[[folder]]
id = "saves"
path = "{game}/saves"
[[save]]
id = "save"
unit = "file"
folder = "saves"
name = "{name}.sav"
`

func parse(t testing.TB, text string) *Description {
	d, err := Parse("pebble.toml", []byte(text))
	require.NoError(t, err)
	return d
}

func TestShippedDescriptionsAreSound(t *testing.T) {
	files, err := filepath.Glob(filepath.Join("..", "..", "..", "games", "*.toml"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, f := range files {
		data, err := os.ReadFile(f)
		require.NoError(t, err)
		d, err := Parse(filepath.Base(f), data)
		require.NoError(t, err)
		assert.Equal(t, strings.TrimSuffix(filepath.Base(f), ".toml"), d.ID)
	}
}

func TestWhatIsWrongIsNamedWithItsPlace(t *testing.T) {
	for name, c := range map[string]struct{ from, to, want string }{
		"form":            {`form = "json"`, `form = "yaml"`, `pebble.toml:9:1: no form "yaml"`},
		"query":           {`at = "$.v"`, `at = "$.["`, "pebble.toml:4:26: not a query for json"},
		"file id":         {`in = "info"`, `in = "inof"`, `there is no [file] "inof" (did you mean "info"?)`},
		"folder id":       {`folder = "saves"`, `folder = "save"`, `there is no folder "save" (did you mean "saves"?)`},
		"unit":            {`unit = "file"`, `unit = "files"`, `the unit "files" is not file, folder or set`},
		"name":            {`{name}.sav`, `{name}/x`, "must be a name, not a path"},
		"capture":         {`{name}.sav`, `{name:roman}.sav`, `no kind of capture "roman"`},
		"absolute":        {`"{game}/saves"`, `"/home/x"`, "must begin with a known folder"},
		"dots":            {`"{game}/saves"`, `"{game}/../saves"`, "must use / and no .."},
		"known folder":    {`"{game}/saves"`, `"{documnets}/x"`, `there is no known folder "documnets" (did you mean "documents"?)`},
		"value":           {`"{game}/saves"`, `"{value:bays}"`, `there is no [value] "bays"`},
		"account":         {`"{game}/saves"`, `"{documents}/{account}"`, "{account} needs [account]"},
		"marker":          {`marker = ["pebble.exe"]`, ``, "[install] needs a marker"},
		"id":              {`id = "pebble"`, `id = "Pebble!"`, "must be of a-z, 0-9 and -"},
		"layer":           {`form = "json"`, "form = \"json\"\nlayers = \"rot13\"", `no layer "rot13"`},
		"layer argument":  {`form = "json"`, "form = \"json\"\nlayers = [\"xor:f\"]", `xor takes a key in hex`},
		"blocks":          {`form = "json"`, "form = \"blocks\"\nopen = \"x\"", `open needs a group (?P<name>…)`},
		"adds":            {"[[save]]", "[[mod]]\nid = \"m\"\nunit = \"file\"\nfolder = \"saves\"\n[mod.adds]\neach = \"x\"\n[[save]]", "identifiers are read either `in` a file or told by their `prefix`"},
		"references":      {"[[save]]", "[references]\nin = \"nothing\"\n[[save]]", `no kind of save has a file "nothing"`},
		"log":             {"[[save]]", "[log]\nin = \"release\"\nloaded = \"x\"\n[[save]]", `the pattern needs a group (?P<id>…)`},
		"require":         {"[[save]]", "[[require]]\nmods = \"none\"\n[[save]]", "with an effect and a fix"},
		"convert":         {"[[save]]", "[[rule]]\nsave = \"older\"\nsays = \"fit\"\nconvert = \"up\"\n[[save]]", `there is no [[convert]] "up"`},
		"companions":      {"[[save]]", "[[save]]\ncompanions = [\"a/b\"]", "companions are files beside a save"},
		"tag":             {`form = "json"`, "form = \"json\"\nlayers = { by = \"0:4\", ZIP = \"gzip\" }", `the tag "ZIP" is not 4 bytes long`},
		"slots":           {`name = "{name}.sav"`, "name = \"{name}.sav\"\nslots = { from = 1, to = 3 }", "slots need a {slot} in the name"},
		"slots backwards": {`name = "{name}.sav"`, "name = \"{slot}.sav\"\nslots = { from = 3, to = 1 }", "slots go from"},
		"column":          {`name = "{name}.sav"`, "name = \"{name}.sav\"\ncolumns = [\"gold\"]", `there is no [save.field] "gold"`},
		"rule":            {`id = "pebble"`, "id = \"pebble\"\n[[rule]]\nsave = \"newer\"\nsays = \"maybe\"\neffect = \"x\"", `"maybe" is not fit, risky or unfit`},
		"rule on":         {`id = "pebble"`, "id = \"pebble\"\n[[rule]]\non = \"mod-mising\"\nsays = \"fit\"", `did you mean "mod-missing"?`},
		"rule effect":     {`id = "pebble"`, "id = \"pebble\"\n[[rule]]\nsave = \"newer\"\nsays = \"unfit\"", "needs an effect"},
		"rule range":      {`id = "pebble"`, "id = \"pebble\"\n[[rule]]\nsave = \">> 2\"\nsays = \"fit\"", "not a range of versions"},
		"as":              {`at = "$.v"`, `at = "$.v", as = "roman"`, `no conversion "roman"`},
		"later":           {`id = "pebble"`, "id = \"pebble\"\n[cloud]", `"cloud" is not understood by this Ostrov yet`},
		"unknown":         {`form = "json"`, "form = \"json\"\noptinal = true", `unknown key "optinal" in file.info (did you mean "optional"?)`},
	} {
		t.Run(name, func(t *testing.T) {
			require.Contains(t, small, c.from)
			text := strings.Replace(small, c.from, c.to, 1)
			if strings.HasPrefix(c.to, "id = ") && strings.Contains(c.to, "\n") { // tables go to the end
				head, tail, _ := strings.Cut(c.to, "\n")
				text = strings.Replace(small, c.from, head, 1) + tail
			}
			d, err := Parse("pebble.toml", []byte(text))
			require.Error(t, err)
			assert.Nil(t, d)
			assert.Contains(t, err.Error(), c.want)
			assert.Contains(t, err.Error(), "pebble.toml:")
		})
	}
}

func TestSmallGamesStaySmall(t *testing.T) {
	d := parse(t, small)
	assert.Equal(t, "pebble", d.ID)
	assert.Less(t, strings.Count(small, "\n"), 18)
	assert.False(t, d.PerSaveMods())
}

// install makes a folder that is an install of the description, with the files given.
func install(t *testing.T, d *Description, files map[string]string) *Install {
	root, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	in := &Install{Game: d, Name: "main", Root: filepath.Join(root, "game"), PlayerHome: filepath.Join(root, "player")}
	for name, text := range files {
		path := filepath.Join(root, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(strings.ReplaceAll(text, "ROOT", filepath.ToSlash(root))), 0o644))
	}
	return in
}

func TestInstall(t *testing.T) {
	in := install(t, parse(t, small), map[string]string{"game/pebble.exe": "", "game/info.json": `{"v": 1.10}`})
	require.NoError(t, in.Open())
	v, _, err := in.Version(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "1.10", v, "a number in JSON keeps its zeros")
	moved := *in
	moved.Root += "x"
	assert.ErrorIs(t, moved.Open(), fs.ErrNotExist)
}

func TestConditionsChooseTheFolder(t *testing.T) {
	text := small + `
[value.where]
in = "info"
at = "$.where"
[[folder]]
id = "other"
if = { exists = "{game}/loader.dll" }
path = "{home}/with-loader"
[[folder]]
id = "other"
if = { version = ">= 2" }
path = "{home}/new"
[[folder]]
id = "other"
if = { value = { id = "where", matches = ".+" } }
path = "{value:where}"
[[folder]]
id = "other"
if = { any = [ { absent = "{game}/no-default" }, { value = { id = "where", is = "x" } } ] }
path = "{home}/usual"
`
	for name, c := range map[string]struct {
		files map[string]string
		want  string // below the root, or "" for none
		why   string
	}{
		"default":         {map[string]string{"game/info.json": `{"v": "1"}`}, "player/usual", "one of several holds"},
		"loader":          {map[string]string{"game/info.json": `{"v": "3"}`, "game/loader.dll": ""}, "player/with-loader", "loader.dll is there"},
		"version":         {map[string]string{"game/info.json": `{"v": "2.1"}`}, "player/new", "version 2.1 is >= 2"},
		"value":           {map[string]string{"game/info.json": `{"v": "1", "where": "ROOT/elsewhere/bays"}`}, "elsewhere/bays", "where is"},
		"missing version": {map[string]string{"game/info.json": `{}`, "game/no-default": ""}, "", ""},
	} {
		t.Run(name, func(t *testing.T) {
			c.files["game/pebble.exe"] = ""
			in := install(t, parse(t, text), c.files)
			require.NoError(t, in.Open())
			found, err := in.FoldersOf(t.Context(), "other")
			require.NoError(t, err)
			if c.want == "" {
				assert.Empty(t, found)
				return
			}
			require.Len(t, found, 1)
			assert.Equal(t, filepath.Join(filepath.Dir(in.Root), filepath.FromSlash(c.want)), found[0].Path)
			assert.Contains(t, found[0].Why, c.why)
			if c.want == "elsewhere/bays" {
				assert.ErrorIs(t, in.CheckBounds(t.Context(), nil), ErrUnconfirmed)
				in.Pins = map[string]string{"where": found[0].Path}
			}
			assert.NoError(t, in.CheckBounds(t.Context(), nil))
		})
	}
}

func TestAccountFolders(t *testing.T) {
	text := strings.Replace(small, `path = "{game}/saves"`, `path = "{documents}/Pebble/{account}"`, 1) +
		"[account]\npattern = \"[0-9]+\"\ncurrent = { in = \"info\", at = \"$.who\" }\n"
	in := install(t, parse(t, text), map[string]string{"game/pebble.exe": "", "game/info.json": `{"who": 7}`,
		"player/Documents/Pebble/7/a": "", "player/Documents/Pebble/12/a": "", "player/Documents/Pebble/shared/a": ""})
	require.NoError(t, in.Open())
	found, err := in.Folders(t.Context())
	require.NoError(t, err)
	require.Len(t, found, 2)
	assert.Equal(t, []string{"12", "7"}, []string{found[0].Account, found[1].Account})
	own, err := in.OwnAccount(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "7", own)
	assert.True(t, in.Game.IsAccount("99"))
	assert.False(t, in.Game.IsAccount("shared"))
}

func TestBounds(t *testing.T) {
	for name, c := range map[string]struct {
		path      string
		extra     string
		forbidden string
		ok        bool
	}{
		"inside":              {path: "{game}/saves", ok: true},
		"below documents":     {path: "{documents}/Pebble", ok: true},
		"holds another":       {path: "{documents}/Pebble", extra: "[[folder]]\nid=\"mods\"\npath=\"{documents}/Pebble/mods\"\n"},
		"managed may":         {path: "{documents}/Pebble", extra: "managed = true\n[[folder]]\nid=\"mods\"\npath=\"{documents}/Pebble/mods\"\n", ok: true},
		"overlaps Ostrov":     {path: "{documents}/Pebble", forbidden: "Documents/Pebble/archive"},
		"inside of Ostrov's":  {path: "{documents}/Pebble/x", forbidden: "Documents/Pebble"},
		"elsewhere in a home": {path: "{home}/.pebble", ok: true},
		"keys":                {path: "{home}/.ssh"},
		"below keys":          {path: "{home}/.gnupg/pebble"},
		"settings among keys": {path: "{game}/saves", extra: "[settings]\nfiles = [\"{home}/.ssh/*\"]\n"},
		"pictures everywhere": {path: "{game}/saves", extra: "[pictures]\nfiles = [\"{home}/*.png\"]\n"},
		"through a link":      {path: "{home}/everything/etc"},
		"a linked key folder": {path: "{home}/harmless/saves"},
		"a link of settings":  {path: "{game}/saves", extra: "[settings]\nfiles = [\"{home}/harmless/*\"]\n"},
	} {
		t.Run(name, func(t *testing.T) {
			text := strings.Replace(small, "path = \"{game}/saves\"\n", "path = \""+c.path+"\"\n"+c.extra, 1)
			in := install(t, parse(t, text), map[string]string{"game/pebble.exe": "", "game/info.json": "{}"})
			require.NoError(t, os.MkdirAll(filepath.Join(in.PlayerHome, ".ssh"), 0o700))
			for link, to := range map[string]string{"everything": "/", "harmless": ".ssh"} {
				if err := os.Symlink(to, filepath.Join(in.PlayerHome, link)); err != nil {
					t.Skip("links cannot be made here")
				}
			}
			require.NoError(t, os.MkdirAll(filepath.Join(in.PlayerHome, ".ssh", "saves"), 0o700))
			require.NoError(t, in.Open())
			var forbidden []string
			if c.forbidden != "" {
				forbidden = []string{filepath.Join(in.PlayerHome, filepath.FromSlash(c.forbidden))}
			}
			err := in.CheckBounds(t.Context(), forbidden)
			if c.ok {
				assert.NoError(t, err)
			} else {
				assert.ErrorIs(t, err, ErrOutOfBounds)
			}
		})
	}
}

func TestALinkedAccountIsSeen(t *testing.T) {
	text := strings.Replace(small, "path = \"{game}/saves\"\n", "path = \"{game}/saves/{account}\"\n", 1)
	in := install(t, parse(t, text+"\n[account]\npattern = \"[0-9]+\"\n"), map[string]string{"game/pebble.exe": "", "game/info.json": "{}", "drive/70431/a.sav": "", "game/saves/readme.txt": ""})
	if err := os.Symlink(filepath.Join(filepath.Dir(in.Root), "drive", "70431"), filepath.Join(in.Root, "saves", "70431")); err != nil {
		t.Skip("links cannot be made here")
	}
	require.NoError(t, in.Open())
	found, err := in.Folders(t.Context())
	require.NoError(t, err)
	require.Len(t, found, 1)
	assert.Equal(t, "70431", found[0].Account)
	assert.NoError(t, in.CheckBounds(t.Context(), nil))
}

func TestALinkedSaveFolderIsResolvedAndShown(t *testing.T) {
	in := install(t, parse(t, small), map[string]string{"game/pebble.exe": "", "game/info.json": "{}", "drive/saves/a.sav": ""})
	real := filepath.Join(filepath.Dir(in.Root), "drive", "saves")
	if err := os.Symlink(real, filepath.Join(in.Root, "saves")); err != nil {
		t.Skip("links cannot be made here")
	}
	require.NoError(t, in.Open())
	found, err := in.Folders(t.Context())
	require.NoError(t, err)
	assert.Equal(t, real, found[0].Path)
	assert.Equal(t, filepath.Join(in.Root, "saves"), found[0].Link)
}

func TestPrefix(t *testing.T) {
	prefix := t.TempDir()
	users := filepath.Join(prefix, "drive_c", "users", "pip")
	require.NoError(t, os.MkdirAll(filepath.Join(users, "Documents"), 0o755))
	k, err := prefixKnown(prefix) // without a registry: where Windows has them
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(users, "AppData", "Roaming"), k.AppData)
	assert.True(t, k.FoldsCase)
	registry := "WINE REGISTRY Version 2\n\n[Software\\\\Microsoft\\\\Windows\\\\CurrentVersion\\\\Explorer\\\\Shell Folders] 17\n" +
		`"Personal"="D:\\Papers"` + "\n" + `"{4C5C32FF-BB9D-43B0-B5B4-2D72E54EAAA4}"="%USERPROFILE%\\My Saves"` + "\n[Volatile Environment]\n" + `"USERPROFILE"="C:\\users\\pip"` + "\n"
	require.NoError(t, os.WriteFile(filepath.Join(prefix, "user.reg"), []byte(registry), 0o644))
	k, err = prefixKnown(prefix)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(prefix, "dosdevices", "d:", "Papers"), k.Documents)
	assert.Equal(t, filepath.Join(users, "My Saves"), k.SavedGames)
	assert.Equal(t, filepath.Join(prefix, "drive_c", "a", "b"), PrefixPath(prefix, `C:\a\b`))
	_, err = prefixKnown(t.TempDir())
	assert.ErrorContains(t, err, "has no drive_c")
	assert.Equal(t, filepath.Join(users, "Documents"), spelled(filepath.Join(prefix, "drive_c", "Users", "PIP", "documents")))
}

func TestNames(t *testing.T) {
	for _, c := range []struct{ pattern, name, capture, value string }{
		{"bay_{slot:letter}.orchard", "bay_c.orchard", "slot", "c"},
		{"slot_{slot:2}", "slot_07", "slot", "07"},
		{"save{slot}.dat", "save12.dat", "slot", "12"},
		{"{name}.sav", "My World.sav", "name", "My World"},
		{"#{id:base64}.*", "#QWRh.meta", "id", "QWRh"},
		{"{id:hex}.bin", "00fF.bin", "id", "00fF"},
	} {
		n, err := ParseName(c.pattern)
		require.NoError(t, err)
		got, ok := n.Match(c.name, false)
		require.True(t, ok, c.pattern)
		assert.Equal(t, c.value, got[c.capture])
		if spelled, ok := n.Spell(got); ok {
			assert.Equal(t, c.name, spelled)
		}
	}
	n, err := ParseName("bay_{slot:letter}.orchard")
	require.NoError(t, err)
	_, ok := n.Match("BAY_C.ORCHARD", false)
	assert.False(t, ok)
	_, ok = n.Match("BAY_C.ORCHARD", true)
	assert.True(t, ok)
	assert.Equal(t, "e", n.SpellSlot(4))
	for _, bad := range []string{"", "a/b", "{name", "{a}{a}", "{1x}", "{x:13digits}"} {
		_, err := ParseName(bad)
		assert.Error(t, err, bad)
	}
}

func TestSlotsAreShownAsTheGameDoes(t *testing.T) {
	s := &Slots{From: int64(0), To: int64(9), ShownFrom: int64(1)}
	require.NoError(t, s.check())
	assert.Equal(t, "3", s.Shown(2))
	s = &Slots{From: "a", To: "e"}
	require.NoError(t, s.check())
	assert.Equal(t, "C", s.Shown(2))
	n, ok := s.Number("d")
	assert.True(t, ok)
	assert.Equal(t, 3, n)
}

func TestFieldsAndLists(t *testing.T) {
	text := strings.Replace(small, `name = "{name}.sav"`, `name = "{name}.sav"
[save.file.s]
path = "."
form = "json"
[save.field]
title = [ { in = "s", at = "$.none" }, { from_name = "(.+)\\.sav" } ]
level = { in = "s", at = "$.level", map = { "2" = "Hard" }, default = "1" }
first = { in = "s", at = "$.names", split = "," }
[[save.mods]]
in = "s"
each = "$.mods[*]"
id = "$.id"
[[save.mods]]
in = "s"
at = "$.names"
split = ","`, 1)
	d := parse(t, text)
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "x.sav"), []byte(`{"level": 2, "names": " a, b", "mods": [{"id": "m"}, {"no": 1}]}`), 0o644))
	files := field.InFS(os.DirFS(dir), "x.sav", []string{"x.sav"}, d.Saves[0].Files)
	defer files.Close()
	for id, want := range map[string]string{"title": "x", "level": "Hard", "first": "a"} {
		v, ok, err := files.Field(t.Context(), d.Saves[0].Field[id])
		require.NoError(t, err)
		assert.True(t, ok)
		assert.Equal(t, want, v.Text, id)
	}
	items, known, err := files.List(t.Context(), d.Saves[0].Mods)
	require.NoError(t, err)
	assert.False(t, known, "an entry that says no id is one that is not known")
	assert.Equal(t, []field.Item{{ID: "m"}, {ID: "a"}, {ID: "b"}}, items)
	gone := field.InFS(os.DirFS(dir), "y.sav", nil, d.Saves[0].Files)
	_, _, err = gone.List(t.Context(), d.Saves[0].Mods)
	assert.ErrorIs(t, err, fs.ErrNotExist)
}

func TestInstallsAreStoredAndReadBack(t *testing.T) {
	d := parse(t, small)
	in := &Install{Game: d, Name: "main", Root: "/g", Prefix: "/p", Pins: map[string]string{"v": "/x"}}
	data, err := EncodeInstalls([]*Install{in}, nil)
	require.NoError(t, err)
	described := map[string]*Description{"pebble": d}
	of := func(id string) *Description { return described[id] }
	got, missing, err := DecodeInstalls(data, of)
	require.NoError(t, err)
	assert.Empty(t, missing)
	assert.Equal(t, []*Install{in}, got)
	delete(described, "pebble")
	_, missing, err = DecodeInstalls(data, of)
	require.NoError(t, err)
	require.Len(t, missing, 1)
	assert.Equal(t, "pebble@main", missing[0].Address())
	again, err := EncodeInstalls(nil, missing)
	require.NoError(t, err)
	assert.JSONEq(t, string(data), string(again), "what has no description now stays in the file")
	_, _, err = DecodeInstalls([]byte(`{"ostrov_installs": 9}`), of)
	assert.ErrorContains(t, err, "format 9")
	assert.True(t, json.Valid(data))
}

func FuzzParse(f *testing.F) {
	f.Add(small)
	for _, name := range []string{"tidewrack", "brass-orchard", "minetest"} {
		data, err := os.ReadFile(filepath.Join("..", "..", "..", "games", name+".toml"))
		require.NoError(f, err)
		f.Add(string(data))
	}
	f.Fuzz(func(t *testing.T, text string) {
		d, err := Parse("x.toml", []byte(text))
		if err != nil {
			assert.Nil(t, d)
			return
		}
		in := &Install{Game: d, Root: t.TempDir(), PlayerHome: t.TempDir()}
		if in.Open() == nil {
			_, _ = in.Folders(context.Background())
			_ = in.CheckBounds(context.Background(), nil)
		}
	})
}

func FuzzName(f *testing.F) {
	f.Add("bay_{slot:letter}.orchard", "bay_a.orchard")
	f.Add("{name}*{id:hex}", "x1f")
	f.Fuzz(func(t *testing.T, pattern, name string) {
		n, err := ParseName(pattern)
		if err != nil {
			return
		}
		if captures, ok := n.Match(name, false); ok {
			if spelled, ok := n.Spell(captures); ok {
				assert.Equal(t, name, spelled)
			}
		}
	})
}
