package field

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/wrap"
)

// maxItems bounds the elements of all lists of one save or mod.
const maxItems = 100_000

// List returns the elements of all lists, in order. known tells whether they were there: not found is not none. Where one of them is not found
// in files that are there, or an entry does not say which it is, the whole is not known; one that is required and not there is damage.
func (f *Files) List(ctx context.Context, lists Lists) (items []Item, known bool, err error) {
	unread := false
	for i := range lists {
		l := &lists[i]
		r := listReader{l, f.files[l.In].Form, maxItems - len(items)}
		there, files := false, 0
		err := f.each(ctx, l.In, func(d *doc.Doc) error {
			more, found, whole, err := r.read(ctx, d)
			items, there, unread = append(items, more...), there || found, unread || !whole
			r.limit -= len(more)
			files++
			return err
		})
		if err != nil {
			return nil, false, err
		}
		if l.Required && !there {
			return nil, false, fmt.Errorf("%w: %s has no list %s", wrap.ErrDamaged, f.files[l.In].Path, cmp.Or(l.Each, l.At, l.Section))
		}
		known, unread = known || there, unread || files > 0 && !there
	}
	return items, known && !unread, nil
}

// listReader reads one list out of documents.
type listReader struct {
	*List
	form  string
	limit int
}

// read reads the list of one document. there tells whether it is there at all, whole whether each of its entries says which it is.
func (l listReader) read(ctx context.Context, d *doc.Doc) (items []Item, there, whole bool, err error) {
	if l.Section != "" {
		section, ok, err := doc.Section(ctx, d, l.Section)
		if err != nil || !ok {
			if err == nil {
				there, err = l.isEmpty(ctx, d)
			}
			return nil, there, true, err
		}
		d, there = section, true
	}
	if l.At != "" {
		text, ok, err := d.Value(ctx, l.At)
		if err != nil {
			return nil, false, false, err
		}
		if !ok {
			there, err = l.isEmpty(ctx, d)
			return nil, there, true, err
		}
		items, whole, err = l.split(ctx, text)
		return items, true, whole, err
	}
	elements, err := d.Each(ctx, cmp.Or(l.Each, ".*"))
	if errors.Is(err, wrap.ErrUnknown) { // a table that is not there
		if l.Empty != "" {
			there, err = l.isEmpty(ctx, d)
			return nil, there, true, err
		}
		return nil, false, true, nil
	}
	if err != nil {
		return nil, false, false, err
	}
	if l.keyed() {
		if elements, there, err = doc.Members(ctx, elements); err != nil {
			return nil, false, false, err
		}
	}
	if len(elements) > l.limit {
		return nil, false, false, fmt.Errorf("%w: a list of more than %d", wrap.ErrTooLarge, maxItems)
	}
	if len(elements) == 0 {
		if !there {
			there, err = l.isEmpty(ctx, d)
		}
		return nil, there, true, err
	}
	whole = true
	for _, e := range elements {
		item, on, err := l.item(ctx, e)
		if err != nil {
			return nil, false, false, err
		}
		if item.ID == "" { // named by its digest alone
			item.ID = cmp.Or(item.Title, item.Digest)
			if item.Digest == "" {
				item.ID = ""
			}
		}
		if on && item.ID != "" {
			items = append(items, item)
		}
		whole = whole && (!on || item.ID != "")
	}
	return items, true, whole, nil
}

// keyed reports whether the list is an object whose members are the elements, each by its key.
func (l listReader) keyed() bool {
	if l.form != "json" && l.form != "blocks" {
		return false
	}
	for _, c := range l.columns() {
		if q := c.query(); q == atKey || q == atValue {
			return true
		}
	}
	return false
}

func (l *List) columns() map[string]*Column {
	return map[string]*Column{"id": &l.ID, "version": &l.Version, "title": &l.Title, "digest": &l.Digest, "range": &l.Range}
}

