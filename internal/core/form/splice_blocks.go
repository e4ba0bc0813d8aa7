package form

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"
)

// stretch is where a value of blocks stands: from its first byte to behind its last, the quotes around it among them.
type stretch struct{ from, to int }

var errIndented = fmt.Errorf("a value in blocks that are told by indentation %w", ErrNotWritable)

// spliceBlocks finds the one pair that a path like $.ship[1].name leads to.
func spliceBlocks(data []byte, patterns BlockPatterns, query, value string) (from, to int64, text string, err error) {
	if patterns.Indent {
		return 0, 0, "", errIndented
	}
	steps, err := streamingPath(query)
	if err != nil {
		return 0, 0, "", err
	}
	var found []stretch
	r := &blocksReader{text: data, stack: []map[string]any{{}}, names: []string{""}}
	if bytes.HasPrefix(data, []byte("\xef\xbb\xbf")) {
		r.at = 3
	}
	r.told = func(path []any, at stretch) {
		if samePath(path, steps) {
			found = append(found, at)
		}
	}
	if patterns != (BlockPatterns{}) {
		err = r.placedLines(patterns)
	} else {
		err = r.usual()
	}
	switch {
	case err != nil:
		return 0, 0, "", err
	case len(found) == 0:
		return 0, 0, "", missingValue(query)
	case len(found) > 1:
		return 0, 0, "", severalValues(query)
	}
	at := found[0]
	was := string(data[at.from:at.to])
	text = value
	if strings.HasPrefix(was, `"`) || patterns == (BlockPatterns{}) && (value == "" || strings.ContainsAny(value, "\"{}[]=#\t") || value != strings.TrimSpace(value) || r.inBraces[at] && strings.Contains(value, " ")) {
		text = `"` + strings.ReplaceAll(value, `"`, `""`) + `"`
	}
	if strings.ContainsAny(value, "\r\n") {
		return 0, 0, "", fmt.Errorf("%q has more than one line: %w", value, ErrNotWritable)
	}
	return int64(at.from), int64(at.to), text, nil
}

// samePath reports whether a path of names, each with which of its name it is, is the one of a query, where [0] may be left out at the end.
func samePath(path, steps []any) bool {
	if len(steps) == len(path)-1 && path[len(path)-1] == 0 {
		path = path[:len(path)-1]
	}
	if len(path) != len(steps) {
		return false
	}
	for i := range path {
		if path[i] != steps[i] {
			return false
		}
	}
	return true
}

// path is where the reader is: the names of the open blocks, each with which of its name it is in its parent, and a pair in the innermost.
func (r *blocksReader) path(key string) []any {
	var path []any
	for i, name := range r.names[1:] {
		list, _ := r.stack[i][name].([]any)
		path = append(path, name, max(0, len(list)-1))
	}
	n := 0
	switch was := r.stack[len(r.stack)-1][key].(type) {
	case nil:
	case []any:
		n = len(was)
	default:
		n = 1
	}
	return append(path, key, n)
}

// tell says where the value of a pair stands that is about to be read into the tree.
func (r *blocksReader) tell(key string, from, to int, braces bool) {
	if r.told == nil {
		return
	}
	at := stretch{from, to}
	if braces {
		if r.inBraces == nil {
			r.inBraces = map[stretch]bool{}
		}
		r.inBraces[at] = true
	}
	r.told(r.path(key), at)
}

// placedLines is lines that tells where values stand.
func (r *blocksReader) placedLines(p BlockPatterns) error {
	open, shut, pair := regexp.MustCompile(p.Open), regexp.MustCompile(p.Close), regexp.MustCompile(p.Pair)
	for at := r.at; at < len(r.text); {
		end := at + bytes.IndexByte(r.text[at:], '\n')
		if end < at {
			end = len(r.text)
		}
		line := strings.TrimSuffix(string(r.text[at:end]), "\r")
		var err error
		if m := shut.FindStringSubmatch(line); m != nil {
			name := ""
			if i := shut.SubexpIndex("name"); i >= 0 {
				name = m[i]
			}
			err = r.close(name)
		} else if m := open.FindStringSubmatch(line); m != nil {
			err = r.open(m[open.SubexpIndex("name")])
		} else if m := pair.FindStringSubmatchIndex(line); m != nil {
			key, value := pair.SubexpIndex("key"), pair.SubexpIndex("value")
			name := line[m[2*key]:m[2*key+1]]
			r.tell(name, at+m[2*value], at+m[2*value+1], false)
			err = r.pair(name, unquote(line[m[2*value]:m[2*value+1]]))
		}
		if err != nil {
			return err
		}
		at = end + 1
	}
	return nil
}
