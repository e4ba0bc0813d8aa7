package doc

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"slices"

	"ostrov/internal/core/wrap"
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
			return nil, fmt.Errorf("an edit outside of the text: %w", wrap.ErrNotWritable)
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
			return nil, fmt.Errorf("two changes of the same bytes, at %d: %w", e.From, wrap.ErrNotWritable)
		}
		all = append(all, e)
	}
	return all, nil
}

// patched is a content with changes, which is not in memory.
type patched struct {
	content wrap.Content
	parts   []part
	size    int64
}

// part is a piece of a patched content: a new text, or bytes of the original.
type part struct {
	at   int64 // in the patched content
	text string
	from int64 // in the original, if there is no text
	size int64
}

func newPatched(content wrap.Content, edits []change) (*patched, error) {
	edits, err := inOrder(edits)
	if err != nil {
		return nil, err
	}
	p := &patched{content: content}
	add := func(text string, from, size int64) {
		if size > 0 {
			p.parts = append(p.parts, part{p.size, text, from, size})
			p.size += size
		}
	}
	at := int64(0)
	for _, e := range edits {
		if int64(e.To) > content.Size() {
			return nil, fmt.Errorf("an edit outside of the text: %w", wrap.ErrNotWritable)
		}
		add("", at, int64(e.From)-at)
		add(e.Text, 0, int64(len(e.Text)))
		at = int64(e.To)
	}
	add("", at, content.Size()-at)
	return p, nil
}

// Size returns the size in bytes.
func (p *patched) Size() int64 { return p.size }

// ReadAt reads from any place.
func (p *patched) ReadAt(b []byte, off int64) (n int, err error) {
	i, found := slices.BinarySearchFunc(p.parts, off, func(part part, off int64) int { return cmp.Compare(part.at, off) })
	if !found {
		i--
	}
	for ; i >= 0 && i < len(p.parts) && n < len(b); i++ {
		part := p.parts[i]
		skip := off + int64(n) - part.at
		if skip >= part.size {
			continue
		}
		want := b[n:min(len(b), n+int(part.size-skip))]
		if part.text != "" {
			n += copy(want, part.text[skip:])
			continue
		}
		m, err := part.read(p.content, want, skip)
		if n += m; err != nil {
			return n, err
		}
	}
	if n < len(b) {
		return n, io.EOF
	}
	return n, nil
}

func (p part) read(content wrap.Content, b []byte, skip int64) (int, error) {
	n, err := content.ReadAt(b, p.from+skip)
	if n == len(b) {
		err = nil
	} else if err == nil || err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return n, err
}
