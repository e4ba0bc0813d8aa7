package doc

import (
	"context"
	"fmt"
	"strings"

	"ostrov/internal/core/wrap"
)

// blockEdit writes blocks.
type blockEdit struct{ *treeReader }

func (b blockEdit) set(n *Node, value string) (change, error) {
	if n.kind != kindPair {
		return change{}, fmt.Errorf("it is a block: %w", wrap.ErrNotWritable)
	}
	if strings.ContainsAny(value, "\r\n\x00") {
		return change{}, fmt.Errorf("%q has more than one line: %w", value, wrap.ErrNotWritable)
	}
	was, err := b.src.bytes(n.value)
	if err != nil {
		return change{}, err
	}
	text, quoted := value, strings.HasPrefix(string(was), `"`)
	plain := b.Spec.Blocks == BlockPatterns{}
	switch {
	case b.Spec.Blocks.Indent:
		if backquoted := strings.HasPrefix(string(was), "`"); quoted || backquoted || value == "" || strings.ContainsAny(value, " \t#\"`") {
			quote := `"`
			if backquoted && !strings.Contains(value, "`") || strings.Contains(value, quote) {
				quote = "`"
			}
			if strings.Contains(value, quote) {
				return change{}, fmt.Errorf("%q has both kinds of quotes: %w", value, wrap.ErrNotWritable)
			}
			text = quote + value + quote
		}
	case quoted && plain, plain && (value == "" || strings.ContainsAny(value, "\"{}[]=#\t") || value != strings.TrimSpace(value) || n.braces && strings.Contains(value, " ") || n.listed):
		text = `"` + strings.NewReplacer(`\`, `\\`, `"`, `""`).Replace(value) + `"`
	case quoted:
		text = `"` + strings.ReplaceAll(value, `"`, `""`) + `"`
	}
	return change{n.value.from, n.value.to, text}, nil
}

// cut takes parts out, with the lines that they stand on alone, else with the space before them.
func (b blockEdit) cut(parts []Node) ([]change, error) {
	var edits []change
	for _, n := range parts {
		from, to, alone := b.src.lineOf(n.From, n.To)
		if !alone {
			from -= len(b.src.gapBefore(from))
		}
		edits = append(edits, change{from, to, ""})
	}
	return edits, nil
}

// add puts blocks or pairs into a block, indented as their neighbour is.
func (b blockEdit) add(in, after *Node, piece string) (change, error) {
	_, isRoot := in.extra.(rootBlock)
	if in.value == (place{}) {
		root := b.root()
		in, isRoot = &root, true
	}
	if in.kind != kindBlock {
		return change{}, fmt.Errorf("only a block can hold more: %w", wrap.ErrNotWritable)
	}
	if after == nil {
		of := in
		if isRoot {
			of = nil
		}
		inside, err := b.Find(context.Background(), of, "$.*", true)
		if err != nil {
			return change{}, err
		}
		if len(inside) > 0 {
			after = &inside[len(inside)-1]
		}
	}
	if after != nil {
		if start, _, alone := b.src.lineOf(after.From, after.To); alone {
			indent, err := b.src.bytes(place{start, after.From})
			if err != nil {
				return change{}, err
			}
			return b.src.lineAfter(after.To, string(indent)+piece), nil
		}
		return change{after.To, after.To, " " + piece}, nil
	}
	at := in.value.to
	gap := b.src.gapBefore(at)
	indent := gap[strings.LastIndexByte(gap, '\n')+1:]
	switch {
	case isRoot || b.Spec.Blocks.Indent:
		return b.src.lineAfter(at, piece), nil
	case !strings.Contains(gap, "\n"):
		return change{at, at, " " + piece + " "}, nil
	}
	return change{at - len(indent), at - len(indent), indent + "\t" + piece + "\n"}, nil
}

func (b blockEdit) rename(n *Node, name string) ([]change, error) {
	var edits []change
	for _, at := range []place{{n.From, n.value.from}, {n.value.to, n.To}} {
		head, err := b.src.bytes(at)
		if err != nil {
			return nil, err
		}
		if i := strings.Index(string(head), n.Name); i >= 0 {
			edits = append(edits, change{at.from + i, at.from + i + len(n.Name), name})
		}
		if n.kind != kindBlock {
			break
		}
	}
	if len(edits) == 0 {
		return nil, fmt.Errorf("a part without a name: %w", wrap.ErrNotWritable)
	}
	return edits, nil
}
