package doc

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/htmlindex"

	"ostrov/internal/core/wrap"
)

// asBinary is the encoding in which each byte is one character, that of its number: for patterns on files that are no text.
const asBinary = "binary"

// usualEncodings lists the encodings that an error names; the WHATWG list has more names for them.
var usualEncodings = []string{"utf-8", "utf-16le", "utf-16be", "windows-1252", "iso-8859-2", "iso-8859-15", "windows-1250", "windows-1251", "koi8-r", "shift_jis", "euc-jp", "gbk", "gb18030", "big5", "euc-kr", asBinary}

func checkEncoding(name string) error {
	if name == asBinary {
		return nil
	}
	if _, err := htmlindex.Get(name); err == nil {
		return nil
	}
	plain := strings.NewReplacer("-", "", "_", "", " ", "").Replace(strings.ToLower(name))
	for _, e := range []string{"latin1", "latin2", "ascii", "cp1252"} { // as people spell them, and as the list has them
		if plain == e {
			return fmt.Errorf("no encoding %q; did you mean %q?", name, e)
		}
	}
	return fmt.Errorf("no encoding %q; there are %s and others of the WHATWG list", name, strings.Join(usualEncodings, ", "))
}

// xmlEncoding matches the encoding in an XML declaration.
var xmlEncoding = regexp.MustCompile(`^(?:\xef\xbb\xbf)?<\?xml\s[^>]*?encoding\s*=\s*["']([\w.:-]+)["']`)

// encodingOf is the encoding of a text that begins with head: what the description says, else what the text says itself, by a byte order mark or, of an
// XML, by its declaration. "" is UTF-8. An XML that can be read to say that it is UTF-16 is not: some programs write what they had in memory.
func encodingOf(head []byte, spec Spec) string {
	switch {
	case spec.Encoding != "":
		return spec.Encoding
	case bytes.HasPrefix(head, []byte("\xff\xfe")):
		return "utf-16le"
	case bytes.HasPrefix(head, []byte("\xfe\xff")):
		return "utf-16be"
	case spec.Form != "xml":
		return ""
	}
	m := xmlEncoding.FindSubmatch(head[:min(len(head), 256)])
	if m == nil || strings.HasPrefix(strings.ToLower(string(m[1])), "utf-16") {
		return ""
	}
	return string(m[1])
}

// Recode is content with what edit makes of its text: that is UTF-8 whatever the encoding is, and the spec that edit gets says so. The error wraps
// wrap.ErrNotWritable where the encoding does not give back just what it read, or has no way to write what is new.
func (spec Spec) Recode(content []byte, edit func(text []byte, spec Spec) ([]byte, error)) ([]byte, error) {
	encoding := encodingOf(content, spec)
	spec.Encoding = "utf-8"
	text, err := decode(content, encoding)
	if err != nil {
		return nil, err
	}
	if again, err := encode(text, encoding); err != nil || !bytes.Equal(again, content) {
		return nil, fmt.Errorf("a text in the encoding %s %w", encoding, wrap.ErrNotWritable)
	}
	if text, err = edit(text, spec); err != nil {
		return nil, err
	}
	if content, err = encode(text, encoding); err != nil {
		return nil, fmt.Errorf("what is new %w in the encoding %s: %w", wrap.ErrNotWritable, encoding, err)
	}
	return content, nil
}

// InUTF8 reports whether a text that begins with head is in UTF-8, by the description or by what it says itself.
func (spec Spec) InUTF8(head []byte) bool { return inUTF8(encodingOf(head, spec)) }

func inUTF8(encoding string) bool { return encoding == "" || strings.EqualFold(encoding, "utf-8") }

// TextReader reads a text as UTF-8.
func TextReader(r io.Reader, spec Spec) (io.Reader, error) {
	b := bufio.NewReader(r)
	head, err := b.Peek(256)
	if err != nil && err != io.EOF {
		return nil, err
	}
	encoding := encodingOf(head, spec)
	if encoding == "" {
		return b, nil
	}
	if encoding == asBinary {
		return charmap.ISO8859_1.NewDecoder().Reader(b), nil // each byte is the character of its number
	}
	enc, err := htmlindex.Get(encoding)
	if err != nil {
		return nil, fmt.Errorf("encoding %q: %w", encoding, wrap.ErrUnknown)
	}
	return enc.NewDecoder().Reader(b), nil
}

// encode is the inverse of decode.
func encode(text []byte, encoding string) ([]byte, error) {
	switch {
	case encoding == "" || strings.EqualFold(encoding, "utf-8"):
		return text, nil
	case encoding == asBinary:
		return asBytes(string(text))
	}
	enc, err := htmlindex.Get(encoding)
	if err != nil {
		return nil, err
	}
	return enc.NewEncoder().Bytes(text)
}

// decode is text as UTF-8.
func decode(data []byte, encoding string) ([]byte, error) {
	switch strings.ToLower(encoding) {
	case "", "utf-8":
		return data, nil
	case asBinary:
		runes := make([]byte, 0, len(data))
		for _, b := range data {
			runes = append(runes, string(rune(b))...)
		}
		return runes, nil
	}
	enc, err := htmlindex.Get(encoding)
	if err != nil {
		return nil, fmt.Errorf("%w: the encoding %q", wrap.ErrUnknown, encoding)
	}
	if data, err = enc.NewDecoder().Bytes(data); err != nil {
		return nil, fmt.Errorf("%w: not %s: %v", wrap.ErrDamaged, encoding, err)
	}
	return data, nil
}

// asBytes encodes a text in the encoding binary.
func asBytes(text string) ([]byte, error) {
	b := make([]byte, 0, len(text))
	for _, r := range text {
		if r > 0xff {
			return nil, errors.New("not of single bytes")
		}
		b = append(b, byte(r))
	}
	return slices.Clip(b), nil
}
