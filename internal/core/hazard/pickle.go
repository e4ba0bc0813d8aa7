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

// pickle is what a Python pickle does when it is loaded, found by following its opcodes with a stack of what they push, on which only texts and
// names count. Source of the opcodes: CPython's Lib/pickletools.py (protocols 0 to 5).
type pickle struct {
	stack []pickled
	marks []int              // where in the stack
	memo  map[string]pickled // what is more than plain data, by its number
	next  int                // the number of the next one

	globals []string // "module name", each once
	called  []string // those that are called, each once
	calls   int      // objects that would be built or called
	made    bool     // it calls what it has made while loading
	whole   bool     // it came to its end
	proto   bool     // it begins as protocol 2 or later, which nothing else does
	cut     bool     // it goes on behind what was read
}

// pickled is something on the stack.
type pickled struct {
	kind byte
	text string // of a text, and "module name" of a global
}

const (
	pickledData = iota
	pickledText
	pickledGlobal
	pickledMade // by a call
)

// pickleArgs says what follows each opcode: digits are so many bytes, n is a line, N two lines; b, i, q and s are a length of 1, 4, 8 and
// 4 bytes with so many bytes behind it.
var pickleArgs = map[byte]string{
	'(': "", '.': "", '0': "", '1': "", '2': "", 'F': "n", 'I': "n", 'J': "4", 'K': "1", 'L': "n", 'M': "2", 'N': "", 'P': "n", 'Q': "", 'R': "",
	'S': "n", 'T': "s", 'U': "b", 'V': "n", 'X': "i", 'a': "", 'b': "", 'c': "N", 'd': "", '}': "", 'e': "", 'g': "n", 'h': "1", 'i': "N", 'j': "4",
	'l': "", ']': "", 'o': "", 'p': "n", 'q': "1", 'r': "4", 's': "", 't': "", ')': "", 'u': "", 'G': "8",
	0x80: "1", 0x81: "", 0x82: "1", 0x83: "2", 0x84: "4", 0x85: "", 0x86: "", 0x87: "", 0x88: "", 0x89: "", 0x8a: "b", 0x8b: "s", 'B': "i", 'C': "b",
	0x8c: "b", 0x8d: "q", 0x8e: "q", 0x8f: "", 0x90: "", 0x91: "", 0x92: "", 0x93: "", 0x94: "", 0x95: "8", 0x96: "q", 0x97: "", 0x98: "",
}

const (
	// maxPickle bounds how many opcodes are followed, maxPickleStack what is on the stack at once, and maxPickleMemo what is remembered.
	maxPickle      = 50_000_000
	maxPickleStack = 1_000_000
	maxPickleMemo  = 200_000
	// maxPickleString is how much of a text in a pickle is kept, in bytes: names of modules are short.
	maxPickleString = 200
)

// mayBePickle reports whether a file begins with an opcode: those of protocols 0 and 1 have no mark of their own, so that parsing tells.
func mayBePickle(head []byte) bool {
	if len(head) < 2 {
		return false
	}
	if head[0] == 0x80 {
		return head[1] >= 2 && head[1] <= 5
	}
	_, known := pickleArgs[head[0]]
	return known && head[0] != '.'
}

// pickleIn finds a pickle that does something in the first bytes of a file: one that begins the file, or lies behind a header of another kind.
// goes tells that one begins there and goes on behind these bytes.
func pickleIn(head []byte) (f Finding, found, goes bool) {
	if mayBePickle(head) {
		p := scanPickle(reading(head))
		if f, ok := p.finding(); ok && (p.whole || f.Severity == Danger) {
			return f, true, false
		}
		goes = p.cut && len(head) == headSize || p.proto
	}
	tries := 0
	for at := 1; at+1 < len(head) && tries < 1000; at++ {
		begins := head[at] == 0x80 && head[at+1] >= 2 && head[at+1] <= 5
		if !begins && head[at] == 'c' { // protocols 0 and 1 have no mark: by a name that nothing honest looks up
			name := pickleGlobal.FindSubmatch(head[at:min(len(head), at+maxPickleString)])
			begins = name != nil && isHostile(string(name[1])+" "+string(name[2]))
		}
		if !begins {
			continue
		}
		tries++
		p := scanPickle(reading(head[at:]))
		if f, ok := p.finding(); ok && (p.whole || f.Severity == Danger && p.calls > 0) {
			return f, true, goes
		}
	}
	return Finding{}, false, goes
}

var pickleGlobal = regexp.MustCompile(`^c([A-Za-z_][\w.]*)\r?\n([A-Za-z_][\w.]*)\r?\n`)

var errPickle = errors.New("no pickle")

func scanPickle(r *bufio.Reader) *pickle {
	p := &pickle{memo: map[string]pickled{}}
	first, _ := r.Peek(1)
	p.proto = len(first) == 1 && first[0] == 0x80
	for range maxPickle {
		op, err := r.ReadByte()
		if err != nil {
			p.cut = true
			return p
		}
		args, known := pickleArgs[op]
		if !known {
			return p
		}
		text, err := pickleArg(r, args)
		if err != nil {
			p.cut = true
			return p
		}
		if op == '.' {
			p.whole = len(p.stack) > 0
			return p
		}
		if p.step(op, text) != nil {
			return p
		}
	}
	return p
}

