package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
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

// TestFilesAreComparedInside compares files, folders, downloads and saves by what is in them.
func TestFilesAreComparedInside(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	write := func(name, text string) string {
		path := w.path("cmp", name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return path
	}
	type valueDoc struct{ File, At, A, B string }
	inside := func(a, b string) (values []valueDoc, more int, files []string) {
		var doc struct {
			Inside struct {
				Values []valueDoc
				More   int
				Files  []struct{ What, Path string }
			}
		}
		w.decode(&doc, "compare", a, b)
		for _, f := range doc.Inside.Files {
			files = append(files, f.What+" "+f.Path)
		}
		return doc.Inside.Values, doc.Inside.More, files
	}
	values, _, _ := inside(write("a.json", `{"captain": {"name": "Ada", "coins": 5}, "log": [1, 2]}`), write("b.json", `{"captain": {"coins": 6, "name": "Ada"}, "log": [1, 2, 3]}`))
	assert.Equal(t, []valueDoc{{".", "$.captain.coins", "5", "6"}, {".", "$.log[2]", "", "3"}}, values)
	values, _, _ = inside(write("a.xml", `<bay title="T"><tree fruit="1"/><tree fruit="2"/><note>old</note></bay>`), write("b.xml", `<bay title="T"><tree fruit="1"/><tree fruit="3"/><note>new</note></bay>`))
	assert.Equal(t, []valueDoc{{".", "/bay/tree[2]/@fruit", "2", "3"}, {".", "/bay/note", "old", "new"}}, values)
	values, _, _ = inside(write("a.ini", "[a]\nx = 1\ny = 2\n"), write("b.ini", "[a]\nx = 1\ny = 3\n"))
	assert.Equal(t, []valueDoc{{".", "line 3", "y = 2", "y = 3"}}, values)
	long := func(n int) string {
		var list []string
		for i := range 50 {
			list = append(list, fmt.Sprint(i*n))
		}
		return "[" + strings.Join(list, ",") + "]"
	}
	values, more, _ := inside(write("long1.json", long(1)), write("long2.json", long(2)))
	assert.Len(t, values, 20)
	assert.Equal(t, 29, more)
	// binary files and folders: which files
	write("one/same.bin", "\x00\x01")
	write("one/old.bin", "\x00")
	write("one/changed.bin", "\x00\x02")
	write("two/same.bin", "\x00\x01")
	write("two/changed.bin", "\x00\x03")
	write("two/new.bin", "\x00")
	_, _, files := inside(w.path("cmp", "one"), w.path("cmp", "two"))
	assert.Equal(t, []string{"changed changed.bin", "new new.bin", "gone old.bin"}, files)
	assert.Contains(t, w.ok("compare", w.path("cmp", "one"), w.path("cmp", "one")).out, "no difference")

	// a save and a download with one: values inside its wrapping
	w.ok("parcel", "tidewrack/1", "-o", w.path("p.zip"), "--yes")
	assert.Contains(t, w.ok("compare", "tidewrack/1", w.path("p.zip")).out, "no difference")
	rewrite(t, w.voyages("slot_00", "voyage.json.gz"), `"Gannet Rock"`, `"Gannet Reef"`)
	out := w.ok("compare", "tidewrack/1", w.path("p.zip")).out
	assert.Contains(t, out, "Gannet Reef")
	assert.Contains(t, out, "$.")
	assert.Contains(t, w.ok("compare", "downloads/quiet-cove.zip", "tidewrack/1").out, "differ in")
	w.fails(2, "compare", w.path("cmp", "a.json"), "tidewrack@main")
}
