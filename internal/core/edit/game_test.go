package edit_test

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/coretest"
	"ostrov/internal/core/edit"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/refer"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// kinds is a game that has what the demo games lack: members that are files of their own, pieces of mods, counts in each part, names that follow, and
// lists of mods in every shape.
const kinds = `ostrov = 1
id = "mossy"
title = "Mossy"
version = { default = "2" }
install = { marker = ["mossy"] }
folder = [{ id = "saves", path = "{game}/saves" }, { id = "mods", path = "{game}/mods" }]
[[save]]
id = "run"
unit = "folder"
folder = "saves"
name = "{name}"
[save.file.world]
path = "world.xml"
form = "xml"
[save.file.list]
path = "mods.txt"
form = "lines"
optional = true
[save.file.options]
path = "options.ini"
form = "ini"
optional = true
[save.file.things]
path = "things.json"
form = "json"
optional = true
[save.file.crew]
path = "crew/*.json"
form = "json"
optional = true
[save.field]
title = { in = "world", at = "/w/@title", set = true }
version = { in = "world", at = "/w/@v" }
"crew.hat" = { in = "world", each = "/w/crew/one", at = "@hat", set = true, one_of = ["red", "blue"] }
look = { in = "world", at = "/w/tasks/task[@id='t1']/@uses", ref = ["/w/things/thing[@id='{}']/@kind", "/w/kinds/kind[@id='{}']/@look"], set = true }
[[save.mods]]
in = "list"
each = '^mod (?P<id>[a-z]+)$'
empty = '^#'
[[save.mods]]
in = "options"
section = "mods"
each = '(?P<id>[a-z]+)'
on = "yes"
[[save.mods]]
in = "options"
at = "all.mods"
split = ","
[[save.mods]]
in = "things"
each = "$.by"
id = "@key"
[save.members]
in = "crew"
id = "$.id"
title = "$.name"
owner = "$.owner"
capacity = 3
[[mod]]
id = "mod"
unit = "folder"
folder = "mods"
[mod.field]
id = { from_name = "(.+)" }
[mod.adds]
prefix = "{id}:"
[[references]]
in = "world"
at = "/w/rows/row/thing/@of"
remove = ".."
[[references.count]]
each = "/w/rows/row"
at = "@n"
of = "thing"
[[references.also]]
key = "@id"
at = "/w/watch/eye/@on"
remove = ".."
[[references.also]]
key = "@id"
at = "/w/@first"
instead = "none"
[[references]]
in = "things"
at = "$.note"
instead = "gone"
[[section]]
id = "piece"
in = "world"
at = "/w/crew/piece"
into = "/w/crew"
from = "mod"
piece = "pieces/*.xml"
[[section]]
id = "tasks"
in = "world"
at = ["/w/tasks/task", "/w/tasks/extra"]
remove = "/w/old"
unique = [{ at = "/w/tasks/task/@id", named = "/w/tasks/extra/@of" }]
set = [{ at = "/w/@title", value = "Borrowed" }]
[[link]]
title = "what a task uses"
from = { in = "world", at = "/w/tasks/task/@uses" }
to = { in = "world", at = "/w/things/thing/@id" }
none = "-"
[[convert]]
id = "one"
from = "< 2"
to = "2"
[[convert.steps]]
in = "world"
set = "/w/@v"
value = "2"
[[convert.steps]]
in = "world"
rename = "/w/crew"
to = "people"
[[convert.steps]]
in = "world"
insert = "/w/people"
piece = "<one hat='red'/>"
[[convert.steps]]
in = "world"
copy_from = "/w/@title"
to = "/w/@old"
[[convert.steps]]
in = "world"
remove = "/w/watch"
[[convert]]
id = "two"
from = "2"
to = "3"
new_title = "{title} three"
[[convert.steps]]
in = "world"
map = "/w/@v"
values = { "2" = "3" }
`

