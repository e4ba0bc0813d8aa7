package keep

import (
	"context"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/tree"
)

// Preview is what a keep would take.
type Preview struct {
	Playthrough string // "" where one would be started
	Takes       []Item // in the order in which they are told
	// LeftOut is what of a copy made by hand is not taken in.
	LeftOut []archive.LeftOut
	// Also are other lines that are kept with it, since their saves have changed.
	Also []facts.Since
}

// Item is one sort of what would be kept.
type Item struct {
	What  string `json:"what"`  // saves, mods, game, settings, data or pictures
	Count int    `json:"count"` // saves or mods, else files
	Bytes int64  `json:"bytes"`
}

// Look says what Keep would take, reading no more than it must. settings asks for settings alone, as a set.
func Look(ctx context.Context, h *home.Home, in *game.Install, req Request, settings bool) (*Preview, error) {
	p, err := presumed(ctx, h, in, req.As)
	if err != nil {
		return nil, err
	}
	pre := &Preview{Playthrough: p.Name}
	if req.With == nil {
		req.With = kinds(p.Keeps)
	}
	st, err := facts.Gather(ctx, h, in)
	if err != nil {
		return nil, err
	}
	if req.From != "" {
		return pre, pre.copy(ctx, st, req.From)
	}
	kp := keeper{h: h, in: in, req: req}
	if !settings {
		pre.Takes = append(pre.Takes, savesOf(st, p.Name))
		if req.As == "" {
			pre.Also = st.Others
		}
	}
	if err := pre.files(ctx, st, &kp, settings); err != nil || settings {
		return pre, err
	}
	if kp.with(archive.Mods) {
		mods := Item{What: string(archive.Mods)}
		for _, m := range st.Mods.Mods {
			if kept(m) {
				mods.Count++
				mods.Bytes += m.Size
			}
		}
		pre.Takes = append(pre.Takes, mods)
	}
	if kp.with(archive.Game) {
		entries, _, err := facts.GameFiles(ctx, st)
		if err != nil {
			return nil, err
		}
		itself := Item{What: string(archive.Game)}
		for e := range entries.All() {
			itself.add(e)
		}
		pre.Takes = append(pre.Takes, itself)
	}
	return pre, nil
}

// copy adds what a copy made by hand holds.
func (pre *Preview) copy(ctx context.Context, st *facts.State, dir string) error {
	c, err := readCopy(ctx, st, dir)
	if err != nil {
		return err
	}
	saves := Item{What: string(archive.Saves), Count: len(c.saves)}
	for _, sv := range c.saves {
		saves.Bytes += sv.Size
	}
	pre.Takes, pre.LeftOut = append(pre.Takes, saves), c.leftOut
	for _, f := range c.files {
		item := Item{What: string(f.group.Kind)}
		for _, g := range f.groups {
			item.add(g.Entries[0])
		}
		pre.Takes = append(pre.Takes, item)
	}
	return nil
}

func savesOf(st *facts.State, line string) Item {
	saves := Item{What: string(archive.Saves)}
	for _, s := range st.Saves {
		if s.Line == line {
			saves.Count++
			saves.Bytes += s.Size
		}
	}
	return saves
}

// files adds settings, data and pictures.
func (pre *Preview) files(ctx context.Context, st *facts.State, kp *keeper, settings bool) error {
	items := map[game.FileKind]*Item{}
	for _, g := range st.Groups {
		if g.Kind == game.PictureFiles && !kp.with(archive.Pictures) || settings && g.Kind != game.SettingsFiles {
			continue
		}
		entries, err := facts.GroupFiles(ctx, g)
		if err != nil {
			return err
		}
		if items[g.Kind] == nil {
			items[g.Kind] = &Item{What: string(g.Kind)}
		}
		for _, e := range entries {
			items[g.Kind].add(e)
		}
	}
	for _, kind := range []game.FileKind{game.SettingsFiles, game.DataFiles, game.PictureFiles} {
		if item := items[kind]; item != nil && item.Count > 0 {
			pre.Takes = append(pre.Takes, *item)
		}
	}
	return nil
}

func (k *Item) add(e tree.Entry) {
	if e.Kind == tree.File {
		k.Count++
		k.Bytes += e.Size
	}
}
