package doc

import (
	"bytes"
	"compress/gzip"
	"context"
	"database/sql"
	"fmt"
	"os"
	"ostrov/internal/core/wrap"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/unicode"
)

const content = `{"title":"Gannet Rock","version":1.10,"mods":[{"id":"a","v":"1"},{"id":"b"}],"deep":{"on":true,"none":null}}`

func TestBlocks(t *testing.T) {
	const brackets = "# a comment\n[line]\n  name = Harbour Loop\n  [stop]\n  at=4\n  [/stop]\n[stop]\nat=9 [x]\n[/stop]\n[/line]\n[line]\nname=\"two \"\"quoted\"\"\nlines\"\n[/line]\n"
	const braces = `depot { name = "Old Yard" trams = { 12 14 } } depot { name=Pier crew=3 }` + "\nversion = 2.1.0\n"
	const own = "begin line\nset name to Harbour Loop\nbegin stop\nend\nend\n"
	patterns := BlockPatterns{Open: `^begin (?P<name>\w+)`, Close: `^end$`, Pair: `^set (?P<key>\w+) to (?P<value>.*)`}
	for _, c := range []struct {
		text, query, want string
		patterns          BlockPatterns
	}{
		{brackets, "$.line[0].name", "Harbour Loop", BlockPatterns{}},
		{brackets, "$.line[0].stop[1].at", "9 [x]", BlockPatterns{}},
		{brackets, "$.line[1].name", "two \"quoted\"\nlines", BlockPatterns{}},
		{braces, "$.depot[0].name", "Old Yard", BlockPatterns{}},
		{braces, "$.depot[0].trams[0].words[1]", "14", BlockPatterns{}},
		{braces, "$.depot[1].crew", "3", BlockPatterns{}},
		{braces, "$.version", "2.1.0", BlockPatterns{}},
		{own, "$.line[0].name", "Harbour Loop", patterns},
	} {
		doc, err := Parse([]byte(c.text), Spec{Form: "blocks", Blocks: c.patterns})
		require.NoError(t, err)
		got, ok, err := doc.Value(t.Context(), c.query)
		require.NoError(t, err)
		assert.True(t, ok, c.query)
		assert.Equal(t, c.want, got)
	}
	for _, broken := range []string{"[line]\nname=x", "a { b=1", "[/line]", "}", "[line]\n[/stop]", strings.Repeat("a{", 2*maxDepth)} {
		_, err := Parse([]byte(broken), Spec{Form: "blocks"})
		assert.Error(t, err, broken)
	}
	assert.Error(t, CheckSpec(Spec{Form: "blocks", Blocks: BlockPatterns{Open: "x"}}))
}

func TestChunks(t *testing.T) {
	file := "HEAD\x00\x00\x00\x06\x01\x02name" + "CREW\x00\x00\x00\x0b\xab\xcdAnna\x00\xef\x01B\x00" + "CREW\x00\x00\x00\x00"
	spec := Spec{Form: "chunks", Chunks: ChunkSpec{Chunk: "tag:4 length:u32be", Record: "id:hex2 name:cstr"}}
	require.NoError(t, CheckSpec(spec))
	doc, err := Parse([]byte(file), spec)
	require.NoError(t, err)
	v, ok, err := doc.Value(t.Context(), "HEAD 2:ascii4")
	require.NoError(t, err)
	assert.True(t, ok)
	assert.Equal(t, "name", v)
	crew, err := doc.Each(t.Context(), "CREW")
	require.NoError(t, err)
	require.Len(t, crew, 2)
	v, _, _ = crew[1].Value(t.Context(), "id")
	assert.Equal(t, "ef01", v)
	v, _, _ = crew[0].Value(t.Context(), "name")
	assert.Equal(t, "Anna", v)
	for _, broken := range []string{"HE", "HEAD\xff\xff\xff\xff", file[:len(file)-1]} {
		_, err := Parse([]byte(broken), spec)
		assert.ErrorIs(t, err, wrap.ErrDamaged)
	}
	behind, err := Parse([]byte("\x02IDATabCRC!"), Spec{Form: "chunks", Chunks: ChunkSpec{Chunk: "length:u8 tag:4 data crc:4"}})
	require.NoError(t, err)
	v, _, _ = behind.Value(t.Context(), "IDAT 0:ascii2")
	assert.Equal(t, "ab", v)
	got, err := Splice(spec, []byte(file), "HEAD 2:ascii4", "new")
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(file, "name", "new\x00", 1), string(got))
	_, err = Splice(spec, []byte(file), "NONE 2:ascii4", "new")
	assert.ErrorIs(t, err, wrap.ErrNotWritable)
	assert.Error(t, CheckSpec(Spec{Form: "chunks", Chunks: ChunkSpec{Chunk: "tag:4"}}))
	assert.Error(t, CheckSpec(Spec{Form: "json", Chunks: ChunkSpec{Chunk: "tag:4 length:u8"}}))
}

