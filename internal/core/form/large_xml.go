package form

import (
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"github.com/antchfx/xmlquery"
	"golang.org/x/text/encoding/htmlindex"
)

// largeXML is an element of a large XML, or all of it.
type largeXML struct {
	text *xmlSource
	at   xmlElement
}

type xmlSource struct {
	data []byte
	root xmlElement           // has the outermost element for its child
	seen map[int][]xmlElement // children, by where what is in their parent begins
}

// xmlElement is an element where it stands: all of it, its start tag, and what is in it.
type xmlElement struct{ outer, tag, inner place }

// maxText is how many bytes an element that is a value may have.
const maxText = 1 << 20

var xmlEncoding = regexp.MustCompile(`^<\?xml\s[^>]*?encoding\s*=\s*["']([\w.:-]+)["']`)

func parseLargeXML(data []byte) (Doc, error) {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	if m := xmlEncoding.FindSubmatch(data); m != nil && !strings.EqualFold(string(m[1]), "utf-8") {
		enc, err := htmlindex.Get(string(m[1]))
		if err != nil {
			return nil, fmt.Errorf("%w: not XML: the encoding %q", ErrDamaged, m[1])
		}
		if data, err = enc.NewDecoder().Bytes(data); err != nil {
			return nil, fmt.Errorf("%w: not %s: %v", ErrDamaged, m[1], err)
		}
	}
	all := place{0, len(data)}
	t := &xmlSource{data: data, root: xmlElement{outer: all, inner: all}, seen: map[int][]xmlElement{}}
	elements := 0
	if err := t.children(t.root, func(xmlElement) error { elements++; return nil }); err != nil { // which passes over all of it
		return nil, err
	}
	if elements == 0 {
		return nil, fmt.Errorf("%w: the XML has no element", ErrDamaged)
	}
	return largeXML{t, t.root}, nil
}

var errEarly = fmt.Errorf("%w: the XML ends too early", ErrDamaged)

// Kinds of tags.
const (
	noTag = iota
	startTag
	endTag
	emptyTag // <a/>
)

// tag finds the first tag at or behind at, passing over comments, CDATA and instructions.
func (t *xmlSource) tag(at, end int) (kind int, tag place, err error) {
	for {
		i := bytes.IndexByte(t.data[at:end], '<')
		if i < 0 {
			return noTag, place{}, nil
		}
		at += i
		rest := t.data[at:end]
		n := 0
		switch {
		case bytes.HasPrefix(rest, []byte("<!--")):
			n = endOf(rest, 4, "-->")
		case bytes.HasPrefix(rest, []byte("<![CDATA[")):
			n = endOf(rest, 9, "]]>")
		case bytes.HasPrefix(rest, []byte("<?")):
			n = endOf(rest, 2, "?>")
		case bytes.HasPrefix(rest, []byte("<!")):
			n = endOfTag(rest)
		default:
			if n = endOfTag(rest); n < 0 {
				return noTag, place{}, errEarly
			}
			kind = startTag
			if rest[1] == '/' {
				kind = endTag
			} else if rest[n-2] == '/' {
				kind = emptyTag
			}
			return kind, place{at, at + n}, nil
		}
		if n < 0 {
			return noTag, place{}, errEarly
		}
		at += n
	}
}

// endOf is where what begins text, and does not end before from, ends.
func endOf(text []byte, from int, ending string) int {
	i := bytes.Index(text[min(from, len(text)):], []byte(ending))
	if i < 0 {
		return -1
	}
	return from + i + len(ending)
}

// endOfTag is where the tag or declaration that begins text ends: at a > outside quotes, and outside of what a <!DOCTYPE … [ <!…> ]> has
// in it.
func endOfTag(text []byte) int {
	depth := 0
	var quote byte
	for i, c := range text {
		switch {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '<':
			depth++
		case c == '>':
			if depth--; depth == 0 {
				return i + 1
			}
		}
	}
	return -1
}

// name is that of a tag, with its prefix.
func (t *xmlSource) name(tag place) []byte {
	name := bytes.TrimPrefix(t.data[tag.from+1:tag.to-1], []byte("/"))
	if i := bytes.IndexAny(name, " \t\r\n/"); i >= 0 {
		name = name[:i]
	}
	return name
}

// children visits the elements in an element, in the order of the text.
func (t *xmlSource) children(in xmlElement, visit func(xmlElement) error) error {
	if known, ok := t.seen[in.inner.from]; ok {
		for _, e := range known {
			if err := visit(e); err != nil {
				return err
			}
		}
		return nil
	}
	var all []xmlElement
	found := func(e xmlElement) error {
		if len(all) <= rememberedParts {
			all = append(all, e)
		}
		return visit(e)
	}
	var open [][]byte // names
	var child xmlElement
	for at := in.inner.from; ; {
		kind, tag, err := t.tag(at, in.inner.to)
		if err != nil {
			return err
		}
		at = tag.to
		switch name := t.nameOf(kind, tag); kind {
		case noTag:
			if len(open) > 0 {
				return errEarly
			}
			if len(all) <= rememberedParts && len(t.seen) < remembered {
				t.seen[in.inner.from] = all
			}
			return nil
		case startTag:
			if len(open) == 0 {
				child = xmlElement{outer: tag, tag: tag, inner: place{tag.to, tag.to}}
			}
			if open = append(open, name); len(open) > maxDepth {
				return fmt.Errorf("%w: nested deeper than %d", ErrTooLarge, maxDepth)
			}
		case emptyTag:
			if len(open) == 0 {
				err = found(xmlElement{outer: tag, tag: tag, inner: place{tag.to, tag.to}})
			}
		case endTag:
			last := len(open) - 1
			if last < 0 || !bytes.Equal(open[last], name) {
				return fmt.Errorf("%w: not XML: %.60q ends and had not begun", ErrDamaged, name)
			}
			if open = open[:last]; last == 0 {
				child.outer.to, child.inner.to = tag.to, tag.from
				err = found(child)
			}
		}
		if err != nil {
			return err
		}
	}
}

