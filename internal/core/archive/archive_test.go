package archive

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/tree"
)

var evening = time.Date(2026, 3, 1, 21, 14, 2, 0, time.UTC)

// memory is an Index for tests.
type memory struct{ files sync.Map }

func (m *memory) Lookup(path string) (tree.Known, bool) {
	k, ok := m.files.Load(path)
	if !ok {
		return tree.Known{}, false
	}
	return k.(tree.Known), true
}

func (m *memory) Store(path string, k tree.Known) { m.files.Store(path, k) }

// fixture is a folder of saves and an archive.
type fixture struct {
	t      testing.TB
	saves  string
	a      *Archive
	hasher *tree.Hasher
	now    time.Time
}

func newFixture(t testing.TB) *fixture {
	f := &fixture{t: t, saves: t.TempDir(), now: time.Now().Add(time.Hour)} // later than all files, so that these count as settled
	f.hasher = &tree.Hasher{Index: &memory{}, Now: func() time.Time { return f.now }}
	var err error
	f.a, err = Create(filepath.Join(t.TempDir(), "archive"), nil)
	require.NoError(t, err)
	t.Cleanup(func() { f.a.Close() })
	return f
}

func (f *fixture) write(name string, data []byte) {
	path := filepath.Join(f.saves, filepath.FromSlash(name))
	require.NoError(f.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(f.t, os.WriteFile(path, data, 0o640))
	require.NoError(f.t, os.Chtimes(path, evening, evening))
}

// keep takes a snapshot of all saves.
func (f *fixture) keep(before *Snapshot) (*Snapshot, *Keeping) {
	k, err := f.a.Keep(f.t.Context(), f.hasher, before, f.now, func(int64) {})
	require.NoError(f.t, err)
	defer k.Abandon()
	var entries []tree.Entry
	require.NoError(f.t, tree.Walk(f.t.Context(), f.saves, func(e tree.Entry) error { entries = append(entries, e); return nil }))
	root, nodes, err := k.Root(f.t.Context(), Root{Folder: "saves", Kind: Saves}, []Group{{Dir: f.saves, Entries: entries}}, true)
	require.NoError(f.t, err)
	f.now = f.now.Add(time.Minute)
	s := &Snapshot{Playthrough: "gannet-rock", Game: "tidewrack", Taken: f.now.UTC(), Roots: []Root{root}}
	for _, n := range nodes {
		if n.Kind == tree.File {
			s.Saves = append(s.Saves, KeptSave{Folder: "saves", Name: n.Path, Title: "T " + n.Path, Files: []KeptFile{{n.Path, n.SHA256}}})
		}
	}
	require.NoError(f.t, k.Commit(s, 0))
	return s, k
}

// read brings all files of a snapshot back into memory.
func (f *fixture) read(s *Snapshot) (map[string]string, error) {
	files := map[string]string{}
	err := f.a.Nodes(f.t.Context(), s.Roots[0], func(n Node) error {
		if n.Kind != tree.File {
			return nil
		}
		var b bytes.Buffer
		if err := f.a.Copy(f.t.Context(), n, &b); err != nil {
			return err
		}
		files[n.Path] = b.String()
		return nil
	})
	return files, err
}

func noise(n int, seed uint64) []byte {
	r := rand.New(rand.NewPCG(seed, 1))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

func TestWhatIsKeptComesBack(t *testing.T) {
	f := newFixture(t)
	want := map[string]string{"a.sav": "text", "empty": "", "dir/b.bin": string(noise(10_000, 1)), "big": string(noise(11<<20, 2)), "zeros": strings.Repeat("\x00", 9<<20)}
	for name, data := range want {
		f.write(name, []byte(data))
	}
	s, k := f.keep(nil)
	got, err := f.read(s)
	require.NoError(t, err)
	assert.True(t, fmt.Sprint(len(want)) == fmt.Sprint(len(got)))
	for name, data := range want {
		assert.True(t, data == got[name], name)
	}
	assert.Less(t, k.Stored(), int64(12<<20), "zeros take next to nothing")
	report, err := f.a.Verify(t.Context(), func(int64) {})
	require.NoError(t, err)
	assert.Empty(t, report.Damage)
	assert.Equal(t, 1, report.Snapshots)
	left, _ := filepath.Glob(filepath.Join(f.a.Dir, "*", ".part-*"))
	assert.Empty(t, left)
}

func TestWhatIsTheSameIsStoredOnce(t *testing.T) {
	f := newFixture(t)
	big := noise(12<<20, 3)
	f.write("world", big)
	f.write("a", []byte("small"))
	f.write("copy-of-a", []byte("small"))
	first, _ := f.keep(nil)
	opens := f.hasher.Opens.Load()
	second, k := f.keep(first)
	assert.Zero(t, k.Stored(), "a snapshot that changes nothing costs one small JSON file")
	assert.Zero(t, k.Copied())
	assert.Equal(t, opens, f.hasher.Opens.Load(), "no file is opened again")
	assert.Equal(t, first.Roots, second.Roots)

	changed := append(bytes.Clone(big[:6<<20]), append([]byte("inserted"), big[6<<20:]...)...)
	f.write("world", changed)
	third, k := f.keep(second)
	assert.Less(t, k.Stored(), int64(6<<20), "an insertion moves only the parts around it")
	got, err := f.read(third)
	require.NoError(t, err)
	assert.True(t, string(changed) == got["world"])

	all, broken, err := f.a.Snapshots("gannet-rock")
	require.NoError(t, err)
	assert.Empty(t, broken)
	assert.Equal(t, []int{1, 2, 3}, []int{all[0].Number, all[1].Number, all[2].Number})
}

func TestAFileThatIsBeingWrittenIsNotKept(t *testing.T) {
	f := newFixture(t)
	f.write("a", noise(1000, 1))
	file, err := os.OpenFile(filepath.Join(f.saves, "a"), os.O_WRONLY|os.O_APPEND, 0)
	require.NoError(t, err)
	defer file.Close()
	reads := 0
	f.hasher.Now = func() time.Time { // asked just before each reading: the game writes on meanwhile
		reads++
		_, err := file.Write([]byte("more"))
		assert.NoError(t, err)
		return f.now
	}
	k, err := f.a.Keep(t.Context(), f.hasher, nil, f.now, func(int64) {})
	require.NoError(t, err)
	defer k.Abandon()
	e, err := tree.Stat(f.saves, "a")
	require.NoError(t, err)
	_, _, err = k.Root(t.Context(), Root{Folder: "saves"}, []Group{{Dir: f.saves, Entries: []tree.Entry{e}}}, true)
	assert.ErrorIs(t, err, tree.ErrBeingWritten)
	assert.Equal(t, tries, reads)
}

func TestEveryDamageIsFoundAndNamed(t *testing.T) {
	f := newFixture(t)
	f.write("slot_00/voyage", noise(3000, 1))
	f.write("slot_01/voyage", []byte(strings.Repeat("compressible ", 400)))
	s, _ := f.keep(nil)
	path := filepath.Join(f.a.Dir, "content", s.Content[0])
	snapshot := filepath.Join("playthroughs", "gannet-rock", s.ID+".json")
	require.NoError(t, f.a.writeMarks(map[string]time.Time{"2026-03-01T211402Z-abcdef.zip": f.now}))
	for file, every := range map[string]int{filepath.Join("content", s.Content[0]): 1, snapshot: 1, "archive.json": 1, marks: 1, "README.txt": 41} {
		file = filepath.Join(f.a.Dir, file)
		good, err := os.ReadFile(file)
		require.NoError(t, err)
		bad, err := os.OpenFile(file, os.O_RDWR, 0)
		require.NoError(t, err)
		for i := 0; i < len(good); i += every {
			if i > 0 {
				_, err := bad.WriteAt(good[i-every:i], int64(i-every))
				require.NoError(t, err)
			}
			_, err := bad.WriteAt([]byte{good[i] ^ 1<<(i%8)}, int64(i))
			require.NoError(t, err)
			a, err := Open(f.a.Dir, nil)
			if err != nil { // of archive.json
				continue
			}
			report, err := a.Verify(t.Context(), func(int64) {})
			if a.Close(); err != nil {
				continue
			}
			require.NotEmpty(t, report.Damage, "bit %d of byte %d of %s", i%8, i, file)
			for _, touched := range report.Damage[0].Touches {
				assert.Contains(t, touched, "gannet-rock")
			}
		}
		require.NoError(t, bad.Close())
		require.NoError(t, os.WriteFile(file, good, 0o644))
	}
	require.NoError(t, os.Remove(path))
	a, err := Open(f.a.Dir, nil)
	require.NoError(t, err)
	report, err := a.Verify(t.Context(), func(int64) {})
	require.NoError(t, err)
	require.NotEmpty(t, report.Damage)
	assert.Contains(t, report.Damage[0].What, "missing from the archive")
}

func TestAnArchiveThatLies(t *testing.T) {
	ok := Node{Path: "a", Kind: tree.File, Mode: "644"}
	require.NoError(t, ok.check())
	for name, change := range map[string]func(*Node){
		"leads out":       func(n *Node) { n.Path = "../a" },
		"leads out below": func(n *Node) { n.Path = "a/../../b" },
		"absolute":        func(n *Node) { n.Path = "/etc/passwd" },
		"no name":         func(n *Node) { n.Path = "" },
		"device":          func(n *Node) { n.Kind = tree.Special },
		"size":            func(n *Node) { n.Size = 10 },
		"part":            func(n *Node) { n.Size, n.Chunks = 1<<40, []Chunk{{tree.Digest{1}, 0, 1 << 40}} },
		"negative":        func(n *Node) { n.Size, n.Chunks = -1, []Chunk{{tree.Digest{1}, 0, -1}} },
		"mode":            func(n *Node) { n.Mode = "4755" },
	} {
		n := ok
		change(&n)
		assert.ErrorIs(t, n.check(), ErrDamaged, name)
	}
	_, err := parseSnapshot([]byte(`{"ostrov_snapshot":1,"content":["../../evil.zip"]}`))
	assert.ErrorIs(t, err, ErrDamaged)
	_, err = parseSnapshot([]byte(`{"ostrov_snapshot":2}`))
	assert.ErrorIs(t, err, ErrNewer)
	for _, name := range []string{"..", "a/b", "", "Upper", "-x"} {
		assert.Error(t, CheckName(name), name)
	}
}

func TestAnEntryThatIsABombIsBounded(t *testing.T) {
	f := newFixture(t)
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	d := tree.Digest{1}
	e, err := w.Create(d.Hex())
	require.NoError(t, err)
	_, err = io.CopyN(e, zeros{}, 200<<20)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.NoError(t, os.WriteFile(filepath.Join(f.a.Dir, "content", "2026-03-01T211402Z-abcdef.zip"), b.Bytes(), 0o644))
	_, err = f.a.entry(d)
	assert.ErrorIs(t, err, ErrDamaged)
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { clear(p); return len(p), nil }

// TestRecoveryWithoutOstrov runs the Python script out of the archive's own README.txt.
func TestRecoveryWithoutOstrov(t *testing.T) {
	python, err := exec.LookPath("python3")
	if err != nil {
		t.Skip("needs the Debian package python3")
	}
	f := newFixture(t)
	want := map[string]string{"slot_00/a": "text", "slot_00/empty": "", "big": string(noise(9<<20, 5))}
	for name, data := range want {
		f.write(name, []byte(data))
	}
	s, _ := f.keep(nil)
	text, err := os.ReadFile(filepath.Join(f.a.Dir, "README.txt"))
	require.NoError(t, err)
	_, script, ok := strings.Cut(string(text), "---- recover.py ------------------------------------------------------------\n")
	require.True(t, ok)
	script, _, ok = strings.Cut(script, "---- end of recover.py")
	require.True(t, ok)
	require.NoError(t, os.WriteFile(filepath.Join(f.a.Dir, "recover.py"), []byte(script), 0o644))
	out := filepath.Join(t.TempDir(), "out")
	said, err := exec.Command(python, filepath.Join(f.a.Dir, "recover.py"), filepath.Join(f.a.Dir, "playthroughs", "gannet-rock", s.ID+".json"), out).CombinedOutput()
	require.NoError(t, err, string(said))
	for name, data := range want {
		got, err := os.ReadFile(filepath.Join(out, "saves-saves", filepath.FromSlash(name)))
		require.NoError(t, err)
		assert.True(t, data == string(got), name)
	}
}

// TestOtherProgramsReadTheContents holds the content files against two readers of zips.
func TestOtherProgramsReadTheContents(t *testing.T) {
	f := newFixture(t)
	f.write("a", []byte(strings.Repeat("text ", 1000)))
	f.write("b", noise(5<<20, 1))
	s, _ := f.keep(nil)
	for program, args := range map[string][]string{"unzip": {"-t", "-q"}, "7z": {"t"}} {
		path, err := exec.LookPath(program)
		if err != nil {
			t.Logf("%s is not here; it is in the Debian package %s", program, map[string]string{"unzip": "unzip", "7z": "p7zip-full"}[program])
			continue
		}
		for _, c := range s.Content {
			out, err := exec.Command(path, append(args, filepath.Join(f.a.Dir, "content", c))...).CombinedOutput()
			assert.NoError(t, err, string(out))
		}
	}
}

func TestTwoMachinesKeepIntoOneArchive(t *testing.T) {
	f := newFixture(t)
	f.write("a", noise(100_000, 1))
	other, err := Open(f.a.Dir, nil)
	require.NoError(t, err)
	g := &fixture{t: t, saves: f.saves, a: other, hasher: &tree.Hasher{Now: f.hasher.Now}, now: f.now}
	f.keep(nil)
	g.keep(nil)
	all, broken, err := f.a.Snapshots("gannet-rock")
	require.NoError(t, err)
	assert.Len(t, all, 2)
	assert.Empty(t, broken)
	report, err := f.a.Verify(t.Context(), func(int64) {})
	require.NoError(t, err)
	assert.Empty(t, report.Damage)
}

func TestCreateRefusesAFolderInUse(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "x"), nil, 0o644))
	_, err := Create(dir, nil)
	assert.ErrorContains(t, err, "neither an archive nor empty")
	_, err = Open(dir, nil)
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func FuzzListing(f *testing.F) {
	line, _ := json.Marshal(Node{Path: "a/b", Kind: tree.File, Size: 3, Mode: "644", Chunks: []Chunk{{tree.Digest{1}, 0, 3}}})
	f.Add([]byte(listingHead + "\n" + string(line) + "\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		_ = readListing(bytes.NewReader(data), func(n Node) error {
			assert.NoError(t, n.check())
			assert.True(t, filepath.IsLocal(filepath.FromSlash(n.Path)))
			return nil
		})
	})
}