func TestQueries(t *testing.T) {
	const xmlText = `<bay title="North &amp; South" release="2.1"><cogs><cog id="a"/><cog id="b"/></cogs><name> Pip </name></bay>`
	const iniText = "top = 1\nload_mod_ores = true\nload_mod_wires = mods/wires\nload_mod_off = false\n[Release]\nnumber = 2.1 ; r4\nName=Orchard"
	bin := "HEAD\x02\x01\x00\x00name\x00\x00\x80\x3f"
	for _, c := range []struct {
		form, in, query, want string
		ok                    bool
	}{
		{"json", content, "$.title", "Gannet Rock", true},
		{"json", content, "$.version", "1.10", true},
		{"json", content, "$.deep.on", "true", true},
		{"json", content, "$.deep.none", "", true},
		{"json", content, "$.mods[*].id", "a", true},
		{"json", content, "$.mods[?(@.id == 'a')].v", "1", true},
		{"json", "\xef\xbb\xbf{\"a\":1}", "$.a", "1", true},
		{"xml", xmlText, "/bay/@title", "North & South", true},
		{"xml", xmlText, "/bay/name", "Pip", true},
		{"xml", xmlText, "/bay/cogs/cog/@id", "a", true},
		{"xml", xmlText, "count(/bay/cogs/cog)", "2", true},
		{"xml", xmlText, "/bay/@none", "", false},
		{"ini", iniText, "top", "1", true},
		{"ini", iniText, "Release.number", "2.1 ; r4", true},
		{"ini", iniText, "Release.none", "", false},
		{"text", "Version: 5.6.1\nMore", `^Version: (\S+)$`, "5.6.1", true},
		{"text", "a\nb", `a\nb`, "a\nb", true},
		{"lines", "a\r\nb 2\r\n", `^b (\d)$`, "2", true},
		{"lines", "a\nb", `a\nb`, "", false},
		{"bytes", bin, "0:ascii4", "HEAD", true},
		{"bytes", bin, "4:u32le", "258", true},
		{"bytes", bin, "4:u16be", "513", true},
		{"bytes", bin, "8:cstr", "name", true},
		{"bytes", bin, "-2:hex2", "803f", true},
		{"bytes", bin, "99:u8", "", false},
	} {
		require.NoError(t, CheckQuery(c.form, c.query, false))
		doc, err := Parse([]byte(c.in), Spec{Form: c.form})
		require.NoError(t, err)
		got, ok, err := doc.Value(t.Context(), c.query)
		require.NoError(t, err)
		assert.Equal(t, c.ok, ok, "%s %s", c.form, c.query)
		assert.Equal(t, c.want, got, "%s %s", c.form, c.query)
	}
	for _, c := range []struct{ form, in, each, at, want string }{
		{"json", content, "$.mods[*]", "$.id", "a b"},
		{"xml", xmlText, "/bay/cogs/cog", "@id", "a b"},
		{"ini", iniText, `load_mod_(?P<id>.+)`, "id", "ores wires off"},
		{"ini", iniText, `load_mod_(?P<id>.+)`, ".", "true mods/wires false"},
		{"lines", "a\n#b\nc\n", `^#?(?P<id>\w+)$`, "id", "a b c"},
	} {
		require.NoError(t, CheckQuery(c.form, c.each, true))
		doc, err := Parse([]byte(c.in), Spec{Form: c.form})
		require.NoError(t, err)
		elements, err := doc.Each(t.Context(), c.each)
		require.NoError(t, err)
		var got []string
		for _, e := range elements {
			v, _, err := e.Value(t.Context(), c.at)
			require.NoError(t, err)
			got = append(got, v)
		}
		assert.Equal(t, c.want, strings.Join(got, " "), "%s %s", c.form, c.each)
	}
}

