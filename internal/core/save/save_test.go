package save

import (
	"encoding/json"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
)

const description = `ostrov = 1
id = "pebble"
title = "Pebble"
[install]
marker = ["pebble.exe"]
[[folder]]
id = "saves"
path = "{game}/saves"

[[save]]
id = "slot"
unit = "folder"
folder = "saves"
name = "slot_{slot:2}"
slots = { from = 0, to = 9, shown_from = 1 }
ignore = ["*.log", "cache"]
[save.file.head]
path = "head.json"
form = "json"
[save.file.extra]
path = "extra.bin"
form = "bytes"
[save.is]
has = ["title"]
[save.field]
title = { in = "head", at = "$.title" }
version = { in = "head", at = "$.v" }
[save.mods]
in = "head"
each = "$.mods[*]"
id = "$"

[[save]]
id = "file"
unit = "file"
folder = "saves"
name = "bay_{slot:letter}.sav"
slots = { from = "a", to = "c" }
companions = ["*.pic"]
[save.file.f]
path = "."
form = "text"
[save.is]
magic = "534156@0"
[save.field]
title = { in = "f", at = "^title (.+)$" }

[[save]]
id = "set"
unit = "set"
folder = "saves"
name = ["#{id:digits}.map", "#{id:digits}.meta"]
[save.file.meta]
path = "*.meta"
form = "ini"
[save.field]
title = { in = "meta", at = "title" }

[[save]]
id = "world"
unit = "file"
folder = "saves"
name = "{name}.db"
[save.file.db]
path = "."
form = "sqlite"
`

// unseen is progress that nobody looks at.
type unseen struct{}

func (unseen) More(int64) {}
func (unseen) Did(int64)  {}

