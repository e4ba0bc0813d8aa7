package hazard

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"sync"
)

// streams are formats in which programs keep objects, with the names of the classes that reading them makes. What such a class does then, whoever
// made the file has chosen. Each is told by the first bytes of a file; is says what is to be said of it, or "".
var streams = []struct {
	format string
	is     func(head []byte) string
}{
	{"Java objects", prefixed("\xac\xed\x00\x05", "holds Java objects: loading it can run code of any class the game has")},
	{".NET objects", dotNet},
	{"Ruby objects", ruby},
	{"Lua bytecode", prefixed("\x1bLua", "is compiled Lua, which is not checked before it runs")},
	{"Lua bytecode", prefixed("\x1bLJ", "is compiled Lua, which is not checked before it runs")},
	{"engine resource", engineResource},
	{"engine resource", prefixed("GDPC", "is a pack of a game engine, which brings scripts and replaces what the game has")},
}

func prefixed(magic, why string) func([]byte) string {
	return func(head []byte) string {
		if bytes.HasPrefix(head, []byte(magic)) {
			return why
		}
		return ""
	}
}

// dotNet tells BinaryFormatter's streams ([MS-NRBF] 2.6.1): a header with the ids of two objects, whatever they are, and the version, before
// a record.
func dotNet(head []byte) string {
	const size = 17
	version := []byte{1, 0, 0, 0, 0, 0, 0, 0}
	if len(head) < size || head[0] != 0 || !bytes.Equal(head[9:size], version) {
		return ""
	}
	ids := binary.LittleEndian.Uint64(head[1:])
	usual := ids == 0xffffffff00000001
	if !usual && (len(head) < size+5 || head[size] == 0 || head[size] == 11 || head[size] > 22) { // the records that there are
		return ""
	}
	return "holds .NET objects (BinaryFormatter): loading it can run code"
}

// ruby tells Ruby's Marshal 4.8 (Ruby, doc/marshal.rdoc) with anything but plain data in it.
func ruby(head []byte) string {
	if !bytes.HasPrefix(head, []byte{4, 8}) || len(head) < 3 {
		return ""
	}
	m := &marshal{rest: head[2:]}
	m.value(0)
	if m.class == "" && m.end && len(head) == headSize {
		return "holds Ruby data of which not all was looked at: there may be objects in it, and loading these can run code"
	}
	if m.class == "" {
		return ""
	}
	return "holds Ruby objects (" + m.class + "): loading it can run code of classes the game has"
}

// marshal is what has not been read yet of a Marshal.
type marshal struct {
	rest    []byte
	symbols []string
	class   string // of the first object that is no plain data
	end     bool   // no more can be read
}

func (m *marshal) bytes(n int) []byte {
	if n < 0 || n > len(m.rest) {
		m.end, n = true, len(m.rest)
	}
	taken := m.rest[:n]
	m.rest = m.rest[n:]
	return taken
}

// number is one byte, or says how many bytes follow.
func (m *marshal) number() int {
	first := m.bytes(1)
	if m.end {
		return 0
	}
	switch c := int(int8(first[0])); {
	case c == 0:
		return 0
	case c > 4:
		return c - 5
	case c < -4:
		return c + 5
	case c > 0:
		n := 0
		for i, b := range m.bytes(c) {
			n |= int(b) << (8 * i)
		}
		return n
	default:
		m.bytes(-c)
		return -1
	}
}

// symbol reads a name.
func (m *marshal) symbol() string {
	switch t := m.bytes(1); {
	case m.end:
	case t[0] == ':':
		name := string(m.bytes(m.number()))
		m.symbols = append(m.symbols, name)
		return name
	case t[0] == ';':
		if n := m.number(); n >= 0 && n < len(m.symbols) {
			return m.symbols[n]
		}
	default:
		m.end = true
	}
	return ""
}

// value reads one, and stops at the first object.
func (m *marshal) value(depth int) {
	t := m.bytes(1)
	if m.end || m.class != "" || depth > 100 {
		m.end = true
		return
	}
	each := func(n, of int) {
		for i := 0; i < n*of && !m.end && m.class == ""; i++ {
			m.value(depth + 1)
		}
	}
	switch t[0] {
	case '0', 'T', 'F':
	case 'i', '@':
		m.number()
	case '"', 'f', '/':
		m.bytes(m.number())
		if t[0] == '/' {
			m.bytes(1)
		}
	case 'l':
		m.bytes(1)
		m.bytes(2 * m.number())
	case ':', ';':
		m.rest = append(t[:1:1], m.rest...)
		m.symbol()
	case '[':
		each(m.number(), 1)
	case '{':
		each(m.number(), 2)
	case '}':
		each(m.number(), 2)
		each(1, 1)
	case 'I': // with instance variables, as texts have their encoding
		m.value(depth + 1)
		for range m.number() {
			if m.symbol(); m.end || m.class != "" {
				return
			}
			m.value(depth + 1)
		}
	case 'o', 'u', 'U', 'S', 'C', 'e':
		if m.class = m.symbol(); m.class == "" {
			m.class = "an object"
		}
	case 'c', 'm', 'M':
		m.class = string(m.bytes(m.number()))
	case 'd':
		m.class = "data of an extension"
	default:
		m.end = true
	}
}

