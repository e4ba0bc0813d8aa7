package form

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/go-json-experiment/json/jsontext"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const someJSON = `{
  "version": "1.6.2", "seed": 1.10, "hard": true, "none": null, "text": "say \"hä\" \u00e4\n", "twice": 1, "twice": "the last",
  "captain": {"name": "Ines", "id": 70112, "ship": {"name": "Gannet"}},
  "mods": [ {"id": "deep-tides", "version": "2.1"}, {"id": "rope", "version": "0.9.2", "on": false}, {"version": "?"}, "bare", 7 ],
  "empty": [], "nothing": {}, "grid": [[1, 2], [3, [4]], []]
}`

const someXML = `<?xml version="1.0"?>
<!DOCTYPE bay [ <!ELEMENT bay (a > b)> ]>
<!-- <bay title="not this one"> -->
<bay title="Old &amp; new" release='2.1'>
  <purse>  17 </purse>
  <cogs>
    <cog id="almanac" version="1"/><cog id="it's" version="2" ><note>a &lt; b</note></cog>
    <![CDATA[ <cog id="no"/> ]]>
    <cog id="sprinkler" note="1 > 0"><version>3</version><parts><part>x</part><part>y</part></parts></cog>
  </cogs>
  <empty/><empty></empty>
  <text>one<b>two</b>three<![CDATA[<four>]]></text>
</bay>
`

// streamed are queries of the streaming subset for these two.
var streamed = map[string][]string{
	"json": {"$", "$.version", "$.seed", "$.hard", "$.none", "$.text", "$.twice", "$.captain", "$.captain.name", "$.captain.ship.name", "$['captain']['id']", "$.mods",
		"$.mods[0].id", "$.mods[1]", "$.mods[3]", "$.mods[9]", "$.mods[*]", "$.mods[*].id", "$.mods[?(@.id == 'rope')].version", "$.mods[?@.id=='rope'].on",
		"$.mods[?(@.id == 'missing')]", "$.grid[1][1][0]", "$.grid[*][0]", "$.empty[*]", "$.nothing.x", "$.version.x", "$.mods.id", "$.captain[0]", "$.missing.far", "$[0]"},
	"xml": {"/bay", "/bay/@title", "/bay/@release", "/bay/@missing", "/bay/purse", "/bay/cogs/cog", "/bay/cogs/cog/@id", "/bay/cogs/cog[1]/@id", "/bay/cogs/cog[3]/version",
		"/bay/cogs/cog[4]", "/bay/cogs/cog[@id='sprinkler']/@note", "/bay/cogs/cog[@id='almanac']/@version", "/bay/cogs/cog[version='3']/@id", "/bay/cogs/cog[@id='no']",
		"/bay/cogs/cog[note='a < b']/@version", "/bay/empty", "/bay/empty[2]", "/bay/*[1]", "/bay/*[2]/cog[2]/note", "/bay/text", "/bay/text/b", "/none", "/bay/cogs/*/@id",
		"/bay/cogs/cog/parts/part[2]", "bay/purse"},
}

// asked is all that a document says to a query.
func asked(t testing.TB, doc Doc, form, query string) (texts []string, err error) {
	text, ok, err := doc.Value(t.Context(), query)
	texts = append(texts, fmt.Sprint(text, " ", ok))
	if err != nil {
		return texts, err
	}
	itself := "$"
	if form == "xml" {
		itself = "."
		if strings.Contains(query, "/@") { // attributes are no elements
			return texts, nil
		}
	}
	docs, err := doc.Each(t.Context(), query)
	for _, d := range docs {
		text, ok, err := d.Value(t.Context(), itself)
		texts = append(texts, fmt.Sprint(text, " ", ok))
		if err != nil {
			return texts, err
		}
	}
	slices.Sort(texts[1:])
	return texts, err
}

var parsers = map[string]struct{ tree, large func([]byte) (Doc, error) }{"json": {parseJSON, parseLargeJSON}, "xml": {parseXML, parseLargeXML},
	"blocks": blockParsers("blocks"), "lines": blockParsers("lines"), "indented": blockParsers("indented")}

var someTexts = map[string]string{"json": someJSON, "xml": someXML, "blocks": someBlocks, "lines": someLines, "indented": someIndented}

func TestLargeTextsSayWhatTreesSay(t *testing.T) {
	for form, data := range someTexts {
		tree, err := parsers[form].tree([]byte(data))
		require.NoError(t, err)
		large, err := parsers[form].large([]byte(data))
		require.NoError(t, err)
		parts, err := inParts(form, []byte(data))
		require.NoError(t, err)
		answers := 0
		for range 2 { // the second time much is remembered
			for _, query := range streamed[form] {
				want, err := asked(t, tree, form, query)
				require.NoError(t, err, query)
				if len(want) > 1 {
					answers++
				}
				for _, doc := range []Doc{large, parts} {
					got, err := asked(t, doc, form, query)
					require.NoError(t, err, query)
					assert.Equal(t, want, got, "%s: %s", form, query)
				}
			}
		}
		assert.Greater(t, answers, 20, "%s: most are answered", form)
	}
}

// The same in all three ways that blocks are written.
const (
	someBlocks = `# kept