func FuzzSnapshot(f *testing.F) {
	data, _ := json.Marshal(Snapshot{Format: 1, Content: []string{"2026-03-01T211402Z-abcdef.zip"}})
	f.Add(data)
	f.Fuzz(func(t *testing.T, data []byte) {
		if s, err := parseSnapshot(data); err == nil {
			for _, c := range s.Content {
				assert.True(t, filepath.IsLocal(c))
			}
		} else {
			assert.Nil(t, s)
		}
	})
}

func FuzzCut(f *testing.F) {
	f.Add(uint32(maxPart), uint32(0), []byte{0}, uint64(1))
	f.Add(uint32(meanPart+5), uint32(meanPart-minPart-9), []byte("lamp=7, rope=9\n"), uint64(2))
	f.Add(uint32(minPart), uint32(0), []byte{}, uint64(3))
	// Inputs are small, so that the fuzzer gets through many: what is cut is one text over and over with some noise in it. The first bytes
	// never count.
	f.Fuzz(func(t *testing.T, length, at uint32, text []byte, seed uint64) {
		data := make([]byte, length%(maxPart+1000)+1)
		if len(data) > minPart {
			tail := data[minPart:]
			for n := 0; len(text) > 0 && n < len(tail); {
				n += copy(tail[n:], text)
			}
			copy(tail[int(at)%len(tail):], noise(1<<16, seed))
		}
		n := cut(data)
		assert.True(t, n > 0 && n <= len(data) && n <= maxPart)
		assert.Equal(t, plainCut(data), n)
	})
}

