package edit

import (
	"context"
	"errors"
	"path"
	"slices"
	"strings"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/field"
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
	at *doc.Node // nil is the file itself
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
			one := spot{Member{File: o.name, Size: int(o.raw.Size()), ID: strings.TrimSuffix(path.Base(o.name), path.Ext(o.name))}, o, nil}
			if err := w.describe(&one, m); err != nil {
				return nil, w.failed(o.name, err)
			}
			found = append(found, one)
			continue
		}
		elements, err := o.editor.Find(w.ctx, nil, m.Each, true)
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
func (s *spot) find(ctx context.Context, c *field.Column) (*doc.Node, error) {
	if c.Query() == "" {
		return nil, nil
	}
	if c.Query() == "@key" && s.at != nil {
		return nil, nil
	}
	found, err := s.o.editor.Find(ctx, s.at, c.Query(), false)
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

// counts lets the numbers that count members follow.
func (w *work) counts(m *game.Members, s spot, by int) error {
	if s.at == nil {
		return nil
	}
	for i := range m.Counts {
		if _, err := w.count(&m.Counts[i], s.o, map[*opened][]doc.Node{s.o: {*s.at}}, by); err != nil {
			return w.failed(m.In, err)
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
