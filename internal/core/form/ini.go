package form

import (
	"bytes"
	"context"
	"fmt"
	"regexp"
	"strings"
)

// iniDoc is asked "Section.key", or "key" for what stands before the first section. A key that is there twice has its last value when it is
// read; it is not written, since programs differ in which one counts.
type iniDoc []iniEntry

// iniEntry is one key: a line "key = value", "key: value", or a key alone, whose value is "true".
type iniEntry struct {
	section, key, value string
	alone               bool // it is asked for in its section, by its key alone
	// from and to are where the value stands, in bytes of the file; from is -1 where the line is a key alone.
	from, to int
}

// parseINI reads sections in brackets, keys before = or :, and comment lines that begin with ; or #. What follows a value on its line
// belongs to it. One pair of quotes round a whole value is not part of it. Other lines are passed over.
func parseINI(data []byte) (iniDoc, error) {
	if i := bytes.IndexByte(data, 0); i >= 0 {
		return nil, fmt.Errorf("%w: not text: a zero byte at %d", ErrDamaged, i)
	}
	var doc iniDoc
	section := ""
	start := len(data) - len(bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")))
	for at := start; at < len(data); {
		end := len(data)
		if i := bytes.IndexByte(data[at:], '\n'); i >= 0 {
			end = at + i
		}
		line := string(data[at:end])
		switch t := strings.TrimSpace(line); {
		case t == "" || t[0] == ';' || t[0] == '#':
		case t[0] == '[' && strings.HasSuffix(t, "]"):
			section = strings.TrimSpace(t[1 : len(t)-1])
			doc = append(doc, iniEntry{section: section, from: -1})
		default:
			doc = append(doc, iniLine(section, line, at))
		}
		at = end + 1
	}
	return doc, nil
}

// iniLine reads the line of a key that begins at the byte at.
func iniLine(section, line string, at int) iniEntry {
	i := strings.IndexAny(line, "=:")
	if i < 0 {
		return iniEntry{section: section, key: strings.TrimSpace(line), value: "true", from: -1}
	}
	rest := line[i+1:]
	value := strings.TrimSpace(rest)
	from := at + i + 1 + len(rest) - len(strings.TrimLeft(rest, " \t"))
	if value == "" {
		from = at + i + 1
	}
	if n := len(value); n > 1 && (value[0] == '"' || value[0] == '\'') && value[n-1] == value[0] {
		value, from = value[1:n-1], from+1
	}
	return iniEntry{section: section, key: strings.TrimSpace(line[:i]), value: value, from: from, to: from + len(value)}
}

// section is what stands in one section, whose keys are asked for without its name; ok is false where there is none of that name.
func (d iniDoc) section(name string) (section iniDoc, ok bool) {
	for _, e := range d {
		if e.section == name {
			ok = true
			if e.key != "" {
				e.alone = true
				section = append(section, e)
			}
		}
	}
	return section, ok
}

// find returns the entries that a query names, in the order of the file.
func (d iniDoc) find(query string) (found []iniEntry) {
	section, key, dotted := strings.Cut(query, ".")
	for _, e := range d {
		if e.key == "" { // a section's head
			continue
		}
		if dotted && e.section == section && e.key == key && !e.alone || (e.section == "" || e.alone) && e.key == query {
			found = append(found, e)
		}
	}
	return found
}

func (d iniDoc) Value(_ context.Context, query string) (string, bool, error) {
	found := d.find(query)
	if len(found) == 0 {
		return "", false, nil
	}
	return found[len(found)-1].value, true, nil
}

// Each matches the pattern against each whole key, "Section.key" or "key"; the element's "." is the key's value.
func (d iniDoc) Each(_ context.Context, query string) ([]Doc, error) {
	re, err := regexp.Compile("^(?:" + query + ")$")
	if err != nil {
		return nil, err
	}
	var docs []Doc
	at := map[[2]string]int{}
	for _, e := range d {
		name := e.key
		if e.key == "" {
			continue
		}
		if e.section != "" && !e.alone {
			name = e.section + "." + name
		}
		m := re.FindStringSubmatch(name)
		if m == nil {
			continue
		}
		if i, twice := at[[2]string{e.section, e.key}]; twice {
			docs[i] = e.element(re, m)
			continue
		}
		at[[2]string{e.section, e.key}] = len(docs)
		docs = append(docs, e.element(re, m))
	}
	return docs, nil
}

// element is a key as an element of a list.
func (e iniEntry) element(re *regexp.Regexp, m []string) matchDoc {
	d := groups(re, m, e.value)
	d["@key"] = e.key
	return d
}

func (d iniDoc) Close() error { return nil }
