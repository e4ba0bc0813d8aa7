package form

import (
	"bytes"
	"errors"
	"fmt"
)

// BlockPatterns say how the form blocks is written, line by line, where its usual ways do not fit: open names a block by its group name,
// close ends one, and pair has the groups key and value. All or none are given. Indent says that depth is told by indentation instead.
type BlockPatterns struct {
	Open, Close, Pair string
	Indent            bool
}

func (p BlockPatterns) check() error {
	if p == (BlockPatterns{}) || p == (BlockPatterns{Indent: true}) {
		return nil
	}
	if p.Indent {
		return errors.New("indent goes without open, close and pair")
	}
	for _, one := range []struct {
		what, pattern string
		groups        []string
	}{{"open", p.Open, []string{"name"}}, {"close", p.Close, nil}, {"pair", p.Pair, []string{"key", "value"}}} {
		re, err := compilePattern(one.pattern)
		if err != nil {
			return fmt.Errorf("%s: %w", one.what, err)
		}
		for _, g := range one.groups {
			if re.SubexpIndex(g) < 0 {
				return fmt.Errorf("%s needs a group (?P<%s>…)", one.what, g)
			}
		}
	}
	return nil
}

// blockPart is a block, a pair or a bare word, and where it stands in the text.
type blockPart struct {
	name     string
	value    string // of a pair or word
	from, to int
	inner    place // of a block what is in it, of a pair its value with the quotes around it
	block    bool
	inBraces bool // a value that ends at a closing brace
	listed   bool // one of a list, even if there is no other one
}

// blockSink takes what a text of blocks is made of, in the order in which it stands there.
type blockSink interface {
	// opens begins a block, whose name is good until opens returns; to is behind what opens it.
	opens(name []byte, from, to int) error
	// closes ends the innermost block; from is where what closes it begins, and to is behind that.
	closes(from, to int) error
	// pair is a pair or a word. What it is called and says is good until pair returns.
	pair(key, value []byte, p blockPart) error
}

// blocksReader reads nested blocks. Of a text that is not in memory it holds a window, which moves on between one part and the next.
type blocksReader struct {
	source   *source
	base     int    // where the window begins in the source
	end      int    // where the text ends in the source
	text     []byte // the window
	at       int    // in the window
	patterns BlockPatterns
	sink     blockSink
	open     names // the blocks that are open, and where they begin in the source
	asked    int   // where a block begins in the source that is not passed over; -1 for none
	jumped   bool  // the block that was opened last was passed over
	quiet    int   // in so many open blocks nobody asks what there is; -1 where it is always asked
	rows     again
	// begin is where the part begins that is being read, value the value of a pair, and inBraces whether that ends at a closing brace.
	begin    int
	value    place
	inBraces bool
	inside   bool // all of it stands in a block
	short    bool // what was read last ends with the window, and may go on
	// brace and newline are where these stand next.
	brace, newline nextByte
}

// window is how much of a text of blocks is in memory at once, in bytes.
const window = 1 << 20

// errShort says that a part is longer than the window.
var errShort = errors.New("longer than the window")

func newBlocksReader(text *source, at place, patterns BlockPatterns, sink blockSink) *blocksReader {
	return &blocksReader{source: text, base: at.from, end: at.to, patterns: patterns, sink: sink, asked: -1, quiet: -1, rows: again{form: "blocks"}, brace: nextByte{c: '}'}, newline: nextByte{c: '\n'}}
}

// read reads all of the text.
func (r *blocksReader) read() error {
	read := r.usual
	if r.patterns.Indent {
		read = r.indented
	} else if r.patterns != (BlockPatterns{}) {
		read = r.lines
	}
	if err := read(); err != nil {
		return r.source.failed(err)
	}
	if len(r.open.ends) > 0 {
		return fmt.Errorf("%w: the block %.60q is not closed: it ends too early", ErrDamaged, r.open.innermost())
	}
	return r.source.failed(nil)
}

// more makes the window begin at the place that has been come to, if little is left of it; it reports whether there is anything.
func (r *blocksReader) more() (bool, error) {
	r.short = false
	if !r.last() && len(r.text)-r.at < min(window, r.source.step)/2 {
		if err := r.load(min(window, r.source.step)); err != nil {
			return false, err
		}
	}
	return r.at < len(r.text), nil
}

