package durable

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func text(s string) func(io.Writer) error {
	return func(w io.Writer) error { _, err := io.WriteString(w, s); return err }
}

func names(t *testing.T, dir string) (all []string) {
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range list {
		all = append(all, e.Name())
	}
	return all
}

func TestAFileIsThereWholeOrAsItWas(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "list.json")
	require.NoError(t, Write(file, ".part-*", 0o640, text("first")))
	require.NoError(t, Write(file, ".part-*", 0o640, text("second")))
	got, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "second", string(got))
	if runtime.GOOS != "windows" {
		info, err := os.Stat(file)
		require.NoError(t, err)
		assert.Equal(t, fs.FileMode(0o640), info.Mode())
	}

	broken := errors.New("the lamp went out")
	err = Write(file, ".part-*", 0o640, func(w io.Writer) error {
		_, _ = io.WriteString(w, "half of the thi")
		return broken
	})
	assert.ErrorIs(t, err, broken)
	got, err = os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "second", string(got))
	assert.Equal(t, []string{"list.json"}, names(t, dir), "nothing is left behind")
}

func TestWhatCannotBePublishedIsRemoved(t *testing.T) {
	dir := t.TempDir()
	taken := filepath.Join(dir, "taken", "by a folder")
	require.NoError(t, os.MkdirAll(taken, 0o755))
	assert.Error(t, Write(filepath.Join(dir, "taken"), ".part-*", 0o644, text("x")))
	assert.Equal(t, []string{"taken"}, names(t, dir))

	missing := filepath.Join(dir, "missing")
	err := Write(filepath.Join(missing, "x"), ".part-*", 0o644, text("x"))
	assert.ErrorIs(t, err, fs.ErrNotExist)
	var where *fs.PathError
	require.ErrorAs(t, err, &where)
	assert.Equal(t, missing, where.Path, "it names the folder, not the temporary file")
	assert.ErrorIs(t, SyncDir(missing), skipOnWindows(fs.ErrNotExist))
}

// skipOnWindows is err, where folders are synced at all.
func skipOnWindows(err error) error {
	if runtime.GOOS == "windows" {
		return nil
	}
	return err
}

func TestABatchEndsWithAllOnTheDrive(t *testing.T) {
	dir := t.TempDir()
	var b Batch
	write := func(i int) {
		f, err := os.Create(filepath.Join(dir, fmt.Sprint(i)))
		if assert.NoError(t, err) {
			assert.NoError(t, b.Wrote(f))
			assert.NoError(t, f.Close())
		}
	}
	for i := range few {
		write(i)
	}
	assert.False(t, b.later.Load(), "few files are synced one by one")
	assert.NoError(t, b.End(filepath.Join(dir, "missing")), "so that there is nothing left to do")
	var wait sync.WaitGroup
	for i := range 4 {
		wait.Go(func() {
			for j := range 10 {
				write(100 + 10*i + j)
			}
		})
	}
	wait.Wait()
	assert.Equal(t, canSyncVolume, b.later.Load())
	assert.NoError(t, b.End(dir))
	if canSyncVolume {
		assert.ErrorIs(t, b.End(filepath.Join(dir, "missing")), fs.ErrNotExist)
	}
	f, err := os.Create(filepath.Join(dir, "closed"))
	require.NoError(t, err)
	require.NoError(t, f.Close())
	var fresh Batch
	assert.ErrorIs(t, fresh.Wrote(f), fs.ErrClosed, "what cannot be synced is told")
}
