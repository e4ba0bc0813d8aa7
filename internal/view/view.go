// Package view turns what the core returns into what people read: verdicts, tables, timelines, plans, progress; and into JSON.
//
// It decides how things look and nothing else. Every text that comes from outside, a save's title or the name of an entry in a download, is
// printed only through Text, which makes control characters visible.
package view

import (
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/dustin/go-humanize"

	"ostrov/internal/core/check"
)

// Printer writes for people.
type Printer struct {
	Out   io.Writer
	Width int  // columns of the terminal
	Color bool // whether colours may be used
	Now   time.Time
	// Whole tells that nothing is cut to fit: what is written goes into a pipe or file.
	Whole bool
	// All tells that nothing is folded that is too much for a glance.
	All bool
	// Err is the first that writing met, or nil.
	Err error
}

// minWidth is the narrowest terminal that is laid out for.
const minWidth = 40

type tone int

const (
	plain tone = iota
	strong
	good
	warn
	bad
	faint
	key
)

var tones = map[tone]lipgloss.Style{
	strong: lipgloss.NewStyle().Bold(true),
	good:   lipgloss.NewStyle().Foreground(lipgloss.Color("2")).Bold(true),
	warn:   lipgloss.NewStyle().Foreground(lipgloss.Color("3")).Bold(true),
	bad:    lipgloss.NewStyle().Foreground(lipgloss.Color("1")).Bold(true),
	faint:  lipgloss.NewStyle().Foreground(lipgloss.Color("8")),
	key:    lipgloss.NewStyle().Foreground(lipgloss.Color("6")),
}

func (p *Printer) paint(t tone, text string) string {
	if !p.Color || t == plain || text == "" {
		return text
	}
	return tones[t].Render(text)
}

// Line writes one line.
func (p *Printer) Line(format string, args ...any) {
	text := p.safe(fmt.Sprintf(format, args...)) + "\n"
	if !p.Whole && p.Width > 0 {
		text = Fitted(text, p.Width)
	}
	if _, err := io.WriteString(p.Out, text); err != nil && p.Err == nil {
		p.Err = err
	}
}

// maxText bounds one text from outside, in letters.
const maxText = 200

// Text makes a text from outside safe to show: control characters, characters that turn the direction of text and invalid bytes become
// visible, and what is too long is cut. Letters of every language stay as they are.
func Text(s string) string {
	var b strings.Builder
	n := 0
	for len(s) > 0 {
		r, size := utf8.DecodeRuneInString(s)
		if n++; n > maxText {
			return b.String() + "…"
		}
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, "‹%02X›", s[0])
		case hidden(r):
			fmt.Fprintf(&b, "‹U+%04X›", r)
		default:
			b.WriteRune(r)
		}
		s = s[size:]
	}
	return b.String()
}

// hidden reports whether a letter does something else than being seen: controls, those that turn the direction of text, private ones.
func hidden(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == '\u2028' || r == '\u2029' || unicode.Is(unicode.Co, r)
}

// colour is what the printer itself writes to change the colour of text.
var colour = regexp.MustCompile("\x1b\\[[0-9;]*m")

// safe makes a whole line safe to show, whatever has got into it: only the printer's own colours stay. It is the last of two guards; Text
// is the first.
func (p *Printer) safe(line string) string {
	if !strings.ContainsFunc(line, func(r rune) bool { return hidden(r) && r != '\n' || r == utf8.RuneError }) {
		return line
	}
	var b strings.Builder
	for len(line) > 0 {
		if at := colour.FindStringIndex(line); p.Color && at != nil && at[0] == 0 {
			b.WriteString(line[:at[1]])
			line = line[at[1]:]
			continue
		}
		r, size := utf8.DecodeRuneInString(line)
		switch {
		case r == utf8.RuneError && size == 1:
			fmt.Fprintf(&b, "‹%02X›", line[0])
		case hidden(r) && r != '\n':
			fmt.Fprintf(&b, "‹U+%04X›", r)
		default:
			b.WriteRune(r)
		}
		line = line[size:]
	}
	return b.String()
}

// When is a time as people say it.
func When(t, now time.Time) string {
	if t.IsZero() {
		return ""
	}
	t, now = t.Local(), now.Local()
	midnight := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	switch {
	case t.After(now.Add(time.Minute)):
		return t.Format("2 Jan 2006 15:04")
	case !t.Before(midnight):
		return "today " + t.Format("15:04")
	case !t.Before(midnight.AddDate(0, 0, -1)):
		return "yesterday " + t.Format("15:04")
	case t.After(now.AddDate(0, -11, 0)): // the month says the year
		return t.Format("2 Jan 15:04")
	default:
		return t.Format("2 Jan 2006")
	}
}

// Size is a number of bytes for people.
func Size(n int64) string { return humanize.Bytes(uint64(max(n, 0))) }

// Count is a number with its noun: Count(1, "mod", "mods").
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return humanize.Comma(int64(n)) + " " + many
}

func (p *Printer) verdict(v check.Verdict) string {
	switch v {
	case check.Fit:
		return p.paint(good, string(v))
	case check.Risky:
		return p.paint(warn, string(v))
	case check.Unfit:
		return p.paint(bad, string(v))
	default:
		return p.paint(key, string(v))
	}
}

func (p *Printer) mark(s check.Severity) string {
	switch s {
	case check.Stop:
		return p.paint(bad, "✗")
	case check.Risk:
		return p.paint(warn, "!")
	case check.Unknown:
		return p.paint(key, "?")
	default:
		return p.paint(faint, "·")
	}
}

// grouped is how many findings of one code with one effect are shown one by one.
const grouped = 4

