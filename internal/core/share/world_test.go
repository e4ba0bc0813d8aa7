package share_test

import (
	"archive/zip"
	"io"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/coretest"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/share"
)

// inside are the contents of a zip, by name, unpacked where they are gzip.
func inside(t *testing.T, file string) map[string]string {
	t.Helper()
	z, err := zip.OpenReader(file)
	require.NoError(t, err)
	defer z.Close()
	all := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		require.NoError(t, err)
		data, err := io.ReadAll(r)
		require.NoError(t, err)
		require.NoError(t, r.Close())
		all[f.Name] = string(coretest.Unpacked(data))
	}
	return all
}

// TestWhatLeavesTellsNothingWhenBlanked makes a parcel and an export of what has the player's account in it, plain and blanked.
func TestWhatLeavesTellsNothingWhenBlanked(t *testing.T) {
	w := coretest.New(t)
	const account = "70431"
	st := w.See("tidewrack")
	s, err := st.Find("", "1")
	require.NoError(t, err)
	for _, blank := range []bool{false, true} {
		out := filepath.Join(t.TempDir(), "parcel.zip")
		wrapped, err := share.Wrap(t.Context(), w.Home, st, s, share.Request{Out: out, Blank: blank})
		require.NoError(t, err)
		assert.Equal(t, blank, len(wrapped.Private) == 0, "it says what it tells: %v", wrapped.Private)
		assert.Equal(t, blank, len(wrapped.Blanked) > 0)
		require.NoError(t, wrapped.Write(t.Context(), w.Home, false))
		told := false
		for name, content := range inside(t, out) {
			told = told || strings.Contains(content, account) || strings.Contains(name, account)
		}
		assert.Equal(t, !blank, told, "blank: %v", blank)
		again, err := w.See("tidewrack").Find("", "1")
		require.NoError(t, err)
		assert.Equal(t, s.Digest, again.Digest, "the save itself stays as it is")
	}

	kept, err := keep.Keep(t.Context(), w.Home, w.In("tidewrack"), keep.Request{})
	require.NoError(t, err)
	for _, blank := range []bool{false, true} {
		e, err := share.PlanExport(t.Context(), w.Home, w.See("tidewrack"), kept.Snapshot, blank)
		require.NoError(t, err)
		assert.Equal(t, blank, len(e.Private) == 0, "it says what it tells: %v", e.Private)
		out := filepath.Join(t.TempDir(), "export.zip")
		require.NoError(t, e.Write(t.Context(), out, false))
		told := ""
		for name, content := range inside(t, out) {
			if strings.Contains(content, account) || strings.Contains(name, account) {
				told = name
			}
		}
		assert.Equal(t, !blank, told != "", "blank: %v, in %s", blank, told)
	}
}

// TestAParcelOfADamagedSaveIsRefused tells why, and writes nothing.
func TestAParcelOfADamagedSaveIsRefused(t *testing.T) {
	w := coretest.New(t)
	coretest.Cut(t, w.Voyages("slot_00", "voyage.json.gz"))
	st := w.See("tidewrack")
	s, err := st.Find("", "1")
	require.NoError(t, err)
	out := filepath.Join(t.TempDir(), "parcel.zip")
	_, err = share.Wrap(t.Context(), w.Home, st, s, share.Request{Out: out})
	assert.ErrorContains(t, err, "damaged")
	assert.NoFileExists(t, out)
}
