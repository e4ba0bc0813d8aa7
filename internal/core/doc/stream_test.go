package doc

import (
	"bytes"
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os/exec"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/fstest"

	"github.com/go-json-experiment/json/jsontext"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/wrap"
)

const someJSON = `{
  "version": "1.6.2", "seed": 1.10, "hard": true, "none": null, "text": "say \"hä\" \u00e4\n", "twice": 1, "twice": "the last",
  "captain": {"name": "Ines", "id": 70112, "ship": {"name": "Gannet"}},
  "mods": [ {"id": "deep-tides", "version": "2.1"}, {"id": "rope", "version": "0.9.2", "on": false}, {"version": "?"}, "bare", 7 ],
  "empty": [], "nothing": {}, "grid": [[1, 2], [3, [4]], []]
}`

const someXML = `<?xml version="1.0"?>
<!DOCTYPE bay [ <!ELEMENT bay (a | b)> ]>
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

var streamed = map[string][]string{
	"json": {"$", "$.version", "$.seed", "$.hard", "$.none", "$.text", "$.twice", "$.captain", "$.captain.name", "$.captain.ship.name", "$['captain']['id']", "$.mods",
		"$.mods[0].id", "$.mods[1]", "$.mods[3]", "$.mods[9]", "$.mods[*]", "$.mods[*].id", "$.mods[?(@.id == 'rope')].version", "$.mods[?@.id=='rope'].on",
		"$.mods[?(@.id == 'missing')]", "$.grid[1][1][0]", "$.grid[*][0]", "$.empty[*]", "$.nothing.x", "$.version.x", "$.mods.id", "$.captain[0]", "$.missing.far", "$[0]"},
	"xml": {"/bay", "/bay/@title", "/bay/@release", "/bay/@missing", "/bay/purse", "/bay/cogs/cog", "/bay/cogs/cog/@id", "/bay/cogs/cog[1]/@id", "/bay/cogs/cog[3]/version",
		"/bay/cogs/cog[4]", "/bay/cogs/cog[@id='sprinkler']/@note", "/bay/cogs/cog[@id='almanac']/@version", "/bay/cogs/cog[version='3']/@id", "/bay/cogs/cog[@id='no']",
		"/bay/cogs/cog[note='a < b']/@version", "/bay/empty", "/bay/empty[2]", "/bay/*[1]", "/bay/*[2]/cog[2]/note", "/bay/text", "/bay/text/b", "/none", "/bay/cogs/*/@id",
		"/bay/cogs/cog/parts/part[2]", "bay/purse"},
}

var someTexts = map[string]string{"json": someJSON, "xml": someXML, "blocks": someBlocks, "lines": someLines, "indented": someIndented}

var blockSpecs = map[string]Spec{
	"blocks":   {Form: "blocks"},
	"lines":    {Form: "blocks", Blocks: BlockPatterns{Open: `^BEGIN (?P<name>\w+)$`, Close: `^END (?P<name>\w+)$`, Pair: `^(?P<key>\w+): (?P<value>.*)$`}},
	"indented": {Form: "blocks", Blocks: BlockPatterns{Indent: true}},
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

type failing struct {
	data  []byte
	from  int
	reads atomic.Int64
}

func init() {
	for form := range blockSpecs {
		streamed[form] = []string{"$", "$.bay", "$.bay[0]", "$.bay[0].title", "$.bay[0].mod", "$.bay[0].mod[*]", "$.bay[0].mod[*].id", "$.bay[0].mod[1].version", "$.bay[0].mod[2].id",
			"$.bay[0].mod[?(@.id == 'deep-tides')].version", "$.bay[0].mod[?(@.id == 'no')].version", "$.bay[0].seen", "$.bay[0].seen[1]", "$.bay[0].seen[*]", "$.bay[0].words", "$.bay[0].words[0]",
			"$.bay.title", "$.captain[0].name", "$.captain[0].ship[0].name", "$.words", "$.words[*]", "$.empty", "$.empty[0]", "$.empty[*].x", "$.last", "$.last[0]", "$.last.x", "$[0]", "$.missing[*].far",
			"$.bay[*].mod[*].part[*].name"}
	}
}

func specOf(form string) Spec {
	if spec, ok := blockSpecs[form]; ok {
		return spec
	}
	return Spec{Form: form}
}

// ways are how one text can be opened: in memory, and through windows of several sizes.
func ways(form string, data []byte) (docs map[string]*Doc, errs map[string]error) {
	docs, errs = map[string]*Doc{}, map[string]error{}
	for name, step := range map[string]int{"memory": 0, "5 bytes": 5, "64 bytes": 64} {
		src := inMemory(data)
		if step > 0 {
			src = inFile(bytes.NewReader(data), len(data))
			src.step = step
		}
		f, err := specOf(form).fileOf(src)
		if err == nil {
			f.step = step
			err = f.reader.check(context.Background(), nil)
		}
		docs[name], errs[name] = &Doc{f: f}, err
	}
	return docs, errs
}

// said is all that a document says to a query.
func said(ctx context.Context, d *Doc, form, query string) string {
	text, ok, err := d.Value(ctx, query)
	all := fmt.Sprintf("%q %v %v", text, ok, err != nil)
	each, err := d.Each(ctx, query)
	all += fmt.Sprint(" ", len(each), err != nil)
	for _, e := range each {
		text, ok, err := e.Value(ctx, Self(specOf(form).Form))
		all += fmt.Sprintf(" %q %v %v", text, ok, err != nil)
	}
	return all
}

// TestAnswersAreTheSameAtEverySize asks texts in memory, through small windows, and padded past every window.
func TestAnswersAreTheSameAtEverySize(t *testing.T) {
	padding := map[string]string{"json": strings.Repeat(" ", maxInMemory), "xml": "<!--" + strings.Repeat("- ", maxInMemory/2) + "-->", "blocks": strings.Repeat("# padding\n", maxInMemory/10), "indented": strings.Repeat("# padding\n", maxInMemory/10), "lines": strings.Repeat("\n", maxInMemory)}
	for form, data := range someTexts {
		docs, errs := ways(form, []byte(data))
		for name, err := range errs {
			require.NoError(t, err, "%s, %s", form, name)
		}
		padded := padding[form] + data
		if form == "xml" {
			padded = strings.Replace(data, "?>", "?>"+padding[form], 1)
		}
		large, err := Open(t.Context(), fstest.MapFS{"a": {Data: []byte(padded)}}, "a", specOf(form), wrap.DefaultLimits, streamed[form]...)
		require.NoError(t, err, form)
		docs["padded"] = large
		answers := 0
		for _, query := range streamed[form] {
			want := said(t.Context(), docs["memory"], form, query)
			if strings.Contains(want, "true false") {
				answers++
			}
			for name, d := range docs {
				assert.Equal(t, want, said(t.Context(), d, form, query), "%s, %s: %s", form, name, query)
			}
		}
		assert.Greater(t, answers, 8, "%s: most are answered", form)
		require.NoError(t, large.Close())
	}
}

// TestEveryCutIsNoticed cuts texts after each byte.
func TestEveryCutIsNoticed(t *testing.T) {
	for form, data := range map[string]string{"json": someJSON, "xml": strings.TrimSpace(someXML)} {
		for n := range len(data) {
			_, errs := ways(form, []byte(data[:n]))
			for name, err := range errs {
				assert.ErrorIs(t, err, wrap.ErrDamaged, "%s in %s, cut after %d bytes", form, name, n)
			}
		}
	}
}

// TestWhatIsNoText has what a reader must refuse, in both forms and in each way.
func TestWhatIsNoText(t *testing.T) {
	for form, c := range map[string]struct{ whole, damaged []string }{
		"json": {
			[]string{`{"a": 1}`, "{\"a\": 1}\r\n \t", "{\"a\": 1}\n\x00\x00\x00", `[1, {"a": []}] `, `"x"`, "12\n", `{}`, "[]\n", `-0.5e+7`, `"\u00e4\ud83d\ude00"`, "\"\xff\""},
			[]string{`{"a": 1}{"a": 2}`, `{"a": 1}]`, `{"a": 1} x`, `[1],`, `{}"mods": []}`, `[] []`, `"x" "y"`, "{\"a\": 1}\n\x00\x00}", `{"a": tru}`, `{"a" 1}`, `[1, 2`, `{"a": "b}`, ``, `nonsense`, `01`, `1.`, `[1,]`, `{"a":1,}`, `"\x"`, "\"\n\"", `{1: 2}`, `[1 2]`, `-`},
		},
		"xml": {
			[]string{"<a/>", "<a>x</a>\n", "<!-- --><a/> <!-- x --> <?y z?>\n", "<a/><a/>\n", `<?xml version="1.1"?><a/>`, "<a><!-- a -- b --></a>", `<!DOCTYPE a [<!ENTITY e "x">]><a b="&e;">&e;&#65;</a>`, "<a\n b = 'x'\t/>", "<a>]]</a>", "<a>\u00e4</a>"},
			[]string{"<a/>x", "<a>x</a> y <!-- -->", `<a b="1"></a>d="1"`, "<a/><!-- --> z", "<a></b>", "</a>", "<a><b></a></b>", "no tag", "", "<!-- <a/> -->", "<a>&unknown;</a>", "<a b=1/>", "<a b='1' b='2'/>", "<a b='<'/>", "<a>\x00</a>", "<a>\xff</a>", "<a>&</a>", "<1/>", "<a b/>"},
		},
		"blocks": {[]string{"", "a = 1", "a { b = 1 }", "[a]\n[/a]"}, []string{"[line]\nname=x", "a { b=1", "[/line]", "}", "[line]\n[/stop]", "a\x00b"}},
	} {
		for i, text := range append(c.whole, c.damaged...) {
			_, errs := ways(form, []byte(text))
			for name, err := range errs {
				if i < len(c.whole) {
					assert.NoError(t, err, "%s: %q", name, text)
				} else {
					assert.ErrorIs(t, err, wrap.ErrDamaged, "%s: %q", name, text)
				}
			}
		}
		for _, deep := range []string{strings.Repeat(map[string]string{"json": "[", "xml": "<a>", "blocks": "a{"}[form], maxDepth+1)} {
			_, errs := ways(form, []byte(deep))
			assert.ErrorIs(t, errs["memory"], wrap.ErrTooLarge, form)
		}
	}
}

