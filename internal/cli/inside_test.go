package cli_test

import (
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/view"
)

// decoded is the content of a voyage.
func (w *world) decoded(slot string) string {
	f, err := os.Open(w.voyages(slot, "voyage.json.gz"))
	require.NoError(w.t, err)
	defer f.Close()
	z, err := gzip.NewReader(f)
	require.NoError(w.t, err)
	text, err := io.ReadAll(z)
	require.NoError(w.t, err)
	return string(text)
}

// fieldsOf are the fields of a save, by id.
func (w *world) fieldsOf(save string) map[string]view.FieldDoc {
	var doc view.FieldsDoc
	w.decode(&doc, "fields", save)
	all := map[string]view.FieldDoc{}
	for _, f := range doc.Fields {
		all[f.ID] = f
	}
	return all
}

// TestOneValueOfASaveIsSet sets values in saves of every form that the demo games have: nothing else changes, what the save needs stays known
// as it was, and undo brings back every byte.
func TestOneValueOfASaveIsSet(t *testing.T) {
	t.Parallel()
	w := newWorld(t).withTrams()
	before := state(t, w.voyages(), w.path("player"))
	was := w.decoded("slot_02")
	r := w.ok("set", "tidewrack/3", "title=The \"Short\" Mole", "--at", "voyage:$.islands[3].lamps=77", "--yes")
	assert.Contains(t, r.out, `title: The Long Mole → The "Short" Mole`)
	now := w.decoded("slot_02")
	assert.Equal(t, strings.Replace(was, `"The Long Mole"`, `"The \"Short\" Mole"`, 1), strings.Replace(now, `"lamps": 77`, `"lamps": 3`, 1))
	assert.Equal(t, `The "Short" Mole`, w.fieldsOf("tidewrack/3")["title"].Value)

	for save, set := range map[string]string{
		"brass-orchard/B": "coins=9000", "night-tram/Lower Town.tramworld": "nights=216", "night-tram/1": "title=Late shift", "night-tram/winter.timetable": "title=Spring",
	} {
		fit := w.ok("needs", save).out
		id, value, _ := strings.Cut(set, "=")
		assert.True(t, w.fieldsOf(save)[id].Set, save)
		w.ok("set", save, set, "--yes")
		assert.Equal(t, value, w.fieldsOf(save)[id].Raw, save)
		assert.Equal(t, standing(fit), standing(w.ok("needs", save).out), "%s needs what it needed", save)
		w.ok("undo", "--yes")
	}
	w.ok("undo", "--yes")
	assert.Equal(t, before, state(t, w.voyages(), w.path("player")))
}

// standing is what needs says of a save, without its title and what that is known by.
func standing(text string) string {
	_, text, _ = strings.Cut(text, "\n")
	text, _, _ = strings.Cut(text, "Evidence")
	return text
}

// TestAValueWithAnEqualsSign gives places their values apart, in the same order.
func TestAValueWithAnEqualsSign(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("set", "tidewrack/3", "--at", "voyage:$.title", "--value", "a=b", "--at", "voyage:$.islands[3].lamps", "--value", "77", "--yes")
	assert.Equal(t, "a=b", w.fieldsOf("tidewrack/3")["title"].Value)
	assert.Contains(t, w.decoded("slot_02"), `"lamps": 77`)
}

// TestAChangedSaveIsWrittenBeside leaves the save as it is.
func TestAChangedSaveIsWrittenBeside(t *testing.T) {
	t.Parallel()
	w := newWorld(t).withTrams()
	before := state(t, w.voyages())
	w.ok("set", "tidewrack/3", "title=Second try", "--as", "8", "--yes")
	assert.Equal(t, "Second try", w.titles("tidewrack")["8"])
	assert.Equal(t, "The Long Mole", w.titles("tidewrack")["3"])
	r := w.fails(2, "set", "tidewrack/3", "title=Third try", "--as", "8", "--yes")
	assert.Contains(t, r.err, "taken")
	w.ok("undo", "--yes")
	assert.Equal(t, before, state(t, w.voyages()))
}

