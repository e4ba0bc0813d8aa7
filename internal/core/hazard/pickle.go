package hazard

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// pickle is what a Python pickle would do when loaded. Source of the opcodes: CPython's Lib/pickletools.py (protocols 0 to 5).
type pickle struct {
	globals []string // "module name", each once
	calls   int      // objects that would be built or called
	whole   bool     // it came to its end
	proto   bool     // it begins as protocol 2 or later, which nothing else does
}

// pickleArgs says what follows each opcode: digits are so many bytes, n is a line, N two lines; b, i, q and s are a length of 1, 4, 8 and
// 4 bytes with so many bytes behind it.
var pickleArgs = map[byte]string{
	'(': "", '.': "", '0': "", '1': "", '2': "", 'F': "n", 'I': "n", 'J': "4", 'K': "1", 'L': "n", 'M': "2", 'N': "", 'P': "n", 'Q': "", 'R': "",
	'S': "n", 'T': "s", 'U': "b", 'V': "n", 'X': "i", 'a': "", 'b': "", 'c': "N", 'd': "", '}': "", 'e': "", 'g': "n", 'h': "1", 'i': "N", 'j': "4",
	'l': "", ']': "", 'o': "", 'p': "n", 'q': "1", 'r': "4", 's': "", 't': "", ')': "", 'u': "", 'G': "8",
	0x80: "1", 0x81: "", 0x82: "1", 0x83: "2", 0x84: "4", 0x85: "", 0x86: "", 0x87: "", 0x88: "", 0x89: "", 0x8a: "b", 0x8b: "s", 'B': "i", 'C': "b",
	0x8c: "b", 0x8d: "q", 0x8e: "q", 0x8f: "", 0x90: "", 0x91: "", 0x92: "", 0x93: "", 0x94: "", 0x95: "8", 0x96: "q", 0x97: "", 0x98: "",
}

// maxPickle bounds how many opcodes are followed.
const maxPickle = 50_000_000

// maxPickleString is how much of a text in a pickle is kept, in bytes: names of modules are short.
const maxPickleString = 200

func mayBePickle(head []byte) bool {
	if len(head) < 2 {
		return false
	}
	if head[0] == 0x80 {
		return head[1] >= 2 && head[1] <= 5
	}
	return strings.IndexByte("(c]}", head[0]) >= 0 // protocols 0 and 1 have no mark of their own: parsing tells
}

func scanPickle(r *bufio.Reader) pickle {
	var p pickle
	first, _ := r.Peek(1)
	p.proto = len(first) == 1 && first[0] == 0x80
	var recent [2]string // the last two texts: what STACK_GLOBAL names
	for range maxPickle {
		op, err := r.ReadByte()
		if err != nil {
			return p
		}
		args, known := pickleArgs[op]
		if !known {
			return p
		}
		text, err := pickleArg(r, args)
		if err != nil {
			return p
		}
		switch op {
		case '.':
			p.whole = true
			return p
		case 'S', 'T', 'U', 'V', 'X', 0x8c, 0x8d:
			recent = [2]string{recent[1], strings.Trim(text, `'"`)}
		case 'c', 'i':
			if !p.global(text) {
				return pickle{}
			}
		case 0x93:
			p.global(recent[0] + " " + recent[1])
		}
		if strings.IndexByte("RboiPQ\x81\x82\x83\x84\x92", op) >= 0 {
			p.calls++
		}
	}
	return p
}

var pickleName = regexp.MustCompile(`^[A-Za-z_][\w.]*$`)

// global notes a name that would be looked up. It reports whether it can be one.
func (p *pickle) global(name string) bool {
	module, attribute, _ := strings.Cut(name, " ")
	if !pickleName.MatchString(module) || !pickleName.MatchString(attribute) {
		name = "a name that is made up while it loads"
	}
	if !slices.Contains(p.globals, name) && len(p.globals) < 100 {
		p.globals = append(p.globals, name)
	}
	return pickleName.MatchString(module)
}

func pickleArg(r *bufio.Reader, args string) (string, error) {
	switch args {
	case "":
		return "", nil
	case "n":
		return pickleLine(r)
	case "N":
		module, err1 := pickleLine(r)
		name, err2 := pickleLine(r)
		return module + " " + name, errors.Join(err1, err2)
	}
	size := map[string]int{"b": 1, "i": 4, "s": 4, "q": 8}[args]
	if size == 0 {
		n, _ := strconv.Atoi(args)
		_, err := r.Discard(n)
		return "", err
	}
	var length [8]byte
	if _, err := io.ReadFull(r, length[:size]); err != nil {
		return "", err
	}
	left := int64(binary.LittleEndian.Uint64(length[:]))
	if left < 0 {
		return "", io.ErrUnexpectedEOF
	}
	text := make([]byte, min(left, maxPickleString))
	if _, err := io.ReadFull(r, text); err != nil {
		return "", err
	}
	_, err := io.CopyN(io.Discard, r, left-int64(len(text)))
	return string(text), err
}

func pickleLine(r *bufio.Reader) (string, error) {
	line, err := r.ReadSlice('\n')
	if err == bufio.ErrBufferFull { // a long text: its end is all that matters
		for err == bufio.ErrBufferFull {
			_, err = r.ReadSlice('\n')
		}
		return "", err
	}
	return strings.TrimSuffix(string(line[:min(len(line), maxPickleString)]), "\n"), err
}

// hostile are modules that no save needs and that reach outside the game.
var hostile = []string{"os", "posix", "nt", "subprocess", "sys", "importlib", "runpy", "pty", "socket", "shutil", "ctypes", "webbrowser", "code", "timeit",
	"pickle", "commands", "urllib", "requests", "multiprocessing", "signal", "ftplib", "http", "platform", "asyncio", "pip", "tempfile", "marshal"}

// hostileBuiltins are the functions built into Python that run text or open files.
var hostileBuiltins = []string{"eval", "exec", "execfile", "compile", "open", "file", "__import__", "getattr", "setattr", "globals", "input", "breakpoint"}

func (p pickle) finding() (Finding, bool) {
	if len(p.globals) == 0 && p.calls == 0 || !p.whole && !p.proto {
		return Finding{}, false
	}
	for _, g := range p.globals {
		module, name, _ := strings.Cut(g, " ")
		top, _, _ := strings.Cut(module, ".")
		builtin := (top == "builtins" || top == "__builtin__") && slices.Contains(hostileBuiltins, name)
		if slices.Contains(hostile, top) || builtin {
			return Finding{Danger, "pickle", fmt.Sprintf("calls %s.%s when the game loads it", module, name)}, true
		}
	}
	why := "is a Python pickle that builds objects when it is loaded"
	if len(p.globals) > 0 {
		why += ": " + words(p.globals)
	}
	return Finding{Code, "pickle", why}, true
}
