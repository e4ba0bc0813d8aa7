package view

import (
	"fmt"
	"slices"
	"strings"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/refer"
	"ostrov/internal/core/vet"
)

// Vet writes what vetting a download found.
func (p *Printer) Vet(v *vet.Vetting) {
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
		p.Line("%s for %s (%s)", p.verdict(v.Verdict), j.State.Called, hasState(j.State))
		p.Line("")
		p.found(j.Save)
		if all := sorted(v.Findings, j.Findings); len(all) > 0 {
			p.Line("")
			p.Findings(all)
		}
		p.Next(vetNext(v))
		return
	case len(v.Judged) > 1:
		p.Line("%s: %s", p.verdict(v.Verdict), Text(v.File))
		p.Line("")
		p.found(v.Saves[0])
		for _, j := range v.Judged {
			p.Line("")
			p.Line("  %s for %s (%s)", p.verdict(j.Verdict), j.State.Install.Address(), hasState(j.State))
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
	p.Next(vetNext(v))
}

func sorted(lists ...[]check.Finding) []check.Finding {
	var all []check.Finding
	for _, l := range lists {
		all = append(all, l...)
	}
	check.Sort(all)
	return all
}

func has(l *assess.Install) string { return hasState(l.State) }

func hasState(l *facts.State) string {
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
func (p *Printer) found(s *facts.Found) {
	text := p.paint(strong, Text(s.Candidate.Name))
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
	if s.Candidate.Doubtful {
		text += "   as a " + Text(s.Kind.ID)
	}
	if len(made) > 0 {
		text += "   " + strings.Join(made, ", ")
	}
	p.Line("  %s", text)
}

func vetNext(v *vet.Vetting) problem.Hints {
	var next problem.Hints
	for _, f := range v.Findings {
		for _, h := range f.Remedy {
			if h.Command != "" {
				next = append(next, h)
			}
		}
	}
	if len(v.Mods) > 0 {
		next = next.Or(problem.Do("look").With("if", "add:"+v.File))
	}
	if len(v.Saves) > 1 {
		next = nil
		for _, s := range v.Saves {
			next = next.Or(problem.Do("vet", v.File).With("pick", v.Pick(s)))
		}
	}
	if len(v.Judged) != 1 {
		return next
	}
	a := v.Judged[0]
	here := slices.ContainsFunc(a.Findings, func(f check.Finding) bool { return f.Code == check.AlreadyHere })
	if v.Verdict != check.Unfit && a.Target != nil && !here {
		place := problem.Do("place", v.File)
		if v.Picked != "" {
			place = place.With("pick", v.Picked)
		}
		next = next.Or(place)
	}
	for _, f := range a.Findings {
		if f.Severity == check.Stop || f.Severity == check.Risk {
			next = next.Or(f.Remedy)
		}
	}
	return next
}

// fewLeft is how many things that a change leaves alone are shown one by one.
const fewLeft = 3

// Plan writes what a change does: each folder once, and below it what happens there. kept names the snapshots, by what steps call them,
// that keep what goes; before anything is kept it is empty.
func (p *Printer) Plan(pl *plan.Plan, kept map[string]string) {
	left := 0
	for _, s := range pl.Steps {
		if s.Verb == plan.Leave {
			left++
		}
	}
	root := ""
	for _, s := range pl.Steps {
		if s.Verb == plan.Leave && left > fewLeft {
			continue
		}
		if s.Root != root {
			root = s.Root
			p.Line("  %s", p.paint(faint, "in "+Text(root)))
		}
		p.hang("    "+p.step(s), p.about(s, kept))
	}
	if left > fewLeft {
		p.Line("    %-9s %s", "leave", Count(left, "unchanged save", "unchanged saves"))
	}
	for _, w := range pl.Warnings {
		p.hang("  "+p.paint(warn, "!"), Text(w))
	}
}

func (p *Printer) step(s plan.Step) string {
	do := map[plan.Verb]string{plan.Put: "put", plan.Replace: "replace", plan.Remove: "take away", plan.Leave: "leave", plan.Set: "set"}[s.Verb]
	return fmt.Sprintf("%-9s", do)
}

// about says what a step does: to what, under which name, and what keeps what goes.
func (p *Printer) about(s plan.Step, kept map[string]string) string {
	text := Text(s.What)
	if s.Was != "" {
		text = Text(s.Was) + " → " + text
	}
	if s.Verb == plan.Replace && !s.Saved.IsZero() {
		text += ", " + s.Saved.Local().Format("2 January 2006 15:04")
		if s.Played > 0 && s.WasPlayed > 0 && s.Played != s.WasPlayed {
			text += fmt.Sprintf(", played %s instead of %s", assess.PlayTime(s.Played), assess.PlayTime(s.WasPlayed))
		}
	}
	if s.Name != "" && s.Verb != plan.Set && !strings.Contains(s.What, s.Name) {
		text += " as " + Text(s.Name)
		if s.Verb != plan.Put {
			text = strings.TrimSuffix(text, " as "+Text(s.Name)) + ", " + Text(s.Name)
		}
	}
	var notes []string
	if s.Older() {
		notes = append(notes, "the older one")
	}
	if s.Note != "" {
		notes = append(notes, Text(s.Note))
	}
	if s.Verb == plan.Remove || s.Verb == plan.Replace {
		switch by := s.SafeBy(); {
		case by.Snapshot != "" && kept[by.Snapshot] != "":
			notes = append(notes, "kept in "+kept[by.Snapshot])
		case by.Aside:
			notes = append(notes, "stays aside until undo or a snapshot has it")
		default:
			notes = append(notes, "kept first")
		}
	}
	if len(notes) > 0 {
		text += "  " + p.paint(faint, "("+strings.Join(notes, "; ")+")")
	}
	return text
}

// Needs writes what a save needs and how that is known.
func (p *Printer) Needs(l *assess.Install, s *assess.Save, all []logbook.Evidence) {
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
	p.Line("%s needs %s", p.paint(strong, fmt.Sprintf("%s \"%s\"", Text(l.Address(s.Save)), Text(s.Title()))), strings.Join(parts, " and "))
	p.Line("%s for %s (%s)", p.verdict(s.Verdict), l.Called, has(l))
	p.Line("")
	p.Line("  %-9s %s", "version", orUnknown(Text(needs.Version), needs.VersionEvidence))
	p.Line("  %-9s %s", "mods", orUnknown(modsWord(needs), needs.ModsEvidence))
	if len(needs.Mods)+len(s.Refs.Counts) > 0 {
		p.Line("")
		p.neededMods(l, s)
	}
	if len(s.Findings) > 0 {
		p.Line("")
		p.Findings(s.Findings)
	}
	if len(all) > 0 {
		p.Line("")
		p.Line("  %s", p.paint(faint, "Evidence"))
		for _, e := range all {
			p.hang(fmt.Sprintf("    %-9s %s", e.Kind, When(e.At, p.Now)), evidence(e))
		}
	}
	var next problem.Hints
	for _, f := range s.Findings {
		if f.Severity != check.Note {
			next = next.Or(f.Remedy)
		}
	}
	if needs.ModsEvidence == "" || needs.ModsEvidence == check.Inferred {
		next = next.Or(problem.Do("needs", l.Address(s.Save)).With("state", "mod NAME VERSION"))
	}
	p.Next(next)
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

func (p *Printer) neededMods(l *assess.Install, s *assess.Save) {
	have := map[string]check.Mod{}
	for _, m := range l.Mods.ForCheck(s.Modified) {
		for _, id := range append([]string{m.ID}, m.Also...) {
			if !m.Hidden {
				have[strings.ToLower(id)] = m
			}
		}
	}
	var rows [][]string
	installed := l.Mods.ForCheck(s.Modified)
	for _, m := range s.Needs.Mods {
		h, ok := check.Installed(installed, check.Mod{ID: m.ID, OwnDigest: m.Own, In: m.From, Of: m.Kind})
		_, alike := have[strings.ToLower(m.ID)]
		name := modlist.Name(m.Title, modlist.Name(h.Title, m.ID))
		state := p.paint(good, "here")
		switch {
		case !ok && alike:
			state = p.paint(bad, "another one is here")
		case !ok:
			state = p.paint(bad, "missing")
		case h.Off:
			state = p.paint(bad, "off")
		case m.Version != "" && h.Version != "" && m.Version != h.Version:
			state = p.paint(warn, "you have "+Text(h.Version))
		case m.Doubtful:
			state = p.paint(key, "here, may have changed since")
		}
		rows = append(rows, []string{Text(name), Text(m.Version), Text(m.ID), refers(s.Refs.Counts, m.ID), state})
	}
	for id, c := range s.Refs.Counts {
		if !slices.ContainsFunc(s.Needs.Mods, func(m modlist.Needed) bool { return strings.EqualFold(m.ID, id) }) {
			state := p.paint(bad, "missing")
			if h, ok := have[strings.ToLower(id)]; ok && !h.Off {
				state = p.paint(warn, "here, and the save does not list it")
			}
			rows = append(rows, []string{Text(id), "", Text(id), fmt.Sprint(c.N), state})
		}
	}
	p.table([]column{{title: "mod", grow: true}, {title: "version"}, {title: "id", grow: true}, {title: "refers", right: true}, {title: ""}}, rows)
}
