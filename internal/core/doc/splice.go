package doc

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"slices"

	"ostrov/internal/core/wrap"
)

// Splice returns data with the one value that query names replaced by value; it keeps every other byte. It reads the value back before it returns.
func Splice(spec Spec, data []byte, query, value string) ([]byte, error) {
	return splice(spec, data, query, value, false)
}

// SpliceAll is Splice for all values that query names, one at least.
func SpliceAll(spec Spec, data []byte, query, value string) ([]byte, error) {
	return splice(spec, data, query, value, true)
}

func splice(spec Spec, data []byte, query, value string, several bool) (written []byte, err error) {
	ctx := context.Background()
	e, err := spec.Edit(ctx, bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, e.Close()) }()
	all, err := e.written(ctx, query, several)
	if err != nil {
		return nil, err
	}
	for _, n := range all {
		if err := e.Set(n, value); err != nil {
			return nil, fmt.Errorf("%s: %w", query, err)
		}
	}
	if written, err = e.Done(ctx); err != nil || spec.Form == "sqlite" {
		return written, err
	}
	again, err := spec.Edit(ctx, bytes.NewReader(written))
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, again.Close()) }()
	now, err := again.Find(ctx, nil, query, false)
	if len(now) == 0 && value == "" && err == nil { // a pattern may want at least a digit
		return written, nil
	}
	if err != nil || len(now) != len(all) || slices.ContainsFunc(now, func(n Node) bool { return !again.Says(n, value) }) {
		return nil, errors.Join(err, fmt.Errorf("%s would not read %q: %w", query, value, wrap.ErrNotWritable))
	}
	return written, nil
}

// written are the values that a query names to be written: one, or several.
func (e *Editor) written(ctx context.Context, query string, several bool) ([]Node, error) {
	if !several {
		n, err := e.One(ctx, nil, query)
		return []Node{n}, err
	}
	if err := e.Spec.CheckWritable(query); err != nil {
		return nil, err
	}
	all, err := e.Find(ctx, nil, query, false)
	if err == nil && len(all) == 0 {
		err = missingValue(query)
	}
	return all, err
}

// CheckWritable checks, without a file, whether the parts that a query names can be changed; the error wraps wrap.ErrNotWritable.
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
		return fmt.Errorf("a value in the form %s %w", spec.Form, wrap.ErrNotWritable)
	}
	if !ok {
		return fmt.Errorf("%q: %w: ask for children by name, [0], [*] or [?(@.member == 'text')], in XML for children, [1], [@attribute='text'] and @attribute", query, wrap.ErrNotWritable)
	}
	return nil
}

func missingValue(query string) error { return fmt.Errorf("%s %w", query, ErrMissing) }

func severalValues(query string) error {
	return fmt.Errorf("%s is there more than once: %w", query, wrap.ErrNotWritable)
}
