package form

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"modernc.org/sqlite" // the driver "sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

const (
	// sqliteTime bounds one SELECT on a game's database.
	sqliteTime = 2 * time.Second
	// sqliteRows bounds the elements of one list.
	sqliteRows = 100_000
	// sqliteValue bounds one value of a list, in bytes, and sqliteList all values of one.
	sqliteValue = 1 << 20
	sqliteList  = 32 << 20
	// sqliteLength bounds any text or blob that the engine makes or reads, in bytes.
	sqliteLength = 32 << 20
)

// foreign opens a private copy of somebody's database. A hostile schema must not reach functions with effects, so it is not trusted, and what the
// engine makes of little is bounded.
func foreign(ctx context.Context, path string, pragmas ...string) (*sql.DB, error) {
	dsn := "file:" + (&url.URL{Path: filepath.ToSlash(path)}).EscapedPath() + "?_pragma=trusted_schema(0)&_pragma=cell_size_check(1)"
	for _, p := range pragmas {
		dsn += "&_pragma=" + p
	}
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	conn, err := db.Conn(ctx)
	if err == nil {
		_, err = sqlite.Limit(conn, sqlite3.SQLITE_LIMIT_LENGTH, sqliteLength)
		err = errors.Join(err, conn.Close())
	}
	if err != nil {
		return nil, errors.Join(sqliteError(ctx, err), db.Close())
	}
	return db, nil
}

// sqliteDoc is a private copy of a database, opened read-only; the game's own file is never opened in place, since that alone could
// change it or its write-ahead log.
type sqliteDoc struct {
	db  *sql.DB
	dir string
}

// SQLiteCompanions are the endings of files that belong to a SQLite database and must be read together with it.
var SQLiteCompanions = []string{"-wal", "-journal"}

func openSQLite(ctx context.Context, fsys fs.FS, name string, spec Spec, limits Limits) (Doc, error) {
	dir, err := os.MkdirTemp("", "ostrov-read-")
	if err != nil {
		return nil, err
	}
	doc := &sqliteDoc{dir: dir}
	if err := doc.open(ctx, fsys, name, spec, limits); err != nil {
		return nil, errors.Join(err, doc.Close())
	}
	return doc, nil
}

func (d *sqliteDoc) open(ctx context.Context, fsys fs.FS, name string, spec Spec, limits Limits) error {
	path := filepath.Join(d.dir, "copy.sqlite")
	if err := copyPeeled(fsys, name, path, spec.Layers, limits); err != nil {
		return err
	}
	for _, ending := range SQLiteCompanions {
		if err := copyPeeled(fsys, name+ending, path+ending, Layers{}, limits); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	head := make([]byte, 16)
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	_, err = io.ReadFull(f, head)
	f.Close()
	if err != nil || !bytes.Equal(head, []byte("SQLite format 3\x00")) {
		return fmt.Errorf("%s: %w: not a SQLite database", name, ErrDamaged)
	}
	// The copy is ours, so recovery of its log may write to it; query_only keeps the SELECT itself from doing so.
	if d.db, err = foreign(ctx, path, "query_only(1)"); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	if _, _, err := d.Value(ctx, "SELECT count(*) FROM sqlite_schema"); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return nil
}

// copyPeeled writes a file, unwrapped, to another place. It is not held in memory.
func copyPeeled(fsys fs.FS, name, to string, layers Layers, limits Limits) error {
	in, err := fsys.Open(name)
	if err != nil {
		return err
	}
	defer in.Close()
	content := io.Reader(in)
	if layers.Tag != nil || len(layers.Chain) > 0 {
		peeled, err := layers.Reader(in, limits)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		defer peeled.Close()
		content = peeled
	}
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	if _, err = io.Copy(out, content); err != nil {
		err = fmt.Errorf("%s: %w", name, err)
	}
	return errors.Join(err, out.Close())
}

// checkSelect accepts one SELECT (or WITH … SELECT) and nothing after it.
func checkSelect(query string) error {
	q := strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(query), ";"))
	upper := strings.ToUpper(q)
	if !strings.HasPrefix(upper, "SELECT") && !strings.HasPrefix(upper, "WITH") {
		return errors.New("only one SELECT can be asked of a SQLite database")
	}
	if strings.Contains(q, ";") {
		return errors.New("one SELECT without a semicolon inside, please")
	}
	return nil
}

