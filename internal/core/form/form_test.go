package form

import (
	"archive/zip"
	"bytes"
	"context"
	"database/sql"
	"encoding/binary"
	"hash/crc32"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
)

// content is what every layer of these tests wraps.
const content = `{"title":"Gannet Rock","version":1.10,"mods":[{"id":"a","v":"1"},{"id":"b"}],"deep":{"on":true,"none":null}}`

func wrapped(t testing.TB, layer string, data []byte) []byte {
	var b bytes.Buffer
	var err error
	switch layer {
	case "gzip":
		w := gzip.NewWriter(&b)
		_, err = w.Write(data)
		require.NoError(t, w.Close())
	case "zlib":
		w := zlib.NewWriter(&b)
		_, err = w.Write(data)
		require.NoError(t, w.Close())
	case "zstd":
		w, _ := zstd.NewWriter(&b)
		_, err = w.Write(data)
		require.NoError(t, w.Close())
	case "bzip2", "lzo":
		wrapped, err := Layer{Name: layer}.wrap(data, nil)
		require.NoError(t, err)
		return wrapped
	case "xz":
		w, _ := xz.NewWriter(&b)
		_, err = w.Write(data)
		require.NoError(t, w.Close())
	case "zip:in/save.json":
		w := zip.NewWriter(&b)
		f, _ := w.Create("in/save.json")
		_, err = f.Write(data)
		require.NoError(t, w.Close())
	case "deflate":
		w, _ := flate.NewWriter(&b, 6)
		_, err = w.Write(data)
		require.NoError(t, w.Close())
	case "lz4":
		w := lz4.NewWriter(&b)
		_, err = w.Write(data)
		require.NoError(t, w.Close())
	case "lines:2":
		b.WriteString("one\ntwo\n")
		b.Write(data)
	case "length:u32be":
		b.Write(binary.BigEndian.AppendUint32(nil, uint32(len(data))))
		b.Write(data)
	case "xor:0aff":
		for i, c := range data {
			b.WriteByte(c ^ []byte{0x0a, 0xff}[i%2])
		}
	case "skip:4":
		b.WriteString("HEAD")
		b.Write(data)
	default:
		b.Write(data)
	}
	require.NoError(t, err)
	return b.Bytes()
}

func layersOf(t testing.TB, names ...string) Layers {
	var l Layers
	for _, n := range names {
		layer, err := ParseLayer(n)
		require.NoError(t, err)
		l.Chain = append(l.Chain, layer)
	}
	return l
}

func TestPeel(t *testing.T) {
	for _, layer := range []string{"gzip", "zlib", "zstd", "xz", "zip:in/save.json", "skip:4", "deflate", "lz4", "lines:2", "length:u32be", "xor:0aff"} {
		file := wrapped(t, layer, []byte(content))
		got, err := layersOf(t, layer).Peel(bytes.NewReader(file), DefaultLimits)
		require.NoError(t, err, layer)
		assert.Equal(t, content, string(got), layer)

		_, err = layersOf(t, layer).Peel(bytes.NewReader(file), Limits{Decoded: 10})
		assert.ErrorIs(t, err, ErrTooLarge, layer)
		if layer != "skip:4" && layer != "lines:2" && layer != "xor:0aff" {
			_, err = layersOf(t, layer).Peel(bytes.NewReader(file[:len(file)/2]), DefaultLimits)
			assert.ErrorIs(t, err, ErrDamaged, layer)
		}
		if Compression(file) != "" {
			got, err = layersOf(t, "auto").Peel(bytes.NewReader(file), DefaultLimits)
			require.NoError(t, err, layer)
			assert.Equal(t, content, string(got), "auto "+layer)
		}
	}
	got, err := layersOf(t, "skip:4", "gzip").Peel(bytes.NewReader(wrapped(t, "skip:4", wrapped(t, "gzip", []byte("x")))), DefaultLimits)
	require.NoError(t, err)
	assert.Equal(t, "x", string(got))
	got, err = layersOf(t, "auto").Peel(strings.NewReader("plain"), DefaultLimits)
	require.NoError(t, err)
	assert.Equal(t, "plain", string(got))
}

