package doc

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"

	"ostrov/internal/core/wrap"
)

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
func (d *database) piece(n Node) ([]byte, error) {
	r := n.extra.(rowPart)
	rows, err := d.query(context.Background(), fmt.Sprintf("SELECT * FROM %s WHERE %s", r.table, r.where()), r.is...)
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
func (d *database) add(in, _ *Node, piece string) (change, error) {
	row, err := parseRow([]byte(piece))
	if err != nil {
		return change{}, err
	}
	if r, ok := in.extra.(rowPart); ok && !strings.EqualFold(strings.Trim(r.table, `"`), row.Table) {
		return change{}, fmt.Errorf("a row of %s %w into %s", row.Table, wrap.ErrNotWritable, r.table)
	}
	var names, places []string
	var values []any
	for name, text := range row.Columns {
		value, err := rowValue(text)
		if err != nil {
			return change{}, err
		}
		names, places, values = append(names, quoted(name)), append(places, "?"), append(values, value)
	}
	return change{}, d.exec(fmt.Sprintf("INSERT INTO %s (%s) VALUES (%s)", quoted(row.Table), strings.Join(names, ", "), strings.Join(places, ", ")), values...)
}

func parseRow(piece []byte) (row rowText, err error) {
	if err := json.Unmarshal(piece, &row); err != nil || row.Table == "" || len(row.Columns) == 0 {
		return row, fmt.Errorf("what is no row %w into a table", wrap.ErrNotWritable)
	}
	return row, nil
}

// WithColumn is a piece that is a row of a database with another value in one column: a number if the row has one there.
func WithColumn(piece []byte, column, value string) ([]byte, error) {
	row, err := parseRow(piece)
	if err != nil {
		return nil, err
	}
	was, ok := row.Columns[column]
	if !ok {
		return nil, missingValue(column)
	}
	if _, err := strconv.ParseFloat(string(was), 64); err == nil {
		if _, err := strconv.ParseInt(value, 10, 64); err != nil {
			return nil, fmt.Errorf("a number stands there, and %q is none: %w", value, wrap.ErrNotWritable)
		}
		row.Columns[column] = json.RawMessage(value)
	} else if row.Columns[column], err = json.Marshal(value); err != nil {
		return nil, err
	}
	return json.Marshal(row)
}

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

// typedAs is a value of the type that is there now.
func typedAs(kind, value string) (any, error) {
	switch kind {
	case "integer":
		n, err := strconv.ParseInt(value, 10, 64)
		if err != nil {
			return nil, fmt.Errorf("a whole number stands there, and %q is none: %w", value, wrap.ErrNotWritable)
		}
		return n, nil
	case "real":
		x, err := strconv.ParseFloat(value, 64)
		if err != nil || math.IsNaN(x) || math.IsInf(x, 0) {
			return nil, fmt.Errorf("a number stands there, and %q is none: %w", value, wrap.ErrNotWritable)
		}
		return x, nil
	case "blob":
		return nil, fmt.Errorf("bytes stand there: %w", wrap.ErrNotWritable)
	case "null":
		if value == "" {
			return nil, nil
		}
	}
	return value, nil
}
