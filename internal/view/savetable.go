package view

import (
	"fmt"
	"slices"
	"strings"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
)

// saveTable lists saves with what players compare, and in one line each why it does not fit.
func (p *Printer) saveTable(l *assess.Install) {
	slots := false
	for _, s := range l.Saves {
		slots = slots || s.HasSlot
	}
	columns := []column{{title: "save", grow: true}, {title: "title", grow: true}, {title: "saved", drop: 1}, {title: "version", drop: 2}, {title: "mods", right: true, drop: 3}}
	lines := l.SeveralLines()
	if lines {
		columns = append(columns, column{title: "playthrough", drop: 4})
	}
	labels := slices.ContainsFunc(l.Saves, func(s *assess.Save) bool { return s.Label != "" })
	if labels {
		columns = append(columns, column{title: "label", grow: true})
	}
	columns = append(columns, column{title: "verdict"}, column{title: "", grow: true})
	if slots {
		columns[0].title = "slot"
	}
	var rows [][]string
	shown, folded := l.Saves, []*assess.Save(nil)
	if !p.All {
		shown, folded = fold(l.Saves)
	}
	for _, s := range shown {
		version, mods := "", ""
		if s.Needs.Version != "" {
			version = s.Needs.Version
			if s.Needs.VersionEvidence == check.Inferred {
				version += "?"
			}
		}
		if s.Needs.ModsEvidence != "" {
			n := 0
			for _, m := range s.Needs.Mods {
				if m.On {
					n++
				}
			}
			mods = fmt.Sprint(n)
			if s.Needs.ModsEvidence == check.Inferred {
				mods += "?"
			}
		}
		row := []string{handle(l, s), Text(title(s)), When(s.Modified, p.Now), Text(version), mods}
		if lines {
			row = append(row, Text(s.Line))
		}
		if labels {
			row = append(row, Text(s.Label))
		}
		rows = append(rows, append(row, p.verdict(s.Verdict), p.why(s)))
	}
	p.table(columns, rows)
	if len(folded) > 0 {
		p.Line("  %s", p.paint(faint, foldedText(folded)))
	}
}

// maxShown is how many saves look lists.
const maxShown = 20

// fold leaves out what is too much for a glance: of more than maxShown saves those that the game makes by itself first, then the oldest. One with a
// label, or which something has happened to, is never left out.
func fold(all []*assess.Save) (shown, folded []*assess.Save) {
	if len(all) <= maxShown {
		return all, nil
	}
	order := slices.Clone(all)
	rank := func(s *assess.Save) int {
		switch {
		case s.Label != "" || s.Broken() != "" || s.Again != "":
			return 0
		case strings.Contains(strings.ToLower(s.Kind.ID+" "+s.Name), "auto"):
			return 2
		}
		return 1
	}
	slices.SortStableFunc(order, func(a, b *assess.Save) int {
		if d := rank(a) - rank(b); d != 0 {
			return d
		}
		return b.Modified.Compare(a.Modified)
	})
	kept := map[*assess.Save]bool{}
	for i, s := range order {
		kept[s] = i < maxShown || rank(s) == 0
	}
	for _, s := range all {
		if kept[s] {
			shown = append(shown, s)
		} else {
			folded = append(folded, s)
		}
	}
	return shown, folded
}

// foldedText says how many saves are left out, and how they stand.
func foldedText(folded []*assess.Save) string {
	count := map[check.Verdict]int{}
	for _, s := range folded {
		count[s.Verdict]++
	}
	var parts []string
	for _, v := range []check.Verdict{check.Fit, check.Risky, check.Unfit, check.Unclear} {
		if count[v] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", count[v], v))
		}
	}
	return fmt.Sprintf("and %s, older or made by the game itself: %s  (--all shows them)", Count(len(folded), "save", "saves"), strings.Join(parts, ", "))
}
