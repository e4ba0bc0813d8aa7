package game

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/form"
)

// Files reads fields and lists from a group of declared files, each of which is opened at most once.
// It is not safe for concurrent use.
type Files struct {
	name   string
	files  map[string]File
	locate func(File) (fs.FS, string, error)
	docs   map[string]form.Doc
	errs   map[string]error
}

// NewFiles reads the files declared in files, which locate finds; name is what from_name is matched against.
func NewFiles(name string, files map[string]File, locate func(File) (fs.FS, string, error)) *Files {
	return &Files{name: name, files: files, locate: locate, docs: map[string]form.Doc{}, errs: map[string]error{}}
}

// InFS reads the files declared in files from a save or mod: fsys holds it, and members are its files, relative to fsys, of which the
// path "." means the first.
func InFS(fsys fs.FS, name string, members []string, files map[string]File) *Files {
	return NewFiles(name, files, func(f File) (fs.FS, string, error) {
		if f.Path == "." && len(members) > 0 {
			return fsys, members[0], nil
		}
		for _, m := range members {
			if m == f.Path || doublestar.MatchUnvalidated(f.Path, m) || strings.EqualFold(m, f.Path) {
				return fsys, m, nil
			}
		}
		return nil, "", fmt.Errorf("%s: %w", f.Path, fs.ErrNotExist)
	})
}

// Close frees what has been opened.
func (f *Files) Close() error {
	var err error
	for _, doc := range f.docs {
		err = errors.Join(err, doc.Close())
	}
	f.docs = map[string]form.Doc{}
	return err
}

// doc opens the file id. A missing optional file is no document and no error.
func (f *Files) doc(ctx context.Context, id string) (form.Doc, error) {
	if doc, ok := f.docs[id]; ok {
		return doc, nil
	}
	if err, ok := f.errs[id]; ok {
		return nil, err
	}
	declared := f.files[id]
	fsys, name, err := f.locate(declared)
	var doc form.Doc
	if err == nil {
		doc, err = form.Open(ctx, fsys, name, declared.Spec(), form.DefaultLimits)
	}
	if err != nil {
		if declared.Optional && (errors.Is(err, fs.ErrNotExist) || errors.Is(err, ErrNoPlace)) {
			err = nil
		}
		f.errs[id] = err
		return nil, err
	}
	f.docs[id] = doc
	return doc, nil
}

// Field returns the first of the alternatives that has a value. A file that is missing or damaged is an error only when no other
// alternative has one.
func (f *Files) Field(ctx context.Context, fields Fields) (form.Value, bool, error) {
	var firstErr error
	for i := range fields {
		v, ok, err := f.one(ctx, &fields[i])
		if ok {
			return v, true, nil
		}
		if err != nil && firstErr == nil {
			firstErr = err
		}
	}
	return form.Value{}, false, firstErr
}

func (f *Files) one(ctx context.Context, field *Field) (form.Value, bool, error) {
	raw, ok, err := f.raw(ctx, field)
	if err != nil {
		return form.Value{}, false, err
	}
	if ok && field.Split != "" {
		raw, _, _ = strings.Cut(raw, field.Split)
		raw = strings.TrimSpace(raw)
	}
	if !ok || raw == "" {
		if field.Default == "" {
			return form.Value{}, false, nil
		}
		raw = field.Default
	}
	v, err := field.as.Convert(raw)
	if err != nil {
		return form.Value{}, false, fmt.Errorf("%s: %w", field.At, err)
	}
	if shown, ok := field.Map[v.Raw]; ok {
		v.Text = shown
	}
	return v, true, nil
}

