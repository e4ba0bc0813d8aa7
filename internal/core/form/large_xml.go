package form

import (
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/antchfx/xmlquery"
)

// largeXML is an element of a large XML, or all of it.
type largeXML struct {
	text *xmlSource
	at   xmlElement
}

type xmlSource struct {
	*source
	again
	root xmlElement // has the outermost element for its child
}

func newXML(text *source) *xmlSource {
	all := place{0, text.size}
	return &xmlSource{source: text, again: again{form: "xml"}, root: xmlElement{outer: all, inner: all}}
}

// xmlElement is an element where it stands: all of it, its start tag, and what is in it.
type xmlElement struct{ outer, tag, inner place }

// maxText is how many bytes an element that is a value may have.
const maxText = 1 << 20

func parseLargeXML(data []byte) (Doc, error) {
	return largeXMLOf(inMemory(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))))
}

// largeXMLOf passes over all of an XML in UTF-8, to see whether it is whole.
func largeXMLOf(text *source) (Doc, error) {
	t := newXML(text)
	t.recall("xml")
	t.goAhead(xmlSiblings{})
	defer t.endAhead()
	end, err := t.whole()
	if err == nil {
		err = t.onlyNotesBehind(end)
	}
	if err != nil {
		return nil, err
	}
	t.remember()
	return largeXML{t, t.root}, nil
}

// whole passes over all of it, and returns where the last outermost element ends.
func (t *xmlSource) whole() (end int, err error) {
	err = t.children(t.root, func(e xmlElement) error { end = e.outer.to; return nil })
	if err == nil && end == 0 {
		err = fmt.Errorf("%w: the XML has no element", ErrDamaged)
	}
	return end, err
}

// onlyNotesBehind is an error where more than comments and instructions follows the last element.
func (t *xmlSource) onlyNotesBehind(end int) error {
	for {
		at := t.behind(end)
		head := string(t.bytes(at, min(at+4, t.size)))
		to := -1
		switch {
		case head == "<!--":
			to = t.endOf(at+4, t.size, "-->")
		case strings.HasPrefix(head, "<?"):
			to = t.endOf(at+2, t.size, "?>")
		}
		if to < 0 {
			return nothingBehind("XML", t.source, at)
		}
		end = to
	}
}

var errEarly = fmt.Errorf("%w: the XML ends too early", ErrDamaged)

// children visits the elements in an element, in the order of the text. Where visit is nil, they are only passed over.
func (t *xmlSource) children(in xmlElement, visit func(xmlElement) error) error {
	var open names
	var outermost place // its start tag
	for at := in.inner.from; ; {
		kind, tag, err := t.tag(at, in.inner.to)
		if err != nil {
			return err
		}
		at = tag.to
		var name []byte
		if kind == startTag || kind == endTag {
			name = t.name(tag)
		}
		if (kind == startTag || kind == emptyTag) && len(open.ends) > 0 && t.meets(tag.from) {
			if to, ok := t.jump(); ok {
				at = to
				continue
			}
		}
		switch kind {
		case noTag:
			if len(open.ends) > 0 {
				return errEarly
			}
			return nil
		case startTag:
			if e, ok := t.part(tag.from); ok {
				at = e.to
				if len(open.ends) == 0 && visit != nil {
					err = visit(xmlElement{outer: place{tag.from, e.to}, tag: tag, inner: place{tag.to, e.inner}})
				}
				break
			}
			if len(open.ends) == 0 {
				outermost = tag
			}
			if open.push(name, tag.from); len(open.ends) > maxDepth {
				return fmt.Errorf("%w: nested deeper than %d", ErrTooLarge, maxDepth)
			}
		case emptyTag:
			if len(open.ends) == 0 && visit != nil {
				err = visit(xmlElement{outer: tag, tag: tag, inner: place{tag.to, tag.to}})
				break
			}
			at = t.alike(&open, tag.to, in.inner.to)
		case endTag:
			from, ok := open.pop(name)
			if !ok {
				return unopened{"xml", string(name), tag.from, len(open.ends) > 0}
			}
			if tag.to-from >= t.least {
				t.note(from, extent{tag.from, tag.to})
			}
			if len(open.ends) == 0 && visit != nil {
				err = visit(xmlElement{outer: place{from, tag.to}, tag: outermost, inner: place{outermost.to, tag.from}})
				break
			}
			at = t.alike(&open, tag.to, in.inner.to)
		}
		if err != nil {
			return err
		}
	}
}

