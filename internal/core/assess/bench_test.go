package assess_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/facts"
)

// BenchmarkLook looks at an install with 40 mods and one save of 5 MB of JSON that has just been written: nothing of it is remembered.
func BenchmarkLook(b *testing.B) {
	var listed, things []string
	var mods []string
	for i := range 40 {
		id := fmt.Sprintf("mod-%02d", i)
		listed = append(listed, fmt.Sprintf(`{"id": %q}`, id))
		mods = append(mods, "mods/"+id)
	}
	for i := range 45_000 {
		things = append(things, fmt.Sprintf(`{"id": %d, "of": "mod-%02d:thing%d", "x": %d.25, "y": %d.5, "hp": %d, "tags": ["a", "b"]}`, i, i%40, i%500, i%997, i%991, i%100))
	}
	kinds := strings.Replace(cards, "[mod.field]", "[mod.adds]\nprefix = \"{id}:\"\n[mod.field]", 1)
	c := verdictCase{save: `{"v": "1.0", "mods": [` + strings.Join(listed, ", ") + `], "things": [` + strings.Join(things, ", ") + `]}`,
		said: inJSON("each = \"$.mods[*]\"\nid = \"$.id\"", ""), kinds: kinds, files: carded(mods...), rules: "[references]\nin = \"head\"\nat = \"$.things[*].of\"\n"}
	_, h := laid(b, c)
	b.SetBytes(int64(len(c.save)))
	for b.Loop() {
		h.Hasher.Reread = true
		st, err := facts.Gather(b.Context(), h, h.Installs[0])
		require.NoError(b, err)
		look := assess.Of(st)
		require.Len(b, look.Saves, 1)
		require.Len(b, look.Saves[0].Refs.Counts, 40)
	}
}