[bay]
	title = "Old ""bay"""
	[mod]
	id = rope
	version = 0.9
	[/mod]
	[mod]
		id = deep-tides
		version = "2.1"
		[part]
		name = one
		[/part]
	[/mod]
	seen = a
	seen = b
	alone
[/bay]
captain { name = "Ines" ship { name = Gannet } }
word other
empty { }
`
	someLines    = "BEGIN bay\ntitle: Old bay\nBEGIN mod\nid: rope\nversion: 0.9\nEND mod\nBEGIN mod\nid: deep-tides\nversion: 2.1\nEND mod\nseen: a\nseen: b\nEND bay\nBEGIN empty\nEND empty\nlast: 1\n"
	someIndented = "bay one two\n\ttitle \"Old bay\"\n\tmod\n\t\tid rope\n\t\tversion 0.9\n\tmod # a comment\n\t\tid deep-tides\n\n\t\tversion 2.1\n\t\tpart\n\t\t\tname one\n\tseen a\n\tseen b\n\talone\ncaptain\n  name `Ines`\nlast 1\n"
)

var blockSpecs = map[string]Spec{
	"blocks":   {Form: "blocks"},
	"lines":    {Form: "blocks", Blocks: BlockPatterns{Open: `^BEGIN (?P<name>\w+)$`, Close: `^END (?P<name>\w+)$`, Pair: `^(?P<key>\w+): (?P<value>.*)$`}},
	"indented": {Form: "blocks", Blocks: BlockPatterns{Indent: true}},
}

func blockParsers(of string) (p struct{ tree, large func([]byte) (Doc, error) }) {
	p.tree = func(data []byte) (Doc, error) { return parseBlocks(data, blockSpecs[of].Blocks) }
	p.large = func(data []byte) (Doc, error) { return largeBlocksOf(inMemory(data), blockSpecs[of].Blocks) }
	return p
}

func init() {
	for form := range blockSpecs {
		streamed[form] = []string{"$", "$.bay", "$.bay[0]", "$.bay[0].title", "$.bay[0].mod", "$.bay[0].mod[*]", "$.bay[0].mod[*].id", "$.bay[0].mod[1].version", "$.bay[0].mod[2].id",
			"$.bay[0].mod[?(@.id == 'deep-tides')].version", "$.bay[0].mod[?(@.id == 'no')].version", "$.bay[0].seen", "$.bay[0].seen[1]", "$.bay[0].seen[*]", "$.bay[0].words", "$.bay[0].words[0]",
			"$.bay.title", "$.captain[0].name", "$.captain[0].ship[0].name", "$.words", "$.words[*]", "$.empty", "$.empty[0]", "$.empty[*].x", "$.last", "$.last[0]", "$.last.x", "$[0]", "$.missing[*].far",
			"$.bay[*].mod[*].part[*].name"}
	}
}

func TestElementsOfLargeTextsAreAskedOn(t *testing.T) {
	for form, c := range map[string]struct{ data, each, id, version, other string }{
		"json": {someJSON, "$.mods[*]", "$.id", "$.version", "$..id"},
		"xml":  {someXML, "/bay/cogs/cog", "@id", "@version", "self::cog/@id"},
	} {
		large, err := parsers[form].large([]byte(c.data))
		require.NoError(t, err)
		docs, err := large.Each(t.Context(), c.each)
		require.NoError(t, err)
		var all []string
		for _, d := range docs {
			id, _, err := d.Value(t.Context(), c.id)
			require.NoError(t, err)
			version, ok, err := d.Value(t.Context(), c.version)
			require.NoError(t, err)
			tree, _, err := d.Value(t.Context(), c.other)
			require.NoError(t, err, "what is not of the subset is asked of the tree of the part")
			assert.Equal(t, id, tree)
			all = append(all, fmt.Sprint(id, " ", version, " ", ok))
		}
		if form == "json" {
			assert.Equal(t, []string{"deep-tides 2.1 true", "rope 0.9.2 true", " ? true", "  false", "  false"}, all)
		} else {
			assert.Equal(t, []string{"almanac 1 true", "it's 2 true", "sprinkler  false"}, all)
			text, ok, err := docs[0].Value(t.Context(), "/bay/@title")
			require.NoError(t, err)
			assert.True(t, ok)
			assert.Equal(t, "Old & new", text, "an absolute path begins at the root")
			text, _, err = docs[0].Value(t.Context(), "string(/bay/@title)")
			require.NoError(t, err)
			assert.Equal(t, "", text, "but not inside a function: the tree is that of the part")
		}
	}
}

func TestWhatIsNoPathOfTheSubset(t *testing.T) {
	for query, want := range map[string]bool{
		"$": true, "$.a": true, "$.a.b[3].c": true, "$[*].a": true, "$.*": true, `$["a b"]`: true, "$[?(@.id=='x]')]": true, "$[?@.id == \"x\"].n": true,
		"": false, "a": false, "$.": false, "$..a": false, "$.a[-1]": false, "$.a[1:2]": false, "$.a[?(@.n > 3)]": false, "$.a[?(@.n == 3)]": false, "$.a[0,1]": false, "$[": false,
		"$.a[?(@.id=='x'": false, "$.a[?(@.id=='x']": false, "$a": false, "$.a b": false, "$.length()": false,
	} {
		_, ok := jsonSteps(query)
		assert.Equal(t, want, ok, query)
	}
	for query, want := range map[string]bool{
		"/a": true, "/a/b[2]/@c": true, "a/b": true, "./a": true, ".": true, "@id": true, "/*/a": true, "/a[@b='x/y]']/c": true, "/a[b=\"x\"]": true, "/a-b/c_d1": true,
		"": false, "/": false, "//a": false, "/a//b": false, "/a/": false, "/a[last()]": false, "/a[0]": false, "count(/a)": false, "/a/text()": false, "../a": false, "/a/@b/c": false,
		"/x:a/b.c": true, "/a:": false, "/a[1][2]": false, "/a[b>1]": false, "a|b": false, "@*": false, "/a[@b='x'": false, "child::a": false,
	} {
		_, ok := xmlSteps(query)
		assert.Equal(t, want, ok, query)
	}
}

// TestAWayIsAQuery has members of all names that are hard to spell: the way that leads to one is a query that every reader takes so, and that it is
// written by.
func TestAWayIsAQuery(t *testing.T) {
	for _, name := range []string{"a", "1001", "9a", "a-b", "-a", "a b", "a.b", "a[0]", "]", "['x']", "it's", `q"`, `b\s`, `\`, `\'`, `a'b\'c"`, "ünï", "$", "*", "?", "@", "..", "a\nb", "\t", "$.a", "length()"} {
		quoted, err := jsontext.AppendQuote(nil, name)
		require.NoError(t, err)
		text := `{"other": "x", "of": {"first": 1, ` + string(quoted) + `: ["x", "needle"], "last": 2}}`
		way := Spec{Form: "json"}.Guide(strings.NewReader(text), int64(len(text)), nil).To(strings.Index(text, "needle"))
		assert.Equal(t, "$.of"+Spec{}.Step(name)+"[1]", way)
		assert.True(t, Streams("json", way), way)
		for about, parse := range map[string]func([]byte) (Doc, error){"a tree": parsers["json"].tree, "a stream": parsers["json"].large} {
			doc, err := parse([]byte(text))
			require.NoError(t, err)
			value, ok, err := doc.Value(t.Context(), way)
			require.NoError(t, err, "%s by %s", way, about)
			assert.True(t, ok, "%s by %s", way, about)
			assert.Equal(t, "needle", value, "%s by %s", way, about)
		}
		written, err := Splice(Spec{Form: "json"}, []byte(text), way, "thread")
		require.NoError(t, err, way)
		assert.Equal(t, strings.Replace(text, "needle", "thread", 1), string(written), way)
	}
	for _, query := range []string{"$.of.1001[1]", `$.of["1001"][1]`, "$['of']['1001'][1]"} {
		assert.True(t, Streams("json", query), query)
	}
	const nameless = `{"": "needle"}`
	assert.Empty(t, Spec{Form: "json"}.Guide(strings.NewReader(nameless), int64(len(nameless)), nil).To(strings.Index(nameless, "needle")), "no query leads there")
}

func TestLargeTextsThatAreDamaged(t *testing.T) {
	for form, data := range map[string]string{"json": someJSON, "xml": strings.TrimSpace(someXML)} {
		for n := range len(data) {
			_, err := parsers[form].large([]byte(data[:n]))
			assert.ErrorIs(t, err, ErrDamaged, "%s, cut after %d bytes", form, n)
		}
	}
	for _, data := range []string{"<a></b>", "</a>", "<a><b></a></b>", "no tag", "", "<!-- <a/> -->"} {
		_, err := parseLargeXML([]byte(data))
		assert.ErrorIs(t, err, ErrDamaged, data)
	}
	_, err := parseLargeXML([]byte(strings.Repeat("<a>", maxDepth+1)))
	assert.ErrorIs(t, err, ErrTooLarge)
	doc, err := parseLargeXML([]byte("<a><b>&unknown;</b><c d=1/></a>"))
	require.NoError(t, err)
	_, _, err = doc.Value(t.Context(), "/a/b")
	assert.ErrorIs(t, err, ErrDamaged, "where it is looked at")
	_, _, err = doc.Value(t.Context(), "/a/c/@d")
	assert.ErrorIs(t, err, ErrDamaged)
	for _, data := range []string{`{"a": tru}`, `{"a" 1}`, `[1, 2`, `{"a": "b}`, ``, `nonsense`} {
		_, err := parseLargeJSON([]byte(data))
		assert.ErrorIs(t, err, ErrDamaged, data)
	}
}

