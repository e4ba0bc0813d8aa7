package edit

import (
	"context"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/home"
	"ostrov/internal/core/mod"
)

// Judged is what is found of a save as it will be.
type Judged struct {
	Verdict  check.Verdict
	Findings []check.Finding
}

// Judge judges a save as it will be against an install, which then has none of the mods in without.
func Judge(ctx context.Context, h *home.Home, st *facts.State, src Source, e *Edited, without []*mod.Mod) (Judged, error) {
	var changes []assess.Change
	for _, m := range without {
		changes = append(changes, assess.Change{Words: "without " + m.Name(), Drop: m})
	}
	then := assess.Suppose(assess.Of(st), changes).Then.State
	s, err := then.Altered(ctx, h, src.Save, e.Facts, e.Out, e.FS, e.Paths)
	if err != nil {
		return Judged{}, err
	}
	found := assess.Findings(then, s)
	check.Sort(found)
	return Judged{check.Sum(found), found}, nil
}
