package edit

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ostrov/internal/core/check"
	"ostrov/internal/core/doc"
	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/wrap"
)

// Giver is where a section comes from: a save, or a piece of text that somebody wrote.
type Giver struct {
	Save *Source
	// Piece is the text of a piece, and Called what it is.
	Piece  []byte
	Called string
}

func (g Giver) called() string {
	if g.Save != nil {
		return g.Save.Called
	}
	return g.Called
}

// Side is a section on one side.
type Side struct {
	Parts int      `json:"parts"`
	Size  int      `json:"size"` // bytes
	Head  []string `json:"head"` // its first lines
}

// Borrowed is a save with a section of another.
type Borrowed struct {
	*Edited
	Section  *game.Section
	Was, Now Side
	// Renumbered are ids that were given anew, each as "old → new".
	Renumbered []string
	// Removed is how much went besides, by the description.
	Removed int
}

// Borrow puts a section of a giver into a save, in the place of its own. Across versions it does so only as far as a rule says that one of the
// giver's version loads.
func Borrow(ctx context.Context, into Source, from Giver, s *game.Section) (b *Borrowed, err error) {
	w, err := beginWhole(ctx, into)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, w.close()) }()
	if from.Save != nil {
		if err := sameKind(into, *from.Save); err != nil {
			return nil, err
		}
		if err := mayCross(into, *from.Save); err != nil {
			return nil, err
		}
	}
	b = &Borrowed{Section: s}
	o, err := w.only(s.In)
	if err != nil {
		return nil, err
	}
	pieces, giver, err := w.pieces(o, from, s, b)
	if giver != nil {
		defer func() { err = errors.Join(err, giver.close()) }()
	}
	if err != nil {
		return nil, err
	}
	if err := w.swapIn(o, s, pieces, b); err != nil {
		return nil, w.failed(s.ID, err)
	}
	if err := w.settle(s, giver); err != nil {
		return nil, err
	}
	b.Edited, err = w.edited()
	return b, err
}

// sameKind refuses a save of another kind or game.
func sameKind(into, from Source) error {
	if into.Game.ID != from.Game.ID || into.Save.Kind.ID != from.Save.Kind.ID {
		return problem.Usage(nil, "%s is a %s of %s, and %s is a %s of %s; nothing has been changed", from.Called, from.Save.Kind.ID, from.Game.Title, into.Called, into.Save.Kind.ID, into.Game.Title)
	}
	return nil
}

// mayCross refuses to bring something of a save into one of another version where the rules of the game do not say that it loads.
func mayCross(into, from Source) error {
	giver, taker := from.Save.Needs.Version, into.Save.Needs.Version
	if giver == taker || giver == "" || taker == "" {
		return nil
	}
	found := check.Judge(check.Needs{Version: giver}, check.Have{Called: into.Called, Version: taker}, into.Game.CheckRules(), into.Game.Order())
	if verdict := check.Sum(found); verdict == check.Fit || verdict == check.Risky {
		return nil
	}
	why := "no rule of the game says that this goes"
	for _, f := range found {
		if f.Effect != "" {
			why = f.Effect
		}
	}
	return problem.Declined(nil, "%s was made with %s, and %s with %s: %s; nothing has been changed", from.Called, giver, into.Called, taker, why)
}

// piece is a part of a section, and the name that it stands behind in an object.
type piece struct {
	key  string
	text []byte
}

// member is the piece as what is put into an object or array.
func (p piece) member() []byte {
	if p.key == "" {
		return p.text
	}
	name, _ := json.Marshal(p.key) // a text always can
	return append(append(name, ": "...), p.text...)
}

