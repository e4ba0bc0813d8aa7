package game

import (
	"errors"
	"fmt"
	"maps"
	"regexp"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Name is a pattern that recognises the names of saves and spells them: "bay_{slot:letter}.orchard", "{name}.sav". Parts in braces are
// captures: {slot} and {slot:N} are a number (N digits at least), {slot:letter} a letter, {ID:hex}, {ID:base64} and {ID:digits} what they
// say, {field:ID} a field of the save, and any other {ID} whatever text stands there. Outside braces *, ? and [a-z] are as in a glob: text that is
// not captured, so that a name with them is recognised and not spelled.
type Name struct {
	text     string
	parts    []namePart
	re       *regexp.Regexp
	anyRE    *regexp.Regexp // the same in any case
	hasAny   bool           // a wildcard, so it cannot be spelled
	captures []string       // in the order of the pattern's groups
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
		open := strings.IndexAny(rest, "{*?[")
		if open < 0 {
			open = len(rest)
		}
		if open > 0 {
			n.parts = append(n.parts, namePart{literal: rest[:open]})
			pattern += regexp.QuoteMeta(rest[:open])
			rest = rest[open:]
			continue
		}
		if rest[0] != '{' {
			wild, expr, err := nameWildcard(rest)
			if err != nil {
				return nil, fmt.Errorf("the name %q: %w", text, err)
			}
			n.hasAny = true
			n.parts = append(n.parts, namePart{literal: wild})
			pattern += expr
			rest = rest[len(wild):]
			continue
		}
		inner, after, ok := strings.Cut(rest[1:], "}")
		if !ok {
			return nil, fmt.Errorf("the name %q has a { without }", text)
		}
		id, kind, _ := strings.Cut(inner, ":")
		if id == "field" && kind != "" {
			id, kind = fieldCapture+kind, ""
		}
		if !regexp.MustCompile(`^[a-z][a-z0-9_-]*$`).MatchString(id) || seen[id] {
			return nil, fmt.Errorf("the name %q: {%s} is not a new capture", text, inner)
		}
		seen[id] = true
		expr := captureKinds[kind]
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
		pattern += "(" + expr + ")"
		n.captures = append(n.captures, id)
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

// fieldCapture is how captures begin that are fields of the save.
const fieldCapture = "field-of-the-save-"

// fields are the fields of the save that spell the name.
func (n *Name) fields() (ids []string) {
	for _, c := range n.captures {
		if id, ok := strings.CutPrefix(c, fieldCapture); ok {
			ids = append(ids, id)
		}
	}
	return ids
}

// WithFields are captures and the fields of a save that spell its name: what no file may be called is left out of them.
func (n *Name) WithFields(captures map[string]string, field func(id string) string) map[string]string {
	ids := n.fields()
	if len(ids) == 0 {
		return captures
	}
	all := maps.Clone(captures)
	if all == nil {
		all = map[string]string{}
	}
	for _, id := range ids {
		all[fieldCapture+id] = strings.Trim(unnameable.ReplaceAllString(field(id), "_"), " .")
	}
	return all
}

// unnameable is what a name of a file cannot have on one platform or another.
var unnameable = regexp.MustCompile(`[\\/:*?"<>|\x00-\x1f]`)

// nameWildcard reads the wildcard that rest begins with: itself, and a pattern for it.
func nameWildcard(rest string) (wild, expr string, err error) {
	switch {
	case strings.HasPrefix(rest, "**"):
		return "", "", errors.New("** stands for folders, and a name is one name: use *")
	case rest[0] == '*':
		return "*", "[^/]*", nil
	case rest[0] == '?':
		return "?", "[^/]", nil
	}
	end := strings.IndexByte(rest[1:], ']')
	if end <= 0 {
		return "", "", errors.New("a [ without ]")
	}
	wild = rest[:end+2]
	class := strings.Replace(wild, "[!", "[^", 1)
	if _, err := regexp.Compile(class); err != nil {
		return "", "", fmt.Errorf("%s is no class of characters", wild)
	}
	return wild, class, nil
}

// Match reports whether name is of the pattern and returns its captures. With fold, letters match in either case.
func (n *Name) Match(name string, fold bool) (map[string]string, bool) {
	if !n.ends(name) {
		return nil, false
	}
	re := n.re
	if fold {
		re = n.anyRE
	}
	m := re.FindStringSubmatch(name)
	if m == nil {
		return nil, false
	}
	captures := map[string]string{}
	for i, id := range n.captures {
		if !strings.HasPrefix(id, fieldCapture) { // what the save says counts, not what its name does
			captures[id] = m[i+1]
		}
	}
	return captures, true
}

// ends reports whether a name may end as the pattern does, which tells most at once: a pattern that begins with a capture is tried at all of a long name.
func (n *Name) ends(name string) bool {
	if len(n.parts) == 0 || n.parts[len(n.parts)-1].capture != "" {
		return true
	}
	ending := n.parts[len(n.parts)-1].literal
	if strings.ContainsAny(ending, "*?[") {
		return true
	}
	tail := name[max(0, len(name)-len(ending)):]
	return strings.IndexFunc(tail+ending, func(c rune) bool { return c > unicode.MaxASCII }) >= 0 || strings.EqualFold(tail, ending)
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
