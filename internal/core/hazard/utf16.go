package hazard

import (
	"bytes"
	"io"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// inUTF8 reads a text in UTF-16 that begins with head as UTF-8; it is nil for all else. A text without a byte order mark is told by how it begins
// (for XML: XML 1.0, appendix F).
func inUTF8(r io.Reader, head []byte) io.Reader {
	if len(head) < 4 {
		return nil
	}
	order := unicode.LittleEndian
	switch {
	case bytes.HasPrefix(head, []byte("\xff\xfe")):
	case bytes.HasPrefix(head, []byte("\xfe\xff")):
		order = unicode.BigEndian
	case head[1] == 0 && head[3] == 0 && isTextStart(head[0]) && isTextStart(head[2]):
	case head[0] == 0 && head[2] == 0 && isTextStart(head[1]) && isTextStart(head[3]):
		order = unicode.BigEndian
	default:
		return nil
	}
	return transform.NewReader(r, unicode.UTF16(order, unicode.UseBOM).NewDecoder())
}

// isTextStart reports whether texts of ASCII hold such a byte.
func isTextStart(c byte) bool { return c >= ' ' && c < 0x7f || c == '\t' || c == '\r' || c == '\n' }
