package doc

import (
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// Node is one thing in a file, and where it stands: a value, an element of a list, a row, what a pattern matched. It is good for the File that found it,
// until that is closed or changed.
type Node struct {
	// From is its first byte in the decoded text, and To the one behind its last; of a row of a database both are 0.
	From, To int
	// Name is its name, decoded: the key of a member, an element, an attribute, a block or a pair; "" if it has no name.
	Name string

	kind   kind
	start  int // where it begins with its name
	value  place
	tag    place
	says   *string // what it says, if that is known already
	extra  any     // what its form knows of it besides
	mixed  bool
	listed bool
	braces bool // its value ends at a closing brace
	again  bool // something before it has the same name, where only one should have it
}

// node makes a Node of what has ended.
func (e *event) node(name string) Node {
	return Node{From: e.from, To: e.to, Name: name, kind: e.kind, start: e.start, value: e.value, tag: e.tag, mixed: e.mixed, listed: e.listed, braces: e.inBraces}
}

// event is the event that a node was made of.
func (n *Node) event() event {
	return event{kind: n.kind, name: []byte(n.Name), named: n.Name != "", listed: n.listed, start: n.start, from: n.From, to: n.To, value: n.value, tag: n.tag, mixed: n.mixed, inBraces: n.braces}
}

// decodedName is the name of an event.
func (e *event) decodedName() string {
	if !e.escaped {
		return string(e.name)
	}
	name, _ := jsontext.AppendUnquote(nil, append(append([]byte{'"'}, e.name...), '"'))
	return string(name)
}

// called reports whether an event has a name.
func (e *event) called(name string) bool {
	if !e.named || e.escaped {
		return e.named && e.decodedName() == name
	}
	return string(e.name) == name
}

// place returns the place of the node.
func (n *Node) place() place { return place{n.From, n.To} }

// Is reports whether two nodes of one file are the same thing.
func (n *Node) Is(other Node) bool {
	if row, ok := n.extra.(rowPart); ok {
		is, ok := other.extra.(rowPart)
		return ok && row.same(is)
	}
	return n.From == other.From && n.To == other.To
}

// trimmed reports whether the values of a form have no white space around them.
func trimmed(form string) bool { return form == "xml" || form == "ini" }

// sameValue reports whether got, as a file says it, is the value that was to be written.
func sameValue(form, got, value string) bool {
	switch {
	case trimmed(form):
		return got == strings.TrimSpace(value)
	case form == "bytes" || form == "chunks":
		return sameNumber(got, value) || strings.EqualFold(strings.TrimRight(got, "\x000"), strings.TrimRight(value, "\x000"))
	}
	return got == value
}

func trimSpace(s string) string { return strings.TrimSpace(s) }
