package mods

import (
	"context"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/problem"
)

// ModsIn finds the mods of an install's game in a download, to suppose that they were there, with what is unsafe about it.
func ModsIn(ctx context.Context, h *home.Home, in *game.Install, file string) ([]*mod.Mod, []check.Finding, error) {
	d, err := facts.OpenMod(ctx, h, file)
	if err != nil {
		return nil, nil, err
	}
	defer d.Close()
	var unsafe []check.Finding
	for _, f := range assess.Hazards(d) {
		if f.Severity != check.Note {
			unsafe = append(unsafe, f)
		}
	}
	found := d.Mods(ctx, in.Game)
	if len(found) == 0 && len(unsafe) == 0 {
		return nil, nil, problem.Usage(problem.Do("vet", file), "%s holds no mod of %s", file, in.Game.Title)
	}
	return found, unsafe, nil
}
