package doc

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strings"

	"ostrov/internal/core/schema"
	"ostrov/internal/core/wrap"
)

// rowPart is a row of a table, and its columns by their names in the query; column is the one of a value, else "".
type rowPart struct {
	table   string
	keys    []string // the columns that tell it from others
	is      []any    // and their values
	columns []string
	column  string
}

func (r rowPart) same(other rowPart) bool {
	return strings.EqualFold(r.table, other.table) && slices.Equal(r.is, other.is)
}

// query is the SELECT that leads to the value, "" if none can be written.
func (r rowPart) query() string {
	var parts []string
	for i, k := range r.keys {
		switch is := r.is[i].(type) {
		case int64:
			parts = append(parts, fmt.Sprintf("%s = %d", k, is))
		case string:
			parts = append(parts, k+" = '"+strings.ReplaceAll(is, "'", "''")+"'")
		default:
			return ""
		}
	}
	if r.column == "" || len(parts) == 0 {
		return ""
	}
	return fmt.Sprintf("SELECT %s FROM %s WHERE %s", r.column, r.table, strings.Join(parts, " AND "))
}

// where is the condition that a statement finds the row by.
func (r rowPart) where() string {
	var parts []string
	for _, k := range r.keys {
		parts = append(parts, quoted(k)+" IS ?")
	}
	return strings.Join(parts, " AND ")
}

// oneTable is a SELECT whose rows can be written: columns of one table, perhaps where columns are equal to values.
var (
	oneTable  = regexp.MustCompile(`(?is)^\s*SELECT\s+(\*|"?\w+"?(?:\s*,\s*"?\w+"?)*)\s+FROM\s+("?\w+"?)(?:\s+WHERE\s+(.+?))?(?:\s+ORDER\s+BY\s+("?\w+"?(?:\s+DESC)?))?\s*;?\s*$`)
	condition = regexp.MustCompile(`(?is)^\s*"?\w+"?\s*(?:=|LIKE)\s*(?:'(?:[^']|'')*'|-?\d+)(?:\s+AND\s+"?\w+"?\s*(?:=|LIKE)\s*(?:'(?:[^']|'')*'|-?\d+))*\s*$`)
)

// rowsOf takes a SELECT apart into columns, table, condition and order.
func rowsOf(query string) (parts [4]string, err error) {
	m := oneTable.FindStringSubmatch(query)
	if m == nil || m[3] != "" && !condition.MatchString(m[3]) {
		return parts, fmt.Errorf("%q: %w: it is not SELECT columns FROM table WHERE column = value", query, wrap.ErrNotWritable)
	}
	return [4]string(m[1:]), nil
}

// editSQLite opens a database for changes, in one transaction.
func editSQLite(ctx context.Context, content wrap.Content) (d *database, err error) {
	if d, err = newDatabase(); err != nil {
		return nil, err
	}
	if err = writeCopy(d.path, io.NewSectionReader(content, 0, content.Size())); err == nil {
		if err = d.connect(ctx); err == nil {
			d.tx, err = d.db.BeginTx(context.WithoutCancel(ctx), nil)
		}
	}
	if err != nil {
		return nil, errors.Join(err, d.Close())
	}
	return d, nil
}

// triggers is an error if the database has any: they would change more than is asked for.
func (d *database) triggers(ctx context.Context) error {
	schemas, err := d.texts(ctx, "SELECT sql FROM sqlite_schema WHERE sql IS NOT NULL")
	if err == nil && slices.ContainsFunc(schemas, schema.Trigger) {
		err = fmt.Errorf("a database with triggers %w", wrap.ErrNotWritable)
	}
	return err
}

func (d *database) find(ctx context.Context, of *Node, query string, each bool, visit func(Node) error) (bool, error) {
	if of != nil {
		r, ok := of.extra.(rowPart)
		if !ok || query != "." && !slices.Contains(r.columns, query) {
			return false, missingValue(query)
		}
		if r.column = query; query == "." {
			r.column = r.columns[0]
		}
		return false, visit(Node{extra: r})
	}
	parts, err := rowsOf(query)
	if err != nil {
		return false, err
	}
	return false, d.eachPart(ctx, parts, func(n Node, _ []byte) error {
		if each {
			r := n.extra.(rowPart)
			r.column = ""
			n.extra = r
		}
		return visit(n)
	})
}

// isColumn matches a name that needs no quotes in a query.
var isColumn = regexp.MustCompile(`^\w+$`)

// errNoKey means that no key tells the rows of a table apart.
var errNoKey = fmt.Errorf("what no key tells from others %w", wrap.ErrNotWritable)

// eachPart visits the rows of a SELECT that can be written, with the value of the first column.
func (d *database) eachPart(ctx context.Context, m [4]string, visit func(Node, []byte) error) error {
	keys, err := d.keys(ctx, m[1])
	if err != nil {
		return err
	}
	if len(keys) == 0 {
		return errNoKey
	}
	statement := "SELECT "
	for _, k := range keys {
		statement += quoted(k) + ", "
	}
	statement += m[0] + " FROM " + m[1] // of parts that the pattern lets through
	if m[2] != "" {
		statement += " WHERE " + m[2]
	}
	if m[3] != "" {
		statement += " ORDER BY " + m[3]
	}
	ctx, cancel := context.WithTimeout(ctx, allTime)
	defer cancel()
	rows, err := d.query(ctx, statement)
	if err != nil {
		if strings.Contains(err.Error(), "no such column: rowid") { // a view
			return errNoKey
		}
		return sqliteError(ctx, err)
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	columns := slices.Clone(names[len(keys):])
	if m[0] != "*" { // by the names that the query gives them
		for i, c := range strings.Split(m[0], ",") {
			columns[i] = strings.Trim(strings.TrimSpace(c), `"`)
		}
	}
	is := make([]any, len(keys))
	into := make([]any, len(names))
	var first sql.RawBytes
	for i := range into {
		switch {
		case i < len(keys):
			into[i] = &is[i]
		case i == len(keys):
			into[i] = &first
		default:
			into[i] = new(sql.RawBytes)
		}
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return sqliteError(ctx, err)
		}
		if err := visit(Node{extra: rowPart{m[1], keys, slices.Clone(is), columns, columns[0]}}, first); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return sqliteError(ctx, err)
	}
	return nil
}