func TestWrongQueriesAreFoundBeforeReading(t *testing.T) {
	for _, c := range [][2]string{
		{"json", "title"}, {"json", "$.a["}, {"json", "$[?("}, {"xml", "//["}, {"text", "("}, {"ini", ""},
		{"bytes", "4"}, {"bytes", "4:u32"}, {"bytes", "x:u8"}, {"bytes", "0:hex0"},
		{"sqlite", "DELETE FROM t"}, {"sqlite", "SELECT 1; DROP TABLE t"}, {"sqlite", "ATTACH 'x' AS y"},
	} {
		assert.Error(t, CheckQuery(c[0], c[1], false), c)
	}
}

func makeSQLite(t testing.TB, statements ...string) []byte {
	path := filepath.Join(t.TempDir(), "a.sqlite")
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	for _, s := range statements {
		_, err := db.Exec(s)
		require.NoError(t, err)
	}
	require.NoError(t, db.Close())
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	return data
}

func TestSQLite(t *testing.T) {
	data := makeSQLite(t, "CREATE TABLE meta(k, v)", "INSERT INTO meta VALUES('version','1.2'),('title','World')")
	fsys := fstest.MapFS{"w.db": {Data: data}, "w.gz": {Data: wrapped(t, "gzip", data)}, "cut.db": {Data: data[:len(data)/2]}, "no.db": {Data: []byte("text")}}
	for name, layers := range map[string]wrap.Layers{"w.db": {}, "w.gz": layersOf(t, "gzip")} {
		doc, err := Open(t.Context(), fsys, name, Spec{Form: "sqlite", Layers: layers}, wrap.DefaultLimits)
		require.NoError(t, err)
		got, ok, err := doc.Value(t.Context(), "SELECT v FROM meta WHERE k='version'")
		require.NoError(t, err)
		assert.True(t, ok)
		assert.Equal(t, "1.2", got)
		rows, err := doc.Each(t.Context(), "SELECT k, v FROM meta ORDER BY k")
		require.NoError(t, err)
		require.Len(t, rows, 2)
		got, _, _ = rows[0].Value(t.Context(), "v")
		assert.Equal(t, "World", got)
		_, _, err = doc.Value(t.Context(), "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i+1 FROM n) SELECT count(*) FROM n LIMIT 1")
		assert.ErrorContains(t, err, "took longer")
		require.NoError(t, doc.Close())
	}
	for _, name := range []string{"cut.db", "no.db"} {
		_, err := Open(t.Context(), fsys, name, Spec{Form: "sqlite"}, wrap.DefaultLimits)
		assert.ErrorIs(t, err, wrap.ErrDamaged, name)
	}
}

func TestDamagedFiles(t *testing.T) {
	for _, c := range [][2]string{
		{"json", content[:40]}, {"json", ""}, {"json", "{]"}, {"xml", "<a><b></a>"}, {"xml", ""}, {"xml", "plain"}, {"ini", "a\x00b"},
	} {
		_, err := Parse([]byte(c[1]), Spec{Form: c[0]})
		assert.ErrorIs(t, err, wrap.ErrDamaged, c)
	}
	_, err := Parse([]byte(strings.Repeat("[", maxDepth+1)), Spec{Form: "json"})
	assert.ErrorIs(t, err, wrap.ErrTooLarge)
	_, err = Parse([]byte(strings.Repeat("<a>", maxDepth+1)), Spec{Form: "xml"})
	assert.ErrorIs(t, err, wrap.ErrTooLarge)
}

func TestSplice(t *testing.T) {
	in := "{ \"a\" : {\"list\": [1, {\"owner\" : 70112 , \"x\": [2]}] }, \"name\":\"A\\\"B\" }"
	for _, c := range []struct{ query, value, want string }{
		{"$.a.list[1].owner", "5", strings.Replace(in, "70112", "5", 1)},
		{"$.name", "N\"é", strings.Replace(in, `"A\"B"`, `"N\"é"`, 1)},
	} {
		got, err := Splice(Spec{Form: "json"}, []byte(in), c.query, c.value)
		require.NoError(t, err)
		assert.Equal(t, c.want, string(got))
	}
	for _, c := range [][2]string{{"$.none", "1"}, {"$.a", "1"}, {"$.a.list[1].owner", "text"}, {"$..owner", "1"}, {"$.a.list[9]", "1"}} {
		_, err := Splice(Spec{Form: "json"}, []byte(in), c[0], c[1])
		assert.ErrorIs(t, err, wrap.ErrNotWritable, c)
	}
}

