// Package logbook remembers what Ostrov has seen: for each state of each save, which game version and mods it belongs to and how we know;
// where each save stood at the last look; and which playthrough it belongs to.
//
// Nothing in it is silently rewritten: evidence is only ever added. It keys on the content of a save, so a save that was copied, renamed or
// restored keeps its history. It is one SQLite database, whose schema is in docs/formats.md.
package logbook

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"time"

	_ "modernc.org/sqlite" // the driver "sqlite"

	"ostrov/internal/core/peek"
	"ostrov/internal/core/tree"
)

// Format is the number of the schema, the database's user_version.
const Format = 6

// ErrNewer says that a logbook was written by a newer Ostrov.
var ErrNewer = errors.New("was written by a newer Ostrov")

// steps are what makes a logbook of each format out of one of the format before.
var steps = [Format]string{`
CREATE TABLE states (digest TEXT PRIMARY KEY, game TEXT NOT NULL, kind TEXT NOT NULL, title TEXT NOT NULL, size INTEGER NOT NULL, first_seen TEXT NOT NULL, foreign_only INTEGER NOT NULL);
CREATE TABLE evidence (id INTEGER PRIMARY KEY, digest TEXT NOT NULL, kind TEXT NOT NULL, at TEXT NOT NULL, version TEXT NOT NULL, mods TEXT, clean INTEGER NOT NULL, note TEXT NOT NULL, parent TEXT NOT NULL);
CREATE INDEX evidence_digest ON evidence (digest);
CREATE TABLE places (install TEXT NOT NULL, folder TEXT NOT NULL, name TEXT NOT NULL, digest TEXT NOT NULL, title TEXT NOT NULL, slot TEXT NOT NULL, size INTEGER NOT NULL, modified TEXT NOT NULL, seen TEXT NOT NULL, gone INTEGER NOT NULL, PRIMARY KEY (install, folder, name));
CREATE TABLE playthroughs (name TEXT PRIMARY KEY, title TEXT NOT NULL, game TEXT NOT NULL, install TEXT NOT NULL, started TEXT NOT NULL, active INTEGER NOT NULL, closed INTEGER NOT NULL);
CREATE TABLE belongs (install TEXT NOT NULL, folder TEXT NOT NULL, name TEXT NOT NULL, playthrough TEXT NOT NULL, PRIMARY KEY (install, folder, name));
`, `
CREATE TABLE identifiers (game TEXT NOT NULL, mod TEXT NOT NULL, exact TEXT NOT NULL, prefixes TEXT NOT NULL, PRIMARY KEY (game, mod));
`, `
ALTER TABLE playthroughs ADD COLUMN note TEXT NOT NULL DEFAULT '';
ALTER TABLE playthroughs ADD COLUMN keeps TEXT NOT NULL DEFAULT '';
`, `
CREATE TABLE mods (game TEXT NOT NULL, id TEXT NOT NULL, version TEXT NOT NULL, digest TEXT NOT NULL, seen TEXT NOT NULL, PRIMARY KEY (game, id, version));
`, `
CREATE TABLE standing (folder TEXT NOT NULL, name TEXT NOT NULL, digest TEXT NOT NULL, title TEXT NOT NULL, slot TEXT NOT NULL, size INTEGER NOT NULL, modified TEXT NOT NULL, seen TEXT NOT NULL, gone INTEGER NOT NULL, version TEXT NOT NULL, mods TEXT NOT NULL, label TEXT NOT NULL, PRIMARY KEY (folder, name));
INSERT INTO standing SELECT install || ' ' || folder, name, digest, title, slot, size, modified, seen, gone, '', '', '' FROM places;
DROP TABLE places;
ALTER TABLE standing RENAME TO places;
CREATE TABLE owners (folder TEXT NOT NULL, name TEXT NOT NULL, playthrough TEXT NOT NULL, PRIMARY KEY (folder, name));
INSERT INTO owners SELECT install || ' ' || folder, name, playthrough FROM belongs;
DROP TABLE belongs;
ALTER TABLE owners RENAME TO belongs;
CREATE TABLE folders (install TEXT NOT NULL, folder TEXT NOT NULL, path TEXT NOT NULL, template TEXT NOT NULL, since TEXT NOT NULL, seen TEXT NOT NULL, PRIMARY KEY (install, folder, path));
ALTER TABLE playthroughs ADD COLUMN at TEXT NOT NULL DEFAULT '';
ALTER TABLE evidence ADD COLUMN across TEXT NOT NULL DEFAULT '';
`, `
ALTER TABLE evidence ADD COLUMN reading TEXT NOT NULL DEFAULT '';
ALTER TABLE identifiers ADD COLUMN suffixes TEXT NOT NULL DEFAULT '[]';
`}

