package view

import (
	"fmt"
	"slices"
	"strings"

	"ostrov/internal/core/check"
	"ostrov/internal/core/job"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/refer"
)

// Vet writes what vetting a download found.
func (p *Printer) Vet(v *job.Vetting) {
	switch {
	case v.Dangerous():
		p.Line("%s: %s", p.paint(bad, "dangerous"), Text(v.File))
		p.Line("")
		p.Line("  Do not unpack it. Nothing of it has been written anywhere.")
		p.Line("")
		p.Findings(v.Findings)
		return
	case len(v.Judged) == 1:
		j := v.Judged[0]
		p.Line("%s for %s (%s)", p.verdict(v.Verdict), j.Look.Called, has(j.Look))
		p.Line("")
		p.found(j.Save)
		p.Line("")
		p.Findings(sorted(v.Findings, j.Findings))
		p.Next(vetNext(v)...)
		return
	case len(v.Judged) > 1:
		p.Line("%s: %s", p.verdict(v.Verdict), Text(v.File))
		p.Line("")
		p.found(v.Saves[0])
		for _, j := range v.Judged {
			p.Line("")
			p.Line("  %s for %s (%s)", p.verdict(j.Verdict), j.Look.Install.Address(), has(j.Look))
			p.Findings(sorted(v.Findings, j.Findings))
		}
	default:
		p.Line("%s: %s", p.verdict(v.Verdict), Text(v.File))
		p.Line("")
		for _, s := range v.Saves {
			p.found(s)
		}
		if len(v.Saves) > 0 {
			p.Line("")
		}
		p.Findings(v.Findings)
		for _, m := range v.Mods {
			p.Line("")
			p.Line("  It holds the mod %s %s. What it would do to your saves:", p.paint(strong, Text(m.Name())), Text(m.Version))
		}
	}
	p.Next(vetNext(v)...)
}

func sorted(lists ...[]check.Finding) []check.Finding {
	var all []check.Finding
	for _, l := range lists {
		all = append(all, l...)
	}
	check.Sort(all)
	return all
}

func has(l *job.Look) string {
	text := modSummary(l)
	if i := strings.Index(text, ", mod set"); i >= 0 {
		text = text[:i]
	}
	if l.Version != "" {
		text = "version " + l.Version + ", " + text
	}
	return text
}

// found is one save of a download in a line.
func (p *Printer) found(s *job.Vetted) {
	text := p.paint(strong, Text(s.Name))
	if t := s.Facts.Title(); t != "" {
		text += fmt.Sprintf("   \"%s\"", Text(t))
	}
	var made []string
	if v := s.Facts.Version(); v != "" {
		made = append(made, "made with "+Text(v))
	}
	if s.Facts.ModsKnown {
		made = append(made, Count(len(s.Facts.Mods), "mod", "mods"))
	}
	if len(made) > 0 {
		text += "   " + strings.Join(made, ", ")
	}
	p.Line("  %s", text)
}

func vetNext(v *job.Vetting) []string {
	var next []string
	for _, f := range v.Findings {
		if strings.HasPrefix(f.Remedy, "ostrov ") {
			next = append(next, f.Remedy)
		}
	}
	if len(v.Mods) > 0 {
		next = append(next, fmt.Sprintf("ostrov look --if add:%s", job.Quoted(v.File)))
	}
	if len(v.Saves) > 1 {
		next = nil
		for _, s := range v.Saves[:min(len(v.Saves), 4)] {
			next = append(next, fmt.Sprintf("ostrov vet %s --pick %s", job.Quoted(v.File), job.Quoted(s.Pick())))
		}
	}
	if len(v.Judged) == 1 {
		j := v.Judged[0]
		if v.Verdict != check.Unfit && j.Target != nil {
			place := "ostrov place " + job.Quoted(v.File)
			if v.Picked != "" {
				place += " --pick " + job.Quoted(v.Picked)
			}
			next = append(next, place)
		}
		for _, f := range j.Findings {
			if f.Severity == check.Stop || f.Severity == check.Risk {
				next = append(next, f.Remedy)
			}
		}
	}
	return next
}

// fewLeft is how many things that a change leaves alone are shown one by one.
const fewLeft = 3

// manySteps is how many steps are shown without the path of each: the names say enough then.
const manySteps = 10

// Plan writes what a change would do.
func (p *Printer) Plan(pl *job.Planned) {
	left := 0
	for _, s := range pl.Steps {
		if s.Do == "leave" {
			left++
		}
	}
	for _, s := range pl.Steps {
		if s.Do == "leave" && left > fewLeft {
			continue
		}
		do := map[string]string{"put": "put", "replace": "replace", "remove": "take away", "leave": "leave", "set": "set"}[s.Do]
		line := fmt.Sprintf("  %-9s %s", do, Text(s.What))
		if s.Note != "" {
			line += "  " + p.paint(faint, Text(s.Note))
		}
		p.Line("%s", line)
		if s.Do != "leave" && s.Do != "set" && len(pl.Steps)-left <= manySteps {
			p.Line("            %s", p.paint(faint, Text(s.Path)))
		}
	}
	if left > fewLeft {
		p.Line("  %-9s %s", "leave", Count(left, "save that is as it was kept", "saves that are as they were kept"))
	}
	for _, w := range pl.Warnings {
		p.hang("  "+p.paint(warn, "!"), Text(w))
	}
}

