package view

import (
	"fmt"
	"slices"
	"strings"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/field"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
)

// Look writes the state of one install. settled is what an interrupted command had left there.
func (p *Printer) Look(l *assess.Install, settled plan.Settled) {
	fit := 0
	for _, s := range l.Saves {
		if s.Verdict == check.Fit {
			fit++
		}
	}
	head := p.paint(strong, l.Install.Game.Title)
	if l.Version != "" {
		head += " " + l.Version
	}
	saves := "no saves"
	if len(l.Saves) > 0 {
		saves = fmt.Sprintf("%d of %s fit", fit, Count(len(l.Saves), "save", "saves"))
	}
	p.Line("%s: %s", head, saves)
	p.Line("%s", p.paint(faint, fmt.Sprintf("%s, %s", l.Called, modSummary(l.State))))
	for _, title := range settled.Undone {
		p.Line("")
		p.Line("  %s", p.paint(warn, "An interrupted change was put back first: everything is as it was before: "+Text(title)+"."))
	}
	for _, title := range settled.Finished {
		p.Line("")
		p.Line("  %s", p.paint(warn, "A change that had been interrupted at its very end was finished: "+Text(title)+"."))
	}
	for _, r := range l.Running {
		p.Line("  %s", p.paint(warn, fmt.Sprintf("%s runs (process %d)", r.Name, r.PID)))
	}
	if len(l.Saves) > 0 {
		p.Line("")
		p.saveTable(l)
	}
	if len(l.Findings) > 0 {
		p.Line("")
		p.Findings(l.Findings)
	}
	p.since(l)
}

func modSummary(l *facts.State) string {
	if n := altered(l.List); n > 0 {
		return modCounts(l) + fmt.Sprintf(", %d altered", n)
	}
	return modCounts(l)
}

// altered counts the mods that are not what was first seen of their version.
func altered(list []modlist.Listed) int {
	n := 0
	for _, m := range list {
		if m.Altered {
			n++
		}
	}
	return n
}

func modCounts(l *facts.State) string {
	on := 0
	for _, m := range l.List {
		if m.On {
			on++
		}
	}
	switch {
	case len(l.List) == 0:
		return "no mods"
	case l.Install.Game.PerSaveMods():
		return Count(len(l.List), "mod", "mods") + " installed"
	case on < len(l.List):
		return fmt.Sprintf("%s on, %d off, mod set %s", Count(on, "mod", "mods"), len(l.List)-on, l.Fingerprint)
	default:
		return fmt.Sprintf("%s, mod set %s", Count(on, "mod", "mods"), l.Fingerprint)
	}
}

func title(s *assess.Save) string { return titleOf(s.Save) }

func titleOf(s *facts.Save) string {
	if t := s.Facts.Title(); t != "" && t != s.Name {
		return t
	}
	if s.HasSlot {
		return s.Name
	}
	return ""
}

func handle(l *assess.Install, s *assess.Save) string { return handleOf(l.State, s.Save) }

// handleOf is what tells a save apart in a list: its slot or name, with the folder where that is needed.
func handleOf(l *facts.State, s *facts.Save) string {
	address := l.Address(s)
	_, h, _ := strings.Cut(address, "/")
	if before, _, ok := strings.Cut(address, "/"); ok && strings.Contains(before, ":") {
		_, folder, _ := strings.Cut(before, ":")
		h = folder + "/" + h
	}
	return Text(h)
}

// why is the gravest finding of a save in a few words.
func (p *Printer) why(s *assess.Save) string { return p.gravest(s.Findings, s) }

// gravest is the first of findings in a few words, with how many more there are.
func (p *Printer) gravest(found []check.Finding, s *assess.Save) string {
	if serious(found) == 0 {
		return ""
	}
	f := found[0]
	text := string(f.Code)
	if f.Subject != "" {
		text += " " + Text(f.Subject)
	} else if f.Code == check.SaveOlder || f.Code == check.SaveNewer {
		text += " " + Text(s.Needs.Version)
	}
	if more := serious(found) - 1; more > 0 {
		text += fmt.Sprintf(" +%d", more)
	}
	return text
}

