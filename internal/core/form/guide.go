package form

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// Guide says which query leads to a byte of a decoded file. It is asked for bytes in rising order.
type Guide struct {
	next func(at int) string
	// learnt are places that it has come by, of a large file.
	learnt *milestones
	close  func()
}

// Guide is a guide through a file of a form; of a form without queries that name one value, or behind what does not read, it says nothing. JSON, XML and
// blocks are read as far as is asked, and not held in memory. learnt is what a guide through the same file has learnt, or nil: then what lies between
// these places is not read. It must be closed.
func (spec Spec) Guide(file io.ReaderAt, size int64, learnt []byte) *Guide {
	nothing := &Guide{next: func(int) string { return "" }}
	switch spec.Form {
	case "json":
		return jsonGuide(inFile(file, int(size)), learnt)
	case "xml":
		return xmlGuide(inFile(file, int(size)), learnt)
	case "blocks":
		return blocksGuide(inFile(file, int(size)), spec.Blocks, learnt)
	case "ini":
		if data, err := readAbout(io.NewSectionReader(file, 0, size), size, maxTree); err == nil && size <= maxTree {
			return iniGuide(data)
		}
	}
	return nothing
}

// Close frees what the guide holds.
func (g *Guide) Close() {
	if g.close != nil {
		g.close()
	}
}

// To is the query that leads to the value that has the byte at a place, or "".
func (g *Guide) To(at int) string { return g.next(at) }

// Learnt is what the next guide through the file, as it is now, may be given; nil where that is nothing new.
func (g *Guide) Learnt() []byte {
	if g.learnt == nil {
		return nil
	}
	return g.learnt.written()
}

// spot is a value and the query that leads to it.
type spot struct {
	to    int // behind its last byte
	query string
}

// along is a guide by spots in rising order, which more finds as far as is asked: the next one, which may be before the place.
func along(more func(at int) (spot, bool)) *Guide {
	var now spot
	known := true
	return &Guide{next: func(at int) string {
		for known && now.to <= at {
			now, known = more(at)
		}
		if !known {
			return ""
		}
		return now.query
	}}
}

func jsonGuide(text *source, learnt []byte) *Guide {
	t := newJSON(text)
	t.recall("json")
	w := &jsonWalk{at: text.bom()}
	stones := milestonesOf(text.size, learnt)
	known := true
	return &Guide{learnt: stones, next: func(at int) string {
		if m, ok := stones.before(at, w.at); ok {
			w = m.walk()
		}
		for known && w.at <= at {
			was := w.at
			w.reach = at
			known = t.walk(w, text.size, min(at, w.at+stones.every)) == nil && w.at > was
			if known && stones.due(w.at) {
				stones.lay(stoneOf(w))
			}
		}
		if !known {
			return ""
		}
		return t.query(w)
	}}
}

// xmlWay is one step of the way from the root of an XML to where a guide is.
type xmlWay struct {
	name  string
	n     int             // which of its name it is in what it stands in
	seen  map[string]*int // how many of each name there were in it
	last  string          // the name that came last, and how many there were: mostly they come one like the other
	of    *int
	ended int // where that one ended
}

// meet counts one more of a name in the step.
func (w *xmlWay) meet(name []byte) xmlWay {
	if w.of == nil || w.last != string(name) {
		known, ok := w.seen[string(name)]
		if !ok {
			if w.seen == nil {
				w.seen = map[string]*int{}
			}
			known = new(int)
			w.seen[string(name)] = known
		}
		w.last, w.of = string(name), known
	}
	*w.of++
	return xmlWay{name: w.last, n: *w.of}
}

// alikeOn passes over elements before a place that are written as the one that has just ended in a step, counts them, and returns where the last of them
// ends.
func (t *xmlSource) alikeOn(in *xmlWay, at, until int) int {
	before := in.ended
	in.ended = at
	if before == 0 || before < t.base || at-before > maxAgain || at > t.base+len(t.data) || in.of == nil {
		return at
	}
	length, n := t.again.pass(t.data[before-t.base:at-t.base], t.data[at-t.base:], until-at)
	*in.of += n
	in.ended += length
	return in.ended
}

