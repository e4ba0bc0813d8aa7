package form

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"

	"github.com/go-json-experiment/json/jsontext"
	"github.com/ohler55/ojg/jp"
)

// maxDepth bounds the nesting of JSON and XML, which a parser keeps on its stack.
const maxDepth = 1000

type jsonDoc struct{ node any }

// parseJSON keeps numbers as they are written: a version 1.10 must not become 1.1.
func parseJSON(data []byte) (Doc, error) {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	d := jsontext.NewDecoder(bytes.NewBuffer(data), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))
	node, err := jsonNode(d)
	if errors.Is(err, ErrTooLarge) {
		return nil, err
	}
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, fmt.Errorf("%w: the JSON ends too early", ErrDamaged)
	}
	if syntax := (*jsontext.SyntacticError)(nil); errors.As(err, &syntax) {
		err = fmt.Errorf("%w, at byte %d", syntax.Err, syntax.ByteOffset)
	}
	if err != nil {
		return nil, fmt.Errorf("%w: not JSON: %v", ErrDamaged, err)
	}
	if err := nothingBehind("JSON", inMemory(data), int(d.InputOffset())); err != nil {
		return nil, err
	}
	return jsonDoc{node}, nil
}

// jsonNode reads the next value: a map, a slice, a text, a json.Number, a bool or nil.
func jsonNode(d *jsontext.Decoder) (any, error) {
	switch d.PeekKind() {
	case '0':
		number, err := d.ReadValue()
		return json.Number(number), err
	case '{':
		return jsonObject(d)
	case '[':
		return jsonArray(d)
	}
	token, err := d.ReadToken()
	if err != nil {
		return nil, err
	}
	switch token.Kind() {
	case '"':
		return token.String(), nil
	case 't', 'f':
		return token.Bool(), nil
	}
	return nil, nil
}

// enter reads the bracket that begins an object or an array.
func enter(d *jsontext.Decoder) error {
	_, err := d.ReadToken()
	if err == nil && d.StackDepth() > maxDepth {
		return fmt.Errorf("%w: nested deeper than %d", ErrTooLarge, maxDepth)
	}
	return err
}

func jsonObject(d *jsontext.Decoder) (any, error) {
	if err := enter(d); err != nil {
		return nil, err
	}
	object := map[string]any{}
	for d.PeekKind() != '}' {
		name, err := d.ReadToken()
		if err != nil {
			return nil, err
		}
		key := name.String() // before what follows takes its place
		if object[key], err = jsonNode(d); err != nil {
			return nil, err
		}
	}
	_, err := d.ReadToken()
	return object, err
}

func jsonArray(d *jsontext.Decoder) (any, error) {
	if err := enter(d); err != nil {
		return nil, err
	}
	array := []any{}
	for d.PeekKind() != ']' {
		element, err := jsonNode(d)
		if err != nil {
			return nil, err
		}
		array = append(array, element)
	}
	_, err := d.ReadToken()
	return array, err
}

// compiled are the queries that have been asked, by their text: a list asks each of its elements the same. Descriptions are bounded, and so are these.
var compiled sync.Map

func compileJSON(query string) (expr jsonPath, err error) {
	if known, ok := compiled.Load(query); ok {
		return known.(jsonPath), nil
	}
	expr.long = !Streams("json", query)
	if expr.Expr, err = parsePath(query); err == nil {
		compiled.Store(query, expr)
	}
	return expr, err
}

// jsonPath is a query; long tells that it may take long.
type jsonPath struct {
	jp.Expr
	long bool
}

func parsePath(query string) (expr jp.Expr, err error) {
	if !strings.HasPrefix(query, "$") {
		return nil, fmt.Errorf("a JSONPath begins with $: %q", query)
	}
	if strings.Count(query, "..") > 1 { // of each of n parts all parts, which may be n times n
		return nil, fmt.Errorf("a JSONPath has one .. at most: %q", query)
	}
	defer func() { // the library panics on some malformed filters
		if r := recover(); r != nil {
			err = fmt.Errorf("not a JSONPath: %v", r)
		}
	}()
	return jp.ParseString(query)
}

func (d jsonDoc) Value(ctx context.Context, query string) (string, bool, error) {
	found, err := d.find(ctx, query)
	if err != nil || len(found) == 0 {
		return "", false, err
	}
	s, ok := jsonText(found[0])
	return s, ok, nil
}

func (d jsonDoc) Each(ctx context.Context, query string) ([]Doc, error) {
	found, err := d.find(ctx, query)
	docs := make([]Doc, len(found))
	for i, node := range found {
		docs[i] = jsonDoc{node}
	}
	return docs, err
}

func (d jsonDoc) Close() error { return nil }

func (d jsonDoc) find(ctx context.Context, query string) (found []any, err error) {
	if query == "$" {
		return []any{d.node}, nil
	}
	expr, err := compileJSON(query)
	if err != nil {
		return nil, err
	}
	return inTime(ctx, query, expr.long, func() ([]any, error) { return expr.Get(d.node), nil })
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
