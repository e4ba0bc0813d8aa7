package logbook

import (
	"database/sql"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/game"
)

func TestIdentifiersOutliveTheirMod(t *testing.T) {
	l, err := OpenInMemory()
	require.NoError(t, err)
	defer l.Close()
	ctx := t.Context()
	first := map[string]game.Added{"deep-tides": {Exact: []string{"kelp", "weir"}}, "rope": {Prefixes: []string{"rope:"}}}
	require.NoError(t, l.SetIdentifiers(ctx, "tidewrack", first))
	got, err := l.Identifiers(ctx, "tidewrack")
	require.NoError(t, err)
	assert.Equal(t, first, got)
	require.NoError(t, l.SetIdentifiers(ctx, "tidewrack", map[string]game.Added{"rope": {Prefixes: []string{"tar:"}}}))
	got, err = l.Identifiers(ctx, "tidewrack")
	require.NoError(t, err)
	assert.Equal(t, []string{"tar:"}, got["rope"].Prefixes, "of an updated mod the new ones")
	assert.Equal(t, []string{"kelp", "weir"}, got["deep-tides"].Exact, "and of one that is gone the last known")
	other, err := l.Identifiers(ctx, "night-tram")
	require.NoError(t, err)
	assert.Empty(t, other)
}

// TestALogbookOfBeforeIsBroughtUp opens one of the first format, as earlier Ostrovs made it.
func TestALogbookOfBeforeIsBroughtUp(t *testing.T) {
	path := filepath.Join(t.TempDir(), "logbook.sqlite")
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec(steps[0] + "PRAGMA user_version = 1; INSERT INTO playthroughs VALUES ('gannet-rock', 'Gannet Rock', 'tidewrack', 'main', '2026-03-01T21:14:02Z', 1, 0)")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	for range 2 {
		l, err := Open(path)
		require.NoError(t, err)
		all, err := l.Playthroughs(t.Context())
		require.NoError(t, err)
		require.Len(t, all, 1)
		assert.Equal(t, "Gannet Rock", all[0].Title)
		_, err = l.Identifiers(t.Context(), "tidewrack")
		require.NoError(t, err)
		require.NoError(t, l.Close())
	}
}

func TestForgettingAndDropping(t *testing.T) {
	l, err := OpenInMemory()
	require.NoError(t, err)
	defer l.Close()
	ctx := t.Context()
	key := Key{"saves", "slot_00"}
	start := func(name string) {
		require.NoError(t, l.Start(ctx, Playthrough{Name: name, Game: "tidewrack", Install: "main", Started: time.Now()}, []Key{key}))
	}
	start("one")
	start("two")
	belongs, err := l.Belongs(ctx, "tidewrack@main")
	require.NoError(t, err)
	assert.Equal(t, "one", belongs[key], "what was there before the second is the first's")
	require.NoError(t, l.Drop(ctx, "one"))
	all, err := l.Playthroughs(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 2, "one that has saves is not dropped")
	require.NoError(t, l.Forget(ctx, "tidewrack@main", key))
	belongs, err = l.Belongs(ctx, "tidewrack@main")
	require.NoError(t, err)
	assert.Empty(t, belongs, "what comes to its place is another save")
	require.NoError(t, l.Drop(ctx, "one"))
	all, err = l.Playthroughs(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 1)
}
