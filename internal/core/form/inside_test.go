package form

import (
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const timetable = "# kept\n[timetable]\ntitle = \"Winter nights\"\nversion = 3.1\n[depot]\nid = copper-line\n[/depot]\n[depot]\nid = fog-bells\n[/depot]\n[/timetable]\n"

// TestOneValueChangesAndNothingElse writes one value in each form, compares the whole file, and has what cannot be written refused.
func TestOneValueChangesAndNothingElse(t *testing.T) {
	braces := "pilot { name = \"Ada\" ship = 3 }\n"
	for _, c := range []struct {
		spec               Spec
		in, at, value, was string
		now                string // "" where it is refused
	}{
		{Spec{Form: "blocks"}, timetable, "$.timetable[0].title", "Spring", `"Winter nights"`, `"Spring"`},
		{Spec{Form: "blocks"}, timetable, "$.timetable[0].version", "3.2", "3.1", "3.2"},
		{Spec{Form: "blocks"}, timetable, "$.timetable[0].depot[1].id", "a b", "fog-bells", "a b"},
		{Spec{Form: "blocks"}, timetable, "$.timetable[0].depot[2].id", "x", "", ""},
		{Spec{Form: "blocks"}, timetable, "$.timetable[0].title", "two\nlines", "", ""},
		{Spec{Form: "blocks"}, braces, "$.pilot[0].ship", "4", "ship = 3", "ship = 4"},
		{Spec{Form: "blocks"}, braces, "$.pilot[0].name", "Eve", `"Ada"`, `"Eve"`},
		{Spec{Form: "blocks", Blocks: BlockPatterns{Indent: true}}, "a b\n\tc d\n", "$.a[0].c", "e", "c d", "c e"},
		{Spec{Form: "xml"}, "<a><b c='1'/><!-- b --><b c='2'/></a>", "/a/b[2]/@c", "3", "c='2'", "c='3'"},
		{Spec{Form: "xml"}, "<a><b>1</b><d><b>2</b></d><b>3</b></a>", "/a[1]/b[2]", "x & y", "<b>3", "<b>x &amp; y"},
		{Spec{Form: "xml"}, "<a><b/></a>", "/a/b[2]/@c", "3", "", ""},
		{Spec{Form: "json"}, "{\"a b\": {\"c\": 1.50}, \"on\": true}", "$['a b'].c", "2", "1.50", "2"},
		{Spec{Form: "json"}, "{\"on\": true}", "$.on", "false", "true", "false"},
		{Spec{Form: "json"}, "{\"on\": true}", "$.on", "yes", "", ""},
		{Spec{Form: "bytes"}, "abNight\x00tail", "2:cstr", "Day", "Night", "Day\x00\x00"},
		{Spec{Form: "bytes"}, "abNight\x00tail", "2:cstr", "Twilight", "", ""},
		{Spec{Form: "bytes"}, "\x00\x00\x80\x3fx", "0:f32le", "2.5", "\x00\x00\x80\x3f", "\x00\x00\x20\x40"},
	} {
		got, err := Splice(c.spec, []byte(c.in), c.at, c.value)
		if c.now == "" {
			assert.ErrorIs(t, err, ErrNotWritable, "%s = %q in %q", c.at, c.value, c.in)
			continue
		}
		require.NoError(t, err, "%s in %q", c.at, c.in)
		assert.Equal(t, strings.Replace(c.in, c.was, c.now, 1), string(got))
	}
}

// TestOneValueOfADatabase writes one value of one row: it keeps its type, and all other rows are as they were.
func TestOneValueOfADatabase(t *testing.T) {
	data := makeSQLite(t, "CREATE TABLE about (key TEXT, value)", "INSERT INTO about VALUES ('nights', 215), ('title', 'Lower Town'), ('rate', 0.5), ('twice', 1), ('twice', 2), ('raw', x'00')")
	spec := Spec{Form: "sqlite"}
	at := func(key string) string { return "SELECT value FROM about WHERE key = '" + key + "'" }
	rows := func(data []byte) (all []string) {
		require.NoError(t, EachRow(t.Context(), data, func(r Row) error {
			all = append(all, string(r.Values[0])+"="+string(r.Values[1]))
			return nil
		}))
		return all
	}
	before := rows(data)
	for key, value := range map[string]string{"nights": "216", "title": "Upper 'Town'", "rate": "0.75"} {
		got, err := Splice(spec, data, at(key), value)
		require.NoError(t, err, key)
		now := rows(got)
		for i, row := range before {
			if strings.HasPrefix(row, key+"=") {
				row = key + "=" + value
			}
			assert.Equal(t, row, now[i])
		}
	}
	for query, value := range map[string]string{
		at("nights"): "many", at("twice"): "3", at("raw"): "1", at("none"): "1", "SELECT value FROM about": "1",
		"SELECT value FROM about WHERE key = 'title' OR 1": "x", "SELECT value FROM about WHERE key = (SELECT 'title')": "x",
	} {
		_, err := Splice(spec, data, query, value)
		assert.ErrorIs(t, err, ErrNotWritable, query)
	}
	assert.Equal(t, before, rows(data))
	for query, may := range map[string]bool{at("x"): true, "SELECT value FROM about": true, "SELECT value FROM about, other": false, "SELECT max(value) FROM about WHERE key = 'x'": false} {
		assert.Equal(t, may, spec.CheckWritable(query) == nil, query)
	}
}

// TestTheQueryLeadsThere asks, for each place where a text is found, the query that is told of it: what it names has the text in it.
func TestTheQueryLeadsThere(t *testing.T) {
	for form, c := range map[string]struct {
		data string
		want []string
	}{
		"json":   {`{"a": ["reed", {"b c": "reeds"}], "reed": 1}`, []string{"$.a[0]", "$.a[1]['b c']", "$.reed"}},
		"xml":    {"<?xml version='1.0'?>\n<a><b n='1'/><b n='reed'>a reed</b><c/><n:d o:e=\"reed\" xmlns:n='x' xmlns:o='y'/></a>", []string{"/a[1]/b[2]/@n", "/a[1]/b[2]", "/a[1]/n:d[1]/@o:e"}},
		"ini":    {"top = reed\n[a]\nb = reed\n", []string{"top", "a.b"}},
		"blocks": {"[a]\nb = reed\n[/a]\n[a]\nb = 1\nc = \"a reed\"\n[/a]\n", []string{"$.a[0].b", "$.a[1].c"}},
		"text":   {"a reed", []string{""}},
	} {
		guide := Spec{Form: form}.Guide(strings.NewReader(c.data), int64(len(c.data)), nil)
		var got []string
		for at := 0; ; {
			i := strings.Index(c.data[at:], "reed")
			if i < 0 {
				break
			}
			at += i
			query := guide.To(at)
			got = append(got, query)
			if form == "text" || query == "$.reed" || strings.Contains(query, ":") { // no query; the name itself; a namespace
				at += 4
				continue
			}
			doc, err := Parse([]byte(c.data), Spec{Form: form})
			require.NoError(t, err)
			value, there, err := doc.Value(t.Context(), query)
			require.NoError(t, err, query)
			assert.True(t, there, query)
			assert.Contains(t, value, "reed", query)
			require.NoError(t, Spec{Form: form}.CheckWritable(query))
			at += 4
		}
		assert.Equal(t, c.want, got, form)
	}
}

// blocksOfWays are blocks in one of three spellings, some of them alike, with names of which there are one or more in a block. Each value is there once.
func blocksOfWays(of string, random *rand.Rand) string {
	var b strings.Builder
	value := 0
	pair := map[string]string{"blocks": "%s%s = v%d.\n", "lines": "%s%s: v%d.\n", "indented": "%s%s v%d.\n"}[of]
	begin := map[string]string{"blocks": "%s[%s]\n", "lines": "%sBEGIN %s\n", "indented": "%s%s\n"}[of]
	end := map[string]string{"blocks": "%s[/%s]\n", "lines": "%sEND %s\n"}[of]
	var fill func(depth int)
	fill = func(depth int) {
		in, below := strings.Repeat("\t", depth), strings.Repeat("\t", depth+1)
		if of == "lines" {
			in, below = "", ""
		}
		for range 1 + random.IntN(4) {
			name := []string{"a", "b", "c"}[random.IntN(3)]
			value++
			fmt.Fprintf(&b, pair, in, name, value)
			for range random.IntN(3) * random.IntN(3) {
				if depth == 4 {
					break
				}
				block := []string{"x", "y", "odd name"}[random.IntN(3)]
				if of != "blocks" && block != "x" {
					block = "y"
				}
				fmt.Fprintf(&b, begin, in, block)
				if random.IntN(2) == 0 {
					value++
					fmt.Fprintf(&b, pair, below, "n", value)
				} else {
					fill(depth + 1)
				}
				if end != "" {
					fmt.Fprintf(&b, end, in, block)
				}
			}
		}
	}
	fill(0)
	return b.String()
}

// TestTheWaysThroughBlocks asks for the way to each value of blocks, from any of them on, read in pieces: the tree has just that value there.
func TestTheWaysThroughBlocks(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	numbered := regexp.MustCompile(`v\d+\.`)
	for of, spec := range blockSpecs {
		asked, repeated := 0, 0
		for range 300 {
			data := blocksOfWays(of, random)
			doc, err := Parse([]byte(data), spec)
			require.NoError(t, err, data)
			text := inFile(strings.NewReader(data), len(data))
			if text.step = 1 << 20; random.IntN(2) == 0 {
				text.step = 16
			}
			text.least = random.IntN(100)
			if of == "blocks" && random.IntN(2) == 0 { // what it has been passed over by before
				_, err := blocksOf(text, spec.Blocks)
				require.NoError(t, err)
			}
			guide := blocksGuide(text, spec.Blocks, nil)
			for i, at := range numbered.FindAllStringIndex(data, -1) {
				if i%(1+random.IntN(4)) != 0 {
					continue
				}
				query := guide.To(at[0] + random.IntN(at[1]-at[0]))
				got, ok, err := doc.Value(t.Context(), query)
				require.NoError(t, err, query)
				require.True(t, ok, "%q in %s", query, data)
				require.Equal(t, data[at[0]:at[1]], got, "%s in %s", query, data)
				require.NoError(t, spec.CheckWritable(query))
				asked++
				if strings.HasSuffix(query, "]") {
					repeated++
				}
			}
			guide.Close()
		}
		assert.Greater(t, asked, 1000)
		assert.Greater(t, repeated, 100)
	}
	odd := blocksGuide(inMemory([]byte("[x]\na = 1\n[/x]\n}\nc = 3\n")), BlockPatterns{}, nil)
	assert.Equal(t, "$.x[0].a", odd.To(8))
	assert.Empty(t, odd.To(21), "behind what does not read there is no way")
	odd.Close()
	many := blocksGuide(inMemory([]byte(strings.Repeat("a = 1\n", 3)+"b = 2\n")), BlockPatterns{}, nil)
	assert.Equal(t, "$.a[1]", many.To(10))
	many.Close() // before its end
}

// TestAGuideGoesOnWhereOneHasBeen asks guides that have been given what another one has learnt, and been asked less: they say the same.
func TestAGuideGoesOnWhereOneHasBeen(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	for form, data := range map[string]string{"json": someJSON, "xml": someXML, "blocks": strings.Repeat(blocksOfWays("blocks", random), 20)} {
		require.Greater(t, len(data), 200)
		guide := func(learnt []byte) *Guide {
			text := inFile(strings.NewReader(data), len(data))
			if random.IntN(2) == 0 { // as it is where it has been passed over
				text.least = 1 + random.IntN(50)
				_, err := largeWith(form, text)
				require.NoError(t, err)
			}
			var g *Guide
			switch form {
			case "json":
				g = jsonGuide(text, learnt)
			case "xml":
				g = xmlGuide(text, learnt)
			default:
				g = blocksGuide(text, BlockPatterns{}, learnt)
			}
			t.Cleanup(g.Close)
			g.learnt.every = 1
			return g
		}
		first := guide(nil)
		var want []string
		for at := range len(data) {
			want = append(want, first.To(at))
		}
		learnt := first.Learnt()
		require.NotEmpty(t, learnt)
		for from := range len(data) {
			g := guide(learnt)
			for at := from; at < len(data); at += 7 {
				require.Equal(t, want[at], g.To(at), "%s: byte %d, from %d", form, at, from)
			}
			assert.Nil(t, g.Learnt(), "nothing new")
			g = guide(nil)
			for at := from; at < len(data); at += 1 + random.IntN(40) {
				require.Equal(t, want[at], g.To(at), "%s: byte %d, from %d", form, at, from)
			}
			g = guide(g.Learnt()) // what another one has passed over at once is not laid out yet
			for at := from / 2; at < len(data); at += 1 + random.IntN(40) {
				require.Equal(t, want[at], g.To(at), "%s: byte %d, from %d", form, at, from)
			}
		}
		assert.Equal(t, want[len(data)/2], guide([]byte("[{\"At\": -1}]")).To(len(data)/2), "what can be none is not believed")
		assert.Equal(t, want[len(data)/2], guide([]byte("nonsense")).To(len(data)/2))
	}
}
