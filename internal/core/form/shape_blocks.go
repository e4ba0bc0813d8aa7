package form

import (
	"context"
	"fmt"
	"strings"
)

// blocksShape is a text of blocks whose parts know where they stand.
type blocksShape struct{ *blockSource }

func shapeBlocks(text *source, patterns BlockPatterns) (shape, error) {
	b, err := blocksOf(text, patterns)
	return &blocksShape{b}, err
}

func (b *blocksShape) spans(ctx context.Context, of *Span, query string, _ bool) ([]Span, error) {
	steps, ok := jsonSteps(query)
	if !ok {
		return nil, errNotStreaming(query)
	}
	at := b.root()
	if of != nil {
		if at, ok = of.node.(blockPart); !ok {
			return nil, errNotStreaming(query)
		}
	}
	var found []Span
	err := b.find(at, steps, func(p blockPart, _ int) error {
		if len(found) > maxElements {
			return fmt.Errorf("%w: a list of more than %d", ErrTooLarge, maxElements)
		}
		found = append(found, Span{p.from, p.to, p})
		return ctx.Err()
	})
	return found, b.failed(err)
}

func (b *blocksShape) value(s Span) (string, bool, error) {
	p := s.node.(blockPart)
	return p.value, !p.block, nil
}

func (b *blocksShape) set(s Span, value string) (change, error) {
	p := s.node.(blockPart)
	if p.block {
		return change{}, fmt.Errorf("it is a block: %w", ErrNotWritable)
	}
	if strings.ContainsAny(value, "\r\n") {
		return change{}, fmt.Errorf("%q has more than one line: %w", value, ErrNotWritable)
	}
	was, text := string(b.peek(p.inner.from, p.inner.to)), value
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
		from, to, alone := b.lineOf(s.From, s.To)
		if !alone {
			from -= len(b.gapBefore(from))
		}
		edits = append(edits, change{from, to, ""})
	}
	return edits, nil
}

// add puts blocks or pairs into a block, indented as their neighbour is.
func (b *blocksShape) add(in Span, after *Span, piece string) (change, error) {
	p, ok := in.node.(blockPart)
	if !ok {
		p = b.root()
	}
	if !p.block {
		return change{}, fmt.Errorf("only a block can hold more: %w", ErrNotWritable)
	}
	if after == nil {
		err := b.children(p, func(last blockPart) error {
			after = &Span{last.from, last.to, last}
			return nil
		})
		if err != nil {
			return change{}, err
		}
	}
	if after != nil {
		if start, _, alone := b.lineOf(after.From, after.To); alone {
			return b.lineAfter(after.To, string(b.peek(start, after.From))+piece), nil
		}
		return change{after.To, after.To, " " + piece}, nil
	}
	at := p.inner.to
	gap := b.gapBefore(at)
	indent := gap[strings.LastIndexByte(gap, '\n')+1:]
	if b.isRoot(p) || b.patterns.Indent {
		return b.lineAfter(at, piece), nil
	}
	if !strings.Contains(gap, "\n") {
		return change{at, at, " " + piece + " "}, nil
	}
	return change{at - len(indent), at - len(indent), indent + "\t" + piece + "\n"}, nil
}

func (b *blocksShape) rename(s Span, name string) ([]change, error) {
	p := s.node.(blockPart)
	var edits []change
	for _, at := range []place{{p.from, p.inner.from}, {p.inner.to, p.to}} {
		if n := strings.Index(string(b.peek(at.from, at.to)), p.name); n >= 0 {
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
