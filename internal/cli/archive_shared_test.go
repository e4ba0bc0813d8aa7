package cli_test

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"

	"ostrov/internal/longtest"
	"ostrov/internal/view"
)

// TestTwoMachinesKeepAtOnce has two players, each with a home and a game of their own, keep into one archive at the same moments.
func TestTwoMachinesKeepAtOnce(t *testing.T) {
	t.Parallel()
	rounds := longtest.Of(8, 100)
	one, other := newWorld(t), newWorld(t)
	shared := filepath.Join(t.TempDir(), "archive")
	one.ok("archive", "add", shared)
	other.ok("archive", "add", shared)
	for round := range rounds {
		var both sync.WaitGroup
		for i, w := range []*world{one, other} {
			chart := fmt.Appendf(nil, "chart %d of player %d", round, i)
			require.NoError(t, os.WriteFile(w.voyages("slot_00", "chart.bin"), chart, 0o644))
			both.Go(func() { assert.Zero(t, w.run("keep", "tidewrack", "-m", fmt.Sprintf("%d of %d", round, i)).status) })
		}
		both.Wait()
	}
	assert.Contains(t, one.ok("archive", "verify").out, fmt.Sprintf("%d snapshots", 2*rounds))
	var doc view.KeptDoc
	one.decode(&doc, "kept", "tidewrack")
	require.Len(t, doc.Snapshots, 2*rounds)
	for _, s := range doc.Snapshots[max(0, len(doc.Snapshots)-10):] {
		var round, i int
		_, err := fmt.Sscanf(s.Note, "%d of %d", &round, &i)
		require.NoError(t, err)
		to := filepath.Join(t.TempDir(), "out")
		other.ok("restore", s.Address, "--slot", "1", "--to", to)
		got, err := os.ReadFile(filepath.Join(to, "Tidewrack", "lit", "70431", "slot_00", "chart.bin"))
		require.NoError(t, err)
		assert.Equal(t, fmt.Sprintf("chart %d of player %d", round, i), string(got), s.Address)
	}
}

// hostile makes the newest snapshot of Tidewrack list one root of saves as entries says; blobs are what its content file has, by digest.
func (w *world) hostile(entries []map[string]any, blobs map[string][]byte) {
	var listing bytes.Buffer
	listing.WriteString("{\"ostrov_listing\":1}\n")
	for _, e := range entries {
		line, err := json.Marshal(e)
		require.NoError(w.t, err)
		listing.Write(append(line, '\n'))
	}
	sum := blake3.Sum256(listing.Bytes())
	digest := fmt.Sprintf("%x", sum)
	blobs[digest] = listing.Bytes()
	name := "2026-03-01T211402Z-abcdef"
	f, err := os.Create(w.path("ostrov", "archive", "content", name+".zip"))
	require.NoError(w.t, err)
	z := zip.NewWriter(f)
	for d, data := range blobs {
		out, err := z.Create(d)
		require.NoError(w.t, err)
		_, err = out.Write(data)
		require.NoError(w.t, err)
	}
	require.NoError(w.t, z.Close())
	require.NoError(w.t, f.Close())
	part := []map[string]any{{"entry": "blake3:" + digest, "length": listing.Len()}}
	snapshot, err := json.Marshal(map[string]any{
		"ostrov_snapshot": 1, "id": name, "playthrough": "evil", "title": "Evil", "game": "tidewrack", "game_title": "Tidewrack", "taken": time.Now(), "version": "1.6.2", "mods": []any{},
		"roots": []map[string]any{
			{"folder": "saves", "account": "70431", "what": "saves", "listing": part, "files": 1, "bytes": 4},
			{"folder": "mods", "what": "mods", "listing": part, "files": 1, "bytes": 4},
			{"folder": "game", "what": "game", "listing": part, "files": 1, "bytes": 4},
			{"folder": "settings-1", "what": "settings", "listing": part, "files": 1, "bytes": 4},
		},
		"saves":   []map[string]any{{"kind": "voyage", "folder": "saves", "account": "70431", "name": "../../../evil", "digest": "", "files": []map[string]any{{"path": "../../../evil"}}}},
		"content": []string{name + ".zip"},
	})
	require.NoError(w.t, err)
	dir := w.path("ostrov", "archive", "playthroughs", "evil")
	require.NoError(w.t, os.MkdirAll(dir, 0o755))
	require.NoError(w.t, os.WriteFile(filepath.Join(dir, name+".json"), snapshot, 0o644))
}

