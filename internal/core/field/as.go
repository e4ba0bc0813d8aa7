package field

import (
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"ostrov/internal/core/wrap"
)

// Value is one value read from a file.
type Value struct {
	Raw  string // as it is compared: what the file has, unwrapped and mapped
	Text string // as people read it
	// Unmapped is what the file has where the description does not say what it means; then Raw is "".
	Unmapped string
	Time     time.Time // set where the value is a time
	// Duration is set where the value is a span of time.
	Duration time.Duration
	// Empty reports that there is no value, but a place for one that is there.
	Empty bool
}

// Conversion is the `as` of a field, parsed.
type Conversion struct {
	kind   string
	layout string
	ticks  float64 // per second
}

// ParseConversion reads a conversion as a description spells it: "int", "ticks:20", "date:2006-01-02".
func ParseConversion(s string) (Conversion, error) {
	kind, arg, has := strings.Cut(s, ":")
	c := Conversion{kind: kind}
	switch kind {
	case "", "int", "float", "seconds", "unix", "bool", "base64", "base64url", "hex", "hexbe", "hexle", "at_least", "at_most":
		if has {
			return c, fmt.Errorf("%q takes nothing after a colon", kind)
		}
	case "ticks":
		n, err := strconv.ParseFloat(arg, 64)
		if err != nil || n <= 0 || math.IsInf(n, 0) || math.IsNaN(n) {
			return c, errors.New("ticks takes how many there are in a second, as in ticks:20")
		}
		c.ticks = n
	case "date":
		if arg == "" {
			return c, errors.New("date takes a layout, as in date:2006-01-02T15:04:05")
		}
		c.layout = arg
	default:
		return c, fmt.Errorf("no conversion %q; there are int, float, seconds, ticks:N, unix, date:LAYOUT, bool, base64, base64url, hex, hexbe, hexle, at_least, at_most", s)
	}
	return c, nil
}

// Convert turns the text of a file into a value. An error says what the text is not.
func (c Conversion) Convert(raw string) (Value, error) {
	v := Value{Raw: raw, Text: raw}
	wrong := func(what string) (Value, error) {
		return Value{}, fmt.Errorf("%w: %.60q is not %s", wrap.ErrDamaged, raw, what)
	}
	switch c.kind {
	case "int":
		n, err := strconv.ParseInt(strings.TrimSpace(raw), 10, 64)
		if err != nil {
			return wrong("a whole number")
		}
		v.Text = strconv.FormatInt(n, 10)
		v.Raw = v.Text
	case "float", "seconds", "ticks", "unix":
		n, err := strconv.ParseFloat(strings.TrimSpace(raw), 64)
		if err != nil || math.IsNaN(n) || math.Abs(n) > 1e15 {
			return wrong("a number")
		}
		switch c.kind {
		case "seconds":
			return span(v, n, wrong)
		case "ticks":
			return span(v, n/c.ticks, wrong)
		case "unix":
			v.Time = time.Unix(int64(n), 0)
			v.Text = v.Time.UTC().Format(time.RFC3339)
		}
	case "date":
		t, err := time.Parse(c.layout, strings.TrimSpace(raw))
		if err != nil {
			return wrong("a date like " + c.layout)
		}
		v.Time, v.Text = t, t.Format(time.RFC3339)
	case "bool":
		b, err := strconv.ParseBool(strings.ToLower(strings.TrimSpace(raw)))
		if err != nil {
			return wrong("true or false")
		}
		v.Text = strconv.FormatBool(b)
	case "base64", "base64url", "hex":
		decode := hex.DecodeString
		if c.kind == "base64" {
			decode = base64.StdEncoding.DecodeString
		} else if c.kind == "base64url" {
			decode = base64.RawURLEncoding.DecodeString
		}
		b, err := decode(raw)
		if err != nil || !utf8.Valid(b) {
			return wrong("text in " + c.kind)
		}
		v.Text = string(b)
		v.Raw = v.Text
	case "hexbe", "hexle": // the bytes that a pattern matched in a file read as binary
		b, err := singleBytes(raw)
		if err != nil {
			return wrong("of single bytes: the file's encoding must be binary")
		}
		if c.kind == "hexle" {
			slices.Reverse(b)
		}
		v.Raw = hex.EncodeToString(b)
		v.Text = v.Raw
	case "at_least", "at_most": // a version that is the first or the last of a range
		if raw = strings.TrimSpace(raw); raw != "" {
			v.Raw = map[string]string{"at_least": ">= ", "at_most": "<= "}[c.kind] + raw
			v.Text = v.Raw
		}
	}
	return v, nil
}

// Encode is what a file has for a text: the reverse of Convert, of what packs texts.
func (c Conversion) Encode(text string) string {
	switch c.kind {
	case "base64":
		return base64.StdEncoding.EncodeToString([]byte(text))
	case "base64url":
		return base64.RawURLEncoding.EncodeToString([]byte(text))
	case "hex":
		return hex.EncodeToString([]byte(text))
	}
	return text
}

