package doc

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"unicode/utf8"

	"ostrov/internal/core/wrap"
)

// Reword returns content in which word rewrites every name and value that is written with escapes or entities. The caller replaces the others in the
// text. A value that cannot be written stays.
func (spec Spec) Reword(ctx context.Context, content []byte, word func(text []byte) []byte) (written []byte, err error) {
	e, err := spec.Edit(ctx, bytes.NewReader(content))
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, e.Close()) }()
	var nodes []Node
	var says []string
	err = e.EachRespelled(ctx, func(n Node, _ []byte, text string) error {
		if now := string(word([]byte(text))); now != text {
			nodes, says = append(nodes, n), append(says, now)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for i, n := range nodes {
		if n.To > n.From {
			err = e.Set(n, says[i])
		} else {
			err = e.Rename(n, says[i])
		}
		if err != nil && !errors.Is(err, wrap.ErrNotWritable) {
			return nil, err
		}
	}
	return e.Done(ctx)
}

// RewordRows is Reword for a database: it rewrites texts, numbers and bytes in all tables, and keeps nothing of the rows that were deleted before. The
// error wraps wrap.ErrNotWritable if a table has rows that nothing tells apart, or the database has triggers.
func RewordRows(ctx context.Context, content wrap.Content, word func(text []byte) []byte) (written []byte, err error) {
	d, err := editSQLite(ctx, content)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, d.Close()) }()
	tables, err := d.texts(ctx, "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%'")
	if err != nil {
		return nil, err
	}
	for _, table := range tables {
		if err := d.rewordTable(ctx, table, word); err != nil {
			return nil, err
		}
	}
	err = d.tx.Commit()
	d.tx = nil
	if err != nil {
		return nil, err
	}
	if _, err := d.db.ExecContext(ctx, "VACUUM"); err != nil {
		return nil, fmt.Errorf("%w: %w", wrap.ErrNotWritable, err)
	}
	err = d.db.Close()
	d.db = nil
	if err != nil {
		return nil, err
	}
	return os.ReadFile(d.path)
}

// rewordTable rewrites the values of one table.
func (d *database) rewordTable(ctx context.Context, table string, word func([]byte) []byte) error {
	keys, err := d.keys(ctx, table)
	if err != nil {
		return err
	}
	if len(keys) == 0 {
		return errNoKey
	}
	statement := "SELECT *"
	for _, k := range keys {
		statement += ", " + quoted(k)
	}
	rows, err := d.query(ctx, statement+" FROM "+quoted(table))
	if err != nil {
		return sqliteError(ctx, err)
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	type update struct {
		statement string
		args      []any
	}
	var updates []update // run when the rows have been read
	is, into := make([]any, len(names)), make([]any, len(names))
	for i := range into {
		into[i] = &is[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return sqliteError(ctx, err)
		}
		var sets []string
		var args []any
		for i, v := range is[:len(names)-len(keys)] {
			if now, differs := reworded(v, word); differs {
				sets, args = append(sets, quoted(names[i])+" = ?"), append(args, now)
			}
		}
		if len(sets) > 0 {
			r := rowPart{keys: keys, is: slices.Clone(is[len(names)-len(keys):])}
			updates = append(updates, update{fmt.Sprintf("UPDATE %s SET %s WHERE %s", quoted(table), strings.Join(sets, ", "), r.where()), append(args, r.is...)})
		}
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return sqliteError(ctx, err)
	}
	for _, u := range updates {
		if err := d.exec(u.statement, u.args...); err != nil {
			return err
		}
	}
	return nil
}

// reworded is a value of a row as word makes it, of the same type.
func reworded(v any, word func([]byte) []byte) (now any, differs bool) {
	var text []byte
	switch v := v.(type) {
	case string:
		text = []byte(v)
	case int64:
		text = fmt.Append(nil, v)
	case []byte:
		if !utf8.Valid(v) {
			return nil, false
		}
		text = v
	default:
		return nil, false
	}
	as := word(bytes.Clone(text))
	if bytes.Equal(as, text) {
		return nil, false
	}
	switch v.(type) {
	case int64:
		n, err := typedAs("integer", string(as))
		return n, err == nil
	case []byte:
		return as, true
	}
	return string(as), true
}
