package form

import (
	"bytes"
	"context"
	"errors"
	"fmt"
)

// blockSource is a text of blocks that is passed over as often as it is asked, and never held as a tree.
type blockSource struct {
	*source
	patterns BlockPatterns
	counts   map[place]*nameCounts // of large blocks
}

// nameCounts is what a large block has of each name, so that not every query passes over it.
type nameCounts struct {
	of   map[string]*nameCount
	more bool // there are names that are not among these
}

type nameCount struct {
	n     int
	first blockPart
}

const (
	// maxCounted is how many names of a block are counted, maxCountedValue how long a value is that is remembered, and maxCountedBlocks of how many blocks.
	maxCounted       = 200
	maxCountedValue  = 4 << 10
	maxCountedBlocks = 64
)

// count counts the names in a block; nil where that is small, and soon passed over.
func (b *blockSource) count(in blockPart) (*nameCounts, error) {
	if known, ok := b.counts[in.inner]; ok {
		return known, nil
	}
	if in.inner.to-in.inner.from < b.step || len(b.counts) == maxCountedBlocks {
		return nil, nil
	}
	c := &nameCounts{of: map[string]*nameCount{}}
	err := b.children(in, func(p blockPart) error {
		if known, ok := c.of[p.name]; ok {
			known.n++
		} else if len(c.of) < maxCounted && len(p.value)+len(p.name) <= maxCountedValue && !c.more {
			c.of[p.name] = &nameCount{1, p}
		} else {
			c.more = true
		}
		return nil
	})
	if err == nil {
		b.counts[in.inner] = c
	}
	return c, err
}

// root is all of the text, as a block.
func (b *blockSource) root() blockPart {
	return blockPart{to: b.size, inner: place{b.bom(), b.size}, block: true}
}

// isRoot reports whether a part is all of the text.
func (b *blockSource) isRoot(p blockPart) bool {
	return p.block && p.name == "" && p.inner == b.root().inner
}

// blocksOf passes over all of a text, to see whether it is whole.
func blocksOf(text *source, patterns BlockPatterns) (*blockSource, error) {
	b := &blockSource{text, patterns, map[place]*nameCounts{}}
	if patterns != (BlockPatterns{}) {
		text.before = nil // where lines count, what stands behind a block tells where it ends
	} else {
		text.recall("blocks")
		text.goAhead(blockSiblings{})
		defer text.endAhead()
	}
	err := b.children(b.root(), func(blockPart) error { return nil })
	if err == nil {
		text.remember()
	}
	return b, err
}

// outermost visits the parts in a block, and nothing of what is in them.
type outermost struct {
	depth int
	at    int // the depth of what is visited
	block blockPart
	visit func(blockPart) error
}

func (o *outermost) opens(name []byte, from, to int) error {
	if o.depth == o.at {
		o.block = blockPart{name: string(name), from: from, inner: place{to, to}, block: true}
	}
	o.depth++
	return nil
}

func (o *outermost) closes(from, to int) error {
	if o.depth--; o.depth != o.at {
		return nil
	}
	o.block.inner.to, o.block.to = max(o.block.inner.from, from), to
	return o.visit(o.block)
}

func (o *outermost) pair(key, value []byte, p blockPart) error {
	if o.depth != o.at {
		return nil
	}
	p.name, p.value = string(key), string(value)
	return o.visit(p)
}

// children visits the parts in a block, in the order of the text.
func (b *blockSource) children(in blockPart, visit func(blockPart) error) error {
	if b.isRoot(in) {
		r := newBlocksReader(b.source, in.inner, b.patterns, &outermost{visit: visit})
		r.quiet = 1
		return r.read()
	}
	// all of the block is read, and not only what is in it: that is read otherwise in a block
	r := newBlocksReader(b.source, place{in.from, in.to}, b.patterns, &outermost{at: 1, visit: visit})
	r.asked, r.quiet = in.from, 2
	return r.read()
}