// plainCut says byte by byte where docs/formats.md puts the border: archives that are there were split so.
func plainCut(data []byte) int {
	var h uint64
	for i := minPart; i < min(len(data), maxPart); i++ {
		h = h<<1 + gear[data[i]]
		bits := 22
		if i >= meanPart {
			bits = 18
		}
		if h>>40&(1<<bits-1) == 0 {
			return i + 1
		}
	}
	return min(len(data), maxPart)
}

func TestCutsWhereTheFormatSays(t *testing.T) {
	data := noise(24<<20, 3)
	short, long := 0, 0
	for at := 0; at < len(data); {
		n := cut(data[at:])
		require.Equal(t, plainCut(data[at:]), n)
		if n < meanPart {
			short++
		} else if n < maxPart {
			long++
		}
		at += n
	}
	assert.Positive(t, short, "borders before the mean")
	assert.Positive(t, long, "borders after the mean")
	same := make([]byte, maxPart+5)
	assert.Equal(t, plainCut(same), cut(same), "no border by content")
	for n := range 9 {
		assert.Equal(t, minPart+n, cut(same[:minPart+n]))
	}
}

func BenchmarkCut(b *testing.B) {
	data := noise(maxPart, 3)
	b.SetBytes(int64(cut(data) - minPart))
	for b.Loop() {
		cut(data)
	}
}

