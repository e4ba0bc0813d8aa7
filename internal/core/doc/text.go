package doc

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"regexp"
	"strings"

	"ostrov/internal/core/wrap"
)

// compilePattern compiles an RE2 pattern; ^ and $ match at lines, as people expect of a text file.
func compilePattern(query string) (*regexp.Regexp, error) {
	if query == "" {
		return nil, errors.New("empty pattern")
	}
	return regexp.Compile("(?m:" + query + ")")
}

// groups are the groups of a match, by name. "." is the first group without a name, or the whole match.
type groups map[string]place

// groupsOf returns the groups of a match in a text that begins at base; whole is the place for "." if no group without a name matched.
func groupsOf(re *regexp.Regexp, m []int, base int, whole place) groups {
	found := groups{}
	for i, name := range re.SubexpNames() {
		_, had := found["."]
		at := place{base + m[2*i], base + m[2*i+1]}
		switch {
		case m[2*i] < 0 && name == "":
		case m[2*i] < 0:
		case name != "":
			found[name] = at
		case i > 0 && !had:
			found["."] = at
		}
	}
	if _, had := found["."]; !had {
		found["."] = whole
	}
	return found
}

// textReader is a text that is asked with patterns: line by line, so that a match never reaches over the end of a line, or as a whole. Of a large text
// as a whole, pieces are asked that overlap; a match may be maxMatch bytes long.
type textReader struct {
	src   *source
	lines bool
}

const (
	// maxMatch is the longest match in a text of more than wrap.MaxHeld bytes, in bytes.
	maxMatch = 1 << 20
	textStep = 16 << 20
)

func (t *textReader) check(context.Context, []string) error {
	if t.lines {
		return nil
	}
	return t.pieces(func(int, []byte, int) error { return nil })
}

func (t *textReader) says(n *Node) (string, bool, error) {
	at := n.place()
	if g, ok := n.extra.(groups); ok {
		at = g["."]
	}
	raw, err := t.src.bytes(at)
	return string(raw), err == nil, err
}

// errEnough ends a search when the one thing that was wanted is found.
var errEnough = errors.New("enough")

func (t *textReader) find(_ context.Context, of *Node, query string, each bool, visit func(Node) error) (bool, error) {
	at := place{t.src.bom(), t.src.size}
	if of != nil {
		if g, ok := of.extra.(groups); ok {
			return false, visitGroup(g, query, visit)
		}
		at = of.place()
	}
	re, err := compilePattern(query)
	if err != nil {
		return false, err
	}
	if query == "." && of != nil {
		return false, visit(*of)
	}
	told := func(m []int, base int, text []byte, whole place) error {
		if each {
			return visit(Node{From: whole.from, To: whole.to, start: whole.from, value: whole, extra: groupsOf(re, m, base, whole)})
		}
		i := 0
		if len(m) > 2 {
			i = 2
		}
		if m[i] < 0 {
			return nil
		}
		n := Node{From: base + m[i], To: base + m[i+1]}
		if m[i+1] > m[i] && m[i+1] < len(text) && text[m[i+1]-1] == '\r' && text[m[i+1]] == '\n' {
			n.To-- // the end of a line is no part of its value
		}
		n.start, n.value = n.From, n.place()
		if err := visit(n); err != nil {
			return err
		}
		return errEnough // a pattern for one value means the first
	}
	if t.lines {
		err = t.src.eachLine(at, func(from int, line []byte) error {
			if m := re.FindSubmatchIndex(line); m != nil {
				return told(m, from, line, place{from, from + len(line)})
			}
			return nil
		})
	} else {
		err = t.piecesOf(at, func(from int, text []byte, fresh int) error {
			for _, m := range re.FindAllSubmatchIndex(text, -1) {
				if m[0] >= fresh {
					break
				}
				if err := told(m, from, text, place{from + m[0], from + m[1]}); err != nil {
					return err
				}
			}
			return nil
		})
	}
	if err == errEnough {
		err = nil
	}
	return false, err
}

// visitGroup visits the part of a match that a group took.
func visitGroup(g groups, name string, visit func(Node) error) error {
	at, ok := g[name]
	if !ok {
		return nil
	}
	return visit(Node{From: at.from, To: at.to, start: at.from, value: at})
}

func (t *textReader) pieces(visit func(from int, text []byte, fresh int) error) error {
	return t.piecesOf(place{t.src.bom(), t.src.size}, visit)
}

// piecesOf visits a text: whole, or if it is large in pieces that begin with a line. What begins in the first fresh bytes of a piece is whole in it.
func (t *textReader) piecesOf(at place, visit func(from int, text []byte, fresh int) error) error {
	if at.to-at.from <= wrap.MaxHeld {
		text, err := t.src.from(at.from, at.to-at.from)
		if err != nil {
			return err
		}
		return visit(at.from, text[:min(len(text), at.to-at.from)], at.to-at.from+1)
	}
	for from := at.from; from < at.to; {
		text, err := t.src.from(from, textStep+maxMatch)
		if err != nil {
			return err
		}
		text = text[:min(len(text), at.to-from, textStep+maxMatch)]
		fresh := len(text) + 1
		if from+len(text) < at.to {
			if fresh = bytes.LastIndexByte(text[:textStep], '\n') + 1; fresh == 0 {
				return fmt.Errorf("%w: a line of more than %d MiB", wrap.ErrTooLarge, textStep>>20)
			}
		}
		if err := visit(from, text, fresh); err != nil {
			return err
		}
		from += fresh
	}
	return nil
}

// textEdit writes a text.
type textEdit struct{ *textReader }

func (t textEdit) set(n *Node, value string) (change, error) {
	at := n.place()
	if g, ok := n.extra.(groups); ok {
		at = g["."]
	}
	if t.lines && strings.ContainsAny(value, "\r\n") {
		return change{}, fmt.Errorf("%q is more than a line: %w", value, wrap.ErrNotWritable)
	}
	return change{at.from, at.to, value}, nil
}

func (t textEdit) cut(parts []Node) ([]change, error) { return cutLines(t.src, parts, t.lines), nil }

// cutLines takes parts out; as lines, those that stand alone on their lines go with these.
func cutLines(src *source, parts []Node, lines bool) []change {
	var edits []change
	for _, n := range parts {
		from, to := n.From, n.To
		if lines {
			var alone bool
			if from, to, alone = src.lineOf(n.From, n.To); alone && to == src.size && src.byteAt(to-1) != '\n' && from > 0 {
				from-- // the last line has no end of its own
				if from > 0 && src.byteAt(from-1) == '\r' {
					from--
				}
			}
		}
		edits = append(edits, change{from, to, ""})
	}
	return edits
}

func (t textEdit) add(in *Node, after *Node, piece string) (change, error) {
	at := in.To
	if after != nil {
		at = after.To
	}
	if !t.lines {
		return change{at, at, piece}, nil
	}
	return t.src.lineAfter(at, piece), nil
}
