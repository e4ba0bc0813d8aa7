package doc

import (
	"fmt"
	"strconv"
	"strings"

	"ostrov/internal/core/wrap"
)

// step is one step of a path in the streaming subset. JSON: $.name, $['name'], [0], [*], [?(@.member == 'text')]. XML: name or *, with [1],
// [@attribute = 'text'] or [member = 'text'] behind it, and as the last @attribute.
type step struct {
	name      string // of a child; "" in JSON where the step is of elements
	all       bool   // every child
	attribute bool   // name is that of an attribute
	index     int    // counted from 0; -1 for no index
	pick      bool   // of blocks: it is of those that have the name, not of their list
	where     *equal
}

// equal keeps the elements in which a member or attribute equals a text.
type equal struct {
	member    string
	attribute bool
	text      string
}

// Streams reports whether a query is of the streaming subset: it can be asked of files of every size, and its values can be written. Others can be
// asked of JSON, XML and blocks of up to maxTree bytes.
func Streams(form, query string) bool {
	ok := true
	switch form {
	case "json", "blocks":
		_, ok = jsonSteps(query)
	case "xml":
		_, ok = xmlSteps(query)
	}
	return ok
}

// errSubset refuses a query that is not of the streaming subset in a file of more than maxTree bytes.
func errSubset(query string) error {
	return fmt.Errorf("%w: %q cannot be asked of more than %d MiB; ask for children by name, [0], [*] or [?(@.member == 'text')], in XML for children, [1], [@attribute='text'] and @attribute",
		wrap.ErrTooLarge, query, maxTree>>20)
}

// jsonSteps reads a JSONPath; false means that it is not of the subset.
func jsonSteps(query string) ([]step, bool) {
	rest, ok := strings.CutPrefix(query, "$")
	var steps []step
	for ok && rest != "" {
		var s step
		switch {
		case strings.HasPrefix(rest, ".*"):
			s, rest = step{all: true, index: -1}, rest[2:]
		case rest[0] == '.':
			end := strings.IndexAny(rest[1:], ".[")
			if end < 0 {
				end = len(rest) - 1
			}
			s, rest = step{name: rest[1 : 1+end], index: -1}, rest[1+end:]
			ok = s.name != "" && s.name[0] != '-' && isName("_"+s.name) // many are numbers
		case rest[0] == '[':
			inner, after, closed := cutBracket(rest, '\\')
			rest = after
			s, ok = jsonBracket(strings.TrimSpace(inner))
			ok = ok && closed
		default:
			ok = false
		}
		steps = append(steps, s)
	}
	return steps, ok
}

// jsonBracket reads the inside of brackets.
func jsonBracket(inner string) (step, bool) {
	if inner == "*" {
		return step{all: true, index: -1}, true
	}
	if name, ok := escapedText(inner); ok {
		return step{name: name, index: -1}, name != ""
	}
	if filter, ok := strings.CutPrefix(inner, "?"); ok {
		filter = strings.TrimSpace(filter)
		if in, ok := strings.CutPrefix(filter, "("); ok {
			if filter, ok = strings.CutSuffix(in, ")"); !ok {
				return step{}, false
			}
		}
		left, right, ok := strings.Cut(filter, "==")
		member, isMember := strings.CutPrefix(strings.TrimSpace(left), "@.")
		text, isText := escapedText(strings.TrimSpace(right))
		return step{all: true, index: -1, where: &equal{member: member, text: text}}, ok && isMember && isText && isName(member)
	}
	n, err := strconv.Atoi(inner)
	return step{index: n}, err == nil && n >= 0 && inner[0] != '+' && inner[0] != '-'
}

