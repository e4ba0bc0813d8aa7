package game

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatCanNeverActIsAnError writes the mistakes that are made most, each with what helps.
func TestWhatCanNeverActIsAnError(t *testing.T) {
	file := "[save.file.s]\npath = \".\"\nform = \"json\"\n"
	rule := func(text string) string { return "[[rule]]\n" + text + "\neffect = \"stops\"\n" }
	mod := "[[mod]]\nid = \"mod\"\nunit = \"folder\"\nfolder = \"saves\"\n"
	for name, c := range map[string]struct{ add, want string }{
		"an unknown finding":            {rule("on = \"missing-mod\"\nsays = \"unfit\""), `there is no finding "missing-mod" (did you mean "mod-missing"?)`},
		"a finding without rules":       {rule("on = \"damaged\"\nsays = \"unfit\""), `no rule can be on "damaged"`},
		"a word of another rule":        {rule("save = \"newer\"\nmod = \"moss\"\nsays = \"unfit\""), "mod belongs to a rule on a finding"},
		"a mod where there is none":     {rule("on = \"order-differs\"\nmod = \"moss\"\nsays = \"unfit\""), "which is not about one mod"},
		"is of another finding":         {rule("on = \"mod-missing\"\nis = \"older\"\nsays = \"unfit\""), "belongs to on = \"mod-differs\""},
		"both kinds of rule":            {rule("on = \"mod-missing\"\nsave = \"newer\"\nsays = \"unfit\""), "either on a finding or about versions"},
		"a range that is none":          {rule("save = \"new\"\nsays = \"unfit\""), `did you mean "newer"?`},
		"a version that does not sort":  {rule("game = \"spring\"\nsays = \"unfit\""), "[versions]"},
		"a format that no save has":     {rule("format = \"> 2\"\nsays = \"unfit\""), `no kind of save has a field "format"`},
		"a field that no save has":      {rule("field = { id = \"script\", is = \"> 2\" }\nsays = \"unfit\""), `there is no [save.field] "script"`},
		"a kind that there is not":      {mod + rule("on = \"mod-missing\"\nkind = \"map\"\nsays = \"unfit\""), `there is no [[mod]] "map"`},
		"all of a known folder":         {"[[folder]]\nid = \"x\"\npath = \"{config}\"\n", "that others use, too"},
		"a braced name of a mod":        {mod + "name = \"{id}\"\n", "the name of a mod is a glob"},
		"twice that does not stop":      {mod + "twice = \"crash\"\n", `"crash" is not stops`},
		"a digest of a folder":          {mod + "digest = { md5 = \"0..\" }\n", "of a mod that is one file"},
		"a section of JSON":             {file + "[save.mods]\nin = \"s\"\nsection = \"x\"\n", "section belongs to the form ini"},
		"a split of elements":           {file + "[save.mods]\nin = \"s\"\neach = \"$.x\"\nsplit = \",\"\n", "split takes a value apart"},
		"a member by another word":      {file + "[save.mods]\nin = \"s\"\neach = \"$.mods\"\nid = \"@name\"\n", "\"@name\" is neither @key, the key of a member, nor @value"},
		"a key of a part":               {file + "[save.mods]\nin = \"s\"\nat = \"$.mods\"\neach = \"(?P<id>.+)\"\nid = \"@key\"\n", "@key belongs to lists without `at`"},
		"a pattern without its id":      {strings.Replace(file, "json", "lines", 1) + "[save.mods]\nin = \"s\"\neach = \"^mod (.+)$\"\n", "the pattern needs a group (?P<id>…)"},
		"a column that is not there":    {strings.Replace(file, "json", "lines", 1) + "[save.mods]\nin = \"s\"\neach = \"^mod (?P<id>.+)$\"\nversion = \"v\"\n", "the pattern has no group (?P<v>…)"},
		"a folder that is not declared": {file + "[save.mods]\nin = \"s\"\neach = \"$.x\"\nexpects = \"mods\"\n", `there is no folder "mods"`},
		"join of one part":              {file + "[save.field]\nversion = { in = \"s\", at = \"$.v\", join = \".\" }\n", "join stands between several queries"},
		"a field without its query":     {file + "[save.field]\nversion = { in = \"s\" }\n", "needs `at`"},
		"a version as a text":           {file + "[save.field]\nversion = \"1.16.9\"\n", `{ default = "1.16.9" }`},
		"an encoding as people say it":  {strings.Replace(file, "json\"", "text\"\nencoding = \"latin-1\"", 1), `did you mean "latin1"?`},
		"an encoding that is none":      {strings.Replace(file, "json\"", "text\"\nencoding = \"rot13\"", 1), "windows-1252"},
		"an encoding of a database":     {strings.Replace(file, "json\"", "sqlite\"\nencoding = \"utf-8\"", 1), "has no encoding"},
		"patterns of blocks in JSON":    {file + "open = \"x\"\n", "belong to the form blocks"},
		"a condition on another folder": {file + "if = { exists = \"{game}/x\" }\n", "must begin with {save}/"},
		"frames without a length":       {file + "layers = \"framed:raw:u32le,zlib\"\n", "it takes a head with a length and a compression"},
		"an else that is a guess":       {file + "layers = { by = \"0:2\", AB = [], else = \"fine\" }\n", "else is \"damaged\""},
		"a magic of a mod":              {mod + "is = { magic = \"zz\" }\n", "is not HEX@OFFSET"},
		"a path of too many spellings":  {"[save.file.s]\npath = \"" + strings.Repeat("{a,aa}", 20) + "b\"\nform = \"json\"\n", "path"},
		"a path without an end":         {"[save.file.s]\npath = \"" + strings.Repeat("a", 2000) + "\"\nform = \"json\"\n", "path"},
		"a query of all of all":         {file + "[save.field]\nversion = { in = \"s\", at = \"$..a..b\" }\n", "one .. at most"},
		"a pattern that blows up":       {strings.Replace(file, "json", "text", 1) + "[save.field]\nversion = { in = \"s\", at = \"((a{1000}){1000}){1000}\" }\n", "regexp"},
		"a SELECT that writes":          {strings.Replace(file, "json", "sqlite", 1) + "[save.field]\nversion = { in = \"s\", at = \"DELETE FROM a\" }\n", "only one SELECT"},
		"settings of nobody":            {mod + "[mod.settings]\nfiles = [\"{config}/pebble/*.ini\"]\n", "must say once where the mod's {id} stands"},
		"settings by a missing field":   {mod + "[mod.settings]\nfiles = [\"{config}/pebble/{field:number}.ini\"]\n", `there is no [mod.field] "number"`},
	} {
		t.Run(name, func(t *testing.T) {
			d, err := Parse("pebble.toml", []byte(small+c.add))
			require.Error(t, err)
			assert.Nil(t, d)
			assert.Contains(t, err.Error(), c.want)
			assert.Regexp(t, `pebble\.toml:\d+:\d+: `, err.Error())
		})
	}
	for name, c := range map[string]struct{ from, to, want string }{
		"a name that cannot be spelled": {"{name}.sav", "*.gz", `(did you mean "{name}.gz"?)`},
		"a name over folders":           {"{name}.sav", "**/x.sav", "** stands for folders"},
		"a name by a field it has not":  {"{name}.sav", "{field:title}.sav", `there is no [save.field] "title"`},
		"a class that is none":          {"{name}.sav", "{name}[9-1].sav", "is no class of characters"},
	} {
		_, err := Parse("pebble.toml", []byte(strings.Replace(small, c.from, c.to, 1)))
		assert.ErrorContains(t, err, c.want, name)
	}
}

// TestNamesWithWildcardsAndFields recognises and spells names.
func TestNamesWithWildcardsAndFields(t *testing.T) {
	n, err := ParseName("save[1-5]?.{name}")
	require.NoError(t, err)
	for name, want := range map[string]bool{"save3x.a": true, "save6x.a": false, "save3.a": false} {
		_, ok := n.Match(name, false)
		assert.Equal(t, want, ok, name)
	}
	n, err = ParseName("{field:title}-{field:turn}.gz")
	require.NoError(t, err)
	captures, ok := n.Match("Old Name-12.gz", false)
	require.True(t, ok)
	spelled, ok := n.Spell(n.WithFields(captures, func(id string) string { return map[string]string{"title": "A/B: C", "turn": "13"}[id] }))
	require.True(t, ok)
	assert.Equal(t, "A_B_ C-13.gz", spelled, "what no file may be called is not in it")
	_, ok = n.Spell(n.WithFields(captures, func(string) string { return "" }))
	assert.False(t, ok, "a field that is not there spells nothing")
}