func BenchmarkKeep(b *testing.B) {
	for _, c := range []struct {
		name  string
		files int
		size  int
	}{{"1000 small files", 1000, 2000}, {"one of 64 MiB", 1, 64 << 20}} {
		b.Run("first, "+c.name, func(b *testing.B) {
			f := newFixture(b)
			for i := range c.files {
				f.write(fmt.Sprintf("d%d/f%d", i%10, i), noise(c.size, uint64(i)))
			}
			b.SetBytes(int64(c.files * c.size))
			for b.Loop() {
				b.StopTimer()
				f.hasher.Index = &memory{}
				a, err := Create(filepath.Join(b.TempDir(), "archive"), nil)
				require.NoError(b, err)
				f.a = a
				b.StartTimer()
				f.keep(nil)
			}
		})
		b.Run("unchanged, "+c.name, func(b *testing.B) {
			f := newFixture(b)
			for i := range c.files {
				f.write(fmt.Sprintf("d%d/f%d", i%10, i), noise(c.size, uint64(i)))
			}
			first, _ := f.keep(nil)
			opens := f.hasher.Opens.Load()
			for b.Loop() {
				f.keep(first)
			}
			b.ReportMetric(float64(f.hasher.Opens.Load()-opens), "opens")
		})
	}
}

func BenchmarkVerify(b *testing.B) {
	f := newFixture(b)
	f.write("a", noise(64<<20, 1))
	f.keep(nil)
	b.SetBytes(64 << 20)
	for b.Loop() {
		_, err := f.a.Verify(context.Background(), func(int64) {})
		require.NoError(b, err)
	}
}

