package edit

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"ostrov/internal/core/field"
	"ostrov/internal/core/form"
	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
)

// Member is a character, town or the like in a save.
type Member struct {
	ID    string `json:"id"`
	Title string `json:"title,omitempty"`
	Owner string `json:"owner,omitempty"`
	Size  int    `json:"size"` // bytes
	// File is the file that it is, where it is one.
	File string `json:"file,omitempty"`
}

// Taken is a member outside of a save.
type Taken struct {
	Member
	Game    string `json:"game"`
	Kind    string `json:"kind"`
	Version string `json:"version,omitempty"`
	// Name is what its file is called, and Piece all of it.
	Name  string `json:"name,omitempty"`
	Piece []byte `json:"-"`
}

// spot is a member and where it stands.
type spot struct {
	Member
	o  *opened
	at *form.Span // nil is the file itself
}

// Called is what a member of a kind of save is.
func Called(kind *game.Save) string {
	if kind.Members == nil || kind.Members.Called == "" {
		return "member"
	}
	return kind.Members.Called
}

// Members are those of a save.
func Members(ctx context.Context, src Source) (all []Member, err error) {
	w, err := beginWhole(ctx, src)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, w.close()) }()
	found, err := w.members()
	for _, s := range found {
		all = append(all, s.Member)
	}
	return all, err
}

func (w *work) members() (found []spot, err error) {
	m := w.Save.Kind.Members
	if m == nil {
		return nil, problem.Usage(problem.Advise("it needs [save.members]"), "the description of %s does not say what the members of a %s are", w.Game.Title, w.Save.Kind.ID)
	}
	all, err := w.editors(m.In)
	if err != nil {
		return nil, err
	}
	for _, o := range all {
		if m.Each == "" {
			one := spot{Member{File: o.name, Size: int(o.size), ID: strings.TrimSuffix(path.Base(o.name), path.Ext(o.name))}, o, nil}
			if err := w.describe(&one, m); err != nil {
				return nil, w.failed(o.name, err)
			}
			found = append(found, one)
			continue
		}
		elements, err := o.editor.Each(w.ctx, nil, m.Each)
		if err != nil {
			return nil, w.failed(o.name, err)
		}
		for i := range elements {
			text, err := o.editor.Piece(elements[i])
			if err != nil {
				return nil, w.failed(o.name, err)
			}
			one := spot{Member{Size: len(text)}, o, &elements[i]}
			if err := w.describe(&one, m); err != nil {
				return nil, w.failed(o.name, err)
			}
			found = append(found, one)
		}
	}
	return found, nil
}

// describe reads what a member says of itself.
func (w *work) describe(s *spot, m *game.Members) error {
	for _, c := range []struct {
		column *field.Column
		into   *string
	}{{&m.ID, &s.ID}, {&m.Title, &s.Title}, {&m.Owner, &s.Owner}} {
		at, err := s.find(w.ctx, c.column)
		if err != nil || at == nil {
			if err != nil {
				return err
			}
			continue
		}
		text, ok, err := s.o.editor.Value(*at)
		if err != nil {
			return err
		}
		v, ok, err := c.column.Value(text, ok)
		if err != nil {
			return err
		}
		if ok {
			*c.into = v.Raw
		}
	}
	return nil
}

// find is where a member says something of itself, or nil.
func (s *spot) find(ctx context.Context, c *field.Column) (*form.Span, error) {
	if c.Query() == "" {
		return nil, nil
	}
	if c.Query() == "@key" && s.at != nil {
		return nil, nil
	}
	found, err := s.o.editor.Values(ctx, s.at, c.Query())
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return &found[0], nil
}

// member is the one that an id or a title means.
func (w *work) member(called string) (spot, error) {
	all, err := w.members()
	if err != nil {
		return spot{}, err
	}
	var names []string
	var met []spot
	for _, s := range all {
		names = append(names, strings.TrimSpace(s.ID+" "+s.Title))
		if s.ID == called || strings.EqualFold(s.Title, called) {
			met = append(met, s)
		}
	}
	switch len(met) {
	case 1:
		return met[0], nil
	case 0:
		return spot{}, problem.Usage(problem.Advise("there are: %s", strings.Join(names, ", ")), "%s has no %s %q", w.Called, Called(w.Save.Kind), called)
	}
	return spot{}, problem.Usage(problem.Advise("there are: %s", strings.Join(names, ", ")), "%q could be several of %s: say which by its id", called, w.Called)
}