// TestEntitiesAreBounded has entities that stand for much, or for something outside of the file.
func TestEntitiesAreBounded(t *testing.T) {
	laughs := `<!DOCTYPE a [<!ENTITY a "` + strings.Repeat("x", 1000) + `">`
	for i := range 7 {
		laughs += fmt.Sprintf(`<!ENTITY %c "%s">`, 'b'+i, strings.Repeat(fmt.Sprintf("&%c;", 'a'+i), 20))
	}
	_, err := Parse([]byte(laughs+"]><a>&h;</a>"), Spec{Form: "xml"})
	assert.ErrorIs(t, err, wrap.ErrTooLarge)
	_, err = Parse([]byte(`<!DOCTYPE a [<!ENTITY e SYSTEM "file:///etc/hostname">]><a>&e;</a>`), Spec{Form: "xml"})
	assert.ErrorIs(t, err, wrap.ErrUnknown, "it is not read")
	d, err := Parse([]byte(`<!DOCTYPE a [<!ENTITY who "Old &amp; new"><!ENTITY both "&who;!">]><a t="&both;">&who;</a>`), Spec{Form: "xml"})
	require.NoError(t, err)
	assert.Equal(t, []string{"Old & new!", "Old & new", "Old & new!"}, values(t, d, "/a/@t", "/a", "//@t"))
}