// one reads one thing of the row: an expression in which %s is its column.
func (d *database) one(r rowPart, expression string) (text string, ok bool, err error) {
	if r.column == "" {
		r.column = r.columns[0]
	}
	err = d.eachRow(context.Background(), sqliteTime, fmt.Sprintf("SELECT "+expression+" FROM %s WHERE %s", quoted(r.column), r.table, r.where()), func(_ []string, cells []sql.RawBytes) error {
		text, ok = string(cells[0]), cells[0] != nil
		return nil
	}, r.is...)
	return text, ok, err
}

func (d *database) says(n *Node) (string, bool, error) {
	r, ok := n.extra.(rowPart)
	if !ok {
		return "", false, nil
	}
	text, _, err := d.one(r, "%s") // NULL is there, and empty
	return text, err == nil, err
}

// IsBytes reports whether a value of a row is bytes rather than text or a number.
func (e *Editor) IsBytes(n Node) bool {
	d, ok := e.writer.(*database)
	if !ok {
		return false
	}
	kind, _, err := d.one(n.extra.(rowPart), "typeof(%s)")
	return err == nil && kind == "blob"
}

func (d *database) set(n *Node, value string) (change, error) {
	r := n.extra.(rowPart)
	if r.column == "" {
		return change{}, fmt.Errorf("a whole row %w", wrap.ErrNotWritable)
	}
	kind, ok, err := d.one(r, "typeof(%s)")
	if err != nil || !ok {
		return change{}, errors.Join(err, fmt.Errorf("the row is not there: %w", wrap.ErrNotWritable))
	}
	typed, err := typedAs(kind, value)
	if err != nil {
		return change{}, err
	}
	return change{}, d.exec(fmt.Sprintf("UPDATE %s SET %s = ? WHERE %s", r.table, quoted(r.column), r.where()), append([]any{typed}, r.is...)...)
}

// replace writes other bytes to one value of a row, or all values of a row, which is given as JSON.
func (d *database) replace(n Node, piece []byte) error {
	r := n.extra.(rowPart)
	if r.column != "" {
		c := quoted(r.column)
		return d.exec(fmt.Sprintf("UPDATE %s SET %s = CASE typeof(%s) WHEN 'blob' THEN CAST(? AS BLOB) ELSE CAST(? AS TEXT) END WHERE %s", r.table, c, c, r.where()), append([]any{piece, piece}, r.is...)...)
	}
	if _, err := d.cut([]Node{n}); err != nil {
		return err
	}
	_, err := d.add(&n, &n, string(piece))
	return err
}

func (d *database) cut(parts []Node) ([]change, error) {
	for _, n := range parts {
		r := n.extra.(rowPart)
		if err := d.exec(fmt.Sprintf("DELETE FROM %s WHERE %s", r.table, r.where()), r.is...); err != nil {
			return nil, err
		}
	}
	return nil, nil
}

func (d *database) exec(statement string, args ...any) error {
	if !d.changed {
		if err := d.triggers(context.Background()); err != nil {
			return err
		}
	}
	d.changed = true
	if _, err := d.tx.Exec(statement, args...); err != nil {
		return fmt.Errorf("%w: %w", err, wrap.ErrNotWritable)
	}
	return nil
}

// result is the database with all changes, checked whole: the pages of the original, and those that are others now.
func (d *database) result(ctx context.Context, original wrap.Content) (wrap.Content, bool, error) {
	if !d.changed {
		return original, false, nil
	}
	ctx, cancel := context.WithTimeout(ctx, allTime)
	defer cancel()
	err := d.tx.Commit()
	if d.tx = nil; err != nil {
		return nil, false, err
	}
	var sound string
	if err := d.db.QueryRowContext(ctx, "PRAGMA quick_check").Scan(&sound); err != nil || sound != "ok" {
		return nil, false, fmt.Errorf("the database would not be sound: %s: %w", sound, errors.Join(err, wrap.ErrNotWritable))
	}
	if err := d.db.Close(); err != nil {
		return nil, false, err
	}
	d.db = nil
	now, err := os.Open(d.path)
	if err != nil {
		return nil, false, err
	}
	defer now.Close()
	edits, err := pagesThatDiffer(original, now)
	if err != nil {
		return nil, false, err
	}
	p, err := newPatched(original, edits)
	return p, err == nil, err
}

// pagesThatDiffer are the changes that make of one content another.
func pagesThatDiffer(was wrap.Content, now io.Reader) (edits []change, err error) {
	const page = 4096
	before := io.NewSectionReader(was, 0, was.Size())
	a, b := make([]byte, 64*page), make([]byte, 64*page)
	for at := 0; ; at += len(a) {
		n, errA := io.ReadFull(before, a)
		m, errB := io.ReadFull(now, b)
		for _, err := range []error{errA, errB} {
			if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
				return nil, err
			}
		}
		for from := 0; from < max(n, m); from += page {
			x, y := a[min(from, n):min(from+page, n)], b[min(from, m):min(from+page, m)]
			if !bytes.Equal(x, y) {
				edits = append(edits, change{at + min(from, n), at + min(from+page, n), string(y)})
			}
		}
		if errA != nil && errB != nil {
			return edits, nil
		}
	}
}
