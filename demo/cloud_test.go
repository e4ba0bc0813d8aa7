package demo

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestTheCloudPutsItsOwnBack(t *testing.T) {
	dir := t.TempDir()
	c := Cloud{Folder: filepath.Join(dir, "saves"), Copy: filepath.Join(dir, "cloud")}
	save := filepath.Join(c.Folder, "slot", "voyage")
	require.NoError(t, os.MkdirAll(filepath.Dir(save), 0o755))
	require.NoError(t, os.WriteFile(save, []byte("first evening"), 0o644))
	old := time.Date(2026, 2, 1, 20, 0, 0, 0, time.UTC)
	require.NoError(t, os.Chtimes(save, old, old))
	require.NoError(t, c.Up())
	require.NoError(t, os.WriteFile(save, []byte("second evening"), 0o644))
	mine := filepath.Join(c.Folder, "slot", "mine")
	require.NoError(t, os.WriteFile(mine, nil, 0o644))
	require.NoError(t, c.Down())
	data, err := os.ReadFile(save)
	require.NoError(t, err)
	assert.Equal(t, "first evening", string(data))
	info, err := os.Stat(save)
	require.NoError(t, err)
	assert.True(t, info.ModTime().Equal(old), "with its old time, as clouds do")
	assert.FileExists(t, mine, "what it does not know stays")
	require.Error(t, Cloud{Folder: c.Folder, Copy: filepath.Join(dir, "none")}.Down())
}