func TestSpliceIsReadBack(t *testing.T) {
	const xmlText = "<?xml version=\"1.0\"?>\n<bay title='North' release=\"2.1\"><other><owner>x</owner></other><owner>70112</owner><!-- <owner>no</owner> --></bay>"
	for _, c := range []struct{ form, in, query, value, want string }{
		{"xml", xmlText, "/bay/@title", `S & "T"`, strings.Replace(xmlText, "North", "S &amp; &#34;T&#34;", 1)},
		{"xml", xmlText, "/bay/owner", "5", strings.Replace(xmlText, "70112", "5", 1)},
		{"xml", "<a><o><![CDATA[70]]>112</o><o2/></a>", "/a/o", "70431", "<a><o>70431</o><o2/></a>"},
		{"xml", "<a><o n='1'/></a>", "/a/o", "5", "<a><o n='1'>5</o></a>"},
		{"ini", "o = \"two words\" \n; o = 5", "o", "one", "o = \"one\" \n; o = 5"},
		{"ini", "o: 5", "o", "6", "o: 6"},
		{"ini", "[a]\nid = 1\r\n[b]\n id= 2 ; x\nx=y", "b.id", "9", "[a]\nid = 1\r\n[b]\n id= 9\nx=y"},
		{"ini", "id=1\n[b]\nid=2", "id", "", "id=\n[b]\nid=2"},
		{"text", "owner: 70112, crew: 3", `owner: (\d+)`, "5", "owner: 5, crew: 3"},
		{"bytes", "HEAD\x01\x02\x03\x04tail", "4:u32be", "7", "HEAD\x00\x00\x00\x07tail"},
		{"bytes", "HEADnameXtail", "4:ascii5", "ab", "HEADab\x00\x00\x00tail"},
		{"bytes", "HEAD\xff\xfftail", "-6:u16le", "258", "HEAD\x02\x01tail"},
		{"bytes", "\xff\xff", "0:hex2", "0a0b", "\x0a\x0b"},
	} {
		got, err := Splice(Spec{Form: c.form}, []byte(c.in), c.query, c.value)
		require.NoError(t, err, c)
		assert.Equal(t, c.want, string(got))
		if c.value == "" {
			continue
		}
		doc, err := Parse(got, Spec{Form: c.form})
		require.NoError(t, err)
		v, ok, err := doc.Value(t.Context(), c.query)
		require.NoError(t, err)
		assert.True(t, ok)
		assert.Equal(t, c.value, v)
	}
	for _, c := range [][4]string{
		{"xml", "<a><o>70<!-- c -->112</o></a>", "/a/o", "5"}, {"xml", "<a><o>1</o><o>2</o></a>", "/a/o", "5"},
		{"xml", "<a><o>1<i/>2</o></a>", "/a/o", "5"}, {"xml", "<a b='1'><!-- <o>1</o> --></a>", "/a/o", "5"},
		{"json", `{"o":"70112","o":"70112"}`, "$.o", ""}, {"json", `{"a":{"o":1},"a":{"o":2}}`, "$.a.o", "5"}, {"json", `{"o":1,"O":2,"o":3}`, "$.o", "5"},
		{"ini", "[a]\no=1\n[b]\nx=1\n[a]\no=2", "a.o", "5"}, {"ini", "o=1\no=2", "o", ""}, {"ini", "flag", "flag", "1"},
		{"text", "o 12 o 13", `o (\d)`, "x"}, {"lines", "a\nb", `(a)\n`, "c"},
		{"xml", xmlText, "/bay/@none", "1"}, {"xml", xmlText, "//owner", "1"}, {"xml", xmlText, "/bay/none", "1"}, {"ini", "a=1", "b", "1"}, {"ini", "a=1", "a", "1\n2"},
		{"text", "x", "y", "1"}, {"bytes", "ab", "1:u32le", "1"}, {"bytes", "abcd", "0:u8", "256"},
	} {
		_, err := Splice(Spec{Form: c[0]}, []byte(c[1]), c[2], c[3])
		assert.ErrorIs(t, err, wrap.ErrNotWritable, c)
	}
}

