package form

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"
)

// Elements are the texts of the elements of a list as they stand in a file, in their order. JSON takes $.a.b[*], XML /a/b where b are the
// elements; of text, lines and INI each is a pattern, and an element the line that it matches in.
func (spec Spec) Elements(data []byte, each string) ([]string, error) {
	text, _, err := decoded(spec, data)
	if err != nil {
		return nil, err
	}
	found, _, err := elements(spec.Form, text, each)
	if err != nil {
		return nil, err
	}
	var all []string
	for _, e := range found {
		all = append(all, string(text[e.from:e.to]))
	}
	return all, nil
}

// Escaped is a value as it stands in a text of this form: in JSON between its quotes, in XML in an attribute or an element. ok is false for one that
// cannot stand there.
func (spec Spec) Escaped(value string) (_ string, ok bool) {
	switch spec.Form {
	case "json":
		quoted, err := jsontext.AppendQuote(nil, value)
		if err != nil {
			return "", false
		}
		return string(quoted[1 : len(quoted)-1]), true
	case "xml":
		var b strings.Builder
		err := xml.EscapeText(&b, []byte(value))
		return b.String(), err == nil && utf8.ValidString(value)
	}
	return value, !strings.ContainsAny(value, "\r\n\x00")
}

// decoded is the text of a file, and its Spec as text.
func decoded(spec Spec, data []byte) (text []byte, as Spec, err error) {
	_, err = spec.Recode(data, func(t []byte, s Spec) ([]byte, error) {
		text, as = t, s
		return t, nil
	})
	return text, as, err
}

// Relist returns data with the elements of a list replaced by others, in their order; every other byte stays as it is. Elements that are there
// now are given as they stand, so one that is taken out and put in again leaves the file as it was. Nothing is read back here: the caller
// knows what the list must say.
func (spec Spec) Relist(data []byte, each string, wanted []string) ([]byte, error) {
	return spec.Recode(data, func(text []byte, spec Spec) ([]byte, error) { return relist(spec.Form, text, each, wanted) })
}

// element is one, by its first byte and the one behind its last.
type element struct{ from, to int }

// listing is where elements of a list can be added: behind the last byte of what is there, with what stands between two.
type listing struct {
	end     int
	between string
	lines   bool // each is a line of its own
	comma   bool
}

func relist(as string, data []byte, each string, wanted []string) ([]byte, error) {
	found, l, err := elements(as, data, each)
	if err != nil {
		return nil, err
	}
	rest := slices.Clone(wanted)
	var slots []element
	var removed []element
	for _, e := range found {
		if i := slices.Index(rest, string(data[e.from:e.to])); i >= 0 {
			rest = slices.Delete(rest, i, i+1)
			slots = append(slots, e)
		} else {
			removed = append(removed, e)
		}
	}
	for len(removed) > 0 && len(slots) < len(wanted) { // one that is written otherwise stays where it is
		slots = append(slots, removed[0])
		removed = removed[1:]
	}
	slices.SortFunc(slots, func(a, b element) int { return a.from - b.from })
	type edit struct {
		from, to int
		text     string
	}
	var edits []edit
	for i, e := range slots {
		edits = append(edits, edit{e.from, e.to, wanted[i]})
	}
	if more := wanted[len(slots):]; len(more) > 0 {
		edits = append(edits, edit{l.end, l.end, l.added(data, more, len(slots) > 0)})
	}
	for i, e := range removed {
		from, to := l.cut(data, e, i < len(removed) && len(slots) == 0)
		edits = append(edits, edit{from, to, ""})
	}
	slices.SortStableFunc(edits, func(a, b edit) int { return a.from - b.from })
	var out bytes.Buffer
	at := 0
	for _, e := range edits {
		if e.from < at {
			e.from = at
		}
		if e.to < e.from {
			continue
		}
		out.Write(data[at:e.from])
		out.WriteString(e.text)
		at = e.to
	}
	out.Write(data[at:])
	return out.Bytes(), nil
}

// added is the text of elements at the end of a list.
func (l listing) added(data []byte, more []string, after bool) string {
	if !l.lines {
		text := strings.Join(more, l.between)
		if after {
			text = l.between + text
		}
		return text
	}
	text := strings.Join(more, l.between)
	if l.end > 0 && data[l.end-1] != '\n' {
		return l.between + text
	}
	return text + l.between
}

// cut is what goes with an element that is removed: its line, or the comma and the space before it. only tells that none stays.
func (l listing) cut(data []byte, e element, only bool) (from, to int) {
	from, to = e.from, e.to
	if l.lines {
		if to < len(data) && data[to] == '\r' {
			to++
		}
		if to < len(data) && data[to] == '\n' {
			return from, to + 1
		}
		for from > 0 && (data[from-1] == '\n' || data[from-1] == '\r') && to == len(data) {
			from--
			if data[from] == '\n' && (from == 0 || data[from-1] != '\r') {
				break
			}
		}
		return from, to
	}
	space := func(b byte) bool { return b == ' ' || b == '\t' || b == '\r' || b == '\n' }
	before := from
	for before > 0 && space(data[before-1]) {
		before--
	}
	if !l.comma {
		return before, to
	}
	if before > 0 && data[before-1] == ',' {
		return before - 1, to
	}
	after := to
	for after < len(data) && space(data[after]) {
		after++
	}
	if after < len(data) && data[after] == ',' && !only {
		after++
		for after < len(data) && space(data[after]) {
			after++
		}
		return from, after
	}
	if only && after < len(data) && data[after] == ',' {
		return from, after + 1
	}
	return from, to
}

