// Package edit works inside a save: it lists what the description reads there, finds where a text stands, and changes it: single values, whole
// sections, the things of a mod, members, and what another version of the game wants otherwise.
//
// Whatever a file is wrapped in is peeled, the places changed, and all wrapped again; every other byte of the decoded content stays. What was
// written is read back through the description before it is offered to anybody. The package returns the new bytes of the files that change
// (Edited); what becomes of them, in place or beside, package handle plans. It writes nothing.
package edit

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ostrov/internal/core/field"
	"ostrov/internal/core/form"
	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/save"
)

// Field is what the description names in a save.
type Field struct {
	ID      string
	Value   string // for people
	Raw     string // as it is compared
	There   bool   // the save says it
	Set     bool   // it may be given another value
	Allowed string // what it may be set to, "" for anything
}

// Fields are what the description names in a save: first what is shown in lists, then the others by their ids. A field that each element of a list
// has is there once for each.
func Fields(ctx context.Context, src Source) (all []Field, err error) {
	s := src.Save
	var order []string
	for _, id := range append([]string{"title"}, s.Kind.Columns...) {
		if _, ok := s.Kind.Field[id]; ok && !slices.Contains(order, id) {
			order = append(order, id)
		}
	}
	for _, id := range slices.Sorted(maps.Keys(s.Kind.Field)) {
		if !slices.Contains(order, id) {
			order = append(order, id)
		}
	}
	content, err := save.ContentOf(s.Kind, src.FS, s.Name, src.paths())
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, content.Close()) }()
	for _, id := range order {
		v, there := s.Facts.Fields[id]
		f := Field{ID: id, Value: v.Text, Raw: v.Raw, There: there && v.Raw != ""}
		for i := range s.Kind.Field[id] {
			one := &s.Kind.Field[id][i]
			if one.Set {
				f.Set, f.Allowed = true, one.Allowed()
			}
			if one.Each == "" {
				continue
			}
			more, err := ofEach(ctx, content, id, one)
			if err != nil {
				return nil, err
			}
			all = append(all, more...)
		}
		if !f.There && slices.ContainsFunc(s.Kind.Field[id], func(one field.Field) bool { return one.Each != "" }) {
			continue
		}
		all = append(all, f)
	}
	return all, nil
}

// ofEach is a field of each element of a list.
func ofEach(ctx context.Context, content *save.Content, id string, f *field.Field) (all []Field, err error) {
	values, there, err := content.Each(ctx, f)
	for i, v := range values {
		all = append(all, Field{numbered(id, i+1), v.Text, v.Raw, there[i], f.Set, f.Allowed()})
	}
	return all, err
}

// numbered is what the field of the n-th element is called: crew.hat is crew[2].hat, and hat is hat[2].
func numbered(id string, n int) string {
	list, rest, dotted := strings.Cut(id, ".")
	if dotted {
		rest = "." + rest
	}
	return fmt.Sprintf("%s[%d]%s", list, n, rest)
}

var numberedField = regexp.MustCompile(`^([^\[]+)\[([1-9]\d{0,6})\](.*)$`)

// unnumbered takes crew[2].hat apart; n is 0 where there is no number.
func unnumbered(called string) (id string, n int) {
	m := numberedField.FindStringSubmatch(called)
	if m == nil {
		return called, 0
	}
	n, _ = strconv.Atoi(m[2])
	return m[1] + m[3], n
}

// Assignment is one value to be written: of a field, or at a place that the description does not name.
type Assignment struct {
	Field string
	File  string // a [save.file] id, or a path in the save
	Query string
	Value string
}

// Written is a value that was changed.
type Written struct {
	What     string // a field's id, or FILE:QUERY
	Was, Now string
}

// Set changes values of a save.
func Set(ctx context.Context, src Source, assignments []Assignment) (e *Edited, err error) {
	w, err := begin(ctx, src)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, w.close()) }()
	var written []Written
	for _, a := range assignments {
		one, err := w.assign(a)
		if err != nil {
			return nil, err
		}
		if one.Was != one.Now {
			written = append(written, one)
		}
	}
	if err := w.finish(); err != nil {
		return nil, err
	}
	if err := w.compare(assignments, written); err != nil {
		return nil, err
	}
	w.unlinked = !slices.ContainsFunc(assignments, w.mayLink)
	if e, err = w.edited(); err == nil {
		e.Written = written
	}
	return e, err
}

var predicate = regexp.MustCompile(`\[[^\]]*\]`)

