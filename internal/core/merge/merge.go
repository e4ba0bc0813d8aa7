// Package merge joins what two sides made of one text, and says what differs between two texts.
//
// It promises that what only one side changed is as that side has it, and that a clash is named, never decided. It never writes a file.
package merge

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"reflect"
	"slices"
	"strings"

	"ostrov/internal/core/doc"
)

// Texts joins two versions of one text: mine, which somebody edited, and theirs, a newer version of base. A change of one side, or the same change of
// both, is taken. clashes names the places that both changed differently: then there is no merged text.
//
// INI is merged key by key, JSON value by value, other texts line by line. The result reads as its form if mine and theirs do.
func Texts(as string, base, mine, theirs []byte) (merged []byte, clashes []string) {
	switch as {
	case "ini":
		merged, clashes = mergeINI(base, mine, theirs)
	case "json":
		merged, clashes = mergeJSON(base, mine, theirs)
	default:
		merged, clashes = mergeLines(base, mine, theirs)
	}
	if len(clashes) > 0 {
		return nil, clashes
	}
	if parses(as, mine) && parses(as, theirs) && !parses(as, merged) {
		return nil, []string{"what both changed does not fit together"}
	}
	return merged, nil
}

// parses reports whether a text reads as its form.
func parses(as string, text []byte) bool {
	_, err := doc.Parse(text, doc.Spec{Form: as})
	return err == nil
}

// iniKey is a key with its section.
type iniKey struct{ section, key string }

// iniText is one line of an INI file.
type iniText struct {
	text  string // with its end
	at    iniKey // key is "" for a line that sets nothing
	value string
}

func iniTexts(data []byte) []iniText {
	var lines []iniText
	section := ""
	for _, text := range strings.SplitAfter(string(data), "\n") {
		if text == "" {
			continue
		}
		line := iniText{text: text}
		trimmed := strings.TrimSpace(text)
		if strings.HasPrefix(trimmed, "[") && strings.HasSuffix(trimmed, "]") {
			section = trimmed[1 : len(trimmed)-1]
		} else if key, value, ok := strings.Cut(trimmed, "="); ok && !strings.HasPrefix(trimmed, ";") && !strings.HasPrefix(trimmed, "#") {
			line.at, line.value = iniKey{section, strings.TrimSpace(key)}, strings.TrimSpace(value)
		}
		if line.at.section = section; line.at.key == "" {
			line.value = ""
		}
		lines = append(lines, line)
	}
	return lines
}

func iniValues(lines []iniText) map[iniKey]string {
	values := map[iniKey]string{}
	for _, l := range lines {
		if l.at.key != "" {
			values[l.at] = l.value
		}
	}
	return values
}

// byKeys reports whether texts say all that they say by their keys: each of these once, and no remark in mine that base does not have.
func byKeys(base, mine, theirs []iniText) bool {
	remarks := map[string]bool{}
	for _, l := range base {
		remarks[strings.TrimSpace(l.text)] = true
	}
	for _, lines := range [][]iniText{base, mine, theirs} {
		seen := map[iniKey]bool{}
		for _, l := range lines {
			if l.at.key != "" && seen[l.at] {
				return false
			}
			seen[l.at] = true
		}
	}
	return !slices.ContainsFunc(mine, func(l iniText) bool {
		text := strings.TrimSpace(l.text)
		return l.at.key == "" && text != "" && text[0] != '[' && !remarks[text]
	})
}