// elements finds the elements of a list and where more can be added.
func elements(as string, data []byte, each string) ([]element, listing, error) {
	switch as {
	case "lines", "text", "ini":
		found, l, err := lineElements(data, each)
		if as == "ini" && len(found) > 0 { // more stand in the same section
			l.end = min(len(data), found[len(found)-1].to+len(l.between))
		}
		return found, l, err
	case "json":
		return jsonElements(data, each)
	case "xml":
		return xmlElements(data, each)
	}
	return nil, listing{}, fmt.Errorf("a list in the form %s %w", as, ErrNotWritable)
}

func lineElements(data []byte, each string) ([]element, listing, error) {
	re, err := compilePattern(each)
	if err != nil {
		return nil, listing{}, err
	}
	l := listing{end: len(data), between: "\n", lines: true}
	var found []element
	for at := 0; at < len(data); {
		end := at + bytes.IndexByte(data[at:], '\n')
		if end < at {
			end = len(data)
		}
		line := data[at:end]
		if trimmed, ok := bytes.CutSuffix(line, []byte("\r")); ok {
			line, l.between = trimmed, "\r\n"
		}
		if re.Match(line) {
			found = append(found, element{at, at + len(line)})
		}
		at = end + 1
	}
	return found, l, nil
}

// jsonElements finds the elements of the array that a query like $.mods[*] names.
func jsonElements(data []byte, each string) ([]element, listing, error) {
	path, ok := strings.CutSuffix(each, "[*]")
	if !ok {
		return nil, listing{}, fmt.Errorf("%q: %w: a list is the elements of an array", each, ErrNotWritable)
	}
	var steps []any
	if path != "$" {
		var err error
		if steps, err = streamingPath(path); err != nil {
			return nil, listing{}, err
		}
	}
	d := jsontext.NewDecoder(bytes.NewReader(data))
	if err := jsonInto(d, steps); err != nil {
		return nil, listing{}, err
	}
	if t, err := d.ReadToken(); err != nil || t.Kind() != '[' {
		return nil, listing{}, fmt.Errorf("%s is no array: %w", path, ErrNotWritable)
	}
	l := listing{end: int(d.InputOffset()), between: ", ", comma: true}
	var found []element
	for d.PeekKind() != ']' {
		value, err := d.ReadValue()
		if err != nil {
			return nil, listing{}, fmt.Errorf("%w: %v", ErrDamaged, err)
		}
		to := int(d.InputOffset())
		found = append(found, element{to - len(value), to})
		l.end = to
	}
	if len(found) > 1 {
		l.between = string(data[found[0].to:found[1].from])
	} else if len(found) == 1 {
		start := bytes.LastIndexByte(data[:found[0].from], '[') + 1
		l.between = "," + string(data[start:found[0].from])
	}
	return found, l, nil
}

// jsonInto reads on to the value that steps lead to.
func jsonInto(d *jsontext.Decoder, steps []any) error {
	for _, step := range steps {
		open, err := d.ReadToken()
		if err != nil {
			return fmt.Errorf("%w: %v", ErrDamaged, err)
		}
		missing := fmt.Errorf("%v is not there: %w", step, ErrNotWritable)
		for i := 0; ; i++ {
			kind := d.PeekKind()
			if kind == '}' || kind == ']' || kind == 0 {
				return missing
			}
			here := false
			switch want := step.(type) {
			case string:
				if open.Kind() != '{' {
					return missing
				}
				name, err := d.ReadToken()
				if err != nil {
					return fmt.Errorf("%w: %v", ErrDamaged, err)
				}
				here = name.String() == want
			case int:
				here = open.Kind() == '[' && i == want
			}
			if here {
				break
			}
			if err := d.SkipValue(); err != nil {
				return fmt.Errorf("%w: %v", ErrDamaged, err)
			}
		}
	}
	return nil
}

// xmlElements finds the elements that a path like /mods/mod names, all in the first parent of that path.
func xmlElements(data []byte, each string) ([]element, listing, error) {
	steps := strings.Split(strings.TrimPrefix(each, "/"), "/")
	for _, step := range steps {
		if m := xmlPlace.FindStringSubmatch(step); m == nil || m[2] != "" {
			return nil, listing{}, fmt.Errorf("%q: %w: not of the streaming subset", each, ErrNotWritable)
		}
	}
	d := newXMLDecoder(data)
	var path []string
	var found []element
	l := listing{end: -1, between: "\n"}
	start := 0
	for {
		before := int(d.InputOffset())
		token, err := d.RawToken()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, listing{}, fmt.Errorf("%w: not XML: %v", ErrDamaged, err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			path = append(path, t.Name.Local)
			if slices.Equal(path, steps) && l.end < 0 {
				start = before
			}
		case xml.EndElement:
			switch {
			case slices.Equal(path, steps) && l.end < 0:
				found = append(found, element{start, int(d.InputOffset())})
			case slices.Equal(path, steps[:len(steps)-1]) && l.end < 0:
				if l.end = before; len(found) > 0 {
					l.end = found[len(found)-1].to
				} else if before == int(d.InputOffset()) {
					return nil, listing{}, fmt.Errorf("%s stands in an empty element: %w", each, ErrNotWritable)
				}
			}
			path = path[:max(0, len(path)-1)]
		}
	}
	if l.end < 0 {
		return nil, listing{}, missingValue(each)
	}
	if len(found) > 0 {
		gap := bytes.LastIndexByte(data[:found[0].from], '>') + 1
		l.between = string(data[gap:found[0].from])
	}
	return found, l, nil
}
