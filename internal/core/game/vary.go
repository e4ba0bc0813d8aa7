package game

import (
	"encoding/base64"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// varies is the capture that tells saves without slots apart: name, else the first that is neither a slot nor a field of the save. ok is false where
// there is none.
func (n *Name) varies() (part namePart, ok bool) {
	for _, p := range n.parts {
		if p.capture == "name" {
			return p, true
		}
		if !ok && p.capture != "" && p.capture != "slot" && !strings.HasPrefix(p.capture, fieldCapture) {
			part, ok = p, true
		}
	}
	return part, ok
}

// OfFields reports whether fields of the save spell a part of the name.
func (n *Name) OfFields() bool { return len(n.fields()) > 0 }

// Stem is what captures have for what tells saves apart, or "".
func (n *Name) Stem(captures map[string]string) string {
	p, _ := n.varies()
	return captures[p.capture]
}

// Another are captures with the i-th way to call a save that begins as stem, which is called just so in the first: "Cove", "Cove 2", or, where the
// name has only digits there, the next numbers. ok is false where there is no such way, or nothing that varies.
func (n *Name) Another(captures map[string]string, stem string, i int) (another map[string]string, ok bool) {
	p, ok := n.varies()
	if !ok {
		return nil, false
	}
	value, ok := p.another(stem, i)
	if !ok {
		return nil, false
	}
	another = maps.Clone(captures)
	if another == nil {
		another = map[string]string{}
	}
	another[p.capture] = value
	return another, true
}

var captureKinds = map[string]string{"": "[^/]+", "letter": "[a-zA-Z]", "hex": "[0-9a-fA-F]+", "base64": "[A-Za-z0-9+_=-]+", "digits": "[0-9]+"}

func (p namePart) another(stem string, i int) (string, bool) {
	switch p.kind {
	case "":
		if i > 1 {
			stem = fmt.Sprintf("%s %d", stem, i)
		}
		return stem, true
	case "letter":
		if len(stem) != 1 {
			stem = "a"
		}
		letter := int(stem[0]) + i - 1
		return string(rune(letter)), letter <= 'z' && (letter >= 'a' || letter <= 'Z')
	case "base64":
		return anotherBase64(stem, i)
	}
	base, verb := 10, "%0*d"
	if p.kind == "hex" {
		base, verb = 16, "%0*x"
	}
	number, err := strconv.ParseUint(stem, base, 63)
	width := len(stem)
	if err != nil {
		number, width = 1, 1
	}
	if digits, err := strconv.Atoi(p.kind); err == nil {
		width = max(digits, width)
	}
	return fmt.Sprintf(verb, width, number+uint64(i-1)), true
}

// anotherBase64 varies the text that a name has in base64, in the spelling that it is in.
func anotherBase64(stem string, i int) (string, bool) {
	encodings := []*base64.Encoding{base64.StdEncoding, base64.RawStdEncoding, base64.URLEncoding, base64.RawURLEncoding}
	at := slices.IndexFunc(encodings, func(e *base64.Encoding) bool { _, err := e.DecodeString(stem); return err == nil })
	text := []byte(stem)
	if at < 0 {
		at = 2 // it is no base64 yet
	} else if i == 1 {
		return stem, true
	} else {
		text, _ = encodings[at].DecodeString(stem) // which has been tried
	}
	if i > 1 {
		text = fmt.Appendf(text, " %d", i)
	}
	value := encodings[at].EncodeToString(text)
	return value, regexp.MustCompile("^" + captureKinds["base64"] + "$").MatchString(value)
}
