package unpack

import (
	"bytes"
	"encoding/binary"
	"path"
	"strings"
)

// headSize is how much of a file Program looks at, in bytes.
const headSize = 1024

// Program says what kind of program a file is, judged by its first bytes and, for scripts that have none of their own, by its ending; it is
// "" for a file that is none.
func Program(name string, head []byte) string {
	switch {
	case isPE(head):
		return "a Windows program"
	case bytes.HasPrefix(head, []byte("\x7fELF")):
		return "a Linux program"
	case isMachO(head):
		return "a macOS program"
	case bytes.HasPrefix(head, []byte("#!")):
		return "a script"
	case bytes.HasPrefix(head, []byte{0x4c, 0, 0, 0, 0x01, 0x14, 0x02, 0}):
		return "a Windows shortcut"
	case bytes.HasPrefix(head, []byte{0xd0, 0xcf, 0x11, 0xe0, 0xa1, 0xb1, 0x1a, 0xe1}) && strings.EqualFold(path.Ext(name), ".msi"):
		return "an installer"
	}
	switch strings.ToLower(path.Ext(name)) {
	case ".bat", ".cmd", ".ps1", ".vbs", ".vbe", ".jse", ".wsf", ".hta", ".scr", ".reg", ".desktop", ".command":
		return "a script"
	case ".exe", ".com", ".pif", ".msi":
		return "named as a program"
	}
	return ""
}

// isPE reports whether a file begins as a DOS or Windows program: MZ, and where the head reaches that far, a PE or NE header behind it.
func isPE(head []byte) bool {
	if !bytes.HasPrefix(head, []byte("MZ")) || len(head) < 0x40 {
		return false
	}
	at := int(binary.LittleEndian.Uint32(head[0x3c:]))
	if at <= 0 || at+2 > len(head) {
		return at > 0 && len(head) == headSize
	}
	return bytes.HasPrefix(head[at:], []byte("PE")) || bytes.HasPrefix(head[at:], []byte("NE"))
}

func isMachO(head []byte) bool {
	if len(head) < 8 {
		return false
	}
	switch binary.BigEndian.Uint32(head) {
	case 0xfeedface, 0xfeedfacf, 0xcefaedfe, 0xcffaedfe:
		return true
	case 0xcafebabe: // a fat binary counts its few architectures here; a Java class has its version
		return binary.BigEndian.Uint32(head[4:]) < 20
	}
	return false
}
