package form

import (
	"bytes"
	"context"
	"fmt"
	"strings"
)

// blockPart is a block, a pair or a bare word, and where it stands.
type blockPart struct {
	name     string
	from, to int
	inner    place // of a block what is in it, of a pair its value with the quotes around it
	block    bool
	inBraces bool // a value that ends at a closing brace
	up       *blockPart
	parts    []*blockPart
}

// opens begins a block inside of the innermost one, which top then is. Where nobody asks for places, p is nil.
func (p *blockPart) opens(top **blockPart, name string, from, at int) {
	if p == nil {
		return
	}
	b := &blockPart{name: name, from: from, to: at, inner: place{at, at}, block: true, up: p}
	p.parts = append(p.parts, b)
	*top = b
}

func (p *blockPart) closes(top **blockPart, from, at int) {
	if p == nil {
		return
	}
	p.inner.to, p.to = max(p.inner.from, from), at
	*top = p.up
}

func (p *blockPart) pair(name string, from int, value place, inBraces bool) {
	if p != nil {
		p.parts = append(p.parts, &blockPart{name: name, from: from, to: value.to, inner: value, inBraces: inBraces, up: p})
	}
}

// blocksShape is a text of blocks whose parts know where they stand.
type blocksShape struct {
	text     []byte
	patterns BlockPatterns
	root     *blockPart
}

func shapeBlocks(text []byte, patterns BlockPatterns) (shape, error) {
	return blocksOf(text, patterns)
}

func blocksOf(text []byte, patterns BlockPatterns) (*blocksShape, error) {
	root := &blockPart{to: len(text), inner: place{0, len(text)}, block: true}
	r := newBlocksReader(text, root)
	if bytes.HasPrefix(text, []byte("\xef\xbb\xbf")) {
		r.at = 3
	}
	if i := bytes.IndexByte(text, 0); i >= 0 {
		return nil, fmt.Errorf("%w: not text: a zero byte at %d", ErrDamaged, i)
	}
	return &blocksShape{text, patterns, root}, r.read(patterns)
}

func (b *blocksShape) spans(_ context.Context, of *Span, query string, _ bool) ([]Span, error) {
	steps, ok := jsonSteps(query)
	if !ok {
		return nil, errNotStreaming(query)
	}
	at := b.root
	if of != nil {
		if at, ok = of.node.(*blockPart); !ok {
			return nil, errNotStreaming(query)
		}
	}
	var found []Span
	for _, p := range b.find([]*blockPart{at}, steps) {
		found = append(found, Span{p.from, p.to, p})
	}
	return found, nil
}

// find are the parts that steps lead to. A name stands for all parts of that name; an index behind it picks one.
func (b *blocksShape) find(at []*blockPart, steps []step) []*blockPart {
	for i, s := range steps {
		var next []*blockPart
		switch {
		case s.name != "":
			if i > 0 && steps[i-1].name != "" && len(at) > 1 { // a list has no members
				return nil
			}
			for _, p := range at {
				for _, child := range p.parts {
					if child.name == s.name {
						next = append(next, child)
					}
				}
			}
		case s.all && i > 0 && steps[i-1].name != "":
			for _, p := range at {
				if b.holds(p, s.where) {
					next = append(next, p)
				}
			}
		case s.all:
			for _, p := range at {
				next = append(next, p.parts...)
			}
		default: // of the parts of each parent
			of := map[*blockPart]int{}
			for _, p := range at {
				if of[p.up] == s.index {
					next = append(next, p)
				}
				of[p.up]++
			}
		}
		at = next
	}
	return at
}

func (b *blocksShape) holds(p *blockPart, where *equal) bool {
	if where == nil {
		return true
	}
	for _, child := range p.parts {
		if text, ok := b.says(child); ok && child.name == where.member && text == where.text {
			return true
		}
	}
	return false
}