// mayLink reports whether an assignment may write a value of a link, or one that a link names.
func (w *work) mayLink(a Assignment) bool {
	queries := []string{a.Query}
	if id, _ := unnumbered(a.Field); a.Field != "" {
		queries = nil
		for _, f := range w.Save.Kind.Field[id] {
			if f.Each != "" || len(f.Ref) > 0 {
				return true
			}
			queries = append(queries, f.At...)
		}
	}
	for _, l := range w.Game.LinksOf(w.Save.Kind) {
		for _, at := range []game.Spot{l.From, l.To} {
			form := w.Save.Kind.Files[at.In].Form
			for _, q := range queries {
				if form != "json" && form != "xml" && form != "blocks" || predicate.ReplaceAllString(q, "") == predicate.ReplaceAllString(at.At, "") {
					return true
				}
			}
		}
	}
	return false
}

// assign makes one assignment. The file is finished after each, so that the next one is asked of what it made.
func (w *work) assign(a Assignment) (Written, error) {
	if a.Field == "" {
		return w.write(a.File+":"+a.Query, a.File, a.Query, a.Value, true)
	}
	id, n := unnumbered(a.Field)
	fields, ok := w.Save.Kind.Field[id]
	if !ok {
		return Written{}, problem.Usage(problem.Advise("there are: %s", strings.Join(slices.Sorted(maps.Keys(w.Save.Kind.Field)), ", ")), "the description of the game names no field %q", a.Field)
	}
	if n > 0 {
		return w.assignEach(a, id, n, fields)
	}
	f, query, err := w.settable(a.Field, fields)
	if err != nil {
		return Written{}, err
	}
	raw, err := f.Raw(a.Value)
	if err != nil {
		return Written{}, problem.Usage(nil, "%s: %v; nothing has been changed", a.Field, err)
	}
	return w.write(a.Field, f.In, query, raw, false)
}

// assignEach writes the field of the n-th element of a list.
func (w *work) assignEach(a Assignment, id string, n int, fields field.Fields) (Written, error) {
	i := slices.IndexFunc(fields, func(f field.Field) bool { return f.Each != "" && f.Set })
	if i < 0 {
		return Written{}, problem.Usage(nil, "the description does not say that %s may be set for each", id)
	}
	f := &fields[i]
	raw, err := f.Raw(a.Value)
	if err != nil {
		return Written{}, problem.Usage(nil, "%s: %v; nothing has been changed", a.Field, err)
	}
	all, err := w.editors(f.In)
	if err != nil {
		return Written{}, err
	}
	for _, o := range all {
		elements, err := o.editor.Each(w.ctx, nil, f.Each)
		if err != nil {
			return Written{}, w.failed(a.Field, err)
		}
		if n > len(elements) {
			n -= len(elements)
			continue
		}
		return w.put(a.Field, o, raw, false, func(e *form.Editor) (form.Span, error) {
			elements, err := e.Each(w.ctx, nil, f.Each)
			if err != nil || n > len(elements) {
				return form.Span{}, errors.Join(err, form.ErrNotWritable)
			}
			return e.One(w.ctx, &elements[n-1], f.At[0])
		})
	}
	return Written{}, problem.Usage(nil, "there is no %s in this save; nothing has been changed", a.Field)
}

// settable is the alternative of a field that the save has a value by, and that may be set, and the query that leads to it.
func (w *work) settable(id string, fields field.Fields) (f *field.Field, query string, err error) {
	if err := w.finish(); err != nil {
		return nil, "", err
	}
	files, err := save.ContentOf(w.Save.Kind, w.now(), w.Save.Name, w.paths())
	if err != nil {
		return nil, "", err
	}
	defer func() { err = errors.Join(err, files.Close()) }()
	may, each := false, false
	for i := range fields {
		f := &fields[i]
		each = each || f.Each != ""
		if !f.Set || f.Each != "" || f.Layers.Tag != nil || len(f.Layers.Chain) > 0 {
			continue
		}
		may = true
		if o, err := w.streaming(f); err != nil {
			return nil, "", w.failed(id, err)
		} else if o != nil { // it is looked for where it is going to be written
			if spans, err := o.editor.Values(w.ctx, nil, f.At[0]); err == nil && len(spans) == 1 {
				return f, f.At[0], nil
			}
		}
		_, there, err := files.Field(w.ctx, field.Fields{*f})
		if err != nil {
			return nil, "", w.failed(id, err)
		}
		if !there {
			continue
		}
		plain := *f
		plain.Ref = nil
		first, _, err := files.Field(w.ctx, field.Fields{plain})
		if err != nil {
			return nil, "", err
		}
		query, _, _, err = f.Follow(first.Raw, func(query string) (string, bool, error) {
			v, ok, err := files.Field(w.ctx, field.Fields{{In: f.In, At: field.Strings{query}}})
			return v.Raw, ok, err
		})
		return f, query, err
	}
	switch {
	case may:
		return nil, "", problem.Usage(nil, "this save says no %s, so there is no place to write it; nothing has been changed", id)
	case each:
		return nil, "", problem.Usage(nil, "there is a %s for each of a list: say which, as in %s", id, numbered(id, 1))
	}
	hint := problem.Advise("the description says set = true of what may be; a place of its own is named with the option at")
	return nil, "", problem.Usage(hint, "the description does not say that %s may be set", id)
}

