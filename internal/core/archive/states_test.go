package archive

import (
	"encoding/json"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/tree"
)

// notes remembers in memory what an index would.
type notes struct {
	Cache
	what  map[string][]byte
	reads int
}

func (n *notes) Recall(place string, _ tree.Digest, into any) bool {
	data, ok := n.what[place]
	return ok && json.Unmarshal(data, into) == nil
}

func (n *notes) Note(place string, _ tree.Digest, what any) {
	data, err := json.Marshal(what)
	if err == nil {
		n.what[place] = data
		n.reads++
	}
}

// took takes a snapshot that says it has these saves.
func (f *fixture) took(byHand bool, saves ...KeptSave) *Snapshot {
	f.now = f.now.Add(1e9 * 60)
	k, err := f.a.Keep(f.t.Context(), f.hasher, nil, f.now, func(int64) {})
	require.NoError(f.t, err)
	defer k.Abandon()
	s := &Snapshot{Playthrough: "gannet-rock", Game: "tidewrack", Taken: f.now.UTC(), ByHand: byHand, Saves: saves}
	require.NoError(f.t, k.Commit(s, 0))
	return s
}

func slotState(n byte, bytes int64, broken string) KeptSave {
	return KeptSave{Kind: "voyage", Folder: "saves", Account: "7", Name: "slot_00", Slot: "1", Digest: tree.Digest{n}, Bytes: bytes, Broken: broken}
}

const slotPlace = "saves\x007\x00slot_00"

func TestStatesAreKnownOnceEach(t *testing.T) {
	f := newFixture(t)
	first := f.took(false, slotState(1, 1000, ""))
	f.took(false, slotState(2, 1000, ""))
	third := f.took(false, slotState(2, 1000, ""), KeptSave{Folder: "saves", Name: "other", Digest: tree.Digest{9}, Bytes: 1})
	f.took(false, slotState(3, 0, "empty"))
	f.took(true, slotState(4, 900, ""))
	again := f.took(false, slotState(1, 1000, ""))

	states, err := f.a.States("gannet-rock")
	require.NoError(t, err)
	assert.Equal(t, []string{"saves\x00\x00other", slotPlace}, states.Places())
	of := states.Of(slotPlace)
	require.Len(t, of, 4, "each state once")
	assert.Equal(t, first.ID, of[0].First)
	assert.Equal(t, again.ID, of[0].Last, "the state came back")
	assert.Equal(t, third.ID, of[1].Last)
	assert.Equal(t, "empty", of[2].Broken)
	assert.Equal(t, "gannet-rock.6", states.Address(of[0].Last))
	assert.Equal(t, tree.Digest{2}, states.Find(slotPlace, tree.Digest{2}).Digest)
	assert.Nil(t, states.Find(slotPlace, tree.Digest{7}))
	assert.Nil(t, states.Find("elsewhere", tree.Digest{2}))
}

// TestTheNewestWholeState goes through what may not be offered as the way back.
func TestTheNewestWholeState(t *testing.T) {
	for name, c := range map[string]struct {
		kept  []*Snapshot
		bytes int64
		want  byte // 0: none
	}{
		"the newest":                {[]*Snapshot{{Saves: []KeptSave{slotState(1, 50, "")}}, {Saves: []KeptSave{slotState(2, 50, "")}}}, 0, 2},
		"not a broken one":          {[]*Snapshot{{Saves: []KeptSave{slotState(1, 50, "")}}, {Saves: []KeptSave{slotState(2, 50, "damaged")}}}, 0, 1},
		"not an empty one":          {[]*Snapshot{{Saves: []KeptSave{slotState(1, 50, "")}}, {Saves: []KeptSave{slotState(2, 0, "")}}}, 0, 1},
		"not one that is too small": {[]*Snapshot{{Saves: []KeptSave{slotState(1, 50, "")}}, {Saves: []KeptSave{slotState(2, 5, "")}}}, 20, 1},
		"a copy by hand comes last": {[]*Snapshot{{Saves: []KeptSave{slotState(1, 50, "")}}, {ByHand: true, Saves: []KeptSave{slotState(2, 50, "")}}}, 0, 1},
		"but before none at all":    {[]*Snapshot{{ByHand: true, Saves: []KeptSave{slotState(2, 50, "")}}}, 0, 2},
		"none":                      {[]*Snapshot{{Saves: []KeptSave{slotState(1, 0, "")}}}, 0, 0},
	} {
		t.Run(name, func(t *testing.T) {
			f := newFixture(t)
			for _, s := range c.kept {
				f.took(s.ByHand, s.Saves...)
			}
			states, err := f.a.States("gannet-rock")
			require.NoError(t, err)
			whole := states.Whole(slotPlace, c.bytes)
			if c.want == 0 {
				assert.Nil(t, whole)
				return
			}
			require.NotNil(t, whole)
			assert.Equal(t, tree.Digest{c.want}, whole.Digest)
		})
	}
}

// TestStatesAreReadOnce looks at what is remembered: nothing is read twice, and what a cleared snapshot alone had is forgotten.
func TestStatesAreReadOnce(t *testing.T) {
	f := newFixture(t)
	remembered := &notes{what: map[string][]byte{}}
	f.took(false, slotState(1, 1000, ""))
	second := f.took(false, slotState(2, 1000, ""))
	f.a.cache = remembered
	read := func() int {
		states, err := f.a.States("gannet-rock")
		require.NoError(t, err)
		return len(states.Of(slotPlace))
	}
	assert.Equal(t, 2, read())
	before := remembered.reads
	assert.Equal(t, 2, read())
	assert.Equal(t, before, remembered.reads, "nothing new was read")
	f.a.cache = nil
	f.took(false, slotState(3, 1000, ""))
	f.a.cache = remembered
	assert.Equal(t, 3, read())
	require.NoError(t, os.Remove(f.a.snapshotFile("gannet-rock", second.ID)))
	assert.Equal(t, 2, read())
}
