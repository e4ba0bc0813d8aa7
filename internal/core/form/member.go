package form

import (
	"context"
	"maps"
	"slices"
	"strings"
)

// Self is what a list's element of a form is asked for its own value with.
func Self(form string) string {
	if form == "json" || form == "blocks" {
		return "$"
	}
	return "."
}

// ByGroup reports whether the parts of an element are the named groups of a pattern, so that they need not be named again.
func ByGroup(element Doc) bool {
	_, ok := element.(matchDoc)
	return ok
}

// Section is one section of an INI; ok is false where it is not there, or where doc is no INI.
func Section(doc Doc, name string) (section Doc, ok bool) {
	d, _ := doc.(iniDoc)
	return d.section(name)
}

// member is a member of an object, with its key. It is asked for "@key" and "@value", or for what its value has inside.
type member struct {
	key string
	Doc
}

func (m member) Value(ctx context.Context, query string) (string, bool, error) {
	switch query {
	case "@key":
		return m.key, true, nil
	case "@value":
		query = "$"
	}
	if !strings.HasPrefix(query, "$") {
		return "", false, nil
	}
	return m.Doc.Value(ctx, query)
}

// Members are the members of objects of JSON or blocks, and the elements of arrays. there tells whether any of docs is one or the other.
func Members(ctx context.Context, docs []Doc) (all []Doc, there bool, err error) {
	for _, doc := range docs {
		switch d := doc.(type) {
		case jsonDoc:
			switch node := d.node.(type) {
			case map[string]any:
				there = true
				for _, key := range slices.Sorted(maps.Keys(node)) {
					all = append(all, member{key, jsonDoc{node[key]}})
				}
			case []any:
				there = true
				for _, element := range node {
					all = append(all, member{"", jsonDoc{element}})
				}
			}
		case largeJSON:
			kind := d.text.kind(d.at)
			there = there || kind == '{' || kind == '['
			if kind == '[' {
				err = d.text.elements(d.at, func(at place) error {
					all = append(all, member{"", largeJSON{d.text, at}})
					return checkCount(all)
				})
			} else {
				err = d.text.members(d.at, func(m jsonMember) error {
					all = append(all, member{m.name, largeJSON{d.text, m.value}})
					return checkCount(all)
				})
			}
			if err != nil {
				return nil, there, err
			}
		}
	}
	return all, there, nil
}
