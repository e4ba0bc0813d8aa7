package home

import (
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func open(t *testing.T, dir string, readOnly bool) *Home {
	t.Helper()
	h, err := Open(Options{Dir: dir, Now: time.Now, Log: slog.New(slog.DiscardHandler), ReadOnly: readOnly})
	require.NoError(t, err)
	t.Cleanup(func() { h.Close() })
	return h
}

// TestANumberIsGivenToOneOnly has many at once number snapshots of one playthrough.
func TestANumberIsGivenToOneOnly(t *testing.T) {
	h := open(t, t.TempDir(), false)
	given := map[int]bool{}
	var mu sync.Mutex
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			assert.NoError(t, h.Numbering("night-run", func(above int) (int, error) {
				mu.Lock()
				defer mu.Unlock()
				assert.False(t, given[above+1])
				given[above+1] = true
				return above + 1, nil
			}))
		})
	}
	all.Wait()
	assert.Len(t, given, 20)
	failed := errors.New("the drive is full")
	assert.ErrorIs(t, h.Numbering("night-run", func(int) (int, error) { return 99, failed }), failed)
	require.NoError(t, h.Numbering("night-run", func(above int) (int, error) {
		assert.Equal(t, 20, above, "a number that was not used is given again")
		return above + 1, nil
	}))
}

// TestWhatIsWrittenIsThereWholeOrNotAtAll writes files and folders for the player, and fails on the way.
func TestWhatIsWrittenIsThereWholeOrNotAtAll(t *testing.T) {
	h := open(t, t.TempDir(), false)
	out := t.TempDir()
	file := filepath.Join(out, "list.md")
	broken := errors.New("broken")
	_, err := h.WriteFile(file, false, func(w io.Writer) error { _, _ = io.WriteString(w, "half"); return broken })
	assert.ErrorIs(t, err, broken)
	size, err := h.WriteFile(file, false, func(w io.Writer) error { _, err := io.WriteString(w, "whole"); return err })
	require.NoError(t, err)
	assert.EqualValues(t, 5, size)
	_, err = h.WriteFile(file, false, func(io.Writer) error { return nil })
	assert.Error(t, err, "it is there")
	_, err = h.WriteFile(file, true, func(w io.Writer) error { _, err := io.WriteString(w, "again"); return err })
	require.NoError(t, err)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "again", string(data))
	_, err = h.WriteFile(filepath.Join(out, "none", "x"), false, func(io.Writer) error { return nil })
	assert.ErrorIs(t, err, fs.ErrNotExist)

	temp, done, err := h.TempFolder(out)
	require.NoError(t, err)
	assert.DirExists(t, temp)
	require.NoError(t, done())
	list, err := os.ReadDir(out)
	require.NoError(t, err)
	require.Len(t, list, 1, "nothing is left beside what was asked for")
	assert.Equal(t, "list.md", list[0].Name())
	left, err := os.ReadDir(filepath.Join(h.Dir, partsDir))
	require.True(t, err == nil || errors.Is(err, fs.ErrNotExist))
	assert.Empty(t, left)
}

// TestAReadOnlyHomeWritesNothing opens a home that there is, and one that there is not.
func TestAReadOnlyHomeWritesNothing(t *testing.T) {
	dir := t.TempDir()
	h := open(t, dir, false)
	require.NoError(t, h.Close())
	before := names(t, dir)
	h = open(t, dir, true)
	assert.Error(t, h.writeBytes("x.json", []byte("{}")))
	require.NoError(t, h.Close())
	assert.Equal(t, before, names(t, dir))

	none := filepath.Join(t.TempDir(), "none")
	h = open(t, none, true)
	require.NoError(t, h.Close())
	assert.NoDirExists(t, none)
}

func names(t *testing.T, dir string) (all []string) {
	require.NoError(t, filepath.WalkDir(dir, func(path string, _ fs.DirEntry, err error) error { all = append(all, path); return err }))
	return all
}

// TestFilesOfANewerOstrov are named, and hinder nothing that does without them.
func TestFilesOfANewerOstrov(t *testing.T) {
	for name, text := range map[string]string{
		"config.json": `{"ostrov_config": 99, "archives": ["/x"]}`, "installs.json": `{"ostrov_installs": 99}`, "config.json ": "not json", "installs.json ": "[",
	} {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, strings.TrimSpace(name)), []byte(text), 0o600))
		h, err := Open(Options{Dir: dir, Now: time.Now, Log: slog.New(slog.DiscardHandler)})
		require.NoError(t, err, name)
		assert.Error(t, h.RequireRecords(), name)
		assert.ErrorContains(t, h.Unrecorded, strings.TrimSpace(name))
		assert.NotEmpty(t, h.GameIDs(), "what is embedded is known")
		for _, id := range h.GameIDs() {
			require.NotNil(t, h.Game(id), id)
			assert.Equal(t, id, h.Game(id).ID, "it is called after the game")
		}
		assert.Nil(t, h.Game("pebble"))
		require.NoError(t, h.Close())
		data, err := os.ReadFile(filepath.Join(dir, strings.TrimSpace(name)))
		require.NoError(t, err)
		assert.Equal(t, text, string(data), "it stays as it is")
	}
}
