package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/longtest"
)

// TestALargeSave has a save that has grown to 40 MB of JSON: it says what it said, and can be placed elsewhere.
func TestALargeSave(t *testing.T) {
	longtest.Only(t)
	w := newWorld(t)
	mods := func(slot string) string { // what a save needs, without where it comes from
		said, _, _ := strings.Cut(w.ok("needs", "tidewrack/"+slot).out, "\n  Evidence")
		_, said, _ = strings.Cut(said, "\n")
		return said
	}
	before := mods("1")
	var islands strings.Builder
	for i := range 400_000 {
		fmt.Fprintf(&islands, `{"name": "rock %x", "lamps": [%d, %d, true], "note": "{[\"quoted\"]}"},`+"\n", i, i%7, i%11)
	}
	require.Greater(t, islands.Len(), 24<<20)
	file := w.voyages("slot_00", "voyage.json.gz")
	rewrite(t, file, `"mods": [`, `"far": [`+islands.String()+`null], "mods": [`)
	assert.Contains(t, before, "Deep Tides")
	assert.Equal(t, before, mods("1"))
	assert.Equal(t, "Gannet Rock", w.titles("tidewrack")["1"])

	out := filepath.Join(t.TempDir(), "rock.zip")
	w.ok("parcel", "tidewrack/1", "-o", out, "--blank")
	r := w.ok("place", out, "--slot", "7", "--yes")
	assert.Contains(t, r.out, "slot 7")
	assert.Equal(t, "Gannet Rock", w.titles("tidewrack")["7"])
	assert.Equal(t, before, mods("7"))

	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, whole[:len(whole)/2], 0o644))
	assert.Contains(t, w.ok("needs", "tidewrack/1").out, "voyage.json.gz: ends too early")
}

// TestQueriesForSmallFilesAreNamed tests a description that asks what a large file cannot be asked.
func TestQueriesForSmallFilesAreNamed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	shipped, err := filepath.Abs(filepath.Join("..", "..", "games", "brass-orchard.toml"))
	require.NoError(t, err)
	assert.NotContains(t, w.ok("games", "test", shipped).out, "32 MB")
	text, err := os.ReadFile(shipped)
	require.NoError(t, err)
	deep := filepath.Join(t.TempDir(), "deep.toml")
	require.NoError(t, os.WriteFile(deep, []byte(strings.Replace(string(text), `"/bay/@release"`, `"//bay/@release"`, 1)), 0o644))
	r := w.ok("games", "test", deep)
	assert.Contains(t, r.out, "Asked of JSON and XML of up to 32 MB only:")
	assert.Contains(t, r.out, "//bay/@release")
	assert.Contains(t, w.ok("games", "test", deep, "--json").out, `"query": "//bay/@release"`)
	require.NoError(t, os.WriteFile(deep, []byte(strings.Replace(string(text), `"/bay/@title"`, `"//bay/@title"`, 1)), 0o644))
	assert.Contains(t, w.fails(1, "games", "test", deep).err, "it cannot be set", "what may be set is asked for by a query that names one place")
}
