package form

import (
	"bytes"
	"errors"
	"fmt"
)

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
		if kind, tag, ok := t.usualTag(at, end); ok {
			return kind, tag, nil
		}
		if at = t.index(at, end, '<'); at < 0 {
			return noTag, place{}, t.err
		}
		head := t.bytes(at, min(at+9, end))
		closes := len(head) > 1 && head[1] == '/' // before more is read
		to := 0
		special := len(head) > 1 && (head[1] == '!' || head[1] == '?')
		switch {
		case special && bytes.HasPrefix(head, []byte("<!--")):
			to = t.endOf(at+4, end, "-->")
		case special && bytes.HasPrefix(head, []byte("<![CDATA[")):
			to = t.endOf(at+9, end, "]]>")
		case special && head[1] == '?':
			to = t.endOf(at+2, end, "?>")
		case special && len(head) > 2 && (head[2]|0x20 < 'a' || head[2]|0x20 > 'z'): // readers differ in where that ends
			return noTag, place{}, errors.Join(fmt.Errorf("%w: not XML: %q", ErrDamaged, head[:3]), t.err)
		case special:
			to = t.endOfTag(at, end)
		default:
			if to = t.endOfTag(at, end); to < 0 {
				return noTag, place{}, errors.Join(errEarly, t.err)
			}
			kind = startTag
			if closes {
				kind = endTag
			} else if t.byteAt(to-2) == '/' {
				kind = emptyTag
			}
			return kind, place{at, to}, nil
		}
		if to < 0 {
			return noTag, place{}, errors.Join(errEarly, t.err)
		}
		at = to
	}
}

// usualTag is tag where the next one is all in memory, and has no > in its attributes.
func (t *xmlSource) usualTag(at, end int) (kind int, tag place, ok bool) {
	part := t.rest(at, end)
	from := bytes.IndexByte(part, '<')
	if from < 0 || from+2 >= len(part) || part[from+1] == '!' || part[from+1] == '?' {
		return noTag, place{}, false
	}
	n := endOfUsualTag(part[from:], t.apostrophes)
	if n < 0 {
		return noTag, place{}, false
	}
	tag = place{at + from, at + from + n}
	switch {
	case part[from+1] == '/':
		return endTag, tag, true
	case part[from+n-2] == '/':
		return emptyTag, tag, true
	}
	return startTag, tag, true
}

// endOfUsualTag is where the tag that begins text ends, if it has no > in its attributes; else -1. apostrophes tells that there may be some.
func endOfUsualTag(text []byte, apostrophes bool) int {
	n := bytes.IndexByte(text, '>')
	if n < 1 {
		return -1
	}
	tag := text[1:n]
	if bytes.Count(tag, []byte{'"'})%2 != 0 || apostrophes && bytes.IndexByte(tag, '\'') >= 0 || bytes.IndexByte(tag, '<') >= 0 {
		return -1
	}
	return n + 1
}

// endOf is where what goes on at from ends, or -1.
func (t *xmlSource) endOf(from, end int, ending string) int {
	i := t.search(from, end, ending)
	if i < 0 {
		return -1
	}
	return i + len(ending)
}

// endOfTag is where the tag or declaration that begins at a place ends, or -1.
func (t *xmlSource) endOfTag(at, end int) int {
	part := t.rest(at, end)
	if n := endOfTag(part); n >= 0 {
		return at + n
	}
	for size := block; ; size *= 4 { // it goes on behind what is in memory
		part = t.bytes(at, min(at+size, end))
		if n := endOfTag(part); n >= 0 {
			return at + n
		}
		if at+size >= end || size > maxDeclaration {
			return -1
		}
	}
}

// maxDeclaration bounds one tag or declaration, in bytes.
const maxDeclaration = 64 << 20

// endOfTag is where the tag or declaration that begins text ends: at a > outside quotes, and outside of what a <!DOCTYPE … [ <!…> ]> has
// in it.
func endOfTag(text []byte) int {
	if n := endOfUsualTag(text, true); n > 0 {
		return n
	}
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
	name := bytes.TrimPrefix(t.bytes(tag.from+1, tag.to-1), []byte("/"))
	for i, c := range name {
		if c == ' ' || c == '\t' || c == '\r' || c == '\n' || c == '/' {
			return name[:i]
		}
	}
	return name
}
