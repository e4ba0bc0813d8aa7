package doc

import (
	"bytes"
	"fmt"

	"ostrov/internal/core/wrap"
)

// usual reads both usual ways, [name] … [/name] and name { … }, which may be mixed. Values run to the end of the line in the first and to
// white space in the second; in quotes they hold anything, a quote being doubled or behind a backslash. A # begins a line of comment.
func (s *blockScan) usual() error {
	for {
		if some, err := s.more(); err != nil || !some {
			return err
		}
		at := s.at
		err := s.next()
		if err == errShort || err == nil && s.short && !s.last() {
			err = s.again(at)
		}
		if err != nil {
			return err
		}
	}
}

// next reads one part, or the beginning or end of one. A part that ends with the window may be longer.
func (s *blockScan) next() error {
	s.space(between)
	s.begin = s.at
	if s.at >= len(s.text) {
		s.short = false // there was nothing
		return nil
	}
	switch c := s.text[s.at]; c {
	case '#':
		s.until(lineEnd)
	case '}':
		s.at++
		return s.close(nil)
	case '[':
		s.at++
		name := s.until(nameEnd)
		if err := s.fits(); err != nil {
			return err
		}
		if s.at >= len(s.text) || s.text[s.at] != ']' {
			return fmt.Errorf("%w: a [ without ]", wrap.ErrDamaged)
		}
		s.at++
		if ending, ok := bytes.CutPrefix(name, []byte("/")); ok {
			if len(ending) == 0 {
				ending = nil
			}
			return s.close(ending)
		}
		return s.opens(name)
	default:
		return s.named()
	}
	return nil
}

// classes of bytes in the usual ways.
const (
	between  = 1 << iota // stands between parts
	wordEnd              // ends a word
	valueEnd             // ends a value in braces
	nameEnd              // ends a name in brackets
	lineEnd
	white
	blank // white, and no end of a line
)

var blockClass = func() (class [256]byte) {
	for c, in := range map[byte]string{between: " \t\r\n,;", wordEnd: "={}[]\"\n \t\r", valueEnd: " \t\r\n}", nameEnd: "]\n", lineEnd: "\n", white: " \t\r\n", blank: " \t"} {
		for i := range len(in) {
			class[in[i]] |= c
		}
	}
	return class
}()

// named reads what begins with a word: a pair, a block in braces, or the word alone.
func (s *blockScan) named() error {
	var word []byte
	if s.text[s.at] == '"' {
		word = s.quoted()
	} else if word = s.until(wordEnd); len(word) == 0 {
		s.at++ // a stray = or ]
		return nil
	}
	end := s.at
	s.space(white)
	switch {
	case s.at < len(s.text) && s.text[s.at] == '{':
		s.at++
		return s.opens(word)
	case s.at >= len(s.text) || s.text[s.at] != '=':
		return s.pair(words, word, place{s.begin, end}, false)
	}
	s.at++
	s.space(blank)
	switch {
	case s.at < len(s.text) && s.text[s.at] == '{':
		s.at++
		return s.opens(word)
	case s.at < len(s.text) && s.text[s.at] == '"':
		from := s.at
		value := s.quoted()
		return s.pair(word, value, place{from, s.at}, false)
	}
	from := s.at
	class, inBraces := byte(lineEnd), s.braces()
	if inBraces {
		class = valueEnd
	}
	value := bytes.TrimSpace(s.until(class))
	return s.pair(word, value, place{from, from + len(value)}, inBraces)
}

// braces reports whether a value here ends at a closing brace on its line.
func (s *blockScan) braces() bool {
	return len(s.open) > 0 && s.brace.find(s.text, s.at) < s.newline.find(s.text, s.at)
}

// nextByte knows where a byte stands next, so that a window is searched once, however often that is asked.
type nextByte struct {
	at    int // where it stands
	known bool
	c     byte
}

// find returns the first place of the byte at or after from, or the length of the text if the byte does not follow. Callers ask for places in rising
// order.
func (n *nextByte) find(text []byte, from int) int {
	if !n.known || n.at < from {
		n.known, n.at = true, len(text)
		if i := bytes.IndexByte(text[from:], n.c); i >= 0 {
			n.at = from + i
		}
	}
	return n.at
}

func (s *blockScan) space(class byte) {
	at, text := s.at, s.text
	for at < len(text) && blockClass[text[at]]&class != 0 {
		at++
	}
	s.at, s.short = at, s.short || at == len(text)
}

// until reads up to a byte of a class, or the end.
func (s *blockScan) until(class byte) []byte {
	from, at, text := s.at, s.at, s.text
	for at < len(text) && blockClass[text[at]]&class == 0 {
		at++
	}
	s.at, s.short = at, s.short || at == len(text)
	return text[from:at]
}

// quoted reads a word between quotes.
func (s *blockScan) quoted() []byte {
	s.at++
	if end := bytes.IndexByte(s.text[s.at:], '"'); end >= 0 && s.at+end+1 < len(s.text) && s.text[s.at+end+1] != '"' && bytes.IndexByte(s.text[s.at:s.at+end], '\\') < 0 {
		value := s.text[s.at : s.at+end]
		s.at += end + 1
		return value
	}
	var b []byte
	for ; s.at < len(s.text); s.at++ {
		c := s.text[s.at]
		next := byte(0)
		if s.at+1 < len(s.text) {
			next = s.text[s.at+1]
		}
		switch {
		case c == '\\' && (next == '"' || next == '\\'), c == '"' && next == '"':
			s.at++
			b = append(b, next)
		case c == '"':
			s.at++
			s.short = s.short || s.at == len(s.text)
			return b
		default:
			b = append(b, c)
		}
	}
	s.short = true
	return b
}
