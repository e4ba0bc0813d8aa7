package edit

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/refer"
	"ostrov/internal/core/wrap"
)

// Stripped is what was taken out of a save.
type Stripped struct {
	*Edited
	// Things are the identifiers that went, and how often each was there: those of the mods, and behind them those of other mods that go with them.
	Things []Thing
	// Others are the mods whose things go with what is taken out.
	Others []string
	// Followed is how many other places and numbers followed.
	Followed int
	// Listed is how many entries of the save's own list of mods went.
	Listed int
}

// Thing is something that a mod brought into a save.
type Thing struct {
	ID    string `json:"id"`
	Mod   string `json:"mod"`
	Count int    `json:"count"`
	Other bool   `json:"other,omitempty"` // it is not of the mods that are taken out, but goes with their things
}

// stripper takes the things of some mods out of a save.
type stripper struct {
	*work
	finder   *refer.Finder
	mods     map[string]bool        // ids in lower case
	things   map[Thing]int          // without their counts
	cut      map[*opened][]doc.Node // what goes, by its file
	followed int
	listed   int
}

// Strip takes out of a save what only these mods provide, and their entries in its own list of mods; finder knows their identifiers. If things of other
// mods would go with that, it is an error, unless anyway says that they may. That anything of the mods is left at the end is an error that says which
// words the description lacks.
func Strip(ctx context.Context, src Source, finder *refer.Finder, mods []string, anyway bool) (s *Stripped, err error) {
	w, err := beginWhole(ctx, src)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, w.close()) }()
	st := &stripper{work: w, finder: finder, mods: map[string]bool{}, things: map[Thing]int{}, cut: map[*opened][]doc.Node{}}
	for _, id := range mods {
		st.mods[strings.ToLower(id)] = true
	}
	if finder == nil {
		return nil, problem.Usage(problem.Advise("it needs [references], and in it remove or instead"), "the description of %s does not say where the things of mods stand in a save; nothing has been changed", src.Game.Title)
	}
	for i := range src.Game.References {
		r := &src.Game.References[i]
		if _, has := src.Save.Kind.Files[r.In]; !has || r.Save != "" && r.Save != src.Save.Kind.ID || !r.Removes() {
			continue
		}
		if err := st.reference(r); err != nil {
			return nil, err
		}
		if err := w.finish(); err != nil {
			return nil, err
		}
		st.cut = map[*opened][]doc.Node{}
	}
	if err := st.lists(); err != nil {
		return nil, err
	}
	if err := w.finish(); err != nil {
		return nil, err
	}
	if err := st.nothingLeft(); err != nil {
		return nil, err
	}
	e, err := w.edited()
	if err != nil {
		return nil, err
	}
	e.Out = mods
	s = &Stripped{Edited: e, Followed: st.followed, Listed: st.listed}
	for t, n := range st.things {
		t.Count = n
		if s.Things = append(s.Things, t); t.Other && !slices.Contains(s.Others, t.Mod) {
			s.Others = append(s.Others, t.Mod)
		}
	}
	slices.Sort(s.Others)
	slices.SortFunc(s.Things, func(a, b Thing) int {
		return cmp.Or(compareBool(a.Other, b.Other), b.Count-a.Count, strings.Compare(a.ID, b.ID))
	})
	if len(s.Others) > 0 && !anyway {
		return nil, othersGo(s)
	}
	return s, nil
}

func compareBool(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return 1
	}
	return -1
}

// othersGo is the error that says which things of other mods would go.
func othersGo(s *Stripped) error {
	var names []string
	for _, t := range s.Things {
		if t.Other && len(names) < 8 {
			names = append(names, fmt.Sprintf("%s (%d, of %s)", t.ID, t.Count, t.Mod))
		}
	}
	return problem.Declined(problem.Advise("the option anyway takes them out as well"), "things of %s would go with it: %s; nothing has been changed", strings.Join(s.Others, ", "), strings.Join(names, ", "))
}

// mentions are the identifiers of the mods in a text.
func (s *stripper) mentions(text []byte) (found []doc.Node) {
	s.finder.Each(text, func(mod string, from, to int) {
		if s.mods[strings.ToLower(mod)] {
			found = append(found, doc.Node{From: from, To: to})
		}
	})
	slices.SortFunc(found, func(a, b doc.Node) int { return a.From - b.From })
	return slices.CompactFunc(found, func(a, b doc.Node) bool { return a.From == b.From })
}

