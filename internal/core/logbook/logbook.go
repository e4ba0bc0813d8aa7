// Package logbook remembers what Ostrov has seen: for each state of each save, which game version and mods it belongs to and how we know;
// where each save stood at the last look; and which playthrough it belongs to.
//
// Nothing in it is silently rewritten: evidence is only ever added. It keys on the content of a save, so a save that was copied, renamed or
// restored keeps its history. It is one SQLite database, whose schema is in docs/formats.md.
package logbook

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver "sqlite"

	"ostrov/internal/core/check"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/peek"
	"ostrov/internal/core/tree"
)

// Format is the number of the schema, the database's user_version.
const Format = 5

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

// Evidence is one thing known of what a state needs.
type Evidence struct {
	Kind    check.Evidence
	At      time.Time
	Version string // "" where it says nothing of the version
	// Mods is nil where it says nothing of mods.
	Mods  []modlist.Needed
	Clean bool // it needs a game without mods
	Note  string
	// Parent is the state that this one descends from.
	Parent tree.Digest
	// Across tells what changed between the two unseen, so that nothing of it is known from the parent.
	Across Across
}

// Placed is the note of evidence that a state came from a download. Nothing is inferred for it from what lies in the install.
const Placed = "placed"

// Across is what changed in an install between two states of a save, without anyone seeing under which the later one was written.
type Across struct{ Version, Mods bool }

func (a Across) text() string {
	var words []string
	if a.Version {
		words = append(words, "version")
	}
	if a.Mods {
		words = append(words, "mods")
	}
	return strings.Join(words, " ")
}

// Add records evidence for a state, unless the same stands there already.
func (l *Logbook) Add(ctx context.Context, digest tree.Digest, e Evidence) error {
	have, ok := l.recent[digest]
	if !ok {
		var err error
		if have, err = l.Evidence(ctx, digest); err != nil {
			return err
		}
	}
	mods, err := encodeMods(e.Mods)
	if err != nil {
		return err
	}
	for _, h := range have {
		old, err := encodeMods(h.Mods)
		if err != nil {
			return err
		}
		if h.Kind == e.Kind && h.Version == e.Version && old == mods && h.Clean == e.Clean && h.Note == e.Note && h.Parent == e.Parent && h.Across == e.Across {
			return nil
		}
	}
	_, err = l.db.ExecContext(ctx, "INSERT INTO evidence (digest, kind, at, version, mods, clean, note, parent, across) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)",
		digest.String(), e.Kind, stamp(e.At), e.Version, mods, e.Clean, e.Note, e.Parent.String(), e.Across.text())
	delete(l.recent, digest)
	return err
}

func encodeMods(mods []modlist.Needed) (sql.NullString, error) {
	if mods == nil {
		return sql.NullString{}, nil
	}
	data, err := json.Marshal(mods)
	return sql.NullString{String: string(data), Valid: true}, err
}

// Evidence returns all that is known of a state, oldest first.
func (l *Logbook) Evidence(ctx context.Context, digest tree.Digest) ([]Evidence, error) {
	if l.evidence == nil {
		stmt, err := l.db.PrepareContext(ctx, "SELECT kind, at, version, mods, clean, note, parent, across FROM evidence WHERE digest = ? ORDER BY id")
		if err != nil {
			return nil, err
		}
		l.evidence = stmt
	}
	rows, err := l.evidence.QueryContext(ctx, digest.String())
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []Evidence
	for rows.Next() {
		var e Evidence
		var at, parent, across string
		var mods sql.NullString
		if err := rows.Scan(&e.Kind, &at, &e.Version, &mods, &e.Clean, &e.Note, &parent, &across); err != nil {
			return nil, err
		}
		if e.At, err = time.Parse(time.RFC3339Nano, at); err != nil {
			return nil, err
		}
		if mods.Valid {
			e.Mods = []modlist.Needed{}
			if err := json.Unmarshal([]byte(mods.String), &e.Mods); err != nil {
				return nil, err
			}
		}
		if e.Parent, err = tree.ParseDigest(parent); err != nil {
			return nil, err
		}
		e.Across = Across{strings.Contains(across, "version"), strings.Contains(across, "mods")}
		all = append(all, e)
	}
	return all, rows.Err()
}

