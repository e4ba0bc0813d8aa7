package form

import (
	"bytes"
	"context"
	"errors"
)

// largeJSON is a value of a large JSON.
type largeJSON struct {
	text *jsonSource
	at   place
}

type jsonSource struct {
	*source
	again
	open []jsonOpen // room for what a walk finds open
	// strict refuses a name that an object has twice: readers differ in which one counts, so it is not written.
	strict bool
}

func newJSON(text *source) *jsonSource {
	return &jsonSource{source: text, again: again{form: "json"}}
}

// jsonMember is a member of an object.
type jsonMember struct {
	name  string
	value place
}

func parseLargeJSON(data []byte) (Doc, error) {
	return largeJSONOf(inMemory(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))))
}

// largeJSONOf passes over all of a JSON in UTF-8, to see whether it is whole.
func largeJSONOf(text *source) (Doc, error) {
	t := newJSON(text)
	root := largeJSON{t, place{text.bom(), text.size}}
	t.recall("json")
	t.goAhead(jsonSiblings{})
	defer t.endAhead()
	var end int
	var err error
	if t.kind(root.at) == '{' {
		end, err = t.parts(root.at, '{', func(place, place) error { return nil }) // which passes over all of it
	} else {
		var value place
		value, err = t.pass(root.at.from, root.at.to)
		end = value.to
	}
	if err == nil {
		err = nothingBehind("JSON", t.source, end)
	}
	if err != nil {
		return nil, err
	}
	t.remember()
	return root, nil
}

// members visits the members of an object, in the order of the text; of what is no object there are none.
func (t *jsonSource) members(at place, visit func(jsonMember) error) error {
	_, err := t.parts(at, '{', func(name, value place) error {
		text, err := t.text(name)
		if err != nil {
			return err
		}
		return visit(jsonMember{text, value})
	})
	return err
}

// elements visits the elements of an array, or the values of an object.
func (t *jsonSource) elements(at place, visit func(place) error) error {
	if t.kind(at) != '[' {
		return t.members(at, func(m jsonMember) error { return visit(m.value) })
	}
	_, err := t.parts(at, '[', func(_, value place) error { return visit(value) })
	return err
}

// parts visits what stands in the brackets that a value begins with, and returns where they end; of one that begins otherwise there is nothing.
func (t *jsonSource) parts(at place, bracket byte, visit func(name, value place) error) (end int, err error) {
	from, c, _ := t.start(at.from, at.to)
	if c != bracket {
		return 0, nil
	}
	for first := true; ; first = false {
		from++ // behind the bracket or the comma
		next, c, ok := t.start(from, at.to)
		switch {
		case !ok:
			return 0, t.early()
		case first && c == bracket+2:
			return next + 1, nil
		}
		var name place
		if bracket == '{' {
			if c != '"' {
				return 0, t.unexpected(next, c)
			}
			to, err := t.scalarEnd(next, at.to)
			if err != nil {
				return 0, err
			}
			name = place{next, to}
			if next, c, ok = t.start(to, at.to); !ok {
				return 0, t.early()
			} else if c != ':' {
				return 0, t.unexpected(next, c)
			}
			next++
		}
		value, err := t.pass(next, at.to)
		if err != nil {
			return 0, err
		}
		if err := visit(name, value); err != nil {
			return 0, err
		}
		if from, c, ok = t.start(value.to, at.to); !ok {
			return 0, t.early()
		} else if c == bracket+2 {
			return from + 1, nil
		} else if c != ',' {
			return 0, t.unexpected(from, c)
		}
	}
}

// find visits the values that steps lead to from at.
func (t *jsonSource) find(at place, steps []step, visit func(place) error) error {
	if len(steps) == 0 {
		return visit(at)
	}
	s, rest := steps[0], steps[1:]
	switch {
	case s.all:
		return t.elements(at, func(value place) error {
			if ok, err := t.holds(value, s.where); err != nil || !ok {
				return err
			}
			return t.find(value, rest, visit)
		})
	case s.name != "":
		value, ok, err := t.member(at, s.name)
		if err != nil || !ok {
			return err
		}
		return t.find(value, rest, visit)
	}
	if t.kind(at) != '[' {
		return nil
	}
	i := 0
	err := t.elements(at, func(value place) error {
		if i++; i <= s.index {
			return nil
		}
		if err := t.find(value, rest, visit); err != nil {
			return err
		}
		return errFound
	})
	if err == errFound {
		return nil
	}
	return err
}