// Logbook is an open logbook.
type Logbook struct {
	db    *sql.DB
	close func() error
	// evidence is prepared when it is first needed: it is asked for once for each save.
	evidence *sql.Stmt
	// recent is what Needs has read of states. Add looks there for what is known already: that another Ostrov has added something since makes at
	// most the same evidence stand there twice.
	recent map[tree.Digest][]Evidence
}

// maxRecent bounds recent.
const maxRecent = 5000

// Open opens the logbook in the file path, creating it if need be. A logbook of a newer Ostrov is ErrNewer and left as it is.
func Open(path string) (*Logbook, error) {
	_, err := os.Stat(path)
	isNew := errors.Is(err, os.ErrNotExist)
	if !isNew { // tell early, as SQLite itself would only at the first write
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		if err != nil {
			return nil, err
		}
		f.Close()
	}
	return open("file:" + (&url.URL{Path: filepath.ToSlash(path)}).EscapedPath() + "?_pragma=busy_timeout(10000)&_pragma=journal_mode(wal)&_pragma=synchronous(full)")
}

// OpenToRead opens the logbook in the file path and writes nothing, neither now nor later: what would be written is an error. Where there
// is none, an empty one is opened.
func OpenToRead(path string) (*Logbook, error) {
	db, err := peek.Open(path)
	if errors.Is(err, os.ErrNotExist) {
		return OpenInMemory()
	}
	if err != nil {
		return nil, err
	}
	l := &Logbook{db: db.DB, close: db.Close}
	var is int
	if err = l.db.QueryRow("PRAGMA user_version").Scan(&is); err == nil && is > Format {
		err = fmt.Errorf("the logbook %w (format %d, this one reads %d)", ErrNewer, is, Format)
	}
	if err != nil {
		return nil, errors.Join(err, l.Close())
	}
	if is == Format {
		return l, nil
	}
	return upToDate(l)
}

// upToDate is a copy of an older logbook, in the system's folder for temporary files until it is closed, in the present format.
func upToDate(older *Logbook) (*Logbook, error) {
	dir, err := os.MkdirTemp("", "ostrov-")
	if err != nil {
		return nil, errors.Join(err, older.Close())
	}
	path := filepath.Join(dir, "logbook.sqlite")
	_, err = older.db.Exec("VACUUM INTO ?", path)
	if err = errors.Join(err, older.Close()); err != nil {
		return nil, errors.Join(err, os.RemoveAll(dir))
	}
	l, err := Open(path)
	if err != nil {
		return nil, errors.Join(err, os.RemoveAll(dir))
	}
	l.close = func() error { return errors.Join(l.db.Close(), os.RemoveAll(dir)) }
	return l, nil
}

// OpenInMemory opens an empty logbook that is forgotten at Close, for when the real one cannot be had.
func OpenInMemory() (*Logbook, error) { return open("file::memory:") }

func open(dsn string) (*Logbook, error) {
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	l := &Logbook{db: db, close: db.Close}
	if err := l.prepare(); err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return l, nil
}

func (l *Logbook) prepare() error {
	var is int
	if err := l.db.QueryRow("PRAGMA user_version").Scan(&is); err != nil {
		return err
	}
	if is > Format {
		return fmt.Errorf("the logbook %w (format %d, this one reads %d)", ErrNewer, is, Format)
	}
	if is == Format {
		return nil
	}
	tx, err := l.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := tx.QueryRow("PRAGMA user_version").Scan(&is); err != nil || is >= Format {
		return err // another Ostrov was faster
	}
	for _, step := range steps[is:] {
		if _, err := tx.Exec(step); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(fmt.Sprintf("PRAGMA user_version = %d", Format)); err != nil {
		return err
	}
	return tx.Commit()
}

// Close closes the logbook.
func (l *Logbook) Close() error { return l.close() }

// State is one state of one save.
type State struct {
	Digest  tree.Digest
	Game    string
	Kind    string
	Title   string
	Size    int64
	Foreign bool // only vetted, never part of an install
}

// See records that states exist. One that was foreign before and is now in an install is foreign no more.
func (l *Logbook) See(ctx context.Context, states []State, now time.Time) error {
	return l.inTx(ctx, func(tx *sql.Tx) error {
		insert, err := tx.PrepareContext(ctx, `INSERT INTO states VALUES (?, ?, ?, ?, ?, ?, ?)
			ON CONFLICT (digest) DO UPDATE SET foreign_only = min(foreign_only, excluded.foreign_only)
			WHERE foreign_only > excluded.foreign_only`)
		if err != nil {
			return err
		}
		defer insert.Close()
		for _, s := range states {
			if s.Digest.IsZero() {
				continue
			}
			if _, err := insert.ExecContext(ctx, s.Digest.String(), s.Game, s.Kind, s.Title, s.Size, stamp(now), s.Foreign); err != nil {
				return err
			}
		}
		return nil
	})
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339Nano) }
