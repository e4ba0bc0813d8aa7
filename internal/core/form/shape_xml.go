package form

import (
	"bytes"
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"regexp"
	"strings"
)

// xmlShape is an XML whose elements and attributes know where they stand.
type xmlShape struct{ doc *xmlSource }

// xmlPart is an element, or an attribute of it.
type xmlPart struct {
	xmlElement
	attribute string
}

func shapeXML(text *source) (shape, error) {
	doc, err := largeXMLOf(text)
	if err != nil {
		return nil, err
	}
	return &xmlShape{doc.(largeXML).text}, nil
}

func (x *xmlShape) spans(_ context.Context, of *Span, query string, _ bool) ([]Span, error) {
	steps, ok := xmlSteps(query)
	if !ok {
		return nil, errNotStreaming(query)
	}
	at := x.doc.root
	if of != nil {
		part, ok := of.node.(xmlPart)
		if !ok || part.attribute != "" {
			return nil, errNotStreaming(query)
		}
		at = part.xmlElement
	}
	attribute := ""
	if len(steps) > 0 && steps[len(steps)-1].attribute {
		attribute = steps[len(steps)-1].name
	}
	var found []Span
	err := x.doc.find(at, steps, func(e xmlElement, _ *string) error {
		if len(found) > maxElements {
			return fmt.Errorf("%w: a list of more than %d", ErrTooLarge, maxElements)
		}
		s := Span{e.outer.from, e.outer.to, xmlPart{e, attribute}}
		if attribute != "" {
			from, to, ok := attributeIn(x.doc.peek(e.tag.from, e.tag.to), attribute)
			if !ok {
				return missingValue(query)
			}
			s.From, s.To = e.tag.from+from, e.tag.from+to
		}
		found = append(found, s)
		return nil
	})
	return found, err
}

func (x *xmlShape) value(s Span) (string, bool, error) {
	part := s.node.(xmlPart)
	if part.attribute == "" {
		text, err := x.doc.content(part.xmlElement)
		return strings.TrimSpace(text), err == nil, err
	}
	texts, err := x.doc.attributes(part.xmlElement, part.attribute)
	if err != nil || len(texts) != 1 {
		return "", false, err
	}
	return strings.TrimSpace(texts[0]), true, nil
}

func (x *xmlShape) set(s Span, value string) (change, error) {
	part := s.node.(xmlPart)
	var escaped bytes.Buffer
	if err := xml.EscapeText(&escaped, []byte(value)); err != nil {
		return change{}, err
	}
	if part.attribute != "" {
		return change{s.From, s.To, escaped.String()}, nil
	}
	if x.empty(part.xmlElement) {
		return x.fill(part.xmlElement, escaped.String()), nil
	}
	d := newXMLDecoder(x.doc.peek(part.inner.from, min(part.inner.to, part.inner.from+maxText)))
	for {
		token, err := d.RawToken()
		if err == io.EOF {
			return change{part.inner.from, part.inner.to, escaped.String()}, nil
		}
		if err != nil {
			return change{}, fmt.Errorf("%w: not XML: %v", ErrDamaged, err)
		}
		if _, ok := token.(xml.CharData); !ok {
			return change{}, fmt.Errorf("it holds more than text: %w", ErrNotWritable)
		}
	}
}

// empty reports whether an element is a tag alone, <a/>.
func (x *xmlShape) empty(e xmlElement) bool { return e.outer == e.tag && x.doc.at(e.tag.to-2) == '/' }

// fill makes of <a/> an element that has something in it.
func (x *xmlShape) fill(e xmlElement, piece string) change {
	return change{e.tag.to - 2, e.tag.to, ">" + piece + "</" + string(x.doc.name(e.tag)) + ">"}
}

// cut takes elements out, with the lines that they stand on alone, and attributes with the space before them.
func (x *xmlShape) cut(parts []Span) ([]change, error) {
	var edits []change
	for _, s := range parts {
		part := s.node.(xmlPart)
		switch {
		case part.attribute != "":
			from := x.nameOf(s)
			edits = append(edits, change{from - len(x.doc.gapBefore(from)), s.To + 1, ""})
		case part.tag.to == 0:
			return nil, fmt.Errorf("all of the file %w", ErrNotWritable)
		default:
			from, to, _ := x.doc.lineOf(s.From, s.To)
			edits = append(edits, change{from, to, ""})
		}
	}
	return edits, nil
}

// nameOf is where the name of an attribute begins.
func (x *xmlShape) nameOf(s Span) int {
	part := s.node.(xmlPart)
	tag := x.doc.peek(part.tag.from, s.From-1)
	from := bytes.LastIndexByte(tag, '=')
	return part.tag.from + from - len(gapBefore(tag, from)) - len(part.attribute)
}

// add puts elements into an element, with the white space before them that their neighbour has.
func (x *xmlShape) add(in Span, after *Span, piece string) (change, error) {
	part, ok := in.node.(xmlPart)
	if !ok {
		return change{}, fmt.Errorf("beside the outermost element nothing %w", ErrNotWritable)
	}
	if after != nil {
		return change{after.To, after.To, x.doc.gapBefore(after.From) + piece}, nil
	}
	if x.empty(part.xmlElement) {
		return x.fill(part.xmlElement, piece), nil
	}
	at, last := part.inner.to, -1
	err := x.doc.children(part.xmlElement, func(c xmlElement) error {
		at, last = c.outer.to, c.outer.from
		return nil
	})
	gap := ""
	if last >= 0 {
		gap = x.doc.gapBefore(last)
	}
	return change{at, at, gap + piece}, err
}

var xmlPlace = regexp.MustCompile(`^([\w.:-]+)(?:\[([1-9]\d{0,6})\])?$`)

// attributeIn finds the value of an attribute in a start tag.
func attributeIn(tag []byte, name string) (from, to int, ok bool) {
	skip := func(at int, set string) int {
		for at < len(tag) && strings.IndexByte(set, tag[at]) >= 0 {
			at++
		}
		return at
	}
	word := func(at int) int {
		if n := bytes.IndexAny(tag[at:], " \t\r\n=/>"); n >= 0 {
			return at + n
		}
		return len(tag)
	}
	const blank = " \t\r\n"
	for at := skip(word(0), blank); at < len(tag); {
		end := word(at)
		eq := skip(end, blank)
		if end == at || eq == len(tag) || tag[eq] != '=' {
			return 0, 0, false
		}
		quote := skip(eq+1, blank)
		if quote == len(tag) {
			return 0, 0, false
		}
		n := bytes.IndexByte(tag[quote+1:], tag[quote])
		if n < 0 || tag[quote] != '"' && tag[quote] != '\'' {
			return 0, 0, false
		}
		if string(tag[at:end]) == name {
			return quote + 1, quote + 1 + n, true
		}
		at = skip(quote+2+n, blank)
	}
	return 0, 0, false
}

func (x *xmlShape) rename(s Span, name string) ([]change, error) {
	part := s.node.(xmlPart)
	if part.attribute != "" {
		from := x.nameOf(s)
		return []change{{from, from + len(part.attribute), name}}, nil
	}
	was := len(x.doc.name(part.tag))
	edits := []change{{part.tag.from + 1, part.tag.from + 1 + was, name}}
	if part.outer != part.tag {
		edits = append(edits, change{part.inner.to + 2, part.inner.to + 2 + was, name})
	}
	return edits, nil
}
