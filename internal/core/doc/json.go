package doc

import (
	"bytes"
	"fmt"
	"slices"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"

	"ostrov/internal/core/wrap"
)

// maxDepth bounds the nesting of JSON, XML and blocks.
const maxDepth = 1000

// jsonScan goes once over a JSON value (RFC 8259). It accepts names that stand twice, and bytes that are no UTF-8.
type jsonScan struct {
	*source
	out   sink
	open  []event // the arrays and objects that are open
	names nameStack
	quiet int   // in so many open things nobody asks what there is; 0 is nowhere
	one   event // the one that is told
}

// What may come next in a JSON text.
const (
	wantValue  = iota
	wantFirst  // the first value of an array, or its end
	wantMember // the name of the first member of an object, or its end
	wantName   // of a member, behind a comma
	wantColon
	wantComma // or the end of what is open
)

// classes of bytes in a JSON text.
const (
	inText   = 1 << iota // an ordinary byte of a text
	inNumber             // may be in a number
)

var jsonClass = func() (class [256]byte) {
	for c := ' '; c < 256; c++ {
		if c != '"' && c != '\\' {
			class[c] |= inText
		}
	}
	for _, c := range []byte("0123456789+-.eE") {
		class[c] |= inNumber
	}
	return class
}()

// top is the innermost of what is open, nil if that is not deeper than depth.
func (s *jsonScan) top(depth int) *event {
	if len(s.open) <= depth {
		return nil
	}
	return &s.open[len(s.open)-1]
}

// afterComma returns the state after a comma.
func afterComma(top *event) int {
	if top.kind == kindObject {
		return wantName
	}
	top.children++
	return wantValue
}

// fits reports whether what begins with c may follow: after a value what ends what it is in, before a member a name or the end.
func fits(c byte, want int, top *event) bool {
	switch want {
	case wantComma:
		return c == ']' && top.kind == kindArray || c == '}' && top.kind == kindObject
	case wantName:
		return c == '"'
	case wantMember:
		return c == '"' || c == '}'
	}
	return true
}

// value goes over the value that begins at or behind a place, and returns where it ends.
func (s *jsonScan) value(from, end int) (int, error) {
	want, depth := wantValue, len(s.open)
	var member event // the name of the next value
	part, base, i := []byte(nil), from, 0
	for {
		for i < len(part) && part[i] <= ' ' && space(part[i]) {
			i++
		}
		if i == len(part) {
			if base, i = base+i, 0; base >= end {
				return base, s.early()
			}
			more, err := s.from(base, 1)
			if err != nil {
				return base, err
			}
			part = more[:min(len(more), end-base)]
			continue
		}
		c := part[i]
		top := s.top(depth)
		switch want {
		case wantColon:
			if c != ':' {
				return base, s.unexpected(base+i, c)
			}
			i, want = i+1, wantValue
			continue
		case wantComma:
			if c == ',' {
				i, want = i+1, afterComma(top)
				continue
			}
		}
		if !fits(c, want, top) {
			return base, s.unexpected(base+i, c)
		}
		switch {
		case c == ']' && want != wantValue && top.kind == kindArray || c == '}' && want != wantValue && top.kind == kindObject && want != wantName:
			i++
			if err := s.close(top, base+i); err != nil {
				return base, err
			}
		case c == '{' || c == '[':
			if err := s.begin(c, base+i, top, &member); err != nil {
				return base, err
			}
			if i, want = i+1, wantFirst; c == '{' {
				want = wantMember
			}
			continue
		default:
			raw, rest, to, plain, err := s.scalar(base+i, end, part[i:])
			if err != nil {
				return base, err
			}
			if want == wantName || want == wantMember {
				if raw == nil {
					return base, fmt.Errorf("%w: a name of %d bytes", wrap.ErrTooLarge, to-base-i)
				}
				if s.quiet == 0 {
					member.start, member.name, member.escaped = base+i, append(member.name[:0], raw[1:len(raw)-1]...), !plain
				}
				part, base, i, want = rest, to, 0, wantColon
				continue
			}
			if s.quiet == 0 {
				if err := s.leaf(base+i, to, raw, plain, c, top, &member); err != nil {
					return base, err
				}
			}
			part, base, i = rest, to, 0
		}
		if want = wantComma; len(s.open) == depth {
			return base + i, nil
		}
	}
}

