package form_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"ostrov/internal/core/form"
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
			merged, clashes := form.Merge(c.as, []byte(c.base), []byte(c.mine), []byte(c.theirs))
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
		if merged, clashes := form.Merge(as, []byte(base), []byte(base), []byte(changed)); len(clashes) == 0 {
			assert.Equal(t, changed, string(merged))
		}
		if as == "lines" {
			merged, clashes := form.Merge(as, []byte(base), []byte(changed), []byte(base))
			if len(clashes) == 0 {
				assert.Equal(t, changed, string(merged))
			}
		}
	})
}

func TestElements(t *testing.T) {
	for name, c := range map[string]struct {
		as, text, each string
		want           []string // what it has
		wanted         []string // what it is to have
		after          string
	}{
		"lines":               {"lines", "# mods\na\n#b\nc\n", "^#?[a-z]+$", []string{"a", "#b", "c"}, []string{"a", "b", "c"}, "# mods\na\nb\nc\n"},
		"a line goes":         {"lines", "# mods\na\nb\n", "^[a-z]+$", []string{"a", "b"}, []string{"b"}, "# mods\nb\n"},
		"the last goes":       {"lines", "a\nb", "^[a-z]+$", []string{"a", "b"}, []string{"a"}, "a"},
		"one comes":           {"lines", "a\nb", "^[a-z]+$", []string{"a", "b"}, []string{"a", "b", "c"}, "a\nb\nc"},
		"into an empty file":  {"lines", "", "^[a-z]+$", nil, []string{"a"}, "a\n"},
		"with carriage":       {"lines", "a\r\nb\r\n", "^[a-z]+$", []string{"a", "b"}, []string{"a", "b", "c"}, "a\r\nb\r\nc\r\n"},
		"another order":       {"lines", "a\n\nb\nc\n", "^[a-z]+$", []string{"a", "b", "c"}, []string{"c", "a", "b"}, "c\n\na\nb\n"},
		"an array":            {"json", "{\"m\": [\n  \"a\",\n  \"b\"\n]}", "$.m[*]", []string{`"a"`, `"b"`}, []string{`"a"`, `"b"`, `"c"`}, "{\"m\": [\n  \"a\",\n  \"b\",\n  \"c\"\n]}"},
		"of objects":          {"json", `[{"id": "a"}, {"id": "b"}]`, "$[*]", []string{`{"id": "a"}`, `{"id": "b"}`}, []string{`{"id": "b"}`}, `[{"id": "b"}]`},
		"all of an array":     {"json", `{"m": ["a", "b"], "n": 1}`, "$.m[*]", []string{`"a"`, `"b"`}, nil, `{"m": [], "n": 1}`},
		"into an empty array": {"json", `{"m": []}`, "$.m[*]", nil, []string{`"a"`, `"b"`}, `{"m": ["a", "b"]}`},
		"elements":            {"xml", "<l>\n <m id=\"a\"/>\n <m id=\"b\"></m>\n</l>", "/l/m", []string{`<m id="a"/>`, `<m id="b"></m>`}, []string{`<m id="b"></m>`, `<m id="c"/>`}, "<l>\n <m id=\"b\"></m>\n <m id=\"c\"/>\n</l>"},
		"an INI section":      {"ini", "[mods]\na=1\nb=1\n[other]\nx=1\n", "^[ab]=1", []string{"a=1", "b=1"}, []string{"a=1", "b=1", "c=1"}, "[mods]\na=1\nb=1\nc=1\n[other]\nx=1\n"},
	} {
		t.Run(name, func(t *testing.T) {
			spec := form.Spec{Form: c.as}
			got, err := spec.Elements([]byte(c.text), c.each)
			assert.NoError(t, err)
			assert.Equal(t, c.want, got)
			after, err := spec.Relist([]byte(c.text), c.each, c.wanted)
			assert.NoError(t, err)
			assert.Equal(t, c.after, string(after))
		})
	}
}
