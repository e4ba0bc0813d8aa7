package archive

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/tree"
	"ostrov/internal/longtest"
)

// TestTwoLargeFilesAreComparedAtOnce holds the comparison of changed files, which reads the archive, against the workers that add to it
// meanwhile; the race detector looks on.
func TestTwoLargeFilesAreComparedAtOnce(t *testing.T) {
	f := newFixture(t)
	names := []string{"a.db", "b.db", "c.db", "d.db"}
	for i, name := range names {
		f.write(name, noise(6<<20, uint64(i)))
	}
	first, _ := f.keep(nil)
	for i, name := range names {
		data := noise(6<<20, uint64(i))
		for at := 300 * page; at < len(data); at += 50 * page {
			data[at]++
		}
		f.write(name, data)
	}
	before, err := f.read(first)
	require.NoError(t, err)
	entries := []tree.Entry{}
	require.NoError(t, tree.Walk(t.Context(), f.saves, func(e tree.Entry) error { entries = append(entries, e); return nil }))
	k, err := f.a.Keep(t.Context(), f.hasher, first, f.now, func(int64) {})
	require.NoError(t, err)
	defer k.Abandon()
	var groups []Group
	for _, e := range entries {
		groups = append(groups, Group{Dir: f.saves, Entries: []tree.Entry{e}})
	}
	root, _, err := k.Root(t.Context(), Root{Folder: "saves", Kind: Saves}, groups, true)
	require.NoError(t, err)
	s := &Snapshot{Playthrough: "gannet-rock", Game: "tidewrack", Taken: f.now.Add(time.Minute).UTC(), Roots: []Root{root}}
	require.NoError(t, k.Commit(s, 0))
	assert.Less(t, k.Stored(), int64(2<<20))
	after, err := f.read(s)
	require.NoError(t, err)
	assert.Equal(t, len(before), len(after))
	for i, name := range names {
		data := noise(6<<20, uint64(i))
		for at := 300 * page; at < len(data); at += 50 * page {
			data[at]++
		}
		assert.True(t, string(data) == after[name], name)
	}
}

// TestSmallFilesShareAnEntry holds that many small files cost few entries, that they come back, and that one that changes costs itself
// only.
func TestSmallFilesShareAnEntry(t *testing.T) {
	f := newFixture(t)
	want := map[string]string{}
	for i := range 300 {
		name := fmt.Sprintf("mod/f%03d.json", i)
		want[name] = fmt.Sprintf("{\"lamp\": %d, \"text\": %q}", i, strings.Repeat("tide ", i%50))
		f.write(name, []byte(want[name]))
	}
	keep := func(before *Snapshot) (*Snapshot, int64) {
		var entries []tree.Entry
		require.NoError(t, tree.Walk(t.Context(), f.saves, func(e tree.Entry) error { entries = append(entries, e); return nil }))
		f.now = f.now.Add(time.Hour)
		k, err := f.a.Keep(t.Context(), f.hasher, before, f.now, func(int64) {})
		require.NoError(t, err)
		defer k.Abandon()
		root, err := k.WholeRoot(t.Context(), "place", before, Root{Folder: "mods", Kind: Mods}, f.saves, slices.Values(entries), func(Node) {})
		require.NoError(t, err)
		s := &Snapshot{Playthrough: "gannet-rock", Game: "tidewrack", Taken: f.now.UTC(), Roots: []Root{root}}
		require.NoError(t, k.Commit(s, 0))
		return s, k.Copied()
	}
	first, _ := keep(nil)
	assert.Less(t, len(f.a.where), 20)
	got, err := f.read(first)
	require.NoError(t, err)
	assert.Equal(t, want, got)
	want["mod/f007.json"] = "changed"
	f.write("mod/f007.json", []byte("changed"))
	second, read := keep(first)
	assert.Equal(t, int64(len("changed")), read)
	got, err = f.read(second)
	require.NoError(t, err)
	assert.Equal(t, want, got)
	report, err := f.a.Verify(t.Context(), func(int64) {})
	require.NoError(t, err)
	assert.Empty(t, report.Damage)
}

