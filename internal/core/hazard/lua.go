package hazard

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
)

// mayBeLua reports whether a file is Lua source by its ending, or begins as tables of data in Lua do.
func mayBeLua(name string, head []byte) bool {
	if strings.EqualFold(path.Ext(name), ".lua") {
		return bytes.IndexByte(head, 0) < 0
	}
	text := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	for _, begin := range []string{"return {", "return{", "return loadstring", "do local ", "local function ", "local _ "} {
		if bytes.HasPrefix(text, []byte(begin)) {
			return true
		}
	}
	return false
}

// maxLua bounds how much Lua source is read, in bytes.
const maxLua = 256 << 20

// scanLua says what in a Lua source is more than data, or is "". Data is assignments and returns of literals and tables: anything that
// calls, loops or defines is code. Source of the lexical rules: Lua 5.4 Reference Manual, §3.1.
func scanLua(r *bufio.Reader) string {
	l := &luaReader{r: bufio.NewReader(io.LimitReader(r, maxLua))}
	before := luaToken{}
	for {
		t, err := l.next()
		switch {
		case err == io.EOF:
			return ""
		case err != nil:
			return "" // not Lua after all
		}
		callable := before.kind == 'n' || before.text == ")" || before.text == "]"
		switch {
		case t.kind == 'w':
			return fmt.Sprintf("%q in line %d", t.text, l.line)
		case t.text == "(" && callable, t.text == ":" && callable:
			return fmt.Sprintf("a call of %.40q in line %d", before.text, l.line)
		case (t.kind == 's' || t.text == "{") && before.kind == 'n':
			return fmt.Sprintf("a call of %.40q in line %d", before.text, l.line)
		}
		before = t
	}
}

// luaToken is a name (n), a keyword of code (w), a text (s), a number (d), or punctuation (0).
type luaToken struct {
	kind byte
	text string
}

type luaReader struct {
	r    *bufio.Reader
	line int
}

// luaCode are the keywords that data has no use for; luaData those that it may have.
var luaCode = map[string]bool{"function": true, "for": true, "while": true, "repeat": true, "goto": true, "if": true, "until": true}
var luaData = map[string]bool{"return": true, "local": true, "true": true, "false": true, "nil": true, "do": true, "end": true, "and": true, "or": true, "not": true}

var errNotLua = errors.New("not Lua")

func (l *luaReader) byte() (byte, error) {
	c, err := l.r.ReadByte()
	if c == '\n' {
		l.line++
	}
	return c, err
}

func (l *luaReader) peek() byte {
	b, _ := l.r.Peek(1)
	if len(b) == 0 {
		return 0
	}
	return b[0]
}

func (l *luaReader) next() (luaToken, error) {
	if l.line == 0 {
		l.line = 1
	}
	for {
		c, err := l.byte()
		if err != nil {
			return luaToken{}, err
		}
		switch {
		case strings.IndexByte(" \t\r\n\v\f", c) >= 0:
		case c == '-' && l.peek() == '-':
			if err := l.comment(); err != nil {
				return luaToken{}, err
			}
		case c == '"' || c == '\'':
			return luaToken{'s', "text"}, l.quoted(c)
		case c == '[' && (l.peek() == '[' || l.peek() == '='):
			long, err := l.long()
			if long || err != nil {
				return luaToken{'s', "text"}, err
			}
			return luaToken{0, "["}, nil
		case isWord(c) && (c < '0' || c > '9'):
			return l.word(c), nil
		case c >= '0' && c <= '9':
			for p := l.peek(); isWord(p) || p == '.'; p = l.peek() {
				_, _ = l.byte()
			}
			return luaToken{'d', "number"}, nil
		case c == 0:
			return luaToken{}, errNotLua
		default:
			return luaToken{0, string(rune(c))}, nil
		}
	}
}

func isWord(c byte) bool {
	return c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c >= 0x80
}

func (l *luaReader) word(c byte) luaToken {
	b := []byte{c}
	for isWord(l.peek()) {
		c, _ := l.byte()
		if len(b) < 100 {
			b = append(b, c)
		}
	}
	w := string(b)
	switch {
	case luaCode[w]:
		return luaToken{'w', w}
	case luaData[w]:
		return luaToken{0, w}
	}
	return luaToken{'n', w}
}

func (l *luaReader) quoted(end byte) error {
	for {
		c, err := l.byte()
		if err != nil {
			return err
		}
		switch c {
		case end:
			return nil
		case '\\':
			if _, err := l.byte(); err != nil {
				return err
			}
		}
	}
}

// comment reads what stands behind --, to the end of the line or of its long bracket.
func (l *luaReader) comment() error {
	_, _ = l.byte()
	if l.peek() == '[' {
		_, _ = l.byte()
		if long, err := l.long(); long || err != nil {
			return err
		}
	}
	for {
		c, err := l.byte()
		if err != nil || c == '\n' {
			return err
		}
	}
}

// long reads a long bracket whose first [ is read already, and reports whether it was one.
func (l *luaReader) long() (bool, error) {
	level := 0
	for l.peek() == '=' {
		_, _ = l.byte()
		level++
	}
	if l.peek() != '[' {
		return false, nil
	}
	_, _ = l.byte()
	for seen := -1; ; {
		c, err := l.byte()
		switch {
		case err != nil:
			return true, err
		case c == ']' && seen == level:
			return true, nil
		case c == ']':
			seen = 0
		case c == '=' && seen >= 0:
			seen++
		default:
			seen = -1
		}
	}
}