func serious(found []check.Finding) int {
	n := 0
	for _, f := range found {
		if f.Severity != check.Note {
			n++
		}
	}
	return n
}

// ModChange is one difference of mod lists in words.
func ModChange(c modlist.Change) string {
	name := c.Mod.Name()
	switch c.What {
	case "updated":
		return fmt.Sprintf("%s %s → %s", name, c.Was, c.Mod.Version)
	case "on", "off":
		return name + " switched " + c.What
	case "reordered":
		return "load order changed, from " + name + " on"
	default:
		return strings.TrimSpace(name+" "+c.Mod.Version) + " " + c.What
	}
}

// maxBack is how many saves LookNext says how to bring back.
const maxBack = 3

// LookNext suggests what to do after a look.
func LookNext(l *assess.Install) problem.Hints {
	var next problem.Hints
	for _, s := range l.Saves {
		if s.Verdict == check.Unfit || s.Verdict == check.Unclear {
			next = next.Or(problem.Do("needs", l.Address(s.Save)))
			break
		}
	}
	back := 0 // one save each: a whole restore would take others' evening back
	bring := func(f check.Finding) {
		if slices.Contains([]check.Code{check.SaveGone, check.SaveShrank, check.SaveWentBack, check.Damaged}, f.Code) && len(f.Remedy) > 0 && back < maxBack {
			next = next.Or(f.Remedy)
			back++
		}
	}
	for _, f := range l.Findings {
		bring(f)
		if f.Code == check.UpdatedSince || f.Code == check.SettingsOrphaned {
			next = next.Or(f.Remedy)
		}
	}
	for _, s := range l.Saves {
		for _, f := range s.Findings {
			bring(f)
		}
	}
	for _, e := range l.Since.Elsewhere {
		if e.Ahead {
			next = next.Or(problem.Do("restore", e.Address))
		} else {
			next = next.Or(problem.Do("compare", e.Address, l.Install.Address()))
		}
	}
	if l.Since.Away != nil {
		return next.Or(problem.Do("play", l.Called).Note("brings its own back"))
	}
	if l.Since.Snapshot == nil || l.Since.New+l.Since.Changed+len(l.Since.Mods)+len(l.Others) > 0 {
		next = next.Or(problem.Do("keep", l.Called))
	}
	return next
}

// Saves writes the saves of an install with the columns of its description.
func (p *Printer) Saves(l *assess.Install) {
	p.Line("%s: %s", p.paint(strong, l.Install.Game.Title), Count(len(l.Saves), "save", "saves"))
	if len(l.Saves) == 0 {
		return
	}
	var ids []string
	for i := range l.Install.Game.Saves {
		for _, c := range l.Install.Game.Saves[i].Columns {
			if c != "mods" && !slices.Contains(ids, c) {
				ids = append(ids, c)
			}
		}
	}
	columns := []column{{title: "save", grow: true}, {title: "title", grow: true}, {title: "saved", drop: 1}}
	for _, id := range ids {
		columns = append(columns, column{title: id, right: id != "version", drop: 2})
	}
	columns = append(columns, column{title: "mods", right: true, drop: 3}, column{title: "size", right: true, drop: 5}, column{title: "file", grow: true, drop: 4}, column{title: "playthrough", grow: true, drop: 1}, column{title: "verdict"})
	p.Line("")
	var rows [][]string
	for _, s := range l.Saves {
		row := []string{handle(l, s), Text(title(s)), When(s.Modified, p.Now)}
		for _, id := range ids {
			row = append(row, Text(s.Facts.Fields[id].Text))
		}
		mods := ""
		if s.Facts.ModsKnown {
			mods = fmt.Sprint(len(s.Facts.Mods))
		}
		rows = append(rows, append(row, mods, Size(s.Size), Text(s.Name), s.Line, p.verdict(s.Verdict)))
	}
	p.table(columns, rows)
	for _, f := range l.Folders {
		for _, s := range l.Saves {
			if s.Folder.Path == f.Path {
				p.Line("")
				p.Line("  %s", p.paint(faint, "in "+f.Path))
				break
			}
		}
	}
}