// pieces are the parts of a section, by the queries that make it up; giver is the save they are from, with its ids renumbered, or nil.
func (w *work) pieces(o *opened, from Giver, s *game.Section, b *Borrowed) (all [][]piece, giver *work, err error) {
	if from.Save != nil {
		if giver, err = beginWhole(w.ctx, *from.Save); err != nil {
			return nil, nil, err
		}
		if err := w.renumber(o, giver, s, b); err != nil {
			return nil, giver, err
		}
		g, err := giver.only(s.In)
		if err != nil {
			return nil, giver, err
		}
		all, err = partsOf(w.ctx, g.editor, s)
		if err == nil && len(slices.Concat(all...)) == 0 {
			err = problem.Usage(nil, "%s has no %s; nothing has been changed", from.called(), s.ID)
		}
		return all, giver, err
	}
	if e, err := o.file.Spec().Edit(w.ctx, bytes.NewReader(from.Piece)); err == nil { // it may be a whole file of a save
		all, err := partsOf(w.ctx, e, s)
		if err = errors.Join(err, e.Close()); err == nil && len(slices.Concat(all...)) > 0 {
			return all, nil, nil
		}
	}
	text := []byte(strings.TrimSpace(string(from.Piece)))
	if len(s.At) != 1 || len(text) == 0 {
		return nil, nil, problem.Usage(nil, "%s holds no %s; nothing has been changed", from.called(), s.ID)
	}
	return [][]piece{{{text: text}}}, nil, nil
}

// partsOf are the parts of a section in a file.
func partsOf(ctx context.Context, e *doc.Editor, s *game.Section) (all [][]piece, err error) {
	for _, query := range s.At {
		found, err := e.Find(ctx, nil, query, true)
		if err != nil {
			return nil, err
		}
		var here []piece
		for _, f := range found {
			text, err := e.Piece(f)
			if err != nil {
				return nil, err
			}
			here = append(here, piece{e.Key(f), slices.Clone(text)})
		}
		all = append(all, here)
	}
	return all, nil
}

// side is what a section is, for people.
func side(parts [][]piece) (s Side) {
	for _, p := range slices.Concat(parts...) {
		s.Parts++
		s.Size += len(p.text)
		for line := range strings.SplitSeq(string(p.text[:min(len(p.text), 4096)]), "\n") {
			if line = strings.TrimSpace(line); line != "" && len(s.Head) < 3 {
				s.Head = append(s.Head, line[:min(len(line), 120)])
			}
		}
	}
	return s
}

// swapIn puts the parts in the place of those that are there.
func (w *work) swapIn(o *opened, s *game.Section, pieces [][]piece, b *Borrowed) error {
	was, err := partsOf(w.ctx, o.editor, s)
	if err != nil {
		return err
	}
	b.Was, b.Now = side(was), side(pieces)
	for _, query := range s.Remove {
		gone, err := o.editor.Find(w.ctx, nil, query, true)
		if err != nil {
			return err
		}
		if len(gone) == 0 {
			continue
		}
		b.Removed += len(gone)
		if err := o.editor.Remove(gone...); err != nil {
			return err
		}
	}
	var after *doc.Node // the part before, which the next one stands behind
	for i, query := range s.At {
		there, err := o.editor.Find(w.ctx, nil, query, true)
		if err != nil {
			return err
		}
		n := min(len(there), len(pieces[i]))
		for j := range n {
			if err := o.editor.Replace(there[j], pieces[i][j].text); err != nil {
				return err
			}
		}
		if len(there) > n && n > 0 || len(there) > 0 && len(pieces[i]) == 0 {
			if err := o.editor.Remove(there[n:]...); err != nil {
				return err
			}
		}
		if n > 0 {
			after = &there[n-1]
		}
		if len(pieces[i]) == n {
			continue
		}
		in, err := w.around(o, s, query)
		if err != nil {
			return err
		}
		for _, p := range pieces[i][n:] {
			if err := o.editor.Insert(in, after, p.member()); err != nil {
				return err
			}
		}
	}
	return nil
}

// around is what the parts of a section stand in; nil is the file.
func (w *work) around(o *opened, s *game.Section, query string) (*doc.Node, error) {
	if s.Into != "" {
		at, err := o.editor.One(w.ctx, nil, s.Into)
		return &at, err
	}
	if o.file.Form != "json" && o.file.Form != "xml" && o.file.Form != "blocks" {
		return nil, nil
	}
	up := above(query, "..")
	if up == "" {
		return nil, nil
	}
	found, err := o.editor.Find(w.ctx, nil, up, true)
	if err != nil || len(found) != 1 {
		return nil, errors.Join(err, fmt.Errorf("%s is there %d times, so that nothing tells where the section goes: it %w", up, len(found), wrap.ErrNotWritable))
	}
	return &found[0], nil
}