// TestStandsTwice: a list over a name that stands twice has both; a single value is not understood, and not written.
func TestStandsTwice(t *testing.T) {
	for form, c := range map[string]struct{ text, one, each string }{
		"json":   {`{"a": "1", "a": "2"}`, "$.a", "$.a"},
		"ini":    {"[s]\na=1\n[t]\nx=1\n[s]\na=2\n", "s.a", `s\.a`},
		"blocks": {"b {\na = 1\na = 2\n}\n", "$.b[0].a", "$.b[0].a[*]"},
	} {
		d, err := Parse([]byte(c.text), Spec{Form: form})
		require.NoError(t, err)
		_, _, err = d.Value(t.Context(), c.one)
		assert.ErrorIs(t, err, wrap.ErrUnknown, form)
		each, err := d.Each(t.Context(), c.each)
		require.NoError(t, err)
		assert.Len(t, each, 2, form)
		_, err = Splice(Spec{Form: form}, []byte(c.text), c.one, "3")
		assert.ErrorIs(t, err, wrap.ErrNotWritable, form)
	}
	for _, text := range []string{`{"a": {}, "a": {"b": "1"}}`, `{"a": {"b": "1"}, "a": {}}`, `{"a": [{"b": "1", "x": 1, "x": 2}], "c": 1}`} {
		d, err := Parse([]byte(text), Spec{Form: "json"})
		require.NoError(t, err)
		_, _, err = d.Value(t.Context(), "$.a.b")
		if strings.Contains(text, `"a": [`) {
			_, _, err = d.Value(t.Context(), "$.a[0].b")
			assert.NoError(t, err, "another name stands twice")
			continue
		}
		assert.ErrorIs(t, err, wrap.ErrUnknown, text)
	}
}