func (d *sqliteDoc) Value(ctx context.Context, query string) (string, bool, error) {
	rows, err := d.rows(ctx, query, 1)
	if errors.Is(err, ErrUnknown) { // what the query asks for is not there
		return "", false, nil
	}
	if err != nil || len(rows) == 0 {
		return "", false, err
	}
	return rows[0].first()
}

func (d *sqliteDoc) Each(ctx context.Context, query string) ([]Doc, error) {
	rows, err := d.rows(ctx, query, sqliteRows)
	docs := make([]Doc, len(rows))
	for i, r := range rows {
		docs[i] = r
	}
	return docs, err
}

func (d *sqliteDoc) rows(ctx context.Context, query string, limit int) ([]rowDoc, error) {
	if err := checkSelect(query); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, sqliteTime)
	defer cancel()
	rows, err := d.db.QueryContext(ctx, query)
	if err != nil {
		return nil, sqliteError(ctx, err)
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	var found []rowDoc
	bytes := 0
	for rows.Next() && len(found) < limit {
		cells := make([]sql.NullString, len(names))
		into := make([]any, len(names))
		for i := range cells {
			into[i] = &cells[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, sqliteError(ctx, err)
		}
		for _, c := range cells {
			if len(c.String) > sqliteValue {
				return nil, fmt.Errorf("%w: a value of %d bytes", ErrTooLarge, len(c.String))
			}
			if bytes += len(c.String); bytes > sqliteList {
				return nil, fmt.Errorf("%w: a list of more than %d bytes", ErrTooLarge, sqliteList)
			}
		}
		found = append(found, rowDoc{names, cells})
	}
	if err := rows.Err(); err != nil {
		return nil, sqliteError(ctx, err)
	}
	return found, nil
}

// blobTime bounds a query for all of a large table.
const blobTime = 2 * time.Minute

// blobs calls visit with the first column of each row.
func (d *sqliteDoc) blobs(ctx context.Context, query string, visit func([]byte) error) error {
	if err := checkSelect(query); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, blobTime)
	defer cancel()
	rows, err := d.db.QueryContext(ctx, query)
	if err != nil {
		return sqliteError(ctx, err)
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	into := make([]any, len(names))
	var blob sql.RawBytes
	for i := range into {
		into[i] = new(sql.RawBytes)
	}
	into[0] = &blob
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return sqliteError(ctx, err)
		}
		if err := visit(blob); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return sqliteError(ctx, err)
	}
	return nil
}

func sqliteError(ctx context.Context, err error) error {
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return fmt.Errorf("a query took longer than %v: %w", sqliteTime, context.DeadlineExceeded)
	}
	if text := err.Error(); strings.Contains(text, "no such table") || strings.Contains(text, "no such column") {
		return fmt.Errorf("%w: %v", ErrUnknown, err)
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if strings.Contains(err.Error(), "too big") || strings.Contains(err.Error(), "out of memory") {
		return fmt.Errorf("%w: %v", ErrTooLarge, err)
	}
	return fmt.Errorf("%w: %v", ErrDamaged, err)
}

func (d *sqliteDoc) Close() error {
	var err error
	if d.db != nil {
		err = d.db.Close()
	}
	return errors.Join(err, os.RemoveAll(d.dir))
}

// rowDoc is one row, asked by column name; "." is its first column.
type rowDoc struct {
	names []string
	cells []sql.NullString
}

func (r rowDoc) first() (string, bool, error) {
	if len(r.cells) == 0 {
		return "", false, nil
	}
	return r.cells[0].String, r.cells[0].Valid, nil
}

func (r rowDoc) Value(_ context.Context, query string) (string, bool, error) {
	if query == "." {
		return r.first()
	}
	for i, name := range r.names {
		if name == query {
			return r.cells[i].String, r.cells[i].Valid, nil
		}
	}
	return "", false, nil
}

func (r rowDoc) Each(context.Context, string) ([]Doc, error) {
	return nil, errors.New("a row has no list inside")
}

func (r rowDoc) Close() error { return nil }
