package job

import (
	"context"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
)

// KeepPlan is what a keep would take.
type KeepPlan struct {
	Playthrough string     // "" where one would be started
	Takes       []KeepItem // in the order in which they are told
}

// KeepItem is one sort of what would be kept.
type KeepItem struct {
	What  string `json:"what"`  // saves, mods, game, settings, data or pictures; copy for one that was made by hand
	Count int    `json:"count"` // saves or mods, else files
	Bytes int64  `json:"bytes"`
}

// PlanKeep says what Keep would take, reading no more than it must and writing nothing. settings asks for settings alone, as a set.
func (s *Session) PlanKeep(ctx context.Context, in *game.Install, req KeepRequest, settings bool) (*KeepPlan, error) {
	p, err := s.presumed(ctx, in, req.As)
	if err != nil {
		return nil, err
	}
	plan := &KeepPlan{Playthrough: p.Name}
	if req.From != "" {
		copied := KeepItem{What: "copy"}
		err := tree.Walk(ctx, req.From, func(e tree.Entry) error { copied.add(e); return nil })
		plan.Takes = append(plan.Takes, copied)
		return plan, err
	}
	if req.With == nil {
		req.With = p.Keeps
	}
	l, err := s.Look(ctx, in)
	if err != nil {
		return nil, err
	}
	kp := keeper{s: s, in: in, req: req}
	if !settings {
		saves := KeepItem{What: archive.Saves}
		for _, st := range l.Saves {
			if st.Playthrough == p.Name {
				saves.Count++
				saves.Bytes += st.Size
			}
		}
		plan.Takes = append(plan.Takes, saves)
	}
	groups, err := in.FileGroups(ctx)
	if err != nil {
		return nil, err
	}
	files := map[string]*KeepItem{}
	for _, g := range groups {
		if g.What == game.PictureFiles && !kp.with(archive.Pictures) || settings && g.What != game.SettingsFiles {
			continue
		}
		entries, err := groupFiles(ctx, g)
		if err != nil {
			return nil, err
		}
		if files[g.What] == nil {
			files[g.What] = &KeepItem{What: g.What}
		}
		for _, e := range entries {
			files[g.What].add(e)
		}
	}
	for _, what := range []string{archive.Settings, archive.Data, archive.Pictures} {
		if item := files[what]; item != nil && item.Count > 0 {
			plan.Takes = append(plan.Takes, *item)
		}
	}
	if settings {
		return plan, nil
	}
	if kp.with(archive.Mods) {
		mods := KeepItem{What: archive.Mods}
		for _, m := range l.Mods.Mods {
			if kept(m) {
				mods.Count++
				mods.Bytes += m.Size
			}
		}
		plan.Takes = append(plan.Takes, mods)
	}
	if kp.with(archive.Game) {
		entries, err := gameEntries(ctx, l)
		if err != nil {
			return nil, err
		}
		itself := KeepItem{What: archive.Game}
		for e := range entries.All() {
			itself.add(e)
		}
		plan.Takes = append(plan.Takes, itself)
	}
	return plan, nil
}

func (k *KeepItem) add(e tree.Entry) {
	if e.Kind == tree.File {
		k.Count++
		k.Bytes += e.Size
	}
}
