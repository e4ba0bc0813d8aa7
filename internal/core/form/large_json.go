package form

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"github.com/go-json-experiment/json/jsontext"
)

// largeJSON is a value of a large JSON.
type largeJSON struct {
	text *jsonSource
	at   place
}

type jsonSource struct {
	*source
	seen map[int][]jsonMember // of objects, by where they begin
	// strict refuses a name that an object has twice: readers differ in which one counts, so it is not written.
	strict bool
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
	t := &jsonSource{source: text, seen: map[int][]jsonMember{}}
	root := largeJSON{t, place{0, text.size}}
	if bytes.Equal(text.bytes(0, min(3, text.size)), []byte("\xef\xbb\xbf")) {
		root.at.from = 3
	}
	if t.decoder(root.at).PeekKind() != '{' {
		if err := t.decoder(root.at).SkipValue(); err != nil {
			return nil, jsonDamage(err)
		}
		return root, nil
	}
	if err := t.members(root.at, func(jsonMember) error { return nil }); err != nil { // which passes over all of it
		return nil, err
	}
	return root, nil
}

func (t *jsonSource) decoder(at place) *jsontext.Decoder {
	return jsontext.NewDecoder(t.reader(at.from, at.to), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
}

func jsonDamage(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return fmt.Errorf("%w: the JSON ends too early", ErrDamaged)
	}
	return fmt.Errorf("%w: not JSON: %v", ErrDamaged, err)
}

// members visits the members of an object, in the order of the text; of what is no object there are none.
func (t *jsonSource) members(at place, visit func(jsonMember) error) error {
	if known, ok := t.seen[at.from]; ok {
		for _, m := range known {
			if err := visit(m); err != nil {
				return err
			}
		}
		return nil
	}
	d := t.decoder(at)
	if d.PeekKind() != '{' {
		return nil
	}
	if _, err := d.ReadToken(); err != nil {
		return jsonDamage(err)
	}
	var all []jsonMember
	for d.PeekKind() != '}' {
		name, err := d.ReadToken()
		if err != nil {
			return jsonDamage(err)
		}
		m := jsonMember{name: name.String()}
		if m.value, err = t.skip(d, at); err != nil {
			return err
		}
		if len(all) <= rememberedParts {
			all = append(all, m)
		}
		if err := visit(m); err != nil {
			return err
		}
	}
	if _, err := d.ReadToken(); err != nil {
		return jsonDamage(err)
	}
	if len(all) <= rememberedParts && len(t.seen) < remembered {
		t.seen[at.from] = all
	}
	return nil
}

// elements visits the elements of an array, or the values of an object.
func (t *jsonSource) elements(at place, visit func(place) error) error {
	d := t.decoder(at)
	if d.PeekKind() != '[' {
		return t.members(at, func(m jsonMember) error { return visit(m.value) })
	}
	if _, err := d.ReadToken(); err != nil {
		return jsonDamage(err)
	}
	for d.PeekKind() != ']' {
		value, err := t.skip(d, at)
		if err != nil {
			return err
		}
		if err := visit(value); err != nil {
			return err
		}
	}
	if _, err := d.ReadToken(); err != nil {
		return jsonDamage(err)
	}
	return nil
}

// skip passes over the next value of what d reads at a place, and returns where it stands.
func (t *jsonSource) skip(d *jsontext.Decoder, at place) (place, error) {
	from := at.from + int(d.InputOffset())
	if err := d.SkipValue(); err != nil {
		return place{}, jsonDamage(err)
	}
	to := at.from + int(d.InputOffset())
	for from < to && bytes.IndexByte([]byte(" \t\r\n:,"), t.byteAt(from)) >= 0 {
		from++
	}
	return place{from, to}, nil
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
	if t.decoder(at).PeekKind() != '[' {
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
	d := t.decoder(at)
	switch d.PeekKind() {
	case '"', '0', 't', 'f':
		token, err := d.ReadToken()
		if err != nil {
			return "", false, jsonDamage(err)
		}
		return token.String(), true, nil
	}
	return "", false, nil
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
		return "", false, errors.Join(err, ctx.Err())
	}
	return d.text.scalar(*first)
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
	return docs, err
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
		if err != nil || !ok {
			return err
		}
		return visit(text)
	})
}
