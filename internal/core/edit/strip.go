package edit

import (
	"bytes"
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"ostrov/internal/core/form"
	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/refer"
)

// Stripped is what was taken out of a save.
type Stripped struct {
	*Edited
	// Things are the identifiers that went, and how often each was there.
	Things []Thing
	// Followed is how many other places and numbers followed.
	Followed int
	// Listed is how many entries of the save's own list of mods went.
	Listed int
}

// Thing is something that a mod brought into a save.
type Thing struct {
	ID    string `json:"id"`
	Count int    `json:"count"`
}

// stripper takes the things of some mods out of a save.
type stripper struct {
	*work
	finder   *refer.Finder
	mods     map[string]bool // ids in lower case
	things   map[string]int
	cut      map[*opened][]form.Span // what goes, by its file
	followed int
	listed   int
}

// Strip takes out of a save what only these mods provide, and their entries in its own list of mods; finder knows their identifiers. That anything of
// them is left at the end is an error that says which words the description lacks.
func Strip(ctx context.Context, src Source, finder *refer.Finder, mods []string) (s *Stripped, err error) {
	w, err := beginWhole(ctx, src)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, w.close()) }()
	st := &stripper{work: w, finder: finder, mods: map[string]bool{}, things: map[string]int{}, cut: map[*opened][]form.Span{}}
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
		st.cut = map[*opened][]form.Span{}
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
	for id, n := range st.things {
		s.Things = append(s.Things, Thing{id, n})
	}
	slices.SortFunc(s.Things, func(a, b Thing) int { return cmp.Or(b.Count-a.Count, strings.Compare(a.ID, b.ID)) })
	return s, nil
}

// mentions are the identifiers of the mods in a text.
func (s *stripper) mentions(text []byte) (found []form.Span) {
	s.finder.Each(text, func(mod string, from, to int) {
		if s.mods[strings.ToLower(mod)] {
			found = append(found, form.Span{From: from, To: to})
		}
	})
	slices.SortFunc(found, func(a, b form.Span) int { return a.From - b.From })
	return slices.CompactFunc(found, func(a, b form.Span) bool { return a.From == b.From })
}

