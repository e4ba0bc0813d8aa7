package form

import (
	"bytes"
	"fmt"
)

// usual reads both usual ways, [name] … [/name] and name { … }, which may be mixed. Values run to the end of the line in the first and to
// white space in the second; in quotes they hold anything, a quote being doubled or behind a backslash. A # begins a line of comment.
func (r *blocksReader) usual() error {
	for {
		if some, err := r.more(); err != nil || !some {
			return err
		}
		at := r.at
		err := r.next()
		if err == errShort || err == nil && r.short && !r.last() {
			err = r.again(at)
		}
		if err != nil {
			return err
		}
	}
}

// next reads one part, or what opens or closes one. What it says of one that ends with the window is not said.
func (r *blocksReader) next() error {
	r.space(between)
	r.begin = r.at
	if r.at >= len(r.text) {
		r.short = false // there was nothing
		return nil
	}
	switch c := r.text[r.at]; c {
	case '#':
		r.until(lineEnd)
	case '}':
		r.at++
		return r.close(nil)
	case '[':
		r.at++
		name := r.until(nameEnd)
		if err := r.whole(); err != nil {
			return err
		}
		if r.at >= len(r.text) || r.text[r.at] != ']' {
			return fmt.Errorf("%w: a [ without ]", ErrDamaged)
		}
		r.at++
		if ending, ok := bytes.CutPrefix(name, []byte("/")); ok {
			if len(ending) == 0 {
				ending = nil
			}
			return r.close(ending)
		}
		return r.opens(name)
	default:
		return r.named()
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
func (r *blocksReader) named() error {
	var word []byte
	if r.text[r.at] == '"' {
		word = r.quoted()
	} else if word = r.until(wordEnd); len(word) == 0 {
		r.at++ // a stray = or ]
		return nil
	}
	end := r.at
	r.space(white)
	switch {
	case r.at < len(r.text) && r.text[r.at] == '{':
		r.at++
		return r.opens(word)
	case r.at >= len(r.text) || r.text[r.at] != '=':
		r.value, r.inBraces = place{r.begin, end}, false
		return r.pair(words, word)
	}
	r.at++
	r.space(blank)
	switch {
	case r.at < len(r.text) && r.text[r.at] == '{':
		r.at++
		return r.opens(word)
	case r.at < len(r.text) && r.text[r.at] == '"':
		from := r.at
		value := r.quoted()
		r.value, r.inBraces = place{from, r.at}, false
		return r.pair(word, value)
	}
	from := r.at
	var value []byte
	if r.inBraces = r.braces(); r.inBraces {
		value = r.until(valueEnd)
	} else {
		value = r.until(lineEnd)
	}
	value = bytes.TrimSpace(value)
	r.value = place{from, from + len(value)}
	return r.pair(word, value)
}

// braces reports whether a value here ends at a closing brace on its line.
func (r *blocksReader) braces() bool {
	return (r.inside || len(r.open.ends) > 0) && r.brace.find(r.text, r.at) < r.newline.find(r.text, r.at)
}

// nextByte knows where a byte stands next, so that a text is searched once, however often that is asked.
type nextByte struct {
	c     byte
	at    int // where it stands
	known bool
}

// find is the first place of the byte at or behind from, the length of the text where there is none. It is asked for places in rising order.
func (n *nextByte) find(text []byte, from int) int {
	if !n.known || n.at < from {
		n.known, n.at = true, len(text)
		if i := bytes.IndexByte(text[from:], n.c); i >= 0 {
			n.at = from + i
		}
	}
	return n.at
}

func (r *blocksReader) space(class byte) {
	at := r.at
	for at < len(r.text) && blockClass[r.text[at]]&class != 0 {
		at++
	}
	r.at, r.short = at, r.short || at == len(r.text)
}

// until reads up to a byte of a class, or the end.
func (r *blocksReader) until(class byte) []byte {
	from, at := r.at, r.at
	for at < len(r.text) && blockClass[r.text[at]]&class == 0 {
		at++
	}
	r.at, r.short = at, r.short || at == len(r.text)
	return r.text[from:at]
}

// quoted reads what stands in quotes.
func (r *blocksReader) quoted() []byte {
	r.at++
	if end := bytes.IndexByte(r.text[r.at:], '"'); end >= 0 && r.at+end+1 < len(r.text) && r.text[r.at+end+1] != '"' && bytes.IndexByte(r.text[r.at:r.at+end], '\\') < 0 {
		value := r.text[r.at : r.at+end]
		r.at += end + 1
		return value
	}
	var b []byte
	for ; r.at < len(r.text); r.at++ {
		c := r.text[r.at]
		next := byte(0)
		if r.at+1 < len(r.text) {
			next = r.text[r.at+1]
		}
		switch {
		case c == '\\' && (next == '"' || next == '\\'), c == '"' && next == '"':
			r.at++
			b = append(b, next)
		case c == '"':
			r.at++
			r.short = r.short || r.at == len(r.text)
			return b
		default:
			b = append(b, c)
		}
	}
	r.short = true
	return b
}
