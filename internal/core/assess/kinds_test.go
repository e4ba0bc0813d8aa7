package assess_test

import (
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/check"
	"ostrov/internal/core/vet"
)

// kindCases are those of several kinds: of saves that are called alike, and of mods of which a save lists only one.
func kindCases() []verdictCase {
	ending := "ends = \"</run>\""
	inXML := strings.NewReplacer(`id     = "run"`, `id     = "other"`).Replace(saved("xml", `"/run/@v"`, "each = \"/run/mods/mod\"\nid = \"@id\"", ending))
	two := inJSON("each = \"$.mods[*]\"\nid = \"$.id\"", "") + inXML
	whole := `<run v="1.0"><mods><mod id="fern"/></mods></run>`
	all := []verdictCase{
		{name: "two kinds: of the first", save: listing(`{"id": "fern"}`), said: two, mods: []string{"fern"}},
		{name: "two kinds: of the first, a mod is missing", save: listing(`{"id": "fern"}`), said: two, want: []string{"mod-missing"}},
		{name: "two kinds: of the second", save: whole, said: two, mods: []string{"fern"}},
		{name: "two kinds: of the second, a mod is missing", save: whole, said: two, want: []string{"mod-missing"}},
		{name: "two kinds: of the second, and cut", save: whole[:40], said: two, mods: []string{"fern"}, want: []string{"damaged"}},
		{name: "two kinds: of neither", save: "some text", said: two, mods: []string{"fern"}, want: []string{"damaged"}},
	}

	listed := inJSON("each = \"$.mods[*]\"\nid = \"$.id\"\nkind = \"shared\"", "")
	add := func(name, save string, rules string, want []string, mods ...string) {
		all = append(all, verdictCase{name: "a list of one kind: " + name, save: save, said: listed, kinds: cards + shared, files: carded(mods...), rules: rules, want: want})
	}
	add("it is here, and of the other kind nothing is known", listing(`{"id": "fern"}`), "", []string{"mods-unknown"}, "share/fern")
	add("others of the kind do not matter", listing(`{"id": "fern"}`), "", []string{"mods-unknown"}, "share/fern", "share/moss", "mods/reed")
	add("it is missing", listing(`{"id": "fern"}`), "", []string{"mod-missing", "mods-unknown"}, "share/moss")
	add("one of the other kind is called so", listing(`{"id": "fern"}`), "", []string{"mod-missing", "mods-unknown"}, "mods/fern")
	add("it is missing, and the description says that it does not matter", listing(`{"id": "fern"}`), "[[rule]]\non = \"mod-missing\"\nkind = \"shared\"\nsays = \"fit\"\n", []string{"mods-unknown"})
	add("it is missing, and the other kind would not matter", listing(`{"id": "fern"}`), "[[rule]]\non = \"mod-missing\"\nkind = \"mod\"\nsays = \"fit\"\n", []string{"mod-missing", "mods-unknown"})
	return all
}

// TestDamagedAndIncomplete names both: what is damaged is not hidden behind what is missing.
func TestDamagedAndIncomplete(t *testing.T) {
	beside := strings.Replace(inJSON(jsonList, `layers = "gzip"`), "name   = ", "companions = [\"*.png\"]\nname   = ", 1)
	dir, h := laid(t, verdictCase{save: flipped(packed(emptied), 6), said: beside})
	v, err := vet.Vet(t.Context(), h, filepath.Join(dir, "download", "run.sav"), vet.Request{})
	require.NoError(t, err)
	defer v.Close()
	judged := slices.Clone(v.Findings)
	for _, j := range v.Judged {
		judged = append(judged, j.Findings...)
	}
	var codes []check.Code
	for _, f := range judged {
		codes = append(codes, f.Code)
	}
	assert.Contains(t, codes, check.Damaged)
	assert.Contains(t, codes, check.Incomplete)
}
