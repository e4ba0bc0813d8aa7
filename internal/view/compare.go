package view

import (
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"

	"ostrov/internal/core/compare"
	"ostrov/internal/core/modlist"
)

// Compared writes what differs between two sides, mods first.
func (p *Printer) Compared(c *compare.Comparison) {
	if c.CompareMod {
		p.comparedMod(c)
		return
	}
	var parts []string
	if n := len(c.Mods) + len(c.Moved); n > 0 {
		parts = append(parts, Count(n, "mod", "mods"))
	}
	if len(c.Saves) > 0 {
		parts = append(parts, Count(len(c.Saves), "save", "saves"))
	}
	if c.Inside != nil && len(c.Inside.Fields) > 0 {
		parts = append(parts, Count(len(c.Inside.Fields), "value", "values"))
	}
	if c.Inside != nil && len(c.Inside.Files) > 0 {
		parts = append(parts, Count(len(c.Inside.Files), "file", "files"))
	}
	version := c.A.Version != c.B.Version && c.A.Version != "" && c.B.Version != ""
	if version {
		parts = append(parts, "the game's version")
	}
	head := fmt.Sprintf("%s and %s", p.paint(strong, Text(c.A.Name)), p.paint(strong, Text(c.B.Name)))
	if len(parts) == 0 {
		p.Line("%s: no difference", head)
	} else {
		p.Line("%s differ in %s", head, strings.Join(parts, ", "))
	}
	if len(c.Mods)+len(c.Moved) > 0 {
		p.Line("")
	}
	for _, m := range c.Mods {
		p.Line("  %s %s", p.sign(m.What), Text(ModChange(m)))
	}
	for _, m := range c.Moved {
		p.Line("  %s %s moved in the load order", p.paint(warn, "~"), Text(m.Name()))
	}
	if c.A.Mods == nil || c.B.Mods == nil {
		p.Line("")
		p.Line("  %s", p.paint(faint, "Of the mods of one nothing is known."))
	}
	if version {
		p.Line("")
		p.Line("  the game %s → %s", Text(c.A.Version), Text(c.B.Version))
	}
	p.inside(c.Inside)
	if len(c.Saves) > 0 {
		p.Line("")
	}
	for _, sv := range c.Saves {
		p.Line("  %s %s %s  %s", p.sign(sv.What), Text(sv.Save.Name), sv.What, p.paint(faint, When(sv.Save.Modified, p.Now)))
	}
	if c.Same > 0 && len(c.Saves) > 0 {
		p.Line("    %s the same", Count(c.Same, "save is", "saves are"))
	}
}

// inside says what differs inside of two saves.
func (p *Printer) inside(in *compare.Inside) {
	if in == nil || len(in.Fields)+len(in.Files) == 0 {
		return
	}
	var rows [][]string
	for _, f := range in.Fields {
		rows = append(rows, []string{Text(f.Field), Text(f.A), "→", Text(f.B)})
	}
	for _, f := range in.Files {
		name := f.Path
		if name == "." {
			name = "the file"
		}
		b := Size(f.B)
		if f.Why != "" {
			b += "  " + f.Why
		}
		rows = append(rows, []string{Text(name), Size(f.A), "→", b})
	}
	p.table([]column{{title: "", grow: true}, {title: "", grow: true}, {title: ""}, {title: "", grow: true}}, rows)
	if in.Same > 0 {
		p.Line("  %s the same", Count(in.Same, "file is", "files are"))
	}
	if len(in.Values) == 0 {
		return
	}
	rows = nil
	several := slices.ContainsFunc(in.Values, func(v compare.ValueChange) bool { return v.File != in.Values[0].File })
	for _, v := range in.Values {
		at := v.At
		if several {
			at = v.File + " " + at
		}
		rows = append(rows, []string{Text(at), Text(v.A), "→", Text(v.B)})
	}
	p.table([]column{{title: "", grow: true}, {title: "", grow: true}, {title: ""}, {title: "", grow: true}}, rows)
	if in.More > 0 {
		p.Line("  and %s", Count(in.More, "more value differs", "more values differ"))
	}
}

