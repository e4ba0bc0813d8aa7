package doc

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"slices"

	"ostrov/internal/core/wrap"
)

// BlockPatterns describes the form blocks line by line, if a file is not written in the usual ways: open names a block by its group name, close ends
// one, and pair has the groups key and value. A description gives all three or none. With Indent, indentation gives the depth instead.
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

// blockScan goes once over a text of nested blocks. A block is an object; what has the name of a block is one of a list of all blocks of that name;
// a pair is text, and one of a list if its key repeats; bare words in a block are a list called "words".
type blockScan struct {
	*source
	patterns BlockPatterns
	out      sink
	open     []event // the blocks that are open
	names    nameStack
	quiet    int   // in so many open blocks nobody asks what there is; 0 is nowhere
	one      event // the pair that is told

	text  []byte // the window
	base  int    // where it begins in the source
	at    int    // how far it has been read
	end   int    // where the text ends in the source
	short bool   // what was read last ends with the window, and may go on
	begin int    // where the part begins that is being read, in the window
	// brace and newline remember the next place of each in the window.
	brace, newline nextByte
}

func (s *blockScan) whole(out sink) error { return s.run(place{s.bom(), s.size}, out) }

func (s *blockScan) inside(n *Node, out sink) error {
	if n.kind != kindBlock {
		e := n.event()
		if n.says != nil {
			e.raw = []byte(*n.says)
		}
		return out.leaf(&e)
	}
	inner := blockScan{source: s.source, patterns: s.patterns}
	return inner.run(n.place(), out)
}

func (s *blockScan) decode(e *event) (string, error) { return string(e.raw), nil }

func (s *blockScan) content(n *Node) (string, bool, error) {
	if n.kind != kindPair || n.says == nil {
		return "", false, nil
	}
	return *n.says, true, nil
}

// run goes over a part of the text.
func (s *blockScan) run(at place, out sink) error {
	s.out, s.open, s.names, s.quiet = out, s.open[:0], s.names[:0], 0
	s.base, s.at, s.end, s.text = at.from, 0, at.to, nil
	s.brace.c, s.newline.c = '}', '\n'
	if err := s.load(s.step); err != nil {
		return err
	}
	read := s.usual
	if s.patterns.Indent {
		read = s.indented
	} else if s.patterns != (BlockPatterns{}) {
		read = s.lines
	}
	if err := read(); err != nil {
		return err
	}
	if n := len(s.open); n > 0 {
		return fmt.Errorf("%w: the block %.60q is not closed: it ends too early", wrap.ErrDamaged, s.open[n-1].name)
	}
	return nil
}

// more makes the window begin where the text has been read to, if little is left of it; it reports whether there is anything.
func (s *blockScan) more() (bool, error) {
	s.short = false
	if !s.last() && len(s.text)-s.at <= len(s.text)/2 {
		if err := s.load(s.step); err != nil {
			return false, err
		}
	}
	return s.at < len(s.text), nil
}

// last reports whether the window reaches to the end.
func (s *blockScan) last() bool { return s.base+len(s.text) >= s.end }

// load makes the window begin where the text has been read to, with at least so many bytes.
func (s *blockScan) load(size int) error {
	from := s.base + s.at
	part, err := s.from(from, min(size, s.end-from))
	if err != nil {
		return err
	}
	s.text, s.base, s.at = part[:min(len(part), s.end-from)], from, 0
	s.brace.known, s.newline.known = false, false
	if i := bytes.IndexByte(s.text, 0); i >= 0 {
		return fmt.Errorf("%w: not text: a zero byte at %d", wrap.ErrDamaged, from+i)
	}
	return nil
}

// again makes the window larger, to read once more from at on what did not fit.
func (s *blockScan) again(at int) error {
	size := 4 * max(len(s.text), s.step)
	if s.at = at; size > 4*maxPiece {
		return fmt.Errorf("%w: a part of more than %d MiB", wrap.ErrTooLarge, maxPiece>>20)
	}
	s.short = false
	return s.load(size)
}

// fits is an error if what was read last may go on behind the window.
func (s *blockScan) fits() error {
	if s.short && !s.last() {
		return errShort
	}
	return nil
}

// opens begins a block.
func (s *blockScan) opens(name []byte) error {
	if err := s.fits(); err != nil {
		return err
	}
	if len(s.open) >= maxDepth {
		return fmt.Errorf("%w: nested deeper than %d", wrap.ErrTooLarge, maxDepth)
	}
	name = s.names.push(name)
	from, to, n := s.base+s.begin, s.base+s.at, len(s.open)
	if s.open = slices.Grow(s.open, 1)[:n+1]; s.quiet > 0 {
		s.open[n].name = name
		return nil
	}
	s.open[n] = event{kind: kindBlock, name: name, named: true, listed: true, start: from, from: from, value: place{to, to}}
	skip, err := s.out.begin(&s.open[n])
	if skip {
		s.quiet = n + 1
	}
	return err
}

