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
	size     int    // how large the next window is
	at       int    // in the window
	patterns BlockPatterns
	sink     blockSink
	open     names // the blocks that are open, and where they begin in the source
	asked    int   // where a block begins in the source that is not passed over; -1 for none
	jumped   bool  // the block that was opened last was passed over
	reach    *int  // blocks that end behind it are not passed over; nil where that is not asked
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
	return &blocksReader{source: text, base: at.from, end: at.to, size: min(window, text.step), patterns: patterns, sink: sink, asked: -1, quiet: -1, rows: again{form: "blocks"}, brace: nextByte{c: '}'}, newline: nextByte{c: '\n'}}
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
	if !r.last() && len(r.text)-r.at <= len(r.text)/2 {
		if err := r.load(r.size); err != nil {
			return false, err
		}
		r.size = min(4*r.size, window, r.source.step)
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
		r.text = append(r.text[:0], r.source.bytes(from, to)...) // whoever is told of a part reads elsewhere
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
	size := 4 * max(len(r.text), r.size)
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
	if !known || from == r.asked || r.reach != nil && e.to > *r.reach {
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
	return r.load(r.size)
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
		return unopened{"blocks", string(name), e.inner, len(r.open.ends) > 0}
	}
	if e.to-from >= r.source.least {
		r.source.note(from, e)
	}
	if err := r.sink.closes(e.inner, e.to); err != nil {
		return err
	}
	if r.quiet >= 0 && len(r.open.ends) >= r.quiet && r.patterns == (BlockPatterns{}) {
		r.alike(from, e.to)
	}
	return nil
}

// alike passes over the blocks that are written as the one that began at from and has just ended.
func (r *blocksReader) alike(from, at int) {
	before := r.open.ended(at)
	if before < r.base || before == 0 || at-before > maxAgain {
		return
	}
	counting, counts := r.sink.(interface{ alike(n int) })
	if counts && len(bytes.TrimSpace(r.text[before-r.base:from-r.base])) > 0 { // there is another part in between
		return
	}
	most := len(r.text) - r.at - 1 // what ends with the window may go on
	if r.reach != nil {
		most = min(most, *r.reach-at)
	}
	length, n := r.rows.pass(r.text[before-r.base:r.at], r.text[r.at:], r.source.toMeeting(at, most))
	if n == 0 {
		return
	}
	r.at += length
	r.open.ended(r.base + r.at)
	if counts {
		counting.alike(n)
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
