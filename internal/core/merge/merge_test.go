package merge_test

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/merge"
)

func TestMerge(t *testing.T) {
	const ini = "; lamps\n[a]\nx = 1\ny = 2\n\n[b]\nz=\n"
	const js = "{\n \"a\": {\"x\": 1, \"on\": true},\n \"b\": \"text\"\n}\n"
	const xml = "<o>\n <a v=\"1\"/>\n <m/>\n <b v=\"2\"/>\n</o>\n"
	for name, c := range map[string]struct{ as, base, mine, theirs, want, clash string }{
		"each changed another key":                    {"ini", ini, "; lamps\n[a]\nx = 9\ny = 2\n\n[b]\nz=\n", "; new\n[a]\nx = 1\ny = 3\nw = 4\n\n[b]\nz=\n", "; new\n[a]\nx = 9\ny = 3\nw = 4\n\n[b]\nz=\n", ""},
		"a key of mine":                               {"ini", ini, ini + "mine = 1\n", "[a]\nx = 1\ny = 5\n[b]\nz=\n", "[a]\nx = 1\ny = 5\n[b]\nz=\nmine = 1\n", ""},
		"a value where none was":                      {"ini", ini, "; lamps\n[a]\nx = 1\ny = 2\n\n[b]\nz=7\n", ini + "q = 1\n", ini[:len(ini)-1] + "7\nq = 1\n", ""},
		"both changed it":                             {"ini", ini, "[a]\nx = 5\ny = 2\n[b]\nz=\n", "[a]\nx = 6\ny = 2\n[b]\nz=\n", "", "[a] x"},
		"both alike":                                  {"ini", ini, "[a]\nx = 5\ny = 2\n[b]\nz=\n", "[a]\nx = 5\ny = 8\n[b]\nz=\n", "[a]\nx = 5\ny = 8\n[b]\nz=\n", ""},
		"a section that went":                         {"ini", ini, "[a]\nx = 1\ny = 2\n[b]\nz=\nmine = 1\n", "[a]\nx = 1\ny = 2\n", "", "[b] mine"},
		"a key that mine took out":                    {"ini", ini, "; lamps\n[a]\nx = 1\n\n[b]\nz=\n", "; lamps\n[a]\nx = 5\ny = 2\n\n[b]\nz=\n", "; lamps\n[a]\nx = 5\n\n[b]\nz=\n", ""},
		"a key that mine took out and theirs changed": {"ini", ini, "; lamps\n[a]\nx = 1\n\n[b]\nz=\n", "; lamps\n[a]\nx = 1\ny = 5\n\n[b]\nz=\n", "", "[a] y"},
		"a remark of mine":                            {"ini", ini, ini + "; mine\n", "; lamps\n[a]\nx = 5\ny = 2\n\n[b]\nz=\n", "; lamps\n[a]\nx = 5\ny = 2\n\n[b]\nz=\n; mine\n", ""},
		"a remark where theirs changed":               {"ini", ini, "; lamps, mine\n[a]\nx = 1\ny = 2\n\n[b]\nz=\n", "; lamps, theirs\n[a]\nx = 1\ny = 2\n\n[b]\nz=\n", "", "line 1"},
		"a key that stands twice":                     {"ini", "[a]\nm=1\nm=2\nn=1\n", "[a]\nm=1\nm=2\nm=3\nn=1\n", "[a]\nm=1\nm=2\nn=5\n", "", "line 4"},
		"a key that stands twice, apart":              {"ini", "[a]\nm=1\nm=2\n[b]\nn=1\n", "[a]\nm=0\nm=1\nm=2\n[b]\nn=1\n", "[a]\nm=1\nm=2\n[b]\nn=5\n", "[a]\nm=0\nm=1\nm=2\n[b]\nn=5\n", ""},
		"values of JSON under names of all kinds": {"json", `{"1001": {"it's": 1, "a.b": 1}, "c d": 1}`, `{"1001": {"it's": 7, "a.b": 8}, "c d": 1}`, `{"1001": {"it's": 1, "a.b": 1}, "c d": 9, "new": 1}`,
			`{"1001": {"it's": 7, "a.b": 8}, "c d": 9, "new": 1}`, ""},
		"more behind a JSON":      {"json", "{\"a\": 1}\n", "{\"a\": 1}\n{\"mine\": 1}\n", "{\"a\": 2}\n", "", "line 1"},
		"values of JSON":          {"json", js, "{\n \"a\": {\"x\": 1.50, \"on\": false},\n \"b\": \"text\"\n}\n", "{\"a\": {\"x\": 1, \"on\": true}, \"b\": \"other\", \"c\": [1, 2]}", "{\"a\": {\"x\": 1.50, \"on\": false}, \"b\": \"other\", \"c\": [1, 2]}", ""},
		"a value of JSON of both": {"json", js, "{\n \"a\": {\"x\": 2, \"on\": true},\n \"b\": \"text\"\n}\n", "{\n \"a\": {\"x\": 3, \"on\": true},\n \"b\": \"text\"\n}\n", "", "$.a.x"},
		"a member of mine":        {"json", js, "{\n \"a\": {\"x\": 1, \"on\": true},\n \"b\": \"text\",\n \"mine\": 1\n}\n", js, "{\n \"a\": {\"x\": 1, \"on\": true},\n \"b\": \"text\",\n \"mine\": 1\n}\n", ""},
		"XML by lines":            {"xml", xml, "<o>\n <a v=\"7\"/>\n <m/>\n <b v=\"2\"/>\n</o>\n", "<o>\n <a v=\"1\"/>\n <m/>\n <b v=\"3\"/>\n <c/>\n</o>\n", "<o>\n <a v=\"7\"/>\n <m/>\n <b v=\"3\"/>\n <c/>\n</o>\n", ""},
		"lines at both ends":      {"lines", "a\nb\nc\n", "mine\na\nb\nc\n", "a\nb\nc\ntheirs\n", "mine\na\nb\nc\ntheirs\n", ""},
		"a line of both":          {"lines", "a\nb\nc\n", "a\nmine\nc\n", "a\ntheirs\nc\n", "", "line 2"},
		"nothing of mine":         {"lines", "a\nb\n", "a\nb\n", "x\n", "x\n", ""},
		"nothing of theirs":       {"lines", "a\nb\n", "mine\n", "a\nb\n", "mine\n", ""},
	} {
		t.Run(name, func(t *testing.T) {
			merged, clashes := merge.Texts(c.as, []byte(c.base), []byte(c.mine), []byte(c.theirs))
			if c.clash != "" {
				assert.Nil(t, merged)
				if assert.NotEmpty(t, clashes) {
					assert.Contains(t, clashes[0], c.clash)
				}
				return
			}
			assert.Empty(t, clashes)
			assert.Equal(t, c.want, string(merged))
		})
	}
}