func FuzzForms(f *testing.F) {
	f.Add(byte(0), []byte(content), "$.mods[*].id")
	f.Add(byte(1), []byte("<a b='c'><d/></a>"), "/a/@b")
	f.Add(byte(2), []byte("[A]\nb=c\n"), "A.b")
	f.Add(byte(3), []byte("x 1\n"), `x (\d)`)
	f.Add(byte(4), []byte("x 1\n"), `(?P<id>x)`)
	f.Add(byte(5), []byte("abcd"), "0:u32le")
	f.Add(byte(6), []byte("[a]\nb=1\n[/a]\nc { d=\"2\" }"), "$.a[0].b")
	f.Add(byte(7), []byte("HEAD\x00\x00\x00\x02ab"), "HEAD 0:u8")
	f.Add(byte(8), []byte("a b c\n\td \"e f\"\n"), "$.a[0].d")
	f.Add(byte(9), []byte("VERS\xff\x00"), `VERS(?s:(.))`)
	forms := []string{"json", "xml", "ini", "text", "lines", "bytes", "blocks", "chunks", "indented", "binary"}
	f.Fuzz(func(t *testing.T, which byte, data []byte, query string) {
		form := forms[int(which)%len(forms)]
		spec := Spec{Form: form}
		switch form {
		case "chunks":
			spec.Chunks = ChunkSpec{Chunk: "tag:4 length:u32be", Record: "id:hex2 name:cstr"}
		case "indented":
			form, spec = "blocks", Spec{Form: "blocks", Blocks: BlockPatterns{Indent: true}}
		case "binary":
			form, spec = "text", Spec{Form: "text", Encoding: "binary"}
		}
		doc, err := Parse(data, spec)
		if err != nil {
			assert.Nil(t, doc)
			return
		}
		if CheckQuery(form, query, false) == nil {
			_, _, _ = doc.Value(context.Background(), query)
		}
		if CheckQuery(form, query, true) == nil {
			_, _ = doc.Each(context.Background(), query)
		}
	})
}

func FuzzSQLite(f *testing.F) {
	f.Add(makeSQLite(f, "CREATE TABLE meta(k, v)", "INSERT INTO meta VALUES('a','b')"))
	f.Fuzz(func(t *testing.T, data []byte) {
		doc, err := Open(t.Context(), fstest.MapFS{"w": {Data: data}}, "w", Spec{Form: "sqlite"}, wrap.DefaultLimits)
		if err == nil {
			_, _, _ = doc.Value(t.Context(), "SELECT v FROM meta")
			require.NoError(t, doc.Close())
		}
	})
}

func FuzzSplice(f *testing.F) {
	forms := []string{"json", "xml", "ini", "text", "bytes", "blocks"}
	f.Add(byte(0), []byte(content), "$.mods[0].id", "x")
	f.Add(byte(1), []byte("<a b='c'><d>e</d></a>"), "/a/@b", "x")
	f.Add(byte(2), []byte("[a]\nb=c"), "a.b", "x")
	f.Add(byte(3), []byte("x 1"), `x (\d)`, "2")
	f.Add(byte(4), []byte("abcd"), "0:u16le", "5")
	f.Add(byte(1), []byte("<a><b/><b c=''/></a>"), "/a/b[2]/@c", "x")
	f.Add(byte(5), []byte("[a]\nb = \"c\"\n[/a]\nd { e 1 f \"2\" }\n"), "$.d[0].f", "x y")
	f.Fuzz(func(t *testing.T, which byte, data []byte, query, value string) {
		spec := Spec{Form: forms[int(which)%len(forms)]}
		got, err := Splice(spec, data, query, value)
		if err != nil {
			assert.Nil(t, got)
			return
		}
		doc, err := Parse(got, spec)
		require.NoError(t, err)
		read, found, err := doc.Value(t.Context(), query)
		require.NoError(t, err)
		assert.True(t, found && sameValue(spec.Form, read, value) || value == "" && read == "", "%q reads %q", got, read)
	})
}