// named are text formats in which classes are named anywhere in the file: words that stand where one is, and the pattern that says so.
var named = []struct {
	format string
	begins *regexp.Regexp // how such a file begins
	words  []string
	object *regexp.Regexp
	why    string
}{
	{"JSON objects", regexp.MustCompile(`^(?:\xEF\xBB\xBF)?\s*[{\[]`), []string{`"$type"`, `"@class"`, `"@type"`, `"py/`, `"json_class"`, "_$$ND_FUNC$$_"},
		regexp.MustCompile(`"(?:\$type"\s*:\s*"[^"]+,\s*[\w.-]+|@class"\s*:\s*"\w+(?:\.\w+)+|@type"\s*:\s*"\w+(?:\.\w+){2,}|py/(?:object|reduce|function|type|repr)["/]|json_class"\s*:\s*"|_\$\$ND_FUNC\$\$_)`),
		"is JSON that names the classes to be made of it"},
	{"YAML objects", regexp.MustCompile(`^(?:\xEF\xBB\xBF)?[\s\w#%!\-{\["']`), []string{"!python", "!ruby", "!perl", "!php", "!java", "!!com.", "!!org.", "!!net.", "!!System", "yaml.org,2002:"},
		regexp.MustCompile(`(?m)(?:^|[\s\[{,:-])(?:!{1,2}(?:python|ruby|perl|php|java|javax|com|org|net|System)[/.:][\w./:$-]+|!<tag:yaml\.org,2002:(?:python|ruby|java)[^>]*>)|^%TAG\s+\S+\s+tag:yaml\.org,2002:(?:python|ruby|java)`),
		"is YAML that names what is to be made of it"},
	{"PHP objects", regexp.MustCompile(`^(?:[aOCsib]:\d+[:;]|N;)`), []string{`:"`}, regexp.MustCompile(`(?:^|[{;}])[OC]:\+?\d+:"[A-Za-z_\\][\w\\]*":\d+:\{`),
		"holds PHP objects"},
}

// overlap is how much of a text, in bytes, is looked at again with what follows it: the name of a class is not longer.
const overlap = 300

// windows are for what is looked at at once.
var windows = sync.Pool{New: func() any { return new([headSize + overlap]byte) }}

// namesClasses reads a text that begins with head to its end, and says which class it names first, with its format; "" where it names none, or
// is none of these texts.
func namesClasses(b *bufio.Reader, head []byte) (format, why string, err error) {
	if bytes.IndexByte(head, 0) >= 0 {
		return "", "", nil
	}
	var may []int
	for i, n := range named {
		if n.begins.Match(head[:min(len(head), 4096)]) {
			may = append(may, i)
		}
	}
	if len(may) == 0 {
		return "", "", nil
	}
	room := windows.Get().(*[headSize + overlap]byte)
	defer windows.Put(room)
	window := room[:0]
	for {
		n, err := io.ReadFull(b, window[len(window):cap(window)])
		window = window[:len(window)+n]
		for _, i := range may {
			if !slices.ContainsFunc(named[i].words, func(w string) bool { return bytes.Contains(window, []byte(w)) }) {
				continue
			}
			if found := named[i].object.Find(window); found != nil {
				return named[i].format, fmt.Sprintf("%s (%.60s): loading it can run code", named[i].why, bytes.TrimLeft(found, " \t\r\n[{,:-;}")), nil
			}
		}
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			return "", "", nil
		}
		if err != nil {
			return "", "", err
		}
		window = append(window[:0], window[len(window)-overlap:]...)
	}
}

var (
	foreignScript = regexp.MustCompile(`(?:type="(?:Script|GDScript|CSharpScript|PackedScene)"[^\]\n]*path="([^"]*)"|path="([^"]*)"[^\]\n]*type="(?:Script|GDScript|CSharpScript|PackedScene)")`)
	ownScript     = regexp.MustCompile(`\[sub_resource[^\]\n]*type="(?:GDScript|CSharpScript|VisualScript)"|script/source\s*=`)
)

// engineResource tells resources of the Godot engine (its ResourceFormatText and ResourceFormatBinary) that bring a script with them, or name one
// that is not the game's own.
func engineResource(head []byte) string {
	text := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	const why = "is a resource of a game engine that brings a script with it"
	switch {
	case bytes.HasPrefix(text, []byte("[gd_resource")) || bytes.HasPrefix(text, []byte("[gd_scene")):
		if ownScript.Match(text) {
			return why
		}
		for _, m := range foreignScript.FindAllSubmatch(text, -1) {
			if path := string(m[1]) + string(m[2]); !strings.HasPrefix(path, "res://") {
				return "is a resource of a game engine that has a script loaded from elsewhere: " + path
			}
		}
	case bytes.HasPrefix(head, []byte("RSRC")) && (bytes.Contains(head, []byte("GDScript")) || bytes.Contains(head, []byte("script/source"))):
		return why
	}
	return ""
}
