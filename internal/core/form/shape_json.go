package form

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"
)

// jsonShape is a JSON whose values know where they stand.
type jsonShape struct {
	text []byte
	doc  largeJSON
}

func shapeJSON(text []byte) (shape, error) {
	doc, err := largeJSONOf(inMemory(text))
	if err != nil {
		return nil, err
	}
	large := doc.(largeJSON)
	large.text.strict = true
	if large.at.from < large.at.to { // what stands around the value is not part of it
		rest := text[large.at.from:]
		large.at.from += len(rest) - len(bytes.TrimLeft(rest, " \t\r\n"))
	}
	return &jsonShape{text, large}, nil
}

func errNotStreaming(query string) error {
	return fmt.Errorf("%q: %w: not of the streaming subset", query, ErrNotWritable)
}

func (j *jsonShape) spans(_ context.Context, of *Span, query string, _ bool) ([]Span, error) {
	steps, ok := jsonSteps(query)
	if !ok {
		return nil, errNotStreaming(query)
	}
	at := j.doc.at
	if of != nil {
		at = place{of.From, of.To}
	}
	var found []Span
	err := j.doc.text.find(at, steps, func(p place) error {
		if len(found) > maxElements {
			return fmt.Errorf("%w: a list of more than %d", ErrTooLarge, maxElements)
		}
		found = append(found, Span{From: p.from, To: p.to})
		return nil
	})
	return found, err
}

func (j *jsonShape) value(s Span) (string, bool, error) {
	return j.doc.text.scalar(place{s.From, s.To})
}

func (j *jsonShape) set(s Span, value string) (Edit, error) {
	switch c := j.text[s.From]; {
	case c == '"':
		if !utf8.ValidString(value) {
			return Edit{}, fmt.Errorf("%q is no text: %w", value, ErrNotWritable)
		}
		quoted, err := jsontext.AppendQuote(nil, value)
		return Edit{s.From, s.To, string(quoted)}, err
	case c == 't' || c == 'f':
		if value != "true" && value != "false" {
			return Edit{}, fmt.Errorf("it is true or false, and %q is neither: %w", value, ErrNotWritable)
		}
		return Edit{s.From, s.To, value}, nil
	case c == '-' || c >= '0' && c <= '9':
		number := jsontext.Value(value)
		if !number.IsValid() || number.Kind() != '0' {
			return Edit{}, fmt.Errorf("it holds a number, and %q is none: %w", value, ErrNotWritable)
		}
		return Edit{s.From, s.To, value}, nil
	}
	return Edit{}, fmt.Errorf("it is neither text, number nor true or false: %w", ErrNotWritable)
}

// member is where a value begins with the name it stands behind, if it does; key is that name.
func (j *jsonShape) member(from int) (start int, key string) {
	i := from
	for i > 0 && space(j.text[i-1]) {
		i--
	}
	if i == 0 || j.text[i-1] != ':' {
		return from, ""
	}
	for i--; i > 0 && space(j.text[i-1]); i-- {
	}
	end := i
	for i -= 2; i >= 0; i-- { // back to the quote that no odd number of backslashes stands before
		slashes := 0
		for i-slashes > 0 && j.text[i-slashes-1] == '\\' {
			slashes++
		}
		if j.text[i] == '"' && slashes%2 == 0 {
			break
		}
	}
	if i < 0 {
		return from, ""
	}
	name, err := jsontext.AppendUnquote(nil, j.text[i:end])
	if err != nil {
		return from, ""
	}
	return i, string(name)
}

func (j *jsonShape) key(s Span) string {
	_, key := j.member(s.From)
	return key
}

// after is the first byte at or behind a place that is no white space, or 0.
func (j *jsonShape) after(at int) (int, byte) {
	for at < len(j.text) && space(j.text[at]) {
		at++
	}
	if at == len(j.text) {
		return at, 0
	}
	return at, j.text[at]
}

// cut takes elements and members out, with one comma for each. Neighbours go as one.
func (j *jsonShape) cut(parts []Span) ([]Edit, error) {
	parts = slices.Clone(parts)
	for i := range parts {
		parts[i].From, _ = j.member(parts[i].From)
	}
	slices.SortFunc(parts, func(a, b Span) int { return a.From - b.From })
	var edits []Edit
	for i := 0; i < len(parts); {
		from, to := parts[i].From, parts[i].To
		for i++; i < len(parts); i++ {
			at, c := j.after(to)
			if c == ',' {
				at, _ = j.after(at + 1)
			}
			if parts[i].From >= to && parts[i].From != at {
				break
			}
			to = max(to, parts[i].To)
		}
		before := from
		for before > 0 && space(j.text[before-1]) {
			before--
		}
		if before == 0 {
			return nil, fmt.Errorf("all of the file %w", ErrNotWritable)
		}
		at, c := j.after(to)
		switch {
		case c == ',':
			to, _ = j.after(at + 1)
		case j.text[before-1] == ',':
			from = before - 1
		default: // all that was there
			from, to = before, at
		}
		edits = append(edits, Edit{from, to, ""})
	}
	return edits, nil
}

// add puts an element into an array, or a member, with its name, into an object.
func (j *jsonShape) add(in Span, after *Span, piece string) (Edit, error) {
	at, open := j.after(in.From)
	if open != '{' && open != '[' {
		return Edit{}, fmt.Errorf("what is neither array nor object cannot hold more: %w", ErrNotWritable)
	}
	if after == nil {
		var last *Span
		visit := func(p place) error { last = &Span{From: p.from, To: p.to}; return nil }
		if err := j.doc.text.elements(place{at, in.To}, visit); err != nil {
			return Edit{}, err
		}
		after = last
	}
	if after == nil {
		return Edit{at + 1, at + 1, piece}, nil
	}
	start, _ := j.member(after.From)
	return Edit{after.To, after.To, "," + gapBefore(j.text, start) + piece}, nil
}

// streamingPath splits $.a['b c'][0] into "a", "b c", 0.
func streamingPath(query string) ([]any, error) {
	steps, ok := jsonSteps(query)
	if !ok || len(steps) == 0 {
		return nil, errNotStreaming(query)
	}
	var path []any
	for _, s := range steps {
		switch {
		case s.all:
			return nil, errNotStreaming(query)
		case s.name != "":
			path = append(path, s.name)
		default:
			path = append(path, s.index)
		}
	}
	return path, nil
}

func (j *jsonShape) rename(s Span, name string) ([]Edit, error) {
	start, key := j.member(s.From)
	if start == s.From || !utf8.ValidString(name) {
		return nil, fmt.Errorf("what is no member has no name: %w", ErrNotWritable)
	}
	quoted, err := jsontext.AppendQuote(nil, name)
	if err != nil || key == name {
		return nil, err
	}
	end := start + 1
	for ; j.text[end] != '"'; end++ {
		if j.text[end] == '\\' {
			end++
		}
	}
	return []Edit{{start, end + 1, string(quoted)}}, nil
}
