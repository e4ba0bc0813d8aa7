package cli_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCompare(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	mods := func(parts ...string) string {
		return w.path(append([]string{"games", "Tidewrack", "mods"}, parts...)...)
	}
	w.ok("keep", "tidewrack", "--with", "mods")
	assert.Contains(t, w.ok("compare", "tidewrack.1", "tidewrack@main").out, "no difference")
	list := filepath.Join(t.TempDir(), "mods.json")
	w.ok("mods", "tidewrack", "--write", list)
	assert.Contains(t, w.fails(7, "mods", "tidewrack", "--write", list).err, "is there already")

	require.NoError(t, os.WriteFile(mods("gull-post", "things.json"), []byte("{\"things\": [\"gull-post:pier\", \"gull-post:nest\"]}\n"), 0o644))
	require.NoError(t, os.Remove(mods("gull-post", "art", "gull-post.art")))
	require.NoError(t, os.RemoveAll(mods("fog-horns")))
	require.NoError(t, os.WriteFile(mods("order.txt"), []byte("deep-tides\nlantern-core\nrope-and-tar\ngull-post\nkelp-farms\nstorm-lamps\nnight-market\npainted-hulls\nbarnacle-fix\nsea-glass\n"), 0o644))
	require.NoError(t, os.RemoveAll(w.voyages("slot_01")))
	rewrite(t, w.voyages("slot_00", "voyage.json.gz"), `"lamps"`, `"lamps "`)
	r := w.ok("compare", "tidewrack.1", "tidewrack@main")
	for _, want := range []string{"- Fog Horns 1.1.0 dropped", "+ Sea Glass switched on", "~ Gull Post 1.4.2 altered", "moved in the load order", `- slot 2 "Herring Sound" gone`, `~ slot 1 "Gannet Rock" changed`, "5 saves are the same"} {
		assert.Contains(t, r.out, want)
	}
	assert.Contains(t, w.ok("compare", list, "tidewrack@main").out, "Fog Horns 1.1.0 dropped")
	r = w.ok("compare", "tidewrack+gull-post", "tidewrack.1")
	assert.Contains(t, r.out, "~ things.json changed")
	assert.Contains(t, r.out, `+{"things": ["gull-post:pier", "gull-post:nest"]}`)
	assert.Contains(t, r.out, "- art/gull-post.art gone")
	assert.Contains(t, w.ok("compare", "tidewrack/7", "tidewrack@main").out, "tar-works 1.0.0 dropped")

	w.fails(2, "compare", "tidewrack", "tidewrack.1") // could be the playthrough's newest snapshot or the install
	w.fails(2, "compare", "tidewrack+nothing", "tidewrack.1")
	w.fails(2, "compare", "tidewrack.1")
	w.fails(2, "mods", "tidewrack", "--write", filepath.Join(t.TempDir(), "mods.txt"))
	for _, ending := range []string{"csv", "md"} {
		file := filepath.Join(t.TempDir(), "mods."+ending)
		w.ok("mods", "tidewrack", "--write", file)
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Contains(t, string(data), "Rope & Tar")
	}
}