// TestWhatNothingSaysOfASaveIsNotToldByAnEdit changes a save whose mods are known by a statement alone: what is installed tells no more of the result
// than of the save.
func TestWhatNothingSaysOfASaveIsNotToldByAnEdit(t *testing.T) {
	t.Parallel()
	w := newWorld(t).withTrams()
	w.ok("needs", "night-tram/1", "--state", "version 2.9")
	w.ok("set", "night-tram/1", "title=Late shift", "--yes")
	w.ok("look", "night-tram")
	var doc view.NeedsOfDoc
	w.decode(&doc, "needs", "night-tram/1")
	var kinds []string
	for _, e := range doc.Evidence {
		kinds = append(kinds, string(e.Kind))
	}
	assert.Contains(t, kinds, "descends")
	assert.NotContains(t, kinds, "inferred")
}

// TestWhatCannotBeSetIsSaid asks for what the description, the form or the file does not allow: each is refused by name, and nothing is written.
func TestWhatCannotBeSetIsSaid(t *testing.T) {
	t.Parallel()
	w := newWorld(t).withTrams()
	w.ok("look")
	before := state(t, w.voyages(), w.path("player"))
	for _, c := range []struct{ save, set, says string }{
		{"brass-orchard/B", "coins=1000000", "0..999999"}, {"brass-orchard/B", "coins=many", "0..999999"}, {"brass-orchard/B", "version=3", "does not say that version may be set"},
		{"brass-orchard/B", "wasps=1", "coins, hat, title, version"}, {"brass-orchard/B", "coins", "FIELD=VALUE"}, {"brass-orchard/B", "--at=bay:/bay=1", "holds more than text"},
		{"brass-orchard/B", "--at=bay:/bay/none=1", "is not there"}, {"brass-orchard/B", "--at=none:/bay=1", "names no file"}, {"brass-orchard/B", "--at=/bay=1", "FILE:QUERY=VALUE"},
		{"night-tram/1", "title=A much longer shift", "longer than the 11 bytes"}, {"night-tram/Lower Town.tramworld", "nights=-1", "0.."}, {"tidewrack/3", "--at=voyage:$.mods=1", "not a single value"},
		{"tidewrack/3", "--at=voyage:$.islands[3].lamps=many", "holds a number"}, {"tidewrack/3", "title=", "would say no title"}, {"brass-orchard/B", "--at=bay:/bay/@title=", "not be whole"},
		{"tidewrack/3", "--at=voyage:$.version=", "not be whole"},
	} {
		assert.Contains(t, w.fails(2, "set", c.save, c.set, "--yes").err, c.says)
	}
	assert.Contains(t, w.fails(2, "set", "tidewrack/3").err, "say what to set")
	assert.Contains(t, w.fails(2, "set", "tidewrack/3", "title=a", "title=b").err, "twice")
	assert.Contains(t, w.fails(2, "set", "tidewrack/3", "title=a", "--at", "voyage:$.title=b", "--yes").err, "twice", "a field and a place that are the same")
	assert.Contains(t, w.fails(2, "set", "tidewrack/3", "--at", "voyage:$.title", "--value", "a", "--value", "b").err, "2 values for 1 place")
	assert.Contains(t, w.ok("set", "brass-orchard/B", "coins=880").out, "nothing to do")
	assert.Equal(t, before, state(t, w.voyages(), w.path("player")))
}

