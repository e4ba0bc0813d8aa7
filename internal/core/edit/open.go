package edit

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/field"
	"ostrov/internal/core/merge"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/wrap"
)

// Text is a file of a save as people edit it: its decoded text, one table of a database as CSV, or of a binary file a listing of what the description
// names in it.
type Text struct {
	File  string // a [save.file] id
	Path  string // in the save's folder
	Table string // of a database, else ""
	Name  string // what a file with the text is to be called
	Data  []byte
}

// ofForm is how the name of a text ends, so that editors know what it is.
var ofForm = map[string]string{"json": ".json", "xml": ".xml", "ini": ".ini", "sqlite": ".csv"}

// Texts are the files of a save that words mean, by their ids or paths; without words all that are texts, or else all.
func Texts(ctx context.Context, src Source, words []string) (all []Text, err error) {
	w, err := begin(ctx, src)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, w.close()) }()
	kind := src.Save.Kind
	ids := words
	if len(ids) == 0 {
		ids = slices.Sorted(maps.Keys(kind.Files))
		texts := slices.DeleteFunc(slices.Clone(ids), func(id string) bool { return !doc.IsText(kind.Files[id].Form) })
		if len(texts) > 0 {
			ids = texts
		}
	}
	for _, id := range ids {
		found, err := w.editors(id)
		if err != nil {
			return nil, err
		}
		if len(found) == 0 && len(words) > 0 {
			return nil, problem.Usage(nil, "this save has no %s", id)
		}
		for _, o := range found {
			more, err := w.texts(id, o)
			if err != nil {
				return nil, w.failed(o.name, err)
			}
			all = append(all, more...)
		}
	}
	return all, nil
}

// texts are those of one file.
func (w *work) texts(id string, o *opened) (all []Text, err error) {
	base := strings.TrimSuffix(path.Base(o.name), path.Ext(o.name))
	switch o.file.Form {
	case "sqlite":
		tables, err := o.editor.Tables(w.ctx)
		if err != nil {
			return nil, err
		}
		for _, table := range tables {
			data, err := w.csvOf(o, table)
			if errors.Is(err, wrap.ErrNotWritable) { // such a table is not changed
				continue
			}
			if err != nil {
				return nil, err
			}
			all = append(all, Text{id, o.name, table, base + "." + table + ".csv", data})
		}
		return all, nil
	case "bytes", "chunks":
		data, err := w.listing(id, o)
		return []Text{{id, o.name, "", base + ".txt", data}}, err
	}
	ending := ofForm[o.file.Form]
	if ending == "" {
		ending = ".txt"
	}
	text, err := o.editor.Text()
	return []Text{{id, o.name, "", strings.TrimSuffix(base, ending) + ending, slices.Clone(text)}}, err
}

// csvOf is a table as CSV: the names of the columns, then the rows. Bytes are left out, as an empty column: they are not text.
func (w *work) csvOf(o *opened, table string) ([]byte, error) {
	rows, err := o.editor.Find(w.ctx, nil, "SELECT * FROM "+table, true)
	if err != nil {
		return nil, err
	}
	names, err := o.editor.Columns(w.ctx, table)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	out := csv.NewWriter(&b)
	if err := out.Write(names); err != nil {
		return nil, err
	}
	for i := range rows {
		var cells []string
		for _, name := range names {
			text, err := w.cell(o, &rows[i], name)
			if err != nil {
				return nil, err
			}
			cells = append(cells, text)
		}
		if err := out.Write(cells); err != nil {
			return nil, err
		}
	}
	out.Flush()
	return b.Bytes(), out.Error()
}

// asBlob is what stands in a CSV for bytes.
const asBlob = "(bytes)"

// cell is one value of a row.
func (w *work) cell(o *opened, row *doc.Node, column string) (string, error) {
	at, err := o.editor.Find(w.ctx, row, column, false)
	if err != nil || len(at) != 1 {
		return "", errors.Join(err, wrap.ErrNotWritable)
	}
	if o.editor.IsBytes(at[0]) {
		return asBlob, nil
	}
	text, _, err := o.editor.Value(at[0])
	return text, err
}

// listed are the fields of a binary file that may be changed, by their ids.
func (w *work) listed(id string) map[string]*field.Field {
	found := map[string]*field.Field{}
	for name, fields := range w.Save.Kind.Field {
		for i := range fields {
			if f := &fields[i]; f.In == id && len(f.At) == 1 && f.Each == "" && len(f.Ref) == 0 {
				found[name] = f
			}
		}
	}
	return found
}

// listing is a binary file as its named fields.
func (w *work) listing(id string, o *opened) ([]byte, error) {
	var b strings.Builder
	b.WriteString("# " + path.Base(o.name) + ": what the description of " + w.Game.Title + " names in it. Change what stands behind the =.\n")
	fields := w.listed(id)
	for _, name := range slices.Sorted(maps.Keys(fields)) {
		at, err := o.editor.Find(w.ctx, nil, fields[name].At[0], false)
		if err != nil {
			return nil, err
		}
		if len(at) == 0 {
			continue
		}
		text, _, err := o.editor.Value(at[0])
		if err != nil {
			return nil, err
		}
		fmt.Fprintf(&b, "# at %s\n%s = %s\n", fields[name].At[0], name, text)
	}
	if len(fields) == 0 {
		return nil, fmt.Errorf("the description names nothing in it: it %w", wrap.ErrNotWritable)
	}
	return []byte(b.String()), nil
}