func TestPeelByTag(t *testing.T) {
	l := Layers{Tag: &Tag{Strict: true, From: 0, To: 4, Chains: map[string][]Layer{
		"GZIP": {{"skip", "4"}, {"gzip", ""}}, "RAW0": {{"skip", "4"}},
	}}}
	for _, c := range []struct{ in, want string }{
		{"RAW0text", "text"},
		{"GZIP" + string(wrapped(t, "gzip", []byte("text"))), "text"},
	} {
		got, err := l.Peel(strings.NewReader(c.in), DefaultLimits)
		require.NoError(t, err)
		assert.Equal(t, c.want, string(got))
	}
	_, err := l.Peel(strings.NewReader("NEW!text"), DefaultLimits)
	assert.EqualError(t, err, `damaged: begins with "NEW!" instead of "GZIP" or "RAW0"`)
	_, err = l.Peel(strings.NewReader("GZ"), DefaultLimits)
	assert.ErrorIs(t, err, ErrDamaged)
}

func TestWrapIsTheReverseOfPeel(t *testing.T) {
	crc := func(b []byte) string { return string(binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE(b))) }
	for _, c := range []struct {
		names    []string
		original string
		keeps    string // how the result begins
	}{
		{nil, "before", ""},
		{[]string{"gzip"}, string(wrapped(t, "gzip", []byte("before"))), ""},
		{[]string{"zlib", "gzip"}, string(wrapped(t, "zlib", wrapped(t, "gzip", []byte("before")))), ""},
		{[]string{"auto"}, string(wrapped(t, "zlib", []byte("before"))), "\x78"},
		{[]string{"auto"}, "before", "{"},
		{[]string{"zstd"}, string(wrapped(t, "zstd", []byte("before"))), ""},
		{[]string{"xz"}, string(wrapped(t, "xz", []byte("before"))), ""},
		{[]string{"lz4"}, string(wrapped(t, "lz4", []byte("before"))), ""},
		{[]string{"bzip2"}, string(wrapped(t, "bzip2", []byte("before"))), "BZh6"},
		{[]string{"lzo"}, string(wrapped(t, "lzo", []byte("before"))), ""},
		{[]string{"skip:4", "deflate"}, "HEAD" + string(wrapped(t, "deflate", []byte("before"))), "HEAD"},
		{[]string{"lines:2"}, "one\ntwo\nbefore", "one\ntwo\n"},
		{[]string{"length:u32be"}, "\x00\x00\x00\x06beforeafter", ""},
		{[]string{"xor:0aff", "base64"}, string(wrapped(t, "xor:0aff", []byte("YmVmb3Jl"))), ""},
		{[]string{"checksum:crc32@0 over 4..", "skip:4", "gzip"}, crc(wrapped(t, "gzip", []byte("before"))) + string(wrapped(t, "gzip", []byte("before"))), ""},
		{[]string{"checksum:md5-hex@0 over 33..", "lines:1"}, strings.Repeat("0", 32) + "\nbefore", ""},
		{[]string{"zip:in/*.json"}, zipped(t, "in/save.json", "before", "other.txt", "kept"), "PK"},
		{[]string{"zip:in/save.json", "gzip"}, zipped(t, "first", "x", "in/save.json", string(wrapped(t, "gzip", []byte("before")))), "PK"},
		{[]string{"framed:length:u32le raw:u32le,zlib"}, string(framed(t, []byte("before"), 4)), ""},
	} {
		l := layersOf(t, c.names...)
		file, err := l.Wrap([]byte(content), []byte(c.original))
		require.NoError(t, err, c.names)
		assert.True(t, strings.HasPrefix(string(file), c.keeps), c.names)
		got, err := l.Peel(bytes.NewReader(file), DefaultLimits)
		require.NoError(t, err, c.names)
		assert.Equal(t, content, string(got), c.names)
	}
	tagged := Layers{Tag: &Tag{To: 4, Chains: map[string][]Layer{"GZIP": {{"skip", "4"}, {"gzip", ""}}, "RAW0": {{"skip", "4"}}}}}
	file, err := tagged.Wrap([]byte("new"), []byte("RAW0before"))
	require.NoError(t, err)
	assert.Equal(t, "RAW0new", string(file))
	_, err = layersOf(t, "bzip2").Wrap([]byte("x"), []byte("BZh9"))
	assert.ErrorIs(t, err, ErrDamaged)
}

