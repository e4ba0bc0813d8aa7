package form

import (
	"context"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"ostrov/internal/core/schema"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// sqliteShape is a private copy of a database that is changed in one transaction. Its spans are rows of one table, or one column of a row.
type sqliteShape struct {
	dir     string
	path    string
	db      *sql.DB
	tx      *sql.Tx
	content []byte
	changed bool
}

// rowPart is a row of a table, by its rowid, and its columns by their names in the query; column is the one of a value, else "".
type rowPart struct {
	table   string
	row     int64
	columns []string
	column  string
}

// writeTime bounds all that is done to one database.
const writeTime = 30 * sqliteTime

// oneTable is a SELECT whose rows can be written: columns of one table, perhaps where columns are equal to values.
var (
	oneTable  = regexp.MustCompile(`(?is)^\s*SELECT\s+(\*|"?\w+"?(?:\s*,\s*"?\w+"?)*)\s+FROM\s+("?\w+"?)(?:\s+WHERE\s+(.+?))?(?:\s+ORDER\s+BY\s+("?\w+"?(?:\s+DESC)?))?\s*;?\s*$`)
	condition = regexp.MustCompile(`(?is)^\s*"?\w+"?\s*(?:=|LIKE)\s*(?:'(?:[^']|'')*'|-?\d+)(?:\s+AND\s+"?\w+"?\s*(?:=|LIKE)\s*(?:'(?:[^']|'')*'|-?\d+))*\s*$`)
)

// rowsOf takes a SELECT apart into columns, table, condition and order.
func rowsOf(query string) (parts [4]string, err error) {
	m := oneTable.FindStringSubmatch(query)
	if m == nil || m[3] != "" && !condition.MatchString(m[3]) {
		return parts, fmt.Errorf("%q: %w: it is not SELECT columns FROM table WHERE column = value", query, ErrNotWritable)
	}
	return [4]string(m[1:]), nil
}

func editSQLite(ctx context.Context, content []byte) (s *sqliteShape, err error) {
	dir, err := os.MkdirTemp("", "ostrov-write-")
	if err != nil {
		return nil, err
	}
	s = &sqliteShape{dir: dir, path: filepath.Join(dir, "copy.sqlite"), content: content}
	defer func() {
		if err != nil {
			err = errors.Join(err, s.Close())
			s = nil
		}
	}()
	if err := os.WriteFile(s.path, content, 0o600); err != nil {
		return s, err
	}
	if s.db, err = foreign(ctx, s.path); err != nil {
		return s, err
	}
	triggers, err := s.triggers(ctx)
	if err != nil {
		return s, err
	}
	if triggers { // they would change more than was asked for
		return s, fmt.Errorf("a database with triggers %w", ErrNotWritable)
	}
	s.tx, err = s.db.BeginTx(context.WithoutCancel(ctx), nil)
	return s, err
}

// triggers reports whether the database has any.
func (d *sqliteShape) triggers(ctx context.Context) (found bool, err error) {
	rows, err := d.db.QueryContext(ctx, "SELECT sql FROM sqlite_schema WHERE sql IS NOT NULL")
	if err != nil {
		return false, sqliteError(ctx, err)
	}
	defer rows.Close()
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			return false, sqliteError(ctx, err)
		}
		found = found || schema.Trigger(text)
	}
	return found, rows.Err()
}

func (d *sqliteShape) spans(ctx context.Context, of *Span, query string, each bool) ([]Span, error) {
	if of != nil {
		r, ok := of.node.(rowPart)
		if !ok || query != "." && !slices.Contains(r.columns, query) {
			return nil, missingValue(query)
		}
		if r.column = query; query == "." {
			r.column = r.columns[0]
		}
		return []Span{{node: r}}, nil
	}
	var found []Span
	err := d.each(ctx, query, func(s Span, _ []byte) error {
		if len(found) > maxElements {
			return fmt.Errorf("%w: a list of more than %d", ErrTooLarge, maxElements)
		}
		if each {
			r := s.node.(rowPart)
			r.column = ""
			s.node = r
		}
		found = append(found, s)
		return nil
	})
	return found, err
}

// each visits the rows that a query names, with the value of the first column.
func (d *sqliteShape) each(ctx context.Context, query string, visit func(s Span, value []byte) error) error {
	m, err := rowsOf(query)
	if err != nil {
		return err
	}
	statement := "SELECT rowid, " + m[0] + " FROM " + m[1]
	if m[2] != "" {
		statement += " WHERE " + m[2]
	}
	if m[3] != "" {
		statement += " ORDER BY " + m[3]
	}
	ctx, cancel := context.WithTimeout(ctx, writeTime)
	defer cancel()
	rows, err := d.tx.QueryContext(ctx, statement) // of parts that the pattern lets through
	if err != nil {
		return fmt.Errorf("%w: %w", sqliteError(ctx, err), ErrNotWritable)
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	if m[0] != "*" { // by the names that the query gives them
		for i, c := range strings.Split(m[0], ",") {
			names[i+1] = strings.Trim(strings.TrimSpace(c), `"`)
		}
	}
	into := make([]any, len(names))
	for i := range into {
		into[i] = new(sql.RawBytes)
	}
	var id int64
	var first sql.RawBytes
	into[0], into[1] = &id, &first
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return sqliteError(ctx, err)
		}
		if err := visit(Span{node: rowPart{m[1], id, names[1:], names[1]}}, first); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return sqliteError(ctx, err)
	}
	return nil
}

