package doc

// kind is the kind of a thing in a text.
type kind uint8

const (
	kindObject    kind = iota // of JSON
	kindArray                 // of JSON
	kindValue                 // a text, number or word of JSON
	kindElement               // of XML
	kindAttribute             // of XML
	kindText                  // between the tags of XML
	kindBlock                 // of blocks
	kindPair                  // of blocks: a key with its value, or a bare word
)

// place is a range of bytes in a decoded text, without the last.
type place struct{ from, to int }

func (p place) has(other place) bool { return other.from >= p.from && other.to <= p.to }

// event is one thing that a scanner comes by. Slices of it are good until the call that gets it returns.
type event struct {
	kind    kind
	name    []byte // not decoded; of an element or block from its tag
	named   bool   // it has a name: what has none is an element of an array, or a text
	escaped bool   // the name may have escapes
	listed  bool   // of blocks: it is one of a list, even if there is no other of its name
	// start is the place of its name, from that of the thing after the name, and to its end. At a beginning only from is set; to and the end of
	// value are set at the end.
	start, from, to int
	value           place // the inside of an object, element, block or quotes
	tag             place // the start tag of an element
	index           int   // which element of its array it is
	children        int   // how many elements an array has had so far
	mixed           bool  // of an element: there is more than text in it
	inBraces        bool  // of a pair: its value ends at a closing brace
	raw             []byte
	plain           bool // raw, the bytes of the value, needs no decoding
	text            bool // of a value of JSON: it is a text, in quotes
}

// nameStack holds the names of what is open, one after the other.
type nameStack []byte

// push keeps a name until it is popped.
func (s *nameStack) push(name []byte) []byte {
	if len(*s)+len(name) > cap(*s) { // the names that are there must stay where they are
		*s = make([]byte, 0, max(2*cap(*s), len(name)+4096))
	}
	*s = append(*s, name...)
	return (*s)[len(*s)-len(name):]
}

// pop forgets the name that was pushed last.
func (s *nameStack) pop(name []byte) { *s = (*s)[:max(len(*s)-len(name), 0)] }

// sink takes what a scanner comes by, in the order of the text. An event that begins is the one that ends later.
type sink interface {
	// begin begins something; with skip, nothing in it is told.
	begin(*event) (skip bool, err error)
	end(*event) error
	leaf(*event) error
}

// scanner goes once over one kind of text, or over one thing in it, and tells a sink.
type scanner interface {
	// whole goes over all of the text, and checks that it is one.
	whole(out sink) error
	// inside goes over one thing that a scan has found before, beginning with it.
	inside(n *Node, out sink) error
	// decode decodes the bytes of a value.
	decode(e *event) (string, error)
	// content reads and decodes the value of a node; ok is false if it has no single value.
	content(n *Node) (text string, ok bool, err error)
}
