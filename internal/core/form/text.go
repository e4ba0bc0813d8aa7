package form

import (
	"bytes"
	"context"
	"fmt"
	"regexp"
	"strings"
)

// compilePattern compiles an RE2 pattern; ^ and $ match at lines, as in a text file people expect.
func compilePattern(query string) (*regexp.Regexp, error) {
	if query == "" {
		return nil, fmt.Errorf("empty pattern")
	}
	return regexp.Compile("(?m:" + query + ")")
}

// textDoc is a whole text, asked with a pattern: the value is its first group, or all of the match where it has none.
type textDoc struct{ text string }

func (d *textDoc) Value(_ context.Context, query string) (string, bool, error) {
	re, err := compilePattern(query)
	if err != nil {
		return "", false, err
	}
	m := re.FindStringSubmatch(d.text)
	switch {
	case m == nil:
		return "", false, nil
	case len(m) > 1:
		return m[1], true, nil
	default:
		return m[0], true, nil
	}
}

func (d *textDoc) Each(_ context.Context, query string) ([]Doc, error) {
	re, err := compilePattern(query)
	if err != nil {
		return nil, err
	}
	var docs []Doc
	for _, m := range re.FindAllStringSubmatch(d.text, -1) {
		docs = append(docs, groups(re, m, m[0]))
	}
	return docs, nil
}

func (d *textDoc) Close() error { return nil }

// linesDoc is a text asked line by line, so that a pattern never reaches over the end of one.
type linesDoc struct{ lines []string }

func splitLines(data []byte) []string {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	lines := strings.Split(strings.ReplaceAll(string(data), "\r\n", "\n"), "\n")
	if n := len(lines); lines[n-1] == "" {
		lines = lines[:n-1]
	}
	return lines
}

func (d *linesDoc) Value(ctx context.Context, query string) (string, bool, error) {
	for _, line := range d.lines {
		if v, ok, err := (&textDoc{line}).Value(ctx, query); ok || err != nil {
			return v, ok, err
		}
	}
	return "", false, nil
}

func (d *linesDoc) Each(_ context.Context, query string) ([]Doc, error) {
	re, err := compilePattern(query)
	if err != nil {
		return nil, err
	}
	var docs []Doc
	for _, line := range d.lines {
		if m := re.FindStringSubmatch(line); m != nil {
			docs = append(docs, groups(re, m, line))
		}
	}
	return docs, nil
}

func (d *linesDoc) Close() error { return nil }

// matchDoc is one match of a pattern: a value is asked for by the name of a group, and "." is what the first group without a name takes, or, where
// there is none, what the whole stands for.
type matchDoc map[string]string

func groups(re *regexp.Regexp, match []string, whole string) matchDoc {
	d := matchDoc{}
	for i, name := range re.SubexpNames() {
		switch _, had := d["."]; {
		case name != "":
			d[name] = match[i]
		case i > 0 && !had:
			d["."] = match[i]
		}
	}
	if _, had := d["."]; !had {
		d["."] = whole
	}
	return d
}

// Part is a text that a pattern matches as a whole, asked for the pattern's groups; ok is false where it does not match.
func Part(re *regexp.Regexp, text string) (part Doc, ok bool) {
	m := re.FindStringSubmatch(text)
	if m == nil || m[0] != text {
		return nil, false
	}
	return groups(re, m, text), true
}

func (d matchDoc) Value(_ context.Context, query string) (string, bool, error) {
	v, ok := d[query]
	return v, ok && v != "", nil
}

func (d matchDoc) Each(context.Context, string) ([]Doc, error) {
	return nil, fmt.Errorf("one line has no list inside")
}

func (d matchDoc) Close() error { return nil }

// Groups tells that the parts of the element are the named groups of the pattern.
func (d matchDoc) Groups() bool { return true }
