package view

import (
	"strings"

	"ostrov/internal/core/check"
	"ostrov/internal/core/parcel"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/share"
)

// Wrapped writes what a parcel holds.
func (p *Printer) Wrapped(w *share.Wrapped) {
	if w.Size == 0 {
		p.Line("%s would be a parcel of \"%s\"", Text(w.Out), Text(w.Save.Title()))
	} else {
		p.Line("%s %s, %s", p.paint(good, "wrapped"), Text(w.Out), Size(w.Size))
	}
	p.Line("")
	mods := "unknown"
	switch {
	case w.Needs.Clean:
		mods = "none: a clean game"
	case w.Needs.Mods != nil:
		mods = Count(len(w.Needs.Mods), "mod", "mods") + "  (" + explain(w.Needs.ModsEvidence) + ")"
	}
	p.Line("  %-9s \"%s\" as %s", "save", Text(w.Save.Title()), Text(w.Save.Name))
	p.Line("  %-9s %s", "version", orUnknown(Text(w.Needs.Version), w.Needs.VersionEvidence))
	p.Line("  %-9s %s", "mods", mods)
	if len(w.Blanked) > 0 {
		p.Line("  %-9s %s", "personal", Text(strings.Join(w.Blanked, ", ")))
	}
	if w.Size == 0 {
		if len(w.Private) > 0 {
			p.Line("")
			p.Findings(w.Private)
		}
		p.Line("")
		p.Line("Nothing has been written: --dry-run.")
		return
	}
	p.Next(problem.Do("vet", w.Out))
}

// WrappedDoc is a parcel that was made, in JSON.
type WrappedDoc struct {
	Head
	File    string       `json:"file"`
	Size    int64        `json:"size"` // bytes; 0 where none was written
	Needs   parcel.Needs `json:"needs"`
	Blanked []string     `json:"blanked"`
}

// Wrapped makes the document of a parcel.
func Wrapped(w *share.Wrapped) WrappedDoc {
	d := WrappedDoc{NewHead("parcel"), w.Out, w.Size, w.Needs, append([]string{}, w.Blanked...)}
	d.Verdict, d.Findings = check.Sum(w.Private), findingDocs(w.Private)
	return d
}
