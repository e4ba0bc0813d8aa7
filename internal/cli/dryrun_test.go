package cli_test

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// everything is all that lies below a folder, byte for byte, Ostrov's own files too.
func everything(t testing.TB, dir string) map[string]string {
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		require.NoError(t, err)
		text := info.Mode().String()
		if info.Mode().IsRegular() {
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			text += fmt.Sprintf(" %x", sha256.Sum256(data))
		}
		all[path] = text
		return nil
	}))
	return all
}

var commandLine = regexp.MustCompile(`(?m)^   ?([a-z][a-z-]*)  +\S`)

// commands are all commands and their commands, as help lists them.
func (w *world) commands() []string {
	var all []string
	for _, m := range commandLine.FindAllStringSubmatch(w.ok("help").out, -1) {
		help := w.ok("help", m[1]).out
		_, below, has := strings.Cut(help, "COMMANDS:\n")
		below, _, _ = strings.Cut(below, "\n\n")
		all = append(all, m[1])
		if has {
			for _, sub := range commandLine.FindAllStringSubmatch(below, -1) {
				all = append(all, m[1]+" "+sub[1])
			}
		}
	}
	return all
}

// dryRuns are command lines that would change something, at least one for each command there is.
var dryRuns = [][]string{
	{"demo", "--dir", "another"}, {"games"}, {"games", "add", "night-tram", "--at", "games/NightTram", "--player-home", "player"}, {"games", "show", "tidewrack"},
	{"games", "test", "tidewrack"}, {"games", "base", "tidewrack"}, {"games", "forget", "brass-orchard"}, {"games", "rename", "brass-orchard", "shed"},
	{"look"}, {"look", "tidewrack"}, {"look", "tidewrack", "--put-aside"}, {"saves", "tidewrack"}, {"saves", "rename", "tidewrack/3", "9"}, {"saves", "duplicate", "tidewrack/3"},
	{"saves", "remove", "tidewrack/3"}, {"saves", "label", "tidewrack/3", "mine"}, {"saves", "--newest"}, {"needs", "tidewrack/3"}, {"needs", "tidewrack/3", "--state", "version 1.6.2"},
	{"compare", "tidewrack.1", "tidewrack@main"}, {"mods", "tidewrack"}, {"mods", "tidewrack", "--write", "list.md"},
	{"mods", "add", "downloads/whale-songs-1.0.0.zip"}, {"mods", "add", "downloads/gold-lamps.zip"}, {"mods", "add", "--like", "tidewrack.1", "--from", "downloads", "--for", "tidewrack"},
	{"mods", "drop", "tidewrack+deep-tides"}, {"mods", "off", "tidewrack+deep-tides"}, {"mods", "off", "brass-orchard+cider-press"}, {"mods", "on", "tidewrack+old-charts"},
	{"mods", "aside", "tidewrack"}, {"mods", "back", "tidewrack"}, {"mods", "verify", "tidewrack"}, {"mods", "verify", "tidewrack", "--fix"}, {"mods", "adopt", "tidewrack"},
	{"mods", "order", "tidewrack+deep-tides", "--before", "lantern-core"}, {"mods", "pin", "tidewrack+deep-tides"}, {"mods", "needs", "tidewrack+deep-tides", "lantern-core >= 1"},
	{"vet", "downloads/whale-songs-1.0.0.zip"}, {"fresh", "Fourth Run", "tidewrack", "--mods", "none"},
	{"keep", "tidewrack", "--with", "mods", "-m", "note"}, {"keep", "brass-orchard"}, {"keep", "tidewrack", "--settings", "mine"}, {"kept"}, {"kept", "tidewrack.1"},
	{"kept", "tidewrack.1", "-m", "a word", "--tag", "best"}, {"kept", "tidewrack.1", "--export", "out.zip"},
	{"restore", "night-run.1"}, {"restore", "tidewrack.1", "--slot", "1"}, {"restore", "tidewrack.1", "--to", "out"}, {"restore", "tidewrack.1", "--only", "settings"},
	{"archive"}, {"archive", "add", "drive"}, {"archive", "verify"}, {"archive", "copy", "drive"}, {"archive", "clear-old", "--days", "0", "--count", "1"},
	{"vet", "downloads/quiet-cove.zip"}, {"place", "downloads/quiet-cove.zip"}, {"place", "downloads/quiet-cove.zip", "--slot", "1"},
	{"parcel", "tidewrack/3", "-o", "parcel.zip"}, {"play", "tidewrack", "--", "true"}, {"watch", "tidewrack"},
	{"playthroughs"}, {"playthroughs", "start", "Night", "tidewrack"}, {"playthroughs", "assign", "night-run", "tidewrack/3"}, {"playthroughs", "activate", "tidewrack"},
	{"playthroughs", "close", "night-run"}, {"playthroughs", "note", "tidewrack", "a word"}, {"playthroughs", "rename", "tidewrack", "Another"},
	{"fields", "tidewrack/3"}, {"find", "tidewrack/3", "Mole"}, {"set", "tidewrack/3", "title=A"}, {"set", "brass-orchard/B", "--at", "bay:/bay/@title=A", "--as", "E"},
	{"borrow", "trees", "--from", "brass-orchard/A", "--into", "brass-orchard/B"}, {"borrow", "islands", "--from", "downloads/quiet-cove.zip", "--into", "tidewrack/3", "--as", "10"},
	{"strip", "tidewrack/3", "--of", "deep-tides"}, {"convert", "brass-orchard/C"}, {"convert", "brass-orchard/C", "--to", "2.0", "--without", "winding", "--as", "E"}, {"convert", "downloads/quiet-cove.zip"},
	{"place", "downloads/quiet-cove.zip", "--convert"}, {"open", "tidewrack/3", "--with", "sed -i s/Mole/Pier/"}, {"members", "brass-orchard/A"},
	{"members", "take", "brass-orchard/A", "Tam", "pip.zip"}, {"members", "put", "brass-orchard/B", "warden.zip"}, {"members", "remove", "brass-orchard/A", "Tam", "--as", "E"},
	{"members", "copy", "brass-orchard/A", "Tam", "--into", "brass-orchard/B"}, {"vet", "warden.zip"},
	{"swap", "tidewrack"}, {"fresh", "Third Run", "tidewrack"}, {"undo"}, {"undo", "--list"}, {"undo", "tidewrack"}, {"redo"},
}