// isEmpty reports whether a list that has no element is there and empty: by what the description says of an empty one, or by what the list stands in
// being there. Of texts, lines, bytes, chunks, and of an INI without sections nothing else tells.
func (l listReader) isEmpty(ctx context.Context, d *doc.Doc) (bool, error) {
	if l.Whole {
		return true, nil
	}
	if l.Empty != "" {
		_, ok, err := d.Value(ctx, l.Empty)
		return ok, err
	}
	around, ok := l.container()
	if !ok {
		return false, nil
	}
	if around == "" { // the file itself
		return true, nil
	}
	found, err := d.Each(ctx, around)
	return len(found) > 0, err
}

// container is the query for what a list stands in, "" for the file itself; ok is false where none can be told from the query.
func (l listReader) container() (query string, ok bool) {
	switch l.form {
	case "json":
		for _, each := range []string{"[*]", ".*"} {
			if around, ok := strings.CutSuffix(l.Each, each); ok {
				return strings.TrimSuffix(around, "$"), !strings.Contains(around, "..")
			}
		}
	case "blocks": // a block that repeats is not there where it is there no time: what it stands in tells
		around, ok := strings.CutSuffix(l.Each, "[*]")
		i := strings.LastIndexByte(around, '.')
		if !ok || i < 0 {
			return "", false
		}
		return strings.TrimSuffix(around[:i], "$"), !strings.Contains(around[:i], "..")
	case "xml":
		i := strings.LastIndexByte(l.Each, '/')
		if i <= 0 || strings.Contains(l.Each, "//") {
			return "", false
		}
		return l.Each[:i], true
	case "sqlite": // a table that is not there is an error
		return "", true
	}
	return "", false
}

// split takes a value apart. whole is false where a part is not what the pattern for parts says.
func (l listReader) split(ctx context.Context, text string) (items []Item, whole bool, err error) {
	parts := []string{text}
	if l.Split != "" {
		parts = strings.Split(text, l.Split)
	}
	if len(parts) > l.limit {
		return nil, false, fmt.Errorf("%w: a list of more than %d", wrap.ErrTooLarge, maxItems)
	}
	whole = true
	for _, p := range parts {
		if p = strings.TrimSpace(p); p == "" {
			continue
		}
		item := Item{ID: p, Expects: l.Expects, Kind: l.Kind}
		if l.part != nil {
			part, ok := doc.Part(l.part, p)
			if !ok {
				whole = false
				continue
			}
			var on bool
			if item, on, err = l.item(ctx, part); err != nil {
				return nil, false, err
			}
			if !on {
				continue
			}
		}
		if item.ID == "" {
			whole = false
			continue
		}
		items = append(items, item)
	}
	return items, whole, nil
}

// item reads an element; on is false where it is one that does not count. One whose value is to tell that and that has none is damage of the
// list: nobody can say whether it counts.
func (l listReader) item(ctx context.Context, e *doc.Doc) (item Item, on bool, err error) {
	item.Expects, item.Kind = l.Expects, l.Kind
	if l.On != "" {
		self := doc.Self(l.form)
		if doc.ByGroup(e) {
			self = "."
		}
		v, _, err := e.Value(ctx, self)
		if err != nil || !l.on.MatchString(v) {
			return item, false, err
		}
	}
	into := map[string]*string{"id": &item.ID, "version": &item.Version, "title": &item.Title, "digest": &item.Digest, "range": &item.Range}
	for name, column := range l.columns() {
		query := column.query()
		switch {
		case query == "" && doc.ByGroup(e):
			query = name
		case query == "" && name == "id" && l.Section != "":
			query = atKey
		case query == "" && name == "id" && column.Default == "": // the element itself
			query = doc.Self(l.form)
		case query == "" && column.Default == "":
			continue
		case query == atValue && doc.ByGroup(e):
			query = "."
		}
		text, ok := "", false
		if query != "" {
			if text, ok, err = e.Value(ctx, query); err != nil {
				return item, false, err
			}
		}
		v, _, err := (*Field)(column).value(text, ok)
		if errors.Is(err, wrap.ErrDamaged) && name != "id" { // what one entry says of itself beside which it is does not make the save unreadable
			continue
		}
		if err != nil {
			return item, false, err
		}
		*into[name] = v.Raw
		if name == "title" {
			*into[name] = v.Text
		}
	}
	return item, true, nil
}