func (d *sqliteShape) value(s Span) (string, bool, error) {
	r := s.node.(rowPart)
	if r.column == "" {
		r.column = r.columns[0]
	}
	var text sql.NullString
	err := d.tx.QueryRow(fmt.Sprintf("SELECT %q FROM %s WHERE rowid = ?", r.column, r.table), r.row).Scan(&text)
	return text.String, text.Valid, err
}

func (d *sqliteShape) set(s Span, value string) (change, error) {
	r := s.node.(rowPart)
	if r.column == "" {
		return change{}, fmt.Errorf("a whole row %w", ErrNotWritable)
	}
	var kind string
	if err := d.tx.QueryRow(fmt.Sprintf("SELECT typeof(%q) FROM %s WHERE rowid = ?", r.column, r.table), r.row).Scan(&kind); err != nil {
		return change{}, err
	}
	typed, err := typedAs(kind, value)
	if err != nil {
		return change{}, err
	}
	return change{}, d.exec(fmt.Sprintf("UPDATE %s SET %q = ? WHERE rowid = ?", r.table, r.column), typed, r.row)
}

// replace puts other bytes in the place of one value of a row, or all values of a row that is given as JSON.
func (d *sqliteShape) replace(s Span, piece []byte) error {
	r := s.node.(rowPart)
	if r.column != "" {
		return d.exec(fmt.Sprintf("UPDATE %s SET %q = CASE typeof(%q) WHEN 'blob' THEN CAST(? AS BLOB) ELSE CAST(? AS TEXT) END WHERE rowid = ?", r.table, r.column, r.column), piece, piece, r.row)
	}
	if _, err := d.cut([]Span{s}); err != nil {
		return err
	}
	_, err := d.add(s, &s, string(piece))
	return err
}

func (d *sqliteShape) cut(parts []Span) ([]change, error) {
	for _, s := range parts {
		r := s.node.(rowPart)
		if err := d.exec(fmt.Sprintf("DELETE FROM %s WHERE rowid = ?", r.table), r.row); err != nil {
			return nil, err
		}
	}
	return nil, nil
}

func (d *sqliteShape) exec(statement string, args ...any) error {
	d.changed = true
	if _, err := d.tx.Exec(statement, args...); err != nil {
		return fmt.Errorf("%w: %w", err, ErrNotWritable)
	}
	return nil
}

// rowText is a row outside of its database.
type rowText struct {
	Table   string                     `json:"table"`
	Columns map[string]json.RawMessage `json:"columns"`
}

// blobText is a value of bytes in it.
type blobText struct {
	Blob string `json:"base64"`
}

// InsertRow puts a row of texts into a table.
func (e *Editor) InsertRow(table string, columns, values []string) error {
	row := rowText{table, map[string]json.RawMessage{}}
	for i, name := range columns {
		row.Columns[name], _ = json.Marshal(values[i]) // a text always can
	}
	text, err := json.Marshal(row)
	if err != nil {
		return err
	}
	return e.Insert(nil, nil, text)
}

