package index

import (
	"fmt"
	"math/rand/v2"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/tree"
)

// someFile is a file of which all that is remembered depends on n.
func someFile(n int) tree.Known {
	when := time.Unix(int64(n), int64(n))
	return tree.Known{Entry: tree.Entry{Kind: tree.File, Size: int64(n), ModTime: when, ChangeTime: when.Add(1), FileID: uint64(n) << 40}, Seen: when.Add(2),
		Sums: tree.Sums{Blake3: tree.Digest{byte(n), byte(n >> 8), 1}, SHA256: strings.Repeat(fmt.Sprintf("%02x", n%256), 32*(n%2))}}
}

// TestRunsGrowAndSplit stores files of a few folders, large and small, in many sessions and in no order, and compares with a map.
func TestRunsGrowAndSplit(t *testing.T) {
	at := filepath.Join(t.TempDir(), "index.sqlite")
	r := rand.New(rand.NewPCG(3, 4))
	want := map[string]int{}
	for session := range 12 {
		x := open(t, at)
		for range 1 + r.IntN(900) {
			name := filepath.Join(fmt.Sprint("folder", r.IntN(3)), fmt.Sprint(r.IntN(4000)))
			if r.IntN(9) == 0 {
				name = filepath.Join("few", fmt.Sprint(r.IntN(5)))
			}
			n := r.IntN(1 << 20)
			want[name] = n
			x.Store(name, someFile(n))
		}
		require.NoError(t, x.Close(), session)
	}
	x := open(t, at)
	defer x.Close()
	for name, n := range want {
		got, ok := x.Lookup(name)
		require.True(t, ok, name)
		is := someFile(n)
		assert.True(t, tree.SameState(is.Entry, got.Entry), name)
		assert.Equal(t, is.Sums, got.Sums, name)
		assert.True(t, is.Seen.Equal(got.Seen), name)
	}
	for _, name := range []string{"folder0", "folder0/", "folder1/x", "folder2/-", "other/1", ""} {
		_, ok := x.Lookup(filepath.FromSlash(name))
		assert.False(t, ok, name)
	}
	var rows, longest int
	require.NoError(t, x.db.QueryRow("SELECT count(*), max(length(files)) FROM runs").Scan(&rows, &longest))
	assert.Less(t, rows, 80, "a row is for many files")
	assert.Less(t, longest, fullRun*150, "and for not too many")
}

func TestTwoSessionsLearnOfTheSameFolder(t *testing.T) {
	at := filepath.Join(t.TempDir(), "index.sqlite")
	a, b := open(t, at), open(t, at)
	for i := range 400 {
		a.Store(fmt.Sprintf("mods/a%d", i), someFile(i))
		b.Store(fmt.Sprintf("mods/b%d", i), someFile(i))
	}
	require.NoError(t, a.Close())
	require.NoError(t, b.Close())
	x := open(t, at)
	defer x.Close()
	for i := range 400 {
		for _, who := range []string{"a", "b"} {
			_, ok := x.Lookup(fmt.Sprintf("mods/%s%d", who, i))
			assert.True(t, ok, "%s%d", who, i)
		}
	}
}

func TestADamagedRunIsForgotten(t *testing.T) {
	var files []file
	for i := range 5 {
		files = append(files, file{fmt.Sprint("name", i), someFile(i)})
	}
	data := encodeRun(files)
	assert.Len(t, decodeRun(data), 5)
	single := len(encodeRun(files[:1]))
	for n := range data {
		if got := decodeRun(data[:n]); got != nil {
			assert.Contains(t, []int{1, 2, 3, 4}, len(got), "cut between two files at %d", n)
			assert.GreaterOrEqual(t, n, single)
		}
	}
	assert.Nil(t, decodeRun(slices.Concat(data, []byte{0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0x01})), "a length without end")

	at := filepath.Join(t.TempDir(), "index.sqlite")
	x := open(t, at)
	x.Store("mods/a", someFile(1))
	require.NoError(t, x.Close())
	x = open(t, at)
	_, err := x.db.Exec("UPDATE runs SET files = x'05'")
	require.NoError(t, err)
	_, ok := x.Lookup("mods/a")
	assert.False(t, ok)
	x.Store("mods/b", someFile(2))
	require.NoError(t, x.Close(), "and learnt anew")
	x = open(t, at)
	defer x.Close()
	_, ok = x.Lookup("mods/b")
	assert.True(t, ok)
}

func BenchmarkStore(b *testing.B) {
	for b.Loop() {
		x, err := Open(filepath.Join(b.TempDir(), "index.sqlite"), false)
		require.NoError(b, err)
		for i := range 20_000 {
			x.Store(fmt.Sprintf("mods/mod%d/d%d/file%d", i%60, i/60%20, i), someFile(i))
		}
		require.NoError(b, x.Close())
	}
}
