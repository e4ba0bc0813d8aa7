package field

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/wrap"
)

// Place is where a declared file lies.
type Place struct {
	FS   fs.FS
	Name string
}

// maxPlaces bounds the files that one glob means.
const maxPlaces = 10_000

// Files reads fields and lists from a group of declared files, each of which is opened at most once; of the files that a glob means, only the
// first stays open. It is not safe for concurrent use.
type Files struct {
	name   string
	files  map[string]File
	locate func(File) ([]Place, error)
	docs   map[string]*doc.Doc
	asks   map[string][]string // the queries that each file will be asked
	errs   map[string]error
}

// NewFiles reads the files declared in files, which locate finds; its error is fs.ErrNotExist where a file is not there. name is what from_name
// is matched against.
func NewFiles(name string, files map[string]File, locate func(File) ([]Place, error)) *Files {
	return &Files{name: name, files: files, locate: locate, docs: map[string]*doc.Doc{}, errs: map[string]error{}}
}

// InFS reads the files declared in files from a save or mod: fsys holds it, and members are its files, relative to fsys, of which the
// path "." means the first.
func InFS(fsys fs.FS, name string, members []string, files map[string]File) *Files {
	return NewFiles(name, files, func(f File) ([]Place, error) {
		var found []Place
		for _, m := range f.In(members) {
			found = append(found, Place{fsys, m})
		}
		if len(found) == 0 {
			return nil, fmt.Errorf("%s: %w", f.Path, fs.ErrNotExist)
		}
		return found, nil
	})
}

// In are the files that a declared file means, of those of a save or mod: one, or all that its glob matches.
func (f File) In(members []string) []string {
	if f.Path == "." {
		return members[:min(1, len(members))]
	}
	var found []string
	for _, m := range members {
		if m == f.Path || doublestar.MatchUnvalidated(f.Path, m) || strings.EqualFold(m, f.Path) {
			found = append(found, m)
		}
	}
	return found
}

// Wanted reports whether a save with these files is to have the file: whether it is not optional, and its condition holds.
func (f File) Wanted(members []string) bool { return !f.Optional && f.If.Holds(members) }

// Holds reports whether the condition holds of a save with these files, whose paths are relative to it. No condition holds always.
func (p *Present) Holds(members []string) bool {
	if p == nil {
		return true
	}
	there := func(template string) bool {
		want := strings.TrimPrefix(template, inSave)
		return slices.ContainsFunc(members, func(m string) bool {
			return strings.EqualFold(m, want) || doublestar.MatchUnvalidated(want, m) || strings.HasPrefix(m, want+"/")
		})
	}
	if p.Exists != "" && !there(p.Exists) || p.Absent != "" && there(p.Absent) {
		return false
	}
	return len(p.Any) == 0 || slices.ContainsFunc(p.Any, func(one Present) bool { return one.Holds(members) })
}

// inSave is how a template of a file inside a save begins.
const inSave = "{save}/"

// Close frees what has been opened.
func (f *Files) Close() error {
	var err error
	for _, d := range f.docs {
		err = errors.Join(err, d.Close())
	}
	f.docs = map[string]*doc.Doc{}
	return err
}

// Expect says which fields and lists will be asked for: each file is then gone over once for all of them.
func (f *Files) Expect(fields map[string]Fields, lists Lists) {
	if f.asks == nil {
		f.asks = map[string][]string{}
	}
	for _, alternatives := range fields {
		for i := range alternatives {
			one := &alternatives[i]
			if one.Each == "" && one.In != "" {
				f.asks[one.In] = append(f.asks[one.In], one.At...)
			}
		}
	}
	for _, l := range lists {
		for _, query := range []string{l.Each, l.At, l.Empty} {
			if query != "" && (l.At == "" || query != l.Each) {
				f.asks[l.In] = append(f.asks[l.In], query)
			}
		}
	}
}

// ExpectAt says that a query will be asked for; see Expect and Answered.
func (f *Files) ExpectAt(id, query string) {
	if f.asks == nil {
		f.asks = map[string][]string{}
	}
	f.asks[id] = append(f.asks[id], query)
}

