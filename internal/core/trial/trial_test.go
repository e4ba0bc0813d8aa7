package trial_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/coretest"
	"ostrov/internal/core/trial"
)

// TestOn tries the demo's descriptions on their installs, saves, mods and downloads, and on what is none of these.
func TestOn(t *testing.T) {
	w := coretest.New(t)
	for _, id := range []string{"tidewrack", "brass-orchard", "night-tram"} {
		in, err := w.Install(id)
		require.NoError(t, err)
		things, err := trial.On(t.Context(), w.Home, w.Home.Game(id), in.Root)
		require.NoError(t, err)
		require.NotEmpty(t, things)
		require.Equal(t, "install", things[0].What)
		read := map[string]int{}
		for _, thing := range things[1:] {
			if thing.Problem == nil {
				assert.Empty(t, thing.Not, "%s: %s", id, thing.Name)
				read[thing.What]++
			}
		}
		assert.Positive(t, read["save"]+read["mod"], id)

		st := w.See(id)
		for _, s := range st.Saves {
			things, err := trial.On(t.Context(), w.Home, w.Home.Game(id), filepath.Join(s.Folder.Path, s.Name))
			require.NoError(t, err)
			require.Len(t, things, 1, s.Name)
			assert.Equal(t, s.Facts.Problem == nil, things[0].Problem == nil, "%s: %v", s.Name, things[0].Problem)
			for _, f := range things[0].Fields {
				value := ""
				if found := f.Found(); found != nil {
					value = found.Value.Raw
				}
				want := s.Facts.Fields[f.ID].Raw
				if f.ID == "owner (save.owner)" {
					want = s.Facts.Owner
				}
				assert.Equal(t, want, value, "%s of %s", f.ID, s.Name)
			}
			for _, l := range things[0].Lists {
				if l.ID == "mods" && s.Facts.ModsKnown {
					assert.True(t, l.There)
				}
			}
		}
	}

	other := filepath.Join(t.TempDir(), "letter.txt")
	require.NoError(t, os.WriteFile(other, []byte("dear all"), 0o644))
	things, err := trial.On(t.Context(), w.Home, w.Home.Game("tidewrack"), other)
	require.NoError(t, err)
	for _, thing := range things {
		assert.NotEmpty(t, thing.Not, "it says why it is none")
	}
	_, err = trial.On(t.Context(), w.Home, w.Home.Game("tidewrack"), other+"x")
	assert.ErrorIs(t, err, os.ErrNotExist)
}

// TestOnADownload reads what is in an archive.
func TestOnADownload(t *testing.T) {
	w := coretest.New(t)
	things, err := trial.On(t.Context(), w.Home, w.Home.Game("tidewrack"), filepath.Join(filepath.Dir(w.Dir), "downloads", "quiet-cove.zip"))
	require.NoError(t, err)
	require.Len(t, things, 1)
	assert.Equal(t, "save", things[0].What)
	assert.Empty(t, things[0].Not)

	data, err := os.ReadFile(filepath.Join(filepath.Dir(w.Dir), "downloads", "quiet-cove.zip"))
	require.NoError(t, err)
	half := filepath.Join(t.TempDir(), "half.zip")
	require.NoError(t, os.WriteFile(half, data[:len(data)/2], 0o644))
	_, err = trial.On(t.Context(), w.Home, w.Home.Game("tidewrack"), half)
	assert.ErrorContains(t, err, "is damaged")
}
