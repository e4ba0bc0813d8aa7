package form

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"math"
	"regexp"
	"strconv"
	"strings"
)

// ErrNotWritable says that a value cannot be written where the query points.
var ErrNotWritable = errors.New("cannot be written")

// Splice returns data with the one value that query names replaced by value; every other byte stays as it is. JSON and XML take the
// streaming subset of their query languages: $.a.b[0], $['a b'], and /a/b[2]/@c where a step without a number is the only one of its name; blocks
// are asked like JSON; a database takes SELECT column FROM table WHERE column = value.
//
// What it returns has been read back: query finds value in it, and everything else as it was. Where that cannot be, because a name stands
// there twice or other things stand inside the value, the error wraps ErrNotWritable.
func Splice(spec Spec, data []byte, query, value string) ([]byte, error) {
	if !IsText(spec.Form) {
		return splice(spec, data, query, value)
	}
	return Recode(data, spec, func(text []byte, spec Spec) ([]byte, error) { return splice(spec, text, query, value) })
}

// CheckWritable says of a query, before there is a file, whether Splice could write by it; the error wraps ErrNotWritable.
func CheckWritable(spec Spec, query string) error {
	switch spec.Form {
	case "json":
		_, err := streamingPath(query)
		return err
	case "blocks":
		if spec.Blocks.Indent {
			return errIndented
		}
		_, err := streamingPath(query)
		return err
	case "xml":
		_, _, err := xmlPath(query)
		return err
	case "sqlite":
		_, err := oneValue(query)
		return err
	case "ini", "text", "lines", "bytes", "chunks":
		return nil
	}
	return fmt.Errorf("a value in the form %s %w", spec.Form, ErrNotWritable)
}

func splice(spec Spec, data []byte, query, value string) ([]byte, error) {
	var from, to int64
	var err error
	text := value
	switch spec.Form {
	case "json":
		from, to, text, err = spliceJSON(data, query, value)
	case "xml":
		from, to, text, err = spliceXML(data, query, value)
	case "ini":
		from, to, err = spliceINI(data, query, value)
	case "text", "lines":
		from, to, err = spliceText(data, query)
	case "blocks":
		from, to, text, err = spliceBlocks(data, spec.Blocks, query, value)
	case "sqlite":
		return spliceSQLite(context.Background(), data, query, value)
	case "bytes":
		from, to, text, err = spliceBytes(data, query, value)
	case "chunks":
		from, to, text, err = spliceChunks(data, spec.Chunks, query, value)
	default:
		return nil, fmt.Errorf("a value in the form %s %w", spec.Form, ErrNotWritable)
	}
	if err != nil {
		return nil, err
	}
	written := bytes.Join([][]byte{data[:from], []byte(text), data[to:]}, nil)
	if err := readBack(spec, data, written, query, value); err != nil {
		return nil, err
	}
	return written, nil
}

func isASCII(s string) bool {
	return strings.IndexFunc(s, func(r rune) bool { return r >= 0x80 }) < 0
}

func missingValue(query string) error {
	return fmt.Errorf("%s is not there: %w", query, ErrNotWritable)
}

func severalValues(query string) error {
	return fmt.Errorf("%s is there more than once: %w", query, ErrNotWritable)
}

func spliceJSON(data []byte, query, value string) (from, to int64, text string, err error) {
	steps, err := streamingPath(query)
	if err != nil {
		return 0, 0, "", err
	}
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	from, to, token, err := locate(d, data, steps)
	if err != nil {
		return 0, 0, "", err
	}
	switch token.(type) {
	case json.Number:
		if _, err := strconv.ParseFloat(value, 64); err != nil {
			return 0, 0, "", fmt.Errorf("%s holds a number, and %q is none: %w", query, value, ErrNotWritable)
		}
		return from, to, value, nil
	case bool:
		if value != "true" && value != "false" {
			return 0, 0, "", fmt.Errorf("%s is true or false, and %q is neither: %w", query, value, ErrNotWritable)
		}
		return from, to, value, nil
	case string:
		quoted, err := json.Marshal(value)
		return from, to, string(quoted), err
	}
	return 0, 0, "", fmt.Errorf("%s is neither text, number nor true or false: %w", query, ErrNotWritable)
}

