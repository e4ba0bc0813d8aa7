package form

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"strings"
)

// ErrNotWritable says that a value cannot be written where the query points.
var ErrNotWritable = errors.New("cannot be written")

// Splice returns data with the one value that query names replaced by value; every other byte stays as it is. JSON and XML take the
// streaming subset of their query languages: $.a.b[0], and /a/b or /a/b/@c where each step is the only one of its name. A database is not
// written here.
//
// What it returns has been read back: query finds value in it, and everything else as it was. Where that cannot be, because a name stands
// there twice or other things stand inside the value, the error wraps ErrNotWritable.
func Splice(spec Spec, data []byte, query, value string) ([]byte, error) {
	if !IsText(spec.Form) {
		return splice(spec, data, query, value)
	}
	return Recode(data, spec, func(text []byte, spec Spec) ([]byte, error) { return splice(spec, text, query, value) })
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

var xmlStep = regexp.MustCompile(`^@?[\w.:-]+$`)

// spliceXML finds the element by its path and in its start tag the attribute, or the text up to the next tag.
func spliceXML(data []byte, query, value string) (from, to int64, text string, err error) {
	steps := strings.Split(strings.TrimPrefix(query, "/"), "/")
	attribute := ""
	for i, step := range steps {
		if !xmlStep.MatchString(step) || step[0] == '@' && i != len(steps)-1 {
			return 0, 0, "", fmt.Errorf("%q: %w: not of the streaming subset", query, ErrNotWritable)
		}
	}
	if last := steps[len(steps)-1]; last[0] == '@' {
		attribute, steps = last[1:], steps[:len(steps)-1]
	}
	var escaped bytes.Buffer
	if err := xml.EscapeText(&escaped, []byte(value)); err != nil {
		return 0, 0, "", err
	}
	d := newXMLDecoder(data)
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
			name := t.Name.Local
			if t.Name.Space != "" {
				name = t.Name.Space + ":" + name
			}
			if matched == depth && depth < len(steps) && name == steps[depth] {
				matched++
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
			re := regexp.MustCompile(`\s` + regexp.QuoteMeta(attribute) + `\s*=\s*("[^"]*"|'[^']*')`)
			m := re.FindSubmatchIndex(data[before:after])
			if m == nil {
				return 0, 0, "", missingValue(query)
			}
			return before + int64(m[2]) + 1, before + int64(m[3]) - 1, escaped.String(), nil
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

// spliceBytes encodes a value as its type says; texts keep their length, filled up with zeros.
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
	default:
		return 0, 0, "", fmt.Errorf("a value of the type %s %w", q.kind, ErrNotWritable)
	}
	return from, to, string(b), nil
}

// streamingPath splits $.a.b[0] into "a", "b", 0.
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