func xmlGuide(text *source, learnt []byte) *Guide {
	t := newXML(text)
	t.recall("xml")
	way := []xmlWay{{}}
	var tag place // the last one that was passed
	kind := noTag
	pass := func(until, at int) bool { // goes on behind the last tag, to the next one; nobody asks before at
		if kind == endTag || kind == emptyTag {
			way = way[:max(1, len(way)-1)]
			tag.to = t.alikeOn(&way[len(way)-1], tag.to, until)
		}
		var err error
		if kind, tag, err = t.tag(tag.to, text.size); err != nil || kind == noTag {
			return false
		}
		if kind == endTag {
			return true
		}
		way = append(way, way[len(way)-1].meet(t.name(tag)))
		if e, ok := t.part(tag.from); ok && kind == startTag && e.to <= at {
			kind, tag.to = emptyTag, e.to // as good as empty
		}
		return true
	}
	stones := milestonesOf(text.size, learnt)
	known := pass(0, 0)
	return &Guide{learnt: stones, next: func(at int) string {
		if m, ok := stones.before(at, tag.to); ok {
			way, tag, kind = m.way(), place{m.At, m.At}, startTag // the next one is in the innermost that is open
		}
		for known && tag.to <= at {
			known = pass(min(at, tag.to+stones.every), at)
			if known && stones.due(tag.to) {
				open := way
				if kind != startTag {
					open = way[:max(1, len(way)-1)]
				}
				stones.lay(stoneOn(open, tag.to))
			}
		}
		switch {
		case !known:
			return ""
		case at >= tag.from || kind == endTag:
			return wayOf(way) + attributeAt(t.peek(tag.from, tag.to), at-tag.from)
		}
		return wayOf(way[:len(way)-1]) // before the element
	}}
}

// wayOf is a way as a query.
func wayOf(way []xmlWay) string {
	var b strings.Builder
	for _, step := range way[1:] {
		b.WriteString("/" + step.name + "[" + strconv.Itoa(step.n) + "]")
	}
	return b.String()
}

// attributeAt is the step to the attribute whose value has a byte of a tag, or "".
func attributeAt(tag []byte, at int) string {
	token, err := newXMLDecoder(tag).RawToken()
	start, ok := token.(xml.StartElement)
	if err != nil || !ok {
		return ""
	}
	for _, a := range start.Attr {
		if from, to, ok := attributeIn(tag, rawName(a.Name)); ok && at >= from && at < to {
			return "/@" + rawName(a.Name)
		}
	}
	return ""
}

// rawName is a name as it stands in the file.
func rawName(n xml.Name) string {
	if n.Space != "" {
		return n.Space + ":" + n.Local
	}
	return n.Local
}

func iniGuide(data []byte) *Guide {
	lines := iniTexts(data)
	at := 0
	return along(func(int) (spot, bool) {
		if len(lines) == 0 {
			return spot{}, false
		}
		l := lines[0]
		lines = lines[1:]
		at += len(l.text)
		query := ""
		if l.at.key != "" {
			query = strings.TrimPrefix(l.at.section+"."+l.at.key, ".")
		}
		return spot{at, query}, true
	})
}

// Row is one row of a table.
type Row struct {
	Table   string
	Columns []string
	Values  [][]byte
	key     int // the column by which it is asked for, or -1
}

// Query is the query that leads to one of the row's values, "" where nothing tells the row from others.
func (r Row) Query(column int) string {
	if r.key < 0 || r.key == column {
		return ""
	}
	return fmt.Sprintf("SELECT %s FROM %s WHERE %s = '%s'", r.Columns[column], r.Table, r.Columns[r.key], strings.ReplaceAll(string(r.Values[r.key]), "'", "''"))
}

// EachRow visits the rows of all tables of a database. It reads a private copy, for no longer than a query may take.
func EachRow(ctx context.Context, data []byte, visit func(Row) error) (err error) {
	dir, err := os.MkdirTemp("", "ostrov-read-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	path := filepath.Join(dir, "copy.sqlite")
	if err := os.WriteFile(path, data, 0o600); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, 30*sqliteTime)
	defer cancel()
	db, err := foreign(ctx, path, "query_only(1)")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, db.Close()) }()
	var tables []string
	rows, err := db.QueryContext(ctx, "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%' ORDER BY name")
	if err != nil {
		return fmt.Errorf("%w: %v", ErrDamaged, err)
	}
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return errors.Join(err, rows.Close())
		}
		tables = append(tables, name)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	for _, table := range tables {
		if err := eachRowOf(ctx, db, table, visit); err != nil {
			return err
		}
	}
	return nil
}

func eachRowOf(ctx context.Context, db *sql.DB, table string, visit func(Row) error) error {
	rows, err := db.QueryContext(ctx, `SELECT * FROM "`+strings.ReplaceAll(table, `"`, `""`)+`"`)
	if err != nil {
		return fmt.Errorf("%w: the table %s: %v", ErrDamaged, table, err)
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return err
	}
	row := Row{Table: table, Columns: columns, key: -1}
	if len(columns) > 1 {
		row.key = 0 // by its first column, as people would
	}
	for rows.Next() {
		raw := make([]sql.RawBytes, len(columns))
		into := make([]any, len(columns))
		for i := range raw {
			into[i] = &raw[i]
		}
		if err := rows.Scan(into...); err != nil {
			return err
		}
		row.Values = make([][]byte, len(raw))
		for i, v := range raw {
			row.Values[i] = bytes.Clone(v)
		}
		if err := visit(row); err != nil {
			return err
		}
	}
	return rows.Err()
}