// TestHostileArchive hands an archive that somebody made to do harm to every command that reads one.
func TestHostileArchive(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack", "--with", "game")
	text := []byte("evil")
	sum := blake3.Sum256(text)
	good := fmt.Sprintf("%x", sum)
	bomb := make([]byte, 64<<20)
	lie := fmt.Sprintf("%064x", 7)
	file := func(path, entry string, size int) map[string]any {
		return map[string]any{"path": path, "kind": "file", "size": size, "mode": "644", "time": "2026-03-01T00:00:00Z", "digest": "blake3:" + entry, "parts": []map[string]any{{"entry": "blake3:" + entry, "length": size}}}
	}
	link := map[string]any{"path": "slot_00", "kind": "link", "target": "../../../..", "time": "2026-03-01T00:00:00Z"}
	out := t.TempDir()
	for name, entries := range map[string][]map[string]any{
		"leads out":     {file("../../evil", good, 4)},
		"absolute":      {file("/tmp/evil", good, 4)},
		"through links": {link, file("slot_00/evil", good, 4)},
		"lies":          {file("slot_00/evil", lie, 4)},
		"bomb":          {file("slot_00/evil", lie, 16<<20)},
		"never ends":    {file("slot_00/evil", good, 1<<40)},
		"twice":         {file("slot_00", good, 4), file("slot_00/evil", good, 4)},
		"missing":       {file("slot_00/evil", fmt.Sprintf("%064x", 9), 4)},
	} {
		t.Run(name, func(t *testing.T) {
			w := *w
			w.t = t
			w.hostile(entries, map[string][]byte{good: text, lie: bomb})
			dir := filepath.Join(out, "a b", name, "deep")
			require.NoError(t, os.MkdirAll(dir, 0o755))
			before := state(t, w.path("games"), w.path("prefix"), w.path("player"))
			for i, args := range [][]string{
				{"restore", "evil", "--to", filepath.Join(dir, "to")}, {"restore", "evil", "--only", "game", "--to", filepath.Join(dir, "game")}, {"restore", "evil", "--yes"},
				{"kept", "evil.1", "--export", filepath.Join(dir, "out.zip")}, {"archive", "verify"}, {"archive", "verify", "--fast"}, {"kept"}, {"compare", "tidewrack.1", "evil.1"},
			} {
				r := w.run(args...)
				assert.NotContains(t, r.err, "panic", args)
				assert.Contains(t, []int{0, 1, 2}, r.status, "%v\n%s%s", args, r.out, r.err)
				if i == 4 {
					assert.Contains(t, r.out, "damaged")
				}
			}
			assert.Equal(t, before, state(t, w.path("games"), w.path("prefix"), w.path("player")), "the games are untouched")
			for _, place := range []string{out, filepath.Join(out, "a b"), filepath.Join(out, "a b", name), dir, filepath.Dir(w.dir), w.dir} {
				assert.NoFileExists(t, filepath.Join(place, "evil"))
			}
			assert.NoFileExists(t, "/tmp/evil")
			assert.NoDirExists(t, filepath.Join(dir, "game"))
			assert.NoFileExists(t, filepath.Join(dir, "out.zip"))
			assert.Contains(t, w.ok("kept").out, "tidewrack.1", "what was honest is still there")
			w.ok("restore", "tidewrack.1", "--to", filepath.Join(dir, "honest"))
		})
	}
}

// TestALineThatGoesOnInTwoPlaces has two players of one line, with one archive: what the other kept is said, and never taken for what was played
// here.
func TestALineThatGoesOnInTwoPlaces(t *testing.T) {
	t.Parallel()
	one, other := newWorld(t), newWorld(t)
	shared := filepath.Join(t.TempDir(), "archive")
	one.ok("archive", "add", shared)
	other.ok("archive", "add", shared)
	one.ok("keep", "tidewrack")
	other.ok("playthroughs", "start", "tidewrack", "tidewrack")
	other.written("slot_00", "before")
	other.ok("restore", "tidewrack.1", "--yes", "--older")
	assert.NotContains(t, one.ok("look", "tidewrack").out, "goes on from", "what the other kept before a change is nothing to go on from")
	other.written("slot_00", "the other's evening")
	out := other.ok("keep", "tidewrack").out
	theirs := strings.TrimSpace(strings.TrimPrefix(strings.SplitN(out, "\n", 2)[0], "kept "))

	look := one.ok("look", "tidewrack").out
	assert.Contains(t, look, theirs+" goes on from tidewrack.1, which is what is here")
	assert.Contains(t, look, "ostrov restore "+theirs)
	one.written("slot_01", "an evening here")
	one.ok("keep", "tidewrack")
	look = strings.Join(strings.Fields(one.ok("look", "tidewrack").out), " ")
	assert.Contains(t, look, "tidewrack went on in two places since tidewrack.1: here, and in "+theirs)
	kept := one.ok("kept", "tidewrack").out
	assert.Contains(t, kept, "It went on in 2 branches")
	assert.Contains(t, kept, "from tidewrack.1")
	one.ok("restore", theirs, "--yes", "--older")
	assert.NotContains(t, one.ok("look", "tidewrack").out, "two places", "what is here now was seen here")
}