func TestValues(t *testing.T) {
	for form, c := range map[string]struct{ data, query string }{
		"json":   {`{"things": ["kelp", "rope"]}`, "$.things[*]"},
		"xml":    {`<run><thing>kelp</thing><thing>rope</thing></run>`, "/run/thing"},
		"ini":    {"a.thing = kelp\nb.thing = rope\n", `[ab]\.thing`},
		"text":   {"thing kelp, thing rope", `thing (\w+)`},
		"lines":  {"thing kelp\nthing rope\n", `^thing (\w+)$`},
		"blocks": {"[a]\nthing = kelp\n[/a]\n[a]\nthing = rope\n[/a]\n", "$.a[*].thing"},
		"sqlite": {string(makeSQLite(t, "CREATE TABLE things (id TEXT)", "INSERT INTO things VALUES ('kelp'), ('rope')")), "SELECT id FROM things"},
	} {
		var got []string
		err := Values(t.Context(), fstest.MapFS{"run": {Data: []byte(c.data)}}, "run", Spec{Form: form}, c.query, wrap.Layers{}, wrap.DefaultLimits, func(v []byte) error {
			got = append(got, string(v))
			return nil
		})
		require.NoError(t, err, form)
		assert.Equal(t, []string{"kelp", "rope"}, got, form)
	}
}
func values(t *testing.T, doc *Doc, queries ...string) []string {
	t.Helper()
	var got []string
	for _, q := range queries {
		v, ok, err := doc.Value(t.Context(), q)
		require.NoError(t, err, q)
		if !ok {
			v = "-"
		}
		got = append(got, v)
	}
	return got
}

func TestIndented(t *testing.T) {
	text := "# a comment\npilot Ada Lamp\ndate 16 11 3013\nsystem Rutil\n\"home port\" `New \"Q\" Harbour`\n\n" +
		"ship Shuttle\n\tname \"King of Winds\"\n\toutfits\n\t\tLamp 2\n\t\t\"Fuel Cell\"\n\t# still inside\n\tcrew 1\nship Barge\n\tcrew 4\nempty\n"
	doc, err := Parse([]byte(text), Spec{Form: "blocks", Blocks: BlockPatterns{Indent: true}})
	require.NoError(t, err)
	assert.Equal(t, []string{"Ada", "Lamp", "Rutil", `New "Q" Harbour`, "Shuttle", "King of Winds", "1", "4", "2", "-"},
		values(t, doc, "$.pilot[0].words[0]", "$.pilot[0].words[1]", "$.system", "$['home port']", "$.ship[0].words[0]", "$.ship[0].name", "$.ship[0].crew", "$.ship[1].crew",
			"$.ship[0].outfits[0].Lamp", "$.ship[2].crew"))
	for _, broken := range []string{"a \"b\n", strings.Repeat(" ", 10) + "a `b", deep(2000)} {
		_, err := Parse([]byte(broken), Spec{Form: "blocks", Blocks: BlockPatterns{Indent: true}})
		assert.Error(t, err, "%.20q", broken)
	}
}

func deep(n int) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(strings.Repeat(" ", i) + "a\n")
	}
	return b.String()
}

func TestEncodings(t *testing.T) {
	for encoding, data := range map[string]string{
		"": "title = Kühl", "windows-1252": "title = K\xfchl", "utf-16le": "t\x00i\x00t\x00l\x00e\x00 \x00=\x00 \x00K\x00\xfc\x00h\x00l\x00", "iso-8859-2": "title = K\xfchl",
	} {
		doc, err := Parse([]byte(data), Spec{Form: "ini", Encoding: encoding})
		require.NoError(t, err, encoding)
		assert.Equal(t, []string{"Kühl"}, values(t, doc, "title"), encoding)
	}
	for declared, data := range map[string]string{
		"windows-1252": "<?xml version='1.0' encoding='windows-1252'?><a t='K\xfchl'/>", "utf-16 and is not": "<?xml version='1.0' encoding='utf-16'?><a t='Kühl'/>",
		"a byte order mark": "\xff\xfe<\x00a\x00 \x00t\x00=\x00'\x00K\x00\xfc\x00h\x00l\x00'\x00/\x00>\x00",
	} {
		for _, encoding := range []string{"", map[string]string{"windows-1252": "windows-1252"}[declared]} {
			spec := Spec{Form: "xml", Encoding: encoding}
			doc, err := Parse([]byte(data), spec)
			require.NoError(t, err, declared)
			assert.Equal(t, []string{"Kühl"}, values(t, doc, "/a/@t"), declared)
			written, err := Splice(spec, []byte(data), "/a/@t", "Süß")
			require.NoError(t, err, declared)
			again, err := Parse(written, spec)
			require.NoError(t, err, declared)
			assert.Equal(t, []string{"Süß"}, values(t, again, "/a/@t"), declared)
		}
	}
	_, err := Splice(Spec{Form: "ini", Encoding: "windows-1252"}, []byte("t = K\xfchl"), "t", "水")
	assert.ErrorIs(t, err, wrap.ErrNotWritable, "the encoding has no such letter")
	_, err = Parse([]byte("<?xml version='1.0' encoding='martian'?><a/>"), Spec{Form: "xml"})
	assert.ErrorIs(t, err, wrap.ErrUnknown)
	doc, err := Parse([]byte("VERS\x01\x02\xff\x00rest"), Spec{Form: "text", Encoding: "binary"})
	require.NoError(t, err)
	for as, want := range map[string]string{"hexbe": "0102ff00", "hexle": "00ff0201"} {
		v, ok, err := doc.Value(t.Context(), `VERS(?s:(....))`)
		require.NoError(t, err)
		require.True(t, ok)
		require.Equal(t, "\x01\x02ÿ\x00", v, as+want)
	}
	_, err = Parse([]byte("x"), Spec{Form: "text", Encoding: "latin-1"})
	assert.ErrorContains(t, err, "latin-1")
}

