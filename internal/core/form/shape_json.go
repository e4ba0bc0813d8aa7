package form

import (
	"context"
	"fmt"
	"slices"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"
)

// jsonShape is a JSON whose values know where they stand.
type jsonShape struct{ doc largeJSON }

func shapeJSON(text *source) (shape, error) {
	doc, err := largeJSONOf(text)
	if err != nil {
		return nil, err
	}
	large := doc.(largeJSON)
	large.text.strict = true
	for large.at.from < large.at.to && space(text.at(large.at.from)) { // what stands around the value is not part of it
		large.at.from++
	}
	return &jsonShape{large}, nil
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

func (j *jsonShape) set(s Span, value string) (change, error) {
	switch c := j.doc.text.at(s.From); {
	case c == '"':
		if !utf8.ValidString(value) {
			return change{}, fmt.Errorf("%q is no text: %w", value, ErrNotWritable)
		}
		quoted, err := jsontext.AppendQuote(nil, value)
		return change{s.From, s.To, string(quoted)}, err
	case c == 't' || c == 'f':
		if value != "true" && value != "false" {
			return change{}, fmt.Errorf("it is true or false, and %q is neither: %w", value, ErrNotWritable)
		}
		return change{s.From, s.To, value}, nil
	case c == '-' || c >= '0' && c <= '9':
		number := jsontext.Value(value)
		if !number.IsValid() || number.Kind() != '0' {
			return change{}, fmt.Errorf("it holds a number, and %q is none: %w", value, ErrNotWritable)
		}
		return change{s.From, s.To, value}, nil
	}
	return change{}, fmt.Errorf("it is neither text, number nor true or false: %w", ErrNotWritable)
}

// member is where a value begins with the name it stands behind, if it does; key is that name.
func (j *jsonShape) member(from int) (start int, key string) {
	before := j.doc.text.peek(from-maxName, from)
	i := len(before) - len(gapBefore(before, len(before)))
	if i == 0 || before[i-1] != ':' {
		return from, ""
	}
	i--
	i -= len(gapBefore(before, i))
	end := i
	for i -= 2; i >= 0; i-- { // back to the quote that no odd number of backslashes stands before
		slashes := 0
		for i-slashes > 0 && before[i-slashes-1] == '\\' {
			slashes++
		}
		if before[i] == '"' && slashes%2 == 0 {
			break
		}
	}
	if i < 0 {
		return from, ""
	}
	name, err := jsontext.AppendUnquote(nil, before[i:end])
	if err != nil {
		return from, ""
	}
	return from - len(before) + i, string(name)
}

// maxName bounds the name of a member, in bytes.
const maxName = 4096

func (j *jsonShape) key(s Span) string {
	_, key := j.member(s.From)
	return key
}

// after is the first byte at or behind a place that is no white space, or 0.
func (j *jsonShape) after(at int) (int, byte) {
	text := j.doc.text
	for at < text.size && space(text.at(at)) {
		at++
	}
	return at, text.at(at)
}

// cut takes elements and members out, with one comma for each. Neighbours go as one.
func (j *jsonShape) cut(parts []Span) ([]change, error) {
	parts = slices.Clone(parts)
	for i := range parts {
		parts[i].From, _ = j.member(parts[i].From)
	}
	slices.SortFunc(parts, func(a, b Span) int { return a.From - b.From })
	var edits []change
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
		before := from - len(j.doc.text.gapBefore(from))
		if before == 0 {
			return nil, fmt.Errorf("all of the file %w", ErrNotWritable)
		}
		at, c := j.after(to)
		switch {
		case c == ',':
			to, _ = j.after(at + 1)
		case j.doc.text.at(before-1) == ',':
			from = before - 1
		default: // all that was there
			from, to = before, at
		}
		edits = append(edits, change{from, to, ""})
	}
	return edits, nil
}

// add puts an element into an array, or a member, with its name, into an object.
func (j *jsonShape) add(in Span, after *Span, piece string) (change, error) {
	at, open := j.after(in.From)
	if open != '{' && open != '[' {
		return change{}, fmt.Errorf("what is neither array nor object cannot hold more: %w", ErrNotWritable)
	}
	if after == nil {
		var last *Span
		visit := func(p place) error { last = &Span{From: p.from, To: p.to}; return nil }
		if err := j.doc.text.elements(place{at, in.To}, visit); err != nil {
			return change{}, err
		}
		after = last
	}
	if after == nil {
		return change{at + 1, at + 1, piece}, nil
	}
	start, _ := j.member(after.From)
	return change{after.To, after.To, "," + j.doc.text.gapBefore(start) + piece}, nil
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

func (j *jsonShape) rename(s Span, name string) ([]change, error) {
	start, key := j.member(s.From)
	if start == s.From || !utf8.ValidString(name) {
		return nil, fmt.Errorf("what is no member has no name: %w", ErrNotWritable)
	}
	quoted, err := jsontext.AppendQuote(nil, name)
	if err != nil || key == name {
		return nil, err
	}
	end := start + 1
	for ; j.doc.text.at(end) != '"'; end++ {
		if j.doc.text.at(end) == '\\' {
			end++
		}
	}
	return []change{{start, end + 1, string(quoted)}}, nil
}
