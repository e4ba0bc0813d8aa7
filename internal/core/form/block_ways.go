package form

import (
	"errors"
	"fmt"
	"iter"
	"maps"
	"strings"
)

// blockWays finds the ways to the values in a text of blocks that end behind a place. What ends before it is only counted.
type blockWays struct {
	text     *source
	patterns BlockPatterns
	place    int // asked for in rising order
	open     []blockStep
	reader   *blocksReader
	stones   *milestones // nil where each line counts
	yield    func(spot) bool
}

// blockStep is a block that is open.
type blockStep struct {
	name string
	n    int            // which of its name it is, counted from 0
	from int            // where it begins; -1 of all of the text
	seen map[string]int // how many of each name there were in it
	last string         // the name of the block that ended last in it
}

// maxWays bounds the names that are counted in one block: there is no way to what is behind more.
const maxWays = 100_000

// leastWindow is where looking through a block begins that may be small, in bytes.
const leastWindow = 4 << 10

var errWays = errors.New("more names in a block than are counted")

func blocksGuide(text *source, patterns BlockPatterns, learnt []byte) *Guide {
	w := &blockWays{text: text, patterns: patterns}
	if patterns == (BlockPatterns{}) {
		text.recall("blocks")
		w.stones = milestonesOf(text.size, learnt)
	}
	next, stop := w.from(milestone{At: text.bom(), Steps: []milestoneStep{{From: -1}}})
	g := along(func(at int) (spot, bool) {
		w.place = at
		if w.stones != nil {
			if m, ok := w.stones.before(at, w.reader.base+w.reader.at); ok {
				stop()
				next, stop = w.from(m)
			}
		}
		return next()
	})
	g.learnt, g.close = w.stones, func() { stop() }
	return g
}

// from finds the ways from a place on.
func (w *blockWays) from(m milestone) (next func() (spot, bool), stop func()) {
	r := newBlocksReader(w.text, place{m.At, w.text.size}, w.patterns, w)
	r.quiet, r.reach = 0, &w.place
	w.reader, w.open = r, nil
	for i, step := range m.Steps {
		if i > 0 {
			r.open.push([]byte(step.Name), step.From)
		}
		w.open = append(w.open, blockStep{name: step.Name, n: step.N, from: step.From, seen: maps.Clone(step.Seen)})
	}
	return iter.Pull(func(yield func(spot) bool) {
		w.yield = yield
		_ = r.read() // to what is behind something that does not read, there is no way
	})
}

// lay lays a milestone where one is due.
func (w *blockWays) lay(at int) {
	if w.stones == nil || !w.stones.due(at) {
		return
	}
	m := milestone{At: at}
	for _, step := range w.open {
		m.Steps = append(m.Steps, milestoneStep{Name: step.name, N: step.n, From: step.from, Seen: maps.Clone(step.seen)})
	}
	w.stones.lay(m)
}

// meet counts one more of a name in the innermost block, and returns which it is.
func (w *blockWays) meet(name []byte) (n int, err error) {
	top := &w.open[len(w.open)-1]
	if top.seen == nil {
		top.seen = map[string]int{}
	}
	if n = top.seen[string(name)]; n == 0 && len(top.seen) == maxWays {
		return 0, errWays
	}
	top.seen[string(name)] = n + 1
	return n, nil
}

func (w *blockWays) opens(name []byte, from, _ int) error {
	n, err := w.meet(name)
	w.open = append(w.open, blockStep{name: string(name), n: n, from: from})
	return err
}

func (w *blockWays) closes(_, to int) error {
	last := len(w.open) - 1
	name := w.open[last].name
	w.open = w.open[:last]
	w.open[last-1].last = name
	w.lay(to)
	return nil
}

// alike counts blocks that are called as the one that has just ended.
func (w *blockWays) alike(n int) {
	top := &w.open[len(w.open)-1]
	top.seen[top.last] += n
}

func (w *blockWays) pair(key, _ []byte, p blockPart) error {
	n, err := w.meet(key)
	if err != nil || p.inner.to <= w.place {
		return err
	}
	single, err := w.single(string(key), n, p)
	if err != nil {
		return err
	}
	var way strings.Builder
	way.WriteByte('$')
	for _, step := range w.open[1:] {
		fmt.Fprintf(&way, "%s[%d]", stepTo(step.name), step.n)
	}
	way.WriteString(stepTo(string(key)))
	if !single {
		fmt.Fprintf(&way, "[%d]", n)
	}
	if !w.yield(spot{p.inner.to, way.String()}) {
		return errEnough
	}
	return nil
}

// single reports whether the n-th part of a name is asked for without its number: it is the only one in its block, and no word.
func (w *blockWays) single(name string, n int, p blockPart) (bool, error) {
	if p.listed || n > 0 {
		return false, nil
	}
	top := &w.open[len(w.open)-1]
	all, in := place{w.text.bom(), w.text.size}, oneBlock{}
	if top.from >= 0 {
		before := w.text.gapBefore(top.from) // where depth is told by indentation, it counts
		all.from, in.at = top.from-len(before[strings.LastIndexByte(before, '\n')+1:]), 1
	}
	found := 0
	in.visit = func(p blockPart) error {
		if p.name == name {
			found++
		}
		if found > 1 {
			return errFound
		}
		return nil
	}
	r := newBlocksReader(w.text, all, w.patterns, &in)
	r.asked, r.quiet, r.size = top.from, in.at+1, leastWindow
	if err := r.read(); err != nil && err != errEnough && err != errFound {
		return false, err
	}
	return found == 1, nil
}

// oneBlock visits the parts in the block that a text begins with, and then ends.
type oneBlock struct{ outermost }

func (o *oneBlock) closes(from, to int) error {
	if err := o.outermost.closes(from, to); err != nil || o.depth > 0 || o.at == 0 {
		return err
	}
	return errEnough
}
