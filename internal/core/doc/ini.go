package doc

import (
	"bytes"
	"context"
	"fmt"
	"regexp"
	"strings"

	"ostrov/internal/core/wrap"
)

// iniReader is an INI: sections in brackets, keys before = or :, and lines of comment that begin with ; or #. What follows a value on its line belongs
// to it. One pair of quotes round a whole value is not part of it. A key alone has the value "true". It is asked "Section.key", or "key" for what stands
// before the first section.
type iniReader struct{ src *source }

// iniSection is a section that is asked for its keys, without its name.
type iniSection string

// iniKey is a line of an INI: a key in a section, or, with the key "", the head of a section.
type iniKey struct {
	section, key, value string
	line                place
	keyAt               int
	at                  place // where the value stands; from is -1 of a key alone
}

// keys visits the heads of sections and the keys.
func (x *iniReader) keys(visit func(iniKey) error) error {
	section := ""
	return x.src.eachLine(place{x.src.bom(), x.src.size}, func(from int, line []byte) error {
		if i := bytes.IndexByte(line, 0); i >= 0 {
			return fmt.Errorf("%w: not text: a zero byte at %d", wrap.ErrDamaged, from+i)
		}
		switch t := bytes.TrimSpace(line); {
		case len(t) == 0 || t[0] == ';' || t[0] == '#':
			return nil
		case t[0] == '[' && t[len(t)-1] == ']':
			section = string(bytes.TrimSpace(t[1 : len(t)-1]))
			return visit(iniKey{section: section, line: place{from, from + len(line)}, at: place{from: -1}})
		}
		return visit(iniLine(section, string(line), from))
	})
}

// iniLine reads the line of a key.
func iniLine(section, line string, from int) iniKey {
	k := iniKey{section: section, line: place{from, from + len(line)}, keyAt: from + len(line) - len(strings.TrimLeft(line, " \t")), at: place{from: -1}}
	i := strings.IndexAny(line, "=:")
	if i < 0 {
		k.key, k.value = strings.TrimSpace(line), "true"
		return k
	}
	rest := line[i+1:]
	k.key, k.value = strings.TrimSpace(line[:i]), strings.TrimSpace(rest)
	at := from + i + 1 + len(rest) - len(strings.TrimLeft(rest, " \t"))
	if k.value == "" {
		at = from + i + 1
	}
	if n := len(k.value); n > 1 && (k.value[0] == '"' || k.value[0] == '\'') && k.value[n-1] == k.value[0] {
		k.value, at = k.value[1:n-1], at+1
	}
	k.at = place{at, at + len(k.value)}
	return k
}

// name is the query for a key in a file, or in a section.
func (k iniKey) name(in *iniSection) string {
	if in != nil || k.section == "" {
		return k.key
	}
	return k.section + "." + k.key
}

func (x *iniReader) check(context.Context, []string) error {
	return x.keys(func(iniKey) error { return nil })
}

// has reports whether there is a section of a name.
func (x *iniReader) has(section string) (found bool, err error) {
	err = x.keys(func(k iniKey) error {
		found = found || k.section == section
		return nil
	})
	return found, err
}

func (x *iniReader) says(n *Node) (string, bool, error) {
	if n.says == nil {
		return "", false, nil
	}
	return *n.says, true, nil
}

func (x *iniReader) find(_ context.Context, of *Node, query string, each bool, visit func(Node) error) (repeated bool, err error) {
	var in *iniSection
	if of != nil {
		if g, ok := of.extra.(groups); ok {
			return false, x.group(g, query, visit)
		}
		section, ok := of.extra.(iniSection)
		if !ok {
			return false, nil
		}
		in = &section
	}
	var re *regexp.Regexp
	if each {
		if re, err = regexp.Compile("^(?:" + query + ")$"); err != nil {
			return false, err
		}
	}
	n := 0
	err = x.keys(func(k iniKey) error {
		if k.key == "" || in != nil && k.section != string(*in) {
			return nil
		}
		name := k.name(in)
		if !each {
			if name != query {
				return nil
			}
			n++
			return visit(k.node())
		}
		m := re.FindStringSubmatchIndex(name)
		if m == nil {
			return nil
		}
		node := k.node()
		node.From, node.To = k.line.from, k.line.to
		node.extra = k.groups(re, m, name)
		return visit(node)
	})
	return n > 1, err
}