func TestMembersAndSections(t *testing.T) {
	doc, err := Parse([]byte(`{"needs": {"rope": ">= 2", "tar": {"v": "1"}}, "list": [1, 2], "text": "x"}`), Spec{Form: "json"})
	require.NoError(t, err)
	for query, want := range map[string]struct {
		n     int
		there bool
	}{"$.needs": {2, true}, "$.list": {2, true}, "$.text": {0, false}, "$.no": {0, false}} {
		elements, err := doc.Each(t.Context(), query)
		require.NoError(t, err)
		members, there, err := Members(t.Context(), elements)
		require.NoError(t, err)
		assert.Len(t, members, want.n, query)
		assert.Equal(t, want.there, there, query)
		if query == "$.needs" {
			assert.Equal(t, []string{"rope", ">= 2"}, values(t, members[0], "@key", "@value"))
			assert.Equal(t, []string{"tar", "1"}, values(t, members[1], "@key", "$.v"))
		}
	}
	ini, err := Parse([]byte("[Mods]\nrope = 2\n[None]\n"), Spec{Form: "ini"})
	require.NoError(t, err)
	section, ok, err := Section(t.Context(), ini, "Mods")
	require.NoError(t, err)
	require.True(t, ok)
	elements, err := section.Each(t.Context(), ".*")
	require.NoError(t, err)
	require.Len(t, elements, 1)
	assert.Equal(t, []string{"rope", "2"}, values(t, elements[0], "@key", "."))
	_, ok, _ = Section(t.Context(), ini, "None")
	assert.True(t, ok)
	_, ok, _ = Section(t.Context(), ini, "Lost")
	assert.False(t, ok)
}

func TestAQueryThatTakesTooLongIsStopped(t *testing.T) {
	wide := "<a>" + strings.Repeat("<b/>", 60_000) + "</a>"
	doc, err := Parse([]byte(wide), Spec{Form: "xml"})
	require.NoError(t, err)
	_, _, err = doc.Value(t.Context(), "count(//*[count(//*) > count(//*[count(//*) = 1])])")
	assert.ErrorIs(t, err, wrap.ErrTooLarge)
	stopped, stop := context.WithCancel(t.Context())
	stop()
	_, err = doc.Each(stopped, "//*[count(//*) = 1]")
	assert.ErrorIs(t, err, context.Canceled)
	assert.Error(t, CheckQuery("json", "$..a..b", true), "of each part all its parts")
	assert.NoError(t, CheckQuery("json", "$..a.b", true))
}
func TestALargeTextLiesInAFileWhileItIsRead(t *testing.T) {
	temp := t.TempDir()
	t.Setenv("TMPDIR", temp)
	t.Setenv("TMP", temp)
	for _, form := range []string{"json", "xml"} {
		text, last := longText(form, maxTree+1)
		var packed bytes.Buffer
		z, err := gzip.NewWriterLevel(&packed, gzip.BestSpeed)
		require.NoError(t, err)
		_, err = z.Write([]byte(text))
		require.NoError(t, err)
		require.NoError(t, z.Close())
		wide, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(text)
		require.NoError(t, err)
		title := map[string]string{"json": "$.title", "xml": "/w/@title"}[form]
		for about, c := range map[string]struct {
			data string
			spec Spec
		}{
			"wrapped": {packed.String(), Spec{Form: form, Layers: layersOf(t, "gzip")}},
			"plain":   {text, Spec{Form: form}},
			"UTF-16":  {wide, Spec{Form: form}},
		} {
			doc, err := Open(t.Context(), fstest.MapFS{"a": {Data: []byte(c.data)}}, "a", c.spec, wrap.DefaultLimits)
			require.NoError(t, err, "%s %s", form, about)
			for query, want := range map[string]string{last: "end", title: "Lång"} {
				got, ok, err := doc.Value(t.Context(), query)
				require.NoError(t, err)
				assert.True(t, ok)
				assert.Equal(t, want, got, "%s %s", form, about)
			}
			require.NoError(t, doc.Close())
			left, err := os.ReadDir(temp)
			require.NoError(t, err)
			assert.Empty(t, left, "%s %s", form, about)
		}
		cut := fstest.MapFS{"a": {Data: packed.Bytes()[:packed.Len()/2]}}
		_, err = Open(t.Context(), cut, "a", Spec{Form: form, Layers: layersOf(t, "gzip")}, wrap.DefaultLimits)
		assert.ErrorIs(t, err, wrap.ErrDamaged)
		_, err = Open(t.Context(), fstest.MapFS{"a": {Data: packed.Bytes()}}, "a", Spec{Form: form, Layers: layersOf(t, "gzip")}, wrap.Limits{Decoded: maxTree + 2})
		assert.ErrorIs(t, err, wrap.ErrTooLarge, "what is larger than it may be")
		left, err := os.ReadDir(temp)
		require.NoError(t, err)
		assert.Empty(t, left)
	}
}