var xmlPlace = regexp.MustCompile(`^([\w.:-]+)(?:\[([1-9]\d{0,6})\])?$`)

// xmlAt is one step of a path: the element of that name, and where place is not 0 the place-th of it in its parent.
type xmlAt struct {
	name  string
	place int
}

// xmlPath splits /a/b[2]/@c into its steps and the attribute.
func xmlPath(query string) (steps []xmlAt, attribute string, err error) {
	for _, part := range strings.Split(strings.TrimPrefix(query, "/"), "/") {
		m := xmlPlace.FindStringSubmatch(strings.TrimPrefix(part, "@"))
		isAttribute := strings.HasPrefix(part, "@")
		if m == nil || attribute != "" || isAttribute && (m[2] != "" || len(steps) == 0) {
			return nil, "", fmt.Errorf("%q: %w: not of the streaming subset", query, ErrNotWritable)
		}
		if isAttribute {
			attribute = m[1]
			continue
		}
		n, _ := strconv.Atoi(m[2]) // "" is 0
		steps = append(steps, xmlAt{m[1], n})
	}
	return steps, attribute, nil
}

// attributeIn finds the value of an attribute in a start tag.
func attributeIn(tag []byte, name string) (from, to int, ok bool) {
	m := regexp.MustCompile(`\s` + regexp.QuoteMeta(name) + `\s*=\s*("[^"]*"|'[^']*')`).FindSubmatchIndex(tag)
	if m == nil {
		return 0, 0, false
	}
	return m[2] + 1, m[3] - 1, true
}

// spliceXML finds the element by its path and in its start tag the attribute, or the text up to the next tag.
func spliceXML(data []byte, query, value string) (from, to int64, text string, err error) {
	steps, attribute, err := xmlPath(query)
	if err != nil {
		return 0, 0, "", err
	}
	var escaped bytes.Buffer
	if err := xml.EscapeText(&escaped, []byte(value)); err != nil {
		return 0, 0, "", err
	}
	d := newXMLDecoder(data)
	met := make([]int, len(steps)+1) // how many of the name of a step there were in the element that the steps before it led to
	for depth, matched := 0, 0; ; {
		before := d.InputOffset()
		token, err := d.RawToken()
		if err == io.EOF {
			return 0, 0, "", missingValue(query)
		}
		if err != nil {
			return 0, 0, "", fmt.Errorf("%w: not XML: %v", ErrDamaged, err)
		}
		switch t := token.(type) {
		case xml.StartElement:
			name := rawName(t.Name)
			if matched == depth && depth < len(steps) && name == steps[depth].name {
				if met[depth]++; steps[depth].place == 0 || steps[depth].place == met[depth] {
					matched++
					met[matched] = 0
				}
			}
			depth++
			if matched < len(steps) || depth != matched {
				continue
			}
			after := d.InputOffset()
			if attribute == "" {
				end, err := textEnd(d, query)
				if err == nil && bytes.HasSuffix(data[before:after], []byte("/>")) {
					err = missingValue(query)
				}
				return after, end, escaped.String(), err
			}
			start, end, ok := attributeIn(data[before:after], attribute)
			if !ok {
				return 0, 0, "", missingValue(query)
			}
			return before + int64(start), before + int64(end), escaped.String(), nil
		case xml.EndElement:
			if depth--; depth < 0 {
				return 0, 0, "", fmt.Errorf("%w: not XML: %s ends before it begins", ErrDamaged, t.Name.Local)
			}
			matched = min(matched, depth)
		}
	}
}

