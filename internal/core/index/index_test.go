package index

import (
	"database/sql"
	"fmt"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/tree"
)

func open(t *testing.T, path string) *Index {
	x, err := Open(path, false)
	require.NoError(t, err)
	return x
}

func TestWhatIsLearntIsThereNextTime(t *testing.T) {
	path := filepath.Join(t.TempDir(), "index.sqlite")
	evening := time.Date(2026, 3, 1, 21, 14, 2, 7, time.UTC)
	known := tree.Known{Entry: tree.Entry{Kind: tree.File, Size: 5, ModTime: evening, ChangeTime: evening, FileID: 1<<63 + 9}, Sums: tree.Sums{Blake3: tree.Digest{1}, SHA256: "ab"}, Seen: evening}
	x := open(t, path)
	x.Store("/saves/a", known)
	x.Note("/saves/a", tree.Digest{2}, map[string]int{"lamps": 7})
	x.StoreContents("archive", "one.zip", 100, []tree.Digest{{3}, {4}})
	require.NoError(t, x.Close())

	x = open(t, path)
	got, ok := x.Lookup("/saves/a")
	assert.True(t, ok)
	assert.True(t, tree.SameState(known.Entry, got.Entry))
	assert.Equal(t, known.Sums, got.Sums)
	assert.True(t, known.Seen.Equal(got.Seen))
	_, ok = x.Lookup("/saves/b")
	assert.False(t, ok)
	var note map[string]int
	assert.True(t, x.Recall("/saves/a", tree.Digest{2}, &note))
	assert.Equal(t, 7, note["lamps"])
	assert.False(t, x.Recall("/saves/a", tree.Digest{9}, &note), "of another state")
	digests, ok := x.Contents("archive", "one.zip", 100)
	assert.True(t, ok)
	assert.Equal(t, []tree.Digest{{3}, {4}}, digests)
	_, ok = x.Contents("archive", "one.zip", 101)
	assert.False(t, ok, "of another size it is another file")
	x.Note("/saves/a", tree.Digest{5}, "later")
	var text string
	assert.True(t, x.Recall("/saves/a", tree.Digest{5}, &text), "before it is written too")
	x.Note("/saves/c", tree.Digest{5}, func() {})
	assert.False(t, x.Recall("/saves/c", tree.Digest{5}, &text), "what cannot be noted is not")
	require.NoError(t, x.Close())
}

func TestTheSHA256OfAnotherLookStays(t *testing.T) {
	x := open(t, filepath.Join(t.TempDir(), "index.sqlite"))
	defer x.Close()
	x.Store("a", tree.Known{Sums: tree.Sums{Blake3: tree.Digest{1}, SHA256: "ab"}})
	x.Store("a", tree.Known{Sums: tree.Sums{Blake3: tree.Digest{1}}})
	got, _ := x.Lookup("a")
	assert.Equal(t, "ab", got.Sums.SHA256)
	x.Store("a", tree.Known{Sums: tree.Sums{Blake3: tree.Digest{2}}})
	got, _ = x.Lookup("a")
	assert.Empty(t, got.Sums.SHA256, "of other content it is wrong")
}

func TestAnIndexOfAnotherFormatIsEmptied(t *testing.T) {
	path := filepath.Join(t.TempDir(), "index.sqlite")
	x := open(t, path)
	x.Store("a", tree.Known{Sums: tree.Sums{Blake3: tree.Digest{1}}})
	require.NoError(t, x.Close())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec(fmt.Sprintf("PRAGMA user_version = %d", format+1))
	require.NoError(t, err)
	require.NoError(t, db.Close())
	x = open(t, path)
	defer x.Close()
	_, ok := x.Lookup("a")
	assert.False(t, ok)
}

func TestManyAskAtOnce(t *testing.T) {
	x := open(t, filepath.Join(t.TempDir(), "index.sqlite"))
	var wait sync.WaitGroup
	for i := range 8 {
		wait.Go(func() {
			for j := range 50 {
				name := fmt.Sprint(i, j)
				x.Store(name, tree.Known{})
				x.Lookup(name)
				x.Note(name, tree.Digest{1}, j)
				var got int
				x.Recall(name, tree.Digest{1}, &got)
			}
		})
	}
	wait.Wait()
	require.NoError(t, x.Close())
}

// TestMuchIsRememberedInLittleMemory stores more than is held at once.
func TestMuchIsRememberedInLittleMemory(t *testing.T) {
	path := filepath.Join(t.TempDir(), "index.sqlite")
	x, err := Open(path, false)
	require.NoError(t, err)
	when := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
	for i := range maxFresh + 10 {
		x.Store(fmt.Sprint(i), tree.Known{Entry: tree.Entry{Kind: tree.File, Size: int64(i), ModTime: when}, Sums: tree.Sums{Blake3: tree.Digest{byte(i), 1}}, Seen: when})
	}
	assert.Len(t, x.fresh, 10)
	require.NoError(t, x.Close())
	x, err = Open(path, false)
	require.NoError(t, err)
	defer x.Close()
	for _, i := range []int{0, 1, maxFresh - 1, maxFresh, maxFresh + 9} {
		k, ok := x.Lookup(fmt.Sprint(i))
		require.True(t, ok, i)
		assert.Equal(t, int64(i), k.Entry.Size)
		assert.Equal(t, tree.Digest{byte(i), 1}, k.Sums.Blake3)
	}
	_, ok := x.Lookup("nothing")
	assert.False(t, ok)
}
