package record_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/check"
	"ostrov/internal/core/coretest"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/record"
)

// TestLookingWritesNothingAndRecordingDoes looks twice: only what was recorded is known the second time.
func TestLookingWritesNothingAndRecordingDoes(t *testing.T) {
	w := coretest.New(t)
	look := func() *facts.State {
		st, err := facts.Gather(t.Context(), w.Home, w.In("tidewrack"))
		require.NoError(t, err)
		return st
	}
	var in []logbook.Folder
	places := func() map[logbook.Key]logbook.Place {
		all, err := w.Logbook.Places(t.Context(), in)
		require.NoError(t, err)
		return all
	}
	st := look()
	in = st.Learnt.Folders
	require.NotEmpty(t, st.Saves)
	assert.NotEmpty(t, st.Learnt.States)
	assert.Empty(t, places(), "looking writes nothing")
	require.NoError(t, record.Seen(t.Context(), w.Home, st))
	assert.Len(t, places(), len(st.Saves))
	require.NoError(t, record.Seen(t.Context(), w.Home, look()))
	assert.Len(t, places(), len(st.Saves), "what is known is not known twice")
}

func TestWhatThePlayerStates(t *testing.T) {
	w := coretest.New(t)
	st := w.See("tidewrack")
	s, err := st.Find("", "5")
	require.NoError(t, err)
	require.NoError(t, record.Stated(t.Context(), w.Home, st, s, []string{"version 1.4.2", "mod old-charts 1.0.1"}, "from the diary"))
	evidence, err := w.Logbook.Evidence(t.Context(), s.Digest)
	require.NoError(t, err)
	stated := 0
	for _, e := range evidence {
		if e.Kind == check.Stated {
			assert.Equal(t, "from the diary", e.Note)
			stated++
		}
	}
	assert.Equal(t, 2, stated)
	for _, wrong := range []string{"", "version", "mod", "weather fine", "version 1 2"} {
		err := record.Stated(t.Context(), w.Home, st, s, []string{wrong}, "")
		assert.ErrorIs(t, err, problem.ErrUsage, "%q", wrong)
	}
}

func TestLinesBeginAndEnd(t *testing.T) {
	w := coretest.New(t)
	first, err := record.StartLine(t.Context(), w.Home, w.See("tidewrack"), "Lamp Run", false)
	require.NoError(t, err)
	assert.Equal(t, "lamp-run", first.Name)
	second, err := record.StartLine(t.Context(), w.Home, w.See("tidewrack"), "Night Run", false)
	require.NoError(t, err)
	assert.Equal(t, second.Name, w.See("tidewrack").Current().Name, "the last one is played")
	_, err = record.StartLine(t.Context(), w.Home, w.See("tidewrack"), "Night Run", false)
	assert.Error(t, err, "a name is given once")

	st := w.See("tidewrack")
	s, err := st.Find("", "1")
	require.NoError(t, err)
	require.NoError(t, record.Assign(t.Context(), w.Home, st, s, second))
	s, err = w.See("tidewrack").Find("", "1")
	require.NoError(t, err)
	assert.Equal(t, second.Name, s.Line)

	require.NoError(t, record.ChangeLine(t.Context(), w.Home, second.Name, func(p *logbook.Playthrough) { p.Active, p.Closed = false, true }))
	assert.Nil(t, w.See("tidewrack").Current())
	_, err = record.Line(t.Context(), w.Home, "no-run")
	assert.ErrorIs(t, err, problem.ErrUsage)
	_, err = record.Line(t.Context(), w.Home, "lamp-rum")
	assert.ErrorContains(t, err, "lamp-rum")
}