// TestTheThousandthSnapshotCostsWhatTheSecondDid counts what an unchanged snapshot reads and writes; bench measures the time.
func TestTheThousandthSnapshotCostsWhatTheSecondDid(t *testing.T) {
	f := newFixture(t)
	for i := range 300 {
		f.write(fmt.Sprintf("mod%d/file%d", i%7, i), fmt.Appendf(nil, "file %d", i))
	}
	var entries []tree.Entry
	require.NoError(t, tree.Walk(t.Context(), f.saves, func(e tree.Entry) error { entries = append(entries, e); return nil }))
	var before *Snapshot
	var second int64
	count := longtest.Of(60, 1000)
	for i := range count {
		f.now = f.now.Add(time.Hour)
		opens := f.hasher.Opens.Load()
		k, err := f.a.Keep(t.Context(), f.hasher, before, f.now, func(int64) {})
		require.NoError(t, err)
		root, err := k.WholeRoot(t.Context(), "place", before, Root{Folder: "mods", Kind: Mods}, f.saves, slices.Values(entries), func(Node) {})
		require.NoError(t, err)
		before = &Snapshot{Playthrough: "gannet-rock", Game: "tidewrack", Taken: f.now.UTC(), Roots: []Root{root}}
		require.NoError(t, k.Commit(before, 0))
		require.Equal(t, i+1, before.Number)
		info, err := os.Stat(f.a.snapshotFile("gannet-rock", before.ID))
		require.NoError(t, err)
		switch {
		case i == 1:
			second = info.Size()
		case i > 1:
			require.InDelta(t, second, info.Size(), 3, "but for the digits of its number")
		}
		if i > 0 {
			require.Zero(t, k.Stored())
			require.Equal(t, opens, f.hasher.Opens.Load())
		}
	}
	newest, err := f.a.Newest("gannet-rock", Any)
	require.NoError(t, err)
	assert.Equal(t, count, newest.Number)
}

// TestAKeepThatIsBegunAgainGoesOn stops a keep after its first full content file: the next one finds it and writes only the rest.
func TestAKeepThatIsBegunAgainGoesOn(t *testing.T) {
	f := newFixture(t)
	for i := range 30 {
		f.write(fmt.Sprintf("%02d.dat", i), noise(3<<20, uint64(i)))
	}
	var entries []tree.Entry
	require.NoError(t, tree.Walk(t.Context(), f.saves, func(e tree.Entry) error { entries = append(entries, e); return nil }))
	ctx, stop := context.WithCancel(t.Context())
	read := atomic.Int64{}
	k, err := f.a.Keep(ctx, f.hasher, nil, f.now, func(n int64) {
		if read.Add(n) > maxZip+6<<20 {
			stop()
		}
	})
	require.NoError(t, err)
	_, err = k.WholeRoot(ctx, "place", nil, Root{Folder: "mods", Kind: Mods}, f.saves, slices.Values(entries), func(Node) {})
	require.ErrorIs(t, err, context.Canceled)
	k.Abandon()
	report, err := f.a.Verify(t.Context(), func(int64) {})
	require.NoError(t, err)
	assert.Empty(t, report.Damage)
	assert.Equal(t, 1, report.Files)

	k, err = f.a.Keep(t.Context(), f.hasher, nil, f.now, func(int64) {})
	require.NoError(t, err)
	root, err := k.WholeRoot(t.Context(), "place", nil, Root{Folder: "mods", Kind: Mods}, f.saves, slices.Values(entries), func(Node) {})
	require.NoError(t, err)
	s := &Snapshot{Playthrough: "gannet-rock", Game: "tidewrack", Taken: f.now.UTC(), Roots: []Root{root}}
	require.NoError(t, k.Commit(s, 0))
	assert.Less(t, k.Stored(), int64(30*3<<20-maxZip+4<<20), "what was full is not written again")
	got, err := f.read(s)
	require.NoError(t, err)
	assert.Len(t, got, 30)
}