func (p *pickle) push(v pickled) error {
	if len(p.stack) >= maxPickleStack {
		return errPickle
	}
	p.stack = append(p.stack, v)
	return nil
}

// pop takes so many things off the stack, of which the last was on top.
func (p *pickle) pop(n int) ([]pickled, error) {
	at := len(p.stack) - n
	if at < 0 || len(p.marks) > 0 && at < p.marks[len(p.marks)-1] {
		return nil, errPickle
	}
	taken := p.stack[at:]
	p.stack = p.stack[:at]
	return taken, nil
}

// popMark takes everything down to the last mark off the stack.
func (p *pickle) popMark() ([]pickled, error) {
	if len(p.marks) == 0 {
		return nil, errPickle
	}
	at := p.marks[len(p.marks)-1]
	p.marks = p.marks[:len(p.marks)-1]
	taken := p.stack[at:]
	p.stack = p.stack[:at]
	return taken, nil
}

// take does as an opcode does that makes one thing out of n, or, with n below 0, of all down to the mark. It returns the lowest of them, and whether
// there was one.
func (p *pickle) take(n int, makes byte) (first pickled, some bool, err error) {
	var taken []pickled
	if n < 0 {
		taken, err = p.popMark()
	} else {
		taken, err = p.pop(n)
	}
	if err != nil {
		return pickled{}, false, err
	}
	if some = len(taken) > 0; some {
		first = taken[0]
	}
	return first, some, p.push(pickled{kind: makes})
}

// step does what one opcode does.
func (p *pickle) step(op byte, text string) error {
	var err error
	var taken []pickled
	var first pickled
	switch op {
	case '(':
		p.marks = append(p.marks, len(p.stack))
		if len(p.marks) > maxPickleStack {
			err = errPickle
		}
	case '0':
		if len(p.marks) > 0 && p.marks[len(p.marks)-1] == len(p.stack) {
			_, err = p.popMark()
		} else {
			_, err = p.pop(1)
		}
	case '1':
		_, err = p.popMark()
	case '2':
		if taken, err = p.pop(1); err == nil {
			v := taken[0]
			err = errors.Join(p.push(v), p.push(v))
		}
	case 'S', 'T', 'U', 'V', 'X', 0x8c, 0x8d:
		err = p.push(pickled{pickledText, strings.Trim(text, `'"`)})
	case 'c':
		err = p.push(p.global(text))
	case 0x93:
		if taken, err = p.pop(2); err == nil {
			name := "" // of what is not known
			if taken[0].kind == pickledText && taken[1].kind == pickledText {
				name = taken[0].text + " " + taken[1].text
			}
			err = p.push(p.global(name))
		}
	case 'p', 'q', 'r', 0x94, 'g', 'h', 'j':
		err = p.remember(op, text)
	case 'R', 0x81, 0x92: // a callable, what it is given, and perhaps by name
		n := 2
		if op == 0x92 {
			n = 3
		}
		if first, _, err = p.take(n, pickledMade); err == nil {
			p.call(first)
		}
	case 'o':
		some := false
		if first, some, err = p.take(-1, pickledMade); err == nil && some {
			p.call(first)
		}
	case 'i':
		if _, _, err = p.take(-1, pickledMade); err == nil {
			p.call(p.global(text))
		}
	case 'b': // what is built may have a function for that
		if _, err = p.pop(1); err == nil && len(p.stack) == 0 {
			err = errPickle
		}
		p.calls++
	case 'P', 'Q', 0x82, 0x83, 0x84: // the game's own way to find an object
		n := 0
		if op == 'Q' {
			n = 1
		}
		_, _, err = p.take(n, pickledMade)
		p.calls++
	default:
		err = p.data(op)
	}
	return err
}

// data does what an opcode does that makes or fills plain data.
func (p *pickle) data(op byte) error {
	var err error
	switch op {
	case 0x80, 0x95: // which protocol, and how long a part is
	case 'a', 's':
		n := 1
		if op == 's' {
			n = 2
		}
		if _, err = p.pop(n); err == nil && len(p.stack) == 0 {
			err = errPickle
		}
	case 'e', 'u', 0x90:
		if _, err = p.popMark(); err == nil && len(p.stack) == 0 {
			err = errPickle
		}
	case 't', 'l', 'd', 0x91:
		_, _, err = p.take(-1, pickledData)
	case 0x85, 0x86, 0x87:
		_, _, err = p.take(int(op)-0x84, pickledData)
	case 0x98:
	default:
		err = p.push(pickled{})
	}
	return err
}

