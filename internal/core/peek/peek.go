// Package peek opens a SQLite database of Ostrov's own to be read, and leaves no trace of it: neither the database nor its folder is
// written to.
//
// It is for what must touch nothing. Another Ostrov may be writing the same database at that moment: then a copy is read, in the system's
// folder for temporary files, which is gone after Close. The package never reads databases of others; see package form for these.
package peek

import (
	"database/sql"
	"errors"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"

	_ "modernc.org/sqlite" // the driver "sqlite"
)

// DB is a database that is open to be read.
type DB struct {
	*sql.DB
	temp string
}

// Open opens the database in a file. The error is fs.ErrNotExist where it is not there.
func Open(path string) (*DB, error) {
	if _, err := os.Stat(path); err != nil {
		return nil, err
	}
	db := &DB{}
	how := "?mode=ro&immutable=1" // SQLite makes files beside a database that it only reads, unless it is told that nobody writes
	if info, err := os.Stat(path + "-wal"); err == nil && info.Size() > 0 {
		if db.temp, err = os.MkdirTemp("", "ostrov-"); err != nil {
			return nil, err
		}
		for _, end := range []string{"", "-wal"} {
			data, err := os.ReadFile(path + end)
			if err == nil {
				err = os.WriteFile(filepath.Join(db.temp, "copy"+end), data, 0o600)
			}
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return nil, errors.Join(err, os.RemoveAll(db.temp))
			}
		}
		path, how = filepath.Join(db.temp, "copy"), ""
	}
	var err error
	if db.DB, err = sql.Open("sqlite", "file:"+(&url.URL{Path: filepath.ToSlash(path)}).EscapedPath()+how); err == nil {
		err = db.Ping()
	}
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return db, nil
}

// Close closes the database.
func (db *DB) Close() error {
	var err error
	if db.DB != nil {
		err = db.DB.Close()
	}
	if db.temp != "" {
		err = errors.Join(err, os.RemoveAll(db.temp))
	}
	return err
}
