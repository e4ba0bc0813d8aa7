package doc

import (
	"bytes"
	"context"
	"encoding/xml"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"

	"ostrov/internal/core/wrap"
)

// Elements returns the texts of the elements of a list, not decoded, in their order. For JSON the query is like $.a.b[*], for XML like /a/b; for
// text, lines and INI it is a pattern, and an element is the line that matches.
func (spec Spec) Elements(data []byte, each string) (all []string, err error) {
	_, err = spec.Recode(data, func(text []byte, spec Spec) ([]byte, error) {
		found, _, err := spec.listed(text, each)
		for _, e := range found {
			all = append(all, string(text[e.from:e.to]))
		}
		return text, err
	})
	return all, err
}

// Relist returns data with the elements of a list replaced by others, in their order; it keeps every other byte. Elements of the old list are given
// with their text, so one that is taken out and put in again leaves the same bytes. The caller checks the new list.
func (spec Spec) Relist(data []byte, each string, wanted []string) ([]byte, error) {
	return spec.Recode(data, func(text []byte, spec Spec) ([]byte, error) {
		found, l, err := spec.listed(text, each)
		if err != nil {
			return nil, err
		}
		return relist(text, found, l, wanted), nil
	})
}

// Escaped encodes a value for a text of this form: in JSON between quotes, in XML in an attribute or an element. ok is false for one that cannot be
// encoded.
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

// listing is the end of a list, for more elements, and the text between two elements.
type listing struct {
	end     int
	between string
	lines   bool // each is a line of its own
	comma   bool
}

func relist(data []byte, found []place, l listing, wanted []string) []byte {
	rest := slices.Clone(wanted)
	var slots []place
	var removed []place
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
	slices.SortFunc(slots, func(a, b place) int { return a.from - b.from })
	var edits []change
	for i, e := range slots {
		edits = append(edits, change{e.from, e.to, wanted[i]})
	}
	if more := wanted[len(slots):]; len(more) > 0 {
		edits = append(edits, change{l.end, l.end, l.added(data, more, len(slots) > 0)})
	}
	for i, e := range removed {
		from, to := l.cut(data, e, i < len(removed) && len(slots) == 0)
		edits = append(edits, change{from, to, ""})
	}
	slices.SortStableFunc(edits, func(a, b change) int { return a.From - b.From })
	var out bytes.Buffer
	at := 0
	for _, e := range edits {
		if e.From = max(e.From, at); e.To < e.From {
			continue
		}
		out.Write(data[at:e.From])
		out.WriteString(e.Text)
		at = e.To
	}
	out.Write(data[at:])
	return out.Bytes()
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

// cut returns the bytes that are removed with an element: its line, or the comma and the space before it. only reports that no element is left.
func (l listing) cut(data []byte, e place, only bool) (from, to int) {
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

// listed finds the elements of a list, and where more can be added.
func (spec Spec) listed(text []byte, each string) (found []place, l listing, err error) {
	ctx := context.Background()
	if spec.Form == "ini" || spec.Form == "text" {
		spec.Form = "lines"
		defer func() {
			if len(found) > 0 { // the section has more
				l.end = min(len(text), found[len(found)-1].to+len(l.between))
			}
		}()
	}
	e, err := spec.Edit(ctx, bytes.NewReader(text))
	if err != nil {
		return nil, l, err
	}
	if err := spec.CheckWritable(each); err != nil {
		return nil, l, err
	}
	nodes, err := e.Find(ctx, nil, each, true)
	if err != nil {
		return nil, l, err
	}
	around := ""
	switch array, ok := strings.CutSuffix(each, "[*]"); {
	case spec.Form == "lines":
		l = listing{end: len(text), between: "\n", lines: true}
		if bytes.Contains(text, []byte("\r\n")) {
			l.between = "\r\n"
		}
	case spec.Form == "json" && ok:
		around, l = array, listing{between: ", ", comma: true}
	case spec.Form == "xml":
		around, l = each[:max(strings.LastIndexByte(each, '/'), 0)], listing{between: "\n"}
	default:
		return nil, l, fmt.Errorf("a list %q in the form %s %w", each, spec.Form, wrap.ErrNotWritable)
	}
	if around != "" {
		in, err := e.Find(ctx, nil, around, true)
		if err != nil {
			return nil, l, err
		}
		if len(in) == 0 || spec.Form == "json" && in[0].kind != kindArray {
			return nil, l, missingValue(around)
		}
		list := in[0] // of several the first
		if l.end = list.value.to; spec.Form == "json" {
			l.end = list.From + 1
		} else if len(nodes) == 0 && list.tag.to == list.To {
			return nil, l, fmt.Errorf("%s stands in an empty element: %w", each, wrap.ErrNotWritable)
		}
		nodes = slices.DeleteFunc(nodes, func(n Node) bool { return !list.place().has(n.place()) })
	}
	for _, n := range nodes {
		found = append(found, n.place())
	}
	if len(found) == 0 || l.lines {
		return found, l, nil
	}
	l.end = found[len(found)-1].to
	gap := string(text[found[0].from-len(e.src.gapBefore(found[0].from)) : found[0].from])
	switch {
	case spec.Form == "xml":
		l.between = gap
	case len(found) > 1:
		l.between = string(text[found[0].to:found[1].from])
	default:
		l.between = "," + gap
	}
	return found, l, nil
}
