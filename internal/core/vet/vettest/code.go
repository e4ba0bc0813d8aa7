package vettest

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"database/sql"
	"encoding/base64"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/stretchr/testify/require"

	"ostrov/internal/core/unpack/unpacktest"
)

// wide is a text in UTF-16.
func wide(text string) string {
	b := "\xff\xfe"
	for _, c := range []byte(text) {
		b += string([]byte{c, 0})
	}
	return b
}

// far is a text that stands behind more than is looked at first.
var far = strings.Repeat(" ", 70_000)

// code are formats that run code when a game loads them, whatever they are called and wherever in the file it stands. Each is in a save, packed in
// two ways.
func (m *Maker) code() {
	hostile, builds := "dangerous", "runs-code"
	for _, c := range []struct{ about, want, name, content string }{
		{"pickle of protocol 0", hostile, "a", "cposix\nsystem\np0\n(Vtrue\np1\ntp2\nRp3\n."},
		{"pickle without a mark", hostile, "a", "]I1\na0cos\nsystem\n(S'x'\ntR."},
		{"pickle that begins with a text", hostile, "a", "S'x'\n0(cos\nsystem\nS'x'\no."},
		{"pickle that is cut", hostile, "a", "cos\nsystem\n(S'x'\ntR"},
		{"pickle with a name from the memo", hostile, "a", "\x80\x04\x8c\x02os\x94\x8c\x06system\x9400h\x00h\x01\x93\x8c\x01x\x85R."},
		{"pickle with a name made by a call", hostile, "a", "\x80\x04cbuiltins\nstr\n\x8c\x02os\x85R\x8c\x06system\x93\x8c\x01x\x85R."},
		{"pickle of a method caller", hostile, "a", "\x80\x04coperator\nmethodcaller\n\x8c\x06system\x8c\x01x\x86Rcos\nsystem\n\x85R."},
		{"pickle that runs a module", hostile, "a", "\x80\x02crunpy\nrun_path\nX\x01\x00\x00\x00x\x85R."},
		{"pickle by getattr", hostile, "a", "\x80\x02c__builtin__\ngetattr\nc__builtin__\nstr\nX\x01\x00\x00\x00x\x86R."},
		{"pickle of two callables", hostile, "a", "\x80\x04cgame\nfind\n\x8c\x01x\x85R\x8c\x01y\x85R."},
		{"pickle behind a header", hostile, "a", "SAVE\x00\x01\x80\x04\x8c\x02os\x8c\x06system\x93\x8c\x01x\x85R."},
		{"pickle behind a header, protocol 0", hostile, "a", "SAVE 12\ncos\nsystem\n(S'x'\ntR."},
		{"packed pickle", hostile, "a.gz", gz("\x80\x02cos\nsystem\nX\x01\x00\x00\x00x\x85R.")},
		{"pickle of the game's objects", builds, "a", "\x80\x02cgame\nWorld\n)\x81}b."},
		{"pickle with the game's own ids", builds, "a", "\x80\x02X\x01\x00\x00\x00xQ."},
		{"pickle with an extension", builds, "a", "\x80\x02\x82\x01."},
		{"Lua under another ending", builds, "a.dat", "save = {}\nos.execute('x')\n"},
		{"Lua function under no ending", builds, "a", "function load_game(s)\n  return s\nend\n"},
		{"Lua in a table", builds, "a.sav", "return { a = 1, b = (function() return 2 end)() }"},
		{"Lua called by its method", builds, "a", "local p = player\np:give('x')\n"},
		{"Lua by a loader", builds, "a", "return loadstring('x')()"},
		{"just-in-time Lua", builds, "a", "\x1bLJ\x02"},
		{".NET objects with another root", builds, "a", "\x00\x2a\x00\x00\x00\xff\xff\xff\xff\x01\x00\x00\x00\x00\x00\x00\x00\x0c\x02\x00\x00\x00"},
		{"Ruby objects", builds, "a", "\x04\x08o:\x09Game\x06:\x07@xi\x06"},
		{"Ruby objects in a list", builds, "a", "\x04\x08[\x07i\x06u:\x09Game\x06x"},
		{"PHP objects", builds, "a", `O:4:"Game":1:{s:1:"x";i:1;}`},
		{"YAML of Python", builds, "a.yml", "a: !!python/object/apply:os.system [x]\n"},
		{"YAML of Python by its whole tag", builds, "a.yml", "a: !<tag:yaml.org,2002:python/object/new:x> [x]\n"},
		{"YAML of Ruby", builds, "a", "--- !ruby/object:Game\na: 1\n"},
		{"YAML of Java", builds, "a", "!!javax.script.ScriptEngineManager []\n"},
		{"JSON with types", builds, "a.json", `{"$type": "Game.World, Game"}`},
		{"JSON with types, far on", builds, "a.json", `{"a":` + far + `1, "$type":"Game.World, Game"}`},
		{"JSON of Python", builds, "a.json", `{"a": {"py/reduce": [{"py/type": "os.system"}]}}`},
		{"JSON with classes", builds, "a.json", `{"@class": "org.game.World"}`},
		{"JSON with functions", builds, "a.json", `{"a": "_$$ND_FUNC$$_function (){}()"}`},
		{"engine resource with a script", builds, "a.tres", "[gd_resource type=\"Resource\"]\n[sub_resource type=\"GDScript\" id=1]\nscript/source = \"x\"\n"},
		{"engine resource with a foreign script", builds, "a.tres", "[gd_scene format=3]\n[ext_resource path=\"user://x.gd\" type=\"Script\" id=1]\n"},
		{"binary engine resource with a script", builds, "a.res", "RSRC\x00\x00\x00\x00\x0cGDScript\x00script/source\x00"},
		{"XML entities far behind", builds, "a.xml", "<?xml version='1.0'?><!--" + far + "--><!DOCTYPE a [<!ENTITY b 'c'>]><a/>"},
		{"XML entities without a declaration", builds, "a.xml", "<!DOCTYPE a [<!ENTITY % b SYSTEM 'file:///x'>]><a/>"},
		{"XML entities in UTF-16", builds, "a.xml", wide("<?xml version='1.0'?><!DOCTYPE a [<!ENTITY b 'c'>]><a/>")},
		{"pickle in Base64 in JSON", hostile, "a.json", `{"a": "` + base64.StdEncoding.EncodeToString([]byte("\x80\x02cos\nsystem\nX\x01\x00\x00\x00x\x85R.")) + `"}`},
		{"packed pickle in Base64 in XML", hostile, "a.xml", "<a><b>" + base64.StdEncoding.EncodeToString([]byte(gz("cos\nsystem\n(S'x'\ntR."))) + "</b></a>"},
		{"old pickle as Base64, far on", hostile, "a.ini", "[a]\nb=" + far + "\nc=" + base64.URLEncoding.EncodeToString([]byte("cposix\nsystem\n(S'x'\ntR.")) + "\n"},
		{"program in Base64 in JSON", hostile, "a.json", `{"a": "` + base64.StdEncoding.EncodeToString([]byte("\x7fELF\x02\x01\x01"+strings.Repeat("\x00", 60))) + `"}`},
		{".NET objects in Base64 in JSON", builds, "a.json", `{"a": ["AAEAAAD\/\/\/\/\/AQAAAAAAAAAMAgAAAARHYW1l"]}`},
		{".NET objects as Base64", builds, "a", "AAEAAAD/////AQAAAAAAAAAMAgAAAARHYW1l\n"},
		{"Java objects in Base64 in YAML", builds, "a.yml", "a: 1\nb: rO0ABXNyABFqYXZhLnV0aWwuSGFzaE1hcA==\n"},
		{"JSON with types in UTF-16", builds, "a.json", wide(`{"$type": "Game.World, Game"}`)},
		{"Lua in UTF-16", builds, "a", wide("save = {}\nos.execute('x')\n")},
		{"Lua that loads", builds, "a", "loadstring('x')()\n"},
		{"Lua that runs a file", builds, "a", "dofile'x'\n"},
		{"registry in UTF-16", hostile, "a.txt", wide("Windows Registry Editor Version 5.00\r\n")},
		{"compiled Python", hostile, "a", "\xcb\x0d\x0d\x0a\x00\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00\xe3\x00"},
		{"compiled script of an engine", hostile, "a", "GDSC\x0d\x00\x00\x00"},
		{"pack of an engine", builds, "a", "GDPC\x02\x00\x00\x00"},
		{"XML entities behind literals", builds, "a.xml", "<!DOCTYPE a SYSTEM '><!--' [<!NOTATION n SYSTEM ']><!--'><!ENTITY b 'c'>]><a/>"},
	} {
		inside := append(m.Slot("slot_05"), unpacktest.File{"slot_05/" + c.name, c.content})
		m.add(c.about+", zip", "a.zip", m.Zip(inside), c.want)
		m.add(c.about+", tar.zst", "a.tar.zst", unpacktest.Packed(m.t, "zst", unpacktest.Tar(m.t, false, inside...)), c.want)
	}
}

