package doc

import (
	"fmt"

	"ostrov/internal/core/wrap"
)

// maxFound is the most things that one query may find.
const maxFound = 1_000_000

// query is a query that is matched while scanning.
type query struct {
	steps []step
	visit func(Node) error
	// repeated is set if a name on the way stands twice where only one should: readers differ in which of the two counts.
	repeated bool
}

// state is a query that waits, in something that is open, for a part that its next step names.
type state struct {
	q    *query
	next int // which step
	seen int // parts that the step has named so far
	hold *held
}

// held are matches inside of something whose condition is not decided yet.
type held struct {
	outer    *held
	where    *equal
	is       bool
	nodes    []Node
	repeated bool
}

// frame is something that is open: what waits in it, what it is itself a result of, and the conditions on it.
type frame struct {
	states  []state
	results []state
	holds   []state // the step with the condition
}

// matcher is a sink that matches queries.
type matcher struct {
	scan   scanner
	form   string
	frames []frame
}

// newMatcher matches queries on a scan. With outermost they start at the first thing, else at the whole text, where the first thing of JSON is the
// root.
func newMatcher(scan scanner, form string, queries []*query, outermost bool) *matcher {
	m := &matcher{scan: scan, form: form}
	var root frame
	if outermost || form == "json" {
		root.states = make([]state, 0, len(queries))
		for _, q := range queries {
			root.results = append(root.results, state{q: q, next: -1})
		}
	} else {
		for _, q := range queries {
			root.states = append(root.states, state{q: q})
		}
	}
	m.frames = append(m.frames, root)
	return m
}

// enter is the frame of something in the innermost frame, as far as anything waits for it.
func (m *matcher) enter(e *event) frame {
	top := &m.frames[len(m.frames)-1]
	var f frame
	if len(m.frames) == 1 && len(top.results) > 0 { // the start of the queries
		for _, s := range top.results {
			f.add(state{q: s.q})
		}
		return f
	}
	for i := range top.states {
		s := &top.states[i]
		at := &s.q.steps[s.next]
		if !m.names(at, e) {
			continue
		}
		s.seen++
		if at.index >= 0 && s.seen != at.index+1 && m.form != "json" {
			continue
		}
		if s.seen > 1 && at.name != "" && !at.pick && (m.form == "json" || m.form == "blocks" && e.kind == kindPair && !e.listed) {
			s.repeats()
		}
		next := state{q: s.q, next: s.next + 1, hold: s.hold}
		if at.where != nil {
			if e.kind == kindValue || e.kind == kindPair { // there is nothing in it
				continue
			}
			next.hold = &held{outer: s.hold, where: at.where}
			f.holds = append(f.holds, next)
		}
		f.add(next)
	}
	return f
}

func (f *frame) add(s state) {
	if s.next == len(s.q.steps) {
		f.results = append(f.results, s)
		return
	}
	f.states = append(f.states, s)
}

func (s *state) repeats() {
	if s.hold != nil {
		s.hold.repeated = true
	} else {
		s.q.repeated = true
	}
}

// names reports whether a step names an event.
func (m *matcher) names(s *step, e *event) bool {
	switch {
	case s.attribute || e.kind == kindAttribute:
		return s.attribute && e.kind == kindAttribute && e.called(s.name)
	case e.kind == kindText:
		return false
	case s.all:
		return true
	case s.name != "":
		return e.called(s.name)
	}
	return m.form == "json" && !e.named && e.index == s.index
}

func (m *matcher) begin(e *event) (skip bool, err error) {
	f := m.enter(e)
	m.frames = append(m.frames, f)
	return len(f.states)+len(f.holds) == 0, nil
}

func (m *matcher) end(e *event) error {
	f := m.frames[len(m.frames)-1]
	m.frames = m.frames[:len(m.frames)-1]
	if err := m.finish(f, e); err != nil {
		return err
	}
	return m.condition(e)
}

func (m *matcher) leaf(e *event) error {
	if e.kind != kindText {
		if f := m.enter(e); len(f.results) > 0 {
			if err := m.finish(f, e); err != nil {
				return err
			}
		}
	}
	return m.condition(e)
}

// finish gives away the results of something that has ended.
func (m *matcher) finish(f frame, e *event) error {
	if len(f.results) > 0 {
		n := e.node(e.decodedName())
		if e.kind == kindValue || e.kind == kindAttribute || e.kind == kindPair {
			if e.raw != nil {
				text, err := m.scan.decode(e)
				if err != nil {
					return err
				}
				if trimmed(m.form) {
					text = trimSpace(text)
				}
				n.says = &text
			}
		}
		for _, s := range f.results {
			if err := s.give(n); err != nil {
				return err
			}
		}
	}
	for _, s := range f.holds {
		if !s.hold.is {
			continue
		}
		out := state{q: s.q, hold: s.hold.outer}
		if s.hold.repeated {
			out.repeats()
		}
		for _, n := range s.hold.nodes {
			if err := out.give(n); err != nil {
				return err
			}
		}
	}
	return nil
}

// give gives away one result.
func (s *state) give(n Node) error {
	if s.hold == nil {
		return s.q.visit(n)
	}
	if len(s.hold.nodes) >= maxFound {
		return errMany()
	}
	s.hold.nodes = append(s.hold.nodes, n)
	return nil
}

func errMany() error {
	return fmt.Errorf("%w: a list of more than %d", wrap.ErrTooLarge, maxFound)
}

// condition decides conditions on a parent when one of its parts ends.
func (m *matcher) condition(e *event) error {
	for _, s := range m.frames[len(m.frames)-1].holds {
		h := s.hold
		if h.is || !e.called(h.where.member) || h.where.attribute != (e.kind == kindAttribute) {
			continue
		}
		if m.form == "json" && !e.text || e.kind == kindBlock {
			continue
		}
		text, err := m.scan.decode(e)
		if err != nil {
			return err
		}
		if trimmed(m.form) {
			text = trimSpace(text)
		}
		h.is = text == h.where.text
	}
	return nil
}