const mossyWorld = `<?xml version="1.0"?>
<w title="First" v="1" old="" first="b">
 <crew>
  <one hat="red"/>
  <one hat="blue"/>
 </crew>
 <tasks>
  <task id="t1" uses="9"/>
  <extra of="t1"/>
 </tasks>
 <things>
  <thing id="9" kind="k"/>
 </things>
 <kinds><kind id="k" look="green"/></kinds>
 <old/>
 <rows>
  <row n="2"><thing id="a" of="moss:a"/><thing id="c" of="fern:c"/></row>
  <row n="1"><thing id="b" of="moss:b"/></row>
 </rows>
 <watch>
  <eye on="a"/>
  <eye on="c"/>
 </watch>
</w>
`

// run makes a save of the game in memory, with files besides its world.
func run(t *testing.T, world string, more map[string]string) edit.Source {
	d, err := game.Parse("mossy.toml", []byte(kinds))
	require.NoError(t, err)
	files := tree.Contents{"run/world.xml": bytes.NewReader([]byte(world))}
	for name, text := range more {
		files["run/"+name] = bytes.NewReader([]byte(text))
	}
	s := &save.Save{Kind: &d.Saves[0], Name: "run", Captures: map[string]string{"name": "run"}}
	var names []string
	for name := range files {
		names = append(names, name)
		s.Files = append(s.Files, tree.Entry{Path: name, Kind: tree.File})
	}
	s.Facts = save.Read(t.Context(), s.Kind, files, "run", names)
	require.NoError(t, s.Facts.Problem)
	src := edit.Source{Game: d, Save: &facts.Save{Save: s}, FS: files, Called: "mossy/run"}
	src.Save.Needs.Version = s.Facts.Version()
	return src
}

// file is a file of an edited save.
func file(t *testing.T, e *edit.Edited, name string) string {
	c := e.Files["run/"+name]
	require.NotNil(t, c, name)
	data, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
	require.NoError(t, err)
	return string(data)
}

// TestFieldsOfEachAndByReference sets the hat of the second of a crew, and the look of what the kind of what a task uses names.
func TestFieldsOfEachAndByReference(t *testing.T) {
	src := run(t, mossyWorld, nil)
	all, err := edit.Fields(t.Context(), src)
	require.NoError(t, err)
	var said []string
	for _, f := range all {
		said = append(said, f.ID+"="+f.Value)
	}
	assert.Equal(t, []string{"title=First", "crew[1].hat=red", "crew[2].hat=blue", "look=green", "version=1"}, said)
	e, err := edit.Set(t.Context(), src, []edit.Assignment{{Field: "crew[2].hat", Value: "red"}, {Field: "look", Value: "brown"}})
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(strings.Replace(mossyWorld, `hat="blue"`, `hat="red"`, 1), `look="green"`, `look="brown"`, 1), file(t, e, "world.xml"))
	for _, a := range []edit.Assignment{{Field: "crew[3].hat", Value: "red"}, {Field: "crew.hat", Value: "red"}, {Field: "crew[1].hat", Value: "green"}, {Field: "title[1]", Value: "x"},
		{File: "world", Query: "/w/tasks/task/@uses", Value: "8"}} {
		_, err := edit.Set(t.Context(), src, []edit.Assignment{a})
		assert.Error(t, err, a)
	}
}

