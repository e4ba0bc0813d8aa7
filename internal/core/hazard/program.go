package hazard

import (
	"bytes"
	"encoding/binary"
	"io"
	"path"
	"strings"
	"unicode/utf8"
)

// Program is the Format of programs, libraries and scripts.
const Program = "program"

// program tells what kind of program a file is: by its first bytes, and by its ending where scripts have no bytes of their own.
func program(name string, head []byte) (Finding, bool) {
	is := func(what string) (Finding, bool) { return Finding{Danger, Program, "is " + what}, true }
	for _, m := range magics {
		if bytes.HasPrefix(head, []byte(m.magic)) {
			return is(m.what)
		}
	}
	switch {
	case isPE(head):
		return is("a Windows program")
	case isMachO(head):
		return is("a macOS program")
	case isJavaClass(head):
		return is("a Java program")
	case isPython(head):
		return is("compiled Python")
	case bytes.HasPrefix(head, []byte("\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1")) && bytes.Contains(head, installerClass):
		return is("a Windows installer")
	}
	if what := script(head[:min(len(head), 1024)]); what != "" {
		return is(what)
	}
	ext := strings.ToLower(path.Ext(name))
	if what := endings[ext]; what != "" && !(ambiguous[ext] && !looksLikeCode(head)) {
		return is(what)
	}
	return Finding{}, false
}

// magics are the first bytes of programs and installers that are told by them alone.
var magics = []struct{ magic, what string }{
	{"\x7fELF", "a Linux program"},
	{"#!", "a script"},
	{"\x4c\x00\x00\x00\x01\x14\x02\x00\x00\x00\x00\x00\xc0\x00\x00\x00\x00\x00\x00\x46", "a Windows shortcut"},
	{"!<arch>\ndebian-binary", "a Debian package"},
	{"\xed\xab\xee\xdb", "an RPM package"},
	{"dex\n03", "an Android program"},
	{"\x00asm\x01\x00\x00\x00", "a WebAssembly program"},
	{"GDSC", "a compiled script of a game engine"},
	{"ITSF\x03\x00\x00\x00", "a help file that can run programs"},
}

// installerClass is the class id that the root of a Windows installer's compound file carries ([MS-CFB] 2.6, {000C1084-…}).
var installerClass = []byte("\x84\x10\x0c\x00\x00\x00\x00\x00\xc0\x00\x00\x00\x00\x00\x00\x46")

// endings are what systems run by a file's ending alone.
var endings = map[string]string{
	".bat": "a script", ".cmd": "a script", ".ps1": "a script", ".psm1": "a script", ".vbs": "a script", ".vbe": "a script", ".jse": "a script",
	".wsf": "a script", ".wsh": "a script", ".hta": "a script", ".reg": "a change of the registry", ".desktop": "a shortcut", ".command": "a script",
	".scf": "a shortcut", ".url": "a shortcut", ".lnk": "a shortcut", ".scr": "named as a program", ".exe": "named as a program", ".com": "named as a program",
	".pif": "named as a program", ".msi": "named as an installer", ".dll": "named as a program library", ".jar": "a Java program", ".appimage": "named as a program",
	".sh": "a script", ".py": "a script", ".js": "a script", ".pyw": "a script", ".sct": "a script", ".msc": "a script", ".cpl": "named as a program", ".xll": "named as a program",
	".gadget": "named as a program", ".application": "named as an installer", ".appref-ms": "a shortcut", ".library-ms": "a shortcut", ".search-ms": "a shortcut",
	".searchconnector-ms": "a shortcut", ".settingcontent-ms": "a shortcut", ".website": "a shortcut", ".webloc": "a shortcut", ".fileloc": "a shortcut", ".inetloc": "a shortcut",
	".terminal": "a script", ".msp": "named as an installer", ".mst": "named as an installer", ".msix": "named as an installer", ".appx": "named as an installer", ".diagcab": "named as a program",
}

// ambiguous are endings that games use for data too.
var ambiguous = map[string]bool{".sh": true, ".py": true, ".js": true, ".com": true, ".dll": true}

// looksLikeCode reports whether a text is more likely a script than data.
func looksLikeCode(head []byte) bool {
	text := bytes.TrimSpace(head)
	if len(text) == 0 || text[0] == '{' || text[0] == '[' || bytes.IndexByte(head, 0) >= 0 || !utf8.Valid(text[:min(len(text), 1000)]) {
		return false
	}
	return bytes.ContainsAny(text, "(=;")
}

// script tells scripts and shortcuts that begin with words of their own.
func script(head []byte) string {
	if text := inUTF8(bytes.NewReader(head), head); text != nil {
		head, _ = io.ReadAll(text)
	}
	text := bytes.ToLower(bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n"))
	for prefix, what := range map[string]string{
		"@echo off": "a script", "[internetshortcut]": "a shortcut", "[desktop entry]": "a shortcut", "windows registry editor version": "a change of the registry",
		"regedit4": "a change of the registry", "<?php": "a script", "<hta:application": "a script",
	} {
		if bytes.HasPrefix(text, []byte(prefix)) {
			return what
		}
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
		n := binary.BigEndian.Uint32(head[4:])
		return n > 0 && n < 20
	}
	return false
}

// isPython reports whether a file begins as compiled Python does: a magic number of Python 3 (3000 to 3999 so far, CPython, importlib) and the line end
// that a transfer as text would spoil, with its flags.
func isPython(head []byte) bool {
	if len(head) < 16 || head[2] != '\r' || head[3] != '\n' {
		return false
	}
	n := binary.LittleEndian.Uint16(head)
	return n >= 3000 && n < 4000 && binary.LittleEndian.Uint32(head[4:]) < 4
}

// isJavaClass reports whether a file is a compiled class: the magic and a version from 1.1 (45) on.
func isJavaClass(head []byte) bool {
	return len(head) >= 8 && binary.BigEndian.Uint32(head) == 0xcafebabe && binary.BigEndian.Uint16(head[6:]) >= 45
}