// begin opens an array or object. If the sink skips it, its content is only checked.
func (s *jsonScan) begin(c byte, at int, in, member *event) error {
	if len(s.open) == maxDepth {
		return fmt.Errorf("%w: nested deeper than %d", wrap.ErrTooLarge, maxDepth)
	}
	n := len(s.open)
	if s.open = slices.Grow(s.open, 1)[:n+1]; s.quiet == 0 {
		s.open[n] = s.event(member, in, at)
		s.open[n].name = s.names.push(s.open[n].name)
	}
	e := &s.open[n]
	if e.kind, e.children = kindArray, 0; c == '{' {
		e.kind = kindObject
	}
	if s.quiet > 0 {
		return nil
	}
	skip, err := s.out.begin(e)
	if skip {
		s.quiet = n + 1
	}
	return err
}

// close ends the innermost array or object.
func (s *jsonScan) close(e *event, to int) (err error) {
	if s.quiet == 0 || s.quiet == len(s.open) {
		s.quiet = 0
		e.to, e.value.to = to, to
		err = s.out.end(e)
		s.names.pop(e.name)
	}
	s.open = s.open[:len(s.open)-1]
	return err
}

// leaf tells a text, number or word.
func (s *jsonScan) leaf(at, to int, raw []byte, plain bool, c byte, in, member *event) error {
	s.one = s.event(member, in, at)
	e := &s.one
	e.kind, e.to, e.value, e.raw, e.plain, e.text = kindValue, to, place{at, to}, raw, plain, c == '"'
	if e.text && raw != nil {
		e.raw = raw[1 : len(raw)-1]
	}
	return s.out.leaf(e)
}

// event begins one for the value at a place.
func (s *jsonScan) event(member, in *event, at int) event {
	e := event{from: at, start: at, value: place{at, at}}
	if in != nil && in.kind == kindObject {
		e.start, e.name, e.escaped, e.named = member.start, member.name, member.escaped, true
	} else if in != nil {
		e.index = in.children
	}
	return e
}

func (s *jsonScan) early() error {
	return atByte{s.size, fmt.Errorf("%w: the JSON ends too early", wrap.ErrDamaged)}
}

func (s *jsonScan) unexpected(at int, c byte) error {
	return atByte{at, fmt.Errorf("%w: not JSON: unexpected %q at byte %d", wrap.ErrDamaged, c, at)}
}

// scalar reads the text, number or word at a place; part is its beginning. It returns its bytes, or nil if it is longer than maxPiece, the rest of
// the window, and its end; plain reports that a text has no escapes.
func (s *jsonScan) scalar(at, end int, part []byte) (raw, rest []byte, to int, plain bool, err error) {
	for {
		n, plain, wrong := scalarIn(part)
		whole := at+len(part) >= end
		switch {
		case n > 0 && (n < len(part) || part[0] == '"' || whole):
			return part[:n], part[n:], at + n, plain, nil
		case wrong >= 0 && (wrong+6 <= len(part) || whole):
			if isCut(part) {
				return nil, nil, at, false, s.early()
			}
			return nil, nil, at, false, s.unexpected(at+wrong, part[wrong])
		case whole:
			return nil, nil, at, false, s.early()
		case len(part) >= maxPiece && part[0] == '"':
			to, err := s.longText(at+1, end)
			return nil, nil, to, false, err
		case len(part) >= maxPiece:
			return nil, nil, at, false, s.unexpected(at, part[0])
		}
		more, err := s.from(at, min(2*len(part)+64, maxPiece))
		if err != nil {
			return nil, nil, at, false, err
		}
		part = more[:min(len(more), end-at)]
	}
}

// longText goes over a text that is too long to be in memory, and returns where it ends.
func (s *jsonScan) longText(at, end int) (int, error) {
	for at < end {
		part, err := s.from(at, 6)
		if err != nil {
			return at, err
		}
		part = part[:min(len(part), end-at)]
		n := 0
		for n < len(part) && jsonClass[part[n]]&inText != 0 {
			n++
		}
		switch {
		case n == len(part):
		case part[n] == '"':
			return at + n + 1, nil
		case len(part)-n < 6 && at+len(part) < end && n > 0: // the window ends inside the escape
		default:
			length := escapeIn(part[n:])
			if length == 0 {
				return at, s.unexpected(at+n, part[n])
			}
			n += length
		}
		at += n
	}
	return at, s.early()
}

// isCut reports whether a text is the beginning of true, false or null.
func isCut(text []byte) bool {
	for _, word := range []string{"true", "false", "null"} {
		if len(text) < len(word) && bytes.HasPrefix([]byte(word), text) {
			return true
		}
	}
	return false
}