// TestAMemberThatIsAFile takes one out, puts it into another save with that one's owner, and removes one.
func TestAMemberThatIsAFile(t *testing.T) {
	crew := func(id, name, owner string) string {
		return fmt.Sprintf("{\"id\": %q,\n \"name\": %q, \"owner\": %q}\n", id, name, owner)
	}
	from := run(t, mossyWorld, map[string]string{"crew/ada.json": crew("7", "Ada", "them"), "crew/bo.json": crew("8", "Bo", "them")})
	into := run(t, mossyWorld, map[string]string{"crew/cy.json": crew("7", "Cy", "us"), "crew/di.json": crew("9", "Di", "us")})
	all, err := edit.Members(t.Context(), from)
	require.NoError(t, err)
	require.Len(t, all, 2)
	taken, err := edit.Take(t.Context(), from, "ada")
	require.NoError(t, err)
	assert.Equal(t, crew("7", "Ada", "them"), string(taken.Piece))
	e, as, err := edit.Put(t.Context(), into, taken)
	require.NoError(t, err)
	assert.Equal(t, crew("10", "Ada", "us"), file(t, e, "crew/ada.json"), "an id that is free, and the owner of the save")
	assert.Equal(t, "10", as.ID)
	full := run(t, mossyWorld, map[string]string{"crew/a.json": crew("1", "A", "x"), "crew/b.json": crew("2", "B", "x"), "crew/c.json": crew("3", "C", "x")})
	_, _, err = edit.Put(t.Context(), full, taken)
	assert.ErrorContains(t, err, "is full")
	taken.Name = "../evil.json"
	_, _, err = edit.Put(t.Context(), into, taken)
	assert.ErrorContains(t, err, "cannot be the name")
	taken.Name = "evil.sh"
	_, _, err = edit.Put(t.Context(), into, taken)
	assert.ErrorContains(t, err, "would not be")
	gone, err := edit.Remove(t.Context(), from, "Bo")
	require.NoError(t, err)
	c, there := gone.Files["run/crew/bo.json"]
	assert.True(t, there && c == nil, "the file goes")
	_, err = edit.Take(t.Context(), from, "Eve")
	assert.ErrorContains(t, err, `no member "Eve"`)
}

// TestASectionIsBorrowed takes several siblings: ids that are taken are given anew with what names them, what goes besides goes, and what is set is set.
func TestASectionIsBorrowed(t *testing.T) {
	other := strings.NewReplacer(`<task id="t1" uses="9"/>`, "<task id=\"t1\" uses=\"9\"/>\n  <task id=\"t2\" uses=\"-\"/>", `title="First"`, `title="Second"`).Replace(mossyWorld)
	into, from := run(t, strings.Replace(mossyWorld, "<old/>", "<old/>\n <tasks2/>", 1), nil), run(t, other, nil)
	section := into.Game.SectionsOf(into.Save.Kind)[1]
	require.Equal(t, "tasks", section.ID)
	b, err := edit.Borrow(t.Context(), into, edit.Giver{Save: &from}, section)
	require.NoError(t, err)
	now := file(t, b.Edited, "world.xml")
	assert.Contains(t, now, "<tasks>\n  <task id=\"t1\" uses=\"9\"/>\n  <task id=\"t2\" uses=\"-\"/>\n  <extra of=\"t1\"/>\n </tasks>")
	assert.NotContains(t, now, "<old/>")
	assert.Contains(t, now, `title="Borrowed"`)
	assert.Equal(t, 2, b.Was.Parts)
	assert.Equal(t, 3, b.Now.Parts)

	twice := &game.Section{ID: "second", In: "world", At: []string{"/w/things/thing"}, Into: "/w/things", Unique: []game.Unique{{At: "/w/rows/row/thing/@id"}}}
	_, err = edit.Borrow(t.Context(), into, edit.Giver{Save: &from}, twice)
	require.NoError(t, err)
	broken := run(t, strings.ReplaceAll(other, `id="9"`, `id="10"`), nil)
	_, err = edit.Borrow(t.Context(), into, edit.Giver{Save: &broken}, &game.Section{ID: "things", In: "world", At: []string{"/w/things"}})
	assert.ErrorContains(t, err, "what a task uses", "no change leaves more broken links than it found")

	piece := into.Game.SectionsOf(into.Save.Kind)[0]
	b, err = edit.Borrow(t.Context(), into, edit.Giver{Piece: []byte("<piece of='moss'/>\n"), Called: "Moss"}, piece)
	require.NoError(t, err)
	assert.Contains(t, file(t, b.Edited, "world.xml"), "  <one hat=\"blue\"/>\n  <piece of='moss'/>\n </crew>")
	for _, text := range []string{"", "<piece>", "</crew>", "<piece/></crew><crew>"} {
		_, err = edit.Borrow(t.Context(), into, edit.Giver{Piece: []byte(text), Called: "Moss"}, piece)
		if text != "<piece/></crew><crew>" {
			assert.Error(t, err, text)
		}
	}
}

