package form

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/text/encoding/htmlindex"
)

// asBinary is the encoding in which each byte is one character, that of its number: for patterns on files that are no text.
const asBinary = "binary"

// usualEncodings are those that an error names; the WHATWG list has more spellings of them.
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

// decode is text as UTF-8.
func decode(data []byte, encoding string) ([]byte, error) {
	switch encoding {
	case "":
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
		return nil, fmt.Errorf("encoding %q: %w", encoding, err)
	}
	if data, err = enc.NewDecoder().Bytes(data); err != nil {
		return nil, fmt.Errorf("%w: not %s: %v", ErrDamaged, encoding, err)
	}
	return data, nil
}

// asBytes are the bytes that a text of the encoding binary stands for.
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
