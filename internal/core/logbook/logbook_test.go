package logbook

import (
	"database/sql"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/check"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/tree"
)

var now = time.Date(2026, 3, 1, 21, 0, 0, 0, time.UTC)

func openNew(t *testing.T) (*Logbook, string) {
	path := filepath.Join(t.TempDir(), "logbook.sqlite")
	l, err := Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	return l, path
}

func needed(ids ...string) []modlist.Needed {
	list := []modlist.Needed{}
	for _, id := range ids {
		list = append(list, modlist.Needed{Listed: modlist.Listed{ID: id, On: true}})
	}
	return list
}

func ids(n Needs) []string {
	var list []string
	for _, m := range n.Mods {
		list = append(list, m.ID)
	}
	return list
}

func TestTheStrongestEvidenceCounts(t *testing.T) {
	l, _ := openNew(t)
	d := tree.Digest{1}
	add := func(e Evidence) {
		e.At = now
		require.NoError(t, l.Add(t.Context(), d, e))
	}
	add(Evidence{Kind: check.Inferred, Version: "1.0", Mods: needed("a", "b")})
	n, err := l.Needs(t.Context(), d)
	require.NoError(t, err)
	assert.Equal(t, check.Inferred, n.ModsEvidence)
	add(Evidence{Kind: check.Stated, Mods: needed("c")})
	add(Evidence{Kind: check.Stated, Mods: needed("d")})
	n, err = l.Needs(t.Context(), d)
	require.NoError(t, err)
	assert.Equal(t, []string{"c", "d"}, ids(n), "statements add up and are stronger than what is inferred")
	assert.Equal(t, "1.0", n.Version)
	assert.Equal(t, check.Inferred, n.VersionEvidence)
	add(Evidence{Kind: check.Written, Version: "1.2", Mods: needed("e")})
	add(Evidence{Kind: check.Stated, Version: "9"})
	n, err = l.Needs(t.Context(), d)
	require.NoError(t, err)
	assert.Equal(t, []string{"e"}, ids(n))
	assert.Equal(t, "1.2", n.Version, "what is written stays the strongest")
	all, err := l.Evidence(t.Context(), d)
	require.NoError(t, err)
	assert.Len(t, all, 5, "nothing is rewritten")
	add(Evidence{Kind: check.Stated, Version: "9"})
	all, _ = l.Evidence(t.Context(), d)
	assert.Len(t, all, 5, "the same is not added twice")
}

func TestStatingAClean(t *testing.T) {
	l, _ := openNew(t)
	d := tree.Digest{1}
	require.NoError(t, l.Add(t.Context(), d, Evidence{Kind: check.Stated, At: now, Mods: needed("a")}))
	require.NoError(t, l.Add(t.Context(), d, Evidence{Kind: check.Stated, At: now, Clean: true}))
	n, err := l.Needs(t.Context(), d)
	require.NoError(t, err)
	assert.True(t, n.Clean)
	assert.Empty(t, n.Mods)
}

func TestNeedsDescend(t *testing.T) {
	l, _ := openNew(t)
	first, second, third := tree.Digest{1}, tree.Digest{2}, tree.Digest{3}
	require.NoError(t, l.Add(t.Context(), first, Evidence{Kind: check.Written, At: now, Version: "1", Mods: needed("a")}))
	require.NoError(t, l.Add(t.Context(), second, Evidence{Kind: check.Descends, At: now, Parent: first}))
	require.NoError(t, l.Add(t.Context(), third, Evidence{Kind: check.Descends, At: now, Parent: second}))
	require.NoError(t, l.Add(t.Context(), third, Evidence{Kind: check.Written, At: now, Version: "2"}))
	n, err := l.Needs(t.Context(), third)
	require.NoError(t, err)
	assert.Equal(t, []string{"a"}, ids(n))
	assert.Equal(t, check.Descends, n.ModsEvidence)
	assert.Equal(t, "2", n.Version)
	assert.Equal(t, check.Written, n.VersionEvidence)

	require.NoError(t, l.Add(t.Context(), first, Evidence{Kind: check.Descends, At: now, Parent: third}))
	_, err = l.Needs(t.Context(), tree.Digest{9})
	require.NoError(t, err)
	_, err = l.Needs(t.Context(), first)
	require.NoError(t, err, "a circle ends")
}

func TestForCheckLeavesOutWhatIsOff(t *testing.T) {
	n := Needs{Mods: []modlist.Needed{{Listed: modlist.Listed{ID: "a", On: true}, Doubtful: true}, {Listed: modlist.Listed{ID: "b"}}}, ModsEvidence: check.Inferred}
	c := n.ForCheck(true)
	require.Len(t, c.Mods, 1)
	assert.True(t, c.Mods[0].Doubtful)
	assert.True(t, c.Ordered)
}

