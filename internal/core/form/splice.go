package form

import (
	"context"
	"errors"
	"fmt"
	"strings"
)

// ErrNotWritable says that a value cannot be written where the query points.
var ErrNotWritable = errors.New("cannot be written")

// Splice returns data with the one value that query names replaced by value; every other byte stays as it is. See Editor for the queries
// that it takes.
//
// What it returns has been read back: query finds value in it, and everything else as it was. Where that cannot be, because a name stands
// there twice or other things stand inside the value, the error wraps ErrNotWritable.
func Splice(spec Spec, data []byte, query, value string) ([]byte, error) {
	ctx := context.Background()
	if !IsText(spec.Form) {
		return splice(ctx, spec, data, query, value)
	}
	return spec.Recode(data, func(text []byte, spec Spec) ([]byte, error) { return splice(ctx, spec, text, query, value) })
}

func splice(ctx context.Context, spec Spec, data []byte, query, value string) (written []byte, err error) {
	e, err := spec.Edit(ctx, data)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, e.Close()) }()
	at, err := e.One(ctx, nil, query)
	if err != nil {
		return nil, err
	}
	if err := e.Set(at, value); err != nil {
		return nil, fmt.Errorf("%s: %w", query, err)
	}
	if written, err = e.Done(ctx); err != nil || spec.Form == "sqlite" {
		return written, err
	}
	return written, readBack(spec, data, written, query, value)
}

// CheckWritable says of a query, before there is a file, whether the parts that it names could be changed; the error wraps ErrNotWritable.
func (spec Spec) CheckWritable(query string) error {
	ok := true
	switch spec.Form {
	case "json", "blocks":
		_, ok = jsonSteps(query)
	case "xml":
		_, ok = xmlSteps(query)
	case "sqlite":
		_, err := rowsOf(query)
		return err
	case "ini", "text", "lines", "bytes", "chunks":
	default:
		return fmt.Errorf("a value in the form %s %w", spec.Form, ErrNotWritable)
	}
	if !ok {
		return errNotStreaming(query)
	}
	return nil
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
