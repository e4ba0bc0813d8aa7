package game

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// insideGame is a game whose saves can be changed in every way; each case puts something in the place of a line of it.
const insideGame = `ostrov = 1
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
columns = ["title"]
[save.file.world]
path = "world.xml"
form = "xml"
[save.file.crew]
path = "crew/*.json"
form = "json"
[save.field]
title = { in = "world", at = "/w/@title", set = true }
hat = { in = "world", each = "/w/one", at = "@hat", set = true }
look = { in = "world", at = "/w/@lead", ref = "/w/one[@id='{}']/@look" }
[save.members]
in = "crew"
id = "$.id"
[[references]]
in = "world"
at = "/w/thing/@of"
remove = ".."
[[references.count]]
each = "/w"
at = "@n"
of = "thing"
[[references.also]]
key = "@id"
at = "/w/eye/@on"
remove = ".."
[[section]]
id = "things"
in = "world"
at = "/w/thing"
[[link]]
title = "eyes"
from = { in = "world", at = "/w/eye/@on" }
to = { in = "world", at = "/w/thing/@id" }
[[convert]]
id = "two"
from = "< 2"
to = "2"
steps = [{ in = "world", set = "/w/@title", value = "x" }]
`

// TestMistakesInWhatChangesSaves reads the description, and then with each mistake: every one is said with its line.
func TestMistakesInWhatChangesSaves(t *testing.T) {
	_, err := Parse("mossy.toml", []byte(insideGame))
	require.NoError(t, err)
	for _, c := range []struct{ was, now, says string }{
		{`at = "/w/thing"`, `at = "//thing"`, "cannot lead to what is changed"},
		{`at = "/w/thing"`, `at = []`, "a section needs `at`"},
		{`id = "things"`, `id = "Things!"`, "an id of a-z"},
		{`id = "things"
in = "world"`, `id = "things"
in = "none"`, `no kind of save has a file "none"`},
		{`at = "/w/thing"
`, `at = "/w/thing"
from = "mod"
`, "says with piece"},
		{`at = "/w/thing"
`, `at = "/w/thing"
from = "elsewhere"
`, "is not mod"},
		{`to = { in = "world", at = "/w/thing/@id" }`, `to = { in = "world", at = "count(/w)" }`, "cannot lead"},
		{`to = { in = "world", at = "/w/thing/@id" }`, "to = { in = \"world\", at = \"/w/thing/@id\" }\nnone = \"(\"", "not a pattern"},
		{`value = "x" }]`, `}]`, "a step is one of"},
		{`set = "/w/@title", value = "x"`, `set = "/w/@title", value = "x", remove = "/w/thing"`, "a step is one of"},
		{`value = "x" }]`, `value = "x", optional = true }]`, "has an id and a title"},
		{`from = "< 2"`, `from = "<< 2"`, "a range of versions"},
		{`remove = ".."
[[references.count]]`, `[[references.count]]`, "remove or instead says what"},
		{`key = "@id"
at = "/w/eye/@on"
remove = ".."`, `key = "@id"
at = "/w/eye/@on"`, "one of remove and instead"},
		{`remove = ".."
[[references.count]]`, `remove = ".."
length = "u17"
[[references.count]]`, "length is the type"},
		{`in = "crew"
id = "$.id"`, `in = "world"
id = "@id"`, "or the files of a glob"},
		{`in = "crew"
id = "$.id"`, `in = "world"
each = "/w/one"`, "members need an id"},
		{`columns = ["title"]`, `columns = ["hat"]`, "is no column"},
		{`ref = "/w/one[@id='{}']/@look"`, `ref = "/w/one/@look"`, "ref follows the value"},
		{`each = "/w/one", at = "@hat"`, `each = "//one", at = "@hat"`, "it cannot be set"},
	} {
		require.Contains(t, insideGame, c.was)
		_, err := Parse("mossy.toml", []byte(strings.Replace(insideGame, c.was, c.now, 1)))
		assert.ErrorContains(t, err, c.says, c.now)
		if err != nil {
			assert.Regexp(t, `mossy\.toml:\d+:\d+`, err.Error(), c.now)
		}
	}
}