// TestASaveIsConverted goes the shortest way, step by step, and leaves out what may be.
func TestASaveIsConverted(t *testing.T) {
	src := run(t, mossyWorld, nil)
	c, err := edit.ConvertTo(t.Context(), src, "3", nil)
	require.NoError(t, err)
	now := file(t, c.Edited, "world.xml")
	want := strings.NewReplacer(`title="First" v="1" old=""`, `title="First three" v="3" old="First"`, "<crew>", "<people>", " </crew>", " </people>", "  <one hat=\"blue\"/>", "  <one hat=\"blue\"/>\n  <one hat='red'/>",
		" <watch>\n  <eye on=\"a\"/>\n  <eye on=\"c\"/>\n </watch>\n", "").Replace(mossyWorld)
	assert.Equal(t, want, now)
	assert.Len(t, c.Chain, 2)
	same, err := edit.ConvertTo(t.Context(), src, "1", nil)
	require.NoError(t, err)
	assert.Empty(t, same.Files)
	_, err = edit.ConvertTo(t.Context(), src, "4", nil)
	assert.ErrorContains(t, err, "does not say how")
	_, err = edit.ConvertTo(t.Context(), src, "3", []string{"none"})
	assert.ErrorContains(t, err, `no step "none"`)
}

// TestTextsComeBack edits texts of every form, and has what does not read refused with its line.
func TestTextsComeBack(t *testing.T) {
	src := run(t, mossyWorld, map[string]string{"things.json": "{\n \"by\": {},\n \"note\": \"x\"\n}\n", "options.ini": "[mods]\r\n[all]\r\nmods=\r\n"})
	was, err := edit.Texts(t.Context(), src, []string{"world", "things", "options.ini"})
	require.NoError(t, err)
	require.Len(t, was, 3)
	now := append([]edit.Text(nil), was...)
	now[1].Data = bytes.Replace(was[1].Data, []byte(`"x"`), []byte(`"y"`), 1)
	r, err := edit.Reopen(t.Context(), src, was, now)
	require.NoError(t, err)
	assert.Equal(t, []string{" things.json", `- "note": "x"`, `+ "note": "y"`}, r.Difference)
	assert.Len(t, r.Files, 1)
	for _, wrong := range []struct{ text, says string }{{"{\n \"by\": {},\n \"note\": x\n}\n", "line 3"}, {"", "it would be no json"}, {"{\n", "line 2"}} {
		now[1].Data = []byte(wrong.text)
		_, err := edit.Reopen(t.Context(), src, was, now)
		assert.ErrorContains(t, err, wrong.says)
	}
	none, err := edit.Reopen(t.Context(), src, was, was)
	require.NoError(t, err)
	assert.Empty(t, none.Files)
}

// TestRowsComeBack edits, adds and leaves out rows of a table of a demo game's database.
func TestRowsComeBack(t *testing.T) {
	w := coretest.New(t)
	st, s := w.Find("night-tram", "Lower Town.tramworld")
	src := edit.Of(st, s)
	was, err := edit.Texts(t.Context(), src, nil)
	require.NoError(t, err)
	require.Len(t, was, 3)
	now := append([]edit.Text(nil), was...)
	lines := strings.SplitAfter(string(was[1].Data), "\n")
	now[1].Data = []byte(strings.Join(append(lines[:2:2], lines[3:]...), "") + "99,night-buses,1.0.0\n")
	r, err := edit.Reopen(t.Context(), src, was, now)
	require.NoError(t, err)
	var ids []string
	for _, m := range r.Facts.Mods {
		ids = append(ids, m.ID)
	}
	assert.Contains(t, ids, "night-buses")
	assert.Len(t, ids, len(s.Facts.Mods), "one is gone and one came")
	now[1].Data = []byte("id,place\n")
	_, err = edit.Reopen(t.Context(), src, was, now)
	assert.ErrorContains(t, err, "names of the columns")
}

