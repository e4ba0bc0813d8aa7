package checkout

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNames(t *testing.T) {
	for url, want := range map[string]string{
		"https://example.invalid/reed/moon-line.git": "moon-line", "https://example.invalid/reed/moon-line/": "moon-line", "git@example.invalid:moon-line.git": "moon-line",
		"file:///mods/moon-line": "moon-line", `file:///C:\mods\moon-line`: "moon-line", "https://example.invalid/moon.line": "moon.line",
	} {
		assert.Equal(t, want, Name(url), url)
		assert.True(t, IsURL(url), url)
	}
	for _, other := range []string{"moon-line", "./moon-line.git", `C:\mods\moon-line`, "/mods/moon-line", "night-tram+moon-line", ""} {
		assert.False(t, IsURL(other), other)
	}
}

// packed is an object as a pack holds it (Git, gitformat-pack): its kind, the length that it says, and what it is.
func packed(kind byte, length int, content []byte) []byte {
	b := []byte{kind<<4 | byte(length&15)}
	for length >>= 4; length > 0; length >>= 7 {
		b[len(b)-1] |= 0x80
		b = append(b, byte(length&0x7f))
	}
	if kind == 7 { // of another object, by its name
		b = append(b, make([]byte, 20)...)
	}
	var z bytes.Buffer
	w := zlib.NewWriter(&z)
	_, _ = w.Write(content)
	_ = w.Close()
	return append(b, z.Bytes()...)
}

// packOf is a pack that says that it has so many objects.
func packOf(count uint32, objects ...[]byte) []byte {
	b := binary.BigEndian.AppendUint32([]byte("PACK\x00\x00\x00\x02"), count)
	return append(append(b, bytes.Join(objects, nil)...), make([]byte, 20)...)
}

// difference makes so many bytes of so many others.
func difference(from, makes uint64) []byte {
	return append(binary.AppendUvarint(binary.AppendUvarint(nil, from), makes), 1, 'x')
}

const (
	commitKind, treeKind, blobKind, deltaKind = 1, 2, 3, 7
)

func TestAPackIsLookedThrough(t *testing.T) {
	row := []byte("a row of lamps\n")
	d := difference(15, 15)
	for about, c := range map[string]struct {
		pack    []byte
		refused string // "" for none
	}{
		"one file":                           {packOf(1, packed(blobKind, len(row), row)), ""},
		"a file and a difference":            {packOf(2, packed(blobKind, len(row), row), packed(deltaKind, len(d), d)), ""},
		"a file that is too large":           {packOf(1, packed(blobKind, maxHeld+1, row)), "a file of 100 MB"},
		"a folder that is too large":         {packOf(1, packed(treeKind, 1<<40, row)), "is too large"},
		"a message that is too large":        {packOf(1, packed(commitKind, maxHeld+1, row)), "is too large"},
		"a difference that is too large":     {packOf(1, packed(deltaKind, maxHeld+1, d)), "is too large"},
		"a difference that makes too much":   {packOf(1, packed(deltaKind, len(difference(15, 1<<33)), difference(15, 1<<33))), "a file of 8192 MB"},
		"a difference of too much":           {packOf(1, packed(deltaKind, len(difference(1<<33, 15)), difference(1<<33, 15))), "is too large"},
		"a difference beyond all numbers":    {packOf(1, packed(deltaKind, len(difference(1<<63, 15)), difference(1<<63, 15))), "without its lengths"},
		"a difference without its lengths":   {packOf(1, packed(deltaKind, 1, []byte{0x80})), "without its lengths"},
		"an empty difference":                {packOf(1, packed(deltaKind, 0, nil)), "without its lengths"},
		"more than is allowed, in two":       {packOf(2, packed(blobKind, len(row), row), packed(deltaKind, len(difference(15, 1<<20)), difference(15, 1<<20))), "more than 1 MB"},
		"more objects than there are":        {packOf(2, packed(blobKind, len(row), row))[:12], "EOF"},
		"more objects than are allowed":      {packOf(maxObjects+1, packed(blobKind, len(row), row)), "is too large: 1000001 objects"},
		"a file that is longer than it says": {packOf(1, packed(deltaKind, 1, d)), "exceeds"},
		"no pack":                            {[]byte("PICK\x00\x00\x00\x02\x00\x00\x00\x01"), "signature"},
		"nothing":                            {nil, "empty"},
	} {
		err := checkPack(bytes.NewReader(c.pack), 1<<20)
		if c.refused == "" {
			assert.NoError(t, err, about)
			continue
		}
		assert.ErrorContains(t, err, c.refused, about)
	}
}

// FuzzPack looks strangers' packs through in bounded memory.
func FuzzPack(f *testing.F) {
	row := []byte("a row of lamps\n")
	f.Add(packOf(1, packed(blobKind, len(row), row)))
	f.Add(packOf(2, packed(blobKind, len(row), row), packed(deltaKind, len(difference(15, 15)), difference(15, 15))))
	f.Add(packOf(1, packed(deltaKind, 1, []byte{0x80})))
	f.Fuzz(func(t *testing.T, data []byte) {
		if checkPack(bytes.NewReader(data), 1<<20) == nil {
			assert.True(t, bytes.HasPrefix(data, []byte("PACK")))
		}
	})
}

