package hazard

import (
	"bufio"
	"bytes"
	"io"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// mayBeXML reports whether a file begins as XML does, in UTF-8 or UTF-16 (XML 1.0, appendix F). A page or a text that begins with < may, too: the
// prolog tells.
func mayBeXML(head []byte) bool {
	text := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	return bytes.HasPrefix(text, []byte("<")) || isUTF16(head)
}

func isUTF16(head []byte) bool {
	for _, begin := range []string{"\xff\xfe<\x00", "\xfe\xff\x00<", "<\x00?\x00", "\x00<\x00?", "<\x00!\x00", "\x00<\x00!"} {
		if bytes.HasPrefix(head, []byte(begin)) {
			return true
		}
	}
	return false
}

// declaresEntities reads an XML up to its outermost element, however much stands before that, and reports whether it declares entities. Behind the
// beginning of a DOCTYPE it goes by no quotes and comments, which can be nested so that readers end them in different places.
func declaresEntities(b *bufio.Reader, head []byte) (bool, error) {
	if isUTF16(head) {
		order := unicode.BigEndian
		if head[0] == 0xff || head[0] == '<' {
			order = unicode.LittleEndian
		}
		b = bufio.NewReader(transform.NewReader(b, unicode.UTF16(order, unicode.UseBOM).NewDecoder()))
	}
	for {
		if _, err := passed(b, "<"); err != nil {
			return false, plainEnd(err)
		}
		next, err := b.Peek(3)
		switch {
		case len(next) == 0:
			return false, plainEnd(err)
		case next[0] == '?':
			_, err = passed(b, "?>")
		case string(next) == "!--":
			_, _ = b.Discard(3)
			_, err = passed(b, "-->")
		case next[0] == '!':
			found, err := passed(b, "<!ENTITY")
			return found, plainEnd(err)
		default:
			return false, nil // the outermost element: nothing is declared behind
		}
		if err != nil {
			return false, plainEnd(err)
		}
	}
}

func plainEnd(err error) error {
	if err == io.EOF {
		return nil
	}
	return err
}

// passed reads up to the end of a text of at most eight bytes, and reports whether it was there.
func passed(b *bufio.Reader, text string) (bool, error) {
	var want, mask, window uint64
	for _, c := range []byte(text) {
		want, mask = want<<8|uint64(c), mask<<8|0xff
	}
	for {
		c, err := b.ReadByte()
		if err != nil {
			return false, err
		}
		if window = window<<8 | uint64(c); window&mask == want {
			return true, nil
		}
	}
}