// xmlSteps reads a path; one that begins with / starts at the root, which is a first step without a name.
func xmlSteps(query string) ([]step, bool) {
	var steps []step
	rest, absolute := strings.CutPrefix(query, "/")
	if absolute {
		steps = append(steps, step{index: -1})
	}
	if rest == "." && !absolute {
		return steps, true
	}
	rest = strings.TrimPrefix(rest, "./")
	for rest != "" {
		end := strings.IndexAny(rest, "/[")
		if end < 0 {
			end = len(rest)
		}
		s := step{name: rest[:end], index: -1}
		rest = rest[end:]
		if s.name, s.attribute = strings.CutPrefix(s.name, "@"); s.name == "*" && !s.attribute {
			s.all = true
		} else if !isName(strings.NewReplacer(":", "_", ".", "_").Replace(s.name)) || strings.Contains(s.name, "::") || strings.Trim(s.name, ".:") != s.name {
			return nil, false
		}
		if strings.HasPrefix(rest, "[") && !s.attribute {
			inner, after, ok := cutBracket(rest, 0)
			if rest = after; !ok || !xmlPredicate(strings.TrimSpace(inner), &s) {
				return nil, false
			}
		}
		steps = append(steps, s)
		if rest == "" {
			return steps, true
		}
		next, ok := strings.CutPrefix(rest, "/")
		if !ok || s.attribute || next == "" {
			return nil, false
		}
		rest = next
	}
	return nil, false
}

func xmlPredicate(inner string, s *step) bool {
	if n, err := strconv.Atoi(inner); err == nil {
		s.index = n - 1
		return n > 0
	}
	left, right, ok := strings.Cut(inner, "=")
	e := &equal{}
	e.member, e.attribute = strings.CutPrefix(strings.TrimSpace(left), "@")
	text, isText := quotedText(strings.TrimSpace(right))
	e.text = text
	s.where = e
	return ok && isText && isName(e.member)
}

// isName reports whether a name in a path is one without doubt, and no function, axis or operator.
func isName(s string) bool {
	for i, c := range s {
		letter := c == '_' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c > 0x7f
		if !letter && (i == 0 || c != '-' && (c < '0' || c > '9')) {
			return false
		}
	}
	return s != ""
}

// stepTo returns the step to a member, as jsonSteps reads it. A member without a name has no step.
func stepTo(name string) string {
	if isName(name) && !strings.Contains(name, "-") { // which the reader of trees takes for a sum
		return "." + name
	}
	return "['" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(name) + "']"
}

// Step is the step of a query to a member of a name, in JSON and blocks.
func Step(name string) string { return stepTo(name) }

// quotedText returns the inside of quotes, if it has no escapes.
func quotedText(s string) (string, bool) {
	if len(s) < 2 || s[0] != '\'' && s[0] != '"' || s[len(s)-1] != s[0] || strings.ContainsAny(s[1:len(s)-1], `'"\`) {
		return "", false
	}
	return s[1 : len(s)-1], true
}

// escapedText returns the inside of quotes in a JSONPath, where a backslash comes before a quote or a backslash. Texts with other escapes are left to
// the library.
func escapedText(s string) (string, bool) {
	if len(s) < 2 || s[0] != '\'' && s[0] != '"' || s[len(s)-1] != s[0] {
		return "", false
	}
	var text strings.Builder
	for i := 1; i < len(s)-1; i++ {
		if s[i] == s[0] {
			return "", false
		}
		if s[i] == '\\' {
			if i++; i == len(s)-1 || s[i] != s[0] && s[i] != '\\' {
				return "", false
			}
		}
		text.WriteByte(s[i])
	}
	return text.String(), true
}

// cutBracket cuts [inner] from what follows; quotes may hold brackets, and quotes behind an escape, if there is one.
func cutBracket(s string, escape byte) (inner, after string, ok bool) {
	var quote byte
	for i := 1; i < len(s); i++ {
		switch c := s[i]; {
		case quote != 0:
			if c == escape && c != 0 {
				i++
			} else if c == quote {
				quote = 0
			}
		case c == '\'' || c == '"':
			quote = c
		case c == ']':
			return s[1:i], s[i+1:], true
		}
	}
	return "", "", false
}
