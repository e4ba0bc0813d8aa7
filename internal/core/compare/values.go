package compare

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/wrap"
)

// maxValues is how many values that differ are told, over all files.
const maxValues = 20

// maxText bounds a file whose values are compared, in bytes of what its layers hold.
const maxText = 8 << 20

// maxLeaves bounds how many values of a file are compared.
const maxLeaves = 500_000

// ValueChange is a value that differs inside a file; a side that does not have it is "".
type ValueChange struct {
	File string `json:"file"`
	At   string `json:"at"` // the way to it: $.captain.name, /bay/purse/@coins
	A    string `json:"a"`
	B    string `json:"b"`
}

// leaves are the values of a text by the way to them, and the ways in their order.
type leaves struct {
	at    []string
	value map[string]string
}

var errTooMany = errors.New("too many values")

func (l *leaves) add(at, value string) error {
	if len(l.at) >= maxLeaves {
		return errTooMany
	}
	if _, twice := l.value[at]; !twice {
		l.at = append(l.at, at)
	}
	l.value[at] = value
	return nil
}

// text is the decoded text of a file; why tells why there is none to be compared.
func (c content) text() (text, why string) {
	spec := doc.Spec{Layers: wrap.Layers{Chain: []wrap.Layer{{Name: "auto"}}}}
	if c.spec != nil {
		spec = *c.spec
	}
	f, err := c.open()
	if err != nil {
		return "", "cannot be read"
	}
	defer f.Close()
	peeled, err := spec.Layers.Reader(f, wrap.DefaultLimits)
	if err != nil {
		return "", "cannot be unpacked"
	}
	defer peeled.Close()
	r, err := doc.TextReader(peeled, spec)
	if errors.Is(err, wrap.ErrUnknown) {
		return "", "no text"
	} else if err != nil {
		return "", "cannot be unpacked"
	}
	switch data, err := io.ReadAll(io.LimitReader(r, maxText+1)); {
	case err != nil:
		return "", "cannot be unpacked"
	case len(data) > maxText:
		return "", fmt.Sprintf("more than %d MB inside: not compared value by value", maxText>>20)
	case !utf8.Valid(data) || bytes.IndexByte(data, 0) >= 0:
		return "", "no text"
	default:
		return string(data), ""
	}
}

// values are the values of a JSON or XML text; ok is false for another one.
func values(text string) (leaves, bool) {
	l := leaves{value: map[string]string{}}
	switch trimmed := strings.TrimLeft(text, " \t\r\n\ufeff"); {
	case strings.HasPrefix(trimmed, "{"), strings.HasPrefix(trimmed, "["):
		d := json.NewDecoder(strings.NewReader(trimmed))
		d.UseNumber()
		var v any
		if d.Decode(&v) != nil {
			return l, false
		}
		if _, err := d.Token(); err != io.EOF {
			return l, false // several, one in a line
		}
		return l, l.json("$", v) == nil
	case strings.HasPrefix(trimmed, "<"):
		return l, l.xml(trimmed) == nil
	}
	return l, false
}

func (l *leaves) json(at string, v any) error {
	switch v := v.(type) {
	case map[string]any:
		if len(v) == 0 {
			return l.add(at, "{}")
		}
		for _, key := range slices.Sorted(maps.Keys(v)) {
			if err := l.json(at+doc.Step(key), v[key]); err != nil {
				return err
			}
		}
		return nil
	case []any:
		if len(v) == 0 {
			return l.add(at, "[]")
		}
		for i, element := range v {
			if err := l.json(fmt.Sprintf("%s[%d]", at, i), element); err != nil {
				return err
			}
		}
		return nil
	case string:
		return l.add(at, v)
	case nil:
		return l.add(at, "null")
	default:
		return l.add(at, fmt.Sprint(v))
	}
}