// Take is a member as it is outside of its save.
func Take(ctx context.Context, src Source, called string) (t *Taken, err error) {
	w, err := beginWhole(ctx, src)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, w.close()) }()
	s, err := w.member(called)
	if err != nil {
		return nil, err
	}
	t = &Taken{Member: s.Member, Game: src.Game.ID, Kind: src.Save.Kind.ID, Version: src.Save.Needs.Version}
	if s.at == nil {
		t.Name = path.Base(s.o.name)
		content, err := w.read(s.o.name)
		if err != nil {
			return nil, err
		}
		t.Piece, err = all(content)
		return t, err
	}
	text, err := s.o.editor.Piece(*s.at)
	t.Piece = slices.Clone(text)
	return t, err
}

// Put puts a member into a save: with an id that is free there, and the owner that the save has. It returns the member as it is then.
func Put(ctx context.Context, into Source, t *Taken) (e *Edited, as Member, err error) {
	w, err := beginWhole(ctx, into)
	if err != nil {
		return nil, as, err
	}
	defer func() { err = errors.Join(err, w.close()) }()
	kind := w.Save.Kind
	if t.Game != w.Game.ID || t.Kind != kind.ID {
		return nil, as, problem.Usage(nil, "that is from a %s of %s, and %s is a %s of %s; nothing has been changed", t.Kind, t.Game, into.Called, kind.ID, w.Game.ID)
	}
	giver := into
	was := *into.Save
	was.Needs.Version = t.Version
	giver.Save, giver.Called = &was, "the "+Called(kind)
	if err := mayCross(into, giver); err != nil {
		return nil, as, err
	}
	there, err := w.members()
	if err != nil {
		return nil, as, err
	}
	if c := kind.Members.Capacity; c > 0 && len(there) >= c {
		return nil, as, problem.Usage(problem.Do("members remove", into.Called), "%s is full: it has %d of at most %d; nothing has been changed", into.Called, len(there), c)
	}
	id, err := w.freeID(there, t)
	if err != nil {
		return nil, as, err
	}
	if err := w.insert(there, t); err != nil {
		return nil, as, err
	}
	if err := w.own(there, id, t); err != nil {
		return nil, as, err
	}
	now, err := w.members()
	if err != nil {
		return nil, as, err
	}
	as = newest(now, t).Member
	e, err = w.edited()
	return e, as, err
}

// newest is the member that was put in: the last one, or that of its file.
func newest(now []spot, t *Taken) spot {
	if i := slices.IndexFunc(now, func(s spot) bool { return s.at == nil && path.Base(s.File) == t.Name }); i >= 0 {
		return now[i]
	}
	return now[len(now)-1]
}

// freeID is the id that a member gets: its own, or where that is taken and a number, the next one.
func (w *work) freeID(there []spot, t *Taken) (string, error) {
	base, taken := 10, false
	for _, s := range there {
		taken = taken || s.ID == t.ID
		if len(s.ID) == len(t.ID) && len(s.ID)%2 == 0 && (s.ID[0] == '0' || strings.ContainsAny(s.ID, "abcdef")) {
			base = 16 // the bytes of a number, as they stand there
		}
	}
	if !taken {
		return t.ID, nil
	}
	if most, err := strconv.ParseUint(t.ID, base, 63); err == nil {
		for _, s := range there {
			if n, err := strconv.ParseUint(s.ID, base, 63); err == nil {
				most = max(most, n)
			}
		}
		if base == 16 {
			return fmt.Sprintf("%0*x", len(t.ID), most+1), nil
		}
		return strconv.FormatUint(most+1, 10), nil
	}
	return "", problem.Usage(problem.Do("members remove", w.Called, t.ID), "%s has a %s %s already; nothing has been changed", w.Called, Called(w.Save.Kind), t.ID)
}

