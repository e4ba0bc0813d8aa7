package view

import (
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/game"
)

// Folders writes where an install keeps its things and why there.
func (p *Printer) Folders(in *game.Install, folders []game.Located, groups []game.FileGroup, neighbours []*game.Install) {
	p.Line("%s", p.paint(strong, in.Address()))
	p.Line("  %-12s %s", "game", in.Root)
	described := "with Ostrov"
	if filepath.IsAbs(in.Game.File) {
		described = in.Game.File
	}
	p.Line("  %-12s %s", "description", Text(described))
	if in.Prefix != "" {
		p.Line("  %-12s %s", "prefix", in.Prefix)
	}
	if in.PlayerHome != "" {
		p.Line("  %-12s %s", "player", in.PlayerHome)
	}
	for _, f := range folders {
		name := f.ID
		if f.Account != "" {
			name += " " + f.Account
		}
		var notes []string
		if f.Title != "" {
			notes = append(notes, f.Title)
		}
		if f.Why != "" {
			notes = append(notes, "because "+Text(f.Why))
		}
		if f.Link != "" {
			notes = append(notes, "a link at "+f.Link)
		}
		if to := in.Leads(f); to != "" {
			notes = append(notes, "through a link above it "+to)
		}
		if len(f.Aliases) > 0 {
			notes = append(notes, "also as "+Text(strings.Join(f.Aliases, ", ")))
		}
		if f.Value != "" {
			notes = append(notes, "named by the game's own files")
		}
		if f.Managed {
			notes = append(notes, "never written")
		}
		if !f.Exists {
			notes = append(notes, "not there yet")
		}
		p.Line("  %-12s %s", name, f.Path)
		if len(notes) > 0 {
			p.Line("  %-12s %s", "", p.paint(faint, strings.Join(notes, "; ")))
		}
	}
	for _, id := range slices.Sorted(maps.Keys(in.Unplaced())) {
		p.Line("  %-12s %s", id, p.paint(faint, "has no place: "+Text(in.Unplaced()[id].Error())))
	}
	for _, n := range neighbours {
		text := "keeps its saves there too"
		if n.PlaysWith(in) {
			text += ", and the same playthroughs are played on both"
		}
		p.Line("  %-12s %s %s", "neighbour", n.Address(), p.paint(faint, text))
	}
	for _, g := range groups {
		p.Line("  %-12s %s", g.Kind, filepath.Join(g.Dir, filepath.FromSlash(g.Glob)))
	}
}
