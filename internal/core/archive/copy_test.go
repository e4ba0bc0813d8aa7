package archive

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
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

// TestCopyAndRepairLeaveDamageOut has a content file and a snapshot damaged: neither is passed on, all else is, and the copy mends the
// first.
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
		assert.Regexp(t, snapshotPattern(), id)
		assert.Greater(t, id, last)
		last = id
		at = at.Add(time.Millisecond)
	}
}

// TestWhatIsAskedForIsThatOrAnError damages the newest snapshot: nobody gets the one before in its place without being told.
func TestWhatIsAskedForIsThatOrAnError(t *testing.T) {
	f := newFixture(t)
	f.write("a", []byte("x"))
	first, _ := f.keep(nil)
	second, _ := f.keep(first)
	require.NoError(t, os.WriteFile(f.a.snapshotFile("gannet-rock", second.ID), []byte("{"), 0o644))
	for range 2 { // with what is remembered of numbers, and without
		var damaged *UnreadableError
		_, err := f.a.Newest("gannet-rock", Any)
		require.ErrorAs(t, err, &damaged)
		assert.Equal(t, "gannet-rock.2", damaged.Address, "it keeps its number")
		assert.Equal(t, first.ID, damaged.Older.ID)
		_, err = f.a.Snapshot("gannet-rock", 2, "")
		require.ErrorAs(t, err, &damaged)
		assert.ErrorIs(t, err, ErrDamaged)
		_, err = f.a.Snapshot("gannet-rock", 3, "")
		assert.ErrorIs(t, err, os.ErrNotExist)
		got, err := f.a.NewestReadable("gannet-rock", Any)
		require.NoError(t, err)
		assert.Equal(t, first.ID, got.ID)
		got, err = f.a.NewestReadable("gannet-rock", func(s *Snapshot) bool { return s.Set })
		require.NoError(t, err)
		assert.Nil(t, got)
		f.a.numbersOf = nil
	}
}

// TestANumberIsGivenOnce keeps while the clock goes back, clears, and keeps on another machine: no snapshot ever has another one's number.
func TestANumberIsGivenOnce(t *testing.T) {
	f := newFixture(t)
	f.write("a", []byte("x"))
	var last *Snapshot
	for n := 1; n <= 5; n++ {
		last, _ = f.keep(last)
		assert.Equal(t, n, last.Number)
		f.now = f.now.Add(-24 * time.Hour)
	}
	newest, err := f.a.Newest("gannet-rock", Any)
	require.NoError(t, err)
	assert.Equal(t, last.ID, newest.ID, "the clock orders nothing")
	rule := Rule{Count: 2}
	c, err := f.a.PlanClear(rule, f.now.Add(1000*time.Hour))
	require.NoError(t, err)
	require.Len(t, c.Go, 3)
	require.NoError(t, f.a.Clear(t.Context(), rule, c, f.now.Add(1000*time.Hour)))
	names, err := f.a.Addresses("gannet-rock")
	require.NoError(t, err)
	assert.Equal(t, []string{"gannet-rock.4", "gannet-rock.5"}, names)

	// another machine gave the same number
	data, err := os.ReadFile(f.a.snapshotFile("gannet-rock", last.ID))
	require.NoError(t, err)
	id := newID(f.now.Add(2000 * time.Hour))
	at := len(data) - len(jsonSealEnd) - sealLen - len(jsonSealBegin)
	other := append(bytes.Replace(data[:at:at], []byte(last.ID), []byte(id), 1), "\n}"...)
	require.NoError(t, os.WriteFile(f.a.snapshotFile("gannet-rock", id), sealJSON(other), 0o644))
	names, err = f.a.Addresses("gannet-rock")
	require.NoError(t, err)
	assert.Equal(t, []string{"gannet-rock.4", "gannet-rock.5", "gannet-rock.5b"}, names)
	twin, err := f.a.Snapshot("gannet-rock", 5, "b")
	require.NoError(t, err)
	assert.Equal(t, id, twin.ID)
	next, _ := f.keep(nil)
	assert.Equal(t, 6, next.Number)
}

// TestSnapshotsOfTheFirstArchivesKeepTheirNumbers takes the numbers out of snapshots, as the first archives had none, and clears some.
func TestSnapshotsOfTheFirstArchivesKeepTheirNumbers(t *testing.T) {
	f := newFixture(t)
	f.write("a", []byte("x"))
	var last *Snapshot
	for range 4 {
		last, _ = f.keep(last)
		file := f.a.snapshotFile("gannet-rock", last.ID)
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		at := len(data) - len(jsonSealEnd) - sealLen - len(jsonSealBegin)
		body := regexp.MustCompile(`,\n "number": \d+`).ReplaceAll(data[:at:at], nil)
		require.NoError(t, os.WriteFile(file, sealJSON(append(body, "\n}"...)), 0o644))
		f.a.numbersOf = nil
	}
	late := f.now.Add(1000 * time.Hour)
	c, err := f.a.PlanClear(Rule{Count: 2}, late)
	require.NoError(t, err)
	require.NoError(t, f.a.Clear(t.Context(), Rule{Count: 2}, c, late))
	names, err := f.a.Addresses("gannet-rock")
	require.NoError(t, err)
	assert.Equal(t, []string{"gannet-rock.3", "gannet-rock.4"}, names)
	next, _ := f.keep(nil)
	assert.Equal(t, 5, next.Number)
}