func (f *Files) raw(ctx context.Context, field *Field) (string, bool, error) {
	if field.FromName != "" {
		m := field.pattern.FindStringSubmatch(path.Base(strings.ReplaceAll(f.name, `\`, "/")))
		if m == nil {
			return "", false, nil
		}
		return m[1], true, nil
	}
	if field.In == "" {
		return "", false, nil
	}
	doc, err := f.doc(ctx, field.In)
	if doc == nil {
		return "", false, err
	}
	return doc.Value(ctx, field.At)
}

// Added are the identifiers that a mod brings into saves: exact ones, and prefixes of all that begin so.
type Added struct{ Exact, Prefixes []string }

// Adds reads the identifiers that a mod brings into saves; {id} in a prefix is left for whoever knows what the mod is called.
func (f *Files) Adds(ctx context.Context, adds []Adds) (Added, error) {
	var all Added
	for _, a := range adds {
		if a.Prefix != "" {
			all.Prefixes = append(all.Prefixes, a.Prefix)
			continue
		}
		items, _, err := f.List(ctx, Lists{a.list()})
		if err != nil {
			return all, err
		}
		for _, item := range items {
			all.Exact = append(all.Exact, item.ID)
		}
	}
	return all, nil
}

// Item is one element of a list.
type Item struct{ ID, Version, Title, Digest, Range string }

// maxItems bounds the elements of all lists of one save or mod.
const maxItems = 100_000

// List returns the elements of all lists, in order. known tells whether any was there: not found is not none. A list whose entries cannot all
// be read is not known either, and one that is required and not there is damage.
func (f *Files) List(ctx context.Context, lists Lists) (items []Item, known bool, err error) {
	unread := false
	for i := range lists {
		l := &lists[i]
		doc, err := f.doc(ctx, l.In)
		if err != nil {
			return nil, false, err
		}
		var more []Item
		there, whole := false, true
		if doc != nil {
			if more, there, whole, err = f.list(ctx, doc, l, maxItems-len(items)); err != nil {
				return nil, false, err
			}
		}
		if l.Required && !there {
			return nil, false, fmt.Errorf("%w: %s has no list %s", form.ErrDamaged, f.files[l.In].Path, cmp.Or(l.Each, l.At))
		}
		items = append(items, more...)
		known, unread = known || there, unread || !whole
	}
	return items, known && !unread, nil
}

// list reads one list. there tells whether it is there at all, whole whether each of its entries says which it is.
func (f *Files) list(ctx context.Context, doc form.Doc, l *List, limit int) (items []Item, there, whole bool, err error) {
	if l.Each == "" {
		text, ok, err := doc.Value(ctx, l.At)
		if err != nil {
			return nil, false, false, err
		}
		if !ok {
			there, err = f.isEmpty(ctx, doc, l)
			return nil, there, true, err
		}
		return splitItems(text, l), true, true, nil
	}
	elements, err := doc.Each(ctx, l.Each)
	if err != nil {
		return nil, false, false, err
	}
	if len(elements) > limit {
		return nil, false, false, fmt.Errorf("%w: a list of more than %d", form.ErrTooLarge, maxItems)
	}
	if len(elements) == 0 {
		there, err = f.isEmpty(ctx, doc, l)
		return nil, there, true, err
	}
	whole = true
	for _, e := range elements {
		item, on, err := readItem(ctx, e, l)
		if err != nil {
			return nil, false, false, err
		}
		if on && item.ID != "" {
			items = append(items, item)
		}
		whole = whole && (!on || item.ID != "")
	}
	return items, true, whole, nil
}

// isEmpty reports whether a list that has no element is there and empty: by what the description says of an empty one, or by what the list stands in
// being there. Of texts, lines, bytes and chunks nothing else tells.
func (f *Files) isEmpty(ctx context.Context, doc form.Doc, l *List) (bool, error) {
	if l.Whole {
		return true, nil
	}
	if l.Empty != "" {
		_, ok, err := doc.Value(ctx, l.Empty)
		return ok, err
	}
	around, ok := f.container(l)
	if !ok {
		return false, nil
	}
	if around == "" { // the file itself
		return true, nil
	}
	found, err := doc.Each(ctx, around)
	return len(found) > 0, err
}

// container is the query for what a list stands in, "" for the file itself; ok is false where none can be told from the query.
func (f *Files) container(l *List) (query string, ok bool) {
	switch f.files[l.In].Form {
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
	case "ini", "sqlite": // a table that is not there is an error
		return "", true
	}
	return "", false
}

func splitItems(text string, l *List) []Item {
	parts := []string{text}
	if l.Split != "" {
		parts = strings.Split(text, l.Split)
	}
	var items []Item
	for _, p := range parts {
		if p = strings.TrimSpace(p); p != "" {
			items = append(items, Item{ID: p})
		}
	}
	return items
}

// readItem reads an element; on is false where it is one that does not count.
func readItem(ctx context.Context, e form.Doc, l *List) (item Item, on bool, err error) {
	for _, part := range []struct {
		query, group string
		into         *string
	}{{l.ID, "id", &item.ID}, {l.Version, "version", &item.Version}, {l.Title, "title", &item.Title}, {l.Digest, "digest", &item.Digest}, {l.Range, "range", &item.Range}} {
		query := part.query
		if query == "" {
			if _, ok := asksByGroup(e); !ok {
				continue
			}
			query = part.group
		}
		v, ok, err := e.Value(ctx, query)
		if err != nil {
			return item, false, err
		}
		if ok {
			*part.into = v
		}
	}
	if l.On != "" {
		v, _, err := e.Value(ctx, ".")
		if err != nil || !l.on.MatchString(v) {
			return item, false, err
		}
	}
	return item, true, nil
}

// asksByGroup reports whether the parts of an element are the named groups of a pattern, so that they need not be named again.
func asksByGroup(e form.Doc) (form.Doc, bool) {
	type grouped interface{ Groups() bool }
	g, ok := e.(grouped)
	return e, ok && g.Groups()
}
