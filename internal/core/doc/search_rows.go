package doc

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"strings"
)

// search finds a text in the values of all tables.
func (d *database) search(ctx context.Context, text string, visit func(Found) error) error {
	tables, err := d.texts(ctx, "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%' ORDER BY name")
	if err != nil {
		return err
	}
	for _, table := range tables {
		if err := d.searchTable(ctx, table, text, visit); err != nil {
			return err
		}
	}
	return nil
}

func (d *database) searchTable(ctx context.Context, table, text string, visit func(Found) error) error {
	key, err := d.primary(ctx, table)
	if err != nil {
		return err
	}
	hidden := "" // a column in front that tells rows apart
	if rowid, _ := d.keys(ctx, table); len(key) == 0 && len(rowid) == 1 && rowid[0] == "rowid" {
		hidden = "rowid, "
	}
	return d.eachRow(ctx, allTime, "SELECT "+hidden+"* FROM "+quoted(table), func(names []string, cells []sql.RawBytes) error {
		for i, value := range cells {
			if hidden != "" && i == 0 {
				continue
			}
			for at, rest := 0, []byte(value); ; {
				n := bytes.Index(rest, []byte(text))
				if n < 0 || text == "" {
					break
				}
				found := Found{At: at + n, Table: table, Value: string(value), Query: rowQuery(table, key, hidden != "", names, cells, i)}
				if err := visit(found); err != nil {
					return err
				}
				at, rest = at+n+len(text), rest[n+len(text):]
			}
		}
		return nil
	})
}

// rowQuery is the SELECT of one value of a row, by the table's primary key or its rowid; "" if nothing that can be written in a query tells the row.
func rowQuery(table string, key []string, byRow bool, names []string, cells []sql.RawBytes, column int) string {
	plain := func(name string) bool { return isColumn.MatchString(name) }
	var parts []string
	for i, name := range names {
		is := byRow && i == 0
		for _, k := range key {
			is = is || strings.EqualFold(k, name)
		}
		if !is {
			continue
		}
		if i == column || !plain(name) || cells[i] == nil || bytes.ContainsAny(cells[i], "\x00;") {
			return ""
		}
		value := "'" + strings.ReplaceAll(string(cells[i]), "'", "''") + "'"
		if byRow {
			value = string(cells[i])
		}
		parts = append(parts, name+" = "+value)
	}
	if len(parts) == 0 || !plain(table) || !plain(names[column]) {
		return ""
	}
	return fmt.Sprintf("SELECT %s FROM %s WHERE %s", names[column], table, strings.Join(parts, " AND "))
}