// zipped is a zip of entries, each by its name and content.
func zipped(t *testing.T, entries ...string) string {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i < len(entries); i += 2 {
		w, err := z.Create(entries[i])
		require.NoError(t, err)
		_, err = w.Write([]byte(entries[i+1]))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.String()
}

// TestContainersStayAsTheyAre puts content into the containers of an original: what else it says of itself stays.
func TestContainersStayAsTheyAre(t *testing.T) {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	z.Name, z.Comment, z.OS, z.ModTime = "world.json", "by hand", 11, time.Unix(0, 0)
	require.NoError(t, z.Close())
	file, err := layersOf(t, "gzip").Wrap([]byte("after"), b.Bytes())
	require.NoError(t, err)
	r, err := gzip.NewReader(bytes.NewReader(file))
	require.NoError(t, err)
	r.ModTime = z.ModTime
	assert.Equal(t, z.Header, r.Header)
	assert.Zero(t, binary.LittleEndian.Uint32(file[4:]), "no time")
	for _, level := range []byte{0x01, 0x5e, 0x9c, 0xda} {
		file, err := layersOf(t, "zlib").Wrap([]byte("after"), append([]byte{0x78, level}, wrapped(t, "zlib", []byte("x"))[2:]...))
		require.NoError(t, err)
		assert.Equal(t, level>>6, file[1]>>6)
	}
	file, err = layersOf(t, "zip:b").Wrap([]byte("after"), []byte(zipped(t, "a", "first", "b", "before", "c", "last")))
	require.NoError(t, err)
	got, err := zip.NewReader(bytes.NewReader(file), int64(len(file)))
	require.NoError(t, err)
	var names []string
	for _, f := range got.File {
		names = append(names, f.Name)
	}
	assert.Equal(t, []string{"a", "b", "c"}, names)
	_, err = layersOf(t, "zip:none").Wrap([]byte("after"), []byte(zipped(t, "a", "first")))
	assert.ErrorIs(t, err, ErrDamaged)
}

func TestChecksum(t *testing.T) {
	l := layersOf(t, "checksum:crc32be@0 over 4..")
	file, err := l.Wrap([]byte("0000content"), []byte("0000before"))
	require.NoError(t, err)
	_, err = l.Peel(bytes.NewReader(file), DefaultLimits)
	require.NoError(t, err)
	file[6] ^= 1
	_, err = l.Peel(bytes.NewReader(file), DefaultLimits)
	assert.EqualError(t, err, "damaged: does not match its checksum")
	_, err = l.Peel(strings.NewReader("abc"), DefaultLimits)
	assert.ErrorIs(t, err, ErrDamaged)
}

// TestLZO unpacks a block that lzop 1.04 made: text with near and far repeats, every byte value, and a long run.
func TestLZO(t *testing.T) {
	block, err := os.ReadFile(filepath.Join("testdata", "lzo1x.block"))
	require.NoError(t, err)
	want := strings.Repeat("the lamps of the newer islands stay dark; the lamps of the older islands stay lit. ", 40)
	for range 3 {
		for c := range 256 {
			want += string([]byte{byte(c)})
		}
	}
	want += strings.Repeat("x", 700)
	l := layersOf(t, "lzo")
	got, err := l.Peel(bytes.NewReader(block), DefaultLimits)
	require.NoError(t, err)
	assert.True(t, want == string(got))
	_, err = l.Peel(bytes.NewReader(block), Limits{Decoded: 1000})
	assert.ErrorIs(t, err, ErrTooLarge)
	for cut := range len(block) {
		_, err := l.Peel(bytes.NewReader(block[:cut]), DefaultLimits)
		assert.ErrorIs(t, err, ErrDamaged)
	}
}

// TestLZOIsWritten packs texts with repeats of all kinds, and unpacks them again.
func TestLZOIsWritten(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	texts := []string{"", "a", "abc", "abcd", strings.Repeat("x", 5000), strings.Repeat("the lamps of the older islands ", 3000)}
	for range 300 {
		var text []byte
		for range random.IntN(60) {
			switch n := random.IntN(1 << (1 + random.IntN(12))); {
			case random.IntN(2) == 0 || len(text) == 0:
				for range n {
					text = append(text, byte(random.IntN(1+random.IntN(256))))
				}
			default:
				from := random.IntN(len(text))
				text = append(text, text[from:min(from+n, len(text))]...)
			}
		}
		texts = append(texts, string(text))
	}
	far := make([]byte, 60_000)
	for i := range far {
		far[i] = byte(random.IntN(256))
	}
	texts = append(texts, string(far)+string(far[20_000:20_300])+string(far[40_000:50_000])+string(far[:9]))
	smaller := 0
	for _, text := range texts {
		block := lzo1xOf([]byte(text))
		got, err := lzo1x(block, int64(len(text)))
		require.NoError(t, err)
		require.True(t, text == string(got), "%.60q", text)
		if len(block) < len(text) {
			smaller++
		}
	}
	assert.Greater(t, smaller, 100)
}

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
		assert.ErrorIs(t, err, ErrDamaged)
	}
	behind, err := Parse([]byte("\x02IDATabCRC!"), Spec{Form: "chunks", Chunks: ChunkSpec{Chunk: "length:u8 tag:4 data crc:4"}})
	require.NoError(t, err)
	v, _, _ = behind.Value(t.Context(), "IDAT 0:ascii2")
	assert.Equal(t, "ab", v)
	got, err := Splice(spec, []byte(file), "HEAD 2:ascii4", "new")
	require.NoError(t, err)
	assert.Equal(t, strings.Replace(file, "name", "new\x00", 1), string(got))
	_, err = Splice(spec, []byte(file), "NONE 2:ascii4", "new")
	assert.ErrorIs(t, err, ErrNotWritable)
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
		{"json", content, "$.deep.none", "", false},
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
	for name, layers := range map[string]Layers{"w.db": {}, "w.gz": layersOf(t, "gzip")} {
		doc, err := Open(t.Context(), fsys, name, Spec{Form: "sqlite", Layers: layers}, DefaultLimits)
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
		_, err := Open(t.Context(), fsys, name, Spec{Form: "sqlite"}, DefaultLimits)
		assert.ErrorIs(t, err, ErrDamaged, name)
	}
}