// neighbours are harmless files that are nearly what code makes of it.
func (m *Maker) neighbours() {
	for about, f := range map[string]unpacktest.File{
		"pickle of protocol 0":          {"a", "(dp0\nVa\np1\nI1\ns."},
		"pickle of protocol 1":          {"a", "}q\x00(X\x01\x00\x00\x00aq\x01K\x01u."},
		"pickle with names as texts":    {"a", "\x80\x04}(\x8c\x02os\x94\x8c\x06system\x94u."},
		"Lua data under another ending": {"a.dat", "save = { a = 1, [2] = 'f()' }\nreturn save\n"},
		"Lua data of many lines":        {"a", "-- made by the game\nworld = {}\nworld.name = \"x\"\nworld[1] = { 2, -3 }\n"},
		"settings with brackets":        {"a.cfg", "color = rgb(1, 2, 3)\ntitle = town\n"},
		"a note":                        {"a.txt", "Backup (2)\n"},
		"prose":                         {"a.txt", "The lamp (see below) burns; don't put it out.\n\nAnd require('x') is Lua, they say.\n"},
		"Ruby data":                     {"a", "\x04\x08{\x06:\x06aI\"\x06b\x06:\x06ET"},
		"PHP data":                      {"a", `a:1:{s:1:"x";i:1;}`},
		"YAML":                          {"a.yml", "a: !!str 1\nb: [it works!, 2]\n"},
		"JSON that talks of types":      {"a.json", `{"type": "Game.World, Game", "$type": 3}`},
		"engine resource":               {"a.tres", "[gd_resource type=\"Resource\"]\n[ext_resource type=\"Script\" path=\"res://save.gd\" id=1]\n"},
		"picture in Base64":             {"a.json", `{"a": "` + base64.StdEncoding.EncodeToString([]byte("\x89PNG\r\n\x1a\n"+strings.Repeat("\x00", 60))) + `"}`},
		"data pickle in Base64":         {"a.json", `{"a": "` + base64.StdEncoding.EncodeToString([]byte("\x80\x04}(\x8c\x02os\x94\x8c\x06system\x94u.")) + `"}`},
		"packed rows in Base64":         {"a.xml", "<a>" + base64.StdEncoding.EncodeToString([]byte(gz(strings.Repeat("a row of lamps\n", 5000)))) + "</a>"},
		"words that begin as code does": {"a.json", `{"a": "rO0ABisAWordOfManyLettersAndNoMore", "b": "AAEAAADAAAAAAAAAAAAAAAAAAAAAAAAA"}`},
		"JSON in UTF-16":                {"a.json", wide(`{"type": "Game.World, Game"}`)},
		"numbers of 16 bits":            {"a", strings.Repeat("A\x00(\x00B\x00", 3000)},
		"XML with a DOCTYPE":            {"a.xml", "<!DOCTYPE html PUBLIC 'a' 'b'><html>&lt;!ENTITY</html>"},
		"XML with a long comment":       {"a.xml", "<?xml version='1.0'?><!--" + far + "--><a/>"},
		"XML in UTF-16":                 {"a.xml", wide("<?xml version='1.0'?><a/>")},
		"zeros, a thousandfold":         {"a.gz", gz(strings.Repeat("\x00", 30<<20))},
		"zeros in zstd":                 {"a.zst", zeros(m.t, 100<<20)},
		"xz with a usual dictionary":    {"a.xz", string(unpacktest.Packed(m.t, "xz", []byte("a row")))},
	} {
		inside := append(m.Slot("slot_05"), unpacktest.File{"slot_05/" + f[0], f[1]})
		m.add("harmless: "+about, "a.zip", m.Zip(inside))
		m.add("harmless: "+about+", 7z", "a.7z", unpacktest.SevenZip(inside...))
		m.add("harmless: "+about+", tar.gz", "a.tar.gz", unpacktest.Tar(m.t, true, inside...))
	}
	const another = "UPDATE about SET value = value || ' again' WHERE key = 'title'"
	for about, more := range map[string][]string{
		"a world":               nil,
		"a world with an index": {"CREATE INDEX i ON depots (id)"},
		"a world with a view":   {"CREATE VIEW v AS SELECT id, count(*) AS n FROM depots GROUP BY id"},
	} {
		m.add(about, "b.tramworld", m.database(m.world, append(more, another)...))
	}
	plain := m.database(nil, "CREATE TABLE depots (id TEXT)", "CREATE TABLE squares (at INTEGER)", "CREATE VIEW v AS SELECT id FROM depots WHERE id IN (SELECT at FROM squares)")
	m.add("a database in a save", "a.zip", m.Zip(m.Slot("slot_05"), unpacktest.File{"slot_05/w.db", string(plain)}))
	m.add("a database with a log beside it", "a.zip", m.Zip(m.Slot("slot_05"), unpacktest.File{"slot_05/w.db", string(plain)}, unpacktest.File{"slot_05/w.db-wal", ""}))
}