// note counts what goes.
func (s *stripper) note(text []byte, found []form.Span) {
	for _, f := range found {
		s.things[string(text[f.From:f.To])]++
	}
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
func (s *stripper) elements(e *form.Editor, o *opened, r *game.Reference, at string) error {
	var met []form.Span
	err := e.EachValue(s.ctx, at, func(span form.Span, value []byte) error {
		if raw := e.Part(span); len(raw) > 0 && len(s.mentions(raw)) > 0 { // the name of a pair counts, too
			value = raw
		}
		if found := s.mentions(value); len(found) > 0 {
			s.note(value, found)
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
func holding(ctx context.Context, e *form.Editor, query string, parts []form.Span) (found []form.Span, err error) {
	all, err := e.Each(ctx, nil, query)
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
		err = fmt.Errorf("%s names nothing that the things of a mod stand in: it %w", query, form.ErrNotWritable)
	}
	return found, err
}

// take takes parts out, or puts what the description says in their place.
func (s *stripper) take(e *form.Editor, o *opened, r *game.Reference, parts []form.Span) error {
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

// inText takes out what stands anywhere in a text.
func (s *stripper) inText(o *opened, r *game.Reference) error {
	text := o.editor.Text()
	if o.file.Form == "sqlite" {
		return fmt.Errorf("a database without a query in at %w", form.ErrNotWritable)
	}
	met := s.mentions(text)
	if len(met) == 0 {
		return nil
	}
	s.note(text, met)
	if r.Remove == "" {
		for _, m := range met {
			if err := o.editor.Replace(m, []byte(*r.Instead)); err != nil {
				return err
			}
		}
		return nil
	}
	targets, err := holding(s.ctx, o.editor, r.Remove, met)
	if err != nil {
		return err
	}
	if r.Instead == nil {
		return s.take(o.editor, o, r, targets)
	}
	for _, t := range targets {
		if err := o.editor.Replace(t, []byte(*r.Instead)); err != nil {
			return err
		}
	}
	return nil
}

// inValues takes out what stands inside of values: those that are wrapped, and those that are texts of their own.
func (s *stripper) inValues(o *opened, r *game.Reference) error {
	type change struct {
		at  form.Span
		now []byte
	}
	var changes []change
	row := 0
	err := o.editor.EachValue(s.ctx, r.At, func(at form.Span, value []byte) error {
		row++
		changed := false
		now, err := form.Rewrite(value, r.Layers.Layers, form.DefaultLimits, func(content []byte) ([]byte, error) {
			now, err := s.inside(content, r)
			changed = !bytes.Equal(now, content)
			return now, err
		})
		if err != nil {
			return fmt.Errorf("value %d: %w", row, err)
		}
		if changed {
			changes = append(changes, change{at, now})
		}
		return s.ctx.Err()
	})
	if err != nil {
		return err
	}
	for _, c := range changes {
		if o.file.Form == "sqlite" {
			err = o.editor.Replace(c.at, c.now)
		} else {
			err = o.editor.Set(c.at, string(c.now))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// inside is the content of a value without the things of the mods.
func (s *stripper) inside(content []byte, r *game.Reference) (now []byte, err error) {
	met := s.mentions(content)
	if len(met) == 0 {
		return content, nil
	}
	if r.Form != "" {
		e, err := form.Spec{Form: r.Form}.Edit(s.ctx, content)
		if err != nil {
			return nil, err
		}
		defer func() { err = errors.Join(err, e.Close()) }()
		if err := s.elements(e, nil, r, r.Each); err != nil {
			return nil, err
		}
		return e.Done(s.ctx)
	}
	if r.Remove != "" {
		return s.matches(content, r, met)
	}
	var out bytes.Buffer
	at := 0
	for _, m := range met {
		from, to := m.From, m.To
		head := ""
		if r.Length != "" {
			var ok bool
			if from, to, head, ok = counted(content, m, r.Length, len(*r.Instead)); !ok || from < at {
				continue // it is part of something else
			}
		}
		s.things[string(content[m.From:to])]++
		out.Write(content[at:from])
		out.WriteString(head + *r.Instead)
		at = to
	}
	out.Write(content[at:])
	return out.Bytes(), nil
}

// counted is an identifier with the number before it that says how long it is, and that number for another length. ok is false where none stands
// there that fits.
func counted(content []byte, m form.Span, as string, length int) (from, to int, head string, ok bool) {
	size := map[string]int{"u8": 1, "u16": 2, "u32": 4}[strings.TrimRight(as, "lbe")]
	if from = m.From - size; size == 0 || from < 0 {
		return 0, 0, "", false
	}
	number := func(b []byte) int {
		n := 0
		for i := range b {
			if strings.HasSuffix(as, "le") {
				n |= int(b[i]) << (8 * i)
			} else {
				n = n<<8 | int(b[i])
			}
		}
		return n
	}
	to = m.From + number(content[from:m.From])
	if to < m.To || to > len(content) || to-m.From > 1024 {
		return 0, 0, "", false
	}
	var b [8]byte
	if strings.HasSuffix(as, "le") {
		binary.LittleEndian.PutUint64(b[:], uint64(length))
		return from, to, string(b[:size]), true
	}
	binary.BigEndian.PutUint64(b[:], uint64(length))
	return from, to, string(b[8-size:]), true
}

// matches takes out what a pattern matches around identifiers.
func (s *stripper) matches(content []byte, r *game.Reference, met []form.Span) ([]byte, error) {
	re, err := regexp.Compile("(?m:" + r.Remove + ")")
	if err != nil {
		return nil, err
	}
	instead := ""
	if r.Instead != nil {
		instead = *r.Instead
	}
	var out bytes.Buffer
	at := 0
	for _, m := range re.FindAllIndex(content, -1) {
		var here []form.Span
		for _, one := range met {
			if one.From >= m[0] && one.To <= m[1] {
				here = append(here, one)
			}
		}
		if len(here) == 0 {
			continue
		}
		s.note(content, here)
		out.Write(content[at:m[0]])
		out.WriteString(instead)
		at = m[1]
	}
	out.Write(content[at:])
	return out.Bytes(), nil
}