// Needs is what a state needs, from the strongest evidence for the version and the strongest for the mods. Of equally strong evidence the
// later counts. What only an earlier state of the save is known to need counts as Descends.
type Needs struct {
	Version         string
	VersionEvidence check.Evidence
	Mods            []modlist.Needed
	Clean           bool
	ModsEvidence    check.Evidence
	// Across is what changed unseen since the former state: of that nothing can be inferred either.
	Across Across
	// Elsewhere tells that this very state came from a download: it was not written here.
	Elsewhere bool
}

// maxDescent bounds how many states back evidence is looked for.
const maxDescent = 500

// Needs adds up what is known of a state; fresh is what is known and not written down yet.
func (l *Logbook) Needs(ctx context.Context, digest tree.Digest, fresh ...Evidence) (Needs, error) {
	var n Needs
	var across Across
	seen := map[tree.Digest]bool{}
	for depth := 0; depth < maxDescent && !digest.IsZero() && !seen[digest]; depth++ {
		seen[digest] = true
		all, err := l.Evidence(ctx, digest)
		if err != nil {
			return n, err
		}
		if depth == 0 {
			if l.recent == nil || len(l.recent) >= maxRecent {
				l.recent = map[tree.Digest][]Evidence{}
			}
			l.recent[digest] = slices.Clone(all)
			all = append(all, fresh...)
			n.Elsewhere = slices.ContainsFunc(all, func(e Evidence) bool { return e.Note == Placed })
		}
		digest = tree.Digest{}
		next := across
		for _, e := range all {
			kind := e.Kind
			if kind == check.Inferred && slices.ContainsFunc(all, func(e Evidence) bool { return e.Note == Placed }) {
				continue // it was taken for one that was written here
			}
			if depth > 0 {
				kind = check.Descends
			}
			if e.Version != "" && kind.Strength() >= n.VersionEvidence.Strength() && (depth == 0 || n.Version == "") && !across.Version {
				n.Version, n.VersionEvidence = e.Version, kind
			}
			if (e.Mods != nil || e.Clean) && kind.Strength() >= n.ModsEvidence.Strength() && (depth == 0 || n.ModsEvidence == "") && !across.Mods {
				n.mods(e, kind)
			}
			if !e.Parent.IsZero() {
				digest, next = e.Parent, Across{across.Version || e.Across.Version, across.Mods || e.Across.Mods}
			}
		}
		if across = next; depth == 0 {
			n.Across = across
		}
		if n.Version != "" && n.ModsEvidence != "" {
			break
		}
	}
	return n, nil
}

// mods takes over what e says of mods. Statements add up: a player states one mod at a time.
func (n *Needs) mods(e Evidence, kind check.Evidence) {
	if kind != check.Stated || n.ModsEvidence != check.Stated || e.Clean || n.Clean {
		n.Mods, n.Clean, n.ModsEvidence = e.Mods, e.Clean, kind
		return
	}
	for _, m := range e.Mods {
		replaced := false
		for i := range n.Mods {
			if n.Mods[i].ID == m.ID {
				n.Mods[i], replaced = m, true
			}
		}
		if !replaced {
			n.Mods = append(n.Mods, m)
		}
	}
}

// ForCheck are the needs as package check compares them.
func (n Needs) ForCheck(ordered bool) check.Needs {
	c := check.Needs{Version: n.Version, VersionEvidence: n.VersionEvidence, Clean: n.Clean, ModsEvidence: n.ModsEvidence, Ordered: ordered,
		VersionChanged: n.Across.Version, ModsChanged: n.Across.Mods}
	for _, m := range n.Mods {
		if m.On {
			c.Mods = append(c.Mods, check.Mod{ID: m.ID, Version: m.Version, Title: m.Title, Digest: m.Digest.String(), Doubtful: m.Doubtful})
		}
	}
	return c
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339Nano) }
