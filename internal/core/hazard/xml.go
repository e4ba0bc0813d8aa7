package hazard

import (
	"bufio"
	"bytes"
	"io"
)

// mayBeXML reports whether a text begins as XML does. A page or a text that begins with < may, too: the prolog tells.
func mayBeXML(head []byte) bool {
	return bytes.HasPrefix(bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n"), []byte("<"))
}

// declaresEntities reads an XML up to its outermost element, however much stands before that, and reports whether it declares entities. Behind the
// beginning of a DOCTYPE it goes by no quotes and comments, which can be nested so that readers end them in different places.
func declaresEntities(b *bufio.Reader) (bool, error) {
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