// note counts what goes with a text: each identifier in it, whoever's it is.
func (s *stripper) note(text []byte) {
	seen := -1
	s.finder.Each(text, func(mod string, from, to int) {
		if from == seen { // by its end and by its beginning
			return
		}
		seen = from
		s.things[Thing{ID: string(text[from:to]), Mod: mod, Other: !s.mods[strings.ToLower(mod)]}]++
	})
}

// noteParts counts what goes with parts of a file.
func (s *stripper) noteParts(e *doc.Editor, parts []doc.Node) error {
	for _, p := range parts {
		text, err := e.Decoded(s.ctx, p)
		if err != nil {
			return err
		}
		s.note(text)
	}
	return nil
}

// reference takes out what one reference of the description says.
func (s *stripper) reference(r *game.Reference) error {
	all, err := s.editors(r.In)
	if err != nil {
		return err
	}
	for _, o := range all {
		switch {
		case r.At == "":
			err = s.inText(o, r)
		case r.Remove == "" || r.Form != "" || len(r.Layers.Chain) > 0 || r.Layers.Tag != nil || o.file.Form == "sqlite" && r.Remove != ".":
			err = s.inValues(o, r)
		default:
			err = s.elements(o.editor, o, r, r.At)
		}
		if err != nil {
			return s.failed(o.name, err)
		}
		if err := s.follow(o, r); err != nil {
			return s.failed(o.name, err)
		}
	}
	return nil
}

// above is the query for what goes with an occurrence: the element itself, what it stands in, or another query.
func above(at, remove string) string {
	if remove == "" || remove == "." || remove == "$" {
		return at
	}
	up := 0
	for rest := remove; ; {
		next, ok := strings.CutPrefix(rest, "..")
		if !ok {
			return remove
		}
		up++
		if rest = strings.TrimPrefix(next, "/"); rest == "" {
			break
		}
	}
	for range up {
		if strings.HasSuffix(at, "]") {
			i := strings.LastIndexByte(at, '[')
			if !strings.HasPrefix(at, "$") { // an XML predicate belongs to its step
				i = strings.LastIndexByte(at[:i], '/')
			}
			at = at[:max(i, 0)]
			continue
		}
		at = at[:max(strings.LastIndexAny(at, "/."), 0)]
	}
	return at
}

// elements takes out the elements that identifiers stand in, or gives them another value.
func (s *stripper) elements(e *doc.Editor, o *opened, r *game.Reference, at string) error {
	var met []doc.Node
	err := e.EachValue(s.ctx, at, func(span doc.Node, value []byte) error {
		if raw := e.Part(span); len(raw) > 0 && len(s.mentions(raw)) > 0 { // the name of a pair counts, too
			value = raw
		}
		if len(s.mentions(value)) > 0 {
			met = append(met, span)
		}
		return s.ctx.Err()
	})
	if err != nil || len(met) == 0 {
		return err
	}
	targets := met
	if query := above(at, r.Remove); query != at {
		if targets, err = holding(s.ctx, e, query, met); err != nil {
			return err
		}
	}
	return s.take(e, o, r, targets)
}

// holding are the elements that a query names and that have one of parts in them.
func holding(ctx context.Context, e *doc.Editor, query string, parts []doc.Node) (found []doc.Node, err error) {
	all, err := e.Find(ctx, nil, query, true)
	if err != nil {
		return nil, err
	}
	i := 0
	for _, one := range all {
		for i < len(parts) && parts[i].From < one.From {
			i++
		}
		if i < len(parts) && parts[i].To <= one.To {
			found = append(found, one)
		}
	}
	if len(found) == 0 {
		err = fmt.Errorf("%s names nothing that the things of a mod stand in: it %w", query, wrap.ErrNotWritable)
	}
	return found, err
}

// take takes parts out, or puts what the description says in their place.
func (s *stripper) take(e *doc.Editor, o *opened, r *game.Reference, parts []doc.Node) error {
	if err := s.noteParts(e, parts); err != nil {
		return err
	}
	if r.Instead != nil {
		for _, p := range parts {
			if err := e.Set(p, *r.Instead); err != nil {
				return err
			}
		}
		return nil
	}
	if o != nil {
		s.cut[o] = append(s.cut[o], parts...)
	}
	if o != nil && o.file.Form == "sqlite" { // what names them is asked before they go
		return nil
	}
	return e.Remove(parts...)
}
