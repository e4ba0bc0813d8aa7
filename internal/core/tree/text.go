package tree

import (
	"encoding/hex"
	"fmt"
	"strings"
	"unicode/utf8"
)

// Some systems allow names that are not text. JSON does not, so there such a name is spelled as hex behind a zero byte, which no name
// contains.
const notText = "\x00"

// Spell spells a name, or the target of a link, as valid UTF-8; Unspell takes it back. Names that are text are spelled as they are.
func Spell(name string) string {
	if utf8.ValidString(name) {
		return name
	}
	return notText + hex.EncodeToString([]byte(name))
}

// Unspell is the reverse of Spell. The error says that the text is none that Spell makes.
func Unspell(text string) (string, error) {
	digits, spelled := strings.CutPrefix(text, notText)
	if !spelled {
		return text, nil
	}
	name, err := hex.DecodeString(digits)
	if err != nil || utf8.Valid(name) {
		return "", fmt.Errorf("%q spells no name", text)
	}
	return string(name), nil
}