func TestAForeignDatabaseMakesNoLargeTexts(t *testing.T) {
	data := makeSQLite(t, "CREATE TABLE a (b)", "INSERT INTO a VALUES (1)", "CREATE VIEW v AS SELECT hex(zeroblob(450000000)) AS big FROM a", "CREATE VIEW w AS SELECT hex(zeroblob(600000)) AS big FROM a")
	doc, err := Open(t.Context(), fstest.MapFS{"a": {Data: data}}, "a", Spec{Form: "sqlite"}, wrap.DefaultLimits)
	require.NoError(t, err)
	defer doc.Close()
	for _, query := range []string{"SELECT big FROM v", "SELECT big FROM w"} {
		_, _, err = doc.Value(t.Context(), query)
		assert.ErrorIs(t, err, wrap.ErrTooLarge, query)
	}
	_, err = doc.Each(t.Context(), "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n LIMIT 100) SELECT hex(zeroblob(400000)) AS big FROM n")
	assert.ErrorIs(t, err, wrap.ErrTooLarge, "a list of many")
}

func TestADatabaseIsReadWithItsLog(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "w.db")
	require.NoError(t, os.WriteFile(file, makeSQLite(t, "CREATE TABLE a (b)", "INSERT INTO a VALUES ('old')"), 0o600))
	only := opening{os.DirFS(dir)}
	doc, err := Open(t.Context(), only, "w.db", Spec{Form: "sqlite"}, wrap.DefaultLimits)
	require.NoError(t, err)
	got, _, err := doc.Value(t.Context(), "SELECT b FROM a")
	require.NoError(t, err)
	assert.Equal(t, "old", got)
	require.NoError(t, doc.Close())
	require.NoError(t, os.WriteFile(file+"-journal", []byte("no journal"), 0o600))
	doc, err = Open(t.Context(), only, "w.db", Spec{Form: "sqlite"}, wrap.DefaultLimits)
	require.NoError(t, err)
	require.NoError(t, doc.Close())
	require.NoError(t, Spec{Form: "sqlite"}.Check(t.Context(), only, "w.db"))
}

// longText is a text of a form, of so many bytes at least, and where its last value is.
func longText(form string, size int) (text, last string) {
	var b strings.Builder
	if form == "json" {
		b.WriteString(`{"title": "Lång", "rows": [`)
		for i := 0; b.Len() < size; i++ {
			fmt.Fprintf(&b, `{"n": %d, "t": "a \"row\""}, `, i)
		}
		b.WriteString(`0], "last": "end"}`)
		return b.String(), "$.last"
	}
	b.WriteString(`<w title="Lång"><rows>`)
	for i := 0; b.Len() < size; i++ {
		fmt.Fprintf(&b, `<row n="%d">a &lt; row</row>`, i)
	}
	b.WriteString(`</rows><last>end</last></w>`)
	return b.String(), "/w/last"
}
