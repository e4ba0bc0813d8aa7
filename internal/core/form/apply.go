package form

import (
	"bytes"
	"cmp"
	"encoding/xml"
	"errors"
	"fmt"
	"slices"

	"github.com/go-json-experiment/json/jsontext"
)

// apply makes edits of a text, which may come in any order.
func apply(text []byte, edits []change) ([]byte, error) {
	edits, err := inOrder(edits)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	out.Grow(len(text))
	at := 0
	for _, e := range edits {
		if e.From < at || e.To > len(text) {
			return nil, errors.New("an edit outside of the text")
		}
		out.Write(text[at:e.From])
		out.WriteString(e.Text)
		at = e.To
	}
	out.Write(text[at:])
	return out.Bytes(), nil
}

// inOrder sorts edits by where they stand. One inside of what another one takes out goes with it.
func inOrder(edits []change) ([]change, error) {
	edits = slices.Clone(edits)
	slices.SortStableFunc(edits, func(a, b change) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(b.To, a.To)) })
	var all []change
	for _, e := range edits {
		if n := len(all); n > 0 && e.From < all[n-1].To {
			last := all[n-1]
			if last.Text == "" && e.To <= last.To || last == e {
				continue
			}
			if last.Text == "" && e.Text == "" {
				all[n-1].To = e.To
				continue
			}
			return nil, fmt.Errorf("two changes of the same bytes, at %d: %w", e.From, ErrNotWritable)
		}
		all = append(all, e)
	}
	return all, nil
}

// invert are the edits that make the former text of one that edits have been made of.
func invert(text []byte, edits []change) ([]change, error) {
	edits, err := inOrder(edits)
	if err != nil {
		return nil, err
	}
	var back []change
	shift := 0
	for _, e := range edits {
		back = append(back, change{e.From + shift, e.From + shift + len(e.Text), string(text[e.From:e.To])})
		shift += len(e.Text) - (e.To - e.From)
	}
	return back, nil
}

// space reports whether a byte is white space.
func space(b byte) bool { return b == ' ' || b == '\t' || b == '\r' || b == '\n' }

// lineOf widens a part to the whole lines it stands on, with the end of the last one, if nothing else stands there.
func lineOf(text []byte, from, to int) (int, int, bool) {
	start, end := from, to
	for start > 0 && (text[start-1] == ' ' || text[start-1] == '\t') {
		start--
	}
	for end < len(text) && (text[end] == ' ' || text[end] == '\t' || text[end] == '\r') {
		end++
	}
	if start > 0 && text[start-1] != '\n' || end < len(text) && text[end] != '\n' {
		return from, to, false
	}
	return start, min(end+1, len(text)), true
}

// gapBefore is the white space before a byte.
func gapBefore(text []byte, at int) string {
	from := at
	for from > 0 && space(text[from-1]) {
		from--
	}
	return string(text[from:at])
}

// lineOfDamage is the line, from 1, that a text is no JSON or XML from; 0 where that is not known.
func lineOfDamage(form string, text []byte) int {
	switch form {
	case "json":
		d := jsontext.NewDecoder(bytes.NewReader(text))
		err := d.SkipValue()
		at := len(text)
		if syntax := (*jsontext.SyntacticError)(nil); errors.As(err, &syntax) {
			at = int(syntax.ByteOffset)
		}
		return bytes.Count(text[:min(at, len(text))], []byte{'\n'}) + 1
	case "xml":
		d := xml.NewDecoder(bytes.NewReader(text))
		d.CharsetReader = asItIs
		for {
			_, err := d.Token()
			if syntax := (*xml.SyntaxError)(nil); errors.As(err, &syntax) {
				return syntax.Line
			}
			if err != nil {
				return 0
			}
		}
	}
	return 0
}