func TestDamagedFiles(t *testing.T) {
	for _, c := range [][2]string{
		{"json", content[:40]}, {"json", ""}, {"json", "{]"}, {"xml", "<a><b></a>"}, {"xml", ""}, {"xml", "plain"}, {"ini", "a\x00b"},
	} {
		_, err := Parse([]byte(c[1]), Spec{Form: c[0]})
		assert.ErrorIs(t, err, ErrDamaged, c)
	}
	_, err := Parse([]byte(strings.Repeat("[", maxDepth+1)), Spec{Form: "json"})
	assert.ErrorIs(t, err, ErrTooLarge)
	_, err = Parse([]byte(strings.Repeat("<a>", maxDepth+1)), Spec{Form: "xml"})
	assert.ErrorIs(t, err, ErrTooLarge)
}

func TestConvert(t *testing.T) {
	for _, c := range []struct{ as, in, want string }{
		{"", "x", "x"}, {"int", " 12 ", "12"}, {"seconds", "3661", "1 h 01 min"}, {"ticks:20", "1200", "1 min"},
		{"unix", "0", "1970-01-01T00:00:00Z"}, {"date:2006-01-02", "2026-03-01", "2026-03-01T00:00:00Z"},
		{"bool", "True", "true"}, {"base64", "SGFyYm91cg==", "Harbour"}, {"hex", "4162", "Ab"},
	} {
		conv, err := ParseConversion(c.as)
		require.NoError(t, err)
		v, err := conv.Convert(c.in)
		require.NoError(t, err)
		assert.Equal(t, c.want, v.Text, c.as)
	}
	for _, c := range [][2]string{{"int", "1.5"}, {"unix", "1e99"}, {"date:2006", "x"}, {"bool", "maybe"}, {"hex", "zz"}} {
		conv, err := ParseConversion(c[0])
		require.NoError(t, err)
		_, err = conv.Convert(c[1])
		assert.ErrorIs(t, err, ErrDamaged, c)
	}
	for _, bad := range []string{"ticks", "ticks:0", "date", "int:2", "colour"} {
		_, err := ParseConversion(bad)
		assert.Error(t, err, bad)
	}
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
		assert.ErrorIs(t, err, ErrNotWritable, c)
	}
}

