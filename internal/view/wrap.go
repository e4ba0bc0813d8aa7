package view

import (
	"regexp"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
)

// unbroken is a hyphen at which no line is broken.
const unbroken = "\u2011"

// wrapWords breaks a text into lines at its spaces. A word that is longer than a line stays whole: a path or an address is there to be copied.
func wrapWords(text string, width int) []string {
	text = ansi.Wordwrap(strings.ReplaceAll(text, "-", unbroken), max(width, minWidth/2), "")
	lines := strings.Split(strings.ReplaceAll(text, unbroken, "-"), "\n")
	for i := range lines {
		lines[i] = strings.TrimRight(lines[i], " ")
	}
	return lines
}

// secondColumn is where the text of a line goes on behind a first word or two and a gap.
var secondColumn = regexp.MustCompile(`^ *[^ ]+(?: [^ ]+){0,5}? {2,}`)

// Fitted is a text whose lines are no wider than a terminal: the rest of a longer one stands below its second column, if it has one, or is
// indented.
func Fitted(text string, width int) string {
	var b strings.Builder
	for line := range strings.Lines(text) {
		line, ended := strings.CutSuffix(line, "\n")
		if lipgloss.Width(line) <= width {
			b.WriteString(line)
		} else {
			bare := colour.ReplaceAllString(line, "")
			indent := len(bare) - len(strings.TrimLeft(bare, " "))
			hang := indent + 2
			if column := lipgloss.Width(secondColumn.FindString(bare)); column > 0 && column <= width/2 {
				hang = column
			}
			first := strings.Repeat(" ", indent)
			body := line
			if strings.HasPrefix(line, first) {
				body = line[indent:]
			}
			for i, part := range wrapHanging(body, width-indent, width-hang) {
				if i > 0 {
					b.WriteString("\n" + strings.Repeat(" ", hang))
				} else {
					b.WriteString(first)
				}
				b.WriteString(part)
			}
		}
		if ended {
			b.WriteByte('\n')
		}
	}
	return b.String()
}

// wrapHanging breaks a text into a first line and further ones of another width.
func wrapHanging(text string, first, rest int) []string {
	lines := wrapWords(text, first)
	if len(lines) == 1 || first == rest {
		return lines
	}
	tail := strings.TrimLeft(strings.TrimPrefix(text, lines[0]), " ")
	if !strings.HasPrefix(text, lines[0]) { // a colour was opened or closed at the break
		tail = strings.Join(lines[1:], " ")
	}
	return append(lines[:1], wrapWords(tail, rest)...)
}
