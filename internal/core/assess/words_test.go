package assess_test

import (
	"archive/zip"
	"bytes"
	"compress/zlib"
	"database/sql"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	_ "modernc.org/sqlite" // for saves that are databases
)

// framed packs pieces, each behind its length packed and unpacked.
func framed(pieces ...string) string {
	var b bytes.Buffer
	for _, p := range pieces {
		var packed bytes.Buffer
		z := zlib.NewWriter(&packed)
		_, _ = z.Write([]byte(p)) // a buffer takes all
		_ = z.Close()
		_ = binary.Write(&b, binary.LittleEndian, uint32(packed.Len()))
		_ = binary.Write(&b, binary.LittleEndian, uint32(len(p)))
		b.Write(packed.Bytes())
	}
	return b.String()
}

func zipped(entries ...string) string {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i < len(entries); i += 2 {
		w, err := z.Create(entries[i])
		if err == nil {
			_, err = w.Write([]byte(entries[i+1]))
		}
		if err != nil {
			panic(err)
		}
	}
	_ = z.Close() // a buffer takes all
	return b.String()
}

// database is a SQLite database that statements make.
func database(statements ...string) string {
	dir, err := os.MkdirTemp("", "ostrov-case-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "d")
	db, err := sql.Open("sqlite", path)
	for _, s := range statements {
		if err == nil {
			_, err = db.Exec(s)
		}
	}
	if err == nil {
		err = db.Close()
	}
	if err != nil {
		panic(err)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		panic(err)
	}
	return string(data)
}

const (
	jsonList = "each = \"$.mods[*]\"\nid = \"$.id\""
	emptied  = `{"v": "1.0", "mods": []}`
)

func inJSON(list, more string) string { return saved("json", `"$.v"`, list, more) }

// ofFolder makes the save of a description a folder with the file head.
func ofFolder(said string) string {
	return strings.NewReplacer(`unit   = "file"`, `unit   = "folder"`, `path = "."`, `path = "head"`).Replace(said)
}

// with puts a field beside the version.
func with(said, fieldLine string) string {
	return strings.Replace(said, "[save.mods]", fieldLine+"\n[save.mods]", 1)
}

// wordCases are those of the words by which saves are read.
func wordCases() []verdictCase {
	var all []verdictCase
	add := func(cases ...verdictCase) { all = append(all, cases...) }
	pair := func(name, said, healthy, bad string, want string) {
		add(verdictCase{name: name, save: healthy, said: said, mods: []string{"fern"}}, verdictCase{name: name + ": not", save: bad, said: said, mods: []string{"fern"}, want: []string{want}})
	}
	ini := saved("ini", `"v"`, "section = \"Mods\"\nid = \"@key\"\non = \"on\"", "")
	pair("a section of an INI", ini, "v = 1.0\n[Mods]\nfern = on\nmoss = off\n", "v = 1.0\n[Mods]\nfern = on\nmoss = on\n", "mod-missing")
	add(verdictCase{name: "a section that is there and empty", save: "v = 1.0\n[Mods]\n[Other]\nx = on\n", said: ini},
		verdictCase{name: "a section that is not there", save: "v = 1.0\n[Others]\nfern = on\n", said: ini, want: []string{"mods-unknown"}})
	pair("the value of a line", saved("ini", `"v"`, "section = \"Mods\"\nid = \"@value\"", ""), "v = 1.0\n[Mods]\n1 = fern\n", "v = 1.0\n[Mods]\n1 = fern\n2 = moss\n", "mod-missing")
	pair("keys without a section", saved("ini", `"v"`, "each = \"mod_(?P<id>.+)\"\nempty = \"v\"", ""), "v = 1.0\nmod_fern = 1\n", "v = 1.0\nmod_fern = 1\nmod_moss = 1\n", "mod-missing")
	add(verdictCase{name: "keys without a section and none of them", save: "v = 1.0\nmods_fern = 1\n", said: saved("ini", `"v"`, "each = \"mod_(?P<id>.+)\"", ""), want: []string{"mods-unknown"}})

	object := inJSON("each = \"$.mods\"\nid = \"@key\"\non = \"true\"", "")
	pair("an object by its keys", object, `{"v": "1.0", "mods": {"fern": true, "moss": false}}`, `{"v": "1.0", "mods": {"fern": true, "moss": true}}`, "mod-missing")
	add(verdictCase{name: "an object without keys", save: `{"v": "1.0", "mods": {}}`, said: object}, verdictCase{name: "no object", save: `{"v": "1.0"}`, said: object, want: []string{"mods-unknown"}})
	pair("an object of values", inJSON("each = \"$.mods\"\nid = \"@value\"", ""), `{"v": "1.0", "mods": {"1": "fern"}}`, `{"v": "1.0", "mods": {"1": "moss"}}`, "mod-missing")
	pair("an array of words that count", inJSON("each = \"$.mods[*]\"\nid = \"$\"\non = \"[a-z]+\"", ""), `{"v": "1.0", "mods": ["fern", "X"]}`, `{"v": "1.0", "mods": ["fern", "moss"]}`, "mod-missing")

	mapped := inJSON("each = \"$.mods[*]\"\nid = { at = \"$.n\", map = { 1 = \"fern\", 2 = \"moss\" } }", "")
	pair("a column with a map", mapped, `{"v": "1.0", "mods": [{"n": 1}]}`, `{"v": "1.0", "mods": [{"n": 2}]}`, "mod-missing")
	add(verdictCase{name: "a column that the map does not have", save: `{"v": "1.0", "mods": [{"n": 3}]}`, said: mapped, mods: []string{"fern"}, want: []string{"mods-unknown"}})
	pair("a column in base64", inJSON("each = \"$.mods[*]\"\nid = { at = \"$\", as = \"base64\" }", ""), `{"v": "1.0", "mods": ["ZmVybg=="]}`, `{"v": "1.0", "mods": ["bW9zcw=="]}`, "mod-missing")
	parts := strings.Replace(ofFolder(strings.Replace(inJSON("each = \"$.mods[*]\"\nid = \"$\"", ""), "[save.is]", "[save.file.part]\npath = \"part*.json\"\nform = \"json\"\n[save.is]", 1)), "[save.mods]\nin = \"head\"", "[save.mods]\nin = \"part\"", 1)
	add(verdictCase{name: "lists in all files of a glob", save: emptied, more: map[string]string{"part1.json": `{"mods": ["fern"]}`, "part2.json": `{"mods": []}`}, said: parts, mods: []string{"fern"}},
		verdictCase{name: "a list in the second file of a glob", save: emptied, more: map[string]string{"part1.json": `{"mods": ["fern"]}`, "part2.json": `{"mods": ["moss"]}`}, said: parts, mods: []string{"fern"}, want: []string{"mod-missing"}},
		verdictCase{name: "a file of a glob that is cut", save: emptied, more: map[string]string{"part1.json": `{"mods": ["fern"]}`, "part2.json": `{"mods": [`}, said: parts, mods: []string{"fern"}, want: []string{"damaged"}})

	pair("a version in two parts", saved("json", "[\"$.major\", \"$.minor\"], join = \".\"", jsonList, ""), `{"major": 1, "minor": 0, "mods": []}`, `{"major": 2, "minor": 0, "mods": []}`, "no-rule")
	pair("a version that is mapped", saved("json", "\"$.v\", map = { 17 = \"1.0\", 18 = \"1.1\" }", jsonList, ""), `{"v": 17, "mods": []}`, `{"v": 18, "mods": []}`, "no-rule")
	add(verdictCase{name: "a version that the map does not have", save: `{"v": 19, "mods": []}`, said: saved("json", "\"$.v\", map = { 17 = \"1.0\" }", jsonList, ""), want: []string{"version unknown"}})
	both := "version = { in = \"release\", at = \"(.+)\", map = { \"1.0\" = \"A\", \"2.0\" = \"B\" } }\n[versions]\norder = \"list\"\nlist = [\"A\", \"B\"]\n"
	for name, c := range map[string]struct {
		v    int
		want []string
	}{"mapped on both sides": {17, nil}, "mapped on both sides: newer": {18, []string{"save-newer"}}} {
		add(verdictCase{name: name, top: both, save: fmt.Sprintf(`{"v": %d, "mods": []}`, c.v), said: saved("json", "\"$.v\", map = { 17 = \"A\", 18 = \"B\" }", jsonList, ""),
			rules: "[[rule]]\nsave = \"newer\"\nsays = \"unfit\"\neffect = \"stops\"\n", want: c.want})
	}
	pair("a version with words for people", saved("json", "\"$.v\", show = { \"1.0\" = \"spring\" }", jsonList, ""), emptied, strings.Replace(emptied, "1.0", "spring", 1), "no-rule")

	format := with(inJSON(jsonList, ""), "format = { in = \"head\", at = \"$.f\" }\nscript = { in = \"head\", at = \"$.s\" }\nbuild = { in = \"head\", at = \"$.b\" }")
	rule := func(about string) string {
		return fmt.Sprintf("[[rule]]\n%s\nsays = \"unfit\"\neffect = \"stops\"\n", about)
	}
	for name, c := range map[string]struct{ rule, bad string }{
		"a rule on the format":         {`format = "> 40"`, `"f": 41`},
		"a rule on a field":            {`field = { id = "script", is = "> 2" }`, `"s": 3`},
		"a rule on a field's text":     {`field = { id = "script", is = "hard" }`, `"s": "hard"`},
		"a rule on the save's build":   {`build = ">= 7"`, `"b": 8`},
		"a rule on format and version": {"format = \"> 40\"\nsave = \"1.0\"", `"f": 41`},
	} {
		add(verdictCase{name: name, save: `{"v": "1.0", "mods": [], "f": 40, "s": 2, "b": 6}`, said: format, rules: rule(c.rule)},
			verdictCase{name: name + ": matches", save: `{"v": "1.0", "mods": [], ` + c.bad + `}`, said: format, rules: rule(c.rule), want: []string{"format-differs"}},
			verdictCase{name: name + ": not there", save: `{"v": "1.0", "mods": []}`, said: format, rules: rule(c.rule)})
	}

	latin := saved("text", `"v ([0-9.]+)"`, "each = \"mod (?P<id>\\\\S+);\"\nempty = \"(none)\"", "encoding = \"windows-1252\"")
	add(verdictCase{name: "a text in its encoding", save: "v 1.0 mod f\xe9rn;", said: latin, mods: []string{"férn"}},
		verdictCase{name: "a text in another encoding", save: "v 1.0 mod f\xe9rn;", said: strings.Replace(latin, "windows-1252", "windows-1251", 1), mods: []string{"férn"}, want: []string{"mod-missing"}})
	hex := func(as string) string {
		return saved("text", "\"(?s)HEAD(..)\", as = \""+as+"\"", "each = \"mod (?P<id>[a-z]+)\"\nempty = \"(none)\"", "encoding = \"binary\"")
	}
	top := "version = { default = \"01ff\" }\n"
	add(verdictCase{name: "bytes as hex", top: top, save: "HEAD\x01\xff none", said: hex("hexbe")}, verdictCase{name: "bytes as hex in the other order", top: top, save: "HEAD\xff\x01 none", said: hex("hexle")},
		verdictCase{name: "bytes as hex in the wrong order", top: top, save: "HEAD\xff\x01 none", said: hex("hexbe"), want: []string{"no-rule"}})

	optional := ofFolder(strings.Replace(inJSON(jsonList, ""), "[save.is]", "[save.file.map]\npath = \"map.gz\"\nform = \"text\"\nlayers = \"gzip\"\nif = { absent = \"{save}/map.db\" }\n[save.file.db]\npath = \"map.db\"\nform = \"bytes\"\noptional = true\n[save.is]", 1))
	add(verdictCase{name: "a file that is wanted and there", save: emptied, more: map[string]string{"map.gz": packed("map")}, said: optional},
		verdictCase{name: "a file that is not wanted", save: emptied, more: map[string]string{"map.db": "x"}, said: optional},
		verdictCase{name: "a file that is wanted and missing", save: emptied, more: map[string]string{"note": "x"}, said: optional, want: []string{"missing file"}},
		verdictCase{name: "a file that is not wanted and damaged", save: emptied, more: map[string]string{"map.db": "x", "map.gz": "no gzip"}, said: optional, want: []string{"damaged"}})

	frames := inJSON(jsonList, `layers = "framed:length:u32le raw:u32le,zlib"`)
	whole := framed(emptied[:10], emptied[10:20], emptied[20:])
	add(verdictCase{name: "packed pieces", save: whole, said: frames}, verdictCase{name: "one packed piece", save: framed(emptied), said: frames},
		verdictCase{name: "packed pieces, the last is missing", save: framed(emptied[:10], emptied[10:20]), said: frames, want: []string{"damaged"}},
		verdictCase{name: "packed pieces, cut in one", save: whole[:len(whole)-3], said: frames, want: []string{"damaged"}},
		verdictCase{name: "packed pieces, a bit flipped", save: flipped(whole, 2), said: frames, want: []string{"damaged"}},
		verdictCase{name: "packed pieces, a length that lies", save: flipped(whole, len(whole)-4), said: frames, want: []string{"damaged"}})

	tagged := func(more string) string {
		return inJSON(jsonList, `layers = { by = "0:4", ZIP0 = ["skip:4", "gzip"], RAW0 = ["skip:4"]`+more+` }`)
	}
	add(verdictCase{name: "a tag that is listed", save: "RAW0" + emptied, said: tagged("")}, verdictCase{name: "another tag that is listed", save: "ZIP0" + packed(emptied), said: tagged("")},
		verdictCase{name: "a tag that is not listed", save: "ZST1" + emptied, said: tagged(""), want: []string{"not-understood"}},
		verdictCase{name: "a tag that is not listed, where there are no others", save: "ZST1" + emptied, said: tagged(`, else = "damaged"`), want: []string{"damaged"}})

	entry := inJSON(jsonList, `layers = "zip:*/head.json"`)
	add(verdictCase{name: "an entry of a zip", save: zipped("run/head.json", emptied, "run/map.bin", "x"), said: entry},
		verdictCase{name: "a zip without the entry", save: zipped("run/heads.json", emptied), said: entry, want: []string{"damaged"}},
		verdictCase{name: "a zip with a mod that is missing", save: zipped("run/head.json", `{"v": "1.0", "mods": [{"id": "moss"}]}`), said: entry, want: []string{"mod-missing"}})

	table := saved("sqlite", `"SELECT v FROM head"`, "each = \"SELECT id FROM mods\"", "")
	make := []string{"CREATE TABLE head (v TEXT)", "INSERT INTO head VALUES ('1.0')", "CREATE TABLE mods (id TEXT)"}
	pair("a database", table, database(make...), database(append(make, "INSERT INTO mods VALUES ('moss')")...), "mod-missing")
	large := database(append(make, "CREATE TABLE blob (b BLOB)", "INSERT INTO blob VALUES (zeroblob(100000))")...)
	add(verdictCase{name: "a database without the table", save: database(make[:2]...), said: table, want: []string{"mods-unknown"}},
		verdictCase{name: "a large database", save: large, said: table},
		verdictCase{name: "a large database that was cut", save: large[:20<<10], said: table, want: []string{"damaged"}},
		verdictCase{name: "no database at all", save: strings.Repeat("x", 4096), said: table, want: []string{"damaged"}})

	beside := strings.Replace(inJSON(jsonList, `layers = "gzip"`), "name   = ", "companions = [\"*.png\"]\nname   = ", 1)
	add(verdictCase{name: "a save with its companion", save: packed(emptied), more: map[string]string{"run.png": "x"}, said: beside},
		verdictCase{name: "a damaged save with its companion", save: flipped(packed(emptied), 6), more: map[string]string{"run.png": "x"}, said: beside, want: []string{"damaged"}},
		verdictCase{name: "a save without its companion", save: packed(emptied), said: beside, want: []string{"missing file"}},
		verdictCase{name: "a save without one that it need not have", save: packed(emptied), said: strings.Replace(beside, `["*.png"]`, `{ files = ["*.png"], need = false }`, 1)})
	return all
}
