package coretest_test

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
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

// TestSettingsOfAnArchiveAreWhatTheDescriptionNames keeps settings by a description that names more than the one by which they are put back, as somebody
// does who writes into a shared archive: names that no pattern has, and programs, are left out and named.
func TestSettingsOfAnArchiveAreWhatTheDescriptionNames(t *testing.T) {
	w := coretest.Bare(t)
	const described = `ostrov = 1
id = "shed"
title = "Shed"
version = { default = "1" }
[install]
marker = ["shed.exe"]
[[folder]]
id = "saves"
path = "{game}/saves"
[[save]]
id = "one"
unit = "file"
folder = "saves"
name = "{name}.sav"
[settings]
files = ["{game}/config/*"]
`
	root := w.Describe(described, map[string]string{"shed.exe": "", "saves/a.sav": "x", "config/view.cfg": "far = 1", "config/run.bat": "del *", "config/deep.cfg": "MZ"})
	k, err := keep.Keep(t.Context(), w.Home, w.In("shed"), keep.Request{})
	require.NoError(t, err)
	for _, name := range []string{"view.cfg", "run.bat", "deep.cfg"} {
		require.NoError(t, os.Remove(filepath.Join(root, "config", name)))
	}
	st := w.See("shed")
	for i := range st.Groups {
		st.Groups[i].Glob = "*w.cfg"
	}
	p, err := keep.Restore(t.Context(), w.Home, st, k.Snapshot, keep.RestoreRequest{All: true})
	require.NoError(t, err)
	_, err = p.Apply(t.Context())
	require.NoError(t, err)
	assert.FileExists(t, filepath.Join(root, "config", "view.cfg"))
	assert.NoFileExists(t, filepath.Join(root, "config", "run.bat"))
	assert.NoFileExists(t, filepath.Join(root, "config", "deep.cfg"))
	assert.Contains(t, strings.Join(p.Warnings, "; "), "run.bat is none of the files")
	p, err = keep.Restore(t.Context(), w.Home, w.See("shed"), k.Snapshot, keep.RestoreRequest{All: true})
	require.NoError(t, err)
	assert.Contains(t, strings.Join(p.Warnings, "; "), "run.bat is a script: left out")
}

// TestAnArchiveThatChangesBetweenTwoReads plans to restore what an archive holds, and then replaces what it holds: everything stays as it is.
func TestAnArchiveThatChangesBetweenTwoReads(t *testing.T) {
	for about, change := range map[string]func(data []byte) []byte{
		"another content": func(data []byte) []byte {
			data = bytes.Clone(data)
			for i := range data {
				data[i] ^= byte(i) // which leaves nothing of it
			}
			return data
		},
		"a flipped byte": func(data []byte) []byte {
			data = bytes.Clone(data)
			data[len(data)/3] ^= 0x40
			return data
		},
		"nothing": func([]byte) []byte { return nil },
	} {
		t.Run(about, func(t *testing.T) {
			w := coretest.New(t)
			snap := kept(t, w)
			require.NoError(t, os.WriteFile(w.Voyages("slot_00", "chart.bin"), []byte("played on"), 0o644))
			w.Again()
			p, err := keep.Restore(t.Context(), w.Home, w.See("tidewrack"), snap, keep.RestoreRequest{})
			require.NoError(t, err)
			require.True(t, p.Moves())
			before := coretest.State(t, w.Voyages("slot_00"))
			for _, name := range snap.Content {
				file := filepath.Join(w.Path("ostrov", "archive", "content"), name)
				data, err := os.ReadFile(file)
				require.NoError(t, err)
				require.NoError(t, os.Remove(file)) // as a drive does that others write to: the new file takes its place
				require.NoError(t, os.WriteFile(file, change(data), 0o644))
			}
			_, err = p.Apply(t.Context())
			assert.Error(t, err)
			assert.Equal(t, before, coretest.State(t, w.Voyages("slot_00")), "nothing has been changed")
		})
	}
}
