package form

import (
	"bytes"
	"context"
	"fmt"
	"regexp"
	"strings"
)

// matched is a part that a pattern matches; its groups are asked by their names, and "." is what textDoc says that the value is.
type matched struct {
	whole  Span
	groups map[string]Span
}

// matchedBy are the spans of a match in a text that begins at base; as is what "." means where no group without a name takes it.
func matchedBy(re *regexp.Regexp, m []int, base int, as Span) matched {
	found := matched{Span{From: base + m[0], To: base + m[1]}, map[string]Span{}}
	for i, name := range re.SubexpNames() {
		s := Span{From: base + m[2*i], To: base + m[2*i+1]}
		_, had := found.groups["."]
		switch {
		case m[2*i] < 0:
		case name != "":
			found.groups[name] = s
		case i > 0 && !had:
			found.groups["."] = s
		}
	}
	if _, had := found.groups["."]; !had {
		found.groups["."] = as
	}
	return found
}

// within are the spans of a part that a pattern matched.
func (m matched) within(query string) ([]Span, error) {
	if s, ok := m.groups[query]; ok {
		return []Span{s}, nil
	}
	return nil, nil
}

// textShape is a text that is asked with patterns, as a whole or line by line.
type textShape struct {
	text  []byte
	lines bool
}

func (t textShape) spans(_ context.Context, of *Span, query string, each bool) ([]Span, error) {
	from, to := 0, len(t.text)
	if of != nil {
		if m, ok := of.node.(matched); ok {
			return m.within(query)
		}
		from, to = of.From, of.To
	}
	re, err := compilePattern(query)
	if err != nil {
		return nil, err
	}
	var found []Span
	add := func(m []int, base int, whole Span) error {
		if len(found) > maxElements {
			return fmt.Errorf("%w: a list of more than %d", ErrTooLarge, maxElements)
		}
		if each {
			whole.node = matchedBy(re, m, base, whole)
			found = append(found, whole)
			return nil
		}
		if len(m) > 2 && m[2] < 0 {
			return nil
		}
		s := Span{From: base + m[0], To: base + m[1]}
		if len(m) > 2 {
			s = Span{From: base + m[2], To: base + m[3]}
		}
		found = append(found, s)
		return nil
	}
	if !t.lines {
		for _, m := range re.FindAllSubmatchIndex(t.text[from:to], -1) {
			if err := add(m, from, Span{From: from + m[0], To: from + m[1]}); err != nil {
				return nil, err
			}
		}
		return t.first(found, each), nil
	}
	if from == 0 {
		from = len(t.text) - len(bytes.TrimPrefix(t.text, []byte("\xef\xbb\xbf")))
	}
	for from < to {
		end := from + bytes.IndexByte(t.text[from:to], '\n')
		if end < from {
			end = to
		}
		line := bytes.TrimSuffix(t.text[from:end], []byte("\r"))
		if m := re.FindSubmatchIndex(line); m != nil {
			if err := add(m, from, Span{From: from, To: from + len(line)}); err != nil {
				return nil, err
			}
		}
		from = end + 1
	}
	return t.first(found, each), nil
}

// first leaves of values the first one: that is what a pattern for one value means.
func (t textShape) first(found []Span, each bool) []Span {
	if !each {
		found = found[:min(len(found), 1)]
	}
	return found
}

func (t textShape) value(s Span) (string, bool, error) {
	if m, ok := s.node.(matched); ok {
		s = m.groups["."]
	}
	return string(t.text[s.From:s.To]), true, nil
}

func (t textShape) set(s Span, value string) (change, error) {
	if m, ok := s.node.(matched); ok {
		s = m.groups["."]
	}
	if t.lines && strings.ContainsAny(value, "\r\n") {
		return change{}, fmt.Errorf("%q is more than a line: %w", value, ErrNotWritable)
	}
	return change{s.From, s.To, value}, nil
}

// cut takes out what a pattern matched, and of lines their ends.
func (t textShape) cut(parts []Span) ([]change, error) {
	return cutLines(t.text, parts, t.lines), nil
}

// cutLines takes parts out; as lines, those that stand alone on their lines go with these.
func cutLines(text []byte, parts []Span, lines bool) []change {
	var edits []change
	for _, s := range parts {
		from, to := s.From, s.To
		if lines {
			var alone bool
			if from, to, alone = lineOf(text, s.From, s.To); alone && to == len(text) && text[to-1] != '\n' && from > 0 {
				from-- // the last line has no end of its own
			}
		}
		edits = append(edits, change{from, to, ""})
	}
	return edits
}

