package share

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"html"
	"slices"
	"strconv"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
)

// spelling is a word as bytes of another kind than UTF-8 text.
type spelling struct {
	how    string // "as base64"
	bytes  []byte // with ASCII letters in lower case, if folded
	folded bool
	order  binary.ByteOrder // of UTF-16, whose neighbours may be letters; else nil
}

// How long a spelling must be at least, in bytes, and an account's number at least: shorter ones occur by chance.
const (
	minSpelled = 5
	minNumber  = 1 << 20
)

// codePages are the encodings of single bytes that a name may be in.
var codePages = map[string]encoding.Encoding{"windows-1250": charmap.Windows1250, "windows-1251": charmap.Windows1251, "windows-1252": charmap.Windows1252}

// spellingsOf returns how a word may be spelled where a search for its text does not find it.
func spellingsOf(word string) (all []spelling) {
	units := utf16.Encode([]rune(word))
	var little, big []byte
	for _, u := range units {
		little, big = binary.LittleEndian.AppendUint16(little, u), binary.BigEndian.AppendUint16(big, u)
	}
	all = append(all, spelling{"as UTF-16", lowered(little), true, binary.LittleEndian}, spelling{"as UTF-16", lowered(big), true, binary.BigEndian})
	for name, page := range codePages {
		if data, err := page.NewEncoder().String(word); err == nil && data != word {
			all = append(all, spelling{how: "in " + name, bytes: lowered([]byte(data)), folded: true})
		}
	}
	for _, data := range [][]byte{[]byte(word), little} {
		all = append(all, spelling{how: "as hexadecimal digits", bytes: []byte(hex.EncodeToString(data)), folded: true})
		for skip := range 3 { // bytes of the first group that belong to what is before it
			text := base64.StdEncoding.EncodeToString(append(make([]byte, skip), data...))
			from, to := []int{0, 2, 3}[skip], (skip+len(data))*8/6
			for _, cut := range []string{text[from:to], base64.URLEncoding.EncodeToString(append(make([]byte, skip), data...))[from:to]} {
				if s := (spelling{how: "as base64", bytes: []byte(cut)}); !slices.ContainsFunc(all, func(o spelling) bool { return bytes.Equal(o.bytes, s.bytes) }) {
					all = append(all, s)
				}
			}
		}
	}
	if n, err := strconv.ParseUint(word, 10, 64); err == nil && n >= minNumber {
		for _, order := range []binary.AppendByteOrder{binary.LittleEndian, binary.BigEndian} {
			all = append(all, spelling{how: "as a number of 64 bits", bytes: order.AppendUint64(nil, n)})
			if n <= 1<<32-1 {
				all = append(all, spelling{how: "as a number of 32 bits", bytes: order.AppendUint32(nil, uint32(n))})
			}
		}
	}
	return slices.DeleteFunc(all, func(s spelling) bool { return len(s.bytes) < minSpelled && s.how != "as a number of 32 bits" })
}

// in reports whether the spelling is in a text; lower is the text in lower case.
func (s spelling) in(text, lower []byte) bool {
	if s.folded {
		text = lower
	}
	for at := 0; ; {
		i := bytes.Index(text[at:], s.bytes)
		if i < 0 {
			return false
		}
		from, to := at+i, at+i+len(s.bytes)
		if s.order == nil {
			return true
		}
		before, after := rune(0), rune(0)
		if from >= 2 {
			before = rune(s.order.Uint16(text[from-2:]))
		}
		if to+2 <= len(text) {
			after = rune(s.order.Uint16(text[to:]))
		}
		if !unicode.IsLetter(before) && !unicode.IsLetter(after) {
			return true
		}
		at = from + 1
	}
}

// unescaped appends text to buf with JSON escapes, entities and percent escapes decoded, and reports whether there are any.
func unescaped(buf, text []byte) (out []byte, any bool) {
	for len(text) > 0 {
		i := bytes.IndexAny(text, `\&%`)
		if i < 0 {
			break
		}
		buf, text = append(buf, text[:i]...), text[i:]
		size := 1
		buf, size = unescapedOne(buf, text)
		any = any || size > 1
		text = text[size:]
	}
	return append(buf, text...), any
}

// unescapedOne decodes the escape that a text begins with, and returns its length, or 1 if the text begins with no escape.
func unescapedOne(buf, text []byte) ([]byte, int) {
	number := func(from, to int) (rune, bool) {
		if len(text) < to {
			return 0, false
		}
		n, err := strconv.ParseUint(string(text[from:to]), 16, 32)
		return rune(n), err == nil
	}
	switch {
	case text[0] == '%':
		if n, ok := number(1, 3); ok {
			return append(buf, byte(n)), 3
		}
	case text[0] == '&':
		if end := bytes.IndexByte(text[:min(len(text), 12)], ';'); end > 0 {
			was := string(text[:end+1])
			if is := html.UnescapeString(was); is != was {
				return append(buf, is...), len(was)
			}
		}
	case len(text) > 1 && text[1] == 'u':
		n, ok := number(2, 6)
		if !ok {
			break
		}
		if utf16.IsSurrogate(n) && len(text) >= 12 && text[6] == '\\' {
			if low, ok := number(8, 12); ok {
				return utf8.AppendRune(buf, utf16.DecodeRune(n, low)), 12
			}
		}
		return utf8.AppendRune(buf, n), 6
	case len(text) > 1 && text[1] == 'x':
		if n, ok := number(2, 4); ok {
			return utf8.AppendRune(buf, n), 4
		}
	case len(text) > 1 && (text[1] == '/' || text[1] == '\\' || text[1] == '"'):
		return append(buf, text[1]), 2
	}
	return append(buf, text[0]), 1
}
