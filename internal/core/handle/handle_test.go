package handle_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"

	"ostrov/internal/core/coretest"
	"ostrov/internal/core/handle"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
)

// do carries a plan out, as a command does.
func do(t *testing.T, w *coretest.World, p *plan.Plan, err error) {
	t.Helper()
	require.NoError(t, err)
	_, err = keep.Before(t.Context(), w.Home, p, keep.PresentList)
	require.NoError(t, err)
	_, err = p.Apply(t.Context())
	require.NoError(t, err)
	w.Again()
}

// TestASaveIsHandledAndTakenBack renames, copies and removes a save that is a folder, and takes all of it back.
func TestASaveIsHandledAndTakenBack(t *testing.T) {
	w := coretest.New(t)
	before := coretest.State(t, w.Voyages())
	st, s := w.Find("tidewrack", "2")
	title, line := s.Facts.Title(), s.Line
	p, err := handle.Rename(t.Context(), w.Home, st, s, "6")
	do(t, w, p, err)
	assert.NoDirExists(t, w.Voyages("slot_01"))
	_, s = w.Find("tidewrack", "6")
	assert.Equal(t, title, s.Facts.Title())
	assert.Equal(t, line, s.Line, "it is the same playthrough's")

	st, s = w.Find("tidewrack", "6")
	p, err = handle.Duplicate(t.Context(), w.Home, st, s, "")
	do(t, w, p, err)
	_, copied := w.Find("tidewrack", "2")
	assert.Equal(t, s.Digest, copied.Digest, "the first free slot")

	st, s = w.Find("tidewrack", "6")
	p, err = handle.Remove(t.Context(), w.Home, st, s)
	do(t, w, p, err)
	assert.NoDirExists(t, w.Voyages("slot_05"))
	assert.Empty(t, w.See("tidewrack").Gone, "what was removed on purpose is not missed")

	for range 3 {
		u, err := plan.Undo(t.Context(), w.Home, nil)
		require.NoError(t, err)
		_, err = keep.Before(t.Context(), w.Home, u.Plan, keep.PresentList)
		require.NoError(t, err)
		_, err = u.Apply(t.Context())
		require.NoError(t, err)
		w.Again()
	}
	after := coretest.State(t, w.Voyages())
	delete(before, w.Voyages())
	delete(after, w.Voyages()) // the folder's own time
	assert.Equal(t, before, after)
}

// TestNoSaveIsCovered asks for what is taken, or is no name that the game knows.
func TestNoSaveIsCovered(t *testing.T) {
	w := coretest.New(t)
	type handling = func(context.Context, string) (*plan.Plan, error)
	for game, c := range map[string]struct {
		save   string
		refuse []string
	}{
		"tidewrack":     {"2", []string{"1", "2", "11", "0", "north", "../x", "slot_01"}},
		"brass-orchard": {"A", []string{"A", "B", "Z", "season", "../B"}},
	} {
		before := coretest.State(t, w.Root)
		st, s := w.Find(game, c.save)
		for _, do := range []handling{
			func(ctx context.Context, to string) (*plan.Plan, error) { return handle.Rename(ctx, w.Home, st, s, to) },
			func(ctx context.Context, to string) (*plan.Plan, error) {
				return handle.Duplicate(ctx, w.Home, st, s, to)
			},
		} {
			for _, to := range c.refuse {
				_, err := do(t.Context(), to)
				assert.ErrorIs(t, err, problem.ErrUsage, "%s to %q", game, to)
			}
		}
		for path, was := range before {
			if filepath.Dir(path) != w.Dir && path != w.Dir {
				info, err := os.Lstat(path)
				require.NoError(t, err)
				assert.Contains(t, was, info.ModTime().String()[:10], path)
			}
		}
	}
}

// TestFilesThatBelongTogetherAreRenamedTogether duplicates saves that are files.
func TestFilesThatBelongTogetherAreRenamedTogether(t *testing.T) {
	w := coretest.New(t)
	st, s := w.Find("brass-orchard", "A")
	p, err := handle.Duplicate(t.Context(), w.Home, st, s, "E")
	do(t, w, p, err)
	_, copied := w.Find("brass-orchard", "E")
	assert.Equal(t, s.Digest, copied.Digest)
	assert.Equal(t, len(s.Files), len(copied.Files))

	st = w.See("night-tram")
	require.NotEmpty(t, st.Saves)
	s = st.Saves[0]
	p, err = handle.Duplicate(t.Context(), w.Home, st, s, "")
	do(t, w, p, err)
	again := w.See("night-tram")
	require.Len(t, again.Saves, len(st.Saves)+1)
	same := 0
	for _, other := range again.Saves {
		if other.Digest == s.Digest {
			same++
		}
	}
	assert.Equal(t, 2, same)
}

// TestWhatIsWrittenIsNotReadAgain puts other bytes into a save and asks for their digest: it was taken while they were written, and what another program
// writes afterwards is not taken for it.
func TestWhatIsWrittenIsNotReadAgain(t *testing.T) {
	w := coretest.New(t)
	content := func(text string) tree.Contents {
		return tree.Contents{"slot_01/note.txt": strings.NewReader(text)}
	}
	sums := func() (tree.Sums, int64) {
		e, err := tree.Stat(w.Voyages(), "slot_01/note.txt")
		require.NoError(t, err)
		before := w.Home.Hasher.Opens.Load()
		got, err := w.Home.Hasher.File(t.Context(), w.Voyages(), e, false)
		require.NoError(t, err)
		return got, w.Home.Hasher.Opens.Load() - before
	}
	for _, text := range []string{"first\n", "", strings.Repeat("long ", 1<<20)} {
		st, s := w.Find("tidewrack", "2")
		p, err := handle.Alter(t.Context(), w.Home, st, s, content(text), s.Folder, "")
		require.NoError(t, err)
		_, err = keep.Before(t.Context(), w.Home, p, keep.PresentList)
		require.NoError(t, err)
		_, err = p.Apply(t.Context())
		require.NoError(t, err)
		got, opened := sums()
		assert.Equal(t, tree.Digest(blake3.Sum256([]byte(text))), got.Blake3)
		assert.Zero(t, opened)
		w.Again()
	}
	require.NoError(t, os.WriteFile(w.Voyages("slot_01", "note.txt"), []byte("by another"), 0o644))
	got, opened := sums()
	assert.Equal(t, tree.Digest(blake3.Sum256([]byte("by another"))), got.Blake3)
	assert.EqualValues(t, 1, opened)
}