// member is the value of a member; of several that have the name, of the last one.
func (t *jsonSource) member(at place, name string) (value place, ok bool, err error) {
	err = t.members(at, func(m jsonMember) error {
		if m.name == name {
			if ok && t.strict {
				return severalValues(name)
			}
			value, ok = m.value, true
		}
		return nil
	})
	return value, ok, err
}

func (t *jsonSource) holds(at place, where *equal) (bool, error) {
	if where == nil {
		return true, nil
	}
	value, ok, err := t.member(at, where.member)
	if err != nil || !ok || t.byteAt(value.from) != '"' {
		return false, err
	}
	text, ok, err := t.scalar(value)
	return ok && text == where.text, err
}

// scalar is a single value as text.
func (t *jsonSource) scalar(at place) (string, bool, error) {
	value, err := t.pass(at.from, at.to)
	if err != nil {
		return "", false, err
	}
	switch t.byteAt(value.from) {
	case '"':
		text, err := t.text(value)
		return text, err == nil, err
	case '{', '[', 'n':
		return "", false, nil
	}
	return string(t.bytes(value.from, value.to)), true, nil
}

// tree is the value as a tree, for what the streaming subset cannot say.
func (d largeJSON) tree(query string) (Doc, error) {
	if d.at.to-d.at.from > maxTree {
		return nil, errSubset(query)
	}
	return parseJSON(d.text.bytes(d.at.from, d.at.to))
}

func (d largeJSON) Value(ctx context.Context, query string) (text string, ok bool, err error) {
	steps, streams := jsonSteps(query)
	if !streams {
		doc, err := d.tree(query)
		if err != nil {
			return "", false, err
		}
		return doc.Value(ctx, query)
	}
	var first *place
	err = d.text.find(d.at, steps, func(at place) error {
		first = &at
		return errEnough
	})
	if err != nil && err != errEnough || first == nil {
		return "", false, d.text.failed(errors.Join(err, ctx.Err()))
	}
	text, ok, err = d.text.scalar(*first)
	err = d.text.failed(err)
	return text, ok && err == nil, err
}

func (d largeJSON) Each(ctx context.Context, query string) ([]Doc, error) {
	steps, streams := jsonSteps(query)
	if !streams {
		doc, err := d.tree(query)
		if err != nil {
			return nil, err
		}
		return doc.Each(ctx, query)
	}
	var docs []Doc
	err := d.text.find(d.at, steps, func(at place) error {
		docs = append(docs, largeJSON{d.text, at})
		return errors.Join(ctx.Err(), checkCount(docs))
	})
	return docs, d.text.failed(err)
}

func (d largeJSON) Close() error { return d.text.close() }

// eachText visits the texts that a query of the streaming subset names.
func (d largeJSON) eachText(query string, visit func(string) error) (streams bool, err error) {
	steps, streams := jsonSteps(query)
	if !streams {
		return false, nil
	}
	return true, d.text.find(d.at, steps, func(at place) error {
		text, ok, err := d.text.scalar(at)
		if err = d.text.failed(err); err != nil || !ok {
			return err
		}
		return visit(text)
	})
}

// jsonSiblings are elements of an array.
type jsonSiblings struct{}

func (jsonSiblings) begin(text *source, at int) int {
	t := newJSON(text)
	for {
		if at = t.index(at, t.size, ','); at < 0 {
			return -1
		}
		at++
		if from, c, ok := t.start(at, t.size); ok && (c == '{' || c == '[') {
			return from
		}
	}
}

func (jsonSiblings) pass(text *source, at int, long func()) (end int, err error) {
	t := newJSON(text)
	w := &jsonWalk{at: at, want: wantValue, open: []jsonOpen{{bracket: '[', from: t.size}}} // an array whose beginning is not known
	if err := t.walk(w, t.size, at+t.step); err != nil {
		return at, err
	}
	if len(w.open) > 0 {
		long()
		if err := t.walk(w, t.size, t.size); err != nil {
			return at, err
		}
	}
	return w.at - 1, nil // before the bracket
}
