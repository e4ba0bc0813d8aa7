package logbook

import (
	"database/sql"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
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

// TestPlacesOfFormat4 meets what an older Ostrov recorded of an install's own folder: it holds for whoever reaches that folder by its path.
func TestPlacesOfFormat4(t *testing.T) {
	path := filepath.Join(t.TempDir(), "logbook.sqlite")
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec(steps[0] + steps[1] + steps[2] + steps[3] + "PRAGMA user_version = 4")
	require.NoError(t, err)
	digest := tree.Digest{7}
	_, err = db.Exec("INSERT INTO places VALUES ('g@main', 'saves:7', 'slot_00', ?, 'T', '1', 5, '2026-03-01T21:14:02Z', '2026-03-01T21:14:02Z', 0); INSERT INTO belongs VALUES ('g@main', 'saves:7', 'slot_00', 'one')", digest.String())
	require.NoError(t, err)
	require.NoError(t, db.Close())
	l, err := Open(path)
	require.NoError(t, err)
	defer l.Close()
	own := []Folder{{Install: "g@main", Called: "saves:7", Path: "/real", Since: now, Seen: now}}
	neighbour := []Folder{{Install: "g@other", Called: "bays", Path: "/real", Since: now, Seen: now}}
	key := Key{"/real", "slot_00"}
	for _, recorded := range []bool{false, true} {
		if recorded {
			require.NoError(t, l.SeeFolders(t.Context(), own))
		}
		places, err := l.Places(t.Context(), own)
		require.NoError(t, err)
		assert.Equal(t, digest, places[key].Digest)
		belongs, err := l.Belongs(t.Context(), own)
		require.NoError(t, err)
		assert.Equal(t, map[Key]string{key: "one"}, belongs)
	}
	places, err := l.Places(t.Context(), neighbour)
	require.NoError(t, err)
	assert.Contains(t, places, key, "a place is the same for every install that reaches it")
	require.NoError(t, l.Respell(t.Context(), key, Key{"/real", "Slot_00"}))
	belongs, err := l.Belongs(t.Context(), neighbour)
	require.NoError(t, err)
	assert.Equal(t, map[Key]string{{"/real", "Slot_00"}: "one"}, belongs)
	folders, err := l.Folders(t.Context(), "g@main")
	require.NoError(t, err)
	assert.Equal(t, own, folders)
}

func TestForgettingAndDropping(t *testing.T) {
	l, err := OpenInMemory()
	require.NoError(t, err)
	defer l.Close()
	ctx := t.Context()
	key, in := Key{"/saves", "slot_00"}, []Folder{{Install: "tidewrack@main", Called: "saves", Path: "/saves"}}
	start := func(name string) {
		require.NoError(t, l.Start(ctx, Playthrough{Name: name, Game: "tidewrack", Install: "main", Started: time.Now()}, []Key{key}))
	}
	start("one")
	start("two")
	belongs, err := l.Belongs(ctx, in)
	require.NoError(t, err)
	assert.Equal(t, "one", belongs[key], "what was there before the second is the first's")
	require.NoError(t, l.Drop(ctx, "one"))
	all, err := l.Playthroughs(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 2, "one that has saves is not dropped")
	require.NoError(t, l.Forget(ctx, key))
	belongs, err = l.Belongs(ctx, in)
	require.NoError(t, err)
	assert.Empty(t, belongs, "what comes to its place is another save")
	require.NoError(t, l.Drop(ctx, "one"))
	all, err = l.Playthroughs(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 1)
}