// textEnd reads on to where the text ends that d is in. Text and CDATA are the value; nothing else may stand in it.
func textEnd(d *xml.Decoder, query string) (int64, error) {
	for {
		at := d.InputOffset()
		token, err := d.RawToken()
		if err != nil {
			return 0, fmt.Errorf("%w: not XML: %v", ErrDamaged, err)
		}
		switch token.(type) {
		case xml.CharData:
		case xml.EndElement:
			return at, nil
		default:
			return 0, fmt.Errorf("%s holds more than text: %w", query, ErrNotWritable)
		}
	}
}

// spliceText finds the first group of the pattern's first match, or all of it where there is no group.
func spliceText(data []byte, query string) (from, to int64, err error) {
	re, err := compilePattern(query)
	if err != nil {
		return 0, 0, err
	}
	m := re.FindSubmatchIndex(data)
	switch {
	case m == nil || len(m) > 2 && m[2] < 0:
		return 0, 0, missingValue(query)
	case len(m) > 2:
		return int64(m[2]), int64(m[3]), nil
	}
	return int64(m[0]), int64(m[1]), nil
}

// spliceChunks writes inside the first chunk of a tag, whose length stays.
func spliceChunks(data []byte, spec ChunkSpec, query, value string) (from, to int64, text string, err error) {
	tag, at, err := compileChunks(query, false)
	if err != nil {
		return 0, 0, "", err
	}
	doc, err := parseChunks(data, spec)
	if err != nil {
		return 0, 0, "", err
	}
	for _, c := range doc.chunks {
		if c.tag == tag {
			from, to, text, err = spliceBytes(c.data, at, value)
			return from + int64(c.at), to + int64(c.at), text, err
		}
	}
	return 0, 0, "", missingValue(query)
}

// spliceBytes encodes a value as its type says; texts keep their length, filled up with zeros: what stands behind them is not known.
func spliceBytes(data []byte, query, value string) (from, to int64, text string, err error) {
	q, err := compileBytes(query)
	if err != nil {
		return 0, 0, "", err
	}
	from = q.offset
	if from < 0 {
		from += int64(len(data))
	}
	if from < 0 || from+int64(q.size) > int64(len(data)) && q.kind != "cstr" || from > int64(len(data)) {
		return 0, 0, "", missingValue(query)
	}
	if q.kind == "cstr" {
		if q.size = bytes.IndexByte(data[from:], 0); q.size < 0 {
			return 0, 0, "", missingValue(query)
		}
	}
	to = from + int64(q.size)
	b := make([]byte, q.size)
	tooLarge := fmt.Errorf("%q does not fit %s: %w", value, query, ErrNotWritable)
	switch q.kind {
	case "u8", "u16", "u32", "u64":
		n, err := strconv.ParseUint(value, 10, 8*q.size)
		if err != nil {
			return 0, 0, "", tooLarge
		}
		switch q.size {
		case 1:
			b[0] = byte(n)
		case 2:
			q.order.PutUint16(b, uint16(n))
		case 4:
			q.order.PutUint32(b, uint32(n))
		default:
			q.order.PutUint64(b, n)
		}
	case "i32":
		n, err := strconv.ParseInt(value, 10, 32)
		if err != nil {
			return 0, 0, "", tooLarge
		}
		q.order.PutUint32(b, uint32(n))
	case "hex":
		raw, err := hex.DecodeString(value)
		if err != nil || len(raw) > q.size {
			return 0, 0, "", tooLarge
		}
		copy(b, raw)
	case "ascii":
		if len(value) > q.size || !isASCII(value) {
			return 0, 0, "", tooLarge
		}
		copy(b, value)
	case "cstr":
		if len(value) > q.size || strings.Contains(value, "\x00") {
			return 0, 0, "", fmt.Errorf("%q is longer than the %d bytes that stand there: %w", value, q.size, ErrNotWritable)
		}
		copy(b, value)
	case "f32", "f64":
		x, err := strconv.ParseFloat(value, 8*q.size)
		if err != nil {
			return 0, 0, "", tooLarge
		}
		if q.size == 4 {
			q.order.PutUint32(b, math.Float32bits(float32(x)))
		} else {
			q.order.PutUint64(b, math.Float64bits(x))
		}
	default:
		return 0, 0, "", fmt.Errorf("a value of the type %s %w", q.kind, ErrNotWritable)
	}
	return from, to, string(b), nil
}