// mergeINI is theirs with the values that only mine changed, with the keys that only mine has, and without those that mine took out.
func mergeINI(base, mine, theirs []byte) (merged []byte, clashes []string) {
	before, own, lines := iniTexts(base), iniTexts(mine), iniTexts(theirs)
	if !byKeys(before, own, lines) {
		return mergeLines(base, mine, theirs)
	}
	was, my, their := iniValues(before), iniValues(own), iniValues(lines)
	for _, l := range lines {
		value, had := was[l.at]
		if _, has := my[l.at]; l.at.key != "" && had && !has && value != l.value {
			clashes = append(clashes, fmt.Sprintf("[%s] %s: you have taken it out, and the new version's is %q", l.at.section, l.at.key, l.value))
		}
	}
	lines = slices.DeleteFunc(lines, func(l iniText) bool {
		_, had := was[l.at]
		_, has := my[l.at]
		return l.at.key != "" && had && !has
	})
	var added []iniText
	for _, l := range own {
		before, had := was[l.at]
		now, has := their[l.at]
		switch {
		case l.at.key == "" || had && before == l.value || has && now == l.value:
		case !has && had:
			clashes = append(clashes, fmt.Sprintf("[%s] %s: yours is %q, and the new version has no such key", l.at.section, l.at.key, l.value))
		case !has:
			added = append(added, l)
		case had && now != before:
			clashes = append(clashes, fmt.Sprintf("[%s] %s: yours is %q, the new version's is %q", l.at.section, l.at.key, l.value, now))
		case !had:
			clashes = append(clashes, fmt.Sprintf("[%s] %s: both are new: %q and %q", l.at.section, l.at.key, l.value, now))
		}
	}
	if len(clashes) > 0 {
		return nil, clashes
	}
	var out strings.Builder
	for i, l := range lines {
		if value, ok := my[l.at]; ok && l.at.key != "" && value != was[l.at] && value != l.value {
			l.text = withValue(l.text, value)
		}
		out.WriteString(l.text)
		if last := i == len(lines)-1 || lines[i+1].at.section != l.at.section; last {
			for _, a := range added {
				if a.at.section == l.at.section {
					out.WriteString(ended(out.String(), a.text))
				}
			}
		}
	}
	for _, a := range added {
		if !slices.ContainsFunc(lines, func(l iniText) bool { return l.at.section == a.at.section }) {
			return nil, []string{fmt.Sprintf("[%s] %s: the new version has no such section", a.at.section, a.at.key)}
		}
	}
	return []byte(out.String()), nil
}

// withValue is the line of a key with another value.
func withValue(line, value string) string {
	head, tail, _ := strings.Cut(line, "=")
	body := strings.TrimRight(tail, "\r\n")
	was := strings.TrimSpace(body)
	lead := body[:len(body)-len(strings.TrimLeft(body, " \t"))]
	if was == "" {
		return head + "=" + lead + value + tail[len(body):]
	}
	return head + "=" + lead + value + body[len(lead)+len(was):] + tail[len(body):]
}

// ended is a line that is added behind a text, on a line of its own.
func ended(before, line string) string {
	if !strings.HasSuffix(line, "\n") {
		line += "\n"
	}
	if before != "" && !strings.HasSuffix(before, "\n") {
		return "\n" + line
	}
	return line
}

// mergeJSON is theirs with the values that only mine changed. Where more than values differs, the texts are merged by lines.
func mergeJSON(base, mine, theirs []byte) (merged []byte, clashes []string) {
	var was, my, their any
	for text, into := range map[*[]byte]*any{&base: &was, &mine: &my, &theirs: &their} {
		d := json.NewDecoder(bytes.NewReader(*text))
		d.UseNumber() // numbers keep their spelling
		if err := d.Decode(into); err != nil {
			return mergeLines(base, mine, theirs)
		}
		if _, err := d.Token(); err != io.EOF { // the text after it is the player's, too
			return mergeLines(base, mine, theirs)
		}
	}
	changed := map[string][3]any{}
	if !changedValues("$", was, my, their, changed) {
		return mergeLines(base, mine, theirs)
	}
	merged = theirs
	for _, at := range slices.Sorted(maps.Keys(changed)) {
		v := changed[at]
		if v[2] == v[1] {
			continue
		}
		if v[2] != v[0] {
			clashes = append(clashes, fmt.Sprintf("%s: yours is %v, the new version's is %v", at, v[1], v[2]))
			continue
		}
		var err error
		if merged, err = doc.Splice(doc.Spec{Form: "json"}, merged, at, fmt.Sprint(v[1])); err != nil {
			return mergeLines(base, mine, theirs)
		}
	}
	return merged, clashes
}

