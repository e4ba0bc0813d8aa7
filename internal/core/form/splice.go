package form

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// ErrNotWritable says that a value cannot be written where the query points.
var ErrNotWritable = errors.New("cannot be written")

// Splice returns data with the one value that query names replaced by value; every other byte stays as it is. Only JSON members are
// written yet, named by the streaming subset of JSONPath: $.a.b[0].
func Splice(form string, data []byte, query, value string) ([]byte, error) {
	if form != "json" {
		return nil, fmt.Errorf("a value in the form %s %w yet", form, ErrNotWritable)
	}
	steps, err := streamingPath(query)
	if err != nil {
		return nil, err
	}
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	from, to, token, err := locate(d, data, steps)
	if err != nil {
		return nil, err
	}
	if _, number := token.(json.Number); number {
		if _, err := strconv.ParseFloat(value, 64); err != nil {
			return nil, fmt.Errorf("%s holds a number, and %q is none: %w", query, value, ErrNotWritable)
		}
	} else if _, text := token.(string); text {
		quoted, _ := json.Marshal(value)
		value = string(quoted)
	} else {
		return nil, fmt.Errorf("%s is neither text nor a number: %w", query, ErrNotWritable)
	}
	return bytes.Join([][]byte{data[:from], []byte(value), data[to:]}, nil), nil
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
