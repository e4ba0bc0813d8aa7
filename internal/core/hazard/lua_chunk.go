package hazard

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
)

// luaChunk says what in a text, whatever it is called, is code of Lua, or is "" where it is no Lua or only data. A text is Lua if all of its first bytes
// can be read by Lua's syntax (Lua 5.4 Reference Manual, §9), which prose and other formats for data cannot, beyond a line such as Backup (2) or
// color = rgb(1, 2, 3): that is not taken for code.
func luaChunk(head []byte) string {
	if !bytes.ContainsAny(head, "({\"'") || bytes.IndexByte(head, 0) >= 0 {
		return ""
	}
	p := &luaSyntax{l: &luaReader{r: reading(head)}, cut: len(head) == headSize}
	p.next()
	p.block()
	if p.bad || !p.end || !p.strong && (p.calls == 0 || p.statements < 2) {
		return ""
	}
	return p.code
}

// luaSyntax reads Lua by its syntax. After the first mistake everything is at its end.
type luaSyntax struct {
	l     *luaReader
	t     luaToken // that comes next
	line  int      // of the one before
	end   bool     // there is none
	cut   bool     // what is read is not all of the text
	bad   bool
	depth int
	code  string // the first thing that is more than data

	statements, calls int  // and how many of these are calls
	strong            bool // there is a loop, a function, or a call of what is in a table
}

// maxLuaDepth is how deep Lua itself nests (LUAI_MAXCCALLS).
const maxLuaDepth = 200

// luaLoaders are the functions that run what a text says, or names.
var luaLoaders = []string{"load", "loadstring", "loadfile", "dofile", "require"}

var luaKeywords = []string{"and", "break", "do", "else", "elseif", "end", "false", "for", "function", "goto", "if", "in", "local", "nil", "not", "or", "repeat", "return", "then", "true", "until", "while"}

func (p *luaSyntax) next() {
	if p.end {
		return
	}
	p.line = max(p.l.line, 1)
	t, err := p.l.next()
	if err != nil {
		p.bad = p.bad || err != io.EOF && !p.cut
		p.end, p.t = true, luaToken{}
		return
	}
	if t.kind == 'n' && slices.Contains(luaKeywords, t.text) || t.kind == 'w' {
		t.kind = 0
	}
	for t.kind == 0 && strings.Contains("=~<>./:", t.text) && len(t.text) < 3 { // .. and == are of two characters, ... of three
		c := p.l.peek()
		if c != '=' && (c != t.text[0] || strings.IndexByte("./<>:", c) < 0) || t.text == ":" && c == '=' || len(t.text) == 2 && t.text != ".." {
			break
		}
		_, _ = p.l.byte()
		t.text += string(rune(c))
	}
	p.t = t
}

func (p *luaSyntax) fail() {
	if !p.end || !p.cut {
		p.bad = true
	}
	p.end, p.t = true, luaToken{}
}

// is reports whether a keyword or sign comes next.
func (p *luaSyntax) is(text string) bool { return !p.end && p.t.kind == 0 && p.t.text == text }

// takes passes over a keyword or sign, if it comes next.
func (p *luaSyntax) takes(text string) bool {
	if !p.is(text) {
		return false
	}
	p.next()
	return true
}

func (p *luaSyntax) want(text string) {
	if !p.takes(text) {
		p.fail()
	}
}

func (p *luaSyntax) name() string {
	name := p.t.text
	if p.end || p.t.kind != 'n' {
		p.fail()
		return ""
	}
	p.next()
	return name
}

func (p *luaSyntax) notes(format string, args ...any) {
	if p.code == "" {
		p.code = fmt.Sprintf(format, args...) + fmt.Sprintf(" in line %d", p.line)
	}
}

// block reads statements up to what ends them.
func (p *luaSyntax) block() {
	if p.depth++; p.depth > maxLuaDepth {
		p.fail()
	}
	defer func() { p.depth-- }()
	for !p.end {
		switch {
		case p.is("end"), p.is("else"), p.is("elseif"), p.is("until"):
			if p.depth == 1 {
				p.fail()
			}
			return
		case p.takes("return"):
			if !p.end && !p.is("end") && !p.is("else") && !p.is("elseif") && !p.is("until") && !p.is(";") {
				p.expressions()
			}
			p.takes(";")
		default:
			p.statement()
		}
	}
}

