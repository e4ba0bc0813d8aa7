// Package strict reads TOML that people write by hand, and tells them exactly what is wrong with it.
//
// It promises that a key nobody defined, a value of the wrong type or a syntax error is reported with file, line and column and, for a
// misspelt key, with the key that was probably meant; every such error of a document is reported at once. It never ignores anything it does
// not know. The syntax itself is read by go-toml; this package adds positions to what that library decodes into plain values.
package strict

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"github.com/pelletier/go-toml/v2/unstable"
)

// MaxSize is the largest document read, in bytes.
const MaxSize = 1 << 20

// maxPath is the longest key, with those of the tables that it is in, in bytes.
const maxPath = 1000

// maxKeys is how many keys a document has at most: the time that go-toml takes grows with the square of those beside each other.
const maxKeys = 10_000

// maxErrors is how many errors one document reports; more help nobody.
const maxErrors = 50

// Pos is a place in a document; both count from one. The zero Pos is an unknown place.
type Pos struct{ Line, Column int }

// Error is one thing wrong with a document.
type Error struct {
	File string
	Pos  Pos
	Text string // what is wrong
	Hint string // what was probably meant, or ""
}

func (e *Error) Error() string {
	s := e.File
	if e.Pos.Line > 0 {
		s += fmt.Sprintf(":%d:%d", e.Pos.Line, e.Pos.Column)
	}
	s += ": " + e.Text
	if e.Hint != "" {
		s += " (" + e.Hint + ")"
	}
	return s
}

// Errors are all errors of one document, in the order of their places.
type Errors []*Error

func (e Errors) Error() string {
	lines := make([]string, len(e))
	for i, one := range e {
		lines[i] = one.Error()
	}
	return strings.Join(lines, "\n")
}

// Positions tells where each key of a document stands. Keys are dotted paths with element numbers: "save.0.field.title".
type Positions map[string]Pos

// Of returns the place of path or, when that is not a key of its own, of the nearest key around it.
func (p Positions) Of(path string) Pos {
	for path != "" {
		if pos, ok := p[path]; ok {
			return pos
		}
		i := strings.LastIndexByte(path, '.')
		if i < 0 {
			break
		}
		path = path[:i]
	}
	return Pos{}
}

// Union is a type that a document may write in several shapes (a string or a list of strings, say).
// Decoder hands it the plain value (string, int64, float64, bool, []any or map[string]any).
type Union interface {
	FromTOML(d *Decoder, path string, value any)
}

// Decoder decodes one document; a Union uses it to decode what lies inside its value.
type Decoder struct {
	File      string
	Positions Positions
	// Later names keys that the language has but this Ostrov does not understand yet, by dotted path without element numbers.
	Later map[string]bool
	errs  Errors
}

// Errorf notes an error at path.
func (d *Decoder) Errorf(path, hint, format string, args ...any) {
	if len(d.errs) < maxErrors {
		d.errs = append(d.errs, &Error{File: d.File, Pos: d.Positions.Of(path), Text: fmt.Sprintf(format, args...), Hint: hint})
	}
}