// TestATextIsFound finds a text in every form, with the query that set takes.
func TestATextIsFound(t *testing.T) {
	t.Parallel()
	w := newWorld(t).withTrams()
	for _, c := range []struct{ save, text, at, value string }{
		{"tidewrack/3", "The Long Mole", "voyage:$.title", "A"}, {"brass-orchard/B", "Quince", "bay:/bay[1]/@title", "B"},
		{"night-tram/Lower Town.tramworld", "Lower Town", "world:SELECT value FROM about WHERE key = 'title'", "C"}, {"night-tram/winter.timetable", "Winter", "timetable:$.timetable[0].title", "D"},
		{"night-tram/1", "Night shift", "", ""},
	} {
		var doc view.FoundTextDoc
		w.decode(&doc, "find", c.save, c.text)
		require.Equal(t, 1, doc.Count, c.save)
		assert.Equal(t, c.at, doc.Places[0].At)
		if c.at != "" {
			w.ok("set", c.save, "--at", c.at+"="+c.value, "--yes")
			assert.Equal(t, c.value, w.fieldsOf(c.save)["title"].Value, c.save)
		}
	}
	var doc view.FoundTextDoc
	w.decode(&doc, "find", "tidewrack/3", "no such text")
	assert.Zero(t, doc.Count)
	w.fails(2, "find", "tidewrack/3", "")
	require.NoError(t, os.WriteFile(w.voyages("slot_02", "voyage.json.gz"), []byte("\x1f\x8bcut"), 0o644))
	assert.Contains(t, w.ok("find", "tidewrack/3", "Mole").out, "was not looked into")
}

// TestAModLeavesASave takes a mod's things out of saves of three games, drops the mod of one, and takes all of it back.
func TestAModLeavesASave(t *testing.T) {
	t.Parallel()
	w := newWorld(t).withTrams()
	w.ok("look")
	before := state(t, w.voyages(), w.path("player"), w.path("games"))
	for _, c := range []struct{ save, mod, things string }{
		{"tidewrack/3", "fog-horns", "fog-horns:pier"}, {"brass-orchard/A", "copper-wasps", "copper-wasps:hive"}, {"night-tram/winter.timetable", "copper-line", "copper-line/stop"},
		{"night-tram/Lower Town.tramworld", "sleeper-cars", "sleeper-cars/rail"},
	} {
		require.Positive(t, w.found(c.save, c.things), c.save)
		out := w.ok("strip", c.save, "--of", c.mod, "--yes").out
		assert.Contains(t, out, c.things)
		assert.Contains(t, out, "it is fit", c.save)
		assert.Zero(t, w.found(c.save, c.mod+":")+w.found(c.save, c.mod+"/"), c.save)
	}
	w.ok("mods", "drop", "brass-orchard+copper-wasps", "--yes")
	assert.Regexp(t, `(?m)^ +A .* fit`, w.ok("look", "brass-orchard").out, "without its mod")
	for range 5 {
		w.ok("undo", "--yes")
	}
	assert.Equal(t, before, state(t, w.voyages(), w.path("player"), w.path("games")))
	for _, mod := range []string{"no-such-mod", ""} {
		assert.Contains(t, w.fails(2, "strip", "tidewrack/3", "--of", mod).err, "nobody knows what")
	}
	assert.Contains(t, w.ok("strip", "tidewrack/9", "--of", "deep-tides").out, "nothing of Deep Tides is in it")
	w.fails(2, "strip", "tidewrack/3")
}

// found is how often a text stands in a save.
func (w *world) found(save, text string) int {
	var doc view.FoundTextDoc
	w.decode(&doc, "find", save, text)
	return doc.Count
}

