package archive

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/tree"
)

func TestListingsAreInOrder(t *testing.T) {
	file := func(path string) Node { return Node{Path: path, Kind: tree.File, Mode: "644"} }
	dir := func(path string) Node { return Node{Path: path, Kind: tree.Dir, Mode: "755"} }
	for name, c := range map[string]struct {
		nodes []Node
		good  bool
	}{
		"a tree":                {[]Node{dir("a"), file("a-b"), file("a.txt"), dir("a/b"), file("a/b/c"), file("b")}, true},
		"nothing":               {nil, true},
		"twice":                 {[]Node{file("a"), file("a")}, false},
		"out of order":          {[]Node{file("b"), file("a")}, false},
		"in a file":             {[]Node{file("a"), file("a/b")}, false},
		"in a file, later":      {[]Node{file("a"), file("a-b"), file("a.txt"), file("a/b")}, false},
		"in a link":             {[]Node{{Path: "a", Kind: tree.Link, Target: ".."}, file("a/b")}, false},
		"deep in a file":        {[]Node{dir("a"), file("a/b"), file("a/b/c/d")}, false},
		"a name that goes on":   {[]Node{file("a"), dir("ab"), file("ab/c")}, true},
		"a folder nobody lists": {[]Node{file("a/b"), file("c")}, true},
	} {
		var o inOrder
		var err error
		for _, n := range c.nodes {
			if err == nil {
				err = o.next(n)
			}
		}
		if c.good {
			assert.NoError(t, err, name)
		} else {
			assert.ErrorIs(t, err, ErrDamaged, name)
		}
	}
}

// TestCopyAndRepairLeaveDamageOut has a content file and a snapshot damaged: neither is passed on, all else is, and the copy mends the first.
func TestCopyAndRepairLeaveDamageOut(t *testing.T) {
	f := newFixture(t)
	var all []*Snapshot
	for i := range 3 {
		f.write("slot_00", noise(5000, uint64(i)))
		s, _ := f.keep(nil)
		all = append(all, s)
	}
	whole, err := Create(filepath.Join(t.TempDir(), "whole"), nil)
	require.NoError(t, err)
	done, err := f.a.CopyTo(t.Context(), whole, func(int64) {})
	require.NoError(t, err)
	assert.Equal(t, 3, done.Snapshots)

	content, snapshot := filepath.Join(f.a.Dir, "content", all[0].Content[0]), f.a.snapshotFile("gannet-rock", all[1].ID)
	for _, path := range []string{content, snapshot} {
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		data[len(data)/2] ^= 1
		require.NoError(t, os.WriteFile(path, data, 0o644))
	}
	other, err := Create(filepath.Join(t.TempDir(), "other"), nil)
	require.NoError(t, err)
	_, err = f.a.CopyTo(t.Context(), other, func(int64) {})
	assert.ErrorIs(t, err, ErrDamaged)
	assert.ErrorContains(t, err, "gannet-rock.1 is not copied")
	ids, err := other.ids("gannet-rock")
	require.NoError(t, err)
	assert.Equal(t, []string{all[2].ID}, ids)
	report, err := other.Verify(t.Context(), func(int64) {})
	require.NoError(t, err)
	assert.Empty(t, report.Damage)

	report, err = f.a.Verify(t.Context(), func(int64) {})
	require.NoError(t, err)
	assert.NotEmpty(t, report.Damage)
	mended, err := f.a.Repair(t.Context(), whole, func(int64) {})
	require.NoError(t, err)
	assert.Len(t, mended, 2)
	report, err = f.a.Verify(t.Context(), func(int64) {})
	require.NoError(t, err)
	assert.Empty(t, report.Damage)
}

// TestIDsSortByTime holds that the order of IDs is that of time, down to the millisecond.
func TestIDsSortByTime(t *testing.T) {
	at := time.Date(2026, 3, 1, 21, 14, 2, 0, time.UTC)
	last := ""
	for range 2500 {
		id := newID(at)
		assert.Regexp(t, snapshotPattern, id)
		assert.Greater(t, id, last)
		last = id
		at = at.Add(time.Millisecond)
	}
}

func TestNewestSkipsWhatCannotBeRead(t *testing.T) {
	f := newFixture(t)
	f.write("a", []byte("x"))
	first, _ := f.keep(nil)
	second, _ := f.keep(first)
	require.NoError(t, os.WriteFile(f.a.snapshotFile("gannet-rock", second.ID), []byte("{"), 0o644))
	got, err := f.a.Newest("gannet-rock", Any)
	require.NoError(t, err)
	assert.Equal(t, first.ID, got.ID)
	assert.Equal(t, 1, got.Number)
	n, err := f.a.Count("gannet-rock")
	require.NoError(t, err)
	assert.Equal(t, 2, n, "the damaged one keeps its number")
	_, err = f.a.Snapshot("gannet-rock", 2)
	assert.ErrorIs(t, err, ErrDamaged)
	_, err = f.a.Snapshot("gannet-rock", 3)
	assert.ErrorIs(t, err, os.ErrNotExist)
	got, err = f.a.Newest("gannet-rock", func(s *Snapshot) bool { return s.Set })
	require.NoError(t, err)
	assert.Nil(t, got)
}
