package view

import (
	"fmt"
	"strings"

	"ostrov/internal/core/assess"
)

// since says what changed since the newest snapshot.
func (p *Printer) since(l *assess.Install) {
	p.Line("")
	for _, other := range l.Others {
		when := "nothing of it has been kept yet"
		if other.Snapshot != nil {
			when = fmt.Sprintf("since %s, %s", other.Snapshot.Address(), When(other.Snapshot.Taken, p.Now))
		}
		p.Line("  The playthrough %s went on: %s (%s).", Text(other.Line), strings.Join(newAndChanged(other.New, other.Changed), ", "), when)
	}
	if l.Since.Snapshot == nil {
		if len(l.Problems.Away) > 0 {
			p.hang(" ", "What was kept before is in "+Text(strings.Join(l.Problems.Away, ", "))+", which is not there now.")
			return
		}
		if l.Current() == nil && len(l.Lines) > 0 {
			p.Line("  No playthrough is active.")
		} else {
			p.Line("  Nothing has been kept yet.")
		}
		return
	}
	if away := l.Since.Away; away != nil {
		p.hang(" ", fmt.Sprintf("The saves here are of %s, which is played on %s. The %s of %s are put away, in %s.", Text(away.Line), away.Install.Address(),
			Count(len(away.In.Saves), "save", "saves"), Text(l.Since.Line), away.In.Address()))
		return
	}
	p.elsewhere(l)
	parts := newAndChanged(l.Since.New, l.Since.Changed)
	if l.Since.Back > 0 {
		parts = append(parts, Count(l.Since.Back, "save", "saves")+" as kept before")
	}
	if l.Since.Version != "" {
		parts = append(parts, fmt.Sprintf("the game was updated from %s to %s", l.Since.Version, l.Version))
	}
	for _, c := range l.Since.Mods {
		parts = append(parts, Text(ModChange(c)))
	}
	if len(parts) > 6 {
		parts = append(parts[:6], fmt.Sprintf("%d more", len(parts)-6))
	}
	when := fmt.Sprintf("%s (%s)", l.Since.Snapshot.Address(), When(l.Since.Snapshot.Taken, p.Now))
	if len(parts) == 0 {
		p.Line("  Nothing has changed since %s.", when)
		return
	}
	p.hang("  Since "+when+":", strings.Join(parts, ", "))
}

// elsewhere says where the line went on by another way than here.
func (p *Printer) elsewhere(l *assess.Install) {
	for _, e := range l.Since.Elsewhere {
		where := "kept elsewhere"
		if e.Snapshot.Machine != "" {
			where = "kept on " + Text(e.Snapshot.Machine)
		}
		where += " " + When(e.Snapshot.Taken, p.Now)
		switch {
		case e.Ahead:
			p.hang(" ", fmt.Sprintf("%s goes on from %s, which is what is here: %s, of %s.", p.paint(warn, e.Address), e.From, where, Count(len(e.Snapshot.Saves), "save", "saves")))
		case e.From == "":
			p.hang(" ", fmt.Sprintf("%s is another beginning of %s: %s.", p.paint(warn, e.Address), Text(l.Since.Line), where))
		default:
			p.hang(" ", fmt.Sprintf("%s went on in two places since %s: here, and in %s, %s.", Text(l.Since.Line), e.From, p.paint(warn, e.Address), where))
		}
	}
}

func newAndChanged(added, changed int) []string {
	var parts []string
	if added > 0 {
		parts = append(parts, Count(added, "new save", "new saves"))
	}
	if changed > 0 {
		parts = append(parts, Count(changed, "changed save", "changed saves"))
	}
	return parts
}
