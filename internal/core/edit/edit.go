// Package edit works inside a save: it lists what the description reads there, finds where a text stands, and changes it: single values, whole
// sections, the things of a mod, members, and what another version of the game wants otherwise.
//
// Whatever a file is wrapped in is peeled, the places changed, and all wrapped again; every other byte of the decoded content stays. What was
// written is read back through the description before it is offered to anybody. The package returns the new bytes of the files that change
// (Edited); what becomes of them, in place or beside, package handle plans. It writes nothing.
package edit

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/save"
	"ostrov/internal/core/wrap"
)

// Field is what the description names in a save.
type Field struct {
	ID      string
	Value   string // for people
	Raw     string // as it is compared
	There   bool   // the save says it
	Unread  string // why it cannot be read, or ""
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
		if !f.There {
			empty, _, err := content.Field(ctx, s.Kind.Field[id])
			if f.There = empty.Empty; err != nil && !errors.Is(err, fs.ErrNotExist) {
				f.Unread = err.Error()
			}
		}
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
		all = append(all, Field{ID: numbered(id, i+1), Value: v.Text, Raw: v.Raw, There: there[i] || v.Empty, Set: f.Set, Allowed: f.Allowed()})
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
	Was, Now string // as people read them
	same     bool
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
		if !one.same {
			written = append(written, one)
		}
	}
	if err := w.finish(); err != nil {
		return nil, err
	}
	for _, a := range assignments {
		if a.Field == "" {
			if err := w.readBack(a); err != nil {
				return nil, err
			}
		}
	}
	if err := w.close(); err != nil {
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

// assign makes one assignment. All are asked of the save as it is: two of one place are an error.
func (w *work) assign(a Assignment) (Written, error) {
	if a.Field == "" {
		o, err := w.only(a.File)
		if err != nil {
			return Written{}, err
		}
		at, err := o.editor.One(w.ctx, nil, a.Query)
		if err != nil {
			return Written{}, w.failed(a.What(), err)
		}
		return w.put(a.What(), o, at, nil, a.Value)
	}
	id, n := unnumbered(a.Field)
	fields, ok := w.Save.Kind.Field[id]
	if !ok {
		return Written{}, problem.Usage(problem.Advise("there are: %s", strings.Join(slices.Sorted(maps.Keys(w.Save.Kind.Field)), ", ")), "the description of the game names no field %q", a.Field)
	}
	find := w.settable
	if n > 0 {
		find = w.ofEach
	}
	f, o, at, err := find(a.Field, id, n, fields)
	if err != nil {
		return Written{}, err
	}
	return w.put(a.Field, o, at, f, a.Value)
}

// What is what an assignment is to: a field's id, or FILE:QUERY.
func (a Assignment) What() string { return cmp.Or(a.Field, a.File+":"+a.Query) }

// ofEach finds the field of the n-th element of a list.
func (w *work) ofEach(called, id string, n int, fields field.Fields) (*field.Field, *opened, doc.Node, error) {
	i := slices.IndexFunc(fields, func(f field.Field) bool { return f.Each != "" && f.Set })
	if i < 0 {
		return nil, nil, doc.Node{}, problem.Usage(nil, "the description does not say that %s may be set for each", id)
	}
	f := &fields[i]
	all, err := w.editors(f.In)
	if err != nil {
		return nil, nil, doc.Node{}, err
	}
	for _, o := range all {
		elements, err := o.editor.Find(w.ctx, nil, f.Each, true)
		if err != nil {
			return nil, nil, doc.Node{}, w.failed(called, err)
		}
		if n > len(elements) {
			n -= len(elements)
			continue
		}
		at, err := o.editor.One(w.ctx, &elements[n-1], f.At[0])
		if err != nil {
			err = w.failed(called, err)
		}
		return f, o, at, err
	}
	return nil, nil, doc.Node{}, problem.Usage(nil, "there is no %s in this save; nothing has been changed", called)
}

// settable finds the value of a field, by the alternative that the save has it by and that may be set: one that says something, or else one that is there
// and empty.
func (w *work) settable(called, id string, _ int, fields field.Fields) (*field.Field, *opened, doc.Node, error) {
	may, each := false, false
	for _, empty := range []bool{false, true} {
		for i := range fields {
			f := &fields[i]
			each = each || f.Each != ""
			if !f.Set || f.Each != "" {
				continue
			}
			may = true
			all, err := w.editors(f.In)
			if err != nil {
				return nil, nil, doc.Node{}, err
			}
			for _, o := range all {
				at, text, ok, err := w.led(o, f)
				if err != nil {
					return nil, nil, doc.Node{}, w.failed(id, err)
				}
				if ok && (text != "" || empty) {
					return f, o, at, nil
				}
			}
		}
	}
	switch {
	case may:
		return nil, nil, doc.Node{}, problem.Usage(nil, "this save says no %s, so there is no place to write it; nothing has been changed", called)
	case each:
		return nil, nil, doc.Node{}, problem.Usage(nil, "there is a %s for each of a list: say which, as in %s", id, numbered(id, 1))
	}
	hint := problem.Advise("the description says set = true of what may be; a place of its own is named with the option at")
	return nil, nil, doc.Node{}, problem.Usage(hint, "the description does not say that %s may be set", id)
}

// led is where a field stands in a file, at the end of the names that it follows, and what it says.
func (w *work) led(o *opened, f *field.Field) (at doc.Node, text string, ok bool, err error) {
	ask := func(query string) (string, bool, error) {
		if at, err = o.editor.One(w.ctx, nil, query); err != nil {
			if errors.Is(err, doc.ErrMissing) {
				err = nil
			}
			return "", false, err
		}
		return o.editor.Value(at)
	}
	if text, ok, err = ask(f.At[0]); err != nil || !ok || len(f.Ref) == 0 {
		return at, text, ok, err
	}
	_, text, ok, err = f.Follow(text, ask)
	return at, text, ok, err
}

// put gives a part another value: what f makes of it, or, without a field, the value itself.
func (w *work) put(what string, o *opened, at doc.Node, f *field.Field, value string) (Written, error) {
	if slices.ContainsFunc(o.set, at.Is) {
		return Written{}, problem.Usage(nil, "%s is given a value twice; nothing has been changed", what)
	}
	was, ok, err := o.editor.Value(at)
	if err != nil || !ok {
		return Written{}, w.failed(what, errors.Join(err, fmt.Errorf("it is not a single value: %w", wrap.ErrNotWritable)))
	}
	raw, length := value, ""
	if f != nil {
		if raw, err = f.Raw(value, was); err != nil {
			return Written{}, problem.Usage(nil, "%s: %v; nothing has been changed", what, err)
		}
		length = f.Length
	}
	o.set = append(o.set, at)
	one := Written{What: what, Was: was, Now: raw, same: was == raw}
	if f != nil {
		one.Was, one.Now = f.Words(was), f.Words(raw)
	}
	if one.same {
		return one, nil
	}
	if err := o.editor.SetCounted(at, raw, length); err != nil {
		return one, w.failed(what, err)
	}
	return one, nil
}

// write gives the one value that a query names in a file another value.
func (w *work) write(what, file, query, raw string) (Written, error) {
	one, err := w.assign(Assignment{File: file, Query: query, Value: raw})
	one.What = what
	return one, err
}

// readBack reads what was written at places that the description does not name. A pattern may name a place by what stood there, and an emptied value
// may be one that is no longer found.
func (w *work) readBack(a Assignment) error {
	o, err := w.only(a.File)
	if err != nil || o.file.Form == "text" || o.file.Form == "lines" {
		return err
	}
	at, err := o.editor.One(w.ctx, nil, a.Query)
	if err != nil && a.Value == "" {
		return nil
	}
	if err != nil || !o.editor.Says(at, a.Value) {
		return w.failed(a.What(), errors.Join(err, fmt.Errorf("%q would not be read there: %w", a.Value, wrap.ErrNotWritable)))
	}
	return nil
}

// compare reads the save as it will be: each field that was set says something, and all others say what they said.
func (w *work) compare(assignments []Assignment, written []Written) error {
	says, err := w.says()
	if err != nil {
		return err
	}
	for _, a := range assignments {
		_, n := unnumbered(a.Field)
		k := slices.IndexFunc(written, func(o Written) bool { return o.What == a.Field })
		if a.Field == "" || n > 0 || k < 0 {
			continue
		}
		now, there := says.Fields[a.Field]
		if !there && w.Save.Facts.Fields[a.Field].Raw != "" {
			return problem.Usage(nil, "with %q the save would say no %s any more; nothing has been changed", a.Value, a.Field)
		}
		if there && now.Raw == w.Save.Facts.Fields[a.Field].Raw && now.Unmapped == w.Save.Facts.Fields[a.Field].Unmapped {
			return problem.Usage(nil, "%s would still read %q; nothing has been changed", a.Field, now.Text)
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