// scalarIn returns the length of the text, number or word at the beginning of part; 0 if the window ends inside it or it is wrong: then wrong is the
// place, else -1. A number at the end of part may be longer.
func scalarIn(part []byte) (n int, plain bool, wrong int) {
	switch c := part[0]; {
	case c == '"':
		plain = true
		for i := 1; i < len(part); i++ {
			if jsonClass[part[i]]&inText != 0 {
				continue
			}
			if part[i] == '"' {
				return i + 1, plain, -1
			}
			length := escapeIn(part[i:])
			if length == 0 {
				return 0, false, i
			}
			plain, i = false, i+length-1
		}
		return 0, false, -1
	case c == '-' || c >= '0' && c <= '9':
		for n = 1; n < len(part) && part[n]-'0' <= 9; n++ {
		}
		if c > '0' && n < len(part) && jsonClass[part[n]]&inNumber == 0 { // as most are
			return n, true, -1
		}
		for n < len(part) && jsonClass[part[n]]&inNumber != 0 {
			n++
		}
		if isNumber(part[:n]) {
			return n, true, -1
		}
		if n == len(part) { // it may be one with what follows
			return 0, false, -1
		}
		return 0, false, 0
	case bytes.HasPrefix(part, []byte("true")), bytes.HasPrefix(part, []byte("null")):
		return 4, true, -1
	case bytes.HasPrefix(part, []byte("false")):
		return 5, true, -1
	}
	return 0, false, 0
}

// escapeIn returns the length of the escape at the beginning of part, 0 if it is wrong.
func escapeIn(part []byte) int {
	if len(part) < 2 || part[0] != '\\' {
		return 0
	}
	if part[1] != 'u' {
		if bytes.IndexByte([]byte(`"\/bfnrt`), part[1]) < 0 {
			return 0
		}
		return 2
	}
	if len(part) < 6 {
		return 0
	}
	for _, c := range part[2:6] {
		if (c < '0' || c > '9') && (c|0x20 < 'a' || c|0x20 > 'f') {
			return 0
		}
	}
	return 6
}

// isNumber reports whether all of a text is a number of JSON.
func isNumber(text []byte) bool {
	digits := func() (n int) {
		for n < len(text) && text[n] >= '0' && text[n] <= '9' {
			n++
		}
		return n
	}
	text = bytes.TrimPrefix(text, []byte("-"))
	n := digits()
	if n == 0 || text[0] == '0' && n > 1 {
		return false
	}
	if text = text[n:]; len(text) > 0 && text[0] == '.' {
		text = text[1:]
		if n = digits(); n == 0 {
			return false
		}
		text = text[n:]
	}
	if len(text) > 0 && text[0]|0x20 == 'e' {
		text = text[1:]
		if len(text) > 0 && (text[0] == '+' || text[0] == '-') {
			text = text[1:]
		}
		if n = digits(); n == 0 {
			return false
		}
		text = text[n:]
	}
	return len(text) == 0
}

func (s *jsonScan) whole(out sink) error {
	s.out, s.open, s.quiet = out, s.open[:0], 0
	end, err := s.value(s.bom(), s.size)
	if err != nil {
		return err
	}
	return s.nothingBehind("JSON", end)
}

func (s *jsonScan) inside(n *Node, out sink) error {
	inner := jsonScan{source: s.source, out: out}
	_, err := inner.value(n.From, n.To)
	return err
}

func (s *jsonScan) decode(e *event) (string, error) {
	switch {
	case e.kind != kindValue:
		return "", nil
	case !e.text && e.raw[0] == 'n': // null is there, and empty
		return "", nil
	case !e.text:
		return string(e.raw), nil
	}
	return jsonText(e.raw, e.plain), nil
}

func (s *jsonScan) content(n *Node) (string, bool, error) {
	raw, err := s.bytes(place{n.From, n.To})
	if err != nil || n.kind != kindValue {
		return "", false, err
	}
	e := event{kind: kindValue, raw: raw}
	if e.text = raw[0] == '"'; e.text {
		e.raw = raw[1 : len(raw)-1]
	}
	text, err := s.decode(&e)
	return text, err == nil, err
}

// jsonText decodes a text without its quotes; plain reports that it has no escapes.
func jsonText(inner []byte, plain bool) string {
	if plain && utf8.Valid(inner) {
		return string(inner)
	}
	quoted := append(append([]byte{'"'}, inner...), '"')
	text, _ := jsontext.AppendUnquote(nil, quoted) // invalid UTF-8 becomes U+FFFD
	return string(text)
}
