package view

import (
	"cmp"
	"fmt"
	"strings"

	"ostrov/internal/core/edit"
	"ostrov/internal/core/problem"
)

// InsideDoc is what becomes of what is in a save. Only what a command has to say is filled in.
type InsideDoc struct {
	// Of strip: what goes, how many other places and numbers follow, and how many entries of the save's own list of mods go.
	Things   []edit.Thing `json:"things,omitempty"`
	Followed int          `json:"followed,omitempty"`
	// Needed are mods of the save that need the one that is taken out.
	Needed []string `json:"needed_by,omitempty"`
	Listed int      `json:"listed,omitempty"`
	// Of borrow: the section as it is and as it will be, the ids that are given anew, and how much goes besides.
	Was        *edit.Side `json:"was,omitempty"`
	Now        *edit.Side `json:"now,omitempty"`
	Renumbered []string   `json:"renumbered,omitempty"`
	Removed    int        `json:"removed,omitempty"`
	// Of convert: the steps.
	Steps []edit.Did `json:"steps,omitempty"`
	// Of members: the one that it is about.
	Member *edit.Member `json:"member,omitempty"`
	// Of open: the lines that differ, as a text comparison shows them.
	Difference []string `json:"difference,omitempty"`
	// Without are the mods that the save is judged without.
	Without []string `json:"without,omitempty"`

	judged edit.Judged
}

// Becomes adds what becomes of what is in a save, and its verdict then.
func (d *ChangeDoc) Becomes(in *InsideDoc, judged edit.Judged) {
	in.judged = judged
	d.Inside, d.Verdict, d.Findings = in, judged.Verdict, findingDocs(judged.Findings)
}

// maxThings is how many kinds of things are shown where they are not asked for.
const maxThings = 12

// Inside writes what becomes of what is in a save, or has become of it.
func (p *Printer) Inside(d *InsideDoc, done bool) {
	p.things(d)
	p.sides(d)
	if m := d.Member; m != nil {
		p.Line("    %s %s, %s", p.paint(faint, fmt.Sprintf("%-7s", m.ID)), Text(cmp.Or(m.Title, m.ID)), Size(int64(m.Size)))
	}
	for _, s := range d.Steps {
		text := fmt.Sprintf("%s: %s", s.Title, Count(s.Places, "place", "places"))
		if s.Left {
			text = s.Title + ": left out"
		}
		if s.Optional && !s.Left {
			text += " (--without " + s.ID + " leaves it out)"
		}
		p.hang("    "+p.paint(faint, "step"), Text(text))
	}
	for i, line := range d.Difference {
		if i == p.most(maxFound) {
			p.Line("    and %d more lines", len(d.Difference)-i)
			break
		}
		style := bad
		if strings.HasPrefix(line, "+") {
			style = good
		}
		p.Line("    %s", p.paint(style, Text(line)))
	}
	if d.judged.Verdict == "" {
		return
	}
	p.Line("")
	then := "it will be"
	if done {
		then = "it is"
	}
	if len(d.Without) > 0 {
		then = "without " + strings.Join(d.Without, " and ") + " " + then
	}
	p.Line("  %s %s", Text(then), p.verdict(d.judged.Verdict))
	if len(d.judged.Findings) > 0 {
		p.Findings(d.judged.Findings)
	}
}

func (p *Printer) things(d *InsideDoc) {
	shown := d.Things[:min(len(d.Things), p.most(maxThings))]
	for _, t := range shown {
		of := ""
		if t.Other {
			of = p.paint(faint, "  of "+Text(t.Mod))
		}
		p.Line("    %s %s%s", p.paint(faint, fmt.Sprintf("%7d", t.Count)), Text(t.ID), of)
	}
	if rest := d.Things[len(shown):]; len(rest) > 0 {
		n := 0
		for _, t := range rest {
			n += t.Count
		}
		p.Line("    %s of %d more kinds", p.paint(faint, fmt.Sprintf("%7d", n)), len(rest))
	}
	if len(d.Needed) > 0 {
		p.Line("    needed by %s, which this save lists, too", Text(strings.Join(d.Needed, ", ")))
	}
	if d.Followed > 0 {
		p.Line("    %s", Count(d.Followed, "other place follows", "other places follow"))
	}
	if d.Listed > 0 {
		p.Line("    %s of its list of mods", Count(d.Listed, "entry goes out", "entries go out"))
	}
}

func (p *Printer) sides(d *InsideDoc) {
	for _, one := range []struct {
		what string
		side *edit.Side
	}{{"is", d.Was}, {"will be", d.Now}} {
		if one.side == nil {
			continue
		}
		head := Count(one.side.Parts, "part", "parts") + ", " + Size(int64(one.side.Size))
		if one.side.Parts == 0 {
			head = "not there"
		}
		p.Line("    %s %s", p.paint(faint, fmt.Sprintf("%-7s", one.what)), head)
		for _, line := range one.side.Head {
			p.Line("            %s", p.paint(faint, Text(line)))
		}
	}
	if len(d.Renumbered) > 0 {
		p.hang("    "+p.paint(faint, "anew   "), Text(strings.Join(d.Renumbered, ", ")))
	}
	if d.Removed > 0 {
		p.Line("    %s", Count(d.Removed, "other part goes", "other parts go"))
	}
}

// MembersDoc is the document of the members of a save.
type MembersDoc struct {
	Head
	Save     string        `json:"save"`
	Called   string        `json:"called"`             // what one is
	Capacity int           `json:"capacity,omitempty"` // how many there may be
	Members  []edit.Member `json:"members"`
}

// Members writes the members of a save.
func (p *Printer) Members(doc MembersDoc) {
	head := fmt.Sprintf("%d", len(doc.Members))
	if doc.Capacity > 0 {
		head += fmt.Sprintf(" of at most %d", doc.Capacity)
	}
	p.Line("%s: %s", p.paint(strong, Text(doc.Save)), head)
	var rows [][]string
	for _, m := range doc.Members {
		rows = append(rows, []string{Text(m.ID), Text(m.Title), Text(m.Owner), Size(int64(m.Size))})
	}
	p.table([]column{{title: Text(doc.Called)}, {title: "title", grow: true}, {title: "owner", drop: 1}, {title: "size", right: true}}, rows)
	if len(doc.Members) > 0 {
		p.Next(problem.Do("members take", doc.Save, doc.Members[0].ID, "FILE"))
	}
}
