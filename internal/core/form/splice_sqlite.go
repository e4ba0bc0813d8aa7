package form

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
)

// writable is a SELECT whose one value can be written: one column of one table, where columns are equal to values.
var (
	writable  = regexp.MustCompile(`(?is)^\s*SELECT\s+("?\w+"?)\s+FROM\s+("?\w+"?)\s+WHERE\s+(.+?)\s*;?\s*$`)
	condition = regexp.MustCompile(`(?is)^\s*"?\w+"?\s*=\s*(?:'(?:[^']|'')*'|-?\d+)(?:\s+AND\s+"?\w+"?\s*=\s*(?:'(?:[^']|'')*'|-?\d+))*\s*$`)
)

// oneValue takes a SELECT apart into column, table and condition.
func oneValue(query string) (parts [3]string, err error) {
	m := writable.FindStringSubmatch(query)
	if m == nil || !condition.MatchString(m[3]) {
		return parts, fmt.Errorf("%q: %w: it is not SELECT column FROM table WHERE column = value", query, ErrNotWritable)
	}
	return [3]string(m[1:]), nil
}

// spliceSQLite returns a database with one value changed: in a private copy, in one transaction, and checked whole.
func spliceSQLite(ctx context.Context, data []byte, query, value string) (written []byte, err error) {
	m, err := oneValue(query)
	if err != nil {
		return nil, err
	}
	dir, err := os.MkdirTemp("", "ostrov-write-")
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	path := filepath.Join(dir, "copy.sqlite")
	if err := os.WriteFile(path, data, 0o600); err != nil {
		return nil, err
	}
	if err := updateOne(ctx, path, m[0], m[1], m[2], value); err != nil {
		return nil, fmt.Errorf("%s: %w", query, err)
	}
	return os.ReadFile(path)
}

// updateOne changes the one value of a database in a file of our own.
func updateOne(ctx context.Context, path, column, table, where, value string) (err error) {
	ctx, cancel := context.WithTimeout(ctx, 15*sqliteTime)
	defer cancel()
	dsn := "file:" + (&url.URL{Path: filepath.ToSlash(path)}).EscapedPath() + "?_pragma=trusted_schema(0)&_pragma=cell_size_check(1)"
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return err
	}
	db.SetMaxOpenConns(1)
	defer func() { err = errors.Join(err, db.Close()) }()
	var kind string
	rows, err := db.QueryContext(ctx, fmt.Sprintf("SELECT typeof(%s) FROM %s WHERE %s LIMIT 2", column, table, where)) // names and conditions that the pattern lets through
	if err != nil {
		return fmt.Errorf("%w: %v", ErrDamaged, err)
	}
	n := 0
	for ; rows.Next(); n++ {
		if err := rows.Scan(&kind); err != nil {
			return errors.Join(err, rows.Close())
		}
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	switch {
	case n == 0:
		return fmt.Errorf("there is no such row: %w", ErrNotWritable)
	case n > 1:
		return fmt.Errorf("there is more than one such row: %w", ErrNotWritable)
	}
	typed, err := typedAs(kind, value)
	if err != nil {
		return err
	}
	tx, err := db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, fmt.Sprintf("UPDATE %s SET %s = ? WHERE %s", table, column, where), typed); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	var sound string
	if err := db.QueryRowContext(ctx, "PRAGMA integrity_check").Scan(&sound); err != nil || sound != "ok" {
		return fmt.Errorf("the database would not be sound: %s: %w", sound, errors.Join(err, ErrNotWritable))
	}
	return nil
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