// piece is a row with all of its columns.
func (d *sqliteShape) piece(s Span) ([]byte, error) {
	r := s.node.(rowPart)
	rows, err := d.tx.Query(fmt.Sprintf("SELECT * FROM %s WHERE rowid = ?", r.table), r.row)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	row := rowText{strings.Trim(r.table, `"`), map[string]json.RawMessage{}}
	for rows.Next() {
		values := make([]any, len(names))
		into := make([]any, len(names))
		for i := range values {
			into[i] = &values[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		for i, v := range values {
			if b, ok := v.([]byte); ok {
				v = blobText{base64.StdEncoding.EncodeToString(b)}
			}
			text, err := json.Marshal(v)
			if err != nil {
				return nil, err
			}
			row.Columns[names[i]] = text
		}
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	return json.Marshal(row)
}

// add puts a row in, into the table it is from.
func (d *sqliteShape) add(in Span, _ *Span, piece string) (change, error) {
	var row rowText
	if err := json.Unmarshal([]byte(piece), &row); err != nil || row.Table == "" || len(row.Columns) == 0 {
		return change{}, fmt.Errorf("what is no row %w into a table", ErrNotWritable)
	}
	if r, ok := in.node.(rowPart); ok && !strings.EqualFold(strings.Trim(r.table, `"`), row.Table) {
		return change{}, fmt.Errorf("a row of %s %w into %s", row.Table, ErrNotWritable, r.table)
	}
	var names, places []string
	var values []any
	for name, text := range row.Columns {
		if !isColumn.MatchString(name) {
			return change{}, fmt.Errorf("a column %.60q %w", name, ErrNotWritable)
		}
		value, err := rowValue(text)
		if err != nil {
			return change{}, err
		}
		names, places, values = append(names, `"`+name+`"`), append(places, "?"), append(values, value)
	}
	if !isColumn.MatchString(row.Table) {
		return change{}, fmt.Errorf("a table %.60q %w", row.Table, ErrNotWritable)
	}
	return change{}, d.exec(fmt.Sprintf("INSERT INTO %q (%s) VALUES (%s)", row.Table, strings.Join(names, ", "), strings.Join(places, ", ")), values...)
}

var isColumn = regexp.MustCompile(`^\w+$`)

// rowValue is a value of a row as its type.
func rowValue(text json.RawMessage) (any, error) {
	var blob blobText
	if len(text) > 0 && text[0] == '{' {
		if err := json.Unmarshal(text, &blob); err != nil {
			return nil, err
		}
		return base64.StdEncoding.DecodeString(blob.Blob)
	}
	var value any
	if err := json.Unmarshal(text, &value); err != nil {
		return nil, err
	}
	if n, err := strconv.ParseInt(string(text), 10, 64); err == nil {
		return n, nil
	}
	return value, nil
}

// Tables are the names of the tables of a database; of other forms none.
func (e *Editor) Tables(ctx context.Context) (names []string, err error) {
	db, ok := e.shape.(*sqliteShape)
	if !ok {
		return nil, nil
	}
	return db.texts(ctx, "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%' ORDER BY name")
}

// Columns are the names of the columns of a table.
func (e *Editor) Columns(ctx context.Context, table string) (names []string, err error) {
	db, ok := e.shape.(*sqliteShape)
	if !ok || !isColumn.MatchString(table) {
		return nil, fmt.Errorf("a table %.60q %w", table, ErrNotWritable)
	}
	return db.texts(ctx, "SELECT name FROM pragma_table_info('"+table+"')")
}

// IsBytes reports whether a value of a row is bytes rather than text or a number.
func (e *Editor) IsBytes(s Span) bool {
	db, ok := e.shape.(*sqliteShape)
	if !ok {
		return false
	}
	r := s.node.(rowPart)
	var kind string
	err := db.tx.QueryRow(fmt.Sprintf("SELECT typeof(%q) FROM %s WHERE rowid = ?", r.column, r.table), r.row).Scan(&kind)
	return err == nil && kind == "blob"
}

func (d *sqliteShape) texts(ctx context.Context, query string) (all []string, err error) {
	rows, err := d.tx.QueryContext(ctx, query)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrDamaged, err)
	}
	defer rows.Close()
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			return nil, err
		}
		all = append(all, text)
	}
	return all, rows.Err()
}

// done is the database with all changes, checked whole.
func (d *sqliteShape) done(ctx context.Context) ([]byte, error) {
	if !d.changed {
		return d.content, nil
	}
	ctx, cancel := context.WithTimeout(ctx, writeTime)
	defer cancel()
	if err := d.tx.Commit(); err != nil {
		return nil, err
	}
	d.tx = nil
	var sound string
	if err := d.db.QueryRowContext(ctx, "PRAGMA integrity_check").Scan(&sound); err != nil || sound != "ok" {
		return nil, fmt.Errorf("the database would not be sound: %s: %w", sound, errors.Join(err, ErrNotWritable))
	}
	if err := d.db.Close(); err != nil {
		return nil, err
	}
	d.db = nil
	return os.ReadFile(d.path)
}

// Close frees what the shape holds.
func (d *sqliteShape) Close() error {
	var err error
	if d.tx != nil {
		err = d.tx.Rollback()
	}
	if d.db != nil {
		err = errors.Join(err, d.db.Close())
	}
	return errors.Join(err, os.RemoveAll(d.dir))
}

// typedAs is a value of the type that is there now.
func typedAs(kind, value string) (any, error) {
	switch kind {
	case "integer":
		n, err := strconv.ParseInt(value, 10, 64)
		if err != nil {
			return nil, fmt.Errorf("a whole number stands there, and %q is none: %w", value, ErrNotWritable)
		}
		return n, nil
	case "real":
		x, err := strconv.ParseFloat(value, 64)
		if err != nil {
			return nil, fmt.Errorf("a number stands there, and %q is none: %w", value, ErrNotWritable)
		}
		return x, nil
	case "blob":
		return nil, fmt.Errorf("bytes stand there: %w", ErrNotWritable)
	}
	return value, nil
}