// Needs writes what a save needs and how that is known.
func (p *Printer) Needs(n *job.NeedsOf) {
	s := n.Save
	needs := s.Needs
	var parts []string
	if needs.Version != "" {
		parts = append(parts, "version "+Text(needs.Version))
	}
	switch {
	case needs.Clean:
		parts = append(parts, "a clean game")
	case needs.ModsEvidence != "":
		parts = append(parts, Count(len(needs.Mods), "mod", "mods"))
	}
	if len(parts) == 0 {
		parts = []string{"nobody knows yet what"}
	}
	p.Line("%s needs %s", p.paint(strong, fmt.Sprintf("%s \"%s\"", Text(n.Look.Address(s)), Text(s.Title()))), strings.Join(parts, " and "))
	p.Line("%s for %s (%s)", p.verdict(s.Verdict), n.Look.Called, has(n.Look))
	p.Line("")
	p.Line("  %-9s %s", "version", orUnknown(Text(needs.Version), needs.VersionEvidence))
	p.Line("  %-9s %s", "mods", orUnknown(modsWord(needs), needs.ModsEvidence))
	if len(needs.Mods)+len(n.Save.Refs) > 0 {
		p.Line("")
		p.neededMods(n)
	}
	if len(s.Findings) > 0 {
		p.Line("")
		p.Findings(s.Findings)
	}
	if len(n.Evidence) > 0 {
		p.Line("")
		p.Line("  %s", p.paint(faint, "Evidence"))
		for _, e := range n.Evidence {
			p.hang(fmt.Sprintf("    %-9s %s", e.Kind, When(e.At, p.Now)), evidence(e))
		}
	}
	var next []string
	for _, f := range s.Findings {
		if f.Severity != check.Note {
			next = append(next, f.Remedy)
		}
	}
	if needs.ModsEvidence == "" || needs.ModsEvidence == check.Inferred {
		next = append(next, fmt.Sprintf("ostrov needs %s --state \"mod NAME VERSION\"", job.Quoted(n.Look.Address(s))))
	}
	p.Next(next...)
}

func modsWord(n logbook.Needs) string {
	if n.Clean {
		return "none: a clean game"
	}
	return fmt.Sprint(len(n.Mods))
}

// refers is how often the save refers to a mod, or "" where that is not known.
func refers(refs refer.Counts, id string) string {
	for known, c := range refs {
		if strings.EqualFold(known, id) {
			return fmt.Sprint(c.N)
		}
	}
	return ""
}

func orUnknown(text string, by check.Evidence) string {
	if by == "" {
		return "unknown"
	}
	return text + "  (" + explain(by) + ")"
}

func explain(by check.Evidence) string {
	return map[check.Evidence]string{
		check.Written: "written: the save says so", check.Stated: "stated: you said so", check.Descends: "descends: from an earlier state of it",
		check.Inferred: "inferred: from what lay in place; never certain", check.Parcel: "parcel: came with it", check.Loaded: "loaded: the game's log says so",
		check.Seen: "seen: when it was written",
	}[by]
}

func evidence(e logbook.Evidence) string {
	var parts []string
	if e.Version != "" {
		parts = append(parts, "version "+Text(e.Version))
	}
	if e.Clean {
		parts = append(parts, "a clean game")
	}
	if e.Mods != nil {
		parts = append(parts, Count(len(e.Mods), "mod", "mods"))
	}
	if !e.Parent.IsZero() {
		parts = append(parts, "from the state "+e.Parent.Hex()[:8])
	}
	if e.Note != "" {
		parts = append(parts, "\""+Text(e.Note)+"\"")
	}
	return strings.Join(parts, ", ")
}

func (p *Printer) neededMods(n *job.NeedsOf) {
	have := map[string]check.Mod{}
	for _, m := range n.Look.Mods.ForCheck() {
		have[strings.ToLower(m.ID)] = m
	}
	var rows [][]string
	for _, m := range n.Save.Needs.Mods {
		h, ok := have[strings.ToLower(m.ID)]
		name := m.Title
		if name == "" {
			name = h.Title
		}
		if name == "" {
			name = m.ID
		}
		state := p.paint(good, "here")
		switch {
		case !ok:
			state = p.paint(bad, "missing")
		case h.Off:
			state = p.paint(bad, "off")
		case m.Version != "" && h.Version != "" && m.Version != h.Version:
			state = p.paint(warn, "you have "+Text(h.Version))
		case m.Doubtful:
			state = p.paint(key, "here, may have changed since")
		}
		rows = append(rows, []string{Text(name), Text(m.Version), Text(m.ID), refers(n.Save.Refs, m.ID), state})
	}
	for id, c := range n.Save.Refs {
		if !slices.ContainsFunc(n.Save.Needs.Mods, func(m logbook.Needed) bool { return strings.EqualFold(m.ID, id) }) {
			state := p.paint(bad, "missing")
			if h, ok := have[strings.ToLower(id)]; ok && !h.Off {
				state = p.paint(warn, "here, and the save does not list it")
			}
			rows = append(rows, []string{Text(id), "", Text(id), fmt.Sprint(c.N), state})
		}
	}
	p.table([]column{{title: "mod", grow: true}, {title: "version"}, {title: "id", grow: true}, {title: "refers", right: true}, {title: ""}}, rows)
}
