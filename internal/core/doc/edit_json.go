package doc

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"

	"ostrov/internal/core/wrap"
)

// jsonEdit writes JSON.
type jsonEdit struct{ *treeReader }

func (j jsonEdit) set(n *Node, value string) (change, error) {
	c := j.src.byteAt(n.From)
	number := jsontext.Value(value).IsValid() && isNumber([]byte(value))
	text := value
	switch {
	case n.kind != kindValue:
		return change{}, fmt.Errorf("it is neither text, number nor true or false: %w", wrap.ErrNotWritable)
	case (c == 't' || c == 'f') && value != "true" && value != "false":
		return change{}, fmt.Errorf("it is true or false, and %q is neither: %w", value, wrap.ErrNotWritable)
	case (c == '-' || c >= '0' && c <= '9') && !number:
		return change{}, fmt.Errorf("it holds a number, and %q is none: %w", value, wrap.ErrNotWritable)
	case c == '"' || c == 'n' && !number && value != "true" && value != "false":
		if !utf8.ValidString(value) {
			return change{}, fmt.Errorf("%q is no text: %w", value, wrap.ErrNotWritable)
		}
		quoted, err := jsontext.AppendQuote(nil, value)
		if err != nil {
			return change{}, err
		}
		if text = string(quoted); c == 'n' && value == "" {
			text = "null"
		}
	}
	return change{n.From, n.To, text}, nil
}

// after is the first byte at or behind a place that is no white space, or 0.
func (j jsonEdit) after(at int) (int, byte) {
	at, err := j.src.skipSpace(at, j.src.size, false)
	if err != nil {
		return at, 0
	}
	return at, j.src.byteAt(at)
}

// cut takes elements and members out, with one comma for each. Neighbours go as one.
func (j jsonEdit) cut(parts []Node) ([]change, error) {
	parts = slices.Clone(parts)
	slices.SortFunc(parts, func(a, b Node) int { return a.start - b.start })
	var edits []change
	for i := 0; i < len(parts); {
		from, to := parts[i].start, parts[i].To
		for i++; i < len(parts); i++ {
			at, c := j.after(to)
			if c == ',' {
				at, _ = j.after(at + 1)
			}
			if parts[i].start >= to && parts[i].start != at {
				break
			}
			to = max(to, parts[i].To)
		}
		before := from - len(j.src.gapBefore(from))
		if before == 0 {
			return nil, fmt.Errorf("all of the file %w", wrap.ErrNotWritable)
		}
		at, c := j.after(to)
		switch {
		case c == ',':
			to, _ = j.after(at + 1)
		case j.src.byteAt(before-1) == ',':
			from = before - 1
		default: // all that was there
			from, to = before, at
		}
		edits = append(edits, change{from, to, ""})
	}
	return edits, nil
}

// add puts an element into an array, or a member, with its name, into an object.
func (j jsonEdit) add(in, after *Node, piece string) (change, error) {
	if in.kind != kindObject && in.kind != kindArray || in.To == j.src.size && in.value.to == 0 {
		return change{}, fmt.Errorf("what is neither array nor object cannot hold more: %w", wrap.ErrNotWritable)
	}
	if after == nil {
		inside, err := j.Find(context.Background(), in, "$.*", true)
		if err != nil {
			return change{}, err
		}
		if len(inside) > 0 {
			after = &inside[len(inside)-1]
		}
	}
	if after == nil {
		return change{in.From + 1, in.From + 1, piece}, nil
	}
	return change{after.To, after.To, "," + j.src.gapBefore(after.start) + piece}, nil
}

func (j jsonEdit) rename(n *Node, name string) ([]change, error) {
	if n.start == n.From || !utf8.ValidString(name) {
		return nil, fmt.Errorf("what is no member has no name: %w", wrap.ErrNotWritable)
	}
	quoted, err := jsontext.AppendQuote(nil, name)
	if err != nil || n.Name == name {
		return nil, err
	}
	head, err := j.src.bytes(place{n.start, n.From})
	if err != nil {
		return nil, err
	}
	end := strings.LastIndexByte(string(head), '"') + 1
	return []change{{n.start, n.start + end, string(quoted)}}, nil
}
