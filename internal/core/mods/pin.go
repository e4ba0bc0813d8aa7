package mods

import (
	"context"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/home"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/problem"
)

// Pinning opens what another program manages of some mods, to be copied into the game's own folder: an update cannot reach the copies. The
// request that it returns is for Incoming; its parts are to be closed. With no names it is all mods of such folders that are on.
func Pinning(ctx context.Context, h *home.Home, now *assess.Install, names []string) (AddRequest, error) {
	req := AddRequest{}
	if current := now.Current(); current != nil {
		req.For = current.Name
	}
	managed := func(m *mod.Mod) bool {
		return m.Folder.Folder != nil && m.Folder.Managed && !m.Kind.Base && m.HiddenBy == ""
	}
	var chosen []*mod.Mod
	for _, name := range names {
		var meant *mod.Mod
		for _, m := range now.Mods.Mods {
			if m.ID == name || m.Title == name {
				meant = m
			}
		}
		switch {
		case meant == nil:
			return req, problem.Usage(problem.Do("mods", now.Called), "%s has no mod %q", now.Called, name)
		case !managed(meant):
			return req, problem.Declined(nil, "%s lies in %s, which no other program owns: an update reaches it only through you", meant.Name(), meant.Folder.Path)
		}
		chosen = append(chosen, meant)
	}
	if len(names) == 0 {
		for _, m := range now.Mods.Mods {
			if managed(m) && m.On {
				chosen = append(chosen, m)
			}
		}
	}
	if len(chosen) == 0 {
		return req, problem.Declined(nil, "no mod of %s lies in a folder that another program owns", now.Called)
	}
	for _, m := range chosen {
		d, err := facts.OpenMod(ctx, h, m.Dir())
		if err != nil {
			return req, err
		}
		req.Parts = append(req.Parts, d)
	}
	req.Pinned = chosen[0].Folder.Path
	return req, nil
}