// streamingPath splits $.a['b c'][0] into "a", "b c", 0.
func streamingPath(query string) ([]any, error) {
	rest, ok := strings.CutPrefix(query, "$")
	if !ok || rest == "" {
		return nil, fmt.Errorf("%q: %w: not of the streaming subset", query, ErrNotWritable)
	}
	var steps []any
	for rest != "" {
		switch rest[0] {
		case '.':
			end := strings.IndexAny(rest[1:], ".[")
			if end < 0 {
				end = len(rest) - 1
			}
			name := rest[1 : 1+end]
			if name == "" || strings.ContainsAny(name, "*?@()'\"") {
				return nil, fmt.Errorf("%q: %w: not of the streaming subset", query, ErrNotWritable)
			}
			steps, rest = append(steps, name), rest[1+end:]
		case '[':
			if name, after, ok := strings.Cut(strings.TrimPrefix(rest, "['"), "']"); ok && strings.HasPrefix(rest, "['") {
				if name == "" || strings.ContainsAny(name, `\'`) {
					return nil, fmt.Errorf("%q: %w: not of the streaming subset", query, ErrNotWritable)
				}
				steps, rest = append(steps, name), after
				continue
			}
			inner, after, ok := strings.Cut(rest[1:], "]")
			n, err := strconv.Atoi(inner)
			if !ok || err != nil || n < 0 {
				return nil, fmt.Errorf("%q: %w: not of the streaming subset", query, ErrNotWritable)
			}
			steps, rest = append(steps, n), after
		default:
			return nil, fmt.Errorf("%q: %w: not of the streaming subset", query, ErrNotWritable)
		}
	}
	return steps, nil
}

// locate reads on to the value that steps lead to and returns its place in data and its token.
func locate(d *json.Decoder, data []byte, steps []any) (from, to int64, token json.Token, err error) {
	for _, step := range steps {
		open, err := d.Token()
		if err != nil {
			return 0, 0, nil, fmt.Errorf("%w: %v", ErrDamaged, err)
		}
		found := false
		switch want := step.(type) {
		case string:
			for open == json.Delim('{') && !found && d.More() {
				name, err := d.Token()
				if err != nil {
					return 0, 0, nil, fmt.Errorf("%w: %v", ErrDamaged, err)
				}
				if found = name == want; !found {
					if err := skipValue(d); err != nil {
						return 0, 0, nil, err
					}
				}
			}
		case int:
			for i := 0; open == json.Delim('[') && !found && d.More(); i++ {
				if found = i == want; !found {
					if err := skipValue(d); err != nil {
						return 0, 0, nil, err
					}
				}
			}
		}
		if !found {
			return 0, 0, nil, fmt.Errorf("%v is not there: %w", step, ErrNotWritable)
		}
	}
	before := d.InputOffset()
	token, err = d.Token()
	if err != nil {
		return 0, 0, nil, fmt.Errorf("%w: %v", ErrDamaged, err)
	}
	to = d.InputOffset()
	from = before + int64(bytes.IndexFunc(data[before:to], func(r rune) bool { return !strings.ContainsRune(" \t\r\n:,", r) }))
	return from, to, token, nil
}

func skipValue(d *json.Decoder) error {
	var skipped json.RawMessage
	if err := d.Decode(&skipped); err != nil {
		return fmt.Errorf("%w: %v", ErrDamaged, err)
	}
	return nil
}