// says is the value of a pair or word.
func (b *blocksShape) says(p *blockPart) (string, bool) {
	if p.block {
		return "", false
	}
	raw := string(b.text[p.inner.from:p.inner.to])
	switch {
	case b.patterns.Indent && len(raw) > 1 && (raw[0] == '"' || raw[0] == '`'):
		return raw[1 : len(raw)-1], true
	case b.patterns == BlockPatterns{} && strings.HasPrefix(raw, `"`):
		return (&blocksReader{text: []byte(raw)}).quoted(), true
	case b.patterns.Indent:
		return raw, true
	}
	return unquote(raw), true
}

func (b *blocksShape) value(s Span) (string, bool, error) {
	text, ok := b.says(s.node.(*blockPart))
	return text, ok, nil
}

func (b *blocksShape) set(s Span, value string) (change, error) {
	p := s.node.(*blockPart)
	if p.block {
		return change{}, fmt.Errorf("it is a block: %w", ErrNotWritable)
	}
	if strings.ContainsAny(value, "\r\n") {
		return change{}, fmt.Errorf("%q has more than one line: %w", value, ErrNotWritable)
	}
	was, text := string(b.text[p.inner.from:p.inner.to]), value
	quoted := strings.HasPrefix(was, `"`)
	switch {
	case b.patterns.Indent:
		if quote := "\""; quoted || strings.HasPrefix(was, "`") || value == "" || strings.ContainsAny(value, " \t#\"`") {
			if strings.HasPrefix(was, "`") || strings.Contains(value, quote) {
				quote = "`"
			}
			if strings.Contains(value, quote) {
				return change{}, fmt.Errorf("%q has both kinds of quotes: %w", value, ErrNotWritable)
			}
			text = quote + value + quote
		}
	case quoted, b.patterns == BlockPatterns{} && (value == "" || strings.ContainsAny(value, "\"{}[]=#\t") || value != strings.TrimSpace(value) || p.inBraces && strings.Contains(value, " ")):
		text = `"` + strings.ReplaceAll(value, `"`, `""`) + `"`
	}
	return change{p.inner.from, p.inner.to, text}, nil
}

// cut takes parts out, with the lines that they stand on alone, else with the space before them.
func (b *blocksShape) cut(parts []Span) ([]change, error) {
	var edits []change
	for _, s := range parts {
		from, to, alone := lineOf(b.text, s.From, s.To)
		if !alone {
			from -= len(gapBefore(b.text, from))
		}
		edits = append(edits, change{from, to, ""})
	}
	return edits, nil
}

// add puts blocks or pairs into a block, indented as their neighbour is.
func (b *blocksShape) add(in Span, after *Span, piece string) (change, error) {
	p, ok := in.node.(*blockPart)
	if !ok {
		p = b.root
	}
	if !p.block {
		return change{}, fmt.Errorf("only a block can hold more: %w", ErrNotWritable)
	}
	if after == nil && len(p.parts) > 0 {
		last := p.parts[len(p.parts)-1]
		after = &Span{last.from, last.to, last}
	}
	if after != nil {
		if start, _, alone := lineOf(b.text, after.From, after.To); alone {
			return lineAfter(b.text, after.To, string(b.text[start:after.From])+piece), nil
		}
		return change{after.To, after.To, " " + piece}, nil
	}
	at := p.inner.to
	gap := gapBefore(b.text, at)
	indent := gap[strings.LastIndexByte(gap, '\n')+1:]
	if p == b.root || b.patterns.Indent {
		return lineAfter(b.text, at, piece), nil
	}
	if !strings.Contains(gap, "\n") {
		return change{at, at, " " + piece + " "}, nil
	}
	return change{at - len(indent), at - len(indent), indent + "\t" + piece + "\n"}, nil
}

func (b *blocksShape) rename(s Span, name string) ([]change, error) {
	p := s.node.(*blockPart)
	var edits []change
	for _, at := range []place{{p.from, p.inner.from}, {p.inner.to, p.to}} {
		if n := strings.Index(string(b.text[at.from:at.to]), p.name); n >= 0 {
			edits = append(edits, change{at.from + n, at.from + n + len(p.name), name})
		}
		if !p.block {
			break
		}
	}
	if len(edits) == 0 {
		return nil, fmt.Errorf("a part without a name: %w", ErrNotWritable)
	}
	return edits, nil
}
