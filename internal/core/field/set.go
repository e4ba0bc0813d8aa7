package field

import (
	"errors"
	"fmt"
	"maps"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"ostrov/internal/core/wrap"
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
	if kind, offset, ok := strings.Cut(f.Length, "@"); f.Length != "" {
		t, err := wrap.ParseType(kind)
		if _, wrong := strconv.Atoi(offset); !ok || err != nil || wrong != nil || !t.Whole() {
			c.Errorf(at+".length", "", "length is TYPE@OFFSET, counted from the value's first byte, as in u8@-1")
		}
		if files[f.In].Encoding != "binary" {
			c.Errorf(at+".length", "", "length is for patterns in a file that is read as binary")
		}
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

// asItIs is how a value begins that is given as the file has it.
const asItIs = "raw:"

// Raw is a value, as people give it, as it is written in the file, where was stands now: words, units and dates are turned back. With raw: before it,
// it is taken as it is. The error wraps ErrNotAllowed if the description does not allow it, and says what could be given.
func (f *Field) Raw(value, was string) (string, error) {
	var inner string
	if f.Layers.None() {
		inner = was
	} else if content, err := f.Layers.Peel(strings.NewReader(was), wrap.DefaultLimits); err == nil {
		inner = string(content)
	}
	raw, given := strings.CutPrefix(value, asItIs)
	if !given {
		var err error
		if raw, err = f.unread(value, inner); err != nil {
			return "", err
		}
	}
	if err := f.allows(strings.TrimPrefix(value, asItIs), raw); err != nil {
		return "", err
	}
	if f.Split != "" {
		if _, rest, ok := strings.Cut(inner, f.Split); ok {
			raw += f.Split + rest
		}
	}
	if f.Layers.None() {
		return raw, nil
	}
	written, err := f.Layers.Wrap(strings.NewReader(raw), strings.NewReader(was), wrap.DefaultLimits)
	return string(written), err
}

// allows is an error that wraps ErrNotAllowed if the description does not allow a value, given in words or as the file has it.
func (f *Field) allows(value, raw string) error {
	plain := *f
	plain.Layers, plain.Split = Layers{}, ""
	says, _, wrong := plain.value(raw, true)
	either := []string{value, raw, says.Raw, says.Text}
	if len(f.OneOf) > 0 && !slices.ContainsFunc(f.OneOf, func(one string) bool { return slices.Contains(either, one) }) {
		return fmt.Errorf("%q is none of %s: it %w", value, strings.Join(f.OneOf, ", "), ErrNotAllowed)
	}
	if f.Range != "" {
		x, err := strconv.ParseFloat(raw, 64)
		if err != nil {
			x, err = strconv.ParseFloat(value, 64)
		}
		from, to, _ := bounds(f.Range) // checked when the description was read
		if err != nil || math.IsNaN(x) || from != nil && x < *from || to != nil && x > *to {
			return fmt.Errorf("%q is not within %s: it %w", value, f.Range, ErrNotAllowed)
		}
	}
	if f.Pattern != "" && !f.allowed.MatchString(value) && !f.allowed.MatchString(raw) {
		return fmt.Errorf("%q does not match %s: it %w", value, f.Pattern, ErrNotAllowed)
	}
	if wrong != nil {
		return fmt.Errorf("%q cannot be read as %s: it %w", value, f.As, ErrNotAllowed)
	}
	return nil
}

// Words is a raw value as people read it, or the raw value itself if it cannot be read.
func (f *Field) Words(raw string) string {
	v, ok, err := f.value(raw, true)
	if err != nil || !ok {
		return raw
	}
	return v.Text
}

// unread turns back what reading makes of a value: words that are shown, words that are mapped, units.
func (f *Field) unread(value, was string) (string, error) {
	for _, from := range slices.Sorted(maps.Keys(f.Show)) {
		if strings.EqualFold(f.Show[from], value) {
			value = from
			break
		}
	}
	if len(f.Map) == 0 {
		return f.as.Unread(value, was)
	}
	for _, raw := range slices.Sorted(maps.Keys(f.Map)) {
		if strings.EqualFold(f.Map[raw], value) {
			return f.as.Unread(raw, was)
		}
	}
	return "", fmt.Errorf("%q is none of %s: it %w (%s before it gives a value as the file has it)", value, f.words(), ErrNotAllowed, asItIs)
}

// words are the words that a mapped value may be given in.
func (f *Field) words() string {
	var words []string
	for _, mapped := range f.Map {
		if shown, ok := f.Show[mapped]; ok {
			mapped = shown
		}
		if !slices.Contains(words, mapped) {
			words = append(words, mapped)
		}
	}
	slices.Sort(words)
	return strings.Join(words, ", ")
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
	case len(f.Map) > 0:
		return f.words()
	}
	return ""
}
