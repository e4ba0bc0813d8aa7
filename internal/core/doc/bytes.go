package doc

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"ostrov/internal/core/wrap"
)

// bytesReader is bytes that are asked "OFFSET:TYPE"; OFFSET counts from zero, or from the end if it is negative.
type bytesReader []byte

// byteValue is the type of a value in bytes.
type byteValue struct {
	wrap.Type
	grows bool // its length may change, as nothing after it is read by its offset
}

// bytesQuery reads OFFSET:TYPE.
func bytesQuery(query string) (offset int, t wrap.Type, err error) {
	at, kind, ok := strings.Cut(query, ":")
	n, err := strconv.ParseInt(at, 0, 64)
	if !ok || err != nil {
		return 0, t, fmt.Errorf("%q is not OFFSET:TYPE", query)
	}
	if t, err = wrap.ParseType(kind); err != nil {
		return 0, t, fmt.Errorf("%q: %w", query, err)
	}
	return int(n), t, nil
}

// inBytes finds the value of a query in data, which begins at base; ok is false if data is too short.
func inBytes(data []byte, base, offset int, t wrap.Type) (n Node, ok bool) {
	if offset < 0 {
		offset += len(data)
	}
	if offset < 0 || offset > len(data) {
		return n, false
	}
	size, ok := t.Span(data[offset:])
	from := base + offset
	return Node{From: from, To: from + size, start: from, value: place{from, from + size}, extra: byteValue{Type: t}}, ok
}

func (b bytesReader) check(context.Context, []string) error { return nil }

func (b bytesReader) find(_ context.Context, of *Node, query string, each bool, visit func(Node) error) (bool, error) {
	if of != nil {
		if r, ok := of.extra.(recordParts); ok {
			if n, ok := r[query]; ok {
				return false, visit(n)
			}
			return false, nil
		}
	}
	if each {
		return false, errors.New("the form bytes has no lists")
	}
	offset, t, err := bytesQuery(query)
	if err != nil {
		return false, err
	}
	at := place{0, len(b)}
	if of != nil {
		at = of.place()
	}
	if n, ok := inBytes(b[at.from:at.to], at.from, offset, t); ok {
		return false, visit(n)
	}
	return false, nil
}

func (b bytesReader) says(n *Node) (string, bool, error) {
	t, ok := n.extra.(byteValue)
	if !ok {
		return "", false, nil
	}
	return t.Decode(b[n.From:n.To]), true, nil
}

// sameNumber reports whether two texts are the same whole number.
func sameNumber(a, b string) bool {
	x, err1 := strconv.ParseInt(a, 10, 64)
	y, err2 := strconv.ParseInt(b, 10, 64)
	return err1 == nil && err2 == nil && x == y
}

// bytesEdit writes values in bytes. Nothing is put in or taken out.
type bytesEdit struct{ bytesReader }

func (b bytesEdit) set(n *Node, value string) (change, error) {
	t, ok := n.extra.(byteValue)
	if !ok {
		return change{}, fmt.Errorf("%q: %w", value, wrap.ErrNotWritable)
	}
	if t.grows && !strings.Contains(value, "\x00") {
		return change{n.From, n.To, value}, nil
	}
	text, err := t.Encode(value, n.To-n.From)
	return change{n.From, n.To, string(text)}, err
}

var errAtOffset = fmt.Errorf("what stands at an offset %w: nothing tells what moves with it", wrap.ErrNotWritable)

func (b bytesEdit) cut([]Node) ([]change, error) { return nil, errAtOffset }

func (b bytesEdit) add(*Node, *Node, string) (change, error) { return change{}, errAtOffset }