// TestPartsGoFromSaveToSave borrows sections and copies members between saves, out of downloads, through a file, and into a free slot.
func TestPartsGoFromSaveToSave(t *testing.T) {
	t.Parallel()
	w := newWorld(t).withTrams()
	w.ok("look")
	before := state(t, w.path("player", "Orchards"))
	trees := func(save string) string {
		all, err := os.ReadFile(w.path("player", "Orchards", "bay_"+save+".orchard"))
		require.NoError(t, err)
		from, to := strings.Index(string(all), "<trees>"), strings.Index(string(all), "</trees>")
		return string(all)[from:to]
	}
	w.ok("borrow", "trees", "--from", "brass-orchard/B", "--into", "brass-orchard/A", "--as", "E", "--yes")
	assert.Equal(t, trees("b"), trees("e"))
	assert.NotEqual(t, trees("b"), trees("a"), "it is left as it was")
	w.ok("undo", "--yes")
	assert.Equal(t, before, state(t, w.path("player", "Orchards")))
	assert.Contains(t, w.fails(2, "borrow", "--from", "brass-orchard/B", "--into", "brass-orchard/A", "--at", "bay:/bay/none").err, "has no")
	assert.Contains(t, w.fails(2, "borrow", "leaves", "--from", "brass-orchard/B", "--into", "brass-orchard/A").err, "trees, licence, wardens")
	assert.Contains(t, w.fails(2, "borrow", "trees", "--from", "tidewrack/1", "--into", "brass-orchard/A").err, "Tidewrack")
	assert.Contains(t, w.fails(7, "borrow", "trees", "--from", "brass-orchard/C", "--into", "brass-orchard/A", "--yes").err, "made with 1.9")

	assert.Contains(t, w.fails(2, "borrow", "licence", "--from", "brass-orchard+ladder-clerks", "--into", "brass-orchard/A").err, "ladder.xml", "of several pieces one is picked")
	w.ok("borrow", "licence", "--from", "brass-orchard+ladder-clerks", "--pick", "lantern", "--into", "brass-orchard/A", "--yes")
	assert.Equal(t, 1, w.found("brass-orchard/A", `<licences><licence kind="lantern" of="ladder-clerks"/></licences>`))
	w.fails(2, "borrow", "licence", "--from", "brass-orchard+cider-press", "--into", "brass-orchard/A")
	w.fails(2, "borrow", "trees", "--from", "brass-orchard+cider-press", "--into", "brass-orchard/A")

	file := w.path("bo.zip")
	w.ok("members", "take", "night-tram/1", "Bo", file)
	assert.Contains(t, w.ok("vet", file).out, "one driver of a roster of Night Tram")
	assert.Contains(t, w.fails(7, "members", "take", "night-tram/1", "Anna", file).err, "the option yes replaces it", "no file is replaced unasked")
	w.ok("members", "remove", "night-tram/1", "Bo", "--yes")
	assert.NotContains(t, w.ok("members", "night-tram/1").out, "Bo")
	w.ok("members", "put", "night-tram/1", file, "--yes")
	assert.Regexp(t, `00001001 +Bo`, w.ok("members", "night-tram/1").out, "its own id is free again")
	w.ok("members", "copy", "downloads/night-owls.drivers", "Petra", "--into", "night-tram/1", "--as", "5", "--yes")
	assert.Regexp(t, `0000[0-9a-f]{4} +Petra`, w.ok("members", "night-tram/5").out)
	assert.NotContains(t, w.ok("members", "night-tram/1").out, "Petra")
	assert.Contains(t, w.ok("needs", "night-tram/5").out, "fit", "its checksum is right")
	assert.Contains(t, w.fails(2, "members", "put", "tidewrack/3", file).err, "night-tram")
	assert.Contains(t, w.fails(2, "members", "put", "night-tram/1", w.path("downloads", "quiet-cove.zip")).err, "no member")
	assert.Contains(t, w.fails(2, "members", "remove", "night-tram/1", "Eve").err, `no driver "Eve"`)
}

// TestASaveOrADownload gives the commands that take either a folder, an archive without a save, and names of what is nowhere.
func TestASaveOrADownload(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	folder := w.path("unpacked")
	require.NoError(t, os.CopyFS(folder, os.DirFS(w.voyages("slot_01"))))
	commands := [][]string{{"convert", "FROM"}, {"borrow", "islands", "--from", "FROM", "--into", "tidewrack/1"}, {"members", "copy", "FROM", "1", "--into", "tidewrack/1"}}
	with := func(command []string, from string) []string {
		command = slices.Clone(command)
		command[slices.Index(command, "FROM")] = from
		return append(command, "--yes")
	}
	before := state(t, w.voyages())
	for _, command := range commands {
		assert.Contains(t, w.fails(2, with(command, w.path("downloads", "nowhere.zip"))...).err, "nowhere.zip is there", command)
		assert.Contains(t, w.fails(2, with(command, "nowhere.zip")...).err, "no file nowhere.zip is there, and no save is called so", command)
		assert.Contains(t, w.fails(2, with(command, "tidewrack/77")...).err, `ostrov: tidewrack@main has no save "77"`, command)
		assert.NotZero(t, w.run(with(command, w.path("downloads", "glass-pears-2.0.0.zip"))...).status, command)
		assert.Contains(t, w.run(with(command, w.path("downloads", "half-a-voyage.zip"))...).err, "half-a-voyage.zip", command)
	}
	for _, command := range commands[1:] {
		assert.Contains(t, w.fails(2, with(command, w.path("downloads", "glass-pears-2.0.0.zip"))...).err, "holds no save", command)
	}
	assert.Equal(t, before, state(t, w.voyages()))

	w.ok("borrow", "islands", "--from", folder, "--into", "tidewrack/1", "--yes")
	assert.Equal(t, w.fieldsOf("tidewrack/2")["islands"].Value, w.fieldsOf("tidewrack/1")["islands"].Value)
	assert.NotEqual(t, before, state(t, w.voyages()))
	empty := w.path("empty")
	require.NoError(t, os.Mkdir(empty, 0o755))
	assert.Contains(t, w.fails(2, "borrow", "islands", "--from", empty, "--into", "tidewrack/1", "--yes").err, "holds no save")
	left, err := os.ReadDir(w.path("ostrov", "scratch"))
	assert.True(t, err != nil || len(left) == 0, "what was unpacked is gone")
}