// database is a database, changed.
func (m *Maker) database(data []byte, statements ...string) []byte {
	file := filepath.Join(m.t.TempDir(), "w.db")
	if data != nil {
		require.NoError(m.t, os.WriteFile(file, data, 0o600))
	}
	db, err := sql.Open("sqlite", file)
	require.NoError(m.t, err)
	for _, s := range statements {
		_, err := db.Exec(s)
		require.NoError(m.t, err, s)
	}
	require.NoError(m.t, db.Close())
	data, err = os.ReadFile(file)
	require.NoError(m.t, err)
	return data
}

// databases are databases with SQL that runs when the game reads or writes, and damaged ones: as the save of a game, and of none.
func (m *Maker) databases() {
	for about, statements := range map[string][]string{
		"a trigger": {"CREATE TRIGGER t AFTER INSERT ON depots BEGIN DELETE FROM squares; END"},
		"a trigger whose row says otherwise": {"CREATE TRIGGER t AFTER INSERT ON depots BEGIN DELETE FROM squares; END", "PRAGMA writable_schema = 1",
			"UPDATE sqlite_schema SET type = 'TRIGGER' WHERE name = 't'"},
		"a trigger behind comments":   {"CREATE /* a */ TRIGGER -- b\n t AFTER INSERT ON depots BEGIN DELETE FROM squares; END"},
		"a view that calls":           {"CREATE VIEW v AS SELECT hex(zeroblob(10)) AS a"},
		"a view that goes on forever": {"CREATE VIEW v AS WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT i FROM n"},
	} {
		m.add(about, "b.tramworld", m.database(m.world, append(statements, "UPDATE about SET value = value || ' again' WHERE key = 'title'")...), "runs-code")
		other := string(m.database(nil, append([]string{"CREATE TABLE depots (id TEXT)", "CREATE TABLE squares (at INTEGER)"}, statements...)...))
		m.add(about+", in another save", "a.zip", m.Zip(m.Slot("slot_05"), unpacktest.File{"slot_05/w.db", other}), "runs-code")
		m.add(about+", packed", "a.zip", m.Zip(m.Slot("slot_05"), unpacktest.File{"slot_05/w.db.gz", gz(other)}), "runs-code")
	}
	m.add("a cut world", "b.tramworld", m.world[:len(m.world)/2], "damaged")
	whole := m.database(nil, "CREATE TABLE a (b)", "CREATE TABLE c (d)")
	m.add("a cut database in another save", "a.zip", m.Zip(m.Slot("slot_05"), unpacktest.File{"slot_05/w.db", string(whole[:len(whole)-100])}), "damaged")
	m.add("a cut database of no game", "a.db", append([]byte(nil), whole[:len(whole)-100]...), "damaged", "not-a-save")
}

