package doc

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestElements puts other elements into lists.
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
			spec := Spec{Form: c.as}
			got, err := spec.Elements([]byte(c.text), c.each)
			assert.NoError(t, err)
			assert.Equal(t, c.want, got)
			after, err := spec.Relist([]byte(c.text), c.each, c.wanted)
			assert.NoError(t, err)
			assert.Equal(t, c.after, string(after))
		})
	}
}
