package edit_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/coretest"
	"ostrov/internal/core/doc"
	"ostrov/internal/core/edit"
	"ostrov/internal/core/handle"
	"ostrov/internal/core/problem"
)

// TestFieldsAreNamed has what lists show first, and says what may be set.
func TestFieldsAreNamed(t *testing.T) {
	w := coretest.New(t)
	st, s := w.Find("brass-orchard", "B")
	fields, err := edit.Fields(t.Context(), edit.Of(st, s))
	require.NoError(t, err)
	var ids []string
	for _, f := range fields {
		ids = append(ids, f.ID)
	}
	assert.Equal(t, []string{"title", "version", "coins", "hat"}, ids)
	assert.Equal(t, edit.Field{ID: "coins", Value: "880", Raw: "880", There: true, Set: true, Allowed: "0..999999"}, fields[2])
	assert.False(t, fields[1].Set)
}

// TestOnlyTheFileChangesThatHasTheValue sets a value of a save that is a folder, twice in one edit.
func TestOnlyTheFileChangesThatHasTheValue(t *testing.T) {
	w := coretest.New(t)
	st, s := w.Find("tidewrack", "3")
	before := coretest.State(t, w.Voyages())
	edited, err := edit.Set(t.Context(), edit.Of(st, s), []edit.Assignment{{Field: "title", Value: "One"}, {File: "voyage.json.gz", Query: "$.islands[3].lamps", Value: "4"}})
	require.NoError(t, err)
	assert.Len(t, edited.Files, 1)
	assert.Contains(t, edited.Files, "slot_02/voyage.json.gz")
	assert.Equal(t, []edit.Written{{What: "title", Was: "The Long Mole", Now: "One"}, {What: "voyage.json.gz:$.islands[3].lamps", Was: "3", Now: "4"}}, edited.Written)
	assert.Equal(t, before, coretest.State(t, w.Voyages()), "it writes nothing")

	same, err := edit.Set(t.Context(), edit.Of(st, s), []edit.Assignment{{Field: "title", Value: "The Long Mole"}})
	require.NoError(t, err)
	assert.Empty(t, same.Files)
	assert.Empty(t, same.Written)
}

// TestASaveThatTheGameWroteMeanwhileIsLeft plans an edit of a save that is written between reading and planning.
func TestASaveThatTheGameWroteMeanwhileIsLeft(t *testing.T) {
	w := coretest.New(t)
	st, s := w.Find("brass-orchard", "B")
	edited, err := edit.Set(t.Context(), edit.Of(st, s), []edit.Assignment{{Field: "coins", Value: "1"}})
	require.NoError(t, err)
	planned, err := handle.Alter(t.Context(), w.Home, st, s, edited.Files, s.Folder, "E")
	require.NoError(t, err)
	require.NoError(t, os.Chtimes(s.Path(), time.Now(), s.Modified.Add(time.Minute)))
	_, err = planned.Apply(t.Context())
	assert.ErrorContains(t, err, "written meanwhile", "also between the question and the answer")
	assert.NoFileExists(t, filepath.Join(s.Folder.Path, "bay_e.orchard"))
	for _, as := range []string{"", "E"} {
		_, err = handle.Alter(t.Context(), w.Home, st, s, edited.Files, s.Folder, as)
		assert.ErrorContains(t, err, "written meanwhile")
	}
}

// TestADatabaseThatIsStillOpenIsLeft finds a journal beside it.
func TestADatabaseThatIsStillOpenIsLeft(t *testing.T) {
	w := coretest.New(t)
	st, s := w.Find("night-tram", "Lower Town.tramworld")
	require.NotNil(t, st)
	for _, ending := range doc.SQLiteCompanions {
		beside := filepath.Join(s.Folder.Path, s.Name+ending)
		require.NoError(t, os.WriteFile(beside, []byte("x"), 0o644))
		_, err := edit.Set(t.Context(), edit.Of(st, s), []edit.Assignment{{Field: "nights", Value: "1"}})
		var p *problem.Error
		require.ErrorAs(t, err, &p)
		assert.ErrorContains(t, err, "has not been closed by the game")
		require.NoError(t, os.Remove(beside))
	}
}

// TestATextIsFoundInAllFiles finds it also in a file that the description does not name, as it is and compressed.
func TestATextIsFoundInAllFiles(t *testing.T) {
	w := coretest.New(t)
	require.NoError(t, os.WriteFile(w.Voyages("slot_02", "diary.txt"), []byte("first\nthe Herring, the Herring\n"), 0o644))
	st, s := w.Find("tidewrack", "3")
	found, err := edit.Find(t.Context(), edit.Of(st, s), "the Herring")
	require.NoError(t, err)
	require.Equal(t, 2, found.Count)
	assert.Equal(t, edit.Place{File: "slot_02/diary.txt", Line: 2, Offset: 6, Around: "first the Herring, the Herring"}, found.Places[0])
	assert.Empty(t, found.Places[0].At())
	assert.Empty(t, found.Unread)
}
