package merge

import (
	"strings"
	"unicode/utf8"
)

// maxDifference bounds a comparison of two texts, in lines that are not the same at their beginnings and ends.
const maxDifference = 4000

// Difference lists the lines that two texts differ in, in their order: those of was after a -, those of now after a +. Of two long lines it shows the
// part that differs. Texts that differ in very many
// lines are not compared line by line: all of these are then in it.
func Difference(was, now []byte) (lines []string) {
	a, b := linesOf(was), linesOf(now)
	for len(a) > 0 && len(b) > 0 && a[0] == b[0] {
		a, b = a[1:], b[1:]
	}
	for len(a) > 0 && len(b) > 0 && a[len(a)-1] == b[len(b)-1] {
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	in := make([]int, len(a))
	if len(a)+len(b) <= maxDifference {
		in = match(a, b)
	} else {
		for i := range in {
			in[i] = -1
		}
	}
	var gone, come []string // of one place, until a line follows that both have
	flush := func() {
		if len(gone) == 1 && len(come) == 1 {
			gone[0], come[0] = apart(gone[0], come[0])
		}
		for _, line := range gone {
			lines = append(lines, "-"+strings.TrimRight(line, "\r\n"))
		}
		for _, line := range come {
			lines = append(lines, "+"+strings.TrimRight(line, "\r\n"))
		}
		gone, come = nil, nil
	}
	j := 0
	for i, line := range a {
		if in[i] < 0 {
			gone = append(gone, line)
			continue
		}
		come = append(come, b[j:in[i]]...)
		flush()
		j = in[i] + 1
	}
	come = append(come, b[j:]...)
	flush()
	return lines
}

// What of a long line is shown around the part that differs, and from which length on a line is cut, in bytes.
const (
	around   = 24
	longLine = 120
)

// apart cuts two lines to the part they differ in, with a little around it, if one of them is long.
func apart(was, now string) (string, string) {
	was, now = strings.TrimRight(was, "\r\n"), strings.TrimRight(now, "\r\n")
	if max(len(was), len(now)) <= longLine {
		return was, now
	}
	head, least := 0, min(len(was), len(now))
	for head < least && was[head] == now[head] {
		head++
	}
	tail := 0
	for tail < least-head && was[len(was)-1-tail] == now[len(now)-1-tail] {
		tail++
	}
	cut := func(line string) string {
		from, to := max(head-around, 0), min(len(line)-tail+around, len(line))
		for from > 0 && !utf8.RuneStart(line[from]) {
			from--
		}
		for to < len(line) && !utf8.RuneStart(line[to]) {
			to++
		}
		text := line[from:to]
		if from > 0 {
			text = "…" + text
		}
		if to < len(line) {
			text += "…"
		}
		return text
	}
	return cut(was), cut(now)
}