func span(v Value, seconds float64, wrong func(string) (Value, error)) (Value, error) {
	if math.Abs(seconds) > 1e9 {
		return wrong("a span of time")
	}
	v.Duration = time.Duration(seconds * float64(time.Second))
	switch d := v.Duration.Round(time.Second); {
	case d >= time.Hour:
		v.Text = fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
	case d >= time.Minute:
		v.Text = fmt.Sprintf("%d min", int(d.Minutes()))
	default:
		v.Text = d.String()
	}
	return v, nil
}

// singleBytes are the bytes that a text of a file read as binary stands for.
func singleBytes(text string) ([]byte, error) {
	b := make([]byte, 0, len(text))
	for _, r := range text {
		if r > 0xff {
			return nil, errors.New("not of single bytes")
		}
		b = append(b, byte(r))
	}
	return b, nil
}

// Unread is what a file has for a value as people read it: the reverse of Convert, spelled as what stands there now. The error says what can be given.
func (c Conversion) Unread(text, was string) (string, error) {
	if c.kind != "" { // a text keeps the spaces at its ends
		text = strings.TrimSpace(text)
	}
	switch c.kind {
	case "seconds", "ticks":
		seconds, err := spanOf(text)
		if err != nil {
			return "", err
		}
		if c.kind == "ticks" {
			seconds *= c.ticks
		}
		if !strings.ContainsAny(was, ".eE") {
			seconds = math.Round(seconds)
		}
		return strconv.FormatFloat(seconds, 'f', -1, 64), nil
	case "unix", "date":
		t, err := timeOf(text)
		if err != nil && c.kind == "date" {
			if _, wrong := time.Parse(c.layout, text); wrong == nil {
				return text, nil
			}
		}
		if _, wrong := strconv.ParseInt(text, 10, 64); c.kind == "unix" && wrong == nil {
			return text, nil
		}
		if err != nil {
			return "", err
		}
		if c.kind == "unix" {
			return strconv.FormatInt(t.Unix(), 10), nil
		}
		return t.Format(c.layout), nil
	case "bool":
		return boolAs(text, was)
	case "hexbe", "hexle", "at_least", "at_most":
		return "", fmt.Errorf("a value read as %s %w", c.kind, ErrNotAllowed)
	}
	return c.Encode(text), nil
}

// spanOf reads a span of time as people write it, in seconds: "1 h 5 min", "65 min", "90 s", or a number of seconds.
func spanOf(text string) (seconds float64, err error) {
	if seconds, err = strconv.ParseFloat(text, 64); err == nil && !math.IsNaN(seconds) && !math.IsInf(seconds, 0) {
		return seconds, nil
	}
	units := map[string]float64{"d": 86400, "day": 86400, "days": 86400, "h": 3600, "hour": 3600, "hours": 3600, "min": 60, "m": 60, "minutes": 60, "s": 1, "seconds": 1}
	words := strings.Fields(spacedOut.ReplaceAllString(text, "$1 $2"))
	seconds = 0
	for i := 0; i < len(words); i += 2 {
		n, err := strconv.ParseFloat(words[i], 64)
		if err != nil || i+1 == len(words) || units[words[i+1]] == 0 || n < 0 || math.IsInf(n, 0) {
			words = nil
			break
		}
		seconds += n * units[words[i+1]]
	}
	if len(words) == 0 {
		return 0, fmt.Errorf("%q is no span of time, such as 1 h 5 min: it %w", text, ErrNotAllowed)
	}
	return seconds, nil
}

// spacedOut is a number with its unit right behind it.
var spacedOut = regexp.MustCompile(`(\d)([a-z])`)

// timeOf reads a time as people write it.
func timeOf(text string) (time.Time, error) {
	for _, layout := range []string{time.RFC3339, "2006-01-02 15:04:05", "2006-01-02 15:04", "2006-01-02"} {
		if t, err := time.Parse(layout, text); err == nil {
			return t, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no time, such as 2006-01-02 15:04: it %w", text, ErrNotAllowed)
}

// boolAs spells true or false as what stands there now.
func boolAs(text, was string) (string, error) {
	is, known := map[string]bool{"true": true, "yes": true, "on": true, "1": true, "false": false, "no": false, "off": false, "0": false}[strings.ToLower(text)]
	if !known {
		return "", fmt.Errorf("%q is neither true nor false: it %w", text, ErrNotAllowed)
	}
	for _, pair := range [][2]string{{"0", "1"}, {"f", "t"}, {"F", "T"}, {"FALSE", "TRUE"}, {"False", "True"}} {
		if was == pair[0] || was == pair[1] {
			if is {
				return pair[1], nil
			}
			return pair[0], nil
		}
	}
	return strconv.FormatBool(is), nil
}