// Err returns what has been noted so far as Errors, sorted by place, or nil.
func (d *Decoder) Err() error {
	if len(d.errs) == 0 {
		return nil
	}
	sort.SliceStable(d.errs, func(i, j int) bool {
		a, b := d.errs[i].Pos, d.errs[j].Pos
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
	return d.errs
}

// Decode reads the document data into the struct that into points to, whose fields carry `toml` tags.
// Syntax errors end the reading; all others are collected in the Decoder (Err), so that a caller can add its own before reporting.
func Decode(file string, data []byte, into any, later map[string]bool) (*Decoder, error) {
	d := &Decoder{File: file, Later: later}
	if len(data) > MaxSize {
		return nil, Errors{{File: file, Text: fmt.Sprintf("is larger than %d bytes", MaxSize)}}
	}
	var bad *Error
	if d.Positions, bad = positions(file, data); bad != nil {
		return nil, Errors{bad}
	}
	var plain map[string]any
	if err := toml.Unmarshal(data, &plain); err != nil {
		e := &Error{File: file, Text: err.Error()}
		if syntax := (*toml.DecodeError)(nil); errors.As(err, &syntax) {
			e.Pos.Line, e.Pos.Column = syntax.Position()
			e.Text = strings.TrimPrefix(syntax.Error(), "toml: ")
		}
		return nil, Errors{e}
	}
	d.Value("", plain, reflect.ValueOf(into).Elem())
	return d, nil
}

// Value decodes value, found at path, into target.
func (d *Decoder) Value(path string, value any, target reflect.Value) {
	if target.CanAddr() {
		if u, ok := target.Addr().Interface().(Union); ok {
			u.FromTOML(d, path, value)
			return
		}
	}
	ok := true
	switch target.Kind() {
	case reflect.Pointer:
		target.Set(reflect.New(target.Type().Elem()))
		d.Value(path, value, target.Elem())
	case reflect.Struct:
		var table map[string]any
		if table, ok = value.(map[string]any); ok {
			d.table(path, table, target)
		}
	case reflect.Map:
		var table map[string]any
		if table, ok = value.(map[string]any); ok {
			target.Set(reflect.MakeMap(target.Type()))
			for _, key := range sortedKeys(table) {
				element := reflect.New(target.Type().Elem()).Elem()
				d.Value(join(path, key), table[key], element)
				target.SetMapIndex(reflect.ValueOf(key), element)
			}
		}
	case reflect.Slice:
		var list []any
		if list, ok = value.([]any); ok {
			target.Set(reflect.MakeSlice(target.Type(), len(list), len(list)))
			for i, element := range list {
				d.Value(join(path, strconv.Itoa(i)), element, target.Index(i))
			}
		}
	case reflect.String:
		var s string
		if s, ok = value.(string); ok {
			target.SetString(s)
		}
	case reflect.Int, reflect.Int64:
		var n int64
		if n, ok = value.(int64); ok {
			target.SetInt(n)
		}
	case reflect.Bool:
		var b bool
		if b, ok = value.(bool); ok {
			target.SetBool(b)
		}
	case reflect.Interface: // the caller judges the type
		target.Set(reflect.ValueOf(value))
	default:
		panic("strict: no way to decode into " + target.Type().String())
	}
	if !ok {
		d.Errorf(path, "", "%s must be %s, not %s", last(path), kindName(target.Type()), valueName(value))
	}
}

func (d *Decoder) table(path string, table map[string]any, target reflect.Value) {
	fields := map[string]int{}
	var known []string
	for i := range target.NumField() {
		if tag := target.Type().Field(i).Tag.Get("toml"); tag != "" && tag != "-" { // "-" is what no file may set, not a key
			fields[tag] = i
			known = append(known, tag)
		}
	}
	for _, key := range sortedKeys(table) {
		if len(d.errs) >= maxErrors { // finding what was meant takes its time
			return
		}
		at := join(path, key)
		if i, ok := fields[key]; ok {
			d.Value(at, table[key], target.Field(i))
			continue
		}
		if d.Later[withoutNumbers(at)] {
			d.Errorf(at, "", "%q is not understood by this Ostrov yet", withoutNumbers(at))
			continue
		}
		hint := ""
		if near := Nearest(key, known); near != "" {
			hint = "did you mean " + strconv.Quote(near) + "?"
		}
		where := "at the top level"
		if path != "" {
			where = "in " + withoutNumbers(path)
		}
		d.Errorf(at, hint, "unknown key %q %s", key, where)
	}
}

// Nearest returns the candidate that word was probably meant to be, or "" when none is near.
func Nearest(word string, candidates []string) string {
	best, bestDistance := "", len(word)/3+2
	for _, c := range candidates {
		if n := distance(word, c); n < bestDistance {
			best, bestDistance = c, n
		}
	}
	return best
}

// distance is the number of letters to insert, remove, replace or swap with their neighbour that turns a into b
// (optimal string alignment).
func distance(a, b string) int {
	if len(a) > 64 || len(b) > 64 {
		return 64
	}
	var d [65][65]int
	for i := 0; i <= len(a); i++ {
		for j := 0; j <= len(b); j++ {
			switch {
			case i == 0:
				d[i][j] = j
			case j == 0:
				d[i][j] = i
			default:
				cost := 1
				if a[i-1] == b[j-1] {
					cost = 0
				}
				d[i][j] = min(d[i-1][j]+1, d[i][j-1]+1, d[i-1][j-1]+cost)
				if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
					d[i][j] = min(d[i][j], d[i-2][j-2]+1)
				}
			}
		}
	}
	return d[len(a)][len(b)]
}

// positions walks the syntax tree of data as far as it is well-formed, and notes where each key stands. Data may come from anybody: a path of keys
// longer than maxPath and keys beyond maxKeys are errors, before anything grows with the square of either.
func positions(file string, data []byte) (Positions, *Error) {
	w := walk{found: Positions{}, counts: map[string]int{}}
	w.parser.Reset(data)
	for i, b := range data {
		if b == '\n' {
			w.lines = append(w.lines, i+1)
		}
	}
	table := ""
	for w.bad == nil && w.parser.NextExpression() {
		switch e := w.parser.Expression(); e.Kind {
		case unstable.Table:
			table = w.key("", e.Key(), w.counts, false)
		case unstable.ArrayTable:
			table = w.key("", e.Key(), w.counts, true)
		case unstable.KeyValue:
			w.value(w.key(table, e.Key(), w.counts, false), e.Value())
		}
	}
	if w.bad != nil {
		w.bad.File = file
	}
	return w.found, w.bad
}

// walk is one way through a syntax tree.
type walk struct {
	parser unstable.Parser
	lines  []int // where each line but the first begins, as offsets
	found  Positions
	counts map[string]int // how many elements an array of tables has so far
	bad    *Error         // what ended it
}

// at is the place of a node, found by its offset: the parser itself counts from the beginning each time.
func (w *walk) at(node *unstable.Node) Pos {
	offset := int(node.Raw.Offset)
	line, _ := slices.BinarySearch(w.lines, offset+1)
	begin := 0
	if line > 0 {
		begin = w.lines[line-1]
	}
	return Pos{Line: line + 1, Column: offset - begin + 1}
}

func (w *walk) key(path string, key unstable.Iterator, counts map[string]int, array bool) string {
	for key.Next() {
		node := key.Node()
		pos := w.at(node)
		switch {
		case len(path)+len(node.Data) > maxPath:
			w.bad = &Error{Pos: pos, Text: fmt.Sprintf("a key of more than %d bytes, with those of the tables that it is in", maxPath)}
			return path
		case len(w.found) >= maxKeys:
			w.bad = &Error{Pos: pos, Text: fmt.Sprintf("more than %d keys", maxKeys)}
			return path
		}
		path = join(path, string(node.Data))
		if _, seen := w.found[path]; !seen {
			w.found[path] = pos
		}
		switch {
		case array && key.IsLast():
			counts[path]++
			path = join(path, strconv.Itoa(counts[path]-1))
			w.found[path] = pos
		case counts[path] > 0: // a table inside the newest element of an array of tables
			path = join(path, strconv.Itoa(counts[path]-1))
		}
	}
	return path
}

func (w *walk) value(path string, value *unstable.Node) {
	switch value.Kind {
	case unstable.InlineTable:
		for it := value.Children(); it.Next() && w.bad == nil; {
			w.value(w.key(path, it.Node().Key(), map[string]int{}, false), it.Node().Value())
		}
	case unstable.Array:
		if len(path) > maxPath {
			w.bad = &Error{Text: fmt.Sprintf("arrays nested deeper than %d", maxPath/2)}
			return
		}
		i := 0
		for it := value.Children(); it.Next() && w.bad == nil; {
			if it.Node().Kind == unstable.Comment {
				continue
			}
			w.value(join(path, strconv.Itoa(i)), it.Node())
			i++
		}
	}
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

func last(path string) string {
	path = withoutNumbers(path)
	if i := strings.LastIndexByte(path, '.'); i >= 0 {
		return strconv.Quote(path[i+1:])
	}
	return strconv.Quote(path)
}

func withoutNumbers(path string) string {
	kept := strings.Split(path, ".")
	n := 0
	for _, part := range kept {
		if _, err := strconv.Atoi(part); err != nil {
			kept[n] = part
			n++
		}
	}
	return strings.Join(kept[:n], ".")
}

func sortedKeys(m map[string]any) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	return keys
}

func kindName(t reflect.Type) string {
	switch t.Kind() {
	case reflect.String:
		return "text"
	case reflect.Int, reflect.Int64:
		return "a whole number"
	case reflect.Bool:
		return "true or false"
	case reflect.Slice:
		return "a list"
	default:
		return "a table"
	}
}

func valueName(v any) string {
	switch v.(type) {
	case string:
		return "text"
	case int64, float64:
		return "a number"
	case bool:
		return "true or false"
	case []any:
		return "a list"
	case map[string]any:
		return "a table"
	default:
		return "a date"
	}
}