// Answered are the values that an expected query has met, if they are known without going over the file again; ok is false if not.
func (f *Files) Answered(ctx context.Context, id, query string) (values []string, ok bool, err error) {
	if f.files[id].Many() {
		return nil, false, nil
	}
	d, err := f.doc(ctx, id)
	if err != nil || d == nil {
		return nil, false, err
	}
	return d.Answered(query)
}

// doc opens the first file that id means. A missing optional file is no document and no error.
func (f *Files) doc(ctx context.Context, id string) (*doc.Doc, error) {
	if d, ok := f.docs[id]; ok {
		return d, nil
	}
	if err, ok := f.errs[id]; ok {
		return nil, err
	}
	places, err := f.places(id)
	if err == nil && len(places) > 0 {
		if f.docs[id], err = f.open(ctx, id, places[0]); errors.Is(err, fs.ErrNotExist) && f.files[id].Optional {
			err = nil
			places = nil
		}
	}
	if err != nil {
		delete(f.docs, id)
		f.errs[id] = err
		return nil, err
	}
	if len(places) == 0 {
		delete(f.docs, id)
		f.errs[id] = nil
		return nil, nil
	}
	return f.docs[id], nil
}

func (f *Files) open(ctx context.Context, id string, at Place) (*doc.Doc, error) {
	return doc.Open(ctx, at.FS, at.Name, f.files[id].Spec(), wrap.DefaultLimits, f.asks[id]...)
}

// places are where the files lie that id means: none where they are not there and need not be.
func (f *Files) places(id string) ([]Place, error) {
	declared := f.files[id]
	places, err := f.locate(declared)
	if errors.Is(err, fs.ErrNotExist) && (declared.Optional || declared.If != nil) { // whether one that is wanted is missing is asked elsewhere
		return nil, nil
	}
	if len(places) > maxPlaces {
		return nil, fmt.Errorf("%s: %w: more than %d files", declared.Path, wrap.ErrTooLarge, maxPlaces)
	}
	return places, err
}

// each visits all files that id means, in order.
func (f *Files) each(ctx context.Context, id string, visit func(*doc.Doc) error) error {
	first, err := f.doc(ctx, id)
	if err != nil || first == nil {
		return err
	}
	if err := visit(first); err != nil {
		return err
	}
	if !f.files[id].Many() {
		return nil
	}
	places, err := f.places(id)
	if err != nil {
		return err
	}
	for _, at := range places[1:] {
		d, err := f.open(ctx, id, at)
		if err != nil {
			return err
		}
		if err := errors.Join(visit(d), d.Close()); err != nil {
			return err
		}
	}
	return nil
}

// Field returns the first of the alternatives that has a value; if none has, the Value reports whether one is there and empty. A file that is missing or damaged is an error only when no other
// alternative has one.
func (f *Files) Field(ctx context.Context, fields Fields) (Value, bool, error) {
	var firstErr error
	var none Value
	for i := range fields {
		v, ok, err := f.one(ctx, &fields[i])
		if ok {
			return v, true, nil
		}
		none.Empty = none.Empty || v.Empty
		if err != nil && firstErr == nil {
			firstErr = err
		}
	}
	return none, false, firstErr
}

func (f *Files) one(ctx context.Context, field *Field) (Value, bool, error) {
	if field.Each != "" { // it has one value for each element, and none of its own
		return Value{}, false, nil
	}
	raw, ok, err := f.raw(ctx, field)
	if err != nil {
		return Value{}, false, err
	}
	return field.value(raw, ok)
}

// Each are the values of a field that each element of a list has, in order; there tells of each whether it has one.
func (f *Files) Each(ctx context.Context, field *Field) (values []Value, there []bool, err error) {
	err = f.each(ctx, field.In, func(d *doc.Doc) error {
		elements, err := d.Each(ctx, field.Each)
		if err != nil {
			return err
		}
		for _, e := range elements {
			raw, ok, err := e.Value(ctx, field.At[0])
			if err != nil {
				return err
			}
			v, ok, err := field.value(raw, ok)
			if err != nil {
				return err
			}
			if values, there = append(values, v), append(there, ok); len(values) > maxItems {
				return fmt.Errorf("%w: a list of more than %d", wrap.ErrTooLarge, maxItems)
			}
		}
		return nil
	})
	return values, there, err
}