// TestScatteredPagesCostLittle changes one page in a hundred of a large database, as playing on does.
func TestScatteredPagesCostLittle(t *testing.T) {
	f := newFixture(t)
	const pages = 5000
	world := noise(pages*page, 5)
	f.write("world", world)
	before, _ := f.keep(nil)
	r := rand.New(rand.NewPCG(1, 1))
	for range 3 {
		for range pages / 100 {
			copy(world[r.IntN(pages)*page:], noise(page, r.Uint64()))
		}
		world = append(world, noise(3*page/2, r.Uint64())...) // and it grows
		f.write("world", world)
		s, k := f.keep(before)
		assert.Less(t, k.Stored(), int64(len(world)*3/100))
		got, err := f.read(s)
		require.NoError(t, err)
		assert.True(t, string(world) == got["world"])
		before = s
	}
	moved := append(noise(100, 9), world...)
	f.write("world", moved)
	s, _ := f.keep(before)
	got, err := f.read(s)
	require.NoError(t, err)
	assert.True(t, string(moved) == got["world"], "an insertion at the beginning")
	f.write("world", moved[:len(moved)/2])
	s, k := f.keep(s)
	assert.Less(t, k.Stored(), int64(5<<20), "half of what was there")
	got, err = f.read(s)
	require.NoError(t, err)
	assert.True(t, string(moved[:len(moved)/2]) == got["world"])
	report, err := f.a.Verify(t.Context(), func(int64) {})
	require.NoError(t, err)
	assert.Empty(t, report.Damage)
}

