package cli_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// jars is a game whose saves say their version and mods.
const jars = `ostrov = 1
id      = "jars"
title   = "Jars"
version = { in = "release", at = "(.+)" }
[install]
marker = ["jars.txt"]
[file.release]
path = "{game}/jars.txt"
form = "text"
[[folder]]
id   = "saves"
path = "{game}/saves"
[[folder]]
id   = "mods"
path = "{game}/mods"
[[save]]
id     = "jar"
unit   = "file"
folder = "saves"
name   = "{name}.jar"
[save.file.jar]
path = "."
form = "json"
[save.field]
title   = { in = "jar", at = "$.title" }
version = { in = "jar", at = "$.version" }
[save.mods]
in   = "jar"
each = "$.mods[*]"
[[mod]]
id     = "mod"
unit   = "folder"
folder = "mods"
`

// TestADescriptionOfOnesOwn goes from a file to a game in use: tested, tried on what it is for, taken in, and corrected.
func TestADescriptionOfOnesOwn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	write := func(name, text string) string {
		path := w.path(strings.Split(name, "/")...)
		require.NoError(t, os.MkdirAll(w.path(strings.Split(name, "/")[:strings.Count(name, "/")]...), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return path
	}
	write("jars/jars.txt", "1.0")
	write("jars/mods/fern/readme", "x")
	one := write("jars/saves/one.jar", `{"title": "First", "version": "1.0", "mods": ["fern"]}`)
	two := write("jars/saves/two.jar", `{"title": "First", "release": "1.0", "mods": ["fern"]}`)

	wrong := write("wrong.toml", strings.Replace(strings.Replace(jars, `at = "$.version"`, `at = "$.title"`, 1), `"$.mods[*]"`, `"$.mod[*]"`, 1))
	assert.Contains(t, w.ok("games", "test", wrong).out, "games add "+wrong, "what to type next")
	before := everything(t, w.dir)
	r := w.ok("games", "test", wrong, "--on", one, "--on", two)
	assert.Regexp(t, `version +First +jar \$\.title`, r.out)
	assert.Contains(t, r.out, "not found, so that it is not known")
	assert.Contains(t, r.out, "the same in all of them: First")
	r = w.ok("games", "test", write("right.toml", jars), "--on", two)
	assert.Regexp(t, `version +not found.*the version of the install is taken`, r.out)
	assert.Contains(t, r.out, "1: fern")
	var doc struct {
		Things []struct {
			What, Name string
			Fields     []struct {
				ID    string
				Found bool
			}
		}
	}
	w.decode(&doc, "games", "test", w.path("right.toml"), "--on", w.path("jars"))
	require.Len(t, doc.Things, 4, "the install, two saves and a mod")
	assert.Equal(t, "install", doc.Things[0].What)
	require.NoError(t, os.Remove(w.path("right.toml")))
	assert.Equal(t, before, everything(t, w.dir), "trying writes nothing")

	w.ok("games", "add", wrong, "--at", w.path("jars"), "--yes")
	assert.Contains(t, w.ok("games", "show", "jars").out, w.path("ostrov", "games", "jars.toml"))
	assert.Contains(t, w.ok("needs", "jars/one.jar").out, "made with First")
	w.ok("look", "jars")
	require.NoError(t, os.WriteFile(w.path("ostrov", "games", "jars.toml"), []byte(jars), 0o644))
	r = w.ok("needs", "jars/one.jar")
	assert.NotContains(t, r.out, "First\n", "the former reading is replaced")
	assert.Contains(t, r.out, "1.0")
	assert.Contains(t, r.out, "fern")
	var needs struct {
		Verdict string
		Needs   struct{ Version string }
	}
	w.decode(&needs, "needs", "jars/one.jar")
	assert.Equal(t, "fit", needs.Verdict)
	assert.Equal(t, "1.0", needs.Needs.Version)
	w.ok("look", "jars")
	w.decode(&needs, "needs", "jars/two.jar")
	assert.Equal(t, "1.0", needs.Needs.Version, "inferred, and no title is a version")

	assert.Contains(t, w.fails(1, "games", "add", write("bad.toml", "ostrov = 1\nid = 2\n"), "--yes").err, "bad.toml:2", "tested first")
}

// TestWhatNoLongerHoldsIsTakenBack states something wrong and takes it back.
func TestWhatNoLongerHoldsIsTakenBack(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.small(strings.Replace(pebbles, "[[mod]]", "[[mod]]", 1), "pebbles", map[string]string{"release.txt": "1", "saves/own.run": "PEBB own", "mods/moss/m": "x"})
	w.ok("needs", "pebbles/own.run", "--state", "version 7")
	assert.Contains(t, w.ok("needs", "pebbles/own.run").out, "made with 7")
	assert.Contains(t, w.fails(2, "needs", "pebbles/own.run", "--forget", "statd").err, "did you mean stated?")
	assert.Contains(t, w.fails(2, "needs", "pebbles/own.run", "--forget", "inferred").err, "found anew at each look")
	r := w.ok("needs", "pebbles/own.run", "--forget", "stated")
	assert.NotContains(t, r.out, "made with 7")
	assert.Contains(t, w.fails(2, "needs", "pebbles/own.run", "--forget", "stated").err, "nothing is known")
}
