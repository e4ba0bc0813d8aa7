package field

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// checkSet checks what a field may be set to.
func (c Checker) checkSet(at string, f *Field, files map[string]File) {
	if !f.Set {
		if f.Range != "" || len(f.OneOf) > 0 || f.Pattern != "" {
			c.Errorf(at, "", "range, one_of and pattern say what a field may be set to: it needs set = true")
		}
		return
	}
	if f.In == "" || len(f.At) != 1 {
		c.Errorf(at+".set", "", "only a field at one place in a file can be set")
	} else if file, ok := files[f.In]; ok {
		query := f.At[0]
		if n := len(f.Ref); n > 0 {
			query = strings.ReplaceAll(f.Ref[n-1], "{}", "x")
		}
		if f.Each != "" {
			if err := file.Spec().CheckWritable(f.Each); err != nil {
				c.Errorf(at+".set", "", "it cannot be set: %v", err)
			}
		}
		if err := file.Spec().CheckWritable(query); err != nil {
			c.Errorf(at+".set", "", "it cannot be set: %v", err)
		}
	}
	if f.Layers.Tag != nil || len(f.Layers.Chain) > 0 {
		c.Errorf(at+".set", "", "what is wrapped inside a value cannot be set")
	}
	if _, _, err := bounds(f.Range); err != nil {
		c.Errorf(at+".range", "", "%v", err)
	}
	re, err := regexp.Compile("^(?:" + f.Pattern + ")$")
	if err != nil {
		c.Errorf(at+".pattern", "", "not a pattern: %v", err)
	}
	f.allowed = re
}

// bounds takes FROM..TO apart; nil is no bound.
func bounds(text string) (from, to *float64, err error) {
	if text == "" {
		return nil, nil, nil
	}
	low, high, ok := strings.Cut(text, "..")
	if !ok {
		return nil, nil, fmt.Errorf("the range %q is not FROM..TO", text)
	}
	for _, one := range []struct {
		text string
		into **float64
	}{{low, &from}, {high, &to}} {
		if one.text == "" {
			continue
		}
		x, err := strconv.ParseFloat(one.text, 64)
		if err != nil {
			return nil, nil, fmt.Errorf("the range %q is not FROM..TO", text)
		}
		*one.into = &x
	}
	if from != nil && to != nil && *from > *to {
		return nil, nil, fmt.Errorf("the range %q begins behind its end", text)
	}
	return from, to, nil
}

// ErrNotAllowed says that a field may not be set to a value.
var ErrNotAllowed = errors.New("may not be set to that")

// Raw is a value, as people give it, as it is written in the file. The error wraps ErrNotAllowed where the description does not allow it.
func (f *Field) Raw(value string) (string, error) {
	if len(f.OneOf) > 0 && !slices.Contains(f.OneOf, value) {
		return "", fmt.Errorf("%q is none of %s: it %w", value, strings.Join(f.OneOf, ", "), ErrNotAllowed)
	}
	if f.Range != "" {
		x, err := strconv.ParseFloat(value, 64)
		from, to, _ := bounds(f.Range) // checked when the description was read
		if err != nil || from != nil && x < *from || to != nil && x > *to {
			return "", fmt.Errorf("%q is not within %s: it %w", value, f.Range, ErrNotAllowed)
		}
	}
	if f.Pattern != "" && !f.allowed.MatchString(value) {
		return "", fmt.Errorf("%q does not match %s: it %w", value, f.Pattern, ErrNotAllowed)
	}
	for raw, mapped := range f.Map {
		if strings.EqualFold(mapped, value) {
			return f.Encode(raw), nil
		}
	}
	if len(f.Map) > 0 {
		return "", fmt.Errorf("%q is nothing that the description knows: it %w", value, ErrNotAllowed)
	}
	return f.Encode(value), nil
}

// Allowed says in words what a field may be set to, "" for anything.
func (f *Field) Allowed() string {
	switch {
	case len(f.OneOf) > 0:
		return strings.Join(f.OneOf, ", ")
	case f.Range != "":
		return f.Range
	case f.Pattern != "":
		return f.Pattern
	}
	return ""
}