func TestForeignStates(t *testing.T) {
	l, _ := openNew(t)
	foreign := func(d tree.Digest) (f bool) {
		require.NoError(t, l.db.QueryRow("SELECT foreign_only FROM states WHERE digest = ?", d.String()).Scan(&f))
		return f
	}
	s := State{Digest: tree.Digest{1}, Game: "g", Kind: "k", Foreign: true}
	require.NoError(t, l.See(t.Context(), []State{s}, now))
	assert.True(t, foreign(s.Digest))
	s.Foreign = false
	require.NoError(t, l.See(t.Context(), []State{s}, now))
	assert.False(t, foreign(s.Digest), "placed, it is foreign no more")
	s.Foreign = true
	require.NoError(t, l.See(t.Context(), []State{s}, now))
	assert.False(t, foreign(s.Digest))
}

func TestPlaces(t *testing.T) {
	l, _ := openNew(t)
	in := []Folder{{Install: "g@main", Called: "saves:7", Path: "/home/saves/7"}}
	p := Place{Key: Key{"/home/saves/7", "slot_00"}, Digest: tree.Digest{1}, Title: "T", Slot: "1", Size: 5, Modified: now, Seen: now}
	require.NoError(t, l.SetPlaces(t.Context(), []Place{p}))
	p.Size = 6
	require.NoError(t, l.SetPlaces(t.Context(), []Place{p}))
	got, err := l.Places(t.Context(), in)
	require.NoError(t, err)
	assert.Equal(t, map[Key]Place{p.Key: p}, got)
	require.NoError(t, l.Forget(t.Context(), p.Key))
	got, err = l.Places(t.Context(), in)
	require.NoError(t, err)
	assert.Empty(t, got)
}

func TestPlaythroughs(t *testing.T) {
	l, _ := openNew(t)
	keys, in := []Key{{"/saves", "a"}, {"/saves", "b"}}, []Folder{{Install: "g@main", Called: "saves", Path: "/saves"}}
	first := Playthrough{Name: "one", Title: "One", Game: "g", Install: "main", Started: now, Active: true}
	second := Playthrough{Name: "two", Title: "Two", Game: "g", Install: "main", Started: now.Add(time.Hour), Active: true}
	require.NoError(t, l.Start(t.Context(), first, keys))
	belongs, err := l.Belongs(t.Context(), in)
	require.NoError(t, err)
	assert.Empty(t, belongs, "with one playthrough all saves are its own")
	require.ErrorIs(t, l.Start(t.Context(), first, nil), ErrExists)
	require.NoError(t, l.Start(t.Context(), second, keys))
	belongs, err = l.Belongs(t.Context(), in)
	require.NoError(t, err)
	assert.Equal(t, map[Key]string{keys[0]: "one", keys[1]: "one"}, belongs, "what was there stays the first one's")
	require.NoError(t, l.Assign(t.Context(), keys[:1], "two"))
	all, err := l.Playthroughs(t.Context())
	require.NoError(t, err)
	assert.Equal(t, []bool{false, true}, []bool{all[0].Active, all[1].Active})
	renamed := all[1]
	renamed.Name, renamed.Closed = "three", true
	require.NoError(t, l.Update(t.Context(), "two", renamed))
	belongs, err = l.Belongs(t.Context(), in)
	require.NoError(t, err)
	assert.Equal(t, "three", belongs[keys[0]])
}

func TestALogbookOfANewerOstrovIsLeftAlone(t *testing.T) {
	l, path := openNew(t)
	require.NoError(t, l.Close())
	db, err := sql.Open("sqlite", path)
	require.NoError(t, err)
	_, err = db.Exec("PRAGMA user_version = 99")
	require.NoError(t, err)
	require.NoError(t, db.Close())
	before, err := os.ReadFile(path)
	require.NoError(t, err)
	_, err = Open(path)
	require.ErrorIs(t, err, ErrNewer)
	after, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, before, after)

	require.NoError(t, os.WriteFile(path, []byte("not a database at all, but long enough to have a header of one"), 0o644))
	_, err = Open(path)
	assert.Error(t, err)
	memory, err := OpenInMemory()
	require.NoError(t, err)
	require.NoError(t, memory.Add(t.Context(), tree.Digest{1}, Evidence{Kind: check.Stated, At: now, Version: "1"}))
	require.NoError(t, memory.Close())
}
