package tree

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"testing/fstest"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestOnlyFilesAreOpened(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "a file.txt")
	require.NoError(t, os.WriteFile(file, []byte("0123456789"), 0o644))
	data, err := ReadBounded(file, 10)
	require.NoError(t, err)
	assert.Equal(t, "0123456789", string(data))
	data, err = ReadBounded(file, 9)
	assert.ErrorIs(t, err, ErrLarge)
	assert.ErrorContains(t, err, "a file.txt", "it says which")
	assert.Empty(t, data, "a part is not the file")
	_, err = Open(dir)
	assert.ErrorIs(t, err, errNoFile)
	_, err = Open(filepath.Join(dir, "none"))
	assert.ErrorIs(t, err, fs.ErrNotExist)
	if null, err := os.Stat(os.DevNull); err == nil && null.Mode()&fs.ModeDevice != 0 {
		_, err := Open(os.DevNull)
		assert.ErrorIs(t, err, errNoFile)
	}
}

// TestDirFSIsAFileSystem holds it to what the standard library demands of one.
func TestDirFSIsAFileSystem(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"a.txt", "sub/b.txt", "sub/deep/c.txt"} {
		path := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(name), 0o644))
	}
	require.NoError(t, fstest.TestFS(DirFS(dir), "a.txt", "sub/b.txt", "sub/deep/c.txt"))
	for _, name := range []string{"../x", "/etc/passwd", "sub/../../x", ""} {
		_, err := DirFS(dir).Open(name)
		assert.ErrorIs(t, err, fs.ErrInvalid, name)
	}
}

func TestNamesThatAreNoTextAreSpelled(t *testing.T) {
	for _, name := range []string{"", "plain", "Ünïcode", "back\\slash", "line\nfeed", "not\xffutf8", "\xc3\x28", "\xff", "\x80\x81"} {
		spelled := Spell(name)
		assert.True(t, utf8.ValidString(spelled), "%q", name)
		assert.Equal(t, utf8.ValidString(name), spelled == name, "%q", name)
		back, err := Unspell(spelled)
		require.NoError(t, err)
		assert.Equal(t, name, back)
	}
	for _, wrong := range []string{"\x00", "\x00zz", "\x00f", "\x00" + "41"} {
		_, err := Unspell(wrong)
		assert.Error(t, err, "%q", wrong)
	}
}

func FuzzSpell(f *testing.F) {
	f.Add("a\xffb")
	f.Fuzz(func(t *testing.T, name string) {
		if len(name) > 0 && name[0] == 0 { // no name has a zero byte
			return
		}
		back, err := Unspell(Spell(name))
		assert.NoError(t, err)
		assert.Equal(t, name, back)
	})
}

// TestWhatCannotBeListedIsVisited stands in for a folder that may not be read, also for root: one that is gone but for its name.
func TestWhatCannotBeListedIsVisited(t *testing.T) {
	assert.True(t, unreadable(&fs.PathError{Op: "open", Path: "x", Err: fs.ErrPermission}))
	assert.True(t, unreadable(&fs.PathError{Op: "readdirent", Path: "x", Err: errors.New("input/output error")}))
	assert.False(t, unreadable(&fs.PathError{Op: "open", Path: "x", Err: fs.ErrNotExist}), "it is simply gone")
	assert.False(t, unreadable(errors.New("stopped")))
	assert.False(t, unreadable(nil))
}
