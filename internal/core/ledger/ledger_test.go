package ledger_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/ledger"
	"ostrov/internal/core/tree"
)

func digest(text string) tree.Digest {
	return tree.ListDigest([]tree.Named{{Path: text}})
}

func entry(id string, order int64, files ...string) *ledger.Entry {
	e := &ledger.Entry{Game: "forge", Install: "forge@main", Kind: "tool", ID: id, Order: order, Came: time.Date(2026, 1, 2, 3, 4, 5, 6, time.UTC)}
	for _, f := range files {
		e.Files = append(e.Files, ledger.File{Root: "folder:tools", Path: f, Digest: digest(id + f), Size: 3, Mode: 0o644, Time: e.Came})
	}
	return e
}

func none(*ledger.Entry) int { return 0 }

func TestPiles(t *testing.T) {
	at := ledger.Place{Root: "folder:tools", Path: "x"}
	a, b, c := entry("a", 1, "x", "only-a"), entry("b", 2, "x"), entry("c", 3, "x")
	top, file := ledger.NewShelf([]*ledger.Entry{c, a, b}, none).Top(at)
	assert.Equal(t, c, top, "the last one that came")
	assert.Equal(t, digest("cx"), file.Digest)
	top, _ = ledger.NewShelf([]*ledger.Entry{a, b, c}, func(e *ledger.Entry) int { return map[string]int{"a": 3, "b": 2, "c": 1}[e.ID] }).Top(at)
	assert.Equal(t, a, top, "the load order says otherwise")
	c.State = ledger.Off
	shelf := ledger.NewShelf([]*ledger.Entry{a, b, c}, none)
	top, _ = shelf.Top(at)
	assert.Equal(t, b, top, "what is off is not there")
	assert.Equal(t, []*ledger.Entry{a, b}, shelf.Owners(at))
	assert.Len(t, shelf.Hidden(), 1)
	top, _ = shelf.Top(ledger.Place{Root: "game", Path: "x"})
	assert.Nil(t, top)
}

// TestBottomsPassOn drops the mod that holds what lay there first: another one holds it then, until none is left.
func TestBottomsPassOn(t *testing.T) {
	was := ledger.File{Root: "folder:tools", Path: "x", Digest: digest("the game's")}
	dir := ledger.File{Root: "folder:tools", Path: "d", Dir: true}
	a, b := entry("a", 1, "x", "d/a"), entry("b", 2, "x", "d/b")
	a.Covered = []ledger.File{dir, was}
	bottoms := ledger.Bottoms([]*ledger.Entry{a, b})
	require.Len(t, bottoms, 2)
	shelf := ledger.NewShelf([]*ledger.Entry{b}, none)
	assert.Empty(t, shelf.Settle(bottoms))
	assert.Equal(t, []ledger.File{dir, was}, shelf.Entries()[0].Covered)
	assert.Empty(t, b.Covered, "the entry that was given stays as it is")
	assert.Len(t, ledger.NewShelf(nil, none).Settle(bottoms), 2, "they lie in their places again")
}

func TestEncodeAndParse(t *testing.T) {
	e := entry("a", 1, "x", "y/z")
	e.Covered = []ledger.File{{Root: "game", Path: "c", Digest: digest("c")}}
	e.From = []ledger.Source{{Name: "a.zip", Digest: digest("zip")}}
	text, err := e.Encode()
	require.NoError(t, err)
	again, err := ledger.Parse(text)
	require.NoError(t, err)
	assert.Equal(t, e, again)
	head, ok := ledger.ParseHead(text)
	require.True(t, ok)
	assert.Equal(t, "a", head.ID)
	assert.Equal(t, int64(6), head.Size)
	assert.Empty(t, head.Files)

	for name, change := range map[string][2]string{
		"another format":    {`"ostrov_ledger": 1`, `"ostrov_ledger": 9`},
		"no id":             {`"id": "a"`, `"id": ""`},
		"a path out":        {`"path": "x"`, `"path": "../x"`},
		"a whole path":      {`"path": "x"`, `"path": "/x"`},
		"a path on Windows": {`"path": "x"`, `"path": "a\\..\\x"`},
		"no root":           {`"root": "game"`, `"root": ""`},
		"a link out":        {`"path": "x",`, `"path": "x", "link": "../../x",`},
		"no JSON":           {`{`, ``},
	} {
		_, err := ledger.Parse([]byte(strings.Replace(string(text), change[0], change[1], 1)))
		assert.ErrorIs(t, err, ledger.ErrDamaged, name)
	}
}

func FuzzParse(f *testing.F) {
	text, err := entry("a", 1, "x", "y/z").Encode()
	require.NoError(f, err)
	f.Add(text)
	f.Add([]byte(`{"ostrov_ledger": 1, "game": "g", "id": "x", "files": [{"root": "game", "path": "a/../b"}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		e, err := ledger.Parse(data)
		if err != nil {
			require.Nil(t, e)
			return
		}
		for _, file := range e.Files {
			assert.NotContains(t, strings.Split(file.Path, "/"), "..")
		}
		text, err := e.Encode()
		require.NoError(t, err)
		again, err := ledger.Parse(text)
		require.NoError(t, err)
		twice, err := again.Encode()
		require.NoError(t, err)
		assert.Equal(t, text, twice)
	})
}
