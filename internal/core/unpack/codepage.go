package unpack

import (
	"encoding/binary"
	"hash/crc32"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/klauspost/compress/zip"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
)

// codePage returns how the names in a zip are decoded: as UTF-8 where they are that, else in the code page that the names all together look
// most like, since a zip is packed on one machine. Old packers did not say which. why tells what is wrong with a name that other readers take
// for another one.
func codePage(files []*zip.File) func(*zip.File) (name, why string) {
	var old strings.Builder
	for _, f := range files {
		if !utf8.ValidString(f.Name) && old.Len() < 1<<20 {
			old.WriteString(f.Name + "/")
		}
	}
	page := guessPage(old.String())
	return func(f *zip.File) (name, why string) {
		name = f.Name
		if !utf8.ValidString(name) {
			if text, err := page.NewDecoder().String(name); err == nil {
				name = text
			}
		}
		better, ok := unicodeName(f)
		if !ok || better == name {
			return name, ""
		}
		// readers that do not know the field go by the other name
		if isASCII(f.Name) || strings.HasSuffix(better, "/") != strings.HasSuffix(name, "/") {
			return better, "is called " + strconv.Quote(f.Name) + " by some readers"
		}
		return better, CheckName(strings.TrimSuffix(name, "/"))
	}
}

func isASCII(text string) bool {
	return strings.IndexFunc(text, func(r rune) bool { return r > unicode.MaxASCII }) < 0
}

// unicodePath is the id of the Info-ZIP Unicode Path extra field (APPNOTE 4.6.9).
const unicodePath = 0x7075

// unicodeName reads the name in that field, which counts where it was made for just this name.
func unicodeName(f *zip.File) (string, bool) {
	field, _ := extraField(f.Extra, unicodePath)
	if len(field) > 5 && field[0] == 1 && binary.LittleEndian.Uint32(field[1:]) == crc32.ChecksumIEEE([]byte(f.Name)) && utf8.Valid(field[5:]) {
		return string(field[5:]), true
	}
	return "", false
}

// guessPage chooses among the code pages that names in old zips are in: Shift-JIS when all of it decodes to Japanese text, Windows-1251
// when most high bytes are its Cyrillic letters, which in CP437 are lines and boxes, else CP437, which the format names as its own.
func guessPage(names string) encoding.Encoding {
	if text, err := japanese.ShiftJIS.NewDecoder().String(names); err == nil && !strings.ContainsRune(text, utf8.RuneError) {
		full, other := 0, 0
		for _, r := range text {
			switch {
			case unicode.In(r, unicode.Hiragana, unicode.Katakana, unicode.Han) && (r < 0xff60 || r > 0xff9f), r == 'ー':
				full++
			case r > 0x7f:
				other++
			}
		}
		if full > other {
			return japanese.ShiftJIS
		}
	}
	high, cyrillic := 0, 0
	for i := range len(names) {
		if c := names[i]; c >= 0x80 {
			if high++; c >= 0xc0 || c == 0xa8 || c == 0xb8 {
				cyrillic++
			}
		}
	}
	if 2*cyrillic > high {
		return charmap.Windows1251
	}
	return charmap.CodePage437
}