// FuzzMerge: with only one side changed the result is that side, whatever the texts are.
func FuzzMerge(f *testing.F) {
	for _, as := range []string{"ini", "json", "xml", "lines"} {
		f.Add(as, "[a]\nx=1\n", "[a]\nx=2\n")
		f.Add(as, "{\"a\": 1}", "{\"a\": [1, 2]}")
	}
	f.Fuzz(func(t *testing.T, as, base, changed string) {
		if as != "json" && as != "ini" && as != "xml" {
			as = "lines"
		}
		if merged, clashes := merge.Texts(as, []byte(base), []byte(base), []byte(changed)); len(clashes) == 0 {
			assert.Equal(t, changed, string(merged))
		}
		if as == "lines" {
			merged, clashes := merge.Texts(as, []byte(base), []byte(changed), []byte(base))
			if len(clashes) == 0 {
				assert.Equal(t, changed, string(merged))
			}
		}
	})
}

// TestOfALongLineThePartThatDiffersIsShown has lines that differ far behind their beginnings.
func TestOfALongLineThePartThatDiffersIsShown(t *testing.T) {
	head, tail := strings.Repeat(`{"a": 1}, `, 100), strings.Repeat(`{"é": 2}, `, 100)
	got := merge.Difference([]byte("one\n"+head+"old"+tail+"\n"), []byte("one\n"+head+"new one"+tail+"\n"))
	require.Len(t, got, 2)
	assert.Regexp(t, `^-….*old.*…$`, got[0])
	assert.Regexp(t, `^\+….*new one.*…$`, got[1])
	for _, line := range got {
		assert.Less(t, len(line), 80)
		assert.True(t, utf8.ValidString(line))
	}
}