// remember keeps what is on top of the stack, or pushes what was kept.
func (p *pickle) remember(op byte, key string) error {
	switch op {
	case 'g', 'h', 'j':
		return p.push(p.memo[key])
	}
	if len(p.stack) == 0 {
		return errPickle
	}
	if op == 0x94 {
		key = strconv.Itoa(p.next)
		p.next++
	}
	if top := p.stack[len(p.stack)-1]; len(p.memo) < maxPickleMemo && (top.kind != pickledData || p.memo[key].kind != pickledData) {
		p.memo[key] = top
	}
	return nil
}

// madeUp stands for a name that is put together while the pickle loads.
const madeUp = "a name that is made up while it loads"

var pickleName = regexp.MustCompile(`^[A-Za-z_][\w.]*$`)

// global notes a name that would be looked up.
func (p *pickle) global(name string) pickled {
	module, attribute, _ := strings.Cut(strings.ReplaceAll(name, "\r", ""), " ")
	name = module + " " + attribute
	if !pickleName.MatchString(module) || !pickleName.MatchString(attribute) {
		name = madeUp
	}
	if !slices.Contains(p.globals, name) && len(p.globals) < 100 {
		p.globals = append(p.globals, name)
	}
	return pickled{pickledGlobal, name}
}

// call notes that something is called.
func (p *pickle) call(what pickled) {
	p.calls++
	switch {
	case what.kind != pickledGlobal:
		p.made = true
	case !slices.Contains(p.called, what.text) && len(p.called) < 100:
		p.called = append(p.called, what.text)
	}
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
		number := make([]byte, args[0]-'0')
		if _, err := io.ReadFull(r, number); err != nil {
			return "", err
		}
		var whole [8]byte
		copy(whole[:], number)
		return strconv.FormatUint(binary.LittleEndian.Uint64(whole[:]), 10), nil
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
var hostile = []string{"os", "posix", "nt", "subprocess", "_posixsubprocess", "sys", "importlib", "runpy", "pty", "socket", "shutil", "ctypes", "_ctypes", "webbrowser", "code", "codeop",
	"timeit", "cProfile", "pdb", "bdb", "doctest", "pickle", "_pickle", "dill", "cloudpickle", "commands", "urllib", "requests", "multiprocessing", "threading", "_thread",
	"concurrent", "signal", "ftplib", "http", "smtplib", "telnetlib", "xmlrpc", "platform", "asyncio", "pip", "ensurepip", "venv", "tempfile", "marshal", "imp", "pkgutil", "zipimport", "gc",
	"inspect", "logging.config", "sysconfig", "idlelib", "distutils", "setuptools"}

// hostileNames are functions that run text, open files or get at what is not named, in modules that have harmless ones too.
var hostileNames = map[string][]string{
	"builtins":    {"eval", "exec", "execfile", "compile", "open", "file", "__import__", "getattr", "setattr", "delattr", "globals", "locals", "vars", "input", "breakpoint", "map", "filter", "type"},
	"__builtin__": {"eval", "exec", "execfile", "compile", "open", "file", "__import__", "getattr", "setattr", "delattr", "globals", "locals", "vars", "input", "raw_input", "apply", "map", "filter", "reduce", "type"},
	"operator":    {"methodcaller", "attrgetter"}, "_operator": {"methodcaller", "attrgetter"},
	"functools": {"partial", "reduce"}, "_functools": {"partial", "reduce"},
	"types": {"FunctionType", "CodeType", "LambdaType", "MethodType"}, "io": {"open", "FileIO", "open_code"}, "_io": {"open", "FileIO", "open_code"},
}

func isHostile(global string) bool {
	module, name, _ := strings.Cut(global, " ")
	top, _, _ := strings.Cut(module, ".")
	return slices.Contains(hostile, top) || slices.Contains(hostile, module) || slices.Contains(hostileNames[module], name) || reachesIn.MatchString(name)
}

// reachesIn is a name of what Python keeps inside of its objects, by which anything can be reached.
var reachesIn = regexp.MustCompile(`(?:^|\.)__(?:import|builtins|class|bases|base|mro|globals|dict|code|subclasses|getattribute|getattr|call|init|loader|spec|reduce|reduce_ex|func|self)__(?:\.|$)`)

func (p *pickle) finding() (Finding, bool) {
	for _, g := range p.globals {
		if isHostile(g) && (p.whole || p.proto || slices.Contains(p.called, g)) { // what comes before a mistake is done all the same
			return Finding{Danger, "pickle", fmt.Sprintf("calls %s when the game loads it", strings.Replace(g, " ", ".", 1))}, true
		}
	}
	if len(p.globals) == 0 && p.calls == 0 || !p.whole && !p.proto {
		return Finding{}, false
	}
	switch {
	case slices.Contains(p.globals, madeUp):
		return Finding{Danger, "pickle", "calls " + madeUp}, true
	case p.made:
		return Finding{Danger, "pickle", "calls what it makes while the game loads it"}, true
	}
	why := "is a Python pickle that builds objects when it is loaded"
	if len(p.globals) > 0 {
		why += ": " + words(p.globals)
	}
	return Finding{Code, "pickle", why}, true
}
