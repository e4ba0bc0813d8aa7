package form

import (
	"bytes"
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// readBack reports an error unless the description's own query finds value in written, and everything else is as data has it. An emptied
// value may also be one that is no longer found: a pattern may want at least a digit.
func readBack(spec Spec, data, written []byte, query, value string) error {
	ctx := context.Background()
	doc, err := Parse(written, spec)
	if err != nil {
		return fmt.Errorf("%s: with %q the file is %w: %w", query, value, err, ErrNotWritable)
	}
	defer doc.Close()
	got, found, err := doc.Value(ctx, query)
	if err != nil {
		return err
	}
	if spec.Form == "json" || spec.Form == "xml" { // reading takes the first of several; a game may take the last
		if all, err := doc.Each(ctx, query); err != nil || len(all) > 1 {
			return errors.Join(err, severalValues(query))
		}
	}
	if !(found || value == "") || !sameValue(spec.Form, got, value) {
		return fmt.Errorf("%s would read %q, not %q: %w", query, got, value, ErrNotWritable)
	}
	before, err := leaves(spec, data)
	if err != nil {
		return err
	}
	after, err := leaves(spec, written)
	if err != nil {
		return err
	}
	changed := 0
	for i := range before {
		if i < len(after) && before[i] != after[i] {
			changed++
		}
	}
	if len(before) != len(after) || changed > 1 {
		return fmt.Errorf("%s: more than this value would change: %w", query, ErrNotWritable)
	}
	return nil
}

// sameValue reports whether got, as a query reads it, is the value that was to be written.
func sameValue(form, got, value string) bool {
	switch form {
	case "xml", "ini": // these readers trim
		return got == strings.TrimSpace(value)
	case "bytes", "chunks":
		if a, err := strconv.ParseInt(got, 10, 64); err == nil {
			if b, err := strconv.ParseInt(value, 10, 64); err == nil {
				return a == b
			}
		}
		return strings.EqualFold(strings.TrimRight(got, "\x000"), strings.TrimRight(value, "\x000"))
	default:
		return got == value
	}
}

// leaves lists what a text of the form consists of, so that two of them can be compared: the tokens of JSON and XML, the keys of INI. Forms
// whose bytes are all there is to them have none.
func leaves(spec Spec, data []byte) (list []string, err error) {
	switch spec.Form {
	case "json":
		d := json.NewDecoder(bytes.NewReader(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))))
		d.UseNumber()
		for {
			token, err := d.Token()
			if err == io.EOF {
				return list, nil
			}
			if err != nil {
				return nil, fmt.Errorf("%w: not JSON: %v", ErrDamaged, err)
			}
			list = append(list, fmt.Sprintf("%T %v", token, token))
		}
	case "xml":
		d := newXMLDecoder(data)
		for text := ""; ; {
			token, err := d.RawToken()
			if err == io.EOF {
				return append(list, text), nil
			}
			if err != nil {
				return nil, fmt.Errorf("%w: not XML: %v", ErrDamaged, err)
			}
			if c, ok := token.(xml.CharData); ok {
				text += string(c)
				continue
			}
			list = append(list, text)
			text = ""
			if start, ok := token.(xml.StartElement); ok {
				for _, a := range start.Attr {
					list = append(list, fmt.Sprintf("%v=%s", a.Name, a.Value))
				}
				token = start.Name
			}
			list = append(list, fmt.Sprintf("%T %v", token, token))
		}
	case "ini":
		doc, err := parseINI(data)
		for _, e := range doc {
			list = append(list, e.section+"\x00"+e.key+"\x00"+e.value)
		}
		return list, err
	default:
		return nil, nil
	}
}

// newXMLDecoder reads tokens of XML whose encoding has been dealt with already.
func newXMLDecoder(data []byte) *xml.Decoder {
	d := xml.NewDecoder(bytes.NewReader(data))
	d.CharsetReader = asItIs
	return d
}