func (t textShape) add(in Span, after *Span, piece string) (change, error) {
	at := in.To
	if after != nil {
		at = after.To
	}
	if !t.lines {
		return change{at, at, piece}, nil
	}
	return lineAfter(t.text, at, piece), nil
}

// lineAfter puts a line behind the one that a place is in, with the line ends of the text.
func lineAfter(text []byte, at int, piece string) change {
	end := "\n"
	if bytes.Contains(text, []byte("\r\n")) {
		end = "\r\n"
	}
	if n := bytes.IndexByte(text[at:], '\n'); n >= 0 {
		return change{at + n + 1, at + n + 1, piece + end}
	}
	if at = len(text); at == 0 || text[at-1] == '\n' {
		return change{at, at, piece + end}
	}
	return change{at, at, end + piece}
}

// iniShape is an INI whose keys know where they stand.
type iniShape struct {
	text []byte
	doc  iniDoc
}

func shapeINI(text []byte) (shape, error) {
	doc, err := parseINI(text)
	return &iniShape{text, doc}, err
}

// spans are keys; as an element a key is its whole line. The pattern of a list may be of keys, or [Section] for all keys of one.
func (x *iniShape) spans(_ context.Context, of *Span, query string, each bool) ([]Span, error) {
	if of != nil {
		m, ok := of.node.(matched)
		if !ok {
			return nil, errNotStreaming(query)
		}
		return m.within(query)
	}
	var found []Span
	if !each {
		for _, e := range x.doc.find(query) {
			if e.from < 0 {
				return nil, missingValue(query)
			}
			found = append(found, Span{From: e.from, To: e.to})
		}
		return found, nil
	}
	re, err := regexp.Compile("^(?:" + query + ")$")
	if err != nil {
		return nil, err
	}
	for _, e := range x.doc {
		name := strings.TrimPrefix(e.section+"."+e.key, ".")
		if e.key == "" || e.from < 0 {
			continue
		}
		m := re.FindStringSubmatchIndex(name)
		if m == nil {
			continue
		}
		line := lineAround(x.text, e.from)
		value := Span{From: e.from, To: e.to}
		parts := matched{line, map[string]Span{".": value, "@value": value}}
		key := bytes.Index(x.text[line.From:line.To], []byte(e.key))
		base := line.From + key - (len(name) - len(e.key)) // groups that lie in the key
		parts.groups["@key"] = Span{From: line.From + key, To: line.From + key + len(e.key)}
		for i, group := range re.SubexpNames() {
			if group != "" && m[2*i] >= len(name)-len(e.key) {
				parts.groups[group] = Span{From: base + m[2*i], To: base + m[2*i+1]}
			}
		}
		line.node = parts
		found = append(found, line)
	}
	return found, nil
}

// lineAround is the line that a byte stands on, without its end.
func lineAround(text []byte, at int) Span {
	from := bytes.LastIndexByte(text[:at], '\n') + 1
	to := len(text)
	if n := bytes.IndexByte(text[at:], '\n'); n >= 0 {
		to = at + n
	}
	return Span{From: from, To: from + len(bytes.TrimSuffix(text[from:to], []byte("\r")))}
}

func (x *iniShape) value(s Span) (string, bool, error) {
	if m, ok := s.node.(matched); ok {
		s = m.groups["."]
	}
	return string(x.text[s.From:s.To]), true, nil
}

func (x *iniShape) set(s Span, value string) (change, error) {
	if strings.ContainsAny(value, "\r\n") {
		return change{}, fmt.Errorf("%q is more than a line: %w", value, ErrNotWritable)
	}
	if m, ok := s.node.(matched); ok {
		s = m.groups["."]
	}
	return change{s.From, s.To, value}, nil
}

func (x *iniShape) cut(parts []Span) ([]change, error) {
	lines := make([]Span, len(parts))
	for i, s := range parts {
		lines[i] = lineAround(x.text, s.From)
	}
	return cutLines(x.text, lines, true), nil
}

func (x *iniShape) add(in Span, after *Span, piece string) (change, error) {
	at := in.To
	if after != nil {
		at = after.To
	}
	return lineAfter(x.text, at, piece), nil
}

func (x *iniShape) rename(s Span, name string) ([]change, error) {
	m, ok := s.node.(matched)
	if !ok {
		return nil, fmt.Errorf("only a whole key has a name: %w", ErrNotWritable)
	}
	key := m.groups["@key"]
	return []change{{key.From, key.To, name}}, nil
}
