package refer

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var all = []Identifiers{
	{Mod: "deep-tides", Exact: []string{"deep:kelp", "deep:kelp_bed", "tide pool", "shared_thing"}},
	{Mod: "rope", Prefixes: []string{"rope:"}, Exact: []string{"shared_thing", "ab"}},
	{Mod: "lamps", Exact: []string{"#lamp", "лампа"}},
}

func TestSearch(t *testing.T) {
	for _, c := range []struct {
		text string
		want map[string]int
	}{
		{`{"a":"deep:kelp","b":"deep:kelp_bed"}`, map[string]int{"deep-tides": 2}},
		{`deep:kelps xdeep:kelp deep:kel`, map[string]int{}},
		{`rope:knot rope:net,rope: `, map[string]int{"rope": 3}},
		{`arope:knot`, map[string]int{}},
		{`a tide pool; a tide poolside`, map[string]int{"deep-tides": 1}},
		{`shared_thing ab`, map[string]int{}},
		{`x#lamp лампа лампада`, map[string]int{"lamps": 2}},
		{`deep:kelp`, map[string]int{"deep-tides": 1}},
		{``, map[string]int{}},
	} {
		counts := Counts{}
		New(all).Search([]byte(c.text), "here", counts)
		got := map[string]int{}
		for mod, n := range counts {
			got[mod] = n.N
			assert.Equal(t, "here", n.At)
		}
		assert.Equal(t, c.want, got, c.text)
	}
	counts := Counts{}
	New(all).Search([]byte("x rope:net rope:knot"), "row 3", counts)
	assert.Equal(t, Count{2, "rope:", "row 3"}, counts["rope"])
	New(nil).Search([]byte("anything"), "", counts)
}

// TestReadIsSearch puts identifiers across every border of the blocks that a stream is read in.
func TestReadIsSearch(t *testing.T) {
	f := New(all)
	for _, shift := range []int{0, 1, 5, 8, 9, 10, 500, maxIdentifier, maxIdentifier + 3} {
		text := strings.Repeat(".", block-shift) + "deep:kelp" + strings.Repeat(".", block-2*shift) + "rope:x deep:kelp_bed" + strings.Repeat("y", shift) + " tide pool"
		want, got := Counts{}, Counts{}
		f.Search([]byte(text), "", want)
		require.NoError(t, f.Read(iotest.HalfReader(strings.NewReader(text)), "", got))
		assert.Equal(t, want, got, shift)
		assert.Positive(t, want["deep-tides"].N)
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("a deep:kelp rope:x tide pool"))
	finder := New(all)
	f.Fuzz(func(t *testing.T, text []byte) {
		want, got := Counts{}, Counts{}
		finder.Search(text, "", want)
		require.NoError(t, finder.Read(bytes.NewReader(text), "", got))
		assert.Equal(t, want, got)
	})
}

func BenchmarkRead(b *testing.B) {
	for _, n := range []int{10, 10_000} {
		b.Run(fmt.Sprintf("%d identifiers", n), func(b *testing.B) {
			var ids Identifiers
			for i := range n {
				ids.Exact = append(ids.Exact, fmt.Sprintf("island:%x_thing_%d", i*7919, i))
			}
			finder := New([]Identifiers{ids})
			text := []byte(strings.Repeat(`{"id":"island:44_rock","x":12.5,"y":-3,"state":"lit by lamp keepers"},`, 1<<16))
			b.SetBytes(int64(len(text)))
			for b.Loop() {
				require.NoError(b, finder.Read(bytes.NewReader(text), "", Counts{}))
			}
		})
	}
}

// TestEachVisitsWholeNames visits identifiers where they stand, the whole of those of which only the beginning or end is known.
func TestEachVisitsWholeNames(t *testing.T) {
	f := New([]Identifiers{{Mod: "rope", Prefixes: []string{"rope:", "rope/"}}, {Mod: "deep", Exact: []string{"deep:kelp"}}, {Mod: "glass", Suffixes: []string{"_glass"}}})
	for text, want := range map[string][]string{
		`"rope:knot-2", "rope/net."`: {"rope:knot-2", "rope/net"}, "a deep:kelp, deep:kelps": {"deep:kelp"}, "x_old-pane_glass;": {"x_old-pane_glass"},
		"\x00\x09rope:knot\x00\x00": {"rope:knot"}, "rope:": {"rope:"}, "": nil, "ropes:knot": nil,
	} {
		var got []string
		f.Each([]byte(text), func(mod string, from, to int) { got = append(got, text[from:to]) })
		assert.ElementsMatch(t, want, got, text)
	}
}