// TestSpellings is one table of values as forms spell them, run through reading, listing, editing and searching alike, small and padded past every window.
func TestSpellings(t *testing.T) {
	type spelling struct {
		form, text, query, each string
		says                    string
		padding                 string // before the text; %s in it is the padding
	}
	value := "näe \"d\" & <le> 'x' \\ /"
	quoted, err := json.Marshal(value)
	require.NoError(t, err)
	escaped := strings.NewReplacer("n", "\\u006e", "ä", "\\u00e4", "/", "\\/").Replace(strings.Trim(string(quoted), `"`))
	entities := strings.NewReplacer("&", "&amp;", "<", "&lt;", `"`, "&quot;", "n", "&#110;", "ä", "&#xe4;").Replace(value)
	space := strings.Repeat("  \n", maxInMemory/3+1)
	for _, s := range []spelling{
		{"json", `{"rows": [{"id": ` + string(quoted) + `}]}`, "$.rows[0].id", "$.rows[*].id", value, space},
		{"json", `{"ro\u0077s": [{"\u0069d": "` + escaped + `"}]}`, "$.rows[0].id", "$.rows[*].id", value, space},
		{"json", "\xef\xbb\xbf" + `{"rows": [{"id": ""}]}`, "$.rows[0].id", "$.rows[*].id", "", ""},
		{"json", `{"rows": [{"id": null}]}`, "$.rows[0].id", "$.rows[*].id", "", space},
		{"xml", `<w><row id="` + entities + `"/></w>`, "/w/row/@id", "/w/row/@id", value, "<!--" + space + "-->"},
		{"xml", `<w><row>` + entities + `</row></w>`, "/w/row", "/w/row", value, "<!--" + space + "-->"},
		{"xml", `<w><row><![CDATA[` + value + `]]></row></w>`, "/w/row", "/w/row", value, "<?x " + space + "?>"},
		{"xml", `<!DOCTYPE w [<!ENTITY v '` + strings.ReplaceAll(entities, "'", "&#39;") + `'>]><w><row>&v;</row></w>`, "/w/row", "/w/row", value, "<!--" + space + "-->"},
		{"xml", "<w><row/></w>", "/w/row", "/w/row", "", "<!--" + space + "-->"},
		{"blocks", "row {\n id = \"" + strings.NewReplacer(`\`, `\\`, `"`, `""`).Replace(value) + "\"\n}\n", "$.row[0].id", "$.row[*].id", value, "# " + strings.Repeat("x", 200) + "\n"},
		{"ini", "[row]\r\nid = " + value + "\r\n", "row.id", `row\.id`, value, strings.Repeat("; padding\n", maxInMemory/8)},
		{"ini", "[row]\nid=\n", "row.id", `row\.id`, "", strings.Repeat("; padding\n", maxInMemory/8)},
		{"lines", "row " + value + "\r\nend\r\n", `^row (.*)$`, `^row (.*)$`, value, strings.Repeat("no\n", maxInMemory/2)},
		{"text", "\xef\xbb\xbfrow " + value + "\r\nend\r\n", `^row (.*)$`, `^row (.*)$`, value, ""},
	} {
		for _, text := range []string{s.text, s.padding + s.text} {
			about := fmt.Sprintf("%s %.60q (%d bytes)", s.form, s.text, len(text))
			spec := Spec{Form: s.form}
			d, err := Open(t.Context(), fstest.MapFS{"a": {Data: []byte(text)}}, "a", spec, wrap.DefaultLimits, s.query)
			require.NoError(t, err, about)
			got, ok, err := d.Value(t.Context(), s.query)
			require.NoError(t, err, about)
			assert.True(t, ok, "what is there and empty is there: %s", about)
			assert.Equal(t, s.says, got, about)
			var listed []string
			require.NoError(t, d.EachText(t.Context(), s.each, func(v string) error { listed = append(listed, v); return nil }), about)
			if s.form != "text" && s.form != "lines" || s.says != "" {
				assert.Equal(t, []string{s.says}, trimmedAll(listed), about)
			}
			if s.says != "" {
				found := 0
				require.NoError(t, d.f.Search(t.Context(), s.says, func(at Found) error {
					if strings.Contains(s.text, "ENTITY") && at.Query == "" {
						return nil
					}
					found++
					if s.form != "lines" && s.form != "text" {
						n, err := d.f.Find(t.Context(), nil, at.Query, false)
						require.NoError(t, err, about)
						says, _, err := d.f.Value(n[0])
						require.NoError(t, err)
						assert.Equal(t, s.says, says, about)
					}
					return nil
				}), about)
				assert.Equal(t, 1, found, "search: %s", about)
			}
			require.NoError(t, d.Close())
			for _, now := range []string{"plain", `with "quotes" and <tags> & \`, ""} {
				if s.form == "text" && now == "" || s.form == "lines" && now == "" {
					continue
				}
				written, err := Splice(spec, []byte(text), s.query, now)
				require.NoError(t, err, "%s: %q", about, now)
				again, err := Parse(written, spec)
				require.NoError(t, err, about)
				got, ok, err := again.Value(t.Context(), s.query)
				require.NoError(t, err)
				assert.True(t, ok)
				assert.Equal(t, now, got, about)
				assert.Equal(t, strings.Count(text, "\r\n"), strings.Count(string(written), "\r\n"), "line ends stay: %s", about)
				assert.Equal(t, strings.HasPrefix(text, "\xef\xbb\xbf"), strings.HasPrefix(string(written), "\xef\xbb\xbf"))
			}
		}
	}
}

func trimmedAll(all []string) []string {
	for i := range all {
		all[i] = strings.TrimRight(all[i], "\r")
	}
	return all
}

// pathsOf are all values of a text by the way to each, as the scanner tells them.
type pathSink struct {
	searcher
	all []string
}

func (p *pathSink) begin(e *event) (bool, error) { return p.searcher.begin(e) }
func (p *pathSink) end(e *event) error           { return p.searcher.end(e) }
func (p *pathSink) leaf(e *event) error {
	n := p.step(e)
	if e.kind == kindText {
		return nil
	}
	text, err := p.scan.decode(e)
	p.all = append(p.all, p.query(e, n)+"="+text)
	return err
}

func pathsOf(t testing.TB, form string, data []byte, step int) []string {
	src := inMemory(data)
	if step > 0 {
		src = inFile(bytes.NewReader(data), len(data))
		src.step = step
	}
	f, err := specOf(form).fileOf(src)
	require.NoError(t, err)
	f.step = step
	scan := f.scanner()
	p := &pathSink{searcher: searcher{spelled: true, ctx: context.Background(), scan: scan, form: f.Spec.Form, text: "\x00", way: []wayStep{{}}}}
	require.NoError(t, scan.whole(p), "%q", data)
	return p.all
}

// randomJSON is a value with names and texts of all kinds.
func randomJSON(r *rand.Rand, depth int) any {
	words := []string{"a", "b c", "ünï", "\"q\"", "\\", "\u2028", "😀", "x/y", "", "\t", "1001", "<&>"}
	switch n := r.IntN(8); {
	case n < 2 && depth < 4:
		all := map[string]any{}
		for range r.IntN(5) {
			all[words[r.IntN(len(words))]] = randomJSON(r, depth+1)
		}
		return all
	case n < 4 && depth < 4:
		all := []any{}
		for range r.IntN(5) {
			all = append(all, randomJSON(r, depth+1))
		}
		return all
	case n == 4:
		return json.Number([]string{"0", "-1", "1.50", "2e10", "123456789012345678901"}[r.IntN(5)])
	case n == 5:
		return r.IntN(2) == 0
	case n == 6:
		return nil
	}
	return words[r.IntN(len(words))] + words[r.IntN(len(words))]
}

// flat are the values in a value of encoding/json, by their ways.
func flat(way string, v any) (all []string) {
	switch v := v.(type) {
	case map[string]any:
		for key, value := range v {
			step := ""
			if key != "" {
				step = stepTo(key)
			}
			if all = append(all, flat(way+step, value)...); key == "" {
				return append(all, "?")
			}
		}
	case []any:
		for i, value := range v {
			all = append(all, flat(fmt.Sprintf("%s[%d]", way, i), value)...)
		}
	case nil:
		return []string{way + "="}
	default:
		return []string{way + "=" + fmt.Sprint(v)}
	}
	return all
}

// TestOthersReadTheSame compares what the scanners tell of random texts with the decoders of the standard library, and of Python where it is there.
func TestOthersReadTheSame(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	var forPython []string
	for range 500 {
		v := randomJSON(r, 0)
		data, err := json.MarshalIndent(v, "", strings.Repeat(" ", r.IntN(3)))
		require.NoError(t, err)
		want := flat("$", v)
		if slices.Contains(want, "?") { // no way leads to what has no name
			continue
		}
		got := pathsOf(t, "json", data, []int{0, 5, 40}[r.IntN(3)])
		slices.Sort(want)
		slices.Sort(got)
		require.Equal(t, want, got, "%s", data)
		forPython = append(forPython, string(data))
	}
	for range 500 {
		data := randomXML(r)
		require.Equal(t, attributesOf(t, data), pathsOf(t, "xml", data, []int{0, 5, 40}[r.IntN(3)]), "%s", data)
	}
	if _, err := exec.LookPath("python3"); err != nil {
		t.Skip("needs python3 (Debian: python3)")
	}
	program := "import json,sys\nprint(json.dumps([json.loads(x) for x in json.load(sys.stdin)]))"
	in, err := json.Marshal(forPython)
	require.NoError(t, err)
	cmd := exec.CommandContext(t.Context(), "python3", "-c", program)
	cmd.Stdin = bytes.NewReader(in)
	out, err := cmd.Output()
	require.NoError(t, err)
	d := json.NewDecoder(bytes.NewReader(out))
	d.UseNumber()
	var read []any
	require.NoError(t, d.Decode(&read))
	require.Len(t, read, len(forPython))
	for i, v := range read {
		want, got := flat("$", v), pathsOf(t, "json", []byte(forPython[i]), 0)
		for _, all := range [][]string{want, got} {
			slices.Sort(all)
			for k := range all { // Python spells numbers its own way
				all[k] = strings.NewReplacer("1.50", "1.5", "2e10", "20000000000.0").Replace(all[k])
			}
		}
		require.Equal(t, want, got, forPython[i])
	}
}

// randomXML is an XML with attributes of all spellings.
func randomXML(r *rand.Rand) []byte {
	var b strings.Builder
	spelled := []string{"x", "a &amp; b", "&lt;", "&#65;&#x42;", "ünï", "it's", " > ", "&quot;"}
	var element func(depth int)
	element = func(depth int) {
		name := []string{"a", "b", "n:c", "d-e"}[r.IntN(4)]
		fmt.Fprintf(&b, "<%s", name)
		for i := range r.IntN(3) {
			fmt.Fprintf(&b, " %c=\"%s\"", 'p'+i, spelled[r.IntN(len(spelled))])
		}
		if r.IntN(3) == 0 {
			b.WriteString("/>")
			return
		}
		b.WriteString(">")
		for range r.IntN(4) {
			switch n := r.IntN(5); {
			case n < 2 && depth < 4:
				element(depth + 1)
			case n == 2:
				b.WriteString("<!-- <a p='no'/> -->")
			case n == 3:
				b.WriteString("<![CDATA[<a p='no'/>]]>")
			default:
				b.WriteString(spelled[r.IntN(len(spelled)-1)])
			}
		}
		fmt.Fprintf(&b, "</%s >", name)
	}
	element(0)
	return []byte(b.String())
}

// attributesOf are the attributes of an XML by their ways, as encoding/xml reads it.
func attributesOf(t *testing.T, data []byte) (all []string) {
	d := xml.NewDecoder(bytes.NewReader(data))
	type open struct {
		way  string
		seen map[string]int
	}
	stack := []open{{seen: map[string]int{}}}
	raw := func(n xml.Name) string {
		if n.Space != "" {
			return n.Space + ":" + n.Local
		}
		return n.Local
	}
	for {
		token, err := d.RawToken()
		if err == io.EOF {
			return all
		}
		require.NoError(t, err)
		switch token := token.(type) {
		case xml.StartElement:
			top := stack[len(stack)-1]
			top.seen[raw(token.Name)]++
			way := fmt.Sprintf("%s/%s[%d]", top.way, raw(token.Name), top.seen[raw(token.Name)])
			stack = append(stack, open{way, map[string]int{}})
			for _, a := range token.Attr {
				all = append(all, way+"/@"+raw(a.Name)+"="+a.Value)
			}
		case xml.EndElement:
			stack = stack[:len(stack)-1]
		}
	}
}

// TestAFileThatCannotBeReadOn: what is said then is what stands there, or an error.
func TestAFileThatCannotBeReadOn(t *testing.T) {
	for form, data := range someTexts {
		whole, _ := ways(form, []byte(data))
		for from := range len(data) {
			file := &failing{data: []byte(data), from: len(data)}
			file.reads.Store(1 << 30)
			src := inFile(file, len(data))
			src.step = 5
			f, err := specOf(form).fileOf(src)
			require.NoError(t, err)
			f.step = 5
			require.NoError(t, f.reader.check(t.Context(), nil))
			file.from = from
			f.free = nil
			assert.Error(t, f.reader.check(t.Context(), nil), "%s, from byte %d", form, from)
			d := &Doc{f: f}
			for _, query := range streamed[form] {
				text, ok, err := d.Value(t.Context(), query)
				if err == nil {
					want, is, _ := whole["memory"].Value(t.Context(), query)
					require.Equal(t, fmt.Sprint(want, is), fmt.Sprint(text, ok), "%s, from byte %d", query, from)
				}
			}
		}
	}
}

// TestAWayIsAQuery has members of all names that are hard to spell: the way that leads to one is a query that it is read and written by.
func TestAWayIsAQuery(t *testing.T) {
	for _, name := range []string{"a", "1001", "9a", "a-b", "-a", "a b", "a.b", "a[0]", "]", "['x']", "it's", `q"`, `b\s`, `\`, `\'`, `a'b\'c"`, "ünï", "$", "*", "?", "@", "..", "a\nb", "\t", "$.a", "length()"} {
		quoted, err := jsontext.AppendQuote(nil, name)
		require.NoError(t, err)
		text := `{"other": "x", "of": {"first": 1, ` + string(quoted) + `: ["x", "needle"], "last": 2}}`
		f, err := Spec{Form: "json"}.Look(t.Context(), strings.NewReader(text))
		require.NoError(t, err)
		way := ""
		require.NoError(t, f.Search(t.Context(), "needle", func(found Found) error { way = found.Query; return nil }))
		assert.Equal(t, "$.of"+Step(name)+"[1]", way)
		assert.True(t, Streams("json", way), way)
		tree, err := f.askTree(t.Context(), nil, way)
		require.NoError(t, err)
		require.Len(t, tree.nodes, 1, "%s by a tree", way)
		written, err := Splice(Spec{Form: "json"}, []byte(text), way, "thread")
		require.NoError(t, err, way)
		assert.Equal(t, strings.Replace(text, "needle", "thread", 1), string(written), way)
	}
}

// FuzzConsumers: whatever two consumers say of one text agrees: through windows of any size, streamed and as a tree, searched and asked.
func FuzzConsumers(f *testing.F) {
	for form, text := range someTexts {
		f.Add(form, []byte(text), "a")
	}
	f.Add("json", []byte(`[{"a":{"b":1,"b":[2,{"c":"x"}]}}]`), "x")
	f.Add("xml", []byte(`<a b="1"><c>x<d/></c><c b='2'>y</c></a>`), "y")
	f.Fuzz(func(t *testing.T, form string, data []byte, text string) {
		if _, ok := someTexts[form]; !ok || len(data) > 1<<16 {
			return
		}
		docs, errs := ways(form, data)
		for name, err := range errs {
			require.Equal(t, errs["memory"] == nil, err == nil, "in memory: %v; by %s: %v", errs["memory"], name, err)
			if err != nil && !errors.Is(err, wrap.ErrDamaged) && !errors.Is(err, wrap.ErrTooLarge) && !errors.Is(err, wrap.ErrUnknown) {
				t.Fatal(err)
			}
		}
		if errs["memory"] != nil {
			return
		}
		for _, query := range streamed[form] {
			want := said(t.Context(), docs["memory"], form, query)
			for name, d := range docs {
				require.Equal(t, want, said(t.Context(), d, form, query), "%s: %s", name, query)
			}
			streamedNodes, err := docs["memory"].f.Find(t.Context(), nil, query, true)
			tree, wrong := docs["memory"].f.askTree(t.Context(), nil, query)
			if form == "json" && query != "$" && err == nil && wrong == nil {
				require.Equal(t, len(streamedNodes), len(tree.nodes), query)
			}
		}
		_ = docs["memory"].f.Search(t.Context(), text, func(found Found) error {
			if found.Query == "" {
				return nil
			}
			n, err := docs["memory"].f.Find(t.Context(), nil, found.Query, true)
			if err == nil {
				require.NotEmpty(t, n, found.Query)
			}
			return nil
		})
	})
}

func BenchmarkScan(b *testing.B) {
	for form, query := range lastOf {
		data := largeSave(form, 300_000)
		b.Run(form, func(b *testing.B) {
			b.SetBytes(int64(len(data)))
			for b.Loop() {
				d, err := Parse(data, Spec{Form: form})
				require.NoError(b, err)
				_, ok, err := d.Value(b.Context(), query)
				require.NoError(b, err)
				require.True(b, ok)
			}
		})
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
