package keep

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/game"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/tree"
)

// TestModsAreKeptInOrderOfTheirPaths has mods whose names go on behind those of others, and mods that are single files: all entries come
// in order, each once, and the digests taken by the way are those of the mods.
func TestModsAreKeptInOrderOfTheirPaths(t *testing.T) {
	dir := t.TempDir()
	folders, files := &game.Mod{Unit: game.UnitFolder}, &game.Mod{Unit: game.UnitFile}
	for path, text := range map[string]string{
		"deep/mod.json": "1", "deep/art/a.art": "2", "deep/art.txt": "3", "deep/.git/HEAD": "not counted", "deep-tides/mod.json": "4", "deep.pak": "5", "deep tides/x": "6",
		"pack/inner/mod.json": "7", "zz/empty.txt": "",
	} {
		full := filepath.Join(dir, filepath.FromSlash(path))
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		require.NoError(t, os.WriteFile(full, []byte(text), 0o644))
	}
	var mods []*mod.Mod
	want := map[string]tree.Digest{}
	for _, path := range []string{"zz", "deep", "deep-tides", "deep.pak", "deep tides", "pack/inner"} {
		m := &mod.Mod{Kind: folders, Folder: game.Located{Path: dir}, Path: path}
		var list []tree.Named
		sum := func(at string) tree.Digest {
			data, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(at)))
			require.NoError(t, err)
			return tree.Digest(blake3.Sum256(data))
		}
		if strings.HasSuffix(path, ".pak") {
			m.Kind = files
			e, err := tree.Stat(dir, path)
			require.NoError(t, err)
			m.Entries.Add(e)
			list = append(list, tree.Named{Path: ".", Digest: sum(path)})
		} else {
			require.NoError(t, tree.Walk(t.Context(), m.Dir(), func(e tree.Entry) error {
				m.Entries.Add(e)
				if e.Kind == tree.File && !strings.HasPrefix(e.Path, ".git/") {
					list = append(list, tree.Named{Path: e.Path, Digest: sum(path + "/" + e.Path)})
				}
				return nil
			}))
		}
		mods = append(mods, m)
		want[path] = tree.ListDigest(list)
	}
	spans, err := spansOf(mods)
	require.NoError(t, err)
	entries := slices.Collect(entriesOf(spans))
	assert.True(t, slices.IsSortedFunc(entries, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) }))
	assert.Len(t, entries, 16)
	d := digester{spans: spans}
	for _, e := range entries {
		n := archive.Node{Path: e.Path, Kind: e.Kind}
		if e.Kind == tree.File {
			data, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(e.Path)))
			require.NoError(t, err)
			n.Digest = tree.Digest(blake3.Sum256(data))
		}
		d.visit(n)
	}
	d.end()
	for _, m := range mods {
		assert.Equal(t, want[m.Path], m.Digest, m.Path)
	}
}

func TestWhatASnapshotWouldRepeat(t *testing.T) {
	part := func(b byte) []archive.Chunk { return []archive.Chunk{{Blob: tree.Digest{b}, Length: 1}} }
	snap := func(change func(*archive.Snapshot)) *archive.Snapshot {
		s := &archive.Snapshot{Version: "1", Mods: []modlist.Listed{{ID: "a", On: true}}, Saves: []archive.KeptSave{{Name: "x"}}, Roots: []archive.Root{
			{Folder: "saves", Kind: archive.Saves, Listing: part(1), Files: 1}, {Folder: "settings-1", Kind: archive.Settings, Listing: part(2), Files: 1}}}
		change(s)
		return s
	}
	same := func(*archive.Snapshot) {}
	before := snap(func(s *archive.Snapshot) {
		s.Roots = append(s.Roots, archive.Root{Kind: archive.Mods, Listing: part(3), Files: 1})
	})
	assert.True(t, sameAs(snap(same), before), "what it has besides does not matter")
	assert.False(t, sameAs(snap(same), nil))
	for name, change := range map[string]func(*archive.Snapshot){
		"version":       func(s *archive.Snapshot) { s.Version = "2" },
		"mods":          func(s *archive.Snapshot) { s.Mods[0].On = false },
		"a save":        func(s *archive.Snapshot) { s.Roots[0].Listing = part(9) },
		"a setting":     func(s *archive.Snapshot) { s.Roots[1].Listing = part(9) },
		"one save less": func(s *archive.Snapshot) { s.Saves = nil },
		"something new": func(s *archive.Snapshot) {
			s.Roots = append(s.Roots, archive.Root{Folder: "data-1", Kind: archive.Data, Listing: part(4), Files: 1})
		},
	} {
		assert.False(t, sameAs(snap(change), before), name)
	}
	assert.True(t, sameAs(snap(func(s *archive.Snapshot) {
		s.Roots = append(s.Roots, archive.Root{Folder: "data-1", Kind: archive.Data, Listing: part(4)})
	}), before), "a pattern that stands for nothing yet")
}
