package form

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"strings"
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

// maxBlockItems bounds the blocks and pairs of one file.
const maxBlockItems = 1_500_000

// blocksReader reads nested blocks into the tree that a JSON file would be: a block is an object; what is called by the name of a block is
// a list of all blocks of that name, in order; a pair is text, or a list of texts where its key repeats; bare words in a block stand under
// "words".
type blocksReader struct {
	text  []byte
	at    int
	stack []map[string]any
	names []string
	items int
	// top, when not nil, is the innermost block with where its parts stand; begin is where the part begins that is being read, value the
	// value of a pair, and inBraces whether that ends at a closing brace.
	top      *blockPart
	begin    int
	value    place
	inBraces bool
	// brace and newline are where these stand next.
	brace, newline nextByte
}

func newBlocksReader(text []byte, top *blockPart) *blocksReader {
	return &blocksReader{text: text, stack: []map[string]any{{}}, names: []string{""}, top: top, brace: nextByte{c: '}'}, newline: nextByte{c: '\n'}}
}

func parseBlocks(data []byte, patterns BlockPatterns) (Doc, error) {
	r := newBlocksReader(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")), nil)
	if i := bytes.IndexByte(r.text, 0); i >= 0 {
		return nil, fmt.Errorf("%w: not text: a zero byte at %d", ErrDamaged, i)
	}
	if err := r.read(patterns); err != nil {
		return nil, err
	}
	return jsonDoc{r.stack[0]}, nil
}

// read reads all of a text.
func (r *blocksReader) read(patterns BlockPatterns) error {
	read := r.usual
	if patterns.Indent {
		read = r.indented
	} else if patterns != (BlockPatterns{}) {
		read = func() error { return r.lines(patterns) }
	}
	if err := read(); err != nil {
		return err
	}
	if len(r.stack) > 1 {
		return fmt.Errorf("%w: the block %.60q is not closed: it ends too early", ErrDamaged, r.names[len(r.names)-1])
	}
	return nil
}

func (r *blocksReader) count() error {
	if r.items++; r.items > maxBlockItems {
		return fmt.Errorf("%w: more than %d blocks and values", ErrTooLarge, maxBlockItems)
	}
	return nil
}

func (r *blocksReader) open(name string) error {
	if len(r.stack) > maxDepth {
		return fmt.Errorf("%w: nested deeper than %d", ErrTooLarge, maxDepth)
	}
	block := map[string]any{}
	top := r.stack[len(r.stack)-1]
	switch was := top[name].(type) {
	case nil:
		top[name] = []any{block}
	case []any:
		top[name] = append(was, block)
	default:
		top[name] = []any{was, block}
	}
	r.stack, r.names = append(r.stack, block), append(r.names, name)
	r.top.opens(&r.top, name, r.begin, r.at)
	return r.count()
}

// close ends the innermost block; name is "" where the text does not say which.
func (r *blocksReader) close(name string) error {
	last := len(r.stack) - 1
	if last == 0 || name != "" && name != r.names[last] {
		return fmt.Errorf("%w: %.60q is closed and was not open", ErrDamaged, name)
	}
	r.stack, r.names = r.stack[:last], r.names[:last]
	r.top.closes(&r.top, r.begin, r.at)
	return nil
}

func (r *blocksReader) pair(key, value string) error {
	r.top.pair(key, r.begin, r.value, r.inBraces)
	top := r.stack[len(r.stack)-1]
	switch was := top[key].(type) {
	case nil:
		top[key] = value
	case []any:
		top[key] = append(was, value)
	default:
		top[key] = []any{was, value}
	}
	return r.count()
}

func (r *blocksReader) lines(p BlockPatterns) error {
	open, shut, pair := regexp.MustCompile(p.Open), regexp.MustCompile(p.Close), regexp.MustCompile(p.Pair)
	for r.at < len(r.text) {
		line := r.line()
		var err error
		if m := shut.FindStringSubmatch(line); m != nil {
			name := ""
			if i := shut.SubexpIndex("name"); i >= 0 {
				name = m[i]
			}
			err = r.close(name)
		} else if m := open.FindStringSubmatch(line); m != nil {
			err = r.open(m[open.SubexpIndex("name")])
		} else if m := pair.FindStringSubmatchIndex(line); m != nil {
			key, value := 2*pair.SubexpIndex("key"), 2*pair.SubexpIndex("value")
			r.value = place{r.begin + m[value], r.begin + m[value+1]}
			err = r.pair(line[m[key]:m[key+1]], unquote(line[m[value]:m[value+1]]))
		}
		if err != nil {
			return err
		}
		r.at = min(r.at+1, len(r.text)) // behind the end of the line
		if r.at < len(r.text) && r.text[r.at-1] == '\r' {
			r.at++
		}
	}
	return nil
}

// line reads a line up to its end.
func (r *blocksReader) line() string {
	r.begin = r.at
	if n := bytes.IndexByte(r.text[r.at:], '\n'); n >= 0 {
		r.at += n
	} else {
		r.at = len(r.text)
	}
	if r.at > r.begin && r.at < len(r.text) && r.text[r.at-1] == '\r' {
		r.at--
	}
	return strings.TrimSuffix(string(r.text[r.begin:r.at]), "\r")
}

func unquote(s string) string {
	if len(s) >= 2 && s[0] == '"' && s[len(s)-1] == '"' {
		return strings.ReplaceAll(s[1:len(s)-1], `""`, `"`)
	}
	return s
}

// usual reads both usual ways, [name] … [/name] and name { … }, which may be mixed. Values run to the end of the line in the first and to
// white space in the second; in quotes they hold anything, a quote being doubled or behind a backslash. A # begins a line of comment.
func (r *blocksReader) usual() error {
	for {
		r.space(" \t\r\n,;")
		r.begin = r.at
		if r.at >= len(r.text) {
			return nil
		}
		var err error
		switch c := r.text[r.at]; c {
		case '#':
			r.until("\n")
		case '}':
			r.at++
			err = r.close("")
		case '[':
			r.at++
			name := r.until("]\n")
			if r.at >= len(r.text) || r.text[r.at] != ']' {
				return fmt.Errorf("%w: a [ without ]", ErrDamaged)
			}
			r.at++
			if ending, ok := strings.CutPrefix(name, "/"); ok {
				err = r.close(ending)
			} else {
				err = r.open(name)
				r.names[len(r.names)-1] = name
			}
		default:
			err = r.named()
		}
		if err != nil {
			return err
		}
	}
}

// named reads what begins with a word: a pair, a block in braces, or the word alone.
func (r *blocksReader) named() error {
	var word string
	if r.text[r.at] == '"' {
		word = r.quoted()
	} else if word = strings.TrimRight(r.until("={}[]\"\n \t\r"), " \t"); word == "" {
		r.at++ // a stray = or ]
		return nil
	}
	end := r.at - len(gapBefore(r.text[r.begin:r.at], r.at-r.begin))
	r.space(" \t\r\n")
	switch {
	case r.at < len(r.text) && r.text[r.at] == '{':
		r.at++
		return r.open(word)
	case r.at >= len(r.text) || r.text[r.at] != '=':
		r.value, r.inBraces = place{r.begin, end}, false
		return r.pair("words", word)
	}
	r.at++
	r.space(" \t")
	switch {
	case r.at < len(r.text) && r.text[r.at] == '{':
		r.at++
		return r.open(word)
	case r.at < len(r.text) && r.text[r.at] == '"':
		from := r.at
		value := r.quoted()
		r.value, r.inBraces = place{from, r.at}, false
		return r.pair(word, value)
	}
	ends := "\n"
	if r.inBraces = r.braces(); r.inBraces {
		ends = " \t\r\n}"
	}
	from := r.at
	value := strings.TrimSpace(r.until(ends))
	r.value = place{from, from + len(value)}
	return r.pair(word, value)
}

// braces reports whether a value here ends at a closing brace on its line.
func (r *blocksReader) braces() bool {
	return len(r.stack) > 1 && r.brace.find(r.text, r.at) < r.newline.find(r.text, r.at)
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

func (r *blocksReader) space(set string) {
	for r.at < len(r.text) && strings.IndexByte(set, r.text[r.at]) >= 0 {
		r.at++
	}
}

// until reads up to one of the characters of set, or the end.
func (r *blocksReader) until(set string) string {
	from := r.at
	if i := bytes.IndexAny(r.text[r.at:], set); i >= 0 {
		r.at += i
	} else {
		r.at = len(r.text)
	}
	return string(r.text[from:r.at])
}

func (r *blocksReader) quoted() string {
	var b strings.Builder
	for r.at++; r.at < len(r.text); r.at++ {
		c := r.text[r.at]
		next := byte(0)
		if r.at+1 < len(r.text) {
			next = r.text[r.at+1]
		}
		switch {
		case c == '\\' && (next == '"' || next == '\\'), c == '"' && next == '"':
			r.at++
			b.WriteByte(next)
		case c == '"':
			r.at++
			return b.String()
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}
