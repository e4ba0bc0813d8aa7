package doc

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
	"slices"
	"strings"
	"time"

	"modernc.org/sqlite" // the driver "sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"ostrov/internal/core/wrap"
)

const (
	// sqliteTime bounds one SELECT on a game's database, and allTime what goes over all of one.
	sqliteTime = 2 * time.Second
	allTime    = 2 * time.Minute
	// sqliteRows bounds the elements of one list.
	sqliteRows = 100_000
	// sqliteValue bounds one value of a list, in bytes, and sqliteList all values of one.
	sqliteValue = 1 << 20
	sqliteList  = 32 << 20
	// sqliteLength bounds any text or blob that the engine makes or reads, in bytes.
	sqliteLength = 32 << 20
)

// SQLiteCompanions are the endings of files that belong to a SQLite database and must be read together with it.
var SQLiteCompanions = []string{"-wal", "-journal"}

// database is a private copy of a SQLite database: the game's own file is never opened in place, since that alone could change it or its log. A
// hostile schema must not reach functions with effects, so it is not trusted, and what the engine makes of little is bounded.
type database struct {
	dir, path string
	db        *sql.DB
	tx        *sql.Tx // of what is being changed
	changed   bool
	keyed     map[string][]string // the columns that tell rows of a table apart
}

func newDatabase() (*database, error) {
	dir, err := os.MkdirTemp("", "ostrov-read-")
	return &database{dir: dir, path: filepath.Join(dir, "copy.sqlite"), keyed: map[string][]string{}}, err
}

// connect opens the copy.
func (d *database) connect(ctx context.Context, pragmas ...string) error {
	dsn := "file:" + (&url.URL{Path: filepath.ToSlash(d.path)}).EscapedPath() + "?_pragma=trusted_schema(0)&_pragma=cell_size_check(1)"
	for _, p := range pragmas {
		dsn += "&_pragma=" + p
	}
	head := make([]byte, 16)
	f, err := os.Open(d.path)
	if err != nil {
		return err
	}
	_, err = io.ReadFull(f, head)
	if f.Close(); err != nil || !bytes.Equal(head, []byte("SQLite format 3\x00")) {
		return fmt.Errorf("%w: not a SQLite database", wrap.ErrDamaged)
	}
	if d.db, err = sql.Open("sqlite", dsn); err != nil {
		return err
	}
	d.db.SetMaxOpenConns(1)
	conn, err := d.db.Conn(ctx)
	if err == nil {
		_, err = sqlite.Limit(conn, sqlite3.SQLITE_LIMIT_LENGTH, sqliteLength)
		err = errors.Join(err, conn.Close())
	}
	if err != nil {
		return sqliteError(ctx, err)
	}
	_, _, err = d.value(ctx, "SELECT count(*) FROM sqlite_schema")
	return err
}

func openSQLite(ctx context.Context, fsys fs.FS, name string, layers wrap.Layers, limits wrap.Limits) (*database, error) {
	d, err := newDatabase()
	if err != nil {
		return nil, err
	}
	if err = copyPeeled(fsys, name, d.path, layers, limits); err == nil {
		for _, ending := range SQLiteCompanions {
			if err = copyPeeled(fsys, name+ending, d.path+ending, wrap.Layers{}, limits); errors.Is(err, fs.ErrNotExist) {
				err = nil
			} else if err != nil {
				break
			}
		}
	}
	if err == nil { // the copy is ours, so recovery of its log may write to it; query_only keeps a SELECT from doing so
		err = d.connect(ctx, "query_only(1)")
	}
	if err != nil {
		return nil, errors.Join(err, d.Close())
	}
	return d, nil
}

// copyPeeled writes a file, unwrapped, to another place. It is not held in memory.
func copyPeeled(fsys fs.FS, name, to string, layers wrap.Layers, limits wrap.Limits) error {
	in, err := fsys.Open(name)
	if err != nil {
		return err
	}
	defer in.Close()
	content := io.Reader(in)
	if !layers.None() {
		peeled, err := layers.Reader(in, limits)
		if err != nil {
			return err
		}
		defer peeled.Close()
		content = peeled
	}
	return writeCopy(to, content)
}

func writeCopy(to string, content io.Reader) error {
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, content)
	return errors.Join(err, out.Close())
}

// Close frees what the database holds.
func (d *database) Close() error {
	if d == nil {
		return nil
	}
	var err error
	if d.tx != nil {
		err, d.tx = d.tx.Rollback(), nil
	}
	if d.db != nil {
		err = errors.Join(err, d.db.Close())
	}
	return errors.Join(err, os.RemoveAll(d.dir))
}

func (d *database) check(context.Context, []string) error { return nil }