// renumber gives those ids of a giver's section anew that the save has already outside of its own section, and what names them in the section with
// them.
func (w *work) renumber(o *opened, giver *work, s *game.Section, b *Borrowed) error {
	for _, u := range s.Unique {
		taken := map[string]bool{}
		most := 0
		err := w.outside(o, s, u.At, func(id string) {
			taken[id] = true
		})
		if err != nil {
			return err
		}
		g, err := giver.only(s.In)
		if err != nil {
			return err
		}
		inside, err := sectionSpans(w.ctx, g.editor, s)
		if err != nil {
			return err
		}
		ids, err := within(w.ctx, g.editor, u.At, inside)
		if err != nil {
			return err
		}
		for id := range taken {
			if n, err := strconv.Atoi(id); err == nil {
				most = max(most, n)
			}
		}
		for _, id := range ids {
			if n, err := strconv.Atoi(id.text); err == nil {
				most = max(most, n)
			}
		}
		anew := map[string]string{}
		for _, id := range ids {
			if !taken[id.text] || anew[id.text] != "" {
				continue
			}
			fresh := ""
			if _, err := strconv.Atoi(id.text); err == nil {
				most++
				fresh = strconv.Itoa(most)
			} else {
				for n := 2; fresh == "" || taken[fresh]; n++ {
					fresh = fmt.Sprintf("%s-%d", id.text, n)
				}
			}
			taken[fresh] = true
			anew[id.text] = fresh
			b.Renumbered = append(b.Renumbered, id.text+" → "+fresh)
		}
		places := ids
		for _, q := range u.Named {
			named, err := within(w.ctx, g.editor, q, inside)
			if err != nil {
				return err
			}
			places = append(places, named...)
		}
		for _, p := range places {
			if fresh := anew[p.text]; fresh != "" {
				if err := g.editor.Set(p.at, fresh); err != nil {
					return giver.failed(s.ID, err)
				}
			}
		}
		if err := giver.finish(); err != nil {
			return err
		}
	}
	return nil
}

// valueAt is a value and where it stands.
type valueAt struct {
	at   doc.Node
	text string
}

// sectionSpans are the parts of a section.
func sectionSpans(ctx context.Context, e *doc.Editor, s *game.Section) (all []doc.Node, err error) {
	for _, query := range s.At {
		found, err := e.Find(ctx, nil, query, true)
		if err != nil {
			return nil, err
		}
		all = append(all, found...)
	}
	return all, nil
}

// within are the values that a query names inside of some parts.
func within(ctx context.Context, e *doc.Editor, query string, parts []doc.Node) (all []valueAt, err error) {
	err = e.EachValue(ctx, query, func(at doc.Node, value []byte) error {
		if isWithin(at, parts) {
			all = append(all, valueAt{at, string(value)})
		}
		return nil
	})
	return all, err
}

func isWithin(at doc.Node, parts []doc.Node) bool {
	return slices.ContainsFunc(parts, func(p doc.Node) bool {
		return at.To > 0 && at.From >= p.From && at.To <= p.To || at.To == 0 && at.Is(p)
	})
}

// outside visits the values that a query names outside of a section.
func (w *work) outside(o *opened, s *game.Section, query string, visit func(string)) error {
	inside, err := sectionSpans(w.ctx, o.editor, s)
	if err != nil {
		return err
	}
	return o.editor.EachValue(w.ctx, query, func(at doc.Node, value []byte) error {
		if !isWithin(at, inside) {
			visit(string(value))
		}
		return nil
	})
}

// settle sets the values that go with a section.
func (w *work) settle(s *game.Section, giver *work) error {
	for _, set := range s.Sets {
		value := ""
		switch {
		case set.Value != nil:
			value = *set.Value
		case giver == nil: // a piece brings no values along
			continue
		default:
			g, err := giver.only(s.In)
			if err != nil {
				return err
			}
			at, err := g.editor.One(w.ctx, nil, set.At)
			if err != nil {
				return giver.failed(set.At, err)
			}
			if value, _, err = g.editor.Value(at); err != nil {
				return err
			}
		}
		if err := w.finish(); err != nil {
			return err
		}
		if _, err := w.write(set.At, s.In, set.At, value); err != nil {
			return err
		}
	}
	return nil
}
