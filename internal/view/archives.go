package view

import (
	"fmt"
	"strings"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
)

// Archives lists the archives.
func (p *Printer) Archives(all []keep.ArchiveState) {
	for _, s := range all {
		var notes []string
		if s.Away {
			notes = append(notes, "not there now")
		} else {
			notes = append(notes, Size(s.Size))
		}
		if s.StandsIn {
			notes = append(notes, "stands in while no other is there")
		}
		if s.Lacks > 0 {
			notes = append(notes, "gets "+Count(s.Lacks, "snapshot", "snapshots")+" when it is there")
		}
		p.Line("%s: %s", Text(s.Dir), strings.Join(notes, "; "))
	}
}

// Aside says how much lies beside the game's folders for undo.
func (p *Printer) Aside(install string, all []plan.Beside) {
	for _, k := range all {
		p.hang("  "+install+":", fmt.Sprintf("%s of %s, for undo, in %s", Size(k.Bytes), Count(k.Changes, "change", "changes"), Text(k.Dir)))
	}
}

// Verified writes what checking the archives found; deep tells that all was read.
func (p *Printer) Verified(all []keep.ArchiveState, deep bool) {
	there, damaged := false, false
	for i, s := range all {
		if i > 0 {
			p.Line("")
		}
		if s.Away {
			p.Line("%s: %s", p.paint(warn, "not checked"), s.Dir)
			p.Line("")
			p.Line("  It is not there now: connect its drive.")
			continue
		}
		p.verified(s.Dir, *s.Report, deep)
		there, damaged = true, damaged || len(s.Report.Damage) > 0
	}
	if there && !deep && !damaged {
		p.Next(problem.Do("archive verify"))
	}
}

func (p *Printer) verified(dir string, r archive.Report, deep bool) {
	if len(r.Damage) == 0 {
		if !deep {
			p.Line("%s: %s", p.paint(good, "all there"), dir)
			p.Line("")
			p.Line("  %s, %s in %s; what is in them was not read", Count(r.Snapshots, "snapshot", "snapshots"), Size(r.Bytes), Count(r.Files, "file", "files"))
			return
		}
		p.Line("%s: %s", p.paint(good, "whole"), dir)
		p.Line("")
		p.Line("  %s, %s of content in %s, every byte read and checked", Count(r.Snapshots, "snapshot", "snapshots"), Size(r.Bytes), Count(r.Files, "file", "files"))
		return
	}
	p.Line("%s: %s", p.paint(bad, "damaged"), dir)
	for _, d := range r.Damage {
		p.Line("")
		p.hang("  "+p.paint(bad, "✗"), Text(d.What))
		for _, t := range d.Touches {
			p.Line("      touches %s", Text(t))
		}
		if len(d.Touches) == 0 {
			p.Line("      touches nothing that is in use")
		}
	}
}