// close ends the innermost block; name is nil if the text gives no name.
func (s *blockScan) close(name []byte) error {
	if err := s.fits(); err != nil {
		return err
	}
	inner, to := s.base+s.begin, s.base+s.at
	if len(s.open) == 0 {
		return fmt.Errorf("%w: %q is closed at byte %d, and nothing is open", wrap.ErrDamaged, name, inner)
	}
	e := &s.open[len(s.open)-1]
	if name != nil && !bytes.Equal(name, e.name) {
		return fmt.Errorf("%w: %.60q is closed at byte %d, and %.60q is open", wrap.ErrDamaged, name, inner, e.name)
	}
	var err error
	if s.quiet == 0 || s.quiet == len(s.open) {
		s.quiet = 0
		e.value.to, e.to = max(e.value.from, inner), to
		err = s.out.end(e)
	}
	s.names.pop(e.name)
	s.open = s.open[:len(s.open)-1]
	return err
}

var words = []byte("words")

// pair reports a key with its value, whose place in the window includes the quotes.
func (s *blockScan) pair(key, value []byte, at place, inBraces bool) error {
	return s.said(key, value, at, inBraces, false)
}

// word tells a bare word; as one of the innermost block's further words it is listed.
func (s *blockScan) word(text []byte, at place) error { return s.said(words, text, at, false, true) }

func (s *blockScan) said(key, value []byte, at place, inBraces, listed bool) error {
	if err := s.fits(); err != nil || s.quiet > 0 {
		return err
	}
	from := s.base + s.begin
	at.from, at.to = at.from+s.base, at.to+s.base
	s.one = event{kind: kindPair, name: key, named: true, raw: value, plain: true, start: from, from: from, to: at.to, value: at, inBraces: inBraces, listed: listed}
	return s.out.leaf(&s.one)
}

// lines reads text whose lines are told by patterns.
func (s *blockScan) lines() error {
	p := s.patterns
	open, shut, pair := regexp.MustCompile(p.Open), regexp.MustCompile(p.Close), regexp.MustCompile(p.Pair)
	for {
		if some, err := s.more(); err != nil || !some {
			return err
		}
		at := s.at
		line := s.line()
		if s.short && !s.last() {
			if err := s.again(at); err != nil {
				return err
			}
			continue
		}
		var err error
		if m := shut.FindSubmatch(line); m != nil {
			var name []byte
			if i := shut.SubexpIndex("name"); i >= 0 && len(m[i]) > 0 {
				name = m[i]
			}
			err = s.close(name)
		} else if m := open.FindSubmatch(line); m != nil {
			err = s.opens(m[open.SubexpIndex("name")])
		} else if m := pair.FindSubmatchIndex(line); m != nil {
			key, value := 2*pair.SubexpIndex("key"), 2*pair.SubexpIndex("value")
			if m[key] >= 0 && m[value] >= 0 {
				err = s.pair(line[m[key]:m[key+1]], unquote(line[m[value]:m[value+1]]), place{s.begin + m[value], s.begin + m[value+1]}, false)
			}
		}
		if err != nil {
			return err
		}
		s.nextLine(s.at)
	}
}

// line reads a line up to its end.
func (s *blockScan) line() []byte {
	s.begin = s.at
	if n := bytes.IndexByte(s.text[s.at:], '\n'); n >= 0 {
		s.at += n
	} else {
		s.at, s.short = len(s.text), true
	}
	if s.at > s.begin && s.text[s.at-1] == '\r' && (s.at < len(s.text) || s.last()) {
		s.at--
	}
	return s.text[s.begin:s.at]
}

// nextLine moves to the beginning of the next line.
func (s *blockScan) nextLine(end int) {
	for s.at = end; s.at < len(s.text) && s.text[s.at] != '\n'; s.at++ {
	}
	s.at = min(s.at+1, len(s.text))
}

func unquote(s []byte) []byte {
	if len(s) >= 2 && s[0] == '"' && s[len(s)-1] == '"' {
		return bytes.ReplaceAll(s[1:len(s)-1], []byte(`""`), []byte(`"`))
	}
	return s
}

func depthOf(line []byte) int { return len(line) - len(bytes.TrimLeft(line, " \t")) }
