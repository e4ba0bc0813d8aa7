// Package index remembers, between runs, the digests of files that have been read, what was read out of them, and where in an archive each
// content lies.
//
// It is a cache: it lies in Ostrov's home, may be deleted at any time, and nothing is lost with it but time. It keeps what a run learns in
// memory and writes it in one transaction at Close.
package index

import (
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"path/filepath"
	"sync"

	_ "modernc.org/sqlite" // the driver "sqlite"

	"ostrov/internal/core/peek"
	"ostrov/internal/core/tree"
)

// format is the number of the schema; an index of another one is emptied.
const format = 3

const schema = `
CREATE TABLE IF NOT EXISTS runs (folder TEXT, first TEXT, files BLOB, PRIMARY KEY (folder, first)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS contents (archive TEXT, zip TEXT, size INTEGER, digests BLOB, PRIMARY KEY (archive, zip)) WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS notes (place TEXT PRIMARY KEY, state BLOB, what BLOB) WITHOUT ROWID;`

// Index is an open index. It is safe for concurrent use.
type Index struct {
	db     *sql.DB
	peek   *peek.DB // where it is only read
	lookup *sql.Stmt
	noted  *sql.Stmt
	empty  bool // no file was known at Open: then none need be looked up
	mu     sync.Mutex
	fresh  map[place]tree.Known
	recent []*run // of those that were read last, in a ring
	oldest int    // in recent
	notes  map[string]note
}

// note is what was read out of files in one state, as JSON.
type note struct {
	state tree.Digest
	what  []byte
}

// Open opens the index in the file path, creating it if need be. With readOnly it writes nothing: what it learns is forgotten at Close.
func Open(path string, readOnly bool) (*Index, error) {
	if readOnly {
		return openToRead(path)
	}
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: filepath.ToSlash(path)}).EscapedPath()+"?_pragma=busy_timeout(5000)&_pragma=journal_mode(wal)&_pragma=synchronous(normal)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	x := newIndex(db)
	if err := x.prepare(); err != nil {
		return nil, errors.Join(fmt.Errorf("index %s: %w", path, err), db.Close())
	}
	return x, nil
}

func newIndex(db *sql.DB) *Index {
	return &Index{db: db, fresh: map[place]tree.Known{}, recent: make([]*run, 0, recentRuns), notes: map[string]note{}}
}

func openToRead(path string) (*Index, error) {
	db, err := peek.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return Open(":memory:", false)
	}
	if err != nil {
		return nil, err
	}
	x := newIndex(db.DB)
	x.peek = db
	var is int
	if err = x.db.QueryRow("PRAGMA user_version").Scan(&is); err == nil && is != format {
		err = fmt.Errorf("index %s is of format %d", path, is)
	}
	if err == nil {
		err = x.ready()
	}
	if err != nil {
		return nil, errors.Join(err, db.Close())
	}
	return x, nil
}

func (x *Index) prepare() error {
	var is int
	if err := x.db.QueryRow("PRAGMA user_version").Scan(&is); err != nil {
		return err
	}
	if is != format {
		if is != 0 {
			if _, err := x.db.Exec("DROP TABLE IF EXISTS files; DROP TABLE IF EXISTS runs; DROP TABLE IF EXISTS contents; DROP TABLE IF EXISTS notes"); err != nil {
				return err
			}
		}
		if _, err := x.db.Exec(schema + fmt.Sprintf("PRAGMA user_version = %d", format)); err != nil {
			return err
		}
	}
	return x.ready()
}

// ready prepares what is asked often.
func (x *Index) ready() error {
	var err error
	if err := x.db.QueryRow("SELECT NOT EXISTS (SELECT 1 FROM runs)").Scan(&x.empty); err != nil {
		return err
	}
	if x.noted, err = x.db.Prepare("SELECT state, what FROM notes WHERE place = ?"); err != nil {
		return err
	}
	x.lookup, err = x.db.Prepare("SELECT files FROM runs WHERE folder = ? AND first <= ? ORDER BY first DESC LIMIT 1")
	return err
}

// Lookup returns what is remembered of the file path.
func (x *Index) Lookup(path string) (tree.Known, bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	p := placeOf(path)
	if k, ok := x.fresh[p]; ok {
		return k, true
	}
	if x.empty {
		return tree.Known{}, false
	}
	return x.written(p)
}

// Store remembers a file that has been read.
func (x *Index) Store(path string, k tree.Known) {
	x.mu.Lock()
	defer x.mu.Unlock()
	p := placeOf(path)
	if k.Sums.SHA256 == "" { // what another look found stays, as long as the content is the same
		if old, ok := x.fresh[p]; ok && old.Sums.Blake3 == k.Sums.Blake3 {
			k.Sums.SHA256 = old.Sums.SHA256
		}
	}
	x.fresh[p] = k
	if len(x.fresh) >= maxFresh {
		_ = x.flush() // a cache may fail to remember
		clear(x.fresh)
	}
}

// maxFresh is how many files are remembered before they are written.
const maxFresh = 50_000

// Recall fills into with what was noted at place for the state, and reports whether there was anything.
func (x *Index) Recall(place string, state tree.Digest, into any) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	n, ok := x.notes[place]
	if !ok {
		var is []byte
		if err := x.noted.QueryRow(place).Scan(&is, &n.what); err != nil || len(is) != len(n.state) {
			return false
		}
		copy(n.state[:], is)
	}
	return n.state == state && json.Unmarshal(n.what, into) == nil
}

// Note replaces what was noted at place.
func (x *Index) Note(place string, state tree.Digest, what any) {
	data, err := json.Marshal(what)
	if err != nil {
		return
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.notes[place] = note{state, data}
}

// Contents returns the digests of the entries of one content file of an archive, if it is known at this size.
func (x *Index) Contents(archive, zip string, size int64) ([]tree.Digest, bool) {
	var blob []byte
	if err := x.db.QueryRow("SELECT digests FROM contents WHERE archive = ? AND zip = ? AND size = ?", archive, zip, size).Scan(&blob); err != nil {
		return nil, false
	}
	digests := make([]tree.Digest, len(blob)/len(tree.Digest{}))
	for i := range digests {
		copy(digests[i][:], blob[i*len(tree.Digest{}):])
	}
	return digests, true
}

// StoreContents remembers the entries of a content file.
func (x *Index) StoreContents(archive, zip string, size int64, digests []tree.Digest) {
	blob := make([]byte, 0, len(digests)*len(tree.Digest{}))
	for _, d := range digests {
		blob = append(blob, d[:]...)
	}
	if x.peek != nil {
		return
	}
	_, _ = x.db.Exec("INSERT OR REPLACE INTO contents VALUES (?, ?, ?, ?)", archive, zip, size, blob) // a cache may fail to remember
}

// Close writes what was learnt.
func (x *Index) Close() error {
	if x.peek != nil {
		return x.peek.Close()
	}
	return errors.Join(x.flush(), x.db.Close())
}

func (x *Index) flush() error {
	if x.peek != nil || len(x.fresh)+len(x.notes) == 0 {
		return nil
	}
	tx, err := x.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := x.writeFiles(tx); err != nil {
		return err
	}
	for place, n := range x.notes {
		if _, err := tx.Exec("INSERT OR REPLACE INTO notes VALUES (?, ?, ?)", place, n.state[:], n.what); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	x.recent, x.oldest = x.recent[:0], 0 // older than what is written now
	return nil
}