// streaming is the editor of the one file that a field with one query is read from, if that is too large to be held in memory; nil of others.
func (w *work) streaming(f *field.Field) (*opened, error) {
	declared, err := w.declared(f.In)
	if err != nil || len(f.At) != 1 || len(f.Ref) > 0 || !form.Streams(declared.Form, f.At[0]) || !slices.Contains([]string{"json", "xml", "blocks"}, declared.Form) {
		return nil, err
	}
	places := w.places(declared)
	if len(places) != 1 {
		return nil, nil
	}
	content, err := w.read(places[0])
	if err != nil || content.Size() <= large {
		return nil, err
	}
	o, err := w.editor(places[0], declared)
	if err != nil || o.raw != nil {
		return nil, err
	}
	return o, nil
}

// write writes one value of a file.
func (w *work) write(what, file, query, raw string, free bool) (Written, error) {
	o, err := w.only(file)
	if err != nil {
		return Written{}, err
	}
	return w.put(what, o, raw, free, func(e *form.Editor) (form.Span, error) { return e.One(w.ctx, nil, query) })
}

// put gives a part another value, and reads it back; find finds it, and with free by a query that is not the description's. An emptied one may be one that is no longer found.
func (w *work) put(what string, o *opened, raw string, free bool, find func(*form.Editor) (form.Span, error)) (Written, error) {
	at, err := find(o.editor)
	if err != nil {
		return Written{}, w.failed(what, err)
	}
	was, ok, err := o.editor.Value(at)
	if err != nil || !ok {
		return Written{}, w.failed(what, errors.Join(err, fmt.Errorf("it is not a single value: %w", form.ErrNotWritable)))
	}
	one := Written{What: what, Was: was, Now: raw}
	if was == raw {
		return one, nil
	}
	if err := o.editor.Set(at, raw); err != nil {
		return one, w.failed(what, err)
	}
	if err := w.finish(); err != nil {
		return one, err
	}
	if !free && o.raw == nil && o.size > large { // it is read back with all fields
		return one, nil
	}
	if o, err = w.editor(o.name, o.file); err != nil {
		return one, err
	}
	pattern := o.file.Form == "text" || o.file.Form == "lines" // a pattern may name a place by what stood there
	if at, err = find(o.editor); raw == "" && err != nil || free && pattern {
		return one, nil
	}
	if err != nil || !o.editor.Says(at, raw) {
		return one, w.failed(what, errors.Join(err, fmt.Errorf("%q would not be read there: %w", raw, form.ErrNotWritable)))
	}
	return one, nil
}

// compare reads the save as it will be: each field that was set says something, and all others say what they said.
func (w *work) compare(assignments []Assignment, written []Written) error {
	says := w.says()
	for _, a := range assignments {
		_, n := unnumbered(a.Field)
		if a.Field == "" || n > 0 {
			continue
		}
		if says.Fields[a.Field].Raw == "" {
			return problem.Usage(nil, "with %q the save would say no %s any more; nothing has been changed", a.Value, a.Field)
		}
		if says.Fields[a.Field].Raw == w.Save.Facts.Fields[a.Field].Raw && slices.ContainsFunc(written, func(o Written) bool { return o.What == a.Field }) {
			return problem.Usage(nil, "%s would still read %q; nothing has been changed", a.Field, says.Fields[a.Field].Raw)
		}
	}
	for id := range w.Save.Kind.Field {
		set := slices.ContainsFunc(assignments, func(a Assignment) bool { return a.Field == id || a.Field == "" })
		was, v := w.Save.Facts.Fields[id], says.Fields[id]
		if says.Problem == nil && !set && was.Raw != v.Raw && !w.follows(id, assignments) {
			return problem.Usage(nil, "%s would change, too, from %q to %q; nothing has been changed", id, was.Raw, v.Raw)
		}
	}
	return nil
}

// large is the size, in bytes, from which a file is not read once more only to see a value in it.
const large = 4 << 20

// follows reports whether a field stands at the place of one that is set, or is led to by it.
func (w *work) follows(id string, assignments []Assignment) bool {
	for _, a := range assignments {
		name, _ := unnumbered(a.Field)
		for _, f := range w.Save.Kind.Field[name] {
			for _, g := range w.Save.Kind.Field[id] {
				if f.In == g.In && (len(f.Ref) > 0 || len(g.Ref) > 0 || f.Each != "" || len(f.At) == 1 && slices.Contains(g.At, f.At[0])) {
					return true
				}
			}
		}
	}
	return false
}