// TestOnlyWhatIsAsked compares the decoded text of a wrapped file: nothing but the value is another.
func TestOnlyWhatIsAsked(t *testing.T) {
	w := coretest.New(t)
	st, s := w.Find("tidewrack", "3")
	open := func(data []byte) string {
		z, err := gzip.NewReader(bytes.NewReader(data))
		require.NoError(t, err)
		text, err := io.ReadAll(z)
		require.NoError(t, err)
		return string(text)
	}
	raw, err := os.ReadFile(filepath.Join(s.Folder.Path, "slot_02", "voyage.json.gz"))
	require.NoError(t, err)
	e, err := edit.Set(t.Context(), edit.Of(st, s), []edit.Assignment{{Field: "title", Value: "Ümlaut \"quoted\""}})
	require.NoError(t, err)
	c := e.Files["slot_02/voyage.json.gz"]
	now, err := io.ReadAll(io.NewSectionReader(c, 0, c.Size()))
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(open(raw), `"The Long Mole"`, `"Ümlaut \"quoted\""`, 1), open(now))
}

// TestAModIsTakenOut takes its things out of every place that the description names: counts and names follow, lists of every shape lose it, and what
// stays elsewhere is an error.
func TestAModIsTakenOut(t *testing.T) {
	moss := refer.New([]refer.Identifiers{{Mod: "moss", Prefixes: []string{"moss:"}}, {Mod: "fern", Prefixes: []string{"fern:"}}})
	src := run(t, mossyWorld, map[string]string{"mods.txt": "#\r\nmod moss\r\nmod fern\r\n", "options.ini": "[all]\nmods = fern, moss\n[mods]\nmoss = yes\nfern = yes\n",
		"things.json": "{\"by\": {\"fern\": 1, \"moss\": {\"x\": [2]}}, \"note\": \"a moss:stone, a fern:leaf\"}"})
	s, err := edit.Strip(t.Context(), src, moss, []string{"Moss"}, false)
	require.NoError(t, err)
	assert.Equal(t, []edit.Thing{{ID: "moss:a", Mod: "moss", Count: 1}, {ID: "moss:b", Mod: "moss", Count: 1}, {ID: "moss:stone", Mod: "moss", Count: 1}}, s.Things)
	want := strings.NewReplacer(`<row n="2"><thing id="a" of="moss:a"/>`, `<row n="1">`, `<row n="1"><thing id="b" of="moss:b"/></row>`, `<row n="0"></row>`, "  <eye on=\"a\"/>\n", "", `first="b"`, `first="none"`).Replace(mossyWorld)
	assert.Equal(t, want, file(t, s.Edited, "world.xml"))
	assert.Equal(t, "#\r\nmod fern\r\n", file(t, s.Edited, "mods.txt"))
	assert.Equal(t, "[all]\nmods = fern\n[mods]\nfern = yes\n", file(t, s.Edited, "options.ini"))
	assert.Equal(t, `{"by": {"fern": 1}, "note": "a gone, a fern:leaf"}`, file(t, s.Edited, "things.json"))
	assert.Equal(t, 4, s.Listed)

	both, err := edit.Strip(t.Context(), src, moss, []string{"moss", "fern"}, false)
	require.NoError(t, err)
	assert.NotContains(t, file(t, both.Edited, "world.xml"), "<thing id=\"c\"")
	_, err = edit.Strip(t.Context(), src, nil, []string{"moss"}, false)
	assert.ErrorContains(t, err, "does not say where")

	d := *src.Game
	d.References = append(d.References[:len(d.References):len(d.References)], game.Reference{In: "world", At: "/w/kinds/kind/@look"})
	lacking := run(t, strings.Replace(mossyWorld, "green", "moss:green", 1), nil)
	lacking.Game = &d
	_, err = edit.Strip(t.Context(), lacking, moss, []string{"moss"}, false)
	assert.ErrorContains(t, err, "does not say how moss:green is taken out", "it says what is missing")
}
