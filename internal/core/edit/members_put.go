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

	"ostrov/internal/core/doc"
	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/wrap"
)

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
	name := ""
	if kind.Members.Each == "" {
		if name, err = w.nameOf(kind.Members, t); err != nil {
			return nil, as, err
		}
	}
	one := *t
	if one.Piece, err = w.adapted(there, id, t); err != nil {
		return nil, as, w.failed(kind.Members.In, err)
	}
	if t = &one; name != "" {
		w.files[name] = bytes.NewReader(t.Piece)
	} else if err := w.insert(there, t); err != nil {
		return nil, as, err
	}
	now, err := w.members()
	if err != nil {
		return nil, as, err
	}
	s, err := w.added(there, now, id, t)
	if err != nil {
		return nil, as, err
	}
	if err := w.counts(kind.Members, s, 1); err != nil {
		return nil, as, err
	}
	e, err = w.edited()
	return e, s.Member, err
}

// added is the member that was put in: there must be just one more than before.
func (w *work) added(there, now []spot, id string, t *Taken) (spot, error) {
	m := w.Save.Kind.Members
	is := func(s spot) bool { return s.at != nil && s.ID == id || s.at == nil && path.Base(s.File) == t.Name }
	i := len(now) - 1
	if m.ID.Query() != "" || m.Each == "" {
		i = slices.IndexFunc(now, is)
	}
	if len(now) != len(there)+1 || i < 0 {
		return spot{}, problem.Usage(nil, "what was put in is no %s of %s; nothing has been changed", Called(w.Save.Kind), w.Called)
	}
	return now[i], nil
}

// adapted is a member as it is put in: with the id that is free there, and the owner that the save has. What the member says of itself must be what it
// was taken as.
func (w *work) adapted(there []spot, id string, t *Taken) (piece []byte, err error) {
	m := w.Save.Kind.Members
	owner := w.Save.Facts.Owner
	for _, s := range there {
		if s.Owner != "" && owner == "" {
			owner = s.Owner
		}
	}
	wanted := []struct {
		column *field.Column
		is     string
		now    string
	}{{&m.ID, t.ID, id}, {&m.Owner, t.Owner, owner}}
	declared, err := w.declared(m.In)
	if err != nil {
		return nil, err
	}
	if declared.Form == "sqlite" {
		piece = t.Piece
		for _, c := range wanted {
			if c.column.Query() == "" || c.now == "" || c.now == c.is {
				continue
			}
			if piece, err = doc.WithColumn(piece, c.column.Query(), c.column.Encode(c.now)); err != nil {
				return nil, err
			}
		}
		return piece, nil
	}
	e, one, done, err := w.openPiece(declared, t.Piece)
	if err != nil {
		return nil, errors.Join(fmt.Errorf("it is no %s of this kind: %w: %w", Called(w.Save.Kind), err, wrap.ErrNotWritable), done())
	}
	defer func() { err = errors.Join(err, e.Close(), done()) }()
	s := spot{Member{}, &opened{name: t.Name, file: declared, editor: e}, one}
	for _, c := range wanted {
		at, err := s.find(w.ctx, c.column)
		if err != nil || c.column.Query() == "" {
			if err != nil {
				return nil, err
			}
			continue
		}
		if at == nil {
			if c.now == c.is || c.now == "" {
				continue
			}
			return nil, fmt.Errorf("it does not say %s: %w", c.column.Query(), wrap.ErrNotWritable)
		}
		text, ok, err := e.Value(*at)
		if err != nil {
			return nil, err
		}
		says, _, err := c.column.Value(text, ok)
		if err != nil || says.Raw != c.is {
			return nil, errors.Join(err, fmt.Errorf("it says %q where %q was taken: it %w", says.Raw, c.is, wrap.ErrNotWritable))
		}
		if c.is != c.now && c.now != "" {
			if err := e.Set(*at, c.column.Encode(c.now)); err != nil {
				return nil, err
			}
		}
	}
	result, changed, err := e.Result(w.ctx)
	if err != nil || !changed {
		return t.Piece, err
	}
	if layers := declared.Layers; m.Each == "" && !layers.None() {
		return layers.Wrap(result, bytes.NewReader(t.Piece), wrap.DefaultLimits)
	}
	return all(result)
}

// openPiece opens a member for changes, and returns the one thing that it is; see doc.Spec.EditPiece. A member that is a file may be wrapped.
func (w *work) openPiece(declared field.File, piece []byte) (e *doc.Editor, one *doc.Node, done func() error, err error) {
	spec, done := declared.Spec(), func() error { return nil }
	if w.Save.Kind.Members.Each != "" {
		e, one, err = spec.EditPiece(w.ctx, piece)
		return e, one, done, err
	}
	content, done, err := spec.Unwrap(bytes.NewReader(piece), wrap.DefaultLimits)
	if err != nil {
		return nil, nil, func() error { return nil }, err
	}
	e, err = spec.Edit(w.ctx, content)
	return e, nil, done, err
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
	o, err := w.only(m.In)
	if err != nil {
		return err
	}
	var after, in *doc.Node
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
	return w.finish()
}

// nameOf is the file that a member becomes which is one, if it may be called so.
func (w *work) nameOf(m *game.Members, t *Taken) (string, error) {
	declared := w.Save.Kind.Files[m.In]
	if w.Save.Kind.Unit != game.UnitFolder || strings.ContainsAny(t.Name, "/\\") || !fs.ValidPath(t.Name) {
		return "", problem.Usage(nil, "%q cannot be the name of a file of the save; nothing has been changed", t.Name)
	}
	dir := path.Dir(declared.Path)
	name := path.Join(w.Save.Name, dir, t.Name)
	if w.Save.Name == "." {
		name = path.Join(dir, t.Name)
	}
	if len(declared.In([]string{path.Join(dir, t.Name)})) == 0 {
		return "", problem.Usage(nil, "%s would not be a %s of the save: those are %s; nothing has been changed", t.Name, Called(w.Save.Kind), declared.Path)
	}
	if slices.ContainsFunc(w.paths(), func(p string) bool { return strings.EqualFold(p, name) }) {
		return "", problem.Usage(nil, "%s is there already; nothing has been changed", name)
	}
	return name, nil
}