// named visits the parts of a name in a block. What is there once and no block is single, what else there is listed, each with its number.
func (b *blockSource) named(in blockPart, name string, single func(blockPart) error, listed func(p blockPart, i int) error) error {
	if counts, err := b.count(in); err != nil {
		return err
	} else if counts != nil {
		c, counted := counts.of[name]
		switch {
		case !counted && !counts.more:
			return nil
		case counted && c.n == 1 && (c.first.block || c.first.listed):
			return listed(c.first, 0)
		case counted && c.n == 1:
			return single(c.first)
		}
	}
	n := 0
	var first blockPart
	err := b.children(in, func(p blockPart) error {
		if p.name != name {
			return nil
		}
		n++
		if n == 1 && !p.block && !p.listed {
			first = p
			return nil
		}
		if n == 2 && first.name != "" {
			if err := listed(first, 0); err != nil {
				return err
			}
		}
		return listed(p, n-1)
	})
	if err == nil && n == 1 && first.name != "" {
		return single(first)
	}
	return err
}

// find visits the parts that steps lead to from a block. A name stands for all parts that are called so, and only with an index or a star behind it for
// what is in them. Where what is led to is a list, its parts are visited one after the other, nth counted from 1; else nth is 0.
func (b *blockSource) find(in blockPart, steps []step, visit func(p blockPart, nth int) error) error {
	if len(steps) == 0 {
		return visit(in, 0)
	}
	if !in.block {
		return nil
	}
	s, rest := steps[0], steps[1:]
	if s.name == "" {
		if !s.all {
			return nil // a block is no list
		}
		return b.children(in, func(p blockPart) error {
			if ok, err := b.holds(p, s.where); err != nil || !ok {
				return err
			}
			return b.find(p, rest, visit)
		})
	}
	if len(rest) == 0 {
		return b.named(in, s.name, func(p blockPart) error { return visit(p, 0) }, func(p blockPart, i int) error { return visit(p, i+1) })
	}
	pick := rest[0]
	if pick.name != "" { // a list has no members, and a text neither
		return nil
	}
	err := b.named(in, s.name, func(blockPart) error { return nil }, func(p blockPart, i int) error {
		if pick.all {
			if ok, err := b.holds(p, pick.where); err != nil || !ok {
				return err
			}
			return b.find(p, rest[1:], visit)
		}
		if i < pick.index {
			return nil
		}
		if i == pick.index {
			if err := b.find(p, rest[1:], visit); err != nil {
				return err
			}
		}
		return errFound
	})
	if err == errFound {
		return nil
	}
	return err
}

func (b *blockSource) holds(p blockPart, where *equal) (is bool, err error) {
	if where == nil || !p.block {
		return where == nil, nil
	}
	err = b.named(p, where.member, func(p blockPart) error {
		is = p.value == where.text
		return nil
	}, func(blockPart, int) error { return errFound })
	if err == errFound { // a list is no text
		return false, nil
	}
	return is, err
}

// largeBlocks is a block of a large text, a pair, or a list of them.
type largeBlocks struct {
	text *blockSource
	at   blockPart
	list []blockPart // of a list, what is in it
}

func largeBlocksOf(text *source, patterns BlockPatterns) (Doc, error) {
	b, err := blocksOf(text, patterns)
	if err != nil {
		return nil, err
	}
	return largeBlocks{text: b, at: b.root()}, nil
}

// ask visits what a query leads to, as find.
func (d largeBlocks) ask(query string, visit func(p blockPart, nth int) error) (streams bool, err error) {
	steps, streams := jsonSteps(query)
	if !streams {
		return false, nil
	}
	if d.list == nil {
		return true, d.text.failed(d.text.find(d.at, steps, visit))
	}
	for i, p := range d.list {
		if len(steps) == 0 || steps[0].name != "" || !steps[0].all && steps[0].index != i {
			continue
		}
		ok, err := d.text.holds(p, steps[0].where)
		if ok {
			err = d.text.find(p, steps[1:], visit)
		}
		if err != nil {
			return true, d.text.failed(err)
		}
	}
	return true, nil
}