// alike passes over the elements that are written as the one that has just ended, and returns where the last of them ends.
func (t *xmlSource) alike(open *names, at, end int) int {
	before := open.ended(at)
	if before < t.base || before == 0 || at-before > maxAgain || at > t.base+len(t.data) {
		return at
	}
	i := at - t.base
	length, n := t.again.pass(t.data[before-t.base:i], t.data[i:], t.toMeeting(at, end-at))
	if n > 0 {
		open.ended(at + length)
	}
	return at + length
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
	tag := t.bytes(e.tag.from, e.tag.to)
	if from, to, ok := attributeIn(tag, name); ok && bytes.IndexByte(tag, '&') < 0 && !bytes.ContainsAny(tag[from:to], "\r\n\t") {
		return []string{string(tag[from:to])}, nil
	}
	token, err := decoderOf(tag).RawToken()
	start, ok := token.(xml.StartElement)
	if err != nil || !ok {
		return nil, fmt.Errorf("%w: not XML: %v", ErrDamaged, err)
	}
	var values []string
	for _, a := range start.Attr {
		if rawName(a.Name) == name {
			values = append(values, a.Value)
		}
	}
	return values, nil
}

func decoderOf(fragment []byte) *xml.Decoder {
	d := xml.NewDecoder(bytes.NewReader(fragment))
	d.CharsetReader = asItIs
	return d
}

// content is the text in an element and in those in it.
func (t *xmlSource) content(e xmlElement) (string, error) {
	if n := e.inner.to - e.inner.from; n > maxText {
		return "", fmt.Errorf("%w: a text of %d bytes", ErrTooLarge, n)
	}
	var b strings.Builder
	d := decoderOf(t.bytes(e.inner.from, e.inner.to))
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
	doc, err := parseXML(d.text.bytes(e.outer.from, e.outer.to))
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
		return "", false, d.text.failed(errors.Join(err, ctx.Err()))
	case attribute != nil:
		return strings.TrimSpace(*attribute), true, nil
	}
	text, err := d.text.content(*first)
	err = d.text.failed(err)
	return strings.TrimSpace(text), err == nil, err
}

func (d largeXML) Each(ctx context.Context, query string) ([]Doc, error) {
	steps, streams := xmlSteps(query)
	if !streams {
		doc, err := d.tree(query)
		if err != nil {
			return nil, err
		}
		return doc.Each(ctx, query)
	}
	var docs []Doc
	err := d.text.find(d.at, steps, func(e xmlElement, attribute *string) error {
		if attribute != nil {
			docs = append(docs, matchDoc{".": strings.TrimSpace(*attribute)})
		} else {
			docs = append(docs, largeXML{d.text, e})
		}
		return errors.Join(ctx.Err(), checkCount(docs))
	})
	return docs, d.text.failed(err)
}

func (d largeXML) Close() error { return d.text.close() }

// eachText visits the texts that a query of the streaming subset names.
func (d largeXML) eachText(query string, visit func(string) error) (streams bool, err error) {
	steps, streams := xmlSteps(query)
	if !streams {
		return false, nil
	}
	return true, d.text.find(d.at, steps, func(e xmlElement, attribute *string) error {
		if attribute != nil {
			return visit(strings.TrimSpace(*attribute))
		}
		text, err := d.text.content(e)
		if err = d.text.failed(err); err != nil {
			return err
		}
		return visit(strings.TrimSpace(text))
	})
}

// xmlSiblings are elements of the same parent.
type xmlSiblings struct{}

func (xmlSiblings) begin(text *source, at int) int {
	for {
		if at = text.index(at, text.size, '<'); at < 0 {
			return -1
		}
		if c := text.byteAt(at + 1); c == '_' || c|0x20 >= 'a' && c|0x20 <= 'z' || c >= 0x80 {
			return at
		}
		at++
	}
}

func (xmlSiblings) pass(text *source, at int, long func()) (end int, err error) {
	t := newXML(text)
	from := at
	err = t.children(xmlElement{inner: place{at, t.size}}, func(e xmlElement) error {
		if from = e.outer.to; from-at > t.step {
			return errEnough
		}
		return nil
	})
	if err == errEnough {
		long()
		err = t.children(xmlElement{inner: place{from, t.size}}, nil)
	}
	if to, ok := parentEnds(err); ok {
		return to, nil
	}
	return at, errors.Join(err, errEarly)
}