func (t *xmlSource) nameOf(kind int, tag place) []byte {
	if kind == noTag {
		return nil
	}
	return t.name(tag)
}

// find visits what steps lead to from an element: elements, or an attribute as its text.
func (t *xmlSource) find(at xmlElement, steps []step, visit func(xmlElement, *string) error) error {
	if len(steps) == 0 {
		return visit(at, nil)
	}
	s, rest := steps[0], steps[1:]
	switch {
	case s.attribute:
		texts, err := t.attributes(at, s.name)
		for _, text := range texts {
			if err := visit(at, &text); err != nil {
				return err
			}
		}
		return err
	case s.name == "": // from the root on
		return t.find(t.root, rest, visit)
	}
	i := 0
	err := t.children(at, func(e xmlElement) error {
		if !s.all && string(t.name(e.tag)) != s.name {
			return nil
		}
		if ok, err := t.holds(e, s.where); err != nil || !ok {
			return err
		}
		if i++; s.index >= 0 && i <= s.index {
			return nil
		}
		if err := t.find(e, rest, visit); err != nil || s.index < 0 {
			return err
		}
		return errFound
	})
	if err == errFound {
		return nil
	}
	return err
}

func (t *xmlSource) holds(e xmlElement, where *equal) (bool, error) {
	if where == nil {
		return true, nil
	}
	if where.attribute {
		texts, err := t.attributes(e, where.member)
		return slices.Contains(texts, where.text), err
	}
	is := false
	err := t.children(e, func(c xmlElement) error {
		if string(t.name(c.tag)) != where.member {
			return nil
		}
		text, err := t.content(c)
		is = is || err == nil && text == where.text
		return err
	})
	return is, err
}

// attributes are the values of an attribute of an element: one, if it is well-formed.
func (t *xmlSource) attributes(e xmlElement, name string) ([]string, error) {
	if e.tag.to == 0 {
		return nil, nil
	}
	token, err := decoderOf(t.data[e.tag.from:e.tag.to]).RawToken()
	start, ok := token.(xml.StartElement)
	if err != nil || !ok {
		return nil, fmt.Errorf("%w: not XML: %v", ErrDamaged, err)
	}
	var values []string
	for _, a := range start.Attr {
		if a.Name.Space == "" && a.Name.Local == name {
			values = append(values, a.Value)
		}
	}
	return values, nil
}

func decoderOf(fragment []byte) *xml.Decoder {
	d := xml.NewDecoder(bytes.NewReader(fragment))
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil } // it is UTF-8 by now
	return d
}

// content is the text in an element and in those in it.
func (t *xmlSource) content(e xmlElement) (string, error) {
	if n := e.inner.to - e.inner.from; n > maxText {
		return "", fmt.Errorf("%w: a text of %d bytes", ErrTooLarge, n)
	}
	var b strings.Builder
	d := decoderOf(t.data[e.inner.from:e.inner.to])
	for {
		token, err := d.RawToken()
		if err == io.EOF {
			return b.String(), nil
		}
		if err != nil {
			return "", fmt.Errorf("%w: not XML: %v", ErrDamaged, err)
		}
		if text, ok := token.(xml.CharData); ok {
			b.Write(text)
		}
	}
}

// tree is the element as a tree, for what the streaming subset cannot say.
func (d largeXML) tree(query string) (Doc, error) {
	e := d.at
	if strings.HasPrefix(query, "/") {
		e = d.text.root
	}
	if e.outer.to-e.outer.from > maxTree {
		return nil, errSubset(query)
	}
	doc, err := parseXML(d.text.data[e.outer.from:e.outer.to])
	if err != nil || e == d.text.root {
		return doc, err
	}
	node := doc.(xmlDoc).node.FirstChild
	for node.Type != xmlquery.ElementNode {
		node = node.NextSibling
	}
	return xmlDoc{node}, nil
}

func (d largeXML) Value(ctx context.Context, query string) (string, bool, error) {
	steps, streams := xmlSteps(query)
	if !streams {
		doc, err := d.tree(query)
		if err != nil {
			return "", false, err
		}
		return doc.Value(ctx, query)
	}
	var first *xmlElement
	var attribute *string
	err := d.text.find(d.at, steps, func(e xmlElement, text *string) error {
		first, attribute = &e, text
		return errEnough
	})
	switch {
	case err != nil && err != errEnough, first == nil:
		return "", false, errors.Join(err, ctx.Err())
	case attribute != nil:
		return strings.TrimSpace(*attribute), true, nil
	}
	text, err := d.text.content(*first)
	return strings.TrimSpace(text), err == nil, err
}

func (d largeXML) Each(ctx context.Context, query string) ([]Doc, error) {
	steps, streams := xmlSteps(query)
	if !streams || len(steps) > 0 && steps[len(steps)-1].attribute {
		doc, err := d.tree(query)
		if err != nil {
			return nil, err
		}
		return doc.Each(ctx, query)
	}
	var docs []Doc
	err := d.text.find(d.at, steps, func(e xmlElement, _ *string) error {
		docs = append(docs, largeXML{d.text, e})
		return errors.Join(ctx.Err(), checkCount(docs))
	})
	return docs, err
}

func (d largeXML) Close() error { return nil }