// last reports whether the window reaches to the end.
func (r *blocksReader) last() bool { return r.base+len(r.text) >= r.end }

// load makes the window begin at the place that has been come to, and have a size.
func (r *blocksReader) load(size int) error {
	from := r.base + r.at
	to := min(from+size, r.end)
	if r.source.file == nil {
		to = r.end
		r.text = r.source.data[from:to:to]
	} else {
		r.text = append(r.text[:0:0], r.source.bytes(from, to)...) // whoever is told of a part reads elsewhere
	}
	r.base, r.at = from, 0
	r.brace.known, r.newline.known = false, false
	if r.source.err != nil {
		return r.source.err
	}
	if i := bytes.IndexByte(r.text, 0); i >= 0 {
		return fmt.Errorf("%w: not text: a zero byte at %d", ErrDamaged, from+i)
	}
	return nil
}

// again makes the window larger, to read once more from at on what did not fit; r is as it was then.
func (r *blocksReader) again(at int) error {
	size := 4 * max(len(r.text), min(window, r.source.step))
	if r.at = at; size > maxDeclaration {
		return fmt.Errorf("%w: a part of more than %d bytes", ErrTooLarge, maxDeclaration/4)
	}
	r.short = false
	return r.load(size)
}

// whole is an error where what was read last may go on behind the window.
func (r *blocksReader) whole() error {
	if r.short && !r.last() {
		return errShort
	}
	return nil
}

// opens begins a block, or passes over all of it, and of its siblings, where that is known.
func (r *blocksReader) opens(name []byte) error {
	if err := r.whole(); err != nil {
		return err
	}
	if len(r.open.ends) >= maxDepth {
		return fmt.Errorf("%w: nested deeper than %d", ErrTooLarge, maxDepth)
	}
	from := r.base + r.begin
	if len(r.open.ends) > 0 && r.source.meets(from) {
		if to, ok := r.source.jump(); ok {
			return r.goTo(to)
		}
	}
	r.jumped = false
	if err := r.sink.opens(name, from, r.base+r.at); err != nil {
		return err
	}
	e, known := r.source.part(from)
	if !known || from == r.asked {
		r.open.push(name, from)
		return nil
	}
	r.jumped = true
	if err := r.sink.closes(e.inner, e.to); err != nil {
		return err
	}
	return r.goTo(e.to)
}

// goTo goes on at a place of the source.
func (r *blocksReader) goTo(to int) error {
	if r.at = to - r.base; r.at < len(r.text) {
		return nil
	}
	return r.load(min(window, r.source.step))
}

// close ends the innermost block; name is nil where the text does not say which.
func (r *blocksReader) close(name []byte) error {
	if err := r.whole(); err != nil {
		return err
	}
	if name == nil {
		name = r.open.innermost()
	}
	e := extent{r.base + r.begin, r.base + r.at}
	from, ok := r.open.pop(name)
	if !ok {
		return unopened{"blocks", string(name), e.inner}
	}
	if e.to-from >= r.source.least {
		r.source.note(from, e)
	}
	if err := r.sink.closes(e.inner, e.to); err != nil {
		return err
	}
	if r.quiet >= 0 && len(r.open.ends) >= r.quiet && r.patterns == (BlockPatterns{}) {
		r.alike(e.to)
	}
	return nil
}

// alike passes over the blocks that are written as the one that has just ended.
func (r *blocksReader) alike(at int) {
	before := r.open.ended(at)
	if before < r.base || before == 0 || at-before > maxAgain {
		return
	}
	length, n := r.rows.pass(r.text[before-r.base:r.at], r.text[r.at:], len(r.text)-r.at-1) // what ends with the window may go on
	if n > 0 {
		r.at += length
		r.open.ended(r.base + r.at)
	}
}

func (r *blocksReader) pair(key, value []byte) error { return r.said(key, value, false) }

var words = []byte("words")

// word adds a bare word to the innermost block.
func (r *blocksReader) word(text []byte) error { return r.said(words, text, true) }

func (r *blocksReader) said(key, value []byte, listed bool) error {
	if err := r.whole(); err != nil {
		return err
	}
	inner := place{r.base + r.value.from, r.base + r.value.to}
	return r.sink.pair(key, value, blockPart{from: r.base + r.begin, to: inner.to, inner: inner, inBraces: r.inBraces, listed: listed})
}

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