// query runs a SELECT, inside of what is being changed if anything is.
func (d *database) query(ctx context.Context, statement string, args ...any) (*sql.Rows, error) {
	if d.tx != nil {
		return d.tx.QueryContext(ctx, statement, args...)
	}
	return d.db.QueryContext(ctx, statement, args...)
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

// eachRow visits the rows of a SELECT: the names of its columns, and the bytes of each value, nil for NULL, good until visit returns.
func (d *database) eachRow(ctx context.Context, within time.Duration, statement string, visit func(names []string, cells []sql.RawBytes) error, args ...any) error {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	rows, err := d.query(ctx, statement, args...)
	if err != nil {
		return sqliteError(ctx, err)
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	cells := make([]sql.RawBytes, len(names))
	into := make([]any, len(names))
	for i := range cells {
		into[i] = &cells[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return sqliteError(ctx, err)
		}
		if err := visit(names, cells); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return sqliteError(ctx, err)
	}
	return nil
}

// rows are those of a SELECT, each as a document that is asked by the names of its columns; "." is the first. NULL is not there.
func (d *database) rows(ctx context.Context, query string, limit int) (docs []*Doc, err error) {
	if err := checkSelect(query); err != nil {
		return nil, err
	}
	size := 0
	err = d.eachRow(ctx, sqliteTime, query, func(names []string, cells []sql.RawBytes) error {
		if len(docs) == limit {
			return errEnough
		}
		row := map[string]string{}
		for i, c := range cells {
			if len(c) > sqliteValue {
				return fmt.Errorf("%w: a value of %d bytes", wrap.ErrTooLarge, len(c))
			}
			if size += len(c); size > sqliteList {
				return fmt.Errorf("%w: a list of more than %d bytes", wrap.ErrTooLarge, sqliteList)
			}
			if c != nil {
				if _, twice := row[names[i]]; !twice {
					row[names[i]] = string(c)
				}
				if i == 0 {
					row["."] = string(c)
				}
			}
		}
		docs = append(docs, &Doc{texts: row})
		return nil
	})
	if err == errEnough {
		err = nil
	}
	return docs, err
}

func (d *database) value(ctx context.Context, query string) (string, bool, error) {
	rows, err := d.rows(ctx, query, 1)
	if errors.Is(err, wrap.ErrUnknown) { // what the query asks for is not there
		return "", false, nil
	}
	if err != nil || len(rows) == 0 {
		return "", false, err
	}
	text, ok := rows[0].texts["."]
	return text, ok, nil
}

func (d *database) each(ctx context.Context, query string) ([]*Doc, error) {
	return d.rows(ctx, query, sqliteRows)
}

// eachValue visits the first column of each row of a SELECT; the node is that of a value that may be written, if it is one.
func (d *database) eachValue(ctx context.Context, query string, visit func(Node, []byte) error) error {
	if err := checkSelect(query); err != nil {
		return err
	}
	if parts, err := rowsOf(query); err == nil {
		there := func(n Node, value []byte) error {
			if value == nil {
				return nil
			}
			return visit(n, value)
		}
		if writable := d.eachPart(ctx, parts, there); !errors.Is(writable, errNoKey) {
			return writable
		}
	}
	return d.eachRow(ctx, allTime, query, func(_ []string, cells []sql.RawBytes) error {
		if len(cells) == 0 || cells[0] == nil {
			return nil
		}
		return visit(Node{}, cells[0])
	})
}

func sqliteError(ctx context.Context, err error) error {
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return fmt.Errorf("a query took longer than it may: %w", context.DeadlineExceeded)
	}
	if text := err.Error(); strings.Contains(text, "no such table") || strings.Contains(text, "no such column") {
		return fmt.Errorf("%w: %v", wrap.ErrUnknown, err)
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if strings.Contains(err.Error(), "too big") || strings.Contains(err.Error(), "out of memory") {
		return fmt.Errorf("%w: %v", wrap.ErrTooLarge, err)
	}
	return fmt.Errorf("%w: %v", wrap.ErrDamaged, err)
}

// quoted is a name in a statement.
func quoted(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }

// Tables are the names of the tables of a database; of other forms none.
func (f *File) Tables(ctx context.Context) (names []string, err error) {
	d, ok := f.reader.(*database)
	if !ok {
		return nil, nil
	}
	return d.texts(ctx, "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%' ORDER BY name")
}

// Columns are the names of the columns of a table.
func (f *File) Columns(ctx context.Context, table string) (names []string, err error) {
	d, ok := f.reader.(*database)
	if !ok {
		return nil, fmt.Errorf("a table %.60q %w", table, wrap.ErrNotWritable)
	}
	return d.texts(ctx, "SELECT name FROM pragma_table_info(?)", table)
}

func (d *database) texts(ctx context.Context, query string, args ...any) (all []string, err error) {
	err = d.eachRow(ctx, sqliteTime, query, func(_ []string, cells []sql.RawBytes) error {
		all = append(all, string(cells[0]))
		return nil
	}, args...)
	return all, err
}

// keys are the columns that tell the rows of a table apart: rowid, or of a table without one its primary key.
func (d *database) keys(ctx context.Context, table string) ([]string, error) {
	if known, ok := d.keyed[table]; ok {
		return known, nil
	}
	columns := []string{"rowid"}
	without, err := d.texts(ctx, "SELECT wr FROM pragma_table_list WHERE lower(name) = lower(?)", strings.Trim(table, `"`))
	if err == nil && slices.Contains(without, "1") {
		columns, err = d.primary(ctx, table)
	}
	d.keyed[table] = columns
	return columns, err
}

// primary are the columns of a table's primary key.
func (d *database) primary(ctx context.Context, table string) ([]string, error) {
	return d.texts(ctx, "SELECT name FROM pragma_table_info(?) WHERE pk > 0 ORDER BY pk", strings.Trim(table, `"`))
}
