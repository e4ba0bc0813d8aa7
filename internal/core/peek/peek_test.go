package peek

import (
	"database/sql"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// listing is what lies in a folder, by name, with size and time.
func listing(t *testing.T, dir string) map[string]string {
	list, err := os.ReadDir(dir)
	require.NoError(t, err)
	all := map[string]string{}
	for _, e := range list {
		info, err := e.Info()
		require.NoError(t, err)
		all[e.Name()] = info.ModTime().String() + info.Mode().String()
	}
	return all
}

func count(t *testing.T, db *DB) int {
	var n int
	require.NoError(t, db.QueryRow("SELECT count(*) FROM t").Scan(&n))
	return n
}

// TestReadingLeavesNoTrace reads a database at rest, and one that another program is writing.
func TestReadingLeavesNoTrace(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "a ?#%.sqlite")
	_, err := Open(file)
	assert.ErrorIs(t, err, fs.ErrNotExist)

	writer, err := sql.Open("sqlite", filepath.Join(dir, "first.sqlite"))
	require.NoError(t, err)
	defer writer.Close()
	_, err = writer.Exec("PRAGMA journal_mode=WAL; CREATE TABLE t (x); INSERT INTO t VALUES (1)")
	require.NoError(t, err)
	first := filepath.Join(dir, "first.sqlite")
	before := listing(t, dir)
	require.Contains(t, before, "first.sqlite-wal", "it is being written")
	db, err := Open(first)
	require.NoError(t, err)
	assert.Equal(t, 1, count(t, db), "what is in the log counts")
	_, err = os.Stat(db.temp)
	require.NoError(t, err)
	temp := db.temp
	require.NoError(t, db.Close())
	assert.NoDirExists(t, temp)
	assert.Equal(t, before, listing(t, dir))

	require.NoError(t, writer.Close())
	require.NoError(t, os.Rename(first, file))
	before = listing(t, dir)
	db, err = Open(file)
	require.NoError(t, err)
	assert.Equal(t, 1, count(t, db))
	_, err = db.Exec("INSERT INTO t VALUES (2)")
	assert.Error(t, err, "it is open to be read")
	require.NoError(t, db.Close())
	assert.Equal(t, before, listing(t, dir))
}

func TestADamagedDatabaseIsAnError(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x.sqlite")
	require.NoError(t, os.WriteFile(file, []byte("not a database, however long this text may be, as long as it is more than a head"), 0o600))
	db, err := Open(file)
	if err == nil {
		_, err = db.Exec("SELECT * FROM t")
		require.NoError(t, db.Close())
	}
	assert.Error(t, err)
}
