package doc

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"ostrov/internal/core/wrap"
)

// xmlScan goes once over an XML (https://www.w3.org/TR/xml, 1.0 and 1.1, without external entities).
type xmlScan struct {
	*source
	entities xmlEntities
	out      sink
	open     []event // the elements that are open
	names    nameStack
	ended    int   // the end of the last outermost element, or 0
	quiet    int   // in so many open elements nobody asks what there is; 0 is nowhere
	one      event // the text or attribute that is told
}

func (s *xmlScan) whole(out sink) error {
	s.out, s.open, s.names, s.ended, s.quiet = out, s.open[:0], s.names[:0], 0, 0
	if _, err := s.run(s.bom(), s.size, false); err != nil {
		return err
	}
	if s.ended == 0 {
		return fmt.Errorf("%w: the XML has no element", wrap.ErrDamaged)
	}
	return nil
}

func (s *xmlScan) inside(n *Node, out sink) error {
	if n.kind != kindElement {
		e := n.event()
		raw, err := s.bytes(n.value)
		if err != nil {
			return err
		}
		e.raw, e.plain = raw, bytes.IndexByte(raw, '&') < 0
		return out.leaf(&e)
	}
	inner := xmlScan{source: s.source, entities: s.entities, out: out}
	_, err := inner.run(n.From, n.To, true)
	return err
}

var errXMLEarly = fmt.Errorf("%w: the XML ends too early", wrap.ErrDamaged)

func (s *xmlScan) wrong(at int, what string) error {
	return atByte{at, fmt.Errorf("%w: not XML: %s at byte %d", wrap.ErrDamaged, what, at)}
}

// run goes over a part up to its end, or with one only over its first element, and returns where that ends.
func (s *xmlScan) run(at, end int, one bool) (int, error) {
	for at < end {
		part, err := s.from(at, 1)
		if err != nil {
			return at, err
		}
		lt := bytes.IndexByte(part[:min(len(part), end-at)], '<')
		if lt < 0 { // the text may go on behind the window
			if part, err = s.from(at, min(max(s.step, leastText), end-at)); err != nil {
				return at, err
			}
			lt = bytes.IndexByte(part[:min(len(part), end-at)], '<')
		}
		part = part[:min(len(part), end-at)]
		if lt != 0 {
			text := part[:max(lt, 0)]
			if lt < 0 {
				text = wholeText(part, at+len(part) >= end)
			}
			if err := s.textAt(at, text); err != nil {
				return at, err
			}
			at += len(text)
			continue
		}
		if at, err = s.markup(at, end, part); err != nil {
			return at, err
		}
		if one && len(s.open) == 0 && s.ended == at {
			return at, nil
		}
	}
	if len(s.open) > 0 {
		return at, errXMLEarly
	}
	return at, nil
}

// leastText is the least of a text that is in memory at once, in bytes: more than an entity.
const leastText = 1024

// wholeText cuts a text at the end of the window, so that no character or entity is split.
func wholeText(part []byte, last bool) []byte {
	if last {
		return part
	}
	cut := len(part)
	if amp := bytes.LastIndexByte(part[cut-leastText/2:], '&'); amp >= 0 {
		cut = cut - leastText/2 + amp
	}
	for cut > 1 && !utf8.RuneStart(part[cut-1]) {
		cut--
	}
	if cut > 1 && part[cut-1] >= utf8.RuneSelf || part[cut-1] == '\r' || part[cut-1] == ']' {
		cut--
	}
	return part[:cut]
}

// textAt tells a text between tags.
func (s *xmlScan) textAt(at int, text []byte) error {
	if len(s.open) == 0 {
		if s.ended > 0 && len(bytes.Trim(text, " \t\r\n\x00")) > 0 {
			return fmt.Errorf("%w: the XML is over at byte %d, and something follows", wrap.ErrDamaged, s.ended)
		}
		return nil
	}
	plain, err := s.checked(at, text)
	if err != nil || s.quiet > 0 {
		return err
	}
	return s.leaf(event{kind: kindText, start: at, from: at, to: at + len(text), value: place{at, at + len(text)}, raw: text, plain: plain})
}

// leaf tells a text or an attribute.
func (s *xmlScan) leaf(e event) error {
	if s.quiet > 0 {
		return nil
	}
	s.one = e
	return s.out.leaf(&s.one)
}

// checked reports whether a text has neither entities nor line ends to decode; the error means that XML does not allow it.
func (s *xmlScan) checked(at int, text []byte) (plain bool, err error) {
	marks := byte(0)
	for _, c := range text {
		marks |= xmlClass[c]
	}
	if marks&notPlain == 0 {
		return true, nil
	}
	if i := bytes.IndexFunc(text, func(c rune) bool { return c < ' ' && xmlClass[byte(c)]&noXML != 0 }); i >= 0 {
		return false, s.wrong(at+i, fmt.Sprintf("the character %q", text[i]))
	}
	if !utf8.Valid(text) {
		return false, s.wrong(at, "a text that is not in UTF-8")
	}
	plain = !bytes.ContainsAny(text, "&\r")
	if !plain {
		err = s.entities.check(text)
	}
	return plain, err
}

