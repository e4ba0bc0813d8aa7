package form

import (
	"bytes"
	"regexp"
)

// lines reads text whose lines are told by patterns.
func (r *blocksReader) lines() error {
	p := r.patterns
	open, shut, pair := regexp.MustCompile(p.Open), regexp.MustCompile(p.Close), regexp.MustCompile(p.Pair)
	for {
		if some, err := r.more(); err != nil || !some {
			return err
		}
		at := r.at
		line := r.line()
		if r.short && !r.last() {
			if err := r.again(at); err != nil {
				return err
			}
			continue
		}
		var err error
		if m := shut.FindSubmatch(line); m != nil {
			var name []byte
			if i := shut.SubexpIndex("name"); i >= 0 && len(m[i]) > 0 {
				name = m[i]
			}
			err = r.close(name)
		} else if m := open.FindSubmatch(line); m != nil {
			err = r.opens(m[open.SubexpIndex("name")])
		} else if m := pair.FindSubmatchIndex(line); m != nil {
			key, value := 2*pair.SubexpIndex("key"), 2*pair.SubexpIndex("value")
			r.value = place{r.begin + m[value], r.begin + m[value+1]}
			err = r.pair(line[m[key]:m[key+1]], unquote(line[m[value]:m[value+1]]))
		}
		if err != nil {
			return err
		}
		r.at = min(r.at+1, len(r.text)) // behind the end of the line
		if r.at < len(r.text) && r.text[r.at-1] == '\r' {
			r.at++
		}
	}
}

// line reads a line up to its end.
func (r *blocksReader) line() []byte {
	r.begin = r.at
	if n := bytes.IndexByte(r.text[r.at:], '\n'); n >= 0 {
		r.at += n
	} else {
		r.at, r.short = len(r.text), true
	}
	if r.at > r.begin && r.at < len(r.text) && r.text[r.at-1] == '\r' {
		r.at--
	}
	return bytes.TrimSuffix(r.text[r.begin:r.at], []byte("\r"))
}

func unquote(s []byte) []byte {
	if len(s) >= 2 && s[0] == '"' && s[len(s)-1] == '"' {
		return bytes.ReplaceAll(s[1:len(s)-1], []byte(`""`), []byte(`"`))
	}
	return s
}
