package tree

import (
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// memory is an Index for tests.
type memory map[string]Known

func (m memory) Lookup(path string) (Known, bool) { k, ok := m[path]; return k, ok }
func (m memory) Store(path string, k Known)       { m[path] = k }

func write(t testing.TB, path, text string, when time.Time) {
	require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	require.NoError(t, os.Chtimes(path, when, when))
}

func TestWalk(t *testing.T) {
	dir := t.TempDir()
	when := time.Now().Add(-time.Hour)
	for _, name := range []string{"b/2", "b/1", "a", "c/d/e"} {
		write(t, filepath.Join(dir, filepath.FromSlash(name)), name, when)
	}
	linked := os.Symlink("/etc", filepath.Join(dir, "l")) == nil
	var got []string
	require.NoError(t, Walk(t.Context(), dir, func(e Entry) error {
		got = append(got, string(e.Kind)+" "+e.Path)
		if e.Path == "c/d" {
			return fs.SkipDir
		}
		return nil
	}))
	want := []string{"file a", "dir b", "file b/1", "file b/2", "dir c", "dir c/d"}
	if linked {
		want = append(want, "link l")
	}
	assert.Equal(t, want, got, "folders before what is in them, sorted, links not followed")
	require.ErrorIs(t, Walk(t.Context(), filepath.Join(dir, "none"), nil), fs.ErrNotExist)
}

func TestNothingUnchangedIsReadAgain(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a")
	write(t, path, "text", time.Now().Add(-time.Hour))
	now := time.Now().Add(time.Minute)
	h := &Hasher{Index: memory{}, Now: func() time.Time { return now }}
	sum := func(sha bool) Sums {
		e, err := Stat(dir, "a")
		require.NoError(t, err)
		s, err := h.File(t.Context(), dir, e, sha)
		require.NoError(t, err)
		return s
	}
	first := sum(false)
	assert.Equal(t, first.Blake3, sum(false).Blake3)
	assert.EqualValues(t, 1, h.Opens.Load())
	assert.Equal(t, "982d9e3eb996f559e633f4d194def3761d909f5a3b647d1a851fead67c32c9d1", sum(true).SHA256)
	assert.EqualValues(t, 2, h.Opens.Load(), "a digest that was not taken yet needs a reading")
	sum(true)
	assert.EqualValues(t, 2, h.Opens.Load())

	write(t, path, "TEXT", time.Now().Add(-time.Hour)) // same size, and the modification time may be the same; the change time is not
	assert.NotEqual(t, first.Blake3, sum(false).Blake3)
	h.Reread = true
	sum(false)
	assert.EqualValues(t, 4, h.Opens.Load())
}

func TestTooYoungToBeTrusted(t *testing.T) {
	dir := t.TempDir()
	h := &Hasher{Index: memory{}, Now: time.Now}
	for name, when := range map[string]time.Time{"young": time.Now(), "future": time.Now().Add(24 * time.Hour)} {
		write(t, filepath.Join(dir, name), "text", when)
		e, err := Stat(dir, name)
		require.NoError(t, err)
		for range 2 {
			_, err = h.File(t.Context(), dir, e, false)
			require.NoError(t, err)
		}
	}
	assert.EqualValues(t, 4, h.Opens.Load())
}

func TestAFileThatChangesWhileItIsRead(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a")
	write(t, path, "text", time.Now())
	e, err := Stat(dir, "a")
	require.NoError(t, err)
	h := &Hasher{Index: memory{}, Now: time.Now}
	_, err = h.Read(t.Context(), dir, e, false, writer(func(p []byte) { write(t, path, "longer text", time.Now()) }))
	assert.ErrorIs(t, err, ErrBeingWritten)
	assert.Empty(t, h.Index)
}

type writer func([]byte)

func (w writer) Write(p []byte) (int, error) { w(p); return len(p), nil }

func TestDigests(t *testing.T) {
	a, b := Named{"a", Digest{1}}, Named{"b", Digest{2}}
	assert.Equal(t, ListDigest([]Named{a, b}), ListDigest([]Named{b, a}), "the order does not matter")
	assert.NotEqual(t, ListDigest([]Named{a}), ListDigest([]Named{{"a2", Digest{1}}}), "names do")
	text := Digest{0xab}.String()
	parsed, err := ParseDigest(text)
	require.NoError(t, err)
	assert.Equal(t, Digest{0xab}, parsed)
	for _, bad := range []string{"ab", "sha256:" + text[7:], text + "0", "blake3:zz"} {
		_, err := ParseDigest(bad)
		assert.Error(t, err, bad)
	}
	assert.Empty(t, Digest{}.String())
	sums, n, err := SumReader(t.Context(), bytes.NewReader([]byte("text")), false, &bytes.Buffer{})
	require.NoError(t, err)
	assert.EqualValues(t, 4, n)
	assert.Empty(t, sums.SHA256)
}

func TestListFS(t *testing.T) {
	fsys := fstest.MapFS{"s/a": {Data: []byte("12")}, "s/d/b": {Data: []byte("1")}, "other": {}}
	list, err := ListFS(fsys, "s")
	require.NoError(t, err)
	var got []string
	for _, e := range list {
		got = append(got, string(e.Kind)+" "+e.Path)
	}
	assert.Equal(t, []string{"file a", "dir d", "file d/b"}, got)
}

func BenchmarkHash(b *testing.B) {
	dir := b.TempDir()
	write(b, filepath.Join(dir, "a"), string(make([]byte, 16<<20)), time.Now())
	e, err := Stat(dir, "a")
	require.NoError(b, err)
	h := &Hasher{Now: time.Now}
	b.SetBytes(16 << 20)
	for b.Loop() {
		_, err := h.File(b.Context(), dir, e, false)
		require.NoError(b, err)
	}
}

func BenchmarkWalk(b *testing.B) {
	dir := b.TempDir()
	for i := range 2000 {
		write(b, filepath.Join(dir, string(rune('a'+i%20)), string(rune('a'+i/20%20)), string(rune('a'+i/400))), "x", time.Now())
	}
	b.ReportAllocs()
	for b.Loop() {
		require.NoError(b, Walk(b.Context(), dir, func(Entry) error { return nil }))
	}
}

// notebook is a Notes in memory.
type notebook map[string]string

func (n notebook) Recall(place string, state Digest, into any) bool {
	text, ok := n[place+state.Hex()]
	if ok {
		*into.(*string) = text
	}
	return ok
}

func (n notebook) Note(place string, state Digest, what any) { n[place+state.Hex()] = *what.(*string) }

func TestOnceReadsWhatHasChanged(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a")
	require.NoError(t, os.WriteFile(path, []byte("x"), 0o644))
	now := time.Now().Add(time.Hour)
	h := &Hasher{Notes: notebook{}, Now: func() time.Time { return now }}
	reads := 0
	once := func(scope Digest, worth bool) string {
		e, err := Stat(dir, "a")
		require.NoError(t, err)
		var got string
		h.Once("place", scope, dir, slices.Values([]Entry{e}), &got, func() bool {
			reads++
			data, err := os.ReadFile(path)
			require.NoError(t, err)
			got = string(data)
			return worth
		})
		return got
	}
	assert.Equal(t, "x", once(Digest{1}, true))
	assert.Equal(t, "x", once(Digest{1}, true))
	assert.Equal(t, 1, reads, "what is remembered is not read")
	once(Digest{2}, true)
	assert.Equal(t, 2, reads, "for another scope it is")
	require.NoError(t, os.WriteFile(path, []byte("yy"), 0o644))
	assert.Equal(t, "yy", once(Digest{1}, true))
	assert.Equal(t, 3, reads)
	h.Reread = true
	once(Digest{1}, true)
	assert.Equal(t, 4, reads)
	h.Reread = false
	require.NoError(t, os.WriteFile(path, []byte("zzz"), 0o644))
	once(Digest{1}, false)
	once(Digest{1}, true)
	assert.Equal(t, 6, reads, "what is not worth remembering is not")
	now = time.Now()
	require.NoError(t, os.WriteFile(path, []byte("young"), 0o644))
	once(Digest{1}, true)
	once(Digest{1}, true)
	assert.Equal(t, 8, reads, "nor what is too young for its times to be trusted")
	h.Notes = nil
	assert.Equal(t, "young", once(Digest{1}, true))
}

// TestWhatIsNotedIsKnown notes something of a file: it is known as long as the file stays as it was noted of, and in no other scope.
func TestWhatIsNotedIsKnown(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a")
	require.NoError(t, os.WriteFile(path, []byte("x"), 0o644))
	now := time.Now().Add(time.Hour)
	h := &Hasher{Notes: notebook{}, Now: func() time.Time { return now }}
	known := func(scope Digest) (what string, ok bool) {
		e, err := Stat(dir, "a")
		require.NoError(t, err)
		ok = h.Known("place", scope, dir, slices.Values([]Entry{e}), &what)
		return what, ok
	}
	e, err := Stat(dir, "a")
	require.NoError(t, err)
	what := "seen"
	h.Note("place", Digest{1}, dir, slices.Values([]Entry{e}), &what)
	got, ok := known(Digest{1})
	assert.True(t, ok)
	assert.Equal(t, "seen", got)
	_, ok = known(Digest{2})
	assert.False(t, ok, "in another scope")
	h.Reread = true
	_, ok = known(Digest{1})
	assert.False(t, ok, "where all is read anew")
	h.Reread = false
	require.NoError(t, os.WriteFile(path, []byte("yy"), 0o644))
	_, ok = known(Digest{1})
	assert.False(t, ok, "the file is another one")
	h.Note("place", Digest{1}, dir, slices.Values([]Entry{e}), &what)
	_, ok = known(Digest{1})
	assert.False(t, ok, "what is noted of a file as it was is not known of it as it is")
	now = time.Now()
	young, err := Stat(dir, "a")
	require.NoError(t, err)
	h.Note("place", Digest{1}, dir, slices.Values([]Entry{young}), &what)
	now = now.Add(time.Hour)
	_, ok = known(Digest{1})
	assert.False(t, ok, "its times could not be trusted yet")
	h.Notes = nil
	h.Note("place", Digest{1}, dir, slices.Values([]Entry{e}), &what)
	_, ok = known(Digest{1})
	assert.False(t, ok)
}

// TestWalkSeesWhatLookSees holds the walk, which asks the system in its own way, against Look.
func TestWalkSeesWhatLookSees(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "a", "b"), 0o750))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a", "file"), []byte("text"), 0o640))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "a", "b", "program"), nil, 0o755))
	if runtime.GOOS != "windows" {
		require.NoError(t, os.Symlink("../a/file", filepath.Join(dir, "link")))
	}
	n := 0
	require.NoError(t, Walk(t.Context(), dir, func(e Entry) error {
		n++
		want, err := Stat(dir, e.Path)
		require.NoError(t, err)
		assert.Equal(t, want, e)
		return nil
	}))
	assert.GreaterOrEqual(t, n, 4)
}