// Reopened is a save with texts that somebody edited.
type Reopened struct {
	*Edited
	Difference []string // the lines that differ
}

// Reopen puts edited texts in the place of those that Texts gave, in the same order. One that does not read as its form does is an error that says where.
func Reopen(ctx context.Context, src Source, was, now []Text) (r *Reopened, err error) {
	w, err := begin(ctx, src)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, w.close()) }()
	r = &Reopened{}
	for i, t := range now {
		if bytes.Equal(t.Data, was[i].Data) {
			continue
		}
		o, err := w.editor(t.Path, w.Save.Kind.Files[t.File])
		if err != nil {
			return nil, err
		}
		switch {
		case t.Table != "":
			err = w.putRows(o, t.Table, was[i].Data, t.Data)
		case o.file.Form == "bytes" || o.file.Form == "chunks":
			err = w.putListing(t.File, o, was[i].Data, t.Data)
		default:
			o.editor.Rewrite(t.Data)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", t.Name, err)
		}
		if len(now) > 1 {
			r.Difference = append(r.Difference, " "+t.Name)
		}
		r.Difference = append(r.Difference, merge.Difference(was[i].Data, t.Data)...)
	}
	r.Edited, err = w.edited()
	return r, err
}

// putListing writes the fields of a listing that are others.
func (w *work) putListing(id string, o *opened, was, now []byte) error {
	read := func(data []byte) (map[string]string, error) {
		values := map[string]string{}
		for i, line := range strings.Split(string(data), "\n") {
			line = strings.TrimSuffix(line, "\r")
			if strings.HasPrefix(line, "#") || strings.TrimSpace(line) == "" {
				continue
			}
			name, value, ok := strings.Cut(line, " = ")
			if !ok {
				return nil, fmt.Errorf("line %d: it is not NAME = VALUE", i+1)
			}
			values[name] = value
		}
		return values, nil
	}
	before, err := read(was)
	if err != nil {
		return err
	}
	after, err := read(now)
	if err != nil {
		return err
	}
	fields := w.listed(id)
	for _, name := range slices.Sorted(maps.Keys(after)) {
		if _, ok := before[name]; !ok {
			return fmt.Errorf("%s is no field of it", name)
		}
		if after[name] == before[name] {
			continue
		}
		at, err := o.editor.One(w.ctx, nil, fields[name].At[0])
		if err != nil {
			return err
		}
		if err := o.editor.Set(at, after[name]); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	return nil
}

// putRows writes the rows of a table that are others: by their places, so that rows may be changed, and added or left out at the end.
func (w *work) putRows(o *opened, table string, was, now []byte) error {
	before, err := csv.NewReader(bytes.NewReader(was)).ReadAll()
	if err != nil {
		return err
	}
	after, err := csv.NewReader(bytes.NewReader(now)).ReadAll()
	if err != nil {
		return err
	}
	if len(after) == 0 || !slices.Equal(before[0], after[0]) {
		return errors.New("line 1: the names of the columns must stay")
	}
	names := before[0]
	rows, err := o.editor.Find(w.ctx, nil, "SELECT * FROM "+table, true)
	if err != nil {
		return err
	}
	if len(after) < len(before) {
		before, rows, err = w.leaveOut(o, before, after, rows)
		if err != nil {
			return err
		}
	}
	for i, cells := range after[1:] {
		if i >= len(rows) {
			if err := o.editor.InsertRow(table, names, cells); err != nil {
				return fmt.Errorf("row %d: %w", i+1, err)
			}
			continue
		}
		for j, cell := range cells {
			if cell == before[i+1][j] {
				continue
			}
			at, err := o.editor.Find(w.ctx, &rows[i], names[j], false)
			if err != nil || len(at) != 1 {
				return errors.Join(err, wrap.ErrNotWritable)
			}
			if err := o.editor.Set(at[0], cell); err != nil {
				return fmt.Errorf("row %d, %s: %w", i+1, names[j], err)
			}
		}
	}
	return nil
}

// leaveOut removes the rows that are not there any more: those whose text is not among what stands there now, as many as are missing.
func (w *work) leaveOut(o *opened, before, after [][]string, rows []doc.Node) ([][]string, []doc.Node, error) {
	missing := len(before) - len(after)
	kept, stay := before[:1:1], rows[:0:0]
	var gone []doc.Node
	j := 1
	for i := 1; i < len(before); i++ {
		same := j < len(after) && slices.Equal(before[i], after[j])
		if !same && missing > 0 && (j >= len(after) || i+1 < len(before) && slices.Equal(before[i+1], after[j]) || !slices.ContainsFunc(after[j:], func(cells []string) bool { return slices.Equal(cells, before[i]) })) {
			gone = append(gone, rows[i-1])
			missing--
			continue
		}
		kept, stay = append(kept, before[i]), append(stay, rows[i-1])
		j++
	}
	return kept, stay, o.editor.Remove(gone...)
}
