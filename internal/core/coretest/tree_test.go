package coretest_test

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/coretest"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/keep"
	"ostrov/internal/longtest"
)

// oddNames are names that a file system can hold and that something on the way could trip over.
var oddNames = []string{"plain.dat", "two words", `back\slash`, `"quoted"`, "it's", "new\nline", "tab\tname", "not\xffutf8", "\xc3\x28", "Ünïcode", "cafe\u0301", "caf\u00e9", "-rf",
	" leading", "trailing ", "dots...", ".hidden", "a.txt", "a", "%41", "COM1", "#12", "$HOME", "*", "con?", "{}", "\u202egnp.exe", "\x01\x02", "a;b", "a|b", "~", "\U0001F30A"}

// plant fills dir with a random tree and returns nothing: what it made is read back from the drive.
func plant(t *testing.T, r *rand.Rand, dir string, depth int) {
	names := slices.Clone(oddNames)
	r.Shuffle(len(names), func(i, j int) { names[i], names[j] = names[j], names[i] })
	var made []string
	for _, name := range names[:2+r.IntN(8)] {
		at := filepath.Join(dir, name)
		switch kind := r.IntN(6); {
		case kind == 0 && depth < 3:
			require.NoError(t, os.Mkdir(at, 0o755))
			plant(t, r, at, depth+1)
			require.NoError(t, os.Chmod(at, []os.FileMode{0o700, 0o755, 0o775}[r.IntN(3)]))
			when := time.Unix(r.Int64N(1_700_000_000), r.Int64N(1e9))
			require.NoError(t, os.Chtimes(at, when, when))
		case kind == 1 && len(made) > 0:
			require.NoError(t, os.Symlink(made[r.IntN(len(made))], at))
		default:
			data := make([]byte, []int{0, 1, 300, 70_000, 600_000}[r.IntN(5)])
			for i := range data {
				data[i] = byte(r.UintN(7))
			}
			require.NoError(t, os.WriteFile(at, data, 0o644))
			require.NoError(t, os.Chmod(at, []os.FileMode{0o600, 0o644, 0o755, 0o444}[r.IntN(4)]))
			when := time.Unix(r.Int64N(1_700_000_000), r.Int64N(1e9))
			require.NoError(t, os.Chtimes(at, when, when))
			made = append(made, name)
		}
	}
}

// seen is all of a tree: names, bytes, links, modes, times.
func seen(t *testing.T, dir string) map[string]string {
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(dir, func(path string, d os.DirEntry, err error) error {
		if err != nil || path == dir {
			return err
		}
		info, err := d.Info()
		require.NoError(t, err)
		rel, err := filepath.Rel(dir, path)
		require.NoError(t, err)
		text := info.Mode().String() + " "
		switch {
		case info.Mode()&os.ModeSymlink != 0:
			target, err := os.Readlink(path)
			require.NoError(t, err)
			text += target
		case info.IsDir():
			text += info.ModTime().UTC().String()
		default:
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			text += info.ModTime().UTC().String() + fmt.Sprintf(" %x", blake3.Sum256(data))
		}
		all[rel] = text
		return nil
	}))
	return all
}

// TestAnyTreeComesBack keeps saves whose files have any names, contents, modes and times that the file system holds, and brings them back
// in place and into a folder elsewhere.
func TestAnyTreeComesBack(t *testing.T) {
	if runtime.GOOS == "windows" || runtime.GOOS == "darwin" {
		t.Skip("a file system that holds any bytes as names")
	}
	for seed := range uint64(longtest.Of(2, 12)) {
		t.Run(fmt.Sprint(seed), func(t *testing.T) {
			w := coretest.New(t)
			slot := w.Voyages("slot_01")
			plant(t, rand.New(rand.NewPCG(seed, 1)), slot, 0)
			want := seen(t, slot)
			kept, err := keep.Keep(t.Context(), w.Home, w.In("tidewrack"), keep.Request{})
			require.NoError(t, err)
			require.Empty(t, kept.Snapshot.LeftOut)

			out := filepath.Join(t.TempDir(), "out")
			_, err = keep.RestoreTo(t.Context(), w.Home, kept.Snapshot, out, keep.RestoreRequest{})
			require.NoError(t, err)
			there, err := filepath.Glob(filepath.Join(out, "*", "*", "*", "slot_01"))
			require.NoError(t, err)
			require.Len(t, there, 1)
			require.Equal(t, want, seen(t, there[0]))

			w.Again()
			require.NoError(t, os.RemoveAll(slot))
			carryOut(t, w, func(st *facts.State) (*planned, error) {
				return keep.Restore(t.Context(), w.Home, st, kept.Snapshot, keep.RestoreRequest{})
			})
			require.Equal(t, want, seen(t, slot))

			w.Again()
			a, err := w.Archive()
			require.NoError(t, err)
			report, err := a.Verify(t.Context(), func(int64) {})
			require.NoError(t, err)
			require.Empty(t, report.Damage)
			same, err := keep.Keep(t.Context(), w.Home, w.In("tidewrack"), keep.Request{})
			require.NoError(t, err)
			require.True(t, slices.ContainsFunc(same.Snapshot.Saves, func(s archive.KeptSave) bool { return s.Name == "slot_01" }))
		})
	}
}
