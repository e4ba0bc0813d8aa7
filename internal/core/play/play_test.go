package play_test

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/coretest"
	"ostrov/internal/core/play"
)

// TestTheNewestSaveIsVettedBeforePlaying breaks the newest one, and looks again.
func TestTheNewestSaveIsVettedBeforePlaying(t *testing.T) {
	w := coretest.New(t)
	ready := play.Before(assess.Of(w.See("tidewrack")), nil)
	require.NotNil(t, ready.Newest)
	assert.Equal(t, "slot 1", ready.Newest.Called())
	assert.Equal(t, check.Fit, ready.Verdict)
	coretest.Cut(t, w.Voyages("slot_00", "voyage.json.gz"))
	w.Again()
	ready = play.Before(assess.Of(w.See("tidewrack")), nil)
	assert.NotEqual(t, check.Fit, ready.Verdict)
	assert.NotEmpty(t, ready.Findings)
	require.NoError(t, os.RemoveAll(w.Voyages()))
	w.Again()
	st := w.See("tidewrack")
	assert.Empty(t, st.Saves)
	assert.Nil(t, play.Before(assess.Of(st), nil).Newest, "there is nothing to go on from")
}
