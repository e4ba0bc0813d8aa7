package form

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"
)

// A large JSON (RFC 8259) is passed over by what follows, which looks at each byte once and holds only the brackets that are open. It accepts
// what the tree of a small one accepts: names that stand twice, and bytes that are no UTF-8.

// classes of bytes in a JSON text.
const (
	inText   = 1 << iota // stands for itself in a text
	inNumber             // may be in a number
	isSpace
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
	for _, c := range []byte(" \t\r\n") {
		class[c] |= isSpace
	}
	return class
}()

// What may come next.
const (
	wantValue  = iota
	wantFirst  // the first value of an array, or its end
	wantMember // the name of the first member of an object, or its end
	wantName   // of a member behind a comma
	wantColon
	wantComma // or the end of what is open
)

// start is the first byte at or behind a place that is no white space; ok is false at the end.
func (t *jsonSource) start(at, end int) (from int, c byte, ok bool) {
	for at < end {
		part := t.rest(at, end)
		for i, c := range part {
			if jsonClass[c]&isSpace == 0 {
				return at + i, c, true
			}
		}
		if len(part) == 0 {
			return at, 0, false
		}
		at += len(part)
	}
	return at, 0, false
}

// kind is the first byte of the value at a place, 0 where there is none.
func (t *jsonSource) kind(at place) byte {
	_, c, _ := t.start(at.from, at.to)
	return c
}

// pass passes over the value that begins at or behind a place, and returns where it stands.
func (t *jsonSource) pass(at, end int) (value place, err error) {
	from, _, ok := t.start(at, end)
	if !ok {
		return place{}, t.early()
	}
	w := jsonWalk{at: from, open: t.open[:0]}
	err = t.walk(&w, end, end)
	t.open = w.open
	return place{from, w.at}, err
}

// jsonWalk is how far a walk over a value has come: behind which byte, what may come next, and what is open there.
type jsonWalk struct {
	at   int
	want int
	open []jsonOpen
	// reach is where nobody asks before: a value that is known to end before it is passed over at once.
	reach int
}

// jsonOpen is an array or an object of which not all has been passed.
type jsonOpen struct {
	bracket byte
	from    int
	last    int   // where the last element ended
	index   int   // of an element
	name    place // of a member
}

// walk goes on to the end of the value, or behind the first bracket, text, number or word that ends behind a byte.
func (t *jsonSource) walk(w *jsonWalk, end, until int) error {
	open, want := w.open, w.want
	if want == wantComma && len(open) == 0 {
		return nil
	}
	part := t.rest(w.at, end)
	base, i := w.at, 0
	for {
		for i < len(part) && part[i] <= ' ' && jsonClass[part[i]]&isSpace != 0 {
			i++
		}
		if i == len(part) {
			base, i = base+i, 0
			if base >= end {
				return t.early()
			}
			if part = t.rest(base, end); len(part) == 0 {
				return t.early()
			}
			continue
		}
		c := part[i]
		var top *jsonOpen
		if len(open) > 0 {
			top = &open[len(open)-1]
		}
		name := want == wantName || want == wantMember
		switch {
		case want == wantColon && c == ':':
			i, want = i+1, wantValue
			continue
		case want == wantComma && c == ',':
			i, want, top.index = i+1, wantValue, top.index+1
			if top.bracket == '{' {
				want = wantName
			}
			continue
		case (want == wantComma || want == wantFirst || want == wantMember) && c == top.bracket+2: // ] is [+2, and } is {+2
			open, want = open[:len(open)-1], wantComma
			i += 1 + t.closed(open, top.from, part, base, i+1, until)
		case want == wantComma, want == wantColon, name && c != '"':
			return t.unexpected(base+i, c)
		case c == '{' || c == '[':
			if to, ok := t.skip(base+i, max(until, w.reach), top); ok {
				base, i, part, want = to, 0, nil, wantComma
				break
			}
			if len(open) == maxDepth {
				return fmt.Errorf("%w: nested deeper than %d", ErrTooLarge, maxDepth)
			}
			open, want = append(open, jsonOpen{bracket: c, from: base + i}), wantFirst
			i++
			if c == '{' {
				want = wantMember
			}
		default:
			from, n := base+i, scalarIn(part[i:])
			if n == 0 { // it goes on behind what is in memory, or is wrong
				to, err := t.scalarEnd(from, end)
				if err != nil {
					return err
				}
				base, i, part = to, 0, nil
			}
			i, want = i+n, wantComma
			if name {
				want, top.name = wantColon, place{from, base + i}
			}
		}
		if len(open) == 0 || base+i > until {
			break
		}
	}
	w.at, w.open, w.want = base+i, open, want
	return nil
}

// closed notes what began at from and has just ended at i of part, and stands in open. It returns how long the elements behind it are that are written the
// same.
func (t *jsonSource) closed(open []jsonOpen, from int, part []byte, base, i, until int) int {
	if base+i-from >= t.least {
		t.note(from, extent{to: base + i})
	}
	if n := len(open); n > 0 && open[n-1].bracket == '[' {
		return t.alike(&open[n-1], from, part, base, i, until)
	}
	return 0
}