// xml reads elements, the second and further ones of a name counted among their siblings, their attributes and texts.
func (l *leaves) xml(text string) error {
	d := xml.NewDecoder(strings.NewReader(text))
	d.Strict = false
	d.CharsetReader = func(_ string, r io.Reader) (io.Reader, error) { return r, nil } // it is UTF-8 by now
	type element struct {
		at    string
		text  strings.Builder
		count map[string]int
	}
	stack := []*element{{count: map[string]int{}}}
	for {
		token, err := d.Token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		top := stack[len(stack)-1]
		switch t := token.(type) {
		case xml.StartElement:
			top.count[t.Name.Local]++
			at := top.at + "/" + t.Name.Local
			if n := top.count[t.Name.Local]; n > 1 {
				at += fmt.Sprintf("[%d]", n)
			}
			for _, a := range t.Attr {
				if err := l.add(at+"/@"+a.Name.Local, a.Value); err != nil {
					return err
				}
			}
			stack = append(stack, &element{at: at, count: map[string]int{}})
		case xml.CharData:
			top.text.Write(t)
		case xml.EndElement:
			if len(stack) < 2 {
				return errors.New("elements do not nest")
			}
			if words := strings.TrimSpace(top.text.String()); words != "" {
				if err := l.add(top.at, words); err != nil {
					return err
				}
			}
			stack = stack[:len(stack)-1]
		}
	}
}

// differ tells values of a file that differ, as many as there is room for, and how many more there are; of another text than JSON and XML its
// lines. Where it tells none, it says why.
func (in *Inside) differ(name string, a, b content) (why string) {
	x, why := a.text()
	if why != "" {
		return why
	}
	y, why := b.text()
	if why != "" {
		return why
	}
	told := len(in.Values) + in.More
	defer func() {
		if why == "" && len(in.Values)+in.More == told {
			why = "only how it is written differs"
		}
	}()
	one, ok := values(x)
	other, okOther := values(y)
	if !ok || !okOther {
		return in.lines(name, x, y)
	}
	tell := func(at string) {
		if len(in.Values) >= maxValues {
			in.More++
			return
		}
		in.Values = append(in.Values, ValueChange{name, at, one.value[at], other.value[at]})
	}
	for _, at := range one.at {
		if v, has := other.value[at]; !has || v != one.value[at] {
			tell(at)
		}
	}
	for _, at := range other.at {
		if _, had := one.value[at]; !had {
			tell(at)
		}
	}
	return ""
}

// lines tells lines that differ, a line of one with that of the other where one stands for the other.
func (in *Inside) lines(name, x, y string) (why string) {
	differing := lines(x, y)
	if len(x) > maxDiff || len(y) > maxDiff || differing == "" && x != y && max(strings.Count(x, "\n"), strings.Count(y, "\n")) > maxLines {
		return "too long to be compared line by line"
	}
	var gone []string
	n, before := 0, false
	tell := func(n int, a, b string) {
		if a == b {
			return // but for its end
		}
		if len(in.Values) >= maxValues {
			in.More++
			return
		}
		in.Values = append(in.Values, ValueChange{name, fmt.Sprintf("line %d", n), a, b})
	}
	flush := func() {
		for _, line := range gone {
			tell(n+1, line, "") // it stood before the one that is there next
		}
		gone = nil
	}
	for line := range strings.Lines(differing) {
		line = strings.TrimRight(line, "\r\n")
		at := strings.HasPrefix(line, "@@")
		before = before && !at && strings.HasPrefix(line, " ")
		switch {
		case at:
			flush()
			_, _ = fmt.Sscanf(line, "@@ line %d", &n) // as lines writes it
			n--
			before = true
		case before && strings.HasPrefix(line, " "): // the line before the place
		case strings.HasPrefix(line, "-"):
			gone = append(gone, line[1:])
		case strings.HasPrefix(line, "+"):
			n++
			if len(gone) > 0 {
				tell(n, gone[0], line[1:])
				gone = gone[1:]
			} else {
				tell(n, "", line[1:])
			}
		default:
			flush()
			n++
		}
	}
	flush()
	return ""
}