func (p *luaSyntax) statement() {
	if word := p.t.text; p.t.kind == 0 && slices.Contains([]string{"while", "repeat", "if", "for", "function", "goto"}, word) {
		p.line = p.l.line
		p.notes("%q", word)
		p.strong = true
	}
	p.statements++
	switch {
	case p.takes(";"), p.takes("break"):
	case p.takes("goto"):
		p.name()
	case p.takes("::"):
		p.name()
		p.want("::")
	case p.takes("do"):
		p.block()
		p.want("end")
	case p.takes("while"):
		p.expression()
		p.want("do")
		p.block()
		p.want("end")
	case p.takes("repeat"):
		p.block()
		p.want("until")
		p.expression()
	case p.takes("if"):
		p.branches()
	case p.takes("for"):
		p.names()
		if !p.takes("=") {
			p.want("in")
		}
		p.expressions()
		p.want("do")
		p.block()
		p.want("end")
	case p.takes("function"):
		p.name()
		for p.takes(".") || p.takes(":") {
			p.name()
		}
		p.function()
	case p.takes("local"):
		if p.takes("function") {
			p.notes("%q", "function")
			p.strong = true
			p.name()
			p.function()
			return
		}
		p.names()
		if p.takes("=") {
			p.expressions()
		}
	default:
		p.assignment()
	}
}

func (p *luaSyntax) branches() {
	p.expression()
	p.want("then")
	p.block()
	for p.takes("elseif") {
		p.expression()
		p.want("then")
		p.block()
	}
	if p.takes("else") {
		p.block()
	}
	p.want("end")
}

func (p *luaSyntax) names() {
	for p.name(); !p.end; p.name() {
		if p.takes("<") { // an attribute
			p.name()
			p.want(">")
		}
		if !p.takes(",") {
			return
		}
	}
}

// assignment reads a call, or what gets values.
func (p *luaSyntax) assignment() {
	called := p.suffixed()
	if called && !p.is(",") && !p.is("=") {
		p.calls++
		return
	}
	for p.takes(",") {
		p.suffixed()
	}
	p.want("=")
	p.expressions()
}

func (p *luaSyntax) expressions() {
	for p.expression(); p.takes(","); {
		p.expression()
	}
}

var luaBinary = []string{"+", "-", "*", "/", "//", "^", "%", "&", "~", "|", ">>", "<<", "..", "<", "<=", ">", ">=", "==", "~=", "and", "or"}

func (p *luaSyntax) expression() {
	if p.depth++; p.depth > maxLuaDepth {
		p.fail()
	}
	defer func() { p.depth-- }()
	for {
		for p.takes("not") || p.takes("#") || p.takes("-") || p.takes("~") {
		}
		p.operand()
		if p.end || p.t.kind != 0 || !slices.Contains(luaBinary, p.t.text) {
			return
		}
		p.next()
	}
}

func (p *luaSyntax) operand() {
	switch {
	case p.end:
		p.fail()
	case p.t.kind == 's', p.t.kind == 'd':
		p.next()
	case p.takes("nil"), p.takes("true"), p.takes("false"), p.takes("..."):
	case p.is("{"):
		p.table()
	case p.takes("function"):
		p.notes("%q", "function")
		p.strong = true
		p.function()
	default:
		p.suffixed()
	}
}

func (p *luaSyntax) function() {
	p.want("(")
	for !p.end && !p.is(")") {
		if !p.takes("...") {
			p.name()
		}
		if !p.takes(",") {
			break
		}
	}
	p.want(")")
	p.block()
	p.want("end")
}

func (p *luaSyntax) table() {
	p.want("{")
	for !p.end && !p.is("}") {
		if p.takes("[") {
			p.expression()
			p.want("]")
			p.want("=")
		}
		p.expression()
		if p.takes("=") { // what was read was a name
			p.expression()
		}
		if !p.takes(",") && !p.takes(";") {
			break
		}
	}
	p.want("}")
}

// suffixed reads a name or what stands in brackets, with indexes and calls behind it, and reports whether the last of them is a call.
func (p *luaSyntax) suffixed() (called bool) {
	what, inTable := p.t.text, false
	if p.takes("(") {
		p.expression()
		p.want(")")
	} else {
		p.name()
	}
	for !p.end {
		switch {
		case p.takes("."):
			what, called, inTable = p.name(), false, true
			continue
		case p.takes("["):
			p.expression()
			p.want("]")
			called, inTable = false, true
			continue
		case p.takes(":"):
			what, inTable = p.name(), true
			if !p.is("(") && !p.is("{") && p.t.kind != 's' {
				p.fail()
			}
		}
		text := p.t.kind == 's'
		switch {
		case p.takes("("):
			text = p.t.kind == 's'
			if !p.is(")") {
				p.expressions()
			}
			p.want(")")
		case p.t.kind == 's':
			p.next()
		case p.is("{"):
			p.table()
		default:
			return called
		}
		p.notes("a call of %.40q", what)
		called, p.strong = true, p.strong || inTable || text && slices.Contains(luaLoaders, what)
	}
	return called
}