// alike passes over the elements of an array that are written as the one that began at begin and has just ended at i of part, and returns how long they
// are.
func (t *jsonSource) alike(in *jsonOpen, begin int, part []byte, base, i, until int) int {
	from := in.last - base
	in.last = base + i
	if from <= 0 || i-from > maxAgain || part[from] != ',' || len(bytes.TrimSpace(part[from+1:begin-base])) > 0 { // or there is another one in between
		return 0
	}
	length, n := t.again.pass(part[from:i], part[i:], t.toMeeting(base+i, until-base-i))
	in.last += length
	in.index += n
	return length
}

// skip is where the value ends that begins at a place in what is open, if that is known and not behind reach; of elements that have been passed over
// ahead it is where the last one ends.
func (t *jsonSource) skip(from, reach int, in *jsonOpen) (to int, ok bool) {
	if e, ok := t.part(from); ok && e.to <= reach {
		return e.to, true
	}
	if t.meets(from) && in != nil && in.bracket == '[' && reach == t.size {
		return t.jump()
	}
	return 0, false
}

// query leads to where the walk is.
func (t *jsonSource) query(w *jsonWalk) string {
	var b strings.Builder
	b.WriteByte('$')
	for i, o := range w.open {
		if i == len(w.open)-1 && (w.want == wantFirst || w.want == wantMember) {
			break // nothing of it has been passed
		}
		if o.bracket == '[' {
			fmt.Fprintf(&b, "[%d]", o.index)
			continue
		}
		quoted := t.peek(o.name.from, o.name.to)
		name, err := jsontext.AppendUnquote(nil, quoted)
		if err != nil && name == nil || len(name) == 0 {
			return ""
		}
		b.WriteString(stepTo(string(name)))
	}
	return b.String()
}

func (t *jsonSource) early() error {
	if t.err != nil {
		return t.err
	}
	return fmt.Errorf("%w: the JSON ends too early", ErrDamaged)
}

func (t *jsonSource) unexpected(at int, c byte) error {
	return fmt.Errorf("%w: not JSON: %q at byte %d", ErrDamaged, c, at)
}

// scalarIn is how long the text, number or word is that part begins with. It is 0 where that is not to be seen: the end of part comes too early, or
// there is none of them.
func scalarIn(part []byte) int {
	if len(part) == 0 {
		return 0
	}
	switch c := part[0]; {
	case c == '"':
		for i := 1; i < len(part); i++ {
			if jsonClass[part[i]]&inText != 0 {
				continue
			}
			if part[i] == '"' {
				return i + 1
			}
			n := escapeIn(part[i:])
			if n == 0 {
				return 0
			}
			i += n - 1
		}
	case c == '-' || c >= '0' && c <= '9':
		n := 1
		for n < len(part) && part[n]-'0' <= 9 {
			n++
		}
		if n < len(part) && c != '-' && (c != '0' || n == 1) && jsonClass[part[n]]&inNumber == 0 { // as most are
			return n
		}
		for n < len(part) && jsonClass[part[n]]&inNumber != 0 {
			n++
		}
		if n < len(part) && isNumber(part[:n]) {
			return n
		}
	case bytes.HasPrefix(part, []byte("true")), bytes.HasPrefix(part, []byte("null")):
		return 4
	case bytes.HasPrefix(part, []byte("false")):
		return 5
	}
	return 0
}

// escapeIn is how long the escape is that part begins with, 0 of what is none.
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

// isNumber reports whether all of a text of digits, signs, points and e is a number of JSON.
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

// maxNumber bounds a number, in bytes.
const maxNumber = 4096

// scalarEnd is where the text, number or word that begins at a place ends, however long it is.
func (t *jsonSource) scalarEnd(at, end int) (int, error) {
	if t.byteAt(at) != '"' {
		part := t.bytes(at, min(at+maxNumber, end))
		if len(part) == 0 {
			return 0, t.early()
		}
		if n := scalarIn(part); n > 0 {
			return at + n, nil
		}
		if at+len(part) == end && len(part) > 0 && isNumber(part) { // the last one of the file
			return end, nil
		}
		if at+len(part) == end && (isCut(part, "true") || isCut(part, "false") || isCut(part, "null")) {
			return 0, t.early()
		}
		return 0, t.unexpected(at, t.byteAt(at))
	}
	for at++; ; {
		part := t.rest(at, end)
		if len(part) == 0 || at >= end {
			return 0, t.early()
		}
		n := 0
		for n < len(part) && jsonClass[part[n]]&inText != 0 {
			n++
		}
		if at += n; n == len(part) {
			continue
		}
		if part[n] == '"' {
			return at + 1, nil
		}
		escape := escapeIn(t.bytes(at, min(at+6, end)))
		switch {
		case escape == 0 && (at+6 > end || t.err != nil):
			return 0, t.early()
		case escape == 0:
			return 0, t.unexpected(at, t.byteAt(at))
		}
		at += escape
	}
}

// isCut reports whether a text is the beginning of a word.
func isCut(text []byte, word string) bool {
	return len(text) < len(word) && bytes.HasPrefix([]byte(word), text)
}

// text is what a quoted text says.
func (t *jsonSource) text(at place) (string, error) {
	quoted := t.bytes(at.from, at.to)
	if bytes.IndexByte(quoted, '\\') < 0 && len(quoted) > 1 && utf8.Valid(quoted) {
		return string(quoted[1 : len(quoted)-1]), nil
	}
	text, err := jsontext.AppendUnquote(nil, quoted)
	if err != nil && text == nil {
		return "", fmt.Errorf("%w: not JSON: %v", ErrDamaged, err)
	}
	return string(text), nil
}
