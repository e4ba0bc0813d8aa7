package doc

import (
	"bytes"
	"fmt"
	"slices"
	"unicode/utf8"

	"ostrov/internal/core/wrap"
)

// classes of bytes in a tag.
const (
	endsName  = 1 << iota // ends a name
	noName                // begins none
	notPlain              // needs a look, in a value or a text
	noXML                 // may not be in a text
	isBetween             // white space
)

// tag reads the tag at a place, whose beginning is part.
func (s *xmlScan) tag(at, end int, part []byte) (int, error) {
	for {
		var size int
		err := errShort
		switch {
		case part[1] != '/':
			size, err = s.startTag(at, part)
		case bytes.IndexByte(part, '>') >= 0:
			size, err = s.endTag(at, part)
		}
		if err != errShort {
			return at + size, err
		}
		if at+len(part) >= end {
			return at, errXMLEarly
		}
		if len(part) > maxPiece {
			return at, fmt.Errorf("%w: a tag of more than %d MiB", wrap.ErrTooLarge, maxPiece>>20)
		}
		more, err := s.from(at, min(2*len(part), end-at))
		if err != nil {
			return at, err
		}
		part = more[:min(len(more), end-at)]
	}
}

func (s *xmlScan) endTag(at int, text []byte) (int, error) {
	if len(s.open) == 0 {
		return 0, s.wrong(at, "an end tag without its start")
	}
	e := &s.open[len(s.open)-1]
	size := bytes.IndexByte(text, '>') + 1
	name := text[2 : size-1]
	if !bytes.Equal(name, e.name) && !bytes.Equal(bytes.TrimRight(name, " \t\r\n"), e.name) {
		return 0, s.wrong(at, fmt.Sprintf("</%.60s> where </%.60s> should be", name, e.name))
	}
	return size, s.close(at, at+size)
}

// close ends the innermost element.
func (s *xmlScan) close(inner, to int) error {
	e := &s.open[len(s.open)-1]
	var err error
	if s.quiet == 0 || s.quiet == len(s.open) {
		s.quiet = 0
		e.value.to, e.to = inner, to
		err = s.out.end(e)
	}
	s.names.pop(e.name)
	s.open = s.open[:len(s.open)-1]
	if len(s.open) > 0 {
		s.open[len(s.open)-1].mixed = true
	} else {
		s.ended = to
	}
	return err
}

var xmlClass = func() (class [256]byte) {
	for _, c := range []byte(" \t\r\n=/>\"'<&") {
		class[c] |= endsName | noName
	}
	for _, c := range []byte("0123456789-.!?;,()[]{}@#$%^*+|~`\\") {
		class[c] |= noName
	}
	for _, c := range []byte(" \t\r\n") {
		class[c] |= isBetween
	}
	for c := range 256 {
		switch {
		case c < ' ' && c != '\t' && c != '\n' && c != '\r':
			class[c] |= noXML | notPlain
		case c == '&' || c == '\r' || c == '<' || c >= utf8.RuneSelf:
			class[c] |= notPlain
		}
	}
	return class
}()

// nameIn returns the length of the name that a text begins with, or 0.
func nameIn(text []byte) (n int) {
	for n < len(text) && xmlClass[text[n]]&endsName == 0 {
		n++
	}
	if n == 0 || xmlClass[text[0]]&noName != 0 {
		return 0
	}
	return n
}

// startTag reads a start tag and returns its length; if text ends before it does, it reports nothing and the error is errShort.
func (s *xmlScan) startTag(at int, text []byte) (int, error) {
	n := nameIn(text[1:])
	switch {
	case n == 0:
		return 0, s.wrong(at, "a < that begins no tag")
	case n+1 == len(text):
		return 0, errShort
	case len(s.open) == maxDepth:
		return 0, fmt.Errorf("%w: nested deeper than %d", wrap.ErrTooLarge, maxDepth)
	}
	quiet := s.quiet
	s.quiet = max(quiet, 1)
	size, empty, err := s.attributes(at, text, 1+n) // all of it must be there before anything is told
	if s.quiet = quiet; err != nil {
		return 0, err
	}
	to, depth := at+size, len(s.open)
	s.open = slices.Grow(s.open, 1)[:depth+1]
	name := s.names.push(text[1 : 1+n])
	if s.open[depth].name = name; s.quiet == 0 {
		s.open[depth] = event{kind: kindElement, name: name, named: true, start: at, from: at, tag: place{at, to}, value: place{to, to}}
		skip, err := s.out.begin(&s.open[depth])
		if err != nil {
			return 0, err
		}
		if skip {
			s.quiet = len(s.open)
		} else if _, _, err := s.attributes(at, text[:size], 1+n); err != nil {
			return 0, err
		}
	}
	if empty {
		err = s.close(to, to)
	}
	return size, err
}

// attributes goes over those of a start tag, whose name ends at i, and returns how long the tag is and whether it is an empty element.
func (s *xmlScan) attributes(at int, tag []byte, i int) (size int, empty bool, err error) {
	var seen [16][]byte
	for n := 0; ; n++ {
		for i < len(tag) && xmlClass[tag[i]]&isBetween != 0 {
			i++
		}
		switch {
		case i+1 >= len(tag) && (i == len(tag) || tag[i] != '>'):
			return 0, false, errShort
		case tag[i] == '>':
			return i + 1, false, nil
		case tag[i] == '/' && tag[i+1] == '>':
			return i + 2, true, nil
		}
		start := i
		length := nameIn(tag[i:])
		i += length
		for i < len(tag) && xmlClass[tag[i]]&isBetween != 0 {
			i++
		}
		switch {
		case i == len(tag) && length > 0:
			return 0, false, errShort
		case length == 0 || tag[i] != '=':
			return 0, false, s.wrong(at+start, "an attribute without a value")
		}
		for i++; i < len(tag) && xmlClass[tag[i]]&isBetween != 0; i++ {
		}
		switch {
		case i == len(tag):
			return 0, false, errShort
		case tag[i] != '"' && tag[i] != '\'':
			return 0, false, s.wrong(at+i, "an attribute without quotes")
		}
		quote, from, marks := tag[i], i+1, byte(0)
		for i++; i < len(tag) && tag[i] != quote; i++ {
			marks |= xmlClass[tag[i]]
		}
		if i == len(tag) {
			return 0, false, errShort
		}
		name, raw, plain := tag[start:start+length], tag[from:i], marks&notPlain == 0
		if i++; !plain {
			if plain, err = s.checked(at+from, raw); err == nil && bytes.IndexByte(raw, '<') >= 0 {
				err = s.wrong(at+from, "a < in an attribute")
			}
			if err != nil {
				return 0, false, err
			}
		}
		for _, other := range seen[:min(n, len(seen))] {
			if len(other) == length && string(other) == string(name) {
				return 0, false, s.wrong(at+start, fmt.Sprintf("the attribute %.60s twice", name))
			}
		}
		if n < len(seen) {
			seen[n] = name
		}
		if s.quiet == 0 {
			value := place{at + from, at + from + len(raw)}
			if err = s.leaf(event{kind: kindAttribute, name: name, named: true, start: at + start, from: value.from, to: value.to, value: value, raw: raw, plain: plain}); err != nil {
				return 0, false, err
			}
		}
	}
}