// changedValues collects the values that mine changed, each with those of base and theirs, and reports whether nothing but values was changed.
func changedValues(at string, was, my, their any, changed map[string][3]any) bool {
	switch m := my.(type) {
	case map[string]any:
		w, ok := was.(map[string]any)
		t, ok2 := their.(map[string]any)
		if !ok || !ok2 || len(w) != len(m) {
			return false
		}
		for key, value := range m {
			before, had := w[key]
			now, has := t[key]
			if !had || !has && !reflect.DeepEqual(before, value) {
				return false
			}
			if has && !changedValues(at+doc.Step(key), before, value, now, changed) {
				return false
			}
		}
		return true
	case []any:
		return reflect.DeepEqual(was, my)
	}
	if reflect.DeepEqual(was, my) {
		return true
	}
	for _, v := range []any{was, my, their} {
		switch v.(type) {
		case map[string]any, []any, nil:
			return false
		}
	}
	changed[at] = [3]any{was, my, their}
	return true
}

// mergeLines is a three-way merge by lines: base is cut where all three agree, and each piece between is taken from the side that changed it.
func mergeLines(base, mine, theirs []byte) (merged []byte, clashes []string) {
	b, m, t := linesOf(base), linesOf(mine), linesOf(theirs)
	if len(b)+len(m)+len(t) > maxMergeLines {
		return nil, []string{"it has too many lines to be merged"}
	}
	inMine, inTheirs := match(b, m), match(b, t)
	var out []string
	i, j, k := 0, 0, 0
	for {
		next := i // the next line of base that both have
		for next < len(b) && (inMine[next] < 0 || inTheirs[next] < 0) {
			next++
		}
		toMine, toTheirs := len(m), len(t)
		if next < len(b) {
			toMine, toTheirs = inMine[next], inTheirs[next]
		}
		was, my, their := b[i:next], m[j:toMine], t[k:toTheirs]
		switch {
		case slices.Equal(my, was):
			out = append(out, their...)
		case slices.Equal(their, was), slices.Equal(my, their):
			out = append(out, my...)
		default:
			clashes = append(clashes, fmt.Sprintf("line %d: %s", j+1, brief(my, their)))
		}
		if next >= len(b) {
			return []byte(strings.Join(out, "")), clashes
		}
		out = append(out, b[next])
		i, j, k = next+1, toMine+1, toTheirs+1
	}
}

// maxMergeLines bounds a merge: matching takes as many steps as the lines of two texts multiplied.
const maxMergeLines = 12_000

func brief(my, their []string) string {
	say := func(lines []string) string {
		if len(lines) == 0 {
			return "nothing"
		}
		return fmt.Sprintf("%.60q", strings.TrimSpace(lines[0]))
	}
	return "yours is " + say(my) + ", the new version's is " + say(their)
}

func linesOf(data []byte) []string {
	lines := strings.SplitAfter(string(data), "\n")
	if lines[len(lines)-1] == "" {
		lines = lines[:len(lines)-1]
	}
	return lines
}

// match says for each line of a which line of b it is in a longest common subsequence of both, or -1.
func match(a, b []string) []int {
	at := make([]int, len(a))
	for i := range at {
		at[i] = -1
	}
	head := 0
	for head < len(a) && head < len(b) && a[head] == b[head] {
		at[head] = head
		head++
	}
	endA, endB := len(a), len(b)
	for endA > head && endB > head && a[endA-1] == b[endB-1] {
		endA, endB = endA-1, endB-1
		at[endA] = endB
	}
	n, m := endA-head, endB-head
	long := make([][]int32, n+1)
	for i := range long {
		long[i] = make([]int32, m+1)
	}
	for i := n - 1; i >= 0; i-- {
		for j := m - 1; j >= 0; j-- {
			if a[head+i] == b[head+j] {
				long[i][j] = long[i+1][j+1] + 1
			} else {
				long[i][j] = max(long[i+1][j], long[i][j+1])
			}
		}
	}
	for i, j := 0, 0; i < n && j < m; {
		switch {
		case a[head+i] == b[head+j]:
			at[head+i] = head + j
			i, j = i+1, j+1
		case long[i+1][j] >= long[i][j+1]:
			i++
		default:
			j++
		}
	}
	return at
}
