// Package schema reads the SQL that a SQLite database keeps of its tables, indexes, views and triggers, and tells which of it runs when a game reads
// or writes the database.
//
// It goes by the text alone, as SQLite does: what a row of the schema says of its type is not looked at by SQLite, and a hostile file may say
// anything there. It parses no further than words, quotes and comments, in linear time, and never runs anything.
package schema

import (
	"slices"
	"strings"
)

// Trigger reports whether a CREATE statement makes a trigger.
func Trigger(sql string) bool { return kindOf(&lexer{rest: sql}) == "TRIGGER" }

// Runs says what a CREATE statement has run when the game uses the database: "a trigger", "a view that calls hex"; or is "" of tables, indexes, and
// views that only choose and count.
func Runs(sql string) string {
	l := &lexer{rest: sql}
	kind := kindOf(l)
	what := map[string]string{"TABLE": "a table", "INDEX": "an index", "VIEW": "a view", "VIRTUAL": "a table"}[kind]
	switch {
	case kind == "TRIGGER":
		return "a trigger"
	case what == "":
		return ""
	}
	chooses := kind != "VIEW" // what a view is called, and its columns, come first
	before := token{}
	for t := l.next(); t != (token{}); t = l.next() {
		name := strings.ToLower(before.text)
		called := t.text == "(" && before.name
		switch {
		case called && slices.Contains(reaching, name):
			return what + " that calls " + name
		case kind == "VIEW" && chooses && called && !slices.Contains(keywords, name) && !slices.Contains(plain, name):
			return what + " that calls " + name
		case kind == "VIEW" && t.is("RECURSIVE"):
			return what + " that goes on by itself"
		}
		chooses = chooses || t.is("AS")
		before = t
	}
	return ""
}

// reaching are functions that reach outside of the database, where the program that opens it has them (SQLite's shell and extensions).
var reaching = []string{"load_extension", "readfile", "writefile", "edit", "fts3_tokenizer", "eval", "zipfile", "lsdir", "shell"}

// plain are functions that neither reach out nor make much of little.
var plain = []string{"count", "sum", "total", "avg", "min", "max", "coalesce", "ifnull", "nullif", "iif", "abs", "round", "length", "lower", "upper", "trim", "ltrim", "rtrim",
	"substr", "substring", "instr", "date", "time", "datetime", "julianday", "strftime", "unixepoch", "typeof", "row_number", "rank", "dense_rank", "lag", "lead", "first_value", "last_value"}

// keywords may stand before a bracket and call nothing.
var keywords = []string{"in", "values", "as", "on", "using", "and", "or", "not", "exists", "select", "from", "where", "join", "case", "when", "then", "else", "having", "by",
	"over", "filter", "union", "all", "except", "intersect", "between", "like", "distinct", "limit", "offset", "materialized", "cast", "with", "is", "partition"}

// kindOf reads up to what a statement makes: TABLE, INDEX, VIEW, TRIGGER, VIRTUAL, or "".
func kindOf(l *lexer) string {
	if !l.next().is("CREATE") {
		return ""
	}
	t := l.next()
	for t.is("TEMP") || t.is("TEMPORARY") || t.is("UNIQUE") {
		t = l.next()
	}
	if !t.name {
		return ""
	}
	return strings.ToUpper(t.text)
}

// token is a name, quoted or not, or anything else; the zero token is the end.
type token struct {
	text   string
	name   bool
	quoted bool
}

func (t token) is(word string) bool { return t.name && !t.quoted && strings.EqualFold(t.text, word) }

type lexer struct{ rest string }

// cut takes n bytes.
func (l *lexer) cut(n int) string {
	n = min(n, len(l.rest))
	text := l.rest[:n]
	l.rest = l.rest[n:]
	return text
}

// upTo takes everything up to and with an ending.
func (l *lexer) upTo(ending string) string {
	if i := strings.Index(l.rest, ending); i >= 0 {
		return l.cut(i + len(ending))
	}
	return l.cut(len(l.rest))
}

func (l *lexer) next() token {
	for l.rest != "" {
		switch c := l.rest[0]; {
		case strings.IndexByte(" \t\r\n\f", c) >= 0:
			l.cut(1)
		case strings.HasPrefix(l.rest, "--"):
			l.upTo("\n")
		case strings.HasPrefix(l.rest, "/*"):
			l.cut(2)
			l.upTo("*/")
		case c == '\'' || c == '"' || c == '`' || c == '[':
			ending := string(c)
			if c == '[' {
				ending = "]"
			}
			l.cut(1)
			return token{text: strings.TrimSuffix(l.upTo(ending), ending), name: c != '\'', quoted: true}
		case isWord(c):
			n := 1
			for n < len(l.rest) && isWord(l.rest[n]) {
				n++
			}
			return token{text: l.cut(n), name: c < '0' || c > '9'}
		default:
			return token{text: l.cut(1)}
		}
	}
	return token{}
}

func isWord(c byte) bool {
	return c == '_' || c == '$' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c >= 0x80
}