// Findings writes findings, each under its mark and code; many of one kind share a line.
func (p *Printer) Findings(found []check.Finding) {
	width := 0
	for _, f := range found {
		width = max(width, len(f.Code))
	}
	same := map[string][]check.Finding{}
	id := func(f check.Finding) string { return string(f.Code) + "\x00" + string(f.Severity) + "\x00" + f.Effect }
	for _, f := range found {
		same[id(f)] = append(same[id(f)], f)
	}
	done := map[string]bool{}
	for _, f := range found {
		all := same[id(f)]
		if len(all) > grouped {
			if done[id(f)] {
				continue
			}
			done[id(f)] = true
			var names []string
			for _, one := range all {
				names = append(names, Text(one.Subject))
			}
			f.Subject = fmt.Sprintf("%d: %s", len(all), strings.Join(names[:grouped], ", ")+" …")
			f.Evidence = all[0].Evidence
		}
		head := fmt.Sprintf("  %s %s", p.mark(f.Severity), p.paint(strong, fmt.Sprintf("%-*s", width, f.Code)))
		p.hang(head, sentence(f))
	}
}

// sentence is a finding in words: what, why, and what the game does.
func sentence(f check.Finding) string {
	text := Text(f.Evidence)
	if f.Subject != "" {
		text = Text(f.Subject) + ": " + text
	}
	if f.Effect != "" {
		text += ": " + Text(f.Effect)
	}
	return text
}

// hang writes text after head, wrapped to the terminal with the following lines under the first.
func (p *Printer) hang(head, text string) {
	indent := lipgloss.Width(head) + 1
	if indent > p.Width/2 {
		indent = 6
	}
	lines := wrapWords(text, p.Width-indent-1)
	for i, line := range lines {
		if i == 0 {
			p.Line("%s %s", head, strings.TrimRight(line, " "))
		} else {
			p.Line("%s%s", strings.Repeat(" ", indent), strings.TrimRight(line, " "))
		}
	}
}

func (p *Printer) list(title string, lines []string) {
	if len(lines) == 0 {
		return
	}
	p.Line("")
	p.Line("  %s", p.paint(faint, title))
	for _, l := range lines {
		p.Line("    %s", Text(l))
	}
}

// column is one of a table.
type column struct {
	title string
	right bool // numbers
	grow  bool // takes what is left, and is cut where nothing is; not for cells with colours of their own
	drop  int  // on a narrow terminal the column with the highest goes first; one with 0 stays
}

// readable is how wide a column that may be cut should stay, as long as another one can go instead.
const readable = 18

// minColumn is how far a column may be cut.
const minColumn = 8

// table writes rows under columns, leaving out columns in which no row has anything. Cells may carry colours.
func (p *Printer) table(columns []column, rows [][]string) {
	columns, rows = filled(columns, rows)
	widths := widthsOf(columns, rows)
	for !p.Whole && tooWide(columns, widths, p.Width) {
		last := slices.IndexFunc(columns, func(c column) bool {
			return c.drop > 0 && !slices.ContainsFunc(columns, func(o column) bool { return o.drop > c.drop })
		})
		if last < 0 {
			break
		}
		columns = slices.Delete(slices.Clone(columns), last, last+1)
		for i, r := range rows {
			rows[i] = slices.Delete(slices.Clone(r), last, last+1)
		}
		widths = widthsOf(columns, rows)
	}
	total := 2
	for _, w := range widths {
		total += w + 2
	}
	for ; total > p.Width && !p.Whole; total-- { // the widest of those that may be cut gives way
		widest := -1
		for i, c := range columns {
			if c.grow && widths[i] > minColumn && (widest < 0 || widths[i] > widths[widest]) {
				widest = i
			}
		}
		if widest < 0 {
			break
		}
		widths[widest]--
	}
	write := func(cells []string, t tone) {
		var b strings.Builder
		b.WriteString("  ")
		for i, c := range columns {
			cell := cells[i]
			if lipgloss.Width(cell) > widths[i] {
				cell = cut(cell, widths[i])
			}
			space := strings.Repeat(" ", widths[i]-lipgloss.Width(cell))
			if c.right {
				cell = space + p.paint(t, cell)
			} else {
				cell = p.paint(t, cell) + space
			}
			b.WriteString(cell + "  ")
		}
		p.Line("%s", strings.TrimRight(b.String(), " "))
	}
	titles := make([]string, len(columns))
	for i, c := range columns {
		titles[i] = c.title
	}
	write(titles, faint)
	for _, r := range rows {
		write(r, plain)
	}
}

func widthsOf(columns []column, rows [][]string) []int {
	widths := make([]int, len(columns))
	for i, c := range columns {
		widths[i] = lipgloss.Width(c.title)
		for _, r := range rows {
			widths[i] = max(widths[i], lipgloss.Width(r[i]))
		}
	}
	return widths
}

// tooWide reports whether the columns that may be cut would have to be cut to less than what can be read.
func tooWide(columns []column, widths []int, width int) bool {
	total := 0
	for i, c := range columns {
		w := widths[i]
		if c.grow || c.title == "" { // notes at the end of a line may go on in the next one
			w = min(w, readable)
		}
		total += w + 2
	}
	return total > width
}

// filled are the columns in which at least one row has something.
func filled(columns []column, rows [][]string) ([]column, [][]string) {
	var kept []column
	cells := make([][]string, len(rows))
	for i, c := range columns {
		if !slices.ContainsFunc(rows, func(r []string) bool { return r[i] != "" }) {
			continue
		}
		kept = append(kept, c)
		for j, r := range rows {
			cells[j] = append(cells[j], r[i])
		}
	}
	return kept, cells
}

// cut shortens a cell without colours to a width.
func cut(s string, width int) string { return ansi.Truncate(s, max(width, 1), "…") }
