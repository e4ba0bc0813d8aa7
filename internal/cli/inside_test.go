package cli_test

import (
	"compress/gzip"
	"io"
	"os"
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
