package logbook

import (
	"database/sql"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/modlist"
	"ostrov/internal/core/tree"
)

// TestWhatWasFirstSeenIsTheMod holds that a version of a mod is what it was when it was first seen, whatever comes later, each game for
// itself.
func TestWhatWasFirstSeenIsTheMod(t *testing.T) {
	l, _ := openNew(t)
	seen := func(game string, mods ...modlist.Listed) map[tree.Digest]bool {
		first, err := l.FirstSeen(t.Context(), game)
		require.NoError(t, err)
		altered := map[tree.Digest]bool{}
		var unseen []modlist.Listed
		for _, m := range mods {
			is, fresh := first.Altered(m)
			if is {
				altered[m.Digest] = true
			}
			if fresh {
				unseen = append(unseen, m)
			}
		}
		require.NoError(t, l.SeeMods(t.Context(), game, unseen, now))
		return altered
	}
	rope := func(version string, digest byte) modlist.Listed {
		return modlist.Listed{ID: "Rope", Version: version, Digest: tree.Digest{digest}}
	}
	assert.Empty(t, seen("tidewrack", rope("1.0", 1), modlist.Listed{ID: "tar", Digest: tree.Digest{9}}))
	assert.Equal(t, map[tree.Digest]bool{{2}: true}, seen("tidewrack", rope("1.0", 2)))
	assert.Equal(t, map[tree.Digest]bool{{2}: true}, seen("tidewrack", rope("1.0", 2)), "and it stays so")
	assert.Empty(t, seen("tidewrack", rope("1.0", 1)), "until the first is back")
	assert.Empty(t, seen("tidewrack", rope("1.1", 3)), "another version is another mod")
	assert.Empty(t, seen("brass-orchard", rope("1.0", 2)))
	lower := rope("1.0", 2)
	lower.ID = "rope"
	assert.Len(t, seen("tidewrack", lower), 1, "ids are compared as mods are")
}

func TestNotesAndWhatIsAlwaysKept(t *testing.T) {
	l, path := openNew(t)
	p := Playthrough{Name: "gannet", Title: "Gannet", Game: "tidewrack", Install: "main", Started: now, Active: true, Note: "first", Keeps: []string{"mods", "pictures"}}
	require.NoError(t, l.Start(t.Context(), p, nil))
	p.Active = true
	get := func(l *Logbook) Playthrough {
		all, err := l.Playthroughs(t.Context())
		require.NoError(t, err)
		require.Len(t, all, 1)
		return all[0]
	}
	assert.Equal(t, p, get(l))
	p.Note, p.Keeps = "", []string{}
	require.NoError(t, l.Update(t.Context(), "gannet", p))
	require.NoError(t, l.Close())
	again, err := Open(path)
	require.NoError(t, err)
	defer again.Close()
	assert.Equal(t, p, get(again))
}

// TestOlderLogbooksAreBroughtUpToDate opens a logbook of each former format.
func TestOlderLogbooksAreBroughtUpToDate(t *testing.T) {
	for format := 1; format < Format; format++ {
		path := filepath.Join(t.TempDir(), "logbook.sqlite")
		db, err := sql.Open("sqlite", path)
		require.NoError(t, err)
		for _, step := range steps[:format] {
			_, err = db.Exec(step)
			require.NoError(t, err)
		}
		_, err = db.Exec("INSERT INTO playthroughs (name, title, game, install, started, active, closed) VALUES ('gannet', 'Gannet', 'tidewrack', 'main', ?, 1, 0)", now.Format(time.RFC3339Nano))
		require.NoError(t, err)
		_, err = db.Exec("PRAGMA user_version = " + string(rune('0'+format)))
		require.NoError(t, err)
		require.NoError(t, db.Close())
		l, err := Open(path)
		require.NoError(t, err, "format %d", format)
		all, err := l.Playthroughs(t.Context())
		require.NoError(t, err)
		require.Len(t, all, 1)
		assert.Equal(t, "Gannet", all[0].Title)
		assert.Empty(t, all[0].Keeps)
		err = l.SeeMods(t.Context(), "tidewrack", []modlist.Listed{{ID: "a", Digest: tree.Digest{1}}}, now)
		require.NoError(t, err)
		require.NoError(t, l.Close())
	}
}