// TestWalkIsInOrderAndAListKeepsIt holds that paths come in the order of texts, also where a name goes on behind that of a folder, and
// that a List gives back what was added.
func TestWalkIsInOrderAndAListKeepsIt(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"a/b", "a/c/d", "a.txt", "a-b/x", "a-b.txt", "ab", "A/z", "b/c", "b c/d"} {
		path := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(name), 0o600))
	}
	var l List
	var walked []Entry
	require.NoError(t, Walk(t.Context(), dir, func(e Entry) error {
		walked = append(walked, e)
		l.Add(e)
		return nil
	}))
	assert.Len(t, walked, 15)
	assert.True(t, slices.IsSortedFunc(walked, func(a, b Entry) int { return strings.Compare(a.Path, b.Path) }))
	odd := []Entry{{Path: "x/y", Kind: Link, Target: "../z", ModTime: time.Unix(1, 2)}, {Path: "x", Kind: Special}, {Path: "", Kind: Dir, Mode: 0o755}, {Path: "x/y/z", Kind: File, Size: 1 << 40, FileID: 1 << 63}}
	for _, e := range odd {
		l.Add(e)
	}
	assert.Equal(t, append(walked, odd...), slices.Collect(l.All()))
	assert.Equal(t, len(walked)+len(odd), l.Len())
}
