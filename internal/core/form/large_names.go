package form

import (
	"bytes"
	"errors"
	"fmt"
)

// names are those of the elements that are open, one behind the other.
type names struct {
	text []byte
	ends []int
	tags []int // where their start tags begin
	last []int // where the last one ended that stood in each
	out  int   // where the last one ended that stood in none
}

func (n *names) push(name []byte, tag int) {
	n.text = append(n.text, name...)
	n.ends = append(n.ends, len(n.text))
	n.tags = append(n.tags, tag)
	n.last = append(n.last, 0)
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
	n.text, n.ends, n.tags, n.last = n.text[:from], n.ends[:last], n.tags[:last], n.last[:last]
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

// ended notes that something has ended at a place in the innermost one, and returns where what stood there before it did; 0 where there was nothing.
func (n *names) ended(at int) (before int) {
	in := &n.out
	if last := len(n.last) - 1; last >= 0 {
		in = &n.last[last]
	}
	before, *in = *in, at
	return before
}

// unopened says that a part ends that had not begun.
type unopened struct {
	form, name string
	at         int
	within     bool // another one is open there
}

// parentEnds is where a pass over siblings came to the end of what they stand in, by the error it ended with: all of them had ended.
func parentEnds(err error) (at int, ok bool) {
	var e unopened
	ok = errors.As(err, &e) && !e.within
	return e.at, ok
}

func (e unopened) Error() string {
	if e.form == "blocks" {
		return fmt.Sprintf("%v: %.60q is closed and was not open", ErrDamaged, e.name)
	}
	return fmt.Sprintf("%v: not XML: %.60q ends and had not begun", ErrDamaged, e.name)
}

func (e unopened) Unwrap() error { return ErrDamaged }
