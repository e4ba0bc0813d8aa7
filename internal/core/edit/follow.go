package edit

import (
	"fmt"
	"slices"
	"strconv"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/game"
	"ostrov/internal/core/wrap"
)

// follow lets the numbers and the other places follow what goes from a file.
func (s *stripper) follow(o *opened, r *game.Reference) error {
	gone := s.cut[o]
	for i := range r.Also {
		if err := s.also(o, r, &r.Also[i], gone); err != nil {
			return err
		}
	}
	for i := range r.Counts {
		n, err := s.count(&r.Counts[i], o, s.cut, -1)
		if s.followed += n; err != nil {
			return err
		}
	}
	for other, parts := range s.cut {
		if other.file.Form != "sqlite" {
			continue
		}
		if err := other.editor.Remove(parts...); err != nil {
			return err
		}
	}
	return nil
}

// in is the editor of another file that a part of the description names, or the same one.
func (w *work) in(id string, o *opened) (*opened, error) {
	if id == "" {
		return o, nil
	}
	return w.only(id)
}

// also changes the places that name what goes.
func (s *stripper) also(o *opened, r *game.Reference, a *game.Also, gone []doc.Node) error {
	keys := map[string]bool{}
	for _, part := range gone {
		named, err := o.editor.Find(s.ctx, &part, a.Key, false)
		if err != nil {
			return err
		}
		for _, n := range named {
			if key, ok, err := o.editor.Value(n); err != nil {
				return err
			} else if ok {
				keys[key] = true
			}
		}
	}
	other, err := s.in(a.In, o)
	if err != nil || len(keys) == 0 {
		return err
	}
	var met []doc.Node
	err = other.editor.EachValue(s.ctx, a.At, func(at doc.Node, value []byte) error {
		inGone := slices.ContainsFunc(gone, func(g doc.Node) bool { return other == o && at.From >= g.From && at.To <= g.To && at.To > 0 })
		if keys[string(value)] && !inGone {
			met = append(met, at)
		}
		return nil
	})
	if err != nil || len(met) == 0 {
		return err
	}
	s.followed += len(met)
	if query := above(a.At, a.Remove); a.Remove != "" && query != a.At {
		if met, err = holding(s.ctx, other.editor, query, met); err != nil {
			return err
		}
	}
	if a.Instead != nil {
		for _, m := range met {
			if err := other.editor.Set(m, *a.Instead); err != nil {
				return err
			}
		}
		return nil
	}
	s.cut[other] = append(s.cut[other], met...)
	if other.file.Form == "sqlite" {
		return nil
	}
	return other.editor.Remove(met...)
}

// count lets a number follow how many of the elements that it counts are among parts, each of which adds by to it; it returns how many numbers
// followed.
func (w *work) count(c *game.Count, o *opened, parts map[*opened][]doc.Node, by int) (followed int, err error) {
	o, err = w.in(c.In, o)
	if err != nil || len(parts[o]) == 0 {
		return 0, err
	}
	around := []*doc.Node{nil}
	if c.Each != "" {
		all, err := o.editor.Find(w.ctx, nil, c.Each, true)
		if err != nil {
			return 0, err
		}
		around = nil
		for i := range all {
			around = append(around, &all[i])
		}
	}
	is := map[int]bool{}
	for _, p := range parts[o] {
		is[p.From] = true
	}
	for _, in := range around {
		counted, err := o.editor.Find(w.ctx, in, c.Of, true)
		if err != nil {
			return followed, err
		}
		n := 0
		for _, one := range counted {
			if one.To == 0 && slices.ContainsFunc(parts[o], one.Is) || one.To > 0 && is[one.From] {
				n++
			}
		}
		inGone := in != nil && slices.ContainsFunc(parts[o], func(p doc.Node) bool { return in.From >= p.From && in.To <= p.To })
		if n == 0 || inGone {
			continue
		}
		at, err := o.editor.One(w.ctx, in, c.At)
		if err != nil {
			return followed, err
		}
		text, _, err := o.editor.Value(at)
		if err != nil {
			return followed, err
		}
		was, err := strconv.Atoi(text)
		if err != nil {
			return followed, fmt.Errorf("%s counts, and is %q: it %w", c.At, text, wrap.ErrNotWritable)
		}
		if err := o.editor.Set(at, strconv.Itoa(was+by*n)); err != nil {
			return followed, err
		}
		followed++
	}
	return followed, nil
}