func TestALargeTextInAnotherEncoding(t *testing.T) {
	text := "<?xml version='1.0' encoding='ISO-8859-1'?><a b='K\xfcste'><n>Bj\xf6rn</n>" + strings.Repeat("<c></c>", largeText/6) + "</a>"
	doc, err := Parse([]byte(text), Spec{Form: "xml"})
	require.NoError(t, err)
	require.IsType(t, largeXML{}, doc)
	for query, want := range map[string]string{"/a/n": "Björn", "/a/@b": "Küste"} {
		got, _, err := doc.Value(t.Context(), query)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
}

// largeSave is a save of so many things between a head and a tail.
func largeSave(form string, things int) []byte {
	var b bytes.Buffer
	if form == "json" {
		b.WriteString(`{"version": "1.6.2", "things": [`)
		for i := range things {
			fmt.Fprintf(&b, "{\"id\": \"deep-tides:lamp%d\", \"at\": [%d, %d], \"note\": \"x}]\\\"\"},\n", i%7, i, i*3)
		}
		b.WriteString(`{}], "mods": [{"id": "rope", "version": "0.9"}, {"id": "deep-tides", "version": "2.1"}]}`)
		return b.Bytes()
	}
	if form == "blocks" {
		b.WriteString("[bay]\nrelease = 1.6.2\n[things]\n")
		for i := range things {
			fmt.Fprintf(&b, "\t[thing]\n\t\tid = deep-tides:lamp%d\n\t\tat { x = %d y = %d }\n\t\tnote = \"x [/thing]\"\n\t[/thing]\n", i%7, i, i*3)
		}
		b.WriteString("[/things]\n[mod]\nid = rope\nversion = 0.9\n[/mod]\n[mod]\nid = deep-tides\nversion = 2.1\n[/mod]\n[/bay]\n")
		return b.Bytes()
	}
	b.WriteString(`<bay release="1.6.2"><things>`)
	for i := range things {
		fmt.Fprintf(&b, "<thing id=\"deep-tides:lamp%d\"><at x='%d' y='%d'/><note>x &gt; y</note></thing>\n", i%7, i, i*3)
	}
	b.WriteString(`</things><mods><mod id="rope" version="0.9"/><mod id="deep-tides" version="2.1"/></mods></bay>`)
	return b.Bytes()
}

var lastOf = map[string]string{"blocks": "$.bay[0].mod[?(@.id=='deep-tides')].version", "json": "$.mods[?(@.id=='deep-tides')].version", "xml": "/bay/mods/mod[@id='deep-tides']/@version"}

func TestALargeSaveIsReadInPlace(t *testing.T) {
	for form, query := range lastOf {
		data := largeSave(form, 600_000)
		require.Greater(t, len(data), maxTree)
		doc, err := Parse(data, Spec{Form: form})
		require.NoError(t, err)
		got, ok, err := doc.Value(t.Context(), query)
		require.NoError(t, err)
		assert.True(t, ok)
		assert.Equal(t, "2.1", got)
		_, err = doc.Each(t.Context(), map[string]string{"json": "$..id", "xml": "//mod", "blocks": "$..id"}[form])
		assert.ErrorIs(t, err, ErrTooLarge)
		assert.ErrorContains(t, err, "ask for children by name", "it says what can be asked")
		_, err = Parse(data[:len(data)-2], Spec{Form: form})
		assert.ErrorIs(t, err, ErrDamaged)
		if form == "json" {
			ids, err := doc.Each(t.Context(), "$.things[?(@.id=='deep-tides:lamp3')]")
			require.NoError(t, err)
			assert.Equal(t, 600_000/7, len(ids))
		}
	}
}

func TestAListInALargeTextHasAnEnd(t *testing.T) {
	data := []byte("[" + strings.Repeat("1,", maxElements+1) + "1]")
	doc, err := parseLargeJSON(data)
	require.NoError(t, err)
	_, err = doc.Each(t.Context(), "$[*]")
	assert.True(t, errors.Is(err, ErrTooLarge))
	first, _, err := doc.Value(t.Context(), "$[*]")
	require.NoError(t, err)
	assert.Equal(t, "1", first, "the first of several")
}

// FuzzLarge compares what large texts say with what trees of them say.
func FuzzLarge(f *testing.F) {
	f.Add("json", []byte(someJSON))
	f.Add("xml", []byte(someXML))
	f.Add("json", []byte(`[{"a":{"b":1,"b":[2,{"c":"x"}]}}]`))
	f.Add("xml", []byte(`<a b="1"><c>x<d/></c><c b='2'>y</c></a>`))
	queries := map[string][]string{
		"json": append([]string{"$.a", "$[0]", "$[*].a.b", "$.a[1].c", "$[?(@.c=='x')]"}, streamed["json"]...),
		"xml":  append([]string{"/a/c", "/a/@b", "/a/c[2]", "/a/c[@b='2']", "/*/*"}, streamed["xml"]...),
	}
	f.Add("json", []byte(`{"a": [{"b": 1, "c": "x1"}, {"b": 20, "c": "x2"}, {"b": 3.5, "c": "x"}, {"b": 4, "c": "x4"}]}`))
	f.Add("xml", []byte(`<a><c b="1">x1</c> <c b="20">x2</c> <c b='3'>x</c> <c b="4">x4</c></a>`))
	f.Add("blocks", []byte("[bay]\n[mod]\nid = x1\n[/mod]\n[mod]\nid = x20\n[/mod]\n[mod]\nid = 3 {\n}\n[/mod]\n[mod]\nid = x4\n[/mod]\n[/bay]\n"))
	for form := range blockSpecs {
		f.Add(form, []byte(someTexts[form]))
		queries[form] = streamed[form]
	}
	f.Fuzz(func(t *testing.T, form string, data []byte) {
		p, ok := parsers[form]
		if !ok || len(data) > 1<<16 {
			return
		}
		large, err := p.large(data)
		if err != nil {
			if !errors.Is(err, ErrDamaged) && !errors.Is(err, ErrTooLarge) {
				t.Fatal(err)
			}
		}
		parts, partsErr := inParts(form, data)
		require.Equal(t, err == nil, partsErr == nil, "in one piece: %v; of a file in small parts: %v", err, partsErr)
		tree, treeErr := p.tree(data)
		if treeErr != nil || err != nil {
			if form == "json" && (treeErr == nil) != (err == nil) {
				t.Fatalf("as a tree: %v; large: %v", treeErr, err)
			}
			return
		}
		for _, q := range queries[form] {
			want, treeErr := asked(t, tree, form, q)
			got, err := asked(t, large, form, q)
			if err == nil && treeErr == nil {
				assert.Equal(t, want, got, q)
			}
			again, partsErr := asked(t, parts, form, q)
			assert.Equal(t, got, again, "%s, in small parts", q)
			assert.Equal(t, err == nil, partsErr == nil, q)
		}
	})
}

// inParts reads a file of which hardly anything is in memory at once.
func inParts(form string, data []byte) (Doc, error) {
	return largeIn(form, inFile(bytes.NewReader(data), len(data)))
}

// largeIn passes over a file a few bytes at a time, and notes each part.
func largeIn(form string, text *source) (Doc, error) {
	text.step, text.least, text.aheadFrom = 5, 1, 1
	if over, ok := siblingsOf[form]; ok { // the second pass is over before the first one begins: whether they meet is no matter of luck
		if text.goAhead(over); text.ahead != nil {
			<-text.ahead.over
		}
	}
	return largeWith(form, text)
}

var siblingsOf = map[string]siblings{"json": jsonSiblings{}, "xml": xmlSiblings{}, "blocks": blockSiblings{}}

func largeWith(form string, text *source) (Doc, error) {
	switch form {
	case "xml":
		return largeXMLOf(text)
	case "json":
		return largeJSONOf(text)
	}
	return largeBlocksOf(text, blockSpecs[form].Blocks)
}

// TestWhatIsKnownOfAnEditedFile changes some bytes, well or badly: the file reads as one of which nothing is known.
func TestWhatIsKnownOfAnEditedFile(t *testing.T) {
	pieces := []string{"", "", " ", "\n", "[x]", "[/x]", "a = 1\n", "BEGIN x\n", "END\n", "\t", "1", `"x"`, `{"a": [1]}`, "}", "]", "[", ",", `"`, "<a>", "</a>", "<b/>", "<a>x</a>", "<!--", "]]>", "&lt;", "\xff"}
	random := rand.New(rand.NewPCG(1, 2))
	skipped, broken, whole := 0, 0, 0
	for form, data := range someTexts {
		first := inFile(strings.NewReader(data), len(data))
		_, err := largeIn(form, first)
		require.NoError(t, err)
		for range 600 {
			var edits []change
			for at, n := random.IntN(len(data)), 1+random.IntN(3); n > 0 && at < len(data); n-- {
				to := min(len(data), at+random.IntN(4)*random.IntN(20))
				edits = append(edits, change{at, to, pieces[random.IntN(len(pieces))]})
				at = to + 1 + random.IntN(60)
			}
			now, err := newPatched(first, edits)
			require.NoError(t, err)
			text, err := apply([]byte(data), edits)
			require.NoError(t, err)
			var copied bytes.Buffer
			require.NoError(t, now.CopyTo(&copied))
			require.Equal(t, string(text), copied.String())
			for at := range len(text) {
				if e, ok := now.part(at); ok && e.to < len(text) {
					skipped++
				}
			}
			plain, wantErr := parsers[form].large(text)
			known, err := largeIn(form, inFile(io.NewSectionReader(now, 0, now.Size()), len(text)))
			require.Equal(t, wantErr == nil, err == nil, "%v and %v: %s", wantErr, err, text)
			if err != nil {
				broken++
				continue
			}
			whole++
			for _, query := range streamed[form] {
				want, wantErr := asked(t, plain, form, query)
				got, err := asked(t, known, form, query)
				require.Equal(t, wantErr == nil, err == nil, "%s: %s", query, text)
				require.Equal(t, want, got, "%s: %s", query, text)
			}
		}
	}
	assert.Greater(t, min(skipped, broken, whole), 200, "each happens")
}

// TestAnOutlineIsBounded: of more parts than are noted, the larger ones are.
func TestAnOutlineIsBounded(t *testing.T) {
	o := newOutline()
	for i := range 3 * maxNoted {
		size := 1 + i%3
		if i%1000 == 2 {
			size = 100
		}
		o.note(i*leastNoted, extent{to: (i + size) * leastNoted})
	}
	assert.LessOrEqual(t, len(o.parts), maxNoted)
	assert.Greater(t, o.least, leastNoted)
	_, ok := o.part(2 * leastNoted)
	assert.True(t, ok, "a large one")
}

func BenchmarkLarge(b *testing.B) {
	for form, query := range lastOf {
		data := largeSave(form, 1_000_000)
		b.Run(form, func(b *testing.B) {
			b.SetBytes(int64(len(data)))
			for b.Loop() {
				doc, err := Parse(data, Spec{Form: form})
				require.NoError(b, err)
				_, ok, err := doc.Value(b.Context(), query)
				require.NoError(b, err)
				require.True(b, ok)
			}
		})
	}
}

// unclosed is how one of the last things in a large save is made one that does not end.
var unclosed = map[string][2]string{
	"json":   {`{}], "mods"`, `{], "mods"`},
	"xml":    {"</things><mods>", "<thing></things><mods>"},
	"blocks": {"[/things]\n[mod]", "[thing]\n[/things]\n[mod]"},
}

// TestSiblingsEndWithTheirParent passes over siblings alone: where they end is known only if all of them do.
func TestSiblingsEndWithTheirParent(t *testing.T) {
	for _, c := range []struct {
		form, text, end string // end is "" where that is not known
	}{
		{"xml", "<b/><c>x</c> <b/></a><!-- -->", "</a>"},
		{"xml", "<b/><c>x <b/></a>", ""},
		{"xml", "<b/><c>x</c>", ""},
		{"xml", "<c><c></a></c></a>", ""},
		{"blocks", "[b]\n[/b]\nc { }\n[/a]\nx = 1\n", "[/a]"},
		{"blocks", "b { } c { } } x", "} x"},
		{"blocks", "[b]\n[c]\n[/b]\n[/a]\n", ""},
		{"blocks", "[b]\n[/b]\n", ""},
		{"json", `{"b": 1}, [2]], 3`, "], 3"},
		{"json", `{"b": [1}, 2]`, ""},
		{"json", `{"b": 1}, [2`, ""},
		{"json", `{"b": 1}, 2}`, ""},
	} {
		text := inFile(strings.NewReader(c.text), len(c.text))
		end, err := siblingsOf[c.form].pass(text, 0, func() {})
		if c.end == "" {
			assert.Error(t, err, c.text)
			continue
		}
		require.NoError(t, err, c.text)
		assert.True(t, strings.HasPrefix(c.text[end:], c.end), "%s: %s", c.text, c.text[end:])
	}
}

// TestTextsThatEndWithWhatBegins: what a second pass begins at may be the last byte.
func TestTextsThatEndWithWhatBegins(t *testing.T) {
	for form, over := range siblingsOf {
		for _, end := range []string{"<", "<a", ",", ", {", "\n", "\n[", "\n[a", "\n\t", "{", "\na {", "<!", "</"} {
			for _, before := range []string{"<a>", `<a b="` + strings.Repeat("x", 60) + `"/>`, `"` + strings.Repeat("x", 60) + `"`} { // some need more in memory at once
				data := []byte(strings.Repeat(" ", len(before)) + before + end)
				text := inFile(bytes.NewReader(data), len(data))
				text.step, text.aheadFrom = 5, 1
				text.goAhead(over)
				_, _ = largeWith(form, text)
				assert.Nil(t, text.ahead)
				text.bytes(0, len(data))
				assert.Empty(t, text.bytes(len(data), len(data)+1), "there is nothing behind the end")
				assert.Zero(t, text.byteAt(len(data)))
			}
		}
	}
}

// TestTheSecondPass: a large text is passed over from its middle on, too, and what is wrong in either half is found.
func TestTheSecondPass(t *testing.T) {
	for form, query := range lastOf {
		data := largeSave(form, 20_000)
		bad := map[string]byte{"json": 0, "xml": '<', "blocks": 0}[form]
		for name, c := range map[string]func([]byte) []byte{
			"whole":          func(b []byte) []byte { return b },
			"wrong at first": func(b []byte) []byte { b[len(b)/4] = bad; return b },
			"wrong at last":  func(b []byte) []byte { b[len(b)*3/4] = bad; return b },
			"cut":            func(b []byte) []byte { return b[:len(b)*3/4] },
			"one that does not end": func(b []byte) []byte {
				return bytes.Replace(b, []byte(unclosed[form][0]), []byte(unclosed[form][1]), 1)
			},
			"a quote too much": func(b []byte) []byte { return bytes.Replace(b, []byte(`lamp3`), []byte(`"lamp3<`), 1) },
		} {
			now := c(bytes.Clone(data))
			_, wantErr := parsers[form].large(now)
			text := inFile(bytes.NewReader(now), len(now))
			text.step, text.aheadFrom = 4096, 1
			doc, err := largeWith(form, text)
			require.Equal(t, fmt.Sprint(wantErr), fmt.Sprint(err), "%s, %s", form, name)
			assert.Nil(t, text.ahead, "nothing goes on")
			if name != "whole" {
				require.True(t, err != nil || form == "blocks" && name == "a quote too much", "%s, %s", form, name) // there it means nothing in a word
				continue
			}
			require.NoError(t, err)
			_, ok, err := doc.Value(t.Context(), query)
			require.NoError(t, err)
			assert.True(t, ok)
		}
		text := inFile(bytes.NewReader(data), len(data))
		text.step, text.aheadFrom = 4096, 1
		text.goAhead(siblingsOf[form])
		require.NotNil(t, text.ahead)
		to, ok := text.jump()
		assert.True(t, ok && to > len(data)*3/4, "%s: to %d of %d", form, to, len(data))
	}
}

// failing is a file that cannot be read from some byte on, or any more after so many reads.
type failing struct {
	data  []byte
	from  int
	reads atomic.Int64
}

func (f *failing) ReadAt(b []byte, off int64) (int, error) {
	n := 0
	if f.reads.Add(-1) < 0 {
		return 0, errors.New("the drive is gone")
	}
	if int(off) < f.from {
		n = copy(b, f.data[off:f.from])
	}
	if n < len(b) {
		return n, errors.New("the drive is broken")
	}
	return n, nil
}

// TestAFileThatCannotBeReadOn: what is said then is what stands there, or an error.
func TestAFileThatCannotBeReadOn(t *testing.T) {
	for form, data := range someTexts {
		for from := range len(data) {
			file := &failing{data: []byte(data), from: len(data)}
			file.reads.Store(1 << 30)
			doc, err := largeIn(form, inFile(file, len(data)))
			require.NoError(t, err)
			want, err := parsers[form].large([]byte(data))
			require.NoError(t, err)
			file.from = from
			for _, query := range streamed[form] {
				text, ok, err := doc.Value(t.Context(), query)
				if err != nil {
					break // what cannot be read once is not asked again
				}
				should, is, _ := want.Value(t.Context(), query)
				require.Equal(t, fmt.Sprint(should, is), fmt.Sprint(text, ok), "%s, from byte %d", query, from)
			}
			_, err = largeIn(form, inFile(file, len(data)))
			require.Error(t, err, "%s, from byte %d", form, from)
		}
		for reads := range 60 {
			file := &failing{data: []byte(data), from: len(data)}
			file.reads.Store(1 << 30)
			doc, err := largeIn(form, inFile(file, len(data)))
			require.NoError(t, err)
			want, err := parsers[form].large([]byte(data))
			require.NoError(t, err)
			file.reads.Store(int64(reads))
			for _, query := range streamed[form] {
				got, err := asked(t, doc, form, query)
				if err != nil {
					break
				}
				should, err := asked(t, want, form, query)
				require.NoError(t, err)
				require.Equal(t, should, got, "%s, after %d reads", query, reads)
			}
			file.reads.Store(int64(reads))
			guide := Spec{Form: map[bool]string{true: form, false: "json"}[form == "xml"]}.Guide(file, int64(len(data)), nil)
			for at := 0; at < len(data); at += 11 {
				guide.To(at)
			}
		}
		for reads := 0; ; reads++ {
			file := &failing{data: []byte(data), from: len(data)}
			file.reads.Store(int64(reads))
			text := inFile(file, len(data))
			text.step, text.least, text.aheadFrom = 5, 1, 1<<30
			if _, err := largeWith(form, text); err == nil {
				require.Greater(t, reads, 5)
				break
			}
		}
	}
}

// TestASecondPassThatHasNotBegun: a text that ends before the second pass has found where to begin is not gone on with at its end.
func TestASecondPassThatHasNotBegun(t *testing.T) {
	for form, data := range map[string]string{"json": `{"a": [{"b": 1}, {"b": 2}`, "xml": "<a><b/><c><b/></c>", "blocks": "[a]\n[b]\n[/b]\n[c]\n[/c]\n"} {
		text := inFile(strings.NewReader(data), len(data))
		over := make(chan struct{})
		close(over)
		text.ahead = &ahead{over: over, to: strings.LastIndexAny(data, "<{[")} // and says where siblings would end
		var err error
		switch form {
		case "xml":
			err = newXML(text).children(newXML(text).root, nil)
		case "json":
			_, err = newJSON(text).pass(0, len(data))
		default:
			b := &blockSource{text, BlockPatterns{}, map[place]*nameCounts{}}
			err = b.children(b.root(), func(blockPart) error { return nil })
		}
		assert.ErrorIs(t, err, ErrDamaged, form)
	}
}

// TestNothingFollowsAText: what stands behind the end of a JSON or an XML, as where a shorter text was written over a longer one, is damage: one reader
// would read it, and another one not. White space, zeros and notes may follow.
func TestNothingFollowsAText(t *testing.T) {
	for form, c := range map[string]struct{ whole, damaged []string }{
		"json": {
			[]string{`{"a": 1}`, "{\"a\": 1}\r\n \t", "{\"a\": 1}\n\x00\x00\x00", `[1, {"a": []}] `, `"x"`, "12\n", `{}`, "[]\n"},
			[]string{`{"a": 1}{"a": 2}`, `{"a": 1}]`, `{"a": 1} x`, `[1],`, `{}"mods": []}`, `[] []`, `"x" "y"`, "{\"a\": 1}\n\x00\x00}"},
		},
		"xml": {
			[]string{"<a/>", "<a>x</a>\n", "<!-- --><a/> <!-- x --> <?y z?>\n", "<a/><a/>\n"},
			[]string{"<a/>x", "<a>x</a> y <!-- -->", `<a b="1"></a>d="1"`, "<a/><!-- --> z"},
		},
	} {
		for i, text := range append(c.whole, c.damaged...) {
			for name, parse := range map[string]func([]byte) (Doc, error){
				"tree": parsers[form].tree, "large": parsers[form].large, "in parts": func(data []byte) (Doc, error) { return inParts(form, data) },
			} {
				_, err := parse([]byte(text))
				if i < len(c.whole) {
					assert.NoError(t, err, "%s: %q", name, text)
				} else {
					assert.ErrorIs(t, err, ErrDamaged, "%s: %q", name, text)
				}
			}
		}
	}
}