// dryWorld has had one of everything: snapshots, lines of play, a change and one that was taken back.
func dryWorld(t *testing.T) *world {
	w := newWorld(t)
	w.ok("keep", "tidewrack", "-m", "first")
	w.ok("members", "take", "brass-orchard/A", "Odile", "warden.zip")
	w.ok("fresh", "Night Run", "tidewrack", "--yes")
	w.ok("place", "downloads/quiet-cove.zip", "--yes")
	w.ok("keep", "tidewrack")
	w.ok("place", "downloads/lamp-race.zip", "--pick", "10 lamps", "--yes")
	w.ok("undo", "--yes")
	slots, err := filepath.Glob(w.voyages("slot_*"))
	require.NoError(t, err)
	require.NotEmpty(t, slots)
	require.NoError(t, os.WriteFile(filepath.Join(slots[0], "new.bin"), []byte("since"), 0o644))
	return w
}

// schemas are those that were compiled, by file: that takes longer than to use them.
var schemas sync.Map

func schemaIn(t *testing.T, file string) *jsonschema.Schema {
	if known, ok := schemas.Load(file); ok {
		return known.(*jsonschema.Schema)
	}
	schema, err := jsonschema.NewCompiler().Compile(file)
	require.NoError(t, err)
	schemas.Store(file, schema)
	return schema
}

// assertDocument checks that the answer is one JSON document that keeps to a schema of its command, or to that of errors.
func assertDocument(t *testing.T, r result, line []string) {
	var head struct {
		Ostrov  int
		Command string
	}
	if !assert.NoError(t, json.Unmarshal([]byte(r.out), &head), "%v: %q", line, r.out) {
		return
	}
	assert.Equal(t, 1, head.Ostrov, line)
	assert.Contains(t, strings.Join(line, " "), head.Command, line)
	document, err := jsonschema.UnmarshalJSON(strings.NewReader(r.out))
	require.NoError(t, err)
	files, err := filepath.Glob(filepath.Join("..", "..", "docs", "json", strings.ReplaceAll(head.Command, " ", "-")+"*.schema.json"))
	require.NoError(t, err)
	kept := 0
	for _, file := range append(files, filepath.Join("..", "..", "docs", "json", "error.schema.json")) {
		if schemaIn(t, file).Validate(document) == nil {
			kept++
		}
	}
	assert.Positive(t, kept, "%v keeps to a schema: %s", line, r.out)
}

func TestErrorsAreDocumentsToo(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for status, args := range map[int][]string{2: {"needs", "tidewrack/88", "--json"}, 1: {"vet", "missing.zip", "--json"}, 7: {"place", "downloads/quiet-cove.zip", "--json"}} {
		r := w.fails(status, args...)
		assertDocument(t, r, args)
		var doc struct {
			Error struct {
				Text   string
				Status int
			}
		}
		require.NoError(t, json.Unmarshal([]byte(r.out), &doc), r.out)
		assert.Equal(t, status, doc.Error.Status)
		assert.NotEmpty(t, doc.Error.Text)
		assert.Contains(t, r.err, doc.Error.Text)
	}
	assertDocument(t, w.fails(2, "keep", "--json", "--nonsense"), []string{"keep"})
	assertDocument(t, w.ok("saves", "--json"), []string{"saves"})
	assertDocument(t, w.ok("mods", "--json"), []string{"mods"})
	assertDocument(t, w.ok("games", "show", "--json"), []string{"games", "show"})
	for _, title := range []string{"Tidewrack", "Brass Orchard"} {
		assert.Contains(t, w.ok("saves").out, title)
		assert.Contains(t, w.ok("mods").out, title)
	}
}

func TestDryRunChangesNothing(t *testing.T) {
	t.Parallel()
	w := dryWorld(t)
	covered := map[string]bool{"help": true}
	before := everything(t, w.dir)
	for _, args := range dryRuns {
		for _, document := range []bool{false, true} {
			line := append([]string{"--dry-run"}, args...)
			if i := len(args) - 2; i > 0 && args[i] == "--" { // options stand before the game's command
				line = append(append([]string{}, args[:i]...), append([]string{"--dry-run"}, args[i:]...)...)
			}
			if document {
				line = append([]string{"--json"}, line...)
			}
			r := w.run(line...)
			assert.NotContains(t, r.err, "panic", line)
			if document && args[0] != "demo" {
				assertDocument(t, r, line)
			}
			assert.NotEqual(t, 2, r.status, "%v is used as meant: %s", line, r.err)
			if now := everything(t, w.dir); !assert.ObjectsAreEqual(before, now) {
				require.Equal(t, before, now, "%v changes something", line)
			}
			if document && r.status == 0 {
				assert.True(t, strings.HasPrefix(r.out, "{"), "%v prints JSON: %.200s", line, r.out)
			}
		}
		covered[args[0]] = true
		if len(args) > 1 {
			covered[args[0]+" "+args[1]] = true
		}
	}
	for _, c := range w.commands() {
		assert.True(t, covered[c], "%s is tried", c)
	}
}
