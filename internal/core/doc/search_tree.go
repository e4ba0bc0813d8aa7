package doc

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"strings"
)

// wayStep is one step of the way to where a scan is.
type wayStep struct {
	name  []byte // decoded
	index int
	array bool
	seen  []nameCount // how many of each name there were in it
	first []firstOf   // of blocks: what was found in the first pair of a name
}

type nameCount struct {
	name string
	n    int
}

// firstOf is a pair whose name may follow again: then its query needs a number.
type firstOf struct {
	name  string
	place int // in what has been found
}

// meet counts one more of a name, and returns which it is, from 0.
func (w *wayStep) meet(name []byte) int {
	for i := range w.seen {
		if c := &w.seen[i]; c.name == string(name) {
			c.n++
			return c.n - 1
		}
	}
	w.seen = append(w.seen, nameCount{string(name), 1})
	return 0
}

// again makes the step ready for another thing; names stay, as mostly the next one has the same.
func (w *wayStep) again() {
	if len(w.seen) > 64 {
		w.seen = nil
	}
	for i := range w.seen {
		w.seen[i].n = 0
	}
	w.first = w.first[:0]
}

// searcher is a sink that finds a text on its way. Over all of a file it goes in the outermost things only, and then again into those that have hits.
type searcher struct {
	ctx     context.Context
	file    *File
	whole   bool     // it goes over all of the file
	inside  *wayStep // over one thing: that, until it has begun
	scan    scanner
	form    string
	text    string
	hits    []int // places of the undecoded text that are not reported yet, in rising order
	spelled bool  // the file has escapes or entities
	way     []wayStep
	out     []Found
	beyond  []int // further places with escapes or entities, without a query
}

func (f *File) searchTree(ctx context.Context, text string, visit func(Found) error) error {
	s := &searcher{ctx: ctx, file: f, form: f.Spec.Form, text: text, way: []wayStep{{}}, whole: true}
	hits, spelled, more, err := f.firstHits(ctx, text)
	if err != nil || len(hits) == 0 && !spelled {
		return err
	}
	s.hits, s.spelled = hits, spelled
	scan := f.scanner()
	defer f.giveBack(scan)
	s.scan = scan
	if err := scan.whole(s); err != nil && err != errEnough {
		return err
	}
	s.upTo(f.src.size, nil, -1)
	for _, found := range s.out {
		if err := visit(found); err != nil {
			return err
		}
	}
	for _, at := range s.beyond {
		if err := visit(Found{At: at}); err != nil {
			return err
		}
	}
	if more {
		return f.otherHits(ctx, text, hits[len(hits)-1], visit)
	}
	return ctx.Err()
}

// upTo tells the hits before a place, which an event, or if that is nil what is open, leads to; n is -1 if nothing does.
func (s *searcher) upTo(to int, e *event, n int) {
	if len(s.hits) == 0 || s.hits[0] >= to {
		return
	}
	query := ""
	if n >= 0 {
		query = s.query(e, n)
	}
	for len(s.hits) > 0 && s.hits[0] < to {
		s.out = append(s.out, Found{At: s.hits[0], Query: query})
		s.hits = s.hits[1:]
	}
	if e != nil && n == 0 {
		s.noteFirst(e)
	}
}

// done ends the search if nothing more can be found.
func (s *searcher) done() error {
	if len(s.hits) == 0 && !s.spelled && (s.form != "blocks" || !s.pending()) {
		return errEnough
	}
	return s.ctx.Err()
}

// pending reports whether a pair may still get a number.
func (s *searcher) pending() bool {
	return slices.ContainsFunc(s.way, func(w wayStep) bool { return len(w.first) > 0 })
}

func (s *searcher) begin(e *event) (bool, error) {
	if in := s.inside; in != nil {
		s.way, s.inside = append(s.way, wayStep{name: in.name, index: in.index, array: in.array}), nil
		return false, nil
	}
	n := s.step(e)
	s.upTo(e.from, nil, 0) // before it, in its parent
	if e.escaped {
		s.nameOf(e)
	}
	depth := len(s.way)
	s.way = slices.Grow(s.way, 1)[:depth+1]
	w := &s.way[depth]
	w.again()
	if w.name, w.index, w.array = e.name, n, s.form == "json" && !e.named; e.escaped {
		w.name = []byte(e.decodedName())
	}
	return s.skips(depth), nil
}

// skips reports whether the inside of a long list's element is searched only if it has hits.
func (s *searcher) skips(depth int) bool { return s.whole && !s.spelled && depth >= 2 }

// into goes over something that has been skipped, and has hits.
func (s *searcher) into(e *event, step wayStep) error {
	n := e.node(string(step.name))
	scan := s.file.scanner()
	in := &searcher{ctx: s.ctx, scan: scan, form: s.form, text: s.text, hits: s.hits, way: slices.Clone(s.way[:len(s.way)-1]), inside: &step}
	in.way = slices.Clip(in.way)
	err := scan.inside(&n, in)
	s.file.giveBack(scan)
	if err == errEnough {
		err = nil
	}
	s.out, s.hits = append(s.out, in.out...), in.hits
	return err
}

