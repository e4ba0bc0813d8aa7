package mods

import (
	"context"
	"slices"
	"strings"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/home"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/problem"
)

// OrderRequest says how the load order is to be.
type OrderRequest struct {
	Mod           string
	Before, After string           // another mod
	Like          []modlist.Listed // or: as in a list
	LikeName      string           // what to call that
}

// Ordering proposes another load order.
func Ordering(ctx context.Context, h *home.Home, now *assess.Install, req OrderRequest) (*Proposal, error) {
	title := "mods order " + req.Mod
	if req.Like != nil {
		title = "mods order like " + req.LikeName
	}
	p, err := begin(ctx, h, now.State, title)
	if err != nil {
		return nil, err
	}
	w := p.work
	a := now.Install.Game.Active
	if a == nil || !a.Order {
		return nil, problem.Usage(nil, "%s has no load order: where mods bring the same file, the one that came in last lies on top", now.Install.Game.Title)
	}
	if !w.isListed() {
		return nil, problem.Usage(problem.Advise("start the game once"), "the list of mods of %s is not there", now.Called)
	}
	items, _, _, err := w.items()
	if err != nil {
		return nil, problem.New(problem.Advise("nothing has been changed"), "the game's list of mods cannot be read: %w", err)
	}
	var ids []string
	for _, i := range items {
		ids = append(ids, i.id)
	}
	if req.Like != nil {
		ids = like(ids, req.Like)
	} else if ids, err = w.moved(ids, req); err != nil {
		return nil, err
	}
	w.edit().order = ids
	w.order = nil
	for _, id := range ids {
		w.order = append(w.order, strings.ToLower(id))
	}
	p.Reason = "that is the order already"
	p.suppose(now, []assess.Change{{Words: "in another order", Order: w.order}})
	return p.finish()
}

// like is a list in the order of another: those that both have in its order, the others where they are.
func like(ids []string, list []modlist.Listed) []string {
	place := map[string]int{}
	for i, m := range list {
		place[strings.ToLower(m.ID)] = i + 1
	}
	var named []string
	for _, id := range ids {
		if place[strings.ToLower(id)] > 0 {
			named = append(named, id)
		}
	}
	slices.SortStableFunc(named, func(a, b string) int { return place[strings.ToLower(a)] - place[strings.ToLower(b)] })
	ordered := slices.Clone(ids)
	for i, id := range ordered {
		if place[strings.ToLower(id)] > 0 {
			ordered[i], named = named[0], named[1:]
		}
	}
	return ordered
}

// moved is a list with a mod moved before or behind another.
func (w *work) moved(ids []string, req OrderRequest) ([]string, error) {
	find := func(word string) (string, error) {
		for _, id := range ids {
			if strings.EqualFold(id, word) {
				return id, nil
			}
		}
		for _, m := range w.st.Mods.Mods {
			if strings.EqualFold(m.Title, word) {
				for _, id := range ids {
					if strings.EqualFold(id, m.ID) {
						return id, nil
					}
				}
			}
		}
		return "", problem.Usage(problem.Do("mods", w.st.Called), "the game's list of mods has no %q", word)
	}
	other := req.Before
	if other == "" {
		other = req.After
	}
	id, err := find(req.Mod)
	if err != nil {
		return nil, err
	}
	beside, err := find(other)
	if err != nil {
		return nil, err
	}
	if id == beside {
		return nil, problem.Usage(nil, "%s cannot lie before or behind itself", id)
	}
	ids = slices.DeleteFunc(slices.Clone(ids), func(o string) bool { return o == id })
	at := slices.Index(ids, beside)
	if req.After != "" {
		at++
	}
	return slices.Insert(ids, at, id), nil
}
