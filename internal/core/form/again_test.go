package form

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rowsOfText are rows that are written alike, one of them otherwise.
func rowsOfText(head, tail, between string, row func(i int) string, odd string, n int) string {
	var rows []string
	for i := range n {
		rows = append(rows, row(i*i))
	}
	if odd != "" {
		rows[n/2] = odd
	}
	return head + strings.Join(rows, between) + tail
}

// TestRowsThatAreWrittenAlike puts a row that is wrong, or that only looks like the others, among many that are written alike: what is said of the text is
// what is said of it token by token.
func TestRowsThatAreWrittenAlike(t *testing.T) {
	for _, c := range []struct {
		form, head, tail, between string
		row                       func(i int) string
		right, wrong              []string
	}{
		{"json", `{"x": [`, `], "last": 1}`, ",\n ", func(i int) string {
			return fmt.Sprintf(`{"a1": %d, "b": -0.%d, "c": "e%d\u00e4", "d": 1e%d}`, i, i, i, i%7)
		},
			[]string{`{"a1": 0, "b": -0.05, "c": "e\u00e4", "d": 1e5}`, `{"a2": 5, "b": -0.5, "c": "e5\u00e4", "d": 1e1}`, `7`, `{}`, `{"a1": 5, "b": -0.5, "c": "e5\u12e4", "d": 10}`},
			[]string{`{"a1": 05, "b": -0.5, "c": "e5\u00e4", "d": 1e1}`, `{"a1": 5, "b": -00.5, "c": "e5\u00e4", "d": 1e1}`, `{"a1": 5, "b": -0.5, "c": "e5\u0e4", "d": 1e1}`,
				`{"a1": , "b": -0.5, "c": "e5\u00e4", "d": 1e1}`, `{"a1": 5, "b": -0.5, "c": "e5\u00e4", "d": 1e}`, `{"a1": 5, "b": -0.5, "c": "e5\u00e4", "d": 1e1]`, ``}},
		{"json", `{"x": [`, `], "last": 1}`, ",", func(i int) string { return fmt.Sprintf(`[%d,[%d.%d]]`, i, i, i) }, []string{`[1,[1]]`, `[0,[0.0]]`}, []string{`[1,[1.]]`, `[1,[.1]]`, `[1,[01.1]]`, `[1,1.1]]`}},
		{"xml", "<bay><x>", "</x><last>1</last></bay>", "\n", func(i int) string {
			return fmt.Sprintf(`<row a="k%d" b='&#%d;'>%d<h1 c="x'%d"/></row>`, i, 100+i%100, i, i)
		},
			[]string{`<row a="k" b='&#1;'>1<h1 c="x'2"/></row>`, `<row a="1">2<h2 c="x'1"/></row>`, `<row/>`, `text <!-- ' 5 <row> -->`, `<![CDATA[<row 7">]]>`},
			[]string{`<row a="k1" b='&#1;'>1<h1 c="x'2"/></row2>`, `<row1 a="k1" b='&#1;'>1<h1 c="x'2"/></row>`, `<row a="k1" b='&#1;'>1<h1 c="x'2"></row>`, `<row a="k1>5`}},
		{"xml", "<bay><x>", "</x><last>1</last></bay>", "\n", func(i int) string { return fmt.Sprintf("<h1>%d</h1>", i) }, []string{"<h2>5</h2>", "<h1/>"}, []string{"<h1>5</h2>", "<h2>5</h1>", "<h1>5"}},
		{"blocks", "[bay]\n[x]\n", "[/x]\n[last]\n[/last]\n[/bay]\n", "", func(i int) string { return fmt.Sprintf("[t1]\na = k%d\nb = \"%d\"\n[/t1]\n", i, i) },
			[]string{"[t2]\na = k5\nb = \"5\"\n[/t2]\n", "[t1]\na =\n[b2]\n[/b2]\n[/t1]\n", "t1 { a = 5 b = \"6\" }\n"}, []string{"[t1]\na = k5\nb = \"5\"\n[/t2]\n", "[t2]\na = k5\nb = \"5\"\n[/t1]\n", "[t1]\na = k5\n"}},
		{"blocks", "[bay]\n[x]\n", "[/x]\n[last]\n[/last]\n[/bay]\n", "", func(i int) string { return fmt.Sprintf("[t]\na =\n[b%d]\n[/b%d]\n[/t]\n", i%10, i%10) }, []string{"[t]\na = 1\n[/t]\n"}, []string{"[t]\na =\n[b1]\n[/b2]\n[/t]\n"}},
		{"blocks", "[bay]\n[x]\n", "[/x]\n[last]\n[/last]\n[/bay]\n", "", func(i int) string { return fmt.Sprintf("[stop 1]\na = k%d\n[/stop 1]\n", i) }, []string{"[stop 2]\na = k5\n[/stop 2]\n"},
			[]string{"[stop 1]\na = k5\n[/stop 2]\n", "[stop 2]\na = k5\n[/stop 1]\n"}},
		{"blocks", "bay { x {", "} last { } }", " ", func(i int) string { return fmt.Sprintf("t1 { a = %d b2 = c%d 12 14 }", i, i) }, []string{"t2 { a = 1 }", "t1 { a = 5 b2 = c5 12 }"}, []string{"t1 { a = 5 b2 = c5 12 14", "t1 a = 5 b2 = c5 12 14 }"}},
	} {
		query := map[string]string{"json": "$.last", "xml": "/bay/last", "blocks": "$.bay[0].last[0]"}[c.form]
		for i, odd := range append(append([]string{""}, c.right...), c.wrong...) {
			if c.form == "json" && odd == "" && i > 0 {
				odd = " "
			}
			text := rowsOfText(c.head, c.tail, c.between, c.row, odd, 200)
			for _, step := range []int{100, 1 << 20} {
				file := inFile(strings.NewReader(text), len(text))
				file.step, file.aheadFrom = step, 1
				doc, err := largeWith(c.form, file)
				if i > len(c.right) {
					require.ErrorIs(t, err, ErrDamaged, "%s: %s", c.form, odd)
					continue
				}
				require.NoError(t, err, "%s: %s", c.form, odd)
				docs, err := doc.Each(t.Context(), query)
				require.NoError(t, err)
				assert.Len(t, docs, 1)
			}
		}
	}
}