// TestWholeRootsAreTakenOver keeps a root of many files again and again.
func TestWholeRootsAreTakenOver(t *testing.T) {
	f := newFixture(t)
	notes := notebook{}
	f.hasher.Notes = notes
	for i := range 300 {
		f.write(fmt.Sprintf("mod%d/f%d", i%7, i), noise(500, uint64(i)))
	}
	keep := func(before *Snapshot) (*Snapshot, []Node, *Keeping) {
		k, err := f.a.Keep(t.Context(), f.hasher, before, f.now, func(int64) {})
		require.NoError(t, err)
		defer k.Abandon()
		var entries []tree.Entry
		require.NoError(t, tree.Walk(t.Context(), f.saves, func(e tree.Entry) error { entries = append(entries, e); return nil }))
		var nodes []Node
		root, err := k.WholeRoot(t.Context(), "mods", before, Root{Folder: "mods", Kind: Mods}, f.saves, slices.Values(entries), func(n Node) { nodes = append(nodes, n) })
		require.NoError(t, err)
		f.now = f.now.Add(time.Minute)
		s := &Snapshot{Playthrough: "gannet-rock", Game: "tidewrack", Taken: f.now.UTC(), Roots: []Root{root}}
		require.NoError(t, k.Commit(s, 0))
		return s, nodes, k
	}
	first, nodes, _ := keep(nil)
	assert.NotEmpty(t, nodes)
	opens := f.hasher.Opens.Load()
	second, nodes, k := keep(first)
	assert.Nil(t, nodes, "nothing was looked at one by one")
	assert.Zero(t, k.Stored())
	assert.Equal(t, opens, f.hasher.Opens.Load())
	assert.Equal(t, first.Content, second.Content)
	f.write("mod3/f3", []byte("edited"))
	third, nodes, _ := keep(second)
	assert.NotEmpty(t, nodes)
	assert.Equal(t, opens+1, f.hasher.Opens.Load(), "only what changed is read")
	got, err := f.read(third)
	require.NoError(t, err)
	assert.Equal(t, "edited", got["mod3/f3"])
	for _, c := range third.Content { // what was cleared cannot be taken over
		require.NoError(t, os.Remove(filepath.Join(f.a.Dir, "content", c)))
	}
	f.a.where = nil
	fourth, _, k := keep(third)
	assert.Positive(t, k.Stored())
	_, err = f.read(fourth)
	require.NoError(t, err)
}

// notebook is a tree.Notes in memory.
type notebook map[string][]byte

func (n notebook) Recall(place string, state tree.Digest, into any) bool {
	data, ok := n[place+state.Hex()]
	return ok && json.Unmarshal(data, into) == nil
}

func (n notebook) Note(place string, state tree.Digest, what any) {
	n[place+state.Hex()], _ = json.Marshal(what)
}

// TestClearingWaits marks content that nothing uses, and removes it only when no keep can be building on it.
func TestClearingWaits(t *testing.T) {
	f := newFixture(t)
	f.write("a", noise(5000, 1))
	first, _ := f.keep(nil)
	f.write("a", noise(5000, 2))
	second, _ := f.keep(first)
	content := func() int {
		list, err := filepath.Glob(filepath.Join(f.a.Dir, "content", "*.zip"))
		require.NoError(t, err)
		return len(list)
	}
	clearOld := func() *Clearing {
		c, err := f.a.PlanClear(Rule{Count: 1}, f.now)
		require.NoError(t, err)
		require.NoError(t, f.a.Clear(f.t.Context(), Rule{Count: 1}, c, f.now))
		return c
	}
	before := content()
	assert.Len(t, clearOld().Go, 1)
	assert.Equal(t, before, content(), "marked only")
	f.write("a", noise(5000, 1)) // the same as the one that went: it is stored anew, not built on what is marked
	third, k := f.keep(second)
	assert.Positive(t, k.Stored())
	f.now = f.now.Add(GracePeriod)
	assert.Positive(t, clearOld().Freed)
	assert.Less(t, content(), before+1)
	got, err := f.read(third)
	require.NoError(t, err)
	assert.Equal(t, string(noise(5000, 1)), got["a"])
	report, err := f.a.Verify(t.Context(), func(int64) {})
	require.NoError(t, err)
	assert.Empty(t, report.Damage)
}