// TestASaveOfAnotherVersion converts one in its place, and one out of a download that stays as it is.
func TestASaveOfAnotherVersion(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	out := w.ok("needs", "brass-orchard/C").out
	assert.Contains(t, out, "ostrov convert brass-orchard/C --to 2.0", "the remedy is spelled out")
	w.ok("convert", "brass-orchard/C", "--without", "winding", "--as", "E", "--yes")
	assert.Equal(t, "2.0", w.fieldsOf("brass-orchard/E")["version"].Raw)
	download := w.path("old-press.orchard")
	data, err := os.ReadFile(w.path("player", "Orchards", "bay_c.orchard"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(download, data, 0o644))
	assert.Contains(t, w.run("vet", download).out, "ostrov convert "+download+" --to 2.0")
	w.ok("saves", "remove", "brass-orchard/E", "--yes")
	w.ok("place", download, "--convert", "--yes")
	assert.Equal(t, "2.0", w.fieldsOf("brass-orchard/E")["version"].Raw)
	again, err := os.ReadFile(download)
	require.NoError(t, err)
	assert.Equal(t, data, again)
	assert.Contains(t, w.ok("convert", "brass-orchard/E", "--to", "2.0").out, "nothing to do")
	assert.Contains(t, w.fails(2, "convert", "brass-orchard/A", "--to", "9").err, "does not say how")
}

// TestAnEditorOpensASave has editors that change, cut, empty, break and leave the text.
func TestAnEditorOpensASave(t *testing.T) {
	t.Parallel()
	needsProgram(t, "sh", "dash")
	needsProgram(t, "sed", "sed")
	w := newWorld(t).withTrams()
	w.ok("look")
	editor := func(text string) string {
		path := filepath.Join(t.TempDir(), "editor")
		require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\n"+text+"\n"), 0o755))
		return path
	}
	out := w.ok("open", "tidewrack/3", "--with", editor(`sed -i 's/The Long Mole/The Short Mole/' "$1"`), "--yes").out
	assert.Contains(t, out, `+ "title": "The Short Mole"`)
	assert.Equal(t, "The Short Mole", w.fieldsOf("tidewrack/3")["title"].Value)
	w.ok("undo", "--yes")
	before := state(t, w.voyages(), w.path("player"))
	for name, c := range map[string]struct{ script, says string }{
		"emptied": {`: > "$1"`, "would be no json"}, "cut": {`head -c 200 "$1" > "$1.x"; mv "$1.x" "$1"`, "line"}, "broken": {`sed -i 's/"captain": /captain: /' "$1"`, "line 4"},
		"gone": {`rm "$1"`, "is not there"}, "fails": {"exit 3", "exit status 3"},
		"no save any more": {`sed -i 's/"version"/"revision"/' "$1"`, "not be whole"},
	} {
		r := w.run("open", "tidewrack/3", "--with", editor(c.script), "--yes")
		assert.NotZero(t, r.status, name)
		assert.Contains(t, r.err, c.says, name)
		assert.Equal(t, before, state(t, w.voyages(), w.path("player")), name)
	}
	assert.Contains(t, w.ok("open", "tidewrack/3", "--with", editor(`touch "$1"`)).out, "nothing to do")
	w.env = append(w.env, "VISUAL="+editor(`sed -i 's/nights,214/nights,216/' "$@"`))
	w.ok("open", "night-tram/Lower Town.tramworld", "--as", "Upper Town", "--yes")
	assert.Equal(t, "216", w.fieldsOf("night-tram/Upper Town.tramworld")["nights"].Raw)
	assert.Equal(t, "214", w.fieldsOf("night-tram/Lower Town.tramworld")["nights"].Raw)
	w.ok("open", "night-tram/1", "--with", editor(`sed -i 's/Night shift/Late shift/' "$1"`), "--yes")
	assert.Equal(t, "Late shift", w.fieldsOf("night-tram/1")["title"].Value, "the named fields of a binary file")
	meanwhile := w.run("open", "tidewrack/3", "--with", editor(`sed -i 's/The Long Mole/The Short Mole/' "$1"; printf x >>'`+w.voyages("slot_02", "chart.bin")+`'`), "--yes").err
	_, kept, _ := strings.Cut(meanwhile, "your text is still in ")
	kept, _, _ = strings.Cut(kept, "\n")
	texts, err := filepath.Glob(filepath.Join(strings.TrimSpace(kept), "*"))
	require.NoError(t, err)
	require.Len(t, texts, 1, meanwhile)
	text, err := os.ReadFile(texts[0])
	require.NoError(t, err)
	assert.Contains(t, string(text), "The Short Mole", "what was edited is not lost")
}

// TestAConvertedSaveGoesWhereItBelongs converts into the folder of the other version; the save itself stays.
func TestAConvertedSaveGoesWhereItBelongs(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	write := w.small(`ostrov = 1
id = "fern"
title = "Fern"
version = { default = "2" }
install = { marker = ["fern"] }
folder = [{ id = "saves", path = "{game}/saves" }, { id = "newer", path = "{game}/saves2" }]
[[save]]
id = "one"
unit = "file"
folder = "saves"
name = "{name}.sav"
[save.file.all]
path = "."
form = "ini"
[save.field]
version = { in = "all", at = "version" }
[[save]]
id = "two"
unit = "file"
folder = "newer"
name = "{name}.sav"
[save.file.all]
path = "."
form = "ini"
[save.field]
version = { in = "all", at = "version" }
[[convert]]
id = "two"
save = "one"
from = "< 2"
to = "2"
move_to = "newer"
steps = [{ in = "all", set = "version", value = "2" }]
`, "fern", map[string]string{"fern": "", "saves/a.sav": "version = 1\nx = 1\n", "saves2/b.sav": "version = 2\n"})
	_ = write
	download := w.path("c.sav")
	require.NoError(t, os.WriteFile(download, []byte("version = 1\nx = 2\n"), 0o644))
	assert.Contains(t, w.ok("place", download, "--convert", "--pick", "one", "--yes").out, "saves2")
	assert.Equal(t, "2", w.fieldsOf("fern:newer/c.sav")["version"].Raw, "a download goes there at once")
	w.ok("undo", "--yes")
	out := w.ok("convert", "fern:saves/a.sav", "--yes").out
	assert.Contains(t, out, "saves2")
	assert.Equal(t, "1", w.fieldsOf("fern:saves/a.sav")["version"].Raw)
	assert.Equal(t, "2", w.fieldsOf("fern:newer/a.sav")["version"].Raw)
	w.ok("undo", "--yes")
	w.fails(2, "fields", "fern:newer/a.sav")
}

// TestABrokenLinkIsSaid vets a save in which a warden tends a tree that is not there, and has no change leave one.
func TestABrokenLinkIsSaid(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	data, err := os.ReadFile(w.path("player", "Orchards", "bay_b.orchard"))
	require.NoError(t, err)
	broken := strings.Replace(string(data), `tends="7"`, `tends="777"`, 1)
	require.NotEqual(t, string(data), broken)
	download := w.path("broken.orchard")
	require.NoError(t, os.WriteFile(download, []byte(broken), 0o644))
	r := w.run("vet", download)
	assert.Equal(t, 3, r.status, "risky")
	assert.Regexp(t, `broken-link +the tree that a warden tends: 777 is named and is not there`, r.out)
	assert.NotContains(t, w.run("vet", w.path("player", "Orchards", "bay_b.orchard")).out, "broken-link")

	before := state(t, w.path("player", "Orchards"))
	assert.Contains(t, w.fails(2, "set", "brass-orchard/B", "--at", "bay:/bay/wardens/warden[2]/@tends=777", "--yes").err, `"777" would be named and not be there`)
	assert.Contains(t, w.fails(2, "borrow", "wardens", "--from", download, "--into", "brass-orchard/A", "--yes").err, "777")
	assert.Equal(t, before, state(t, w.path("player", "Orchards")))
	w.ok("set", "brass-orchard/B", "--at", "bay:/bay/wardens/warden[2]/@tends=9", "--yes")
}

// TestWhatIsHostileInsideIsRefused has a save that unpacks to more than any may, and a query that meets a million places.
func TestWhatIsHostileInsideIsRefused(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("look")
	var bomb bytes.Buffer
	z := gzip.NewWriter(&bomb)
	_, err := z.Write([]byte(`{"title": "Bomb", "version": "1.6.2", "captain": 70431, "mods": [], "islands": [{"id": 0, "oil": 1, "note": "`))
	require.NoError(t, err)
	for range 520 {
		_, err := z.Write(bytes.Repeat([]byte("a"), 1<<20))
		require.NoError(t, err)
	}
	_, err = z.Write([]byte(`"}]}`))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	require.NoError(t, os.WriteFile(w.voyages("slot_02", "voyage.json.gz"), bomb.Bytes(), 0o644))
	before := state(t, w.voyages())
	for _, args := range [][]string{{"set", "tidewrack/3", "title=x"}, {"strip", "tidewrack/3", "--of", "deep-tides"}, {"borrow", "islands", "--from", "tidewrack/3", "--into", "tidewrack/1"}, {"open", "tidewrack/3", "--with", "true"},
		{"members", "tidewrack/3"}, {"convert", "tidewrack/3", "--to", "1.6.0"}} {
		r := w.run(append(args, "--yes")...)
		assert.NotZero(t, r.status, args)
		assert.Contains(t, r.err, "too large", args)
		assert.NotContains(t, r.err, "panic")
	}
	assert.Equal(t, before, state(t, w.voyages()))
}

// TestAnOwnerThatStandsElsewhere places a save whose owner's account is in other files, too: vet counts these, and place says the same.
func TestAnOwnerThatStandsElsewhere(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	folder := w.path("downloads", "mine", "slot_05")
	require.NoError(t, os.CopyFS(folder, os.DirFS(w.voyages("slot_02"))))
	rewrite(t, filepath.Join(folder, "voyage.json.gz"), `"captain": 70431`, `"captain": 70999`)
	chart, err := os.ReadFile(filepath.Join(folder, "chart.bin"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "chart.bin"), append(chart, " 70999 70999, not 170999 "...), 0o644))
	for _, command := range [][]string{{"vet", "downloads/mine"}, {"place", "downloads/mine", "--slot", "7", "--yes"}} {
		assert.Contains(t, strings.Join(strings.Fields(w.ok(command...).out), " "), "2 times in chart.bin", command)
	}
	assert.Contains(t, w.decoded("slot_06"), `"captain": 70431`)
}

// TestABlankedSaveIsMadeYours places a parcel in which the owner was emptied: it becomes the receiver's.
func TestABlankedSaveIsMadeYours(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("parcel", "tidewrack/3", "--blank", "-o", "blank.zip", "--yes")
	w.ok("place", "blank.zip", "--slot", "7", "--yes")
	assert.Contains(t, w.decoded("slot_06"), `"captain": 70431`)
}