// value makes of a text what it stands for.
func (f *Field) value(raw string, ok bool) (Value, bool, error) {
	if ok && (f.Layers.Tag != nil || len(f.Layers.Chain) > 0) {
		data, err := f.Layers.Peel(strings.NewReader(raw), wrap.DefaultLimits)
		if err != nil {
			return Value{}, false, fmt.Errorf("%s: %w", strings.Join(f.At, ", "), err)
		}
		raw = string(data)
	}
	if ok && f.Split != "" {
		raw, _, _ = strings.Cut(raw, f.Split)
		raw = strings.TrimSpace(raw)
	}
	if !ok || raw == "" {
		if f.Default == "" {
			return Value{Empty: ok}, false, nil
		}
		raw = f.Default
	}
	v, err := f.as.Convert(raw)
	if err != nil {
		return Value{}, false, fmt.Errorf("%s: %w", strings.Join(f.At, ", "), err)
	}
	if f.Map != nil {
		mapped, ok := f.Map[v.Raw]
		if !ok {
			return Value{Text: v.Raw, Unmapped: v.Raw}, true, nil
		}
		v.Raw, v.Text = mapped, mapped
	}
	if words, ok := f.Show[v.Raw]; ok {
		v.Text = words
	}
	return v, true, nil
}

// Encode is what a file has for a value of the field.
func (f *Field) Encode(value string) string { return f.as.Encode(value) }

// named is what the pattern of from_name finds in names: that of the save or mod, or those of the files that in means.
func (f *Files) named(field *Field) ([]string, error) {
	names := []string{f.name}
	if field.In != "" {
		places, err := f.places(field.In)
		if err != nil {
			return nil, err
		}
		names = nil
		for _, at := range places {
			names = append(names, at.Name)
		}
	}
	var found []string
	for _, name := range names {
		if m := field.pattern.FindStringSubmatch(path.Base(strings.ReplaceAll(name, `\`, "/"))); m != nil {
			found = append(found, m[1])
		}
	}
	return found, nil
}

// EachText visits the texts at a place of a file, in all files that its id means, as they stand there.
func (f *Files) EachText(ctx context.Context, id, query string, visit func(string) error) error {
	return f.each(ctx, id, func(d *doc.Doc) error { return d.EachText(ctx, query, visit) })
}

// All are all values of a field, as they are compared, in all files that hold it and at all places that its queries meet; Field takes the first.
func (f *Files) All(ctx context.Context, field *Field) (values []string, err error) {
	add := func(raw string, ok bool) error {
		v, ok, err := field.value(raw, ok)
		if ok {
			values = append(values, cmp.Or(v.Raw, v.Unmapped))
		}
		return err
	}
	if field.FromName != "" {
		names, err := f.named(field)
		for _, name := range names {
			err = errors.Join(err, add(name, true))
		}
		return values, err
	}
	if field.In == "" || len(field.At) != 1 {
		raw, ok, err := f.raw(ctx, field)
		return values, errors.Join(err, add(raw, ok))
	}
	err = f.each(ctx, field.In, func(d *doc.Doc) error {
		found, err := d.Each(ctx, field.At[0])
		if err != nil || len(found) < 2 { // a form without lists, or one value
			raw, ok, err := d.Value(ctx, field.At[0])
			if err != nil || !ok {
				return err
			}
			return add(raw, ok)
		}
		for _, e := range found {
			raw, ok, err := e.Value(ctx, doc.Self(f.files[field.In].Form))
			if err == nil {
				err = add(raw, ok)
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
	return values, err
}

func (f *Files) raw(ctx context.Context, field *Field) (string, bool, error) {
	if field.FromName != "" {
		names, err := f.named(field)
		if err != nil || len(names) == 0 {
			return "", false, err
		}
		return names[0], true, nil
	}
	if field.In == "" {
		return "", false, nil
	}
	var parts []string
	err := f.each(ctx, field.In, func(d *doc.Doc) error {
		if parts != nil { // an earlier file has it
			return nil
		}
		var here []string
		for _, query := range field.At {
			text, ok, err := d.Value(ctx, query)
			if err != nil || !ok {
				return err
			}
			if len(field.Ref) > 0 {
				if _, text, ok, err = field.Follow(text, func(query string) (string, bool, error) { return d.Value(ctx, query) }); err != nil || !ok {
					return err
				}
			}
			here = append(here, text)
		}
		parts = here
		return nil
	})
	return strings.Join(parts, field.Join), parts != nil, err
}