func (p *Printer) comparedMod(c *compare.Comparison) {
	head := fmt.Sprintf("%s and what %s kept of it", p.paint(strong, Text(c.B.Name)), p.paint(strong, Text(c.A.Name)))
	if len(c.Files) == 0 {
		p.Line("%s: no difference", head)
		return
	}
	p.Line("%s differ in %s; %s the same", head, Count(len(c.Files), "file", "files"), Count(c.Same, "is", "are"))
	for _, f := range c.Files {
		p.Line("")
		p.Line("  %s %s %s", p.sign(f.What), Text(f.Path), f.What)
		for _, line := range strings.Split(strings.TrimRight(f.Diff, "\n"), "\n") {
			t := plain
			switch {
			case strings.HasPrefix(line, "---"), strings.HasPrefix(line, "+++"), line == "":
				continue
			case strings.HasPrefix(line, "+"):
				t = good
			case strings.HasPrefix(line, "-"):
				t = bad
			case strings.HasPrefix(line, "@@"):
				t = faint
			}
			p.Line("      %s", p.paint(t, Text(line)))
		}
	}
}

// sign is a mark for what happened between two sides.
func (p *Printer) sign(what string) string {
	switch what {
	case "added", "new", "on":
		return p.paint(good, "+")
	case "dropped", "gone", "off":
		return p.paint(bad, "-")
	default:
		return p.paint(warn, "~")
	}
}

// ComparedDoc is what differs, in JSON.
type ComparedDoc struct {
	Head
	A        string               `json:"a"`
	B        string               `json:"b"`
	VersionA string               `json:"version_a,omitempty"`
	VersionB string               `json:"version_b,omitempty"`
	Mods     []modlist.Change     `json:"mods"`
	Moved    []modlist.Listed     `json:"moved"`
	Saves    []compare.SaveChange `json:"saves"`
	Files    []compare.FileChange `json:"files"`
	Same     int                  `json:"same"`
	Inside   *compare.Inside      `json:"inside,omitempty"` // of two saves
}

// Compared makes the document of a comparison.
func Compared(c *compare.Comparison) ComparedDoc {
	return ComparedDoc{NewHead("compare"), c.A.Name, c.B.Name, c.A.Version, c.B.Version, append([]modlist.Change{}, c.Mods...), append([]modlist.Listed{}, c.Moved...),
		append([]compare.SaveChange{}, c.Saves...), append([]compare.FileChange{}, c.Files...), c.Same, c.Inside}
}

// ModListCSV writes a mod list as a table for spreadsheets: place, id, version, title, on, digest, altered.
func ModListCSV(w io.Writer, list modlist.File) error {
	out := csv.NewWriter(w)
	rows := [][]string{{"place", "id", "version", "title", "on", "digest", "altered", "source", "download", "needs"}}
	for i, m := range list.Mods {
		rows = append(rows, []string{fmt.Sprint(i + 1), m.ID, m.Version, m.Title, fmt.Sprint(m.On), m.Digest.String(), fmt.Sprint(m.Altered), m.Source, m.Download, strings.Join(m.Needs, "; ")})
	}
	return out.WriteAll(rows)
}

// ModListMarkdown writes a mod list as a table for a forum or a page. Foreign text is made safe for both.
func ModListMarkdown(w io.Writer, title string, list modlist.File) error {
	var b strings.Builder
	cell := func(s string) string { return strings.NewReplacer("|", `\|`, "<", "&lt;", "`", "'").Replace(Text(s)) }
	fmt.Fprintf(&b, "# Mods of %s %s\n\nmod set %s\n\n|  | mod | version | id | from |\n|---|---|---|---|---|\n", cell(title), cell(list.Version), list.Fingerprint)
	for i, m := range list.Mods {
		place := fmt.Sprint(i + 1)
		if !m.On {
			place = "off"
		}
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %s |\n", place, cell(m.Name()), cell(m.Version)+map[bool]string{true: " (altered)"}[m.Altered], cell(m.ID), cell(m.Source))
	}
	_, err := io.WriteString(w, b.String())
	return err
}