// TestWhatIsWrittenAlikeIsFollowed changes rows at random, by a byte here and there: the text is whole if its tree is.
func TestWhatIsWrittenAlikeIsFollowed(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 6))
	whole, broken := 0, 0
	for range 3000 {
		text := []byte(rowsOfText(`{"x": [`, `], "last": 1}`, ", ", func(i int) string {
			return fmt.Sprintf(`{"a1": %d, "b": -0.%d, "c": "e%d\u00e4", "d": 1e%d}`, i, i, i, i%7)
		}, "", 12))
		for range 1 + random.IntN(3) {
			text[random.IntN(len(text))] = `0123456789-.e+"\u,:{}[] `[random.IntN(24)]
		}
		_, wantErr := parseJSON(text)
		_, err := parseLargeJSON(text)
		require.Equal(t, wantErr == nil, err == nil, "%v and %v: %s", wantErr, err, text)
		if err == nil {
			whole++
		} else {
			broken++
		}
	}
	assert.Greater(t, min(whole, broken), 200)
}

// TestTheWayThroughRowsIsCounted asks the way to something in each of many rows that are written alike, from the first one on and from others on.
func TestTheWayThroughRowsIsCounted(t *testing.T) {
	mixed := rowsOfText(`[{"id": 0}, `, `]`, ", ", func(i int) string { return fmt.Sprintf(`%d, {"id": "hero%d"}`, i, i) }, "", 50)
	guide := Spec{Form: "json"}.Guide(strings.NewReader(mixed), int64(len(mixed)), nil)
	assert.Equal(t, "$[100].id", guide.To(strings.Index(mixed, `hero2401"`)), "what stands between them counts")
	parted := rowsOfText("", "", "", func(i int) string { return fmt.Sprintf("a = hero%d\n[y]\nn = %d\n[/y]\n", i, i) }, "", 50)
	guide = Spec{Form: "blocks"}.Guide(strings.NewReader(parted), int64(len(parted)), nil)
	assert.Equal(t, "$.a[49]", guide.To(strings.Index(parted, "hero2401\n")))
	guide.Close()
	for form, row := range map[string]func(i int) string{
		"blocks": func(i int) string { return fmt.Sprintf("[r]\nn = %d\n[to]\nid = \"hero%d\"\n[/to]\n[/r]", i, i) },
		"json":   func(i int) string { return fmt.Sprintf(`{"n": %d, "to": [%d, {"id": "hero%d"}]}`, i, i, i) },
		"xml":    func(i int) string { return fmt.Sprintf(`<r n="%d"><to/><to id="hero%d">%d</to></r>`, i, i, i) },
	} {
		head, tail, between, want := `{"x": [`, `]}`, ",\n", "$.x[%d].to[1].id"
		if form == "xml" {
			head, tail, between, want = "<bay><x>", "</x></bay>", "\n", "/bay[1]/x[1]/r[%d]/to[2]/@id"
		}
		if form == "blocks" {
			head, tail, between, want = "[x]\n", "[/x]\n", "\n", "$.x[0].r[%d].to[0].id"
		}
		text := rowsOfText(head, tail, between, row, "", 300)
		for _, from := range []int{0, 150, 299} {
			guide := Spec{Form: form}.Guide(strings.NewReader(text), int64(len(text)), nil)
			for i := from; i < 300; i += 7 {
				at := strings.Index(text, fmt.Sprintf(`hero%d"`, i*i))
				n := i
				if form == "xml" {
					n++
				}
				require.Equal(t, fmt.Sprintf(want, n), guide.To(at), "from %d", from)
			}
			guide.Close()
		}
	}
}
