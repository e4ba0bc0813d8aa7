package coretest_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/coretest"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
)

// kept is the present state as a snapshot.
func kept(t *testing.T, w *coretest.World) *archive.Snapshot {
	t.Helper()
	k, err := keep.Keep(t.Context(), w.Home, w.In("tidewrack"), keep.Request{})
	require.NoError(t, err)
	w.Again()
	return k.Snapshot
}

// TestRestoringSaysWhyThereIsNothingToDo asks for a save that is unchanged, and for one that is not in the snapshot.
func TestRestoringSaysWhyThereIsNothingToDo(t *testing.T) {
	w := coretest.New(t)
	snap := kept(t, w)
	p, err := keep.Restore(t.Context(), w.Home, w.See("tidewrack"), snap, keep.RestoreRequest{Slot: "2"})
	require.NoError(t, err)
	assert.True(t, p.Empty())
	assert.NotEmpty(t, p.Reason)
	assert.NotContains(t, p.Reason, "none")
	_, err = keep.Restore(t.Context(), w.Home, w.See("tidewrack"), snap, keep.RestoreRequest{Slot: "6"})
	assert.ErrorIs(t, err, problem.ErrUsage)
	assert.ErrorContains(t, err, "6")
}

// TestASaveOfAnotherLineIsNotCovered restores a slot that another playthrough uses by now.
func TestASaveOfAnotherLineIsNotCovered(t *testing.T) {
	w := coretest.New(t)
	require.NoError(t, os.CopyFS(w.Path("template"), os.DirFS(w.Voyages("slot_00"))))
	snap := kept(t, w)
	p, err := keep.Fresh(t.Context(), w.Home, w.See("tidewrack"), "Night Run", keep.SwapRequest{})
	require.NoError(t, err)
	_, err = keep.Before(t.Context(), w.Home, p, keep.PresentList)
	require.NoError(t, err)
	_, err = p.Apply(t.Context())
	require.NoError(t, err)
	w.Again()
	require.NoError(t, os.CopyFS(w.Voyages("slot_00"), os.DirFS(w.Path("template"))))
	before := coretest.State(t, w.Voyages())
	_, err = keep.Restore(t.Context(), w.Home, w.See("tidewrack"), snap, keep.RestoreRequest{})
	assert.ErrorIs(t, err, problem.ErrUsage)
	assert.Equal(t, before, coretest.State(t, w.Voyages()))
}

// TestAPlanSaysWhatIsSafeByWhat replaces saves of a line that is kept, and one that belongs to none.
func TestAPlanSaysWhatIsSafeByWhat(t *testing.T) {
	w := coretest.New(t)
	snap := kept(t, w)
	require.NoError(t, os.WriteFile(w.Voyages("slot_00", "chart.bin"), []byte("played on"), 0o644))
	w.Again()
	p, err := keep.Restore(t.Context(), w.Home, w.See("tidewrack"), snap, keep.RestoreRequest{})
	require.NoError(t, err)
	require.True(t, p.Moves())
	backup, err := keep.Before(t.Context(), w.Home, p, keep.PresentList)
	require.NoError(t, err)
	require.Len(t, backup.Taken, 1)
	safe := 0
	for _, s := range p.Steps {
		if s.Verb == plan.Replace {
			assert.Equal(t, backup.Taken[0].Playthrough+"/"+backup.Taken[0].ID, s.SafeBy().Snapshot)
			safe++
		}
	}
	assert.Equal(t, 1, safe)
}
