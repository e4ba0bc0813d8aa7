package game

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Name is a pattern that recognises the names of saves and spells them: "bay_{slot:letter}.orchard", "{name}.sav". Parts in braces are
// captures: {slot} and {slot:N} are a number (N digits at least), {slot:letter} a letter, {ID:hex}, {ID:base64} and {ID:digits} what they
// say, and any other {ID} whatever text stands there. A * is any text that is not captured.
type Name struct {
	text   string
	parts  []namePart
	re     *regexp.Regexp
	anyRE  *regexp.Regexp // the same in any case
	hasAny bool           // a *, so it cannot be spelled
}

type namePart struct {
	literal string
	capture string
	kind    string // "", letter, hex, base64, digits, or a number of digits
}

// ParseName reads a pattern.
func ParseName(text string) (*Name, error) {
	n := &Name{text: text}
	pattern := ""
	rest := text
	seen := map[string]bool{}
	for rest != "" {
		open := strings.IndexAny(rest, "{*")
		if open < 0 {
			open = len(rest)
		}
		if open > 0 {
			n.parts = append(n.parts, namePart{literal: rest[:open]})
			pattern += regexp.QuoteMeta(rest[:open])
			rest = rest[open:]
			continue
		}
		if rest[0] == '*' {
			n.hasAny = true
			n.parts = append(n.parts, namePart{literal: "*"})
			pattern += "[^/]*"
			rest = rest[1:]
			continue
		}
		inner, after, ok := strings.Cut(rest[1:], "}")
		if !ok {
			return nil, fmt.Errorf("the name %q has a { without }", text)
		}
		id, kind, _ := strings.Cut(inner, ":")
		if !regexp.MustCompile(`^[a-z][a-z0-9_]*$`).MatchString(id) || seen[id] {
			return nil, fmt.Errorf("the name %q: {%s} is not a new capture", text, inner)
		}
		seen[id] = true
		expr := map[string]string{"": "[^/]+", "letter": "[a-zA-Z]", "hex": "[0-9a-fA-F]+", "base64": "[A-Za-z0-9+_=-]+", "digits": "[0-9]+"}[kind]
		if id == "slot" && kind == "" {
			expr = "[0-9]+"
		}
		if digits, err := strconv.Atoi(kind); err == nil && digits > 0 && digits < 10 {
			expr = fmt.Sprintf("[0-9]{%d,9}", digits)
		}
		if expr == "" {
			return nil, fmt.Errorf("the name %q: no kind of capture %q", text, kind)
		}
		n.parts = append(n.parts, namePart{capture: id, kind: kind})
		pattern += "(?P<" + id + ">" + expr + ")"
		rest = after
	}
	if text == "" || strings.ContainsAny(text, "/\\") || !utf8.ValidString(text) {
		return nil, fmt.Errorf("the name %q must be a name, not a path", text)
	}
	n.re = regexp.MustCompile("^" + pattern + "$")
	n.anyRE = regexp.MustCompile("(?i)^" + pattern + "$")
	return n, nil
}

func (n *Name) String() string { return n.text }

// Match reports whether name is of the pattern and returns its captures. With fold, letters match in either case.
func (n *Name) Match(name string, fold bool) (map[string]string, bool) {
	re := n.re
	if fold {
		re = n.anyRE
	}
	m := re.FindStringSubmatch(name)
	if m == nil {
		return nil, false
	}
	captures := map[string]string{}
	for i, id := range re.SubexpNames() {
		if id != "" {
			captures[id] = m[i]
		}
	}
	return captures, true
}

// Spell writes a name with the captures given, exactly as the game does. It reports false where a capture is missing.
func (n *Name) Spell(captures map[string]string) (string, bool) {
	var b strings.Builder
	for _, p := range n.parts {
		if p.capture == "" {
			b.WriteString(p.literal)
			continue
		}
		v, ok := captures[p.capture]
		if !ok || v == "" {
			return "", false
		}
		b.WriteString(v)
	}
	return b.String(), !n.hasAny
}

// HasSlot reports whether the pattern captures a slot.
func (n *Name) HasSlot() bool {
	for _, p := range n.parts {
		if p.capture == "slot" {
			return true
		}
	}
	return false
}

// SpellSlot is how the pattern writes the slot numbered n (as Slots counts).
func (n *Name) SpellSlot(slot int) string {
	for _, p := range n.parts {
		if p.capture != "slot" {
			continue
		}
		if p.kind == "letter" {
			return string(rune('a' + slot))
		}
		if digits, err := strconv.Atoi(p.kind); err == nil {
			return fmt.Sprintf("%0*d", digits, slot)
		}
	}
	return strconv.Itoa(slot)
}

// Number is the slot that a capture means, counted as in names: a letter a is 0.
func (s *Slots) Number(capture string) (int, bool) {
	if s != nil && s.letters {
		n, _, ok := decodeSlot(capture)
		return n, ok
	}
	n, err := strconv.Atoi(capture)
	return n, err == nil
}

// Shown is what the game shows for the slot that names count as n.
func (s *Slots) Shown(n int) string {
	if s == nil {
		return strconv.Itoa(n)
	}
	if s.letters {
		return string(rune('A' + n - s.first + s.shown))
	}
	return strconv.Itoa(n - s.first + s.shown)
}

// Range returns the first and last slot as names count them.
func (s *Slots) Range() (first, last int) { return s.first, s.last }