// repository is one of the real git, with files, and what else is done in it.
func repository(t *testing.T, files map[string]string) (url string, run func(stdin string, args ...string) string) {
	if _, err := exec.LookPath("git"); err != nil {
		t.Skip("needs the Debian package git")
	}
	dir := t.TempDir()
	run = func(stdin string, args ...string) string {
		cmd := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=Selene", "-c", "user.email=s@example.invalid"}, args...)...)
		cmd.Env, cmd.Stdin = append(os.Environ(), "HOME="+dir, "GIT_CONFIG_NOSYSTEM=1"), strings.NewReader(stdin)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "git %v: %s", args, out)
		return strings.TrimSpace(string(out))
	}
	run("", "init", "-q", "-b", "main")
	for name, content := range files {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(content), 0o644))
	}
	run("", "add", ".")
	run("", "commit", "-qm", "first")
	return "file://" + filepath.ToSlash(dir), run
}

// noise is a text that does not shrink.
func noise(n int, seed uint64) string {
	r := rand.New(rand.NewPCG(seed, 1))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return string(b)
}

// TestARepositoryComesWhole clones one with differences in it, and goes forward; the real git finds nothing changed.
func TestARepositoryComesWhole(t *testing.T) {
	text := noise(200_000, 1)
	url, run := repository(t, map[string]string{"mod.json": "{}", "art/sea.bin": text, "run.sh": "#!/bin/sh\n"})
	first := run("", "rev-parse", "HEAD")
	require.NoError(t, os.WriteFile(filepath.Join(strings.TrimPrefix(url, "file://"), "art", "sea.bin"), []byte(text+"one more row"), 0o644))
	run("", "commit", "-qam", "second")
	run("", "repack", "-adfq")
	for _, whole := range []bool{false, true} {
		dir := filepath.Join(t.TempDir(), "clone")
		info, err := Clone(t.Context(), url, dir, "", whole, io.Discard)
		require.NoError(t, err)
		assert.Equal(t, Info{URL: url, Commit: run("", "rev-parse", "HEAD"), Branch: "main"}, info)
		again, err := Read(dir)
		require.NoError(t, err)
		assert.Equal(t, info, again)
		data, err := os.ReadFile(filepath.Join(dir, "art", "sea.bin"))
		require.NoError(t, err)
		assert.Equal(t, text+"one more row", string(data))
		assert.Empty(t, run("", "-C", dir, "status", "--porcelain"))
		left, err := filepath.Glob(filepath.Join(dir, ".git", "objects", "sent-*"))
		require.NoError(t, err)
		assert.Empty(t, left)
	}
	_, same, err := Forward(t.Context(), url, filepath.Join(t.TempDir(), "clone"), "main", first, io.Discard)
	require.NoError(t, err)
	assert.False(t, same)
	_, _, err = Forward(t.Context(), url, filepath.Join(t.TempDir(), "clone"), "main", strings.Repeat("0", 40), io.Discard)
	assert.ErrorIs(t, err, ErrNotForward)
}

// TestWhatIsTooMuchIsNotUnpacked has repositories that are small and unpack to more than is allowed: none of their files is written.
func TestWhatIsTooMuchIsNotUnpacked(t *testing.T) {
	zeros, _ := repository(t, map[string]string{"a.bin": strings.Repeat("\x00", 3<<20), "b.txt": "b"})
	large, _ := repository(t, map[string]string{"a.bin": noise(3<<20, 2), "b.txt": "b"})
	often, run := repository(t, map[string]string{"a.txt": strings.Repeat("x", 1000)})
	tree := run("", "rev-parse", "HEAD^{tree}")
	for range 9 { // a thousand million files, in nine folders
		var b strings.Builder
		for i := range 10 {
			b.WriteString("040000 tree " + tree + "\td" + string(rune('0'+i)) + "\n")
		}
		tree = run(b.String(), "mktree")
	}
	run("", "update-ref", "refs/heads/main", run("", "commit-tree", tree, "-m", "deep"))
	tree = run("", "rev-parse", "HEAD:d0/d0/d0/d0/d0/d0/d0/d0/d0")
	for range maxDepth + 1 {
		tree = run("040000 tree "+tree+"\td\n", "mktree")
	}
	run("", "branch", "deep", run("", "commit-tree", tree, "-m", "deeper"))
	_, err := clone(t.Context(), often, filepath.Join(t.TempDir(), "clone"), "deep", false, io.Discard, MaxBytes)
	assert.ErrorIs(t, err, ErrTooLarge, "deeper than any")
	for url, most := range map[string]int64{zeros: 1 << 20, large: 1 << 20, often: MaxBytes, often + "/.git": 1 << 20} {
		dir := filepath.Join(t.TempDir(), "clone")
		_, err := clone(t.Context(), url, dir, "", false, io.Discard, most)
		assert.ErrorIs(t, err, ErrTooLarge, url)
		list, err := os.ReadDir(dir)
		require.NoError(t, err)
		for _, e := range list {
			assert.Equal(t, ".git", e.Name(), "nothing is unpacked")
		}
	}
}

// TestAPartOfACheckoutIsBroken takes away what a commit consists of.
func TestAPartOfACheckoutIsBroken(t *testing.T) {
	url, run := repository(t, map[string]string{"mod.json": "{}", "art/sea.bin": "sea"})
	dir := strings.TrimPrefix(url, "file://")
	_, err := Read(dir)
	require.NoError(t, err)
	assert.Empty(t, Own(dir))
	run("", "branch", "mine")
	assert.Equal(t, "branches of your own", Own(dir))
	object := run("", "rev-parse", "HEAD:art/sea.bin")
	require.NoError(t, os.Remove(filepath.Join(dir, ".git", "objects", object[:2], object[2:])))
	_, err = Read(dir)
	assert.ErrorIs(t, err, ErrBroken)
	_, err = Read(t.TempDir())
	assert.ErrorIs(t, err, ErrBroken)
}
