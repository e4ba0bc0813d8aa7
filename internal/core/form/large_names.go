package form

import (
	"bytes"
	"slices"
)

// grandchildren are the elements in a child, as they are passed: the first pass over all of a text, which sees whether it is whole, notes those in
// the outermost element.
type grandchildren struct{ all []xmlElement }

func (g *grandchildren) opens(depth int, tag place) {
	if depth == 1 && len(g.all) <= rememberedParts {
		g.all = append(g.all, xmlElement{outer: tag, tag: tag, inner: place{tag.to, tag.to}})
	}
}

func (g *grandchildren) closes(depth int, tag place) {
	if depth == 1 && len(g.all) <= rememberedParts {
		last := &g.all[len(g.all)-1]
		last.outer.to, last.inner.to = tag.to, tag.from
	}
}

// remember notes the children of an element, if they are not too many.
func (t *xmlSource) remember(of xmlElement, children []xmlElement) {
	if len(children) <= rememberedParts && len(t.seen) < remembered {
		t.seen[of.inner.from] = slices.Clone(children)
	}
}

// names are those of the elements that are open, one behind the other.
type names struct {
	text []byte
	ends []int
}

func (n *names) push(name []byte) {
	n.text = append(n.text, name...)
	n.ends = append(n.ends, len(n.text))
}

// pop takes the innermost off, if it is called so.
func (n *names) pop(name []byte) bool {
	last := len(n.ends) - 1
	if last < 0 {
		return false
	}
	from := 0
	if last > 0 {
		from = n.ends[last-1]
	}
	if !bytes.Equal(n.text[from:], name) {
		return false
	}
	n.text, n.ends = n.text[:from], n.ends[:last]
	return true
}