// insert puts a member in, behind all others.
func (w *work) insert(there []spot, t *Taken) error {
	m := w.Save.Kind.Members
	if m.Each == "" {
		return w.newFile(m, t)
	}
	o, err := w.only(m.In)
	if err != nil {
		return err
	}
	var after, in *form.Span
	if len(there) > 0 {
		after = there[len(there)-1].at
	}
	query := m.Into
	if tree := o.file.Form == "json" || o.file.Form == "xml" || o.file.Form == "blocks"; query == "" && tree {
		query = above(m.Each, "..")
	}
	if query != "" && (after == nil || o.file.Form == "json" || o.file.Form == "xml") {
		at, err := o.editor.One(w.ctx, nil, query)
		if err != nil {
			return w.failed(m.In, err)
		}
		in = &at
	}
	if err := o.editor.Insert(in, after, t.Piece); err != nil {
		return w.failed(m.In, err)
	}
	if err := w.finish(); err != nil {
		return err
	}
	now, err := w.members()
	if err != nil {
		return err
	}
	if len(now) != len(there)+1 {
		return problem.Usage(nil, "what was put in is no %s of %s; nothing has been changed", Called(w.Save.Kind), w.Called)
	}
	return w.counts(m, now[len(now)-1], 1)
}

// counts lets the numbers that count members follow.
func (w *work) counts(m *game.Members, s spot, by int) error {
	if s.at == nil {
		return nil
	}
	for i := range m.Counts {
		if _, err := w.count(&m.Counts[i], s.o, map[*opened][]form.Span{s.o: {*s.at}}, by); err != nil {
			return w.failed(m.In, err)
		}
	}
	return nil
}

// newFile puts a member in that is a file of its own.
func (w *work) newFile(m *game.Members, t *Taken) error {
	declared := w.Save.Kind.Files[m.In]
	if w.Save.Kind.Unit != game.UnitFolder || strings.ContainsAny(t.Name, "/\\") || !fs.ValidPath(t.Name) {
		return problem.Usage(nil, "%q cannot be the name of a file of the save; nothing has been changed", t.Name)
	}
	dir := path.Dir(declared.Path)
	name := path.Join(w.Save.Name, dir, t.Name)
	if w.Save.Name == "." {
		name = path.Join(dir, t.Name)
	}
	if len(declared.In([]string{path.Join(dir, t.Name)})) == 0 {
		return problem.Usage(nil, "%s would not be a %s of the save: those are %s; nothing has been changed", t.Name, Called(w.Save.Kind), declared.Path)
	}
	if slices.ContainsFunc(w.paths(), func(p string) bool { return strings.EqualFold(p, name) }) {
		return problem.Usage(nil, "%s is there already; nothing has been changed", name)
	}
	w.files[name] = bytes.NewReader(t.Piece)
	return nil
}

// own gives the member that was put in the id that is free and the owner of the save.
func (w *work) own(there []spot, id string, t *Taken) error {
	m := w.Save.Kind.Members
	owner := w.Save.Facts.Owner
	for _, s := range there {
		if s.Owner != "" && owner == "" {
			owner = s.Owner
		}
	}
	for _, c := range []struct {
		column *field.Column
		is     string
		now    string
	}{{&m.ID, t.ID, id}, {&m.Owner, t.Owner, owner}} {
		if c.is == c.now || c.now == "" || c.column.Query() == "" {
			continue
		}
		now, err := w.members()
		if err != nil {
			return err
		}
		s := newest(now, t)
		at, err := s.find(w.ctx, c.column)
		if err != nil || at == nil {
			return w.failed(m.In, errors.Join(err, fmt.Errorf("it does not say %s: %w", c.column.Query(), form.ErrNotWritable)))
		}
		if err := s.o.editor.Set(*at, c.column.Encode(c.now)); err != nil {
			return w.failed(m.In, err)
		}
		if err := w.finish(); err != nil {
			return err
		}
	}
	return nil
}

// Remove takes a member out of a save.
func Remove(ctx context.Context, src Source, called string) (e *Edited, err error) {
	w, err := beginWhole(ctx, src)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, w.close()) }()
	s, err := w.member(called)
	if err != nil {
		return nil, err
	}
	if s.at == nil {
		if err := w.close(); err != nil {
			return nil, err
		}
		w.gone[s.o.name], w.said = true, nil
		delete(w.files, s.o.name)
		return w.edited()
	}
	if err := w.counts(w.Save.Kind.Members, s, -1); err != nil {
		return nil, err
	}
	if err := s.o.editor.Remove(*s.at); err != nil {
		return nil, w.failed(s.o.name, err)
	}
	return w.edited()
}