// tree is the part as a tree, for what the streaming subset cannot say.
func (d largeBlocks) tree(query string) (Doc, error) {
	if d.at.to-d.at.from > maxTree || d.list != nil {
		return nil, errSubset(query)
	}
	if !d.at.block {
		return jsonDoc{d.at.value}, nil
	}
	doc, err := parseBlocks(d.text.bytes(d.at.from, d.at.to), d.text.patterns)
	if err != nil || d.text.isRoot(d.at) {
		return doc, err
	}
	list, _ := doc.(jsonDoc).node.(map[string]any)[d.at.name].([]any)
	return jsonDoc{list[0]}, nil
}

// Value is the first value that a query names.
func (d largeBlocks) Value(ctx context.Context, query string) (text string, ok bool, err error) {
	streams, err := d.ask(query, func(p blockPart, nth int) error {
		text, ok = p.value, !p.block && nth == 0 // a list is no single value
		return errEnough
	})
	if !streams {
		doc, err := d.tree(query)
		if err != nil {
			return "", false, err
		}
		return doc.Value(ctx, query)
	}
	if err != nil && err != errEnough || !ok {
		return "", false, errors.Join(notEnough(err), ctx.Err())
	}
	return text, true, nil
}

func notEnough(err error) error {
	if err == errEnough {
		return nil
	}
	return err
}

// Each are the values that a query names: one that is a list is one of them.
func (d largeBlocks) Each(ctx context.Context, query string) ([]Doc, error) {
	var all []largeBlocks
	n := 0
	streams, err := d.ask(query, func(p blockPart, nth int) error {
		switch {
		case nth == 0:
			all = append(all, largeBlocks{text: d.text, at: p})
		case nth == 1:
			all = append(all, largeBlocks{text: d.text, at: p, list: []blockPart{p}})
		default:
			last := &all[len(all)-1]
			last.list = append(last.list, p)
		}
		if n++; n > maxElements {
			return fmt.Errorf("%w: a list of more than %d", ErrTooLarge, maxElements)
		}
		return ctx.Err()
	})
	if !streams {
		doc, err := d.tree(query)
		if err != nil {
			return nil, err
		}
		return doc.Each(ctx, query)
	}
	var docs []Doc
	for _, one := range all {
		docs = append(docs, one)
	}
	return docs, err
}

// Close closes the file.
func (d largeBlocks) Close() error { return d.text.close() }

// eachText visits the texts that a query of the streaming subset names.
func (d largeBlocks) eachText(query string, visit func(string) error) (streams bool, err error) {
	return d.ask(query, func(p blockPart, nth int) error {
		if p.block || nth > 0 {
			return nil
		}
		return visit(p.value)
	})
}

// blockSiblings are blocks in the same block, in the usual ways.
type blockSiblings struct{}

func (blockSiblings) begin(text *source, at int) int {
	for {
		if at = text.index(at, text.size, '\n'); at < 0 {
			return -1
		}
		for at++; at < text.size && space(text.byteAt(at)); at++ {
		}
		line, _, _ := bytes.Cut(text.peek(at, at+around), []byte("\n"))
		switch {
		case len(line) < 2 || line[0] == '#' || line[0] == '}':
		case line[0] == '[' && line[1] != '/', line[0] != '[' && bytes.IndexByte(line, '{') > 0:
			return at
		}
	}
}

func (blockSiblings) pass(text *source, at int, long func()) (end int, err error) {
	told := &outermost{visit: func(p blockPart) error {
		if p.to-at > text.step {
			long()
		}
		return nil
	}}
	r := newBlocksReader(text, place{at, text.size}, BlockPatterns{}, told)
	r.inside, r.quiet = true, 0
	err = r.read()
	if to, ok := parentEnds(err); ok {
		return to, nil
	}
	return at, errors.Join(err, errEarly)
}