// step counts an event in its parent, and returns its number among those of its name, or among the elements.
func (s *searcher) step(e *event) int {
	switch {
	case s.form == "json":
		return e.index
	case e.kind == kindAttribute || e.kind == kindText:
		return 0
	}
	return s.way[len(s.way)-1].meet(e.name)
}

// nameOf finds the text in a name that is spelled otherwise.
func (s *searcher) nameOf(e *event) {
	name := e.decodedName()
	switch {
	case !strings.Contains(name, s.text) || bytes.Contains(e.name, []byte(s.text)):
	case len(s.out) >= maxHits:
		s.beyond = append(s.beyond, e.start)
	default:
		s.out = append(s.out, Found{At: e.start, Value: name, Query: s.query(e, 0)})
	}
}

func (s *searcher) end(e *event) error {
	if depth := len(s.way) - 1; s.skips(depth) && len(s.hits) > 0 && s.hits[0] < e.to {
		if err := s.into(e, s.way[depth]); err != nil {
			return err
		}
	}
	s.upTo(e.to, nil, 0)
	s.way = s.way[:len(s.way)-1]
	return s.done()
}

func (s *searcher) leaf(e *event) error {
	n := s.step(e)
	if e.escaped {
		s.nameOf(e)
	}
	if e.kind == kindPair && n == 1 && !e.listed {
		s.repeated(e)
	}
	end := e.to
	if e.kind == kindAttribute {
		end++ // the quote
	}
	if len(s.hits) > 0 && s.hits[0] < end {
		s.upTo(e.start, nil, 0)
		from := len(s.out)
		if s.upTo(end, e, n); len(s.out) > from {
			return s.done()
		}
	}
	if !s.spelled || e.plain && e.kind != kindPair || e.raw == nil {
		return nil
	}
	value, err := s.scan.decode(e)
	if err != nil {
		return err
	}
	if strings.Contains(value, s.text) && !(len(s.out) > 0 && s.out[len(s.out)-1].At >= e.start) {
		if len(s.out) >= maxHits {
			s.beyond = append(s.beyond, e.value.from)
			return nil
		}
		s.out = append(s.out, Found{At: e.value.from, Value: value, Query: s.query(e, n)})
		if n == 0 {
			s.noteFirst(e)
		}
	}
	return nil
}

// repeated gives the query of the first pair of a name its number, now that there is a second one.
func (s *searcher) repeated(e *event) {
	top := &s.way[len(s.way)-1]
	for _, f := range top.first {
		if f.name == string(e.name) {
			s.out[f.place].Query += "[0]"
		}
	}
	top.first = slices.DeleteFunc(top.first, func(f firstOf) bool { return f.name == string(e.name) })
}

// noteFirst notes what was found last in the first pair of a name.
func (s *searcher) noteFirst(e *event) {
	if e.kind != kindPair || e.listed || string(e.name) == "words" {
		return
	}
	top := &s.way[len(s.way)-1]
	for i := len(s.out) - 1; i >= 0 && s.out[i].At >= e.start; i-- {
		top.first = append(top.first, firstOf{string(e.name), i})
	}
}

// query returns the query for an event, the n-th of its name in the open thing; nil is the open thing itself.
func (s *searcher) query(e *event, n int) string {
	var b strings.Builder
	if s.form == "xml" {
		for _, step := range s.way[1:] {
			fmt.Fprintf(&b, "/%s[%d]", step.name, step.index+1)
		}
		if e != nil && e.kind == kindAttribute {
			b.WriteString("/@" + string(e.name))
		}
		return b.String()
	}
	b.WriteByte('$')
	steps := s.way[1:]
	if s.form == "json" && len(steps) > 0 {
		steps = steps[1:] // the value itself
	}
	for _, step := range steps {
		switch {
		case s.form == "blocks":
			fmt.Fprintf(&b, "%s[%d]", stepTo(string(step.name)), step.index)
		case step.array:
			fmt.Fprintf(&b, "[%d]", step.index)
		case len(step.name) == 0:
			return ""
		default:
			b.WriteString(stepTo(string(step.name)))
		}
	}
	switch {
	case e == nil || len(s.way) == 1 && s.form == "json":
	case s.form == "json" && !e.named:
		fmt.Fprintf(&b, "[%d]", e.index)
	default:
		name := e.decodedName()
		if name == "" {
			return ""
		}
		b.WriteString(stepTo(name))
		if s.form == "blocks" && (n > 0 || e.listed || name == "words") {
			fmt.Fprintf(&b, "[%d]", n)
		}
	}
	return b.String()
}
