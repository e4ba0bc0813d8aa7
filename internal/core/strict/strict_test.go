package strict

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

type document struct {
	Title string            `toml:"title"`
	Count int               `toml:"count"`
	Names map[string]string `toml:"names"`
	Items []item            `toml:"item"`
	Inner item              `toml:"inner"`
}

type item struct {
	ID   string   `toml:"id"`
	Tags []string `toml:"tags"`
	On   bool     `toml:"on"`
}

func TestDecodeReportsEveryErrorWithItsPlace(t *testing.T) {
	for name, c := range map[string]struct{ text, want string }{
		"unknown key":         {"titel = 'x'", `f.toml:1:1: unknown key "titel" at the top level (did you mean "title"?)`},
		"far from any":        {"zzzzzzzz = 1", `f.toml:1:1: unknown key "zzzzzzzz" at the top level`},
		"in second element":   {"[[item]]\nid='a'\n[[item]]\nidd='b'", `f.toml:4:1: unknown key "idd" in item (did you mean "id"?)`},
		"in an inline table":  {"inner = { id = 'a', om = true }", `f.toml:1:21: unknown key "om" in inner (did you mean "on"?)`},
		"wrong type":          {"\ncount = 'three'", `f.toml:2:1: "count" must be a whole number, not text`},
		"wrong element type":  {"[inner]\ntags = [ 'a',\n 3 ]", `f.toml:2:1: "tags" must be text, not a number`},
		"syntax":              {"title = \n", "f.toml:1:9: "},
		"twice":               {"title='a'\ntitle='b'", "f.toml:2:1: "},
		"of the language but": {"[inner]\nlater = 1", `f.toml:2:1: "inner.later" is not understood by this Ostrov yet`},
		"two at once":         {"count = true\ntitle = 1", "f.toml:1:1: \"count\" must be a whole number, not true or false\nf.toml:2:1: \"title\" must be text, not a number"},
	} {
		t.Run(name, func(t *testing.T) {
			var doc document
			d, err := Decode("f.toml", []byte(c.text), &doc, map[string]bool{"inner.later": true})
			if err == nil {
				err = d.Err()
			}
			require.Error(t, err)
			assert.Contains(t, err.Error(), c.want)
		})
	}
}

func TestDecode(t *testing.T) {
	var doc document
	d, err := Decode("f.toml", []byte("title='T'\ncount=3\nnames={a='1'}\n[[item]]\nid='a'\ntags=['x','y']\n[[item]]\non=true\n"), &doc, nil)
	require.NoError(t, err)
	require.NoError(t, d.Err())
	assert.Equal(t, document{Title: "T", Count: 3, Names: map[string]string{"a": "1"},
		Items: []item{{ID: "a", Tags: []string{"x", "y"}}, {On: true}}}, doc)
	assert.Equal(t, Pos{8, 1}, d.Positions.Of("item.1.on"))
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte("title='T'\n[[item]]\nid='a'\n[inner]\non=true"))
	f.Add([]byte("inner = { id = 'a', tags = [ 'x', { y = 1 } ] }"))
	f.Fuzz(func(t *testing.T, data []byte) {
		var doc document
		if d, err := Decode("f.toml", data, &doc, nil); err == nil {
			_ = d.Err()
		} else {
			assert.Nil(t, d)
		}
	})
}

// What a stranger sends takes neither long nor much memory to refuse: each of these grew with the square of its size.
func TestLargeDocumentsAreRefusedAtOnce(t *testing.T) {
	for want, document := range map[string]string{
		"sent.toml:2:1: a key of more than 1000 bytes": "ostrov = 1\n" + strings.Repeat("a", 800_000) + " = 1\n",
		"sent.toml:1:1004: a key of more than 1000":    "[" + strings.Repeat("a.", 400_000) + "a]\n",
		"sent.toml:10001:1: more than 10000 keys": func() string {
			var b strings.Builder
			for i := range 100_000 {
				fmt.Fprintf(&b, "a%d=1\n", i)
			}
			return b.String()
		}(),
		"nested more than":         "a = " + strings.Repeat("[", 900_000),
		"nested deeper than 500":   "a = " + strings.Repeat("[", 5000) + strings.Repeat("]", 5000),
		"arrays and inline tables": "a = " + strings.Repeat("{a=", 300_000),
	} {
		var into struct {
			A any `toml:"a"`
		}
		_, err := Decode("sent.toml", []byte(document), &into, nil)
		assert.ErrorContains(t, err, want)
	}
}
