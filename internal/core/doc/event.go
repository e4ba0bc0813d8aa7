package doc

// kind is what a thing in a text is.
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

// place is where something stands in a decoded text: its first byte and the one behind its last.
type place struct{ from, to int }

func (p place) has(other place) bool { return other.from >= p.from && other.to <= p.to }

// event is one thing that a scanner comes by. Slices of it are good until the call that gets it returns.
type event struct {
	kind    kind
	name    []byte // as it is written, of an element or block as it is in its tag
	named   bool   // it has a name: what has none is an element of an array, or a text
	escaped bool   // the name may have escapes
	listed  bool   // of blocks: it is one of a list, even if there is no other of its name
	// start is where it begins with its name, from where it begins without, and to is behind it. Of what begins only from is set; to and the end of
	// value are set when it ends.
	start, from, to int
	value           place // where its value stands: what is in an object, element or block; the inside of an attribute's quotes
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
	// decode is what the bytes of a value say.
	decode(e *event) (string, error)
	// content is what a thing says whose bytes have to be read: ok is false for what is no single value.
	content(n *Node) (text string, ok bool, err error)
}