// markup reads the markup that begins with < at a place, and returns its end; part is its beginning.
func (s *xmlScan) markup(at, end int, part []byte) (int, error) {
	if len(part) < 9 && at+len(part) < end {
		more, err := s.from(at, min(9, end-at))
		if err != nil {
			return at, err
		}
		part = more[:min(len(more), end-at)]
	}
	switch {
	case len(part) < 2:
		return at, errXMLEarly
	case part[1] == '/' || part[1] != '!' && part[1] != '?':
		return s.tag(at, end, part)
	case bytes.HasPrefix(part, []byte("<!--")):
		return s.note(at, end, 4, "-->")
	case part[1] == '?':
		return s.note(at, end, 2, "?>")
	case bytes.HasPrefix(part, []byte("<![CDATA[")):
		return s.cdata(at, end)
	}
	return s.declaration(at, end)
}

// endOf returns the end of the first mark at or after a place, or an error at the end of the text.
func (s *xmlScan) endOf(at, end int, mark string) (int, error) {
	for {
		part, err := s.from(at, len(mark))
		if err != nil {
			return at, err
		}
		part = part[:min(len(part), end-at)]
		if i := bytes.Index(part, []byte(mark)); i >= 0 {
			return at + i + len(mark), nil
		}
		if at+len(part) >= end {
			return at, errXMLEarly
		}
		at += max(len(part)-len(mark)+1, 1)
	}
}

// note goes over a comment or an instruction.
func (s *xmlScan) note(at, end, head int, mark string) (int, error) {
	if len(s.open) > 0 {
		s.open[len(s.open)-1].mixed = true
	}
	return s.endOf(at+head, end, mark)
}

func (s *xmlScan) cdata(at, end int) (int, error) {
	const head = len("<![CDATA[")
	to, err := s.endOf(at+head, end, "]]>")
	if err != nil {
		return at, err
	}
	if len(s.open) == 0 {
		return at, s.wrong(at, "a text outside of all elements")
	}
	for from := at + head; from < to-3; {
		part, err := s.from(from, 1)
		if err != nil {
			return at, err
		}
		part = part[:min(len(part), to-3-from)]
		if err := s.leaf(event{kind: kindText, start: at, from: from, to: from + len(part), value: place{from, from + len(part)}, raw: part, plain: true}); err != nil {
			return at, err
		}
		from += len(part)
	}
	return to, nil
}

// declaration goes over <!DOCTYPE …>, and learns the entities that it declares.
func (s *xmlScan) declaration(at, end int) (int, error) {
	for want := around; ; want *= 4 {
		part, err := s.from(at, min(want, end-at))
		if err != nil {
			return at, err
		}
		part = part[:min(len(part), end-at)]
		if n := declarationEnd(part); n > 0 {
			return at + n, s.entities.learn(part[:n])
		}
		if at+len(part) >= end {
			return at, errXMLEarly
		}
		if want > maxPiece {
			return at, fmt.Errorf("%w: a declaration of more than %d MiB", wrap.ErrTooLarge, maxPiece>>20)
		}
	}
}

// declarationEnd returns the length of the declaration that a text begins with; 0 if it is not complete.
func declarationEnd(text []byte) int {
	depth := 0
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case bytes.HasPrefix(text[i:], []byte("<!--")):
			n := bytes.Index(text[i:], []byte("-->"))
			if n < 0 {
				return 0
			}
			i += n + 2
		case c == '"' || c == '\'':
			n := bytes.IndexByte(text[i+1:], c)
			if n < 0 {
				return 0
			}
			i += n + 1
		case c == '<' || c == '[':
			depth++
		case c == ']':
			depth--
		case c == '>':
			if depth--; depth == 0 {
				return i + 1
			}
		}
	}
	return 0
}

// errShort means that a part is longer than the window.
var errShort = errors.New("longer than the window")

func (s *xmlScan) decode(e *event) (string, error) {
	if e.kind == kindElement {
		return s.text(e.value)
	}
	if e.plain {
		return string(e.raw), nil
	}
	return s.entities.decode(e.raw)
}

// maxText is the largest element, in bytes, that is read as a single value.
const maxText = 4 << 20

func (s *xmlScan) content(n *Node) (string, bool, error) {
	if n.kind == kindElement {
		text, err := s.text(n.value)
		return strings.TrimSpace(text), err == nil, err
	}
	raw, err := s.bytes(n.value)
	if err != nil {
		return "", false, err
	}
	text, err := s.entities.decode(raw)
	return strings.TrimSpace(text), err == nil, err
}

// text is the text in a part, and in the elements in it.
func (s *xmlScan) text(at place) (string, error) {
	if at.to-at.from > maxText {
		return "", fmt.Errorf("%w: a text of %d bytes", wrap.ErrTooLarge, at.to-at.from)
	}
	raw, err := s.bytes(at)
	if err != nil {
		return "", err
	}
	if bytes.IndexByte(raw, '<') < 0 {
		return s.entities.decode(raw)
	}
	b := textSink{scan: s}
	inner := xmlScan{source: inMemory(raw), entities: s.entities, out: &b, open: []event{{}}} // as if in an element
	_, err = inner.run(0, len(raw), false)
	if err == errXMLEarly && len(inner.open) == 1 {
		err = nil
	}
	return b.b.String(), err
}

// textSink joins the texts between tags.
type textSink struct {
	scan *xmlScan
	b    strings.Builder
}

func (t *textSink) begin(*event) (bool, error) { return false, nil }
func (t *textSink) end(*event) error           { return nil }
func (t *textSink) leaf(e *event) error {
	if e.kind != kindText {
		return nil
	}
	if e.plain {
		t.b.Write(e.raw)
		return nil
	}
	text, err := t.scan.entities.decode(e.raw)
	t.b.WriteString(text)
	return err
}
