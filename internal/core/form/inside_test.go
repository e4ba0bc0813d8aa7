package form

import (
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

// TestAGuideGoesOnWhereOneHasBeen asks guides that have been given what another one has learnt, and been asked less: they say the same.
func TestAGuideGoesOnWhereOneHasBeen(t *testing.T) {
	for form, data := range map[string]string{"json": someJSON, "xml": someXML} {
		guide := func(learnt []byte) *Guide {
			text := inFile(strings.NewReader(data), len(data))
			g := jsonGuide(text, learnt)
			if form == "xml" {
				g = xmlGuide(text, learnt)
			}
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
		}
		assert.Equal(t, want[len(data)/2], guide([]byte("[{\"At\": -1}]")).To(len(data)/2), "what can be none is not believed")
		assert.Equal(t, want[len(data)/2], guide([]byte("nonsense")).To(len(data)/2))
	}
}
