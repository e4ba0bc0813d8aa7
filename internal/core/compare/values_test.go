package compare

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/unicode"

	"ostrov/internal/core/doc"
)

// in is a content in memory; spec may be nil.
func in(data string, spec *doc.Spec) content {
	return content{size: int64(len(data)), open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(data)), nil }, spec: spec}
}

func packed(t *testing.T, data string) string {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, err := z.Write([]byte(data))
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return b.String()
}

func wide(t *testing.T, text string) string {
	data, err := unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewEncoder().String(text)
	require.NoError(t, err)
	return data
}

// TestWhatDiffersInside compares two contents of one file: what is told of each value, or why nothing is.
func TestWhatDiffersInside(t *testing.T) {
	latin := &doc.Spec{Form: "text", Encoding: "windows-1252"}
	long := strings.Repeat("row\n", maxLines+10)
	for about, c := range map[string]struct {
		a, b string
		spec *doc.Spec
		told string // values as "at: a → b", joined
		why  string
	}{
		"a number":                     {a: `{"a": 1}`, b: `{"a": 2}`, told: "$.a: 1 → 2"},
		"a number written otherwise":   {a: `{"a": 1.0}`, b: `{"a": 1}`, told: "$.a: 1.0 → 1"},
		"nothing and a number":         {a: `{"a": null}`, b: `{"a": 0}`, told: "$.a: null → 0"},
		"a list that was empty":        {a: `{"a": []}`, b: `{"a": ["x"]}`, told: "$.a: [] → , $.a[0]:  → x"},
		"an object that is gone":       {a: `{"a": {}, "b": 1}`, b: `{"b": 1}`, told: "$.a: {} → "},
		"a list and an object":         {a: `{"a": []}`, b: `{"a": {}}`, told: "$.a: [] → {}"},
		"a name with a point":          {a: `{"a.b": 1, "a": {"b": 2}}`, b: `{"a.b": 3, "a": {"b": 2}}`, told: "$['a.b']: 1 → 3"},
		"a name that is a number":      {a: `{"1001": {"hp": 1}}`, b: `{"1001": {"hp": 2}}`, told: "$['1001'].hp: 1 → 2"},
		"a name with a quote":          {a: `{"it's": 1}`, b: `{"it's": 2}`, told: `$['it\'s']: 1 → 2`},
		"a letter of text":             {a: `{"a": "x"}`, b: `{"a": "y"}`, told: "$.a: x → y"},
		"spaces only":                  {a: `{"a": 1}`, b: `{ "a" : 1 }`, why: "only how it is written differs"},
		"members in another order":     {a: `{"a": 1, "b": 2}`, b: `{"b": 2, "a": 1}`, why: "only how it is written differs"},
		"one JSON in a line":           {a: "{\"a\": 1}\n{\"b\": 1}\n", b: "{\"a\": 1}\n{\"b\": 2}\n", told: `line 2: {"b": 1} → {"b": 2}`},
		"a JSON that is cut":           {a: `{"a": 1}`, b: `{"a": `, told: `line 1: {"a": 1} → {"a": `},
		"an attribute":                 {a: `<a b="1"/>`, b: `<a b="2"/>`, told: "/a/@b: 1 → 2"},
		"the second of two elements":   {a: `<a><b>1</b><b>2</b></a>`, b: `<a><b>1</b><b>3</b></a>`, told: "/a/b[2]: 2 → 3"},
		"one element more":             {a: `<a><b>1</b></a>`, b: `<a><b>1</b><b>2</b></a>`, told: "/a/b[2]:  → 2"},
		"a remark in XML":              {a: `<a><!-- x --><b>1</b></a>`, b: `<a><b>1</b></a>`, why: "only how it is written differs"},
		"a line":                       {a: "a\nb\nc\n", b: "a\nB\nc\n", told: "line 2: b → B"},
		"a line more and one less":     {a: "a\nb\nc\n", b: "b\nc\nd\n", told: "line 1: a → , line 3:  → d"},
		"ends of lines":                {a: "a\nb\n", b: "a\r\nb\r\n", why: "only how it is written differs"},
		"the end of the last line":     {a: "a\nb", b: "a\nb\n", why: "only how it is written differs"},
		"text and nothing":             {a: "", b: "a\n", told: "line 1:  → a"},
		"UTF-16":                       {a: wide(t, `{"a": "ä"}`), b: wide(t, `{"a": "ö"}`), told: "$.a: ä → ö"},
		"an encoding that is said":     {a: "\xe4\n", b: "\xf6\n", spec: latin, told: "line 1: ä → ö"},
		"an encoding that nobody said": {a: "\xe4\n", b: "\xf6\n", why: "no text"},
		"packed, which nobody said":    {a: packed(t, `{"a": 1}`), b: packed(t, `{"a": 2}`), told: "$.a: 1 → 2"},
		"packed and not":               {a: packed(t, `{"a": 1}`), b: `{"a": 2}`, told: "$.a: 1 → 2"},
		"packed, and cut":              {a: packed(t, `{"a": 1}`)[:20], b: `{"a": 2}`, why: "cannot be unpacked"},
		"bytes":                        {a: "\x00\x01", b: "\x00\x02", why: "no text"},
		"a large text":                 {a: "{}", b: `{"a": "` + strings.Repeat("x", maxText) + `"}`, why: "more than 8 MB inside: not compared value by value"},
		"many lines":                   {a: long, b: long + "more\n", why: "too long to be compared line by line"},
	} {
		var got Inside
		why := got.differ("f", in(c.a, c.spec), in(c.b, c.spec))
		var told []string
		for _, v := range got.Values {
			told = append(told, fmt.Sprintf("%s: %s → %s", v.At, v.A, v.B))
		}
		assert.Equal(t, c.told, strings.Join(told, ", "), about)
		assert.Equal(t, c.why, why, about)
	}
	gone := content{open: func() (io.ReadCloser, error) { return nil, errors.New("gone") }}
	var got Inside
	assert.Equal(t, "cannot be read", got.differ("f", in("{}", nil), gone))
}

// TestMoreDiffersThanIsTold has more values that differ than there is room for: they are counted.
func TestMoreDiffersThanIsTold(t *testing.T) {
	rows := func(from int) string {
		var b strings.Builder
		for i := range 100 {
			fmt.Fprintf(&b, `,"a%d": %d`, i, from+i)
		}
		return "{" + b.String()[1:] + "}"
	}
	var got Inside
	assert.Empty(t, got.differ("f", in(rows(0), nil), in(rows(1), nil)))
	assert.Len(t, got.Values, maxValues)
	assert.Equal(t, 100-maxValues, got.More)
	assert.Empty(t, got.differ("g", in("a\n", nil), in("b\n", nil)), "what is only counted is told, too")
	assert.Equal(t, 101-maxValues, got.More)
}