func install(t testing.TB, files map[string]string) (*game.Description, *game.Install) {
	d, err := game.Parse("pebble.toml", []byte(description))
	require.NoError(t, err)
	root, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	files["pebble.exe"] = ""
	for name, text := range files {
		path := filepath.Join(root, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	in := &game.Install{Game: d, Root: root, PlayerHome: t.TempDir()}
	require.NoError(t, in.Open())
	return d, in
}

const head = `{"title": "One", "v": "1.2", "mods": ["a", "b"]}`

func TestScan(t *testing.T) {
	_, in := install(t, map[string]string{
		"saves/slot_00/head.json": head, "saves/slot_00/extra.bin": "x", "saves/slot_00/debug.log": "noise", "saves/slot_00/cache/c": "noise",
		"saves/slot_03/head.json": "{broken", "saves/slot_03/extra.bin": "x",
		"saves/slot_10/head.json": head, // no such slot
		"saves/slot_04/notes.txt": "not a save at all",
		"saves/bay_b.sav":         "SAV\ntitle Two", "saves/bay_b.pic": "p", "saves/bay_z.sav": "SAV\ntitle out of range",
		"saves/#12.map": "m", "saves/#12.meta": "title = Three", "saves/#7.map": "lone",
		"saves/w.db": "not a database", "saves/w.db-wal": "log",
		"saves/.ostrov-trial/head.json": head, "saves/readme.txt": "x",
	})
	saves, _, err := Scan(t.Context(), in, &tree.Hasher{Now: time.Now}, unseen{})
	require.NoError(t, err)
	var got []string
	for _, s := range saves {
		problem := ""
		if s.Facts.Problem != nil {
			problem = " broken"
		}
		got = append(got, s.Kind.ID+" "+s.Handle()+" "+s.Title()+problem)
	}
	assert.Equal(t, []string{"slot 1 One", "slot 4 slot_03 broken", "file B Two", "set #12.map Three", "set #7.map #7.map broken", "world w.db w.db"}, got)
	assert.Equal(t, "1.2", saves[0].Facts.Version())
	assert.True(t, saves[0].Facts.ModsKnown)
	assert.Len(t, saves[0].Facts.Mods, 2)
	assert.Len(t, saves[0].Files, 2, "ignored files are no part of it")
	assert.Equal(t, []string{"slot_00"}, saves[0].Tops())
	assert.Equal(t, []string{"#12.map", "#12.meta"}, saves[3].Tops())
	assert.Equal(t, []string{"w.db", "w.db-wal"}, saves[5].Tops(), "a database comes with its log")
}

func TestDigestIsOfTheContentAlone(t *testing.T) {
	_, in := install(t, map[string]string{
		"saves/slot_00/head.json": head, "saves/slot_00/extra.bin": "x", "saves/slot_00/debug.log": "1",
		"saves/slot_05/head.json": head, "saves/slot_05/extra.bin": "x", "saves/slot_05/debug.log": "2",
		"saves/slot_06/head.json": head, "saves/slot_06/extra.bin": "y",
	})
	h := &tree.Hasher{Now: time.Now}
	saves, _, err := Scan(t.Context(), in, &tree.Hasher{Now: time.Now}, unseen{})
	require.NoError(t, err)
	for _, s := range saves {
		require.NoError(t, s.TakeDigest(t.Context(), h))
	}
	assert.Equal(t, saves[0].Digest, saves[1].Digest, "a save that was copied or renamed is the same")
	assert.NotEqual(t, saves[0].Digest, saves[2].Digest)
}

func TestRecogniseFindsSavesInDownloads(t *testing.T) {
	d, _ := install(t, map[string]string{})
	for name, c := range map[string]struct {
		files map[string]string
		want  string // kind, name, label, for each
	}{
		"as it is":             {map[string]string{"slot_02/head.json": head, "slot_02/extra.bin": "x"}, "slot slot_02 ()"},
		"in outer folders":     {map[string]string{"Pack/all lamps/slot_02/head.json": head, "Pack/all lamps/slot_02/extra.bin": "x"}, "slot Pack/all lamps/slot_02 (Pack / all lamps)"},
		"under another name":   {map[string]string{"my save/head.json": head, "my save/extra.bin": "x"}, "slot my save ()"},
		"without a folder":     {map[string]string{"head.json": head, "extra.bin": "x"}, "slot . ()"},
		"two":                  {map[string]string{"a/slot_01/head.json": head, "b/slot_01/head.json": head}, "slot a/slot_01 (a) slot b/slot_01 (b)"},
		"a file by content":    {map[string]string{"some name.xyz": "SAV\ntitle X"}, "file some name.xyz ()"},
		"a file by name":       {map[string]string{"x/BAY_A.SAV": "SAV\ntitle X"}, "file x/BAY_A.SAV (x)"},
		"not by name alone":    {map[string]string{"bay_a.sav": "text"}, ""},
		"a set":                {map[string]string{"in/#5.map": "m", "in/#5.meta": "title = T"}, "set in/#5.map (in)"},
		"a set in two folders": {map[string]string{"maps/#5.map": "m", "meta/#5.meta": "title = T"}, "set maps/#5.map (maps)"},
		"two sets of one id":   {map[string]string{"a/#5.map": "m", "b/#5.map": "n"}, "set a/#5.map (a) set b/#5.map (b)"},
		"a file by its magic":  {map[string]string{"any.bin": "SAV\ncut"}, "file any.bin ()"},
		"nothing":              {map[string]string{"readme.txt": "x", "pic.png": "y"}, ""},
		"a name but no title":  {map[string]string{"slot_02/head.json": "{}"}, ""},
		"broken under a name":  {map[string]string{"slot_02/head.json": "{cut"}, "slot slot_02 ()"},
		"another json by luck": {map[string]string{"x/head.json": `{"v": 1}`}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			fsys := fstest.MapFS{}
			for n, text := range c.files {
				fsys[n] = &fstest.MapFile{Data: []byte(text)}
			}
			entries, err := tree.ListFS(fsys, ".")
			require.NoError(t, err)
			var got []string
			for _, found := range Recognise(t.Context(), d, Begin(fsys, d), entries) {
				got = append(got, found.Kind.ID+" "+found.Name+" ("+found.Label+")")
			}
			assert.Equal(t, c.want, strings.Join(got, " "))
		})
	}
}

func TestCompanionsComeWithTheirSave(t *testing.T) {
	d, in := install(t, map[string]string{"saves/bay_a.sav": "SAV\ntitle One", "saves/bay_a.pic": "p", "saves/bay_b.pic": "of none"})
	saves, _, err := Scan(t.Context(), in, &tree.Hasher{Now: time.Now}, unseen{})
	require.NoError(t, err)
	require.Len(t, saves, 1)
	assert.Equal(t, []string{"bay_a.sav", "bay_a.pic"}, saves[0].Tops())
	for name, c := range map[string]struct {
		files   []string
		want    []string
		missing []string
	}{
		"beside":         {[]string{"x/bay_a.sav", "x/bay_a.pic", "y/bay_a.pic"}, []string{"x/bay_a.sav", "x/bay_a.pic"}, nil},
		"elsewhere":      {[]string{"saves/bay_a.sav", "pictures/BAY_A.pic"}, []string{"saves/bay_a.sav", "pictures/BAY_A.pic"}, nil},
		"two, elsewhere": {[]string{"saves/bay_a.sav", "p/bay_a.pic", "q/bay_a.pic"}, []string{"saves/bay_a.sav"}, []string{"bay_a.pic"}},
		"none":           {[]string{"bay_a.sav"}, []string{"bay_a.sav"}, []string{"bay_a.pic"}},
	} {
		fsys := fstest.MapFS{}
		for _, f := range c.files {
			fsys[f] = &fstest.MapFile{Data: []byte("SAV\ntitle X")}
		}
		entries, err := tree.ListFS(fsys, ".")
		require.NoError(t, err)
		var found []Candidate
		for _, f := range Recognise(t.Context(), d, Begin(fsys, d), entries) {
			if strings.HasSuffix(f.Name, ".sav") {
				found = append(found, f)
			}
		}
		require.Len(t, found, 1, name)
		assert.Equal(t, c.want, found[0].Files, name)
		assert.Equal(t, c.missing, found[0].Missing(), name)
	}
}

func TestMissingFilesAreNamed(t *testing.T) {
	d, _ := install(t, map[string]string{})
	fsys := fstest.MapFS{"slot_01/head.json": {Data: []byte(head)}}
	entries, err := tree.ListFS(fsys, ".")
	require.NoError(t, err)
	found := Recognise(t.Context(), d, Begin(fsys, d), entries)
	require.Len(t, found, 1)
	assert.Equal(t, []string{"extra.bin"}, found[0].Missing())
	assert.Equal(t, "slot_01", found[0].Base("x"))
	assert.Equal(t, "x", Candidate{Name: "."}.Base("x"))
}

func TestInside(t *testing.T) {
	kinds := map[string]*game.Save{"folder": {Unit: game.UnitFolder}, "file": {Unit: game.UnitFile}, "set": {Unit: game.UnitSet}}
	for _, c := range []struct{ kind, name, file, want string }{
		{"folder", "slot_00", "slot_00/a/b", "a/b"}, {"folder", ".", "a/b", "a/b"}, {"file", "w.db", "w.db", "."}, {"file", "w.db", "w.db-wal", "-wal"},
		{"file", "x/w.db", "x/w.db", "."}, {"set", "#1.map", "#1.meta", ".meta"},
	} {
		assert.Equal(t, c.want, Inside(kinds[c.kind], c.name, c.file), c)
	}
}

func TestAFolderThatIsNotThereYetHasNoSaves(t *testing.T) {
	_, in := install(t, map[string]string{})
	saves, _, err := Scan(t.Context(), in, &tree.Hasher{Now: time.Now}, unseen{})
	require.NoError(t, err)
	assert.Empty(t, saves)
	_, err = fs.Stat(os.DirFS(in.Root), "saves")
	assert.ErrorIs(t, err, fs.ErrNotExist, "looking makes no folders")
}

func BenchmarkScan(b *testing.B) {
	files := map[string]string{}
	for i := range 10 {
		dir := "saves/slot_0" + string(rune('0'+i))
		files[dir+"/head.json"], files[dir+"/extra.bin"] = head, strings.Repeat("x", 10_000)
	}
	_, in := install(b, files)
	b.ReportAllocs()
	for b.Loop() {
		saves, _, err := Scan(b.Context(), in, &tree.Hasher{Now: time.Now}, unseen{})
		require.NoError(b, err)
		require.Len(b, saves, 10)
	}
}

// memory remembers digests and notes.
type memory struct {
	known map[string]tree.Known
	notes map[string][]byte
}

func (m memory) Lookup(path string) (tree.Known, bool) { k, ok := m.known[path]; return k, ok }
func (m memory) Store(path string, k tree.Known)       { m.known[path] = k }
func (m memory) Recall(place string, state tree.Digest, into any) bool {
	data, ok := m.notes[place+state.Hex()]
	return ok && json.Unmarshal(data, into) == nil
}
func (m memory) Note(place string, state tree.Digest, what any) {
	m.notes[place+state.Hex()], _ = json.Marshal(what)
}

// TestWhatWasSlowToReadIsKnownByItsContent puts a save away and back, as a swap does: it is another file, and is not read again.
func TestWhatWasSlowToReadIsKnownByItsContent(t *testing.T) {
	_, in := install(t, map[string]string{"saves/bay_b.sav": "SAV\ntitle Two", "saves/bay_b.pic": "p"})
	m := memory{map[string]tree.Known{}, map[string][]byte{}}
	now := time.Now()
	h := &tree.Hasher{Now: func() time.Time { now = now.Add(time.Hour); return now }, Index: m, Notes: m}
	look := func() *Save {
		saves, _, err := Scan(t.Context(), in, h, unseen{})
		require.NoError(t, err)
		require.Len(t, saves, 1)
		return saves[0]
	}
	s := look()
	require.NoError(t, s.TakeDigest(t.Context(), h))
	noted := 0
	for place, data := range m.notes {
		if strings.HasPrefix(place, "content ") {
			m.notes[place] = []byte(strings.ReplaceAll(string(data), "Two", "Noted"))
			noted++
		}
	}
	require.Equal(t, 1, noted)
	sums := m.known[s.Folder.Path+string(filepath.Separator)+"bay_b.sav"].Sums
	require.NoError(t, os.Remove(s.Folder.Path+"/bay_b.sav"))
	require.NoError(t, os.WriteFile(s.Folder.Path+"/bay_b.sav", []byte("SAV\ntitle Two"), 0o644))
	e, err := tree.Stat(s.Folder.Path, "bay_b.sav")
	require.NoError(t, err)
	h.Wrote(s.Folder.Path, e, sums)
	assert.Equal(t, "Noted", look().Title())
}

// opening counts how often each file is opened.
type opening struct {
	fstest.MapFS
	opened map[string]int
}

func (o opening) Open(name string) (fs.File, error) {
	o.opened[name]++
	return o.MapFS.Open(name)
}

// TestBeginningsAreReadOnce: a download may hold a hundred thousand files, and there may be many kinds of saves.
func TestBeginningsAreReadOnce(t *testing.T) {
	first, _ := install(t, map[string]string{})
	var games []*game.Description
	for range 5 {
		again := *first
		games = append(games, &again)
	}
	files := opening{fstest.MapFS{}, map[string]int{}}
	for name, text := range map[string]string{"a.txt": "text", "b.json": `{"title": "x"}`, "c.bin": "SAX\x00", "deep/d.sav": "text", "deep/down/e": "", "f.xml": "<a/>"} {
		files.MapFS[name] = &fstest.MapFile{Data: []byte(text)}
	}
	entries, err := tree.ListFS(files.MapFS, ".")
	require.NoError(t, err)
	beginnings := Begin(files, games...)
	for _, d := range games {
		assert.Empty(t, Recognise(t.Context(), d, beginnings, entries))
	}
	for name, n := range files.opened {
		assert.LessOrEqual(t, n, 2, "%s: once for its first bytes, and once for the words of all kinds", name)
	}
	assert.NotEmpty(t, files.opened)
}

// TestWordsOfKinds asks for words that one of several queries of a field names: which file may answer is told by them, and by nothing else.
func TestWordsOfKinds(t *testing.T) {
	d, _ := install(t, map[string]string{})
	slot := &d.Saves[0]
	b := Begin(fstest.MapFS{"a": {Data: []byte(`{"title": 1}`)}, "b": {Data: []byte(`{"name": 1}`)}, "c": {}}, d)
	assert.True(t, b.names(slot, "a"))
	assert.False(t, b.names(slot, "b"))
	assert.False(t, b.names(slot, "c"), "an empty one")
	assert.False(t, b.names(slot, "none"), "one that is not there")
}