// Mods writes the mod set of an install.
func (p *Printer) Mods(l *assess.Install) {
	p.Line("%s: %s", p.paint(strong, l.Install.Game.Title), modSummary(l.State))
	columns := []column{{title: "mod", grow: true}, {title: "version"}, {title: "id", grow: true, drop: 1}, {title: "size", right: true, drop: 3}, {title: "needs", grow: true, drop: 2}, {title: ""}}
	if l.Mods.Ordered {
		columns = append([]column{{title: "#", right: true}}, columns...)
	}
	unmet := assess.Unmet(l.State)
	var rows [][]string
	for _, m := range l.Mods.Mods {
		if m.Kind.Base {
			continue
		}
		var needs []string
		for _, n := range m.Needs {
			needs = append(needs, strings.TrimSpace(n.ID+" "+n.Range.String()))
		}
		row := []string{Text(m.Name()), Text(m.Version), Text(m.ID), Size(m.Size), Text(strings.Join(needs, ", ")), p.modState(m, unmet[m])}
		if m.On && m.HiddenBy == "" && m.Problem == nil && l.Install.Game.PerSaveMods() {
			row[len(row)-1] = "installed"
		}
		if l.Mods.Ordered {
			order := ""
			if m.Order > 0 && m.On {
				order = fmt.Sprint(m.Order)
			}
			row = append([]string{order}, row...)
		}
		rows = append(rows, row)
	}
	for _, m := range l.Mods.Away {
		row := []string{Text(m.Name()), Text(m.Version), Text(m.ID), Size(m.Size), "", p.paint(faint, "off, set aside")}
		if l.Mods.Ordered {
			row = append([]string{""}, row...)
		}
		rows = append(rows, row)
	}
	if len(rows) > 0 {
		p.Line("")
		p.table(columns, rows)
	}
	if base := baseNames(l.Mods); base != "" {
		p.Line("")
		p.Line("  the game's own: %s", Text(base))
	}
	if len(unmet) > 0 {
		p.Line("")
		for _, f := range l.Findings {
			if f.Code == check.RequirementMissing {
				p.Findings([]check.Finding{f})
			}
		}
	}
}

// maxBase is how many names of the game's own content are shown.
const maxBase = 6

// baseNames are the names of the game's own content, "" where there is none.
func baseNames(set mod.Set) string {
	var names []string
	for _, m := range set.Mods {
		if m.Kind.Base && m.HiddenBy == "" {
			names = append(names, m.Name())
		}
	}
	if more := len(names) - maxBase; more > 1 {
		names = append(names[:maxBase], fmt.Sprintf("and %d more", more))
	}
	return strings.Join(names, ", ")
}

func (p *Printer) modState(m *mod.Mod, unmet bool) string {
	switch {
	case m.Problem != nil:
		return p.paint(bad, "cannot be read")
	case m.HiddenBy != "":
		return p.paint(faint, "hidden")
	case !m.On && m.Altered:
		return p.paint(faint, "off, altered")
	case !m.On:
		return p.paint(faint, "off")
	case unmet:
		return p.paint(warn, "on, requirement missing")
	case m.Altered:
		return p.paint(warn, "on, altered")
	case m.Digest.IsZero():
		return "on, not read yet"
	default:
		return p.paint(good, "on")
	}
}

// SmallFilesOnly names the queries of a description that large files cannot be asked.
func (p *Printer) SmallFilesOnly(queries []field.TreeQuery) {
	if len(queries) == 0 {
		return
	}
	p.Line("")
	p.Line("  Asked of JSON and XML of up to 32 MB only:")
	for _, q := range queries {
		p.Line("    %s  %s", Text(q.At), Text(q.Query))
	}
}
