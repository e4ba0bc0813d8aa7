package form

import "bytes"

// names are those of the elements that are open, one behind the other.
type names struct {
	text []byte
	ends []int
	tags []int // where their start tags begin
}

func (n *names) push(name []byte, tag int) {
	n.text = append(n.text, name...)
	n.ends = append(n.ends, len(n.text))
	n.tags = append(n.tags, tag)
}

// pop takes the innermost off, if it is called so.
func (n *names) pop(name []byte) (tag int, ok bool) {
	last := len(n.ends) - 1
	if last < 0 {
		return 0, false
	}
	from := 0
	if last > 0 {
		from = n.ends[last-1]
	}
	if !bytes.Equal(n.text[from:], name) {
		return 0, false
	}
	tag = n.tags[last]
	n.text, n.ends, n.tags = n.text[:from], n.ends[:last], n.tags[:last]
	return tag, true
}

// innermost is what the innermost one is called, nil where none is open.
func (n *names) innermost() []byte {
	last := len(n.ends) - 1
	switch {
	case last < 0:
		return nil
	case last == 0:
		return n.text
	}
	return n.text[n.ends[last-1]:]
}
