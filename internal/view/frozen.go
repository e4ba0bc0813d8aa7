package view

import (
	"strings"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/problem"
)

// Frozen writes where a kept game was laid out as a second install, and what to mind when both are played.
func (p *Printer) Frozen(f *keep.Frozen, snap *archive.Snapshot) {
	address := f.Install.Address()
	p.Line("%s %s %s: %s in %s", p.paint(good, "laid out"), Text(snap.GameTitle), Text(snap.Version), Count(f.Files, "file", "files"), f.Install.Root)
	p.Line("")
	p.Line("  It is %s now, beside what was there; its playthrough is %s.", p.paint(strong, address), f.Playthrough.Name)
	for _, w := range f.Warnings {
		p.Line("  %s %s", p.paint(warn, "!"), Text(w))
	}
	if len(f.Shares) > 0 {
		p.hang("  "+p.paint(warn, "!"), "it keeps its saves in the same folder as "+strings.Join(f.Shares, " and ")+": start each with `play`, which swaps them")
	}
	p.Next(problem.Do("play", address, "--", "COMMAND"), problem.Do("look", address))
}

// FrozenDoc is a second install that was laid out, in JSON.
type FrozenDoc struct {
	Head
	Install     string   `json:"install"`
	Root        string   `json:"root"`
	Files       int      `json:"files"`
	Playthrough string   `json:"playthrough"`
	Shares      []string `json:"shares"` // installs that keep their saves in the same folder
	Warnings    []string `json:"warnings"`
}

// Frozen makes the document of a second install.
func Frozen(f *keep.Frozen) FrozenDoc {
	d := FrozenDoc{NewHead("restore"), f.Install.Address(), f.Install.Root, f.Files, f.Playthrough.Name, f.Shares, f.Warnings}
	if d.Shares == nil {
		d.Shares = []string{}
	}
	if d.Warnings == nil {
		d.Warnings = []string{}
	}
	return d
}
