// Package edit works inside a save: it lists what the description reads there, finds where a text stands, and changes single values.
//
// Whatever a file is wrapped in is peeled, the one place changed, and all wrapped again; every other byte of the decoded content stays. What was
// written is read back through the description before it is offered to anybody. The package returns the new bytes of the files that change
// (Edited); what becomes of them, in place or beside, package handle plans. It writes nothing.
package edit

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/facts"
	"ostrov/internal/core/field"
	"ostrov/internal/core/form"
	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
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

// Fields are what the description names in a save: first what is shown in lists, then the others by their ids.
func Fields(s *facts.Save) []Field {
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
	var all []Field
	for _, id := range order {
		v, there := s.Facts.Fields[id]
		f := Field{ID: id, Value: v.Text, Raw: v.Raw, There: there && v.Raw != ""}
		for i := range s.Kind.Field[id] {
			if one := &s.Kind.Field[id][i]; one.Set {
				f.Set, f.Allowed = true, one.Allowed()
			}
		}
		all = append(all, f)
	}
	return all
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

// Edited are the files of a save that are to be others: their bytes by their paths in the save's folder.
type Edited struct {
	Files   map[string][]byte
	Written []Written
}

// content is a save that is being edited: its files as they will be.
type content struct {
	ctx   context.Context
	s     *facts.Save
	files tree.Memory // read so far, by path relative to the save's folder
	was   tree.Memory
}

// maxFile bounds a file that is edited, in bytes.
const maxFile = 512 << 20

// Set changes values of a save.
func Set(ctx context.Context, s *facts.Save, assignments []Assignment) (*Edited, error) {
	if s.Unread != nil {
		return nil, problem.Usage(nil, "%s cannot be read: %v; nothing has been changed", s.Called(), s.Unread)
	}
	c := &content{ctx, s, tree.Memory{}, tree.Memory{}}
	var written []Written
	for _, a := range assignments {
		w, err := c.assign(a)
		if err != nil {
			return nil, err
		}
		if w.Was != w.Now {
			written = append(written, w)
		}
	}
	edited := &Edited{Files: map[string][]byte{}, Written: written}
	for name, data := range c.files {
		if string(data) != string(c.was[name]) {
			edited.Files[name] = data
		}
	}
	return edited, c.check(assignments)
}

// assign makes one assignment.
func (c *content) assign(a Assignment) (Written, error) {
	if a.Field == "" {
		file, err := c.declared(a.File)
		if err != nil {
			return Written{}, err
		}
		return c.write(a.File+":"+a.Query, file, a.Query, a.Value)
	}
	fields, ok := c.s.Kind.Field[a.Field]
	if !ok {
		return Written{}, problem.Usage(problem.Advise("there are: %s", strings.Join(slices.Sorted(maps.Keys(c.s.Kind.Field)), ", ")), "the description of the game names no field %q", a.Field)
	}
	f, err := c.settable(a.Field, fields)
	if err != nil {
		return Written{}, err
	}
	raw, err := f.Raw(a.Value)
	if err != nil {
		return Written{}, problem.Usage(nil, "%s: %v; nothing has been changed", a.Field, err)
	}
	return c.write(a.Field, c.s.Kind.Files[f.In], f.At[0], raw)
}

// settable is the alternative of a field that the save has a value by, and that may be set.
func (c *content) settable(id string, fields field.Fields) (*field.Field, error) {
	var may *field.Field
	for i := range fields {
		f := &fields[i]
		if !f.Set || f.Layers.Tag != nil || len(f.Layers.Chain) > 0 {
			continue
		}
		files, err := c.open()
		if err != nil {
			return nil, err
		}
		_, there, err := files.Field(c.ctx, field.Fields{*f})
		if err = errors.Join(err, files.Close()); err != nil {
			return nil, err
		}
		if there {
			return f, nil
		}
		may = f
	}
	if may != nil {
		return nil, problem.Usage(nil, "this save says no %s, so there is no place to write it; nothing has been changed", id)
	}
	hint := problem.Advise("the description says set = true of what may be; a place of its own is named with the option at")
	return nil, problem.Usage(hint, "the description does not say that %s may be set", id)
}

// declared is a file of the save, by its id in the description or its path.
func (c *content) declared(name string) (field.File, error) {
	if f, ok := c.s.Kind.Files[name]; ok {
		return f, nil
	}
	for _, f := range c.s.Kind.Files {
		if f.Path == name {
			return f, nil
		}
	}
	return field.File{}, problem.Usage(problem.Advise("there are: %s", strings.Join(slices.Sorted(maps.Keys(c.s.Kind.Files)), ", ")), "the description names no file %q of the save", name)
}

// places are the paths, relative to the save's folder, of a declared file.
func (c *content) places(f field.File) []string {
	if c.s.Kind.Unit == game.UnitFolder {
		var members []string
		for _, e := range c.s.Files {
			if rest, ok := strings.CutPrefix(e.Path, c.s.Name+"/"); ok {
				members = append(members, rest)
			}
		}
		var all []string
		for _, m := range f.In(members) {
			all = append(all, c.s.Name+"/"+m)
		}
		return all
	}
	if f.Path == "." {
		return []string{c.s.Name}
	}
	return f.In(c.paths())
}

// read is a file as it will be.
func (c *content) read(name string) ([]byte, error) {
	if data, ok := c.files[name]; ok {
		return data, nil
	}
	data, err := tree.ReadBounded(filepath.Join(c.s.Folder.Path, filepath.FromSlash(name)), maxFile)
	if err != nil {
		return nil, err
	}
	c.files[name], c.was[name] = data, data
	return data, nil
}

// write writes one value.
func (c *content) write(what string, f field.File, query, raw string) (Written, error) {
	places := c.places(f)
	if len(places) != 1 {
		return Written{}, problem.Usage(nil, "%s is %d files of this save: say which by its path; nothing has been changed", f.Path, len(places))
	}
	for _, ending := range form.SQLiteCompanions {
		if e, err := tree.Stat(c.s.Folder.Path, places[0]+ending); err == nil && e.Size > 0 && f.Form == "sqlite" {
			return Written{}, problem.Usage(problem.Advise("start the game once and close it"), "%s has not been closed by the game: %s lies beside it; nothing has been changed", places[0], path.Base(places[0]+ending))
		}
	}
	data, err := c.read(places[0])
	if err != nil {
		return Written{}, err
	}
	w := Written{What: what, Now: raw}
	data, err = form.Rewrite(data, f.Layers.Layers, func(content []byte) ([]byte, error) {
		if w.Was, err = valueIn(c.ctx, f, content, query); err != nil {
			return nil, err
		}
		if w.Was == raw {
			return content, nil
		}
		return form.Splice(f.Spec(), content, query, raw)
	})
	if errors.Is(err, form.ErrNotWritable) {
		return w, problem.Usage(problem.Advise("nothing has been changed"), "%s: %v", what, err)
	}
	if err != nil {
		return w, fmt.Errorf("%s in %s: %w; nothing has been changed", what, places[0], err)
	}
	if w.Was != raw { // wrapped again, even the same content may be other bytes
		c.files[places[0]] = data
	}
	return w, nil
}

// valueIn is the value that a query names in the decoded content of a file.
func valueIn(ctx context.Context, f field.File, content []byte, query string) (string, error) {
	spec := f.Spec()
	spec.Layers = form.Layers{}
	doc, err := form.Open(ctx, tree.Memory{"f": content}, "f", spec, form.DefaultLimits)
	if err != nil {
		return "", err
	}
	defer doc.Close()
	value, there, err := doc.Value(ctx, query)
	if err == nil && !there {
		err = fmt.Errorf("%s names no value there: %w", query, form.ErrNotWritable)
	}
	return value, err
}

// open is the save as it will be.
func (c *content) open() (*save.Content, error) {
	return save.ContentOf(c.s.Kind, overlay{tree.DirFS(c.s.Folder.Path), c.files}, c.s.Name, c.paths())
}

func (c *content) paths() []string {
	var paths []string
	for _, e := range c.s.Files {
		paths = append(paths, e.Path)
	}
	return paths
}

// check reads the save as it will be: it is still a save of its kind, each field that was set says something, and all others
// say what they said.
func (c *content) check(assignments []Assignment) error {
	now := c.s.In(c.ctx, overlay{tree.DirFS(c.s.Folder.Path), c.files})
	for _, a := range assignments {
		if v := now.Fields[a.Field]; a.Field != "" && v.Raw == "" {
			return problem.Usage(nil, "with %q the save would say no %s any more; nothing has been changed", a.Value, a.Field)
		}
	}
	if now.Problem != nil && c.s.Facts.Problem == nil {
		return problem.Usage(nil, "the save would not be whole any more: %v; nothing has been changed", now.Problem)
	}
	for id := range c.s.Kind.Field {
		v := now.Fields[id]
		set := slices.ContainsFunc(assignments, func(a Assignment) bool { return a.Field == id || a.Field == "" })
		if was := c.s.Facts.Fields[id]; !set && was.Raw != v.Raw && !c.follows(id, assignments) {
			return problem.Usage(nil, "%s would change, too, from %q to %q; nothing has been changed", id, was.Raw, v.Raw)
		}
	}
	return nil
}

// follows reports whether a field stands at the place of one that is set.
func (c *content) follows(id string, assignments []Assignment) bool {
	for _, a := range assignments {
		for _, f := range c.s.Kind.Field[a.Field] {
			for _, g := range c.s.Kind.Field[id] {
				if f.In == g.In && len(f.At) == 1 && slices.Contains(g.At, f.At[0]) {
					return true
				}
			}
		}
	}
	return false
}

// overlay is a folder with some files as they will be.
type overlay struct {
	dir   fs.FS
	files tree.Memory
}

// Open opens a file.
func (o overlay) Open(name string) (fs.File, error) {
	if _, ok := o.files[name]; ok {
		return o.files.Open(name)
	}
	return o.dir.Open(name)
}
