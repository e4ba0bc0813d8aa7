package doc

import (
	"bytes"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"

	"ostrov/internal/core/wrap"
)

// xmlEntities are the internal entities that a document declares, by their names. One that is outside of the document has no text, and is not read.
type xmlEntities map[string]*string

const (
	maxEntities  = 1000
	maxExpansion = 1 << 20 // bytes that the entities in one value may expand to
)

// learn reads the entities that a declaration declares.
func (x *xmlEntities) learn(declaration []byte) error {
	for {
		i := bytes.Index(declaration, []byte("<!ENTITY"))
		if i < 0 {
			return nil
		}
		declaration = declaration[i+len("<!ENTITY"):]
		words := bytes.TrimLeft(declaration, " \t\r\n")
		n := bytes.IndexAny(words, " \t\r\n")
		if n <= 0 || words[0] == '%' {
			continue
		}
		if *x == nil {
			*x = xmlEntities{}
		}
		if len(*x) >= maxEntities {
			return fmt.Errorf("%w: more than %d entities", wrap.ErrTooLarge, maxEntities)
		}
		name, rest := string(words[:n]), bytes.TrimLeft(words[n:], " \t\r\n")
		if _, twice := (*x)[name]; twice || len(rest) == 0 {
			continue // the first one counts
		}
		(*x)[name] = nil
		if quote := rest[0]; quote == '"' || quote == '\'' {
			if end := bytes.IndexByte(rest[1:], quote); end >= 0 {
				text := string(rest[1 : 1+end])
				(*x)[name] = &text
			}
		}
	}
}

var usualEntities = map[string]string{"lt": "<", "gt": ">", "amp": "&", "quot": `"`, "apos": "'"}

// decode is a text with its entities replaced, and line ends as XML has them.
func (x xmlEntities) decode(raw []byte) (string, error) {
	text := string(raw)
	if strings.IndexByte(text, '\r') >= 0 {
		text = strings.ReplaceAll(strings.ReplaceAll(text, "\r\n", "\n"), "\r", "\n")
	}
	if strings.IndexByte(text, '&') < 0 {
		return text, nil
	}
	var b strings.Builder
	left := maxExpansion
	if err := x.expand(&b, text, 0, &left); err != nil {
		return "", err
	}
	return b.String(), nil
}

// check finds the errors that decode would.
func (x xmlEntities) check(raw []byte) error {
	for rest := raw; ; {
		i := bytes.IndexByte(rest, '&')
		if i < 0 {
			return nil
		}
		rest = rest[i+1:]
		n := bytes.IndexByte(rest[:min(len(rest), 8)], ';')
		if n < 0 {
			break
		}
		if _, usual := usualEntities[string(rest[:n])]; !usual {
			break
		}
		rest = rest[n+1:]
	}
	_, err := x.decode(raw)
	return err
}

func (x xmlEntities) expand(b io.StringWriter, text string, depth int, left *int) error {
	for {
		before, rest, found := strings.Cut(text, "&")
		_, _ = b.WriteString(before)
		if !found {
			return nil
		}
		name, behind, closed := strings.Cut(rest, ";")
		if !closed || len(name) > 256 {
			return fmt.Errorf("%w: not XML: an & that begins no entity", wrap.ErrDamaged)
		}
		text = behind
		if code, ok := strings.CutPrefix(name, "#"); ok {
			base := 10
			if hex, ok := strings.CutPrefix(code, "x"); ok {
				code, base = hex, 16
			}
			n, err := strconv.ParseUint(code, base, 32)
			if err != nil || n == 0 || n > utf8.MaxRune || !utf8.ValidRune(rune(n)) {
				return fmt.Errorf("%w: not XML: &%s;", wrap.ErrDamaged, name)
			}
			_, _ = b.WriteString(string(rune(n)))
			continue
		}
		if usual, ok := usualEntities[name]; ok {
			_, _ = b.WriteString(usual)
			continue
		}
		value, ok := x[name]
		switch {
		case !ok:
			return fmt.Errorf("%w: not XML: the entity &%s; is not declared", wrap.ErrDamaged, name)
		case value == nil || strings.Contains(*value, "<"):
			return fmt.Errorf("%w: the entity &%s; stands for more than a text in the file", wrap.ErrUnknown, name)
		case depth == 8:
			return fmt.Errorf("%w: entities in entities", wrap.ErrTooLarge)
		}
		if *left -= len(*value) + 1; *left < 0 {
			return fmt.Errorf("%w: entities that stand for more than %d bytes", wrap.ErrTooLarge, maxExpansion)
		}
		if err := x.expand(b, *value, depth+1, left); err != nil {
			return err
		}
	}
}