// node is the value of a key.
func (k iniKey) node() Node {
	return Node{From: max(k.at.from, k.line.from), To: max(k.at.to, k.line.from), Name: k.key, start: k.keyAt, value: k.at, says: &k.value, kind: kindPair}
}

// groups are the parts of a key that a pattern matched in its name: places in the file, of those that lie in the key.
func (k iniKey) groups(re *regexp.Regexp, m []int, name string) groups {
	g := groups{"@key": {k.keyAt, k.keyAt + len(k.key)}}
	if k.at.from >= 0 {
		g["."], g["@value"] = k.at, k.at
	}
	before := len(name) - len(k.key)
	for i, group := range re.SubexpNames() {
		if i > 0 && m[2*i] >= before {
			at := place{k.keyAt + m[2*i] - before, k.keyAt + m[2*i+1] - before}
			if group == "" {
				group = "."
				if _, first := g["\x00"]; first {
					continue
				}
				g["\x00"] = at
			}
			g[group] = at
		} else if group != "" && m[2*i] >= 0 { // it lies in the name of the section: there is no one place
			g[group] = place{-1 - i, 0}
		}
	}
	delete(g, "\x00")
	return g
}

// group visits the part of a key that a group took.
func (x *iniReader) group(g groups, name string, visit func(Node) error) error {
	at, ok := g[name]
	if !ok {
		if name == "." || name == "@value" { // a key alone
			says := "true"
			return visit(Node{From: g["@key"].from, To: g["@key"].from, value: place{from: -1}, says: &says, kind: kindPair})
		}
		return nil
	}
	if at.from < 0 {
		return nil
	}
	raw, err := x.src.bytes(at)
	if err != nil {
		return err
	}
	says := string(raw)
	return visit(Node{From: at.from, To: at.to, start: at.from, value: at, says: &says, kind: kindPair})
}

// iniEdit writes an INI.
type iniEdit struct{ *iniReader }

func (x iniEdit) set(n *Node, value string) (change, error) {
	switch {
	case strings.ContainsAny(value, "\r\n\x00"):
		return change{}, fmt.Errorf("%q is more than a line: %w", value, wrap.ErrNotWritable)
	case n.value.from < 0:
		return change{}, fmt.Errorf("a key alone has no place for a value: %w", wrap.ErrNotWritable)
	}
	at := n.value
	quotedNow := x.src.byteAt(at.from-1) == '"' || x.src.byteAt(at.from-1) == '\''
	reads := iniLine("", "k="+value, 0).value
	if quotedNow {
		quote := string(x.src.byteAt(at.from - 1))
		reads = iniLine("", "k="+quote+value+quote, 0).value
	} else if reads != value { // spaces at its ends, or quotes around it: it needs quotes of its own
		quoted := `"` + value + `"`
		if strings.HasPrefix(value, `"`) && strings.HasSuffix(value, `"`) {
			quoted = `'` + value + `'`
		}
		if iniLine("", "k="+quoted, 0).value == value {
			return change{at.from, at.to, quoted}, nil
		}
	}
	if reads != value {
		return change{}, fmt.Errorf("%q would not be read back so: %w", value, wrap.ErrNotWritable)
	}
	return change{at.from, at.to, value}, nil
}

func (x iniEdit) cut(parts []Node) ([]change, error) {
	var lines []Node
	for _, n := range parts {
		at := n.From
		err := x.keys(func(k iniKey) error {
			if at >= k.line.from && at <= k.line.to {
				lines = append(lines, Node{From: k.line.from, To: k.line.to})
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return cutLines(x.src, lines, true), nil
}

func (x iniEdit) add(in *Node, after *Node, piece string) (change, error) {
	at := in.To
	if after != nil {
		at = after.To
	}
	return x.src.lineAfter(at, piece), nil
}

func (x iniEdit) rename(n *Node, name string) ([]change, error) {
	g, ok := n.extra.(groups)
	if !ok {
		return nil, fmt.Errorf("only a whole key has a name: %w", wrap.ErrNotWritable)
	}
	return []change{{g["@key"].from, g["@key"].to, name}}, nil
}