// repeated is one byte, without end.
type repeated byte

func (r repeated) Read(p []byte) (int, error) {
	for i := range p {
		p[i] = byte(r)
	}
	return len(p), nil
}

// zipOf is a zip of one file that is not held in memory.
func (m *Maker) zipOf(name string, content io.Reader) string {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	f, err := w.Create(name)
	require.NoError(m.t, err)
	_, err = io.Copy(f, content)
	require.NoError(m.t, err)
	require.NoError(m.t, w.Close())
	return b.String()
}

// longTitle is a voyage whose title has so many letters more, packed.
func (m *Maker) longTitle(n int64) string {
	before, after, ok := strings.Cut(m.voyage, `"title": "`)
	require.True(m.t, ok)
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, err := io.Copy(z, io.MultiReader(strings.NewReader(before+`"title": "`), io.LimitReader(repeated('A'), n), strings.NewReader(after)))
	require.NoError(m.t, err)
	require.NoError(m.t, z.Close())
	return b.String()
}

// sizes are downloads that take far more than they are.
func (m *Maker) sizes() {
	bomb := m.zipOf("zeros", io.LimitReader(repeated(0), 600<<20))
	m.add("a bomb in a zip", "a.zip", []byte(bomb), "dangerous", "not-a-save")
	m.add("a bomb in a zip in a zip", "a.zip", m.Zip(append(m.Slot("x/slot_05"), unpacktest.File{"b.zip", bomb})), "dangerous", "litter")
	m.add("a bomb three archives deep", "a.zip", m.Zip(files{{"b.zip", string(m.Zip(files{{"c.zip", string(m.Zip(files{{"d.zip", bomb}}))}}))}}), "dangerous", "not-a-save")
	m.add("a bomb in a layer of a layer", "a.zip", m.Zip(m.Slot("slot_05"), unpacktest.File{"slot_05/b", gz(zeros(m.t, 600<<20))}), "dangerous")
	five := "x"
	for range 6 {
		five = gz(five)
	}
	m.add("packed in itself again and again", "a.zip", m.Zip(m.Slot("slot_05"), unpacktest.File{"slot_05/b", five}), "not-looked-into")
	m.add("a text of 300 MB in a save", "a.zip", m.Zip(files{{"slot_05/voyage.json.gz", m.longTitle(300 << 20)}, {"slot_05/chart.bin", "CHART"}}), "not-read")
	m.add("a save nested too deep", "a.zip", m.Zip(files{{"slot_05/voyage.json.gz", gz(strings.TrimRight(m.voyage, " \n}") + `, "x": ` + strings.Repeat("[", 2_000_000))}, {"slot_05/chart.bin", "CHART"}}), "not-read")
	many := make(files, 30_000)
	for i := range many {
		many[i] = unpacktest.File{strings.Repeat("d/", i%30) + "e" + string(rune('a'+i%26)) + strings.Repeat("x", i%200) + string(rune(0x4e00+i%20000)), ""}
	}
	m.add("many empty files", "a.zip", m.Zip(many), "not-a-save")
}
