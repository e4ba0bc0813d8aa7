package doc

import (
	"bytes"
	"context"
	"encoding/xml"
	"fmt"

	"ostrov/internal/core/wrap"
)

// xmlEdit writes XML.
type xmlEdit struct{ *treeReader }

func (x xmlEdit) set(n *Node, value string) (change, error) {
	var escaped bytes.Buffer
	if err := xml.EscapeText(&escaped, []byte(value)); err != nil {
		return change{}, err
	}
	switch {
	case bytes.ContainsRune(escaped.Bytes(), '\ufffd'):
		return change{}, fmt.Errorf("%q is no text: %w", value, wrap.ErrNotWritable)
	case n.kind == kindAttribute, n.kind == kindText:
		return change{n.From, n.To, escaped.String()}, nil
	case n.kind != kindElement || n.mixed:
		return change{}, fmt.Errorf("it holds more than text: %w", wrap.ErrNotWritable)
	case x.empty(n):
		return x.fill(n, escaped.String()), nil
	}
	return change{n.value.from, n.value.to, escaped.String()}, nil
}

// empty reports whether an element is a tag alone, <a/>.
func (x xmlEdit) empty(n *Node) bool { return n.tag.to == n.To }

// fill makes of <a/> an element that has something in it.
func (x xmlEdit) fill(n *Node, piece string) change {
	return change{n.tag.to - 2, n.tag.to, ">" + piece + "</" + n.Name + ">"}
}

// cut takes elements out, with the lines that they stand on alone, and attributes with the space before them.
func (x xmlEdit) cut(parts []Node) ([]change, error) {
	var edits []change
	for _, n := range parts {
		switch n.kind {
		case kindAttribute:
			edits = append(edits, change{n.start - len(x.src.gapBefore(n.start)), n.To + 1, ""})
		case kindElement:
			from, to, _ := x.src.lineOf(n.From, n.To)
			edits = append(edits, change{from, to, ""})
		default:
			return nil, fmt.Errorf("all of the file %w", wrap.ErrNotWritable)
		}
	}
	return edits, nil
}

// add puts elements into an element, with the white space before them that their neighbour has.
func (x xmlEdit) add(in, after *Node, piece string) (change, error) {
	if in.kind != kindElement {
		return change{}, fmt.Errorf("beside the outermost element nothing %w", wrap.ErrNotWritable)
	}
	if after != nil {
		return change{after.To, after.To, x.src.gapBefore(after.From) + piece}, nil
	}
	if x.empty(in) {
		return x.fill(in, piece), nil
	}
	inside, err := x.Find(context.Background(), in, "*", true)
	if err != nil || len(inside) == 0 {
		return change{in.value.to, in.value.to, piece}, err
	}
	last := inside[len(inside)-1]
	return change{last.To, last.To, x.src.gapBefore(last.From) + piece}, nil
}

func (x xmlEdit) rename(n *Node, name string) ([]change, error) {
	switch n.kind {
	case kindAttribute:
		return []change{{n.start, n.start + len(n.Name), name}}, nil
	case kindElement:
		edits := []change{{n.From + 1, n.From + 1 + len(n.Name), name}}
		if !x.empty(n) {
			edits = append(edits, change{n.value.to + 2, n.value.to + 2 + len(n.Name), name})
		}
		return edits, nil
	}
	return nil, fmt.Errorf("a part without a name: %w", wrap.ErrNotWritable)
}
