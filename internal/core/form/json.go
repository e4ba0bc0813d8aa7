package form

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/ohler55/ojg/jp"
)

// maxDepth bounds the nesting of JSON and XML, which a parser keeps on its stack.
const maxDepth = 1000

type jsonDoc struct{ node any }

// parseJSON keeps numbers as they are written: a version 1.10 must not become 1.1.
func parseJSON(data []byte) (Doc, error) {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	if err := checkJSONDepth(data); err != nil {
		return nil, err
	}
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	var node any
	if err := d.Decode(&node); err != nil {
		if err == io.EOF || err == io.ErrUnexpectedEOF {
			return nil, fmt.Errorf("%w: the JSON ends too early", ErrDamaged)
		}
		return nil, fmt.Errorf("%w: not JSON: %v", ErrDamaged, err)
	}
	return jsonDoc{node}, nil
}

func checkJSONDepth(data []byte) error {
	depth, quoted := 0, false
	for i := 0; i < len(data); i++ {
		switch c := data[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '{' || c == '[':
			if depth++; depth > maxDepth {
				return fmt.Errorf("%w: nested deeper than %d", ErrTooLarge, maxDepth)
			}
		case c == '}' || c == ']':
			depth--
		}
	}
	return nil
}

func compileJSON(query string) (expr jp.Expr, err error) {
	if !strings.HasPrefix(query, "$") {
		return nil, fmt.Errorf("a JSONPath begins with $: %q", query)
	}
	defer func() { // the library panics on some malformed filters
		if r := recover(); r != nil {
			err = fmt.Errorf("not a JSONPath: %v", r)
		}
	}()
	return jp.ParseString(query)
}

func (d jsonDoc) Value(_ context.Context, query string) (string, bool, error) {
	found, err := d.find(query)
	if err != nil || len(found) == 0 {
		return "", false, err
	}
	s, ok := jsonText(found[0])
	return s, ok, nil
}

func (d jsonDoc) Each(_ context.Context, query string) ([]Doc, error) {
	found, err := d.find(query)
	docs := make([]Doc, len(found))
	for i, node := range found {
		docs[i] = jsonDoc{node}
	}
	return docs, err
}

func (d jsonDoc) Close() error { return nil }

func (d jsonDoc) find(query string) (found []any, err error) {
	expr, err := compileJSON(query)
	if err != nil {
		return nil, err
	}
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("%s: %v", query, r)
		}
	}()
	return expr.Get(d.node), nil
}

func jsonText(node any) (string, bool) {
	switch v := node.(type) {
	case string:
		return v, true
	case json.Number:
		return v.String(), true
	case bool:
		return strconv.FormatBool(v), true
	default:
		return "", false
	}
}