// TestSpliceIsReadBack writes a value in each form and reads it back; everything else stays.
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
		{"ini", "[a]\no=1\n[b]\nx=1\n[a]\no=2", "a.o", "5"}, {"ini", "o=1\no=2", "o", ""}, {"ini", "flag", "flag", "1"}, {"ini", "o=1", "o", "'5'"},
		{"text", "o 12 o 13", `o (\d)`, "x"}, {"lines", "a\nb", `(a)\n`, "c"},
		{"xml", xmlText, "/bay/@none", "1"}, {"xml", xmlText, "//owner", "1"}, {"xml", xmlText, "/bay/none", "1"}, {"ini", "a=1", "b", "1"}, {"ini", "a=1", "a", "1\n2"},
		{"text", "x", "y", "1"}, {"bytes", "ab", "1:u32le", "1"}, {"bytes", "abcd", "0:u8", "256"}, {"sqlite", "", "SELECT 1", "1"},
	} {
		_, err := Splice(Spec{Form: c[0]}, []byte(c[1]), c[2], c[3])
		assert.ErrorIs(t, err, ErrNotWritable, c)
	}
}

// TestWhatIsBehindAGzip has several members, with nothing in some, and what other programs leave behind the last one.
func TestWhatIsBehindAGzip(t *testing.T) {
	one, two, none := string(wrapped(t, "gzip", []byte("one "))), string(wrapped(t, "gzip", []byte("two"))), string(wrapped(t, "gzip", nil))
	for about, c := range map[string]struct {
		data string
		bad  bool
	}{
		"nothing":             {one + two, false},
		"empty members":       {none + one + none + none + two + none, false},
		"a zero":              {one + two + "\x00", false},
		"a block of zeros":    {one + two + strings.Repeat("\x00", 5000), false},
		"zeros and more":      {one + two + strings.Repeat("\x00", 5000) + "x", true},
		"zeros and a member":  {one + two + "\x00" + one, true},
		"text":                {one + two + "text", true},
		"half of a member":    {one + two + one[:len(one)-3], true},
		"a mark alone":        {one + two + "\x1f", true},
		"an altered checksum": {one + two[:len(two)-6] + "\x00" + two[len(two)-5:], true},
	} {
		got, err := layersOf(t, "gzip").Peel(strings.NewReader(c.data), DefaultLimits)
		if c.bad {
			assert.ErrorIs(t, err, ErrDamaged, about)
			continue
		}
		require.NoError(t, err, about)
		assert.Equal(t, "one two", string(got), about)
	}
}

func FuzzLayers(f *testing.F) {
	names := []string{"auto", "gzip", "zlib", "zstd", "xz", "bzip2", "zip:in/save.json", "skip:4", "deflate", "lz4", "lzo", "base64", "lines:2",
		"length:u32be", "xor:0aff", "checksum:crc32@0 over 4..", "framed:length:u32le raw:u32le,zlib", "framed:length:u16be,deflate"}
	for i, name := range names {
		f.Add(byte(i), wrapped(f, name, []byte(content)))
	}
	f.Add(byte(len(names)-2), framed(f, []byte(content), 40))
	f.Fuzz(func(t *testing.T, which byte, data []byte) {
		l := layersOf(t, names[int(which)%len(names)])
		got, err := l.Peel(bytes.NewReader(data), Limits{Decoded: 1 << 20})
		if err != nil {
			assert.Nil(t, got)
		}
		assert.LessOrEqual(t, len(got), 1<<20)
	})
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
		doc, err := Open(t.Context(), fstest.MapFS{"w": {Data: data}}, "w", Spec{Form: "sqlite"}, DefaultLimits)
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

// TestValues asks each form for the values that a query meets.
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
		err := Values(t.Context(), fstest.MapFS{"run": {Data: []byte(c.data)}}, "run", Spec{Form: form}, c.query, Layers{}, DefaultLimits, func(v []byte) error {
			got = append(got, string(v))
			return nil
		})
		require.NoError(t, err, form)
		assert.Equal(t, []string{"kelp", "rope"}, got, form)
	}
}
