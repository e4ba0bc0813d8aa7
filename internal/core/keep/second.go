package keep

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/durable"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/record"
)

// Frozen is a former state of a game, laid out as a second install.
type Frozen struct {
	Install  *game.Install
	Files    int
	Warnings []string
	// Playthrough is the one that was started for it, with the state of the snapshot as its first.
	Playthrough logbook.Playthrough
	// Shares are the installs that keep their saves in the same folder.
	Shares []string
}

// RestoreGame lays out the game of a snapshot, with its mods and its settings as far as they lie in its folder, as a second install in
// dir, which must be missing or empty, and registers it. It touches nothing else: dir is there whole or not at all.
func RestoreGame(ctx context.Context, h *home.Home, snap *archive.Snapshot, dir string) (*Frozen, error) {
	if err := h.RequireRecords(); err != nil {
		return nil, err
	}
	if !snap.Holds(archive.Game) {
		return nil, problem.Usage(problem.Do("keep", snap.Game).With("with", "game").Note("before the next update"), "%s has not kept the game itself", snap.Address())
	}
	first, err := InstallOf(ctx, h, snap)
	if err != nil {
		return nil, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	f := &Frozen{}
	if err := layOut(ctx, h, snap, first, dir, f); err != nil {
		return nil, err
	}
	in := &game.Install{Game: first.Game, Name: freeVersionName(h, first, snap.Version), Root: dir, Prefix: first.Prefix, PlayerHome: first.PlayerHome, Edition: first.Edition, Pins: map[string]string{}}
	adding := problem.Do("games add", snap.Game).With("at", dir)
	if _, err := facts.Pin(ctx, h, in); err != nil {
		return nil, problem.New(adding, "the game is in %s, but could not be added: %w", dir, err)
	}
	for value, path := range in.Pins {
		if first.Pins[value] != path { // it points elsewhere than what the player has confirmed
			return nil, problem.Usage(adding, "the game is in %s; its files name the folder %s, which you have not confirmed yet", dir, path)
		}
	}
	if err := h.Register(in); err != nil {
		return nil, err
	}
	f.Install = in
	return f, startFrozen(ctx, h, snap, f)
}

// freeVersionName is what to call a second install: its version.
func freeVersionName(h *home.Home, first *game.Install, version string) string {
	name := home.Slug(version)
	if name == "" {
		return ""
	}
	base := name
	for i := 2; slices.ContainsFunc(h.Installs, func(in *game.Install) bool { return in.Game.ID == first.Game.ID && in.Name == name }); i++ {
		name = fmt.Sprintf("%s-%d", base, i)
	}
	return name
}

// startFrozen starts a playthrough on the second install, with the snapshot as its first state.
func startFrozen(ctx context.Context, h *home.Home, snap *archive.Snapshot, f *Frozen) error {
	name := snap.Playthrough + "-" + f.Install.Name
	taken, err := record.Taken(ctx, h, name)
	if err != nil {
		return err
	}
	if taken != nil {
		return problem.Usage(problem.Do("playthroughs"), "%s is registered; there is a playthrough %s already, which stays as it is", f.Install.Address(), name)
	}
	p := logbook.Playthrough{Name: name, Title: fmt.Sprintf("%s (%s)", snap.Title, snap.Version), Game: f.Install.Game.ID, Install: f.Install.Name, Started: h.Now(), Active: true}
	if err := archive.CheckName(p.Name); err != nil {
		return problem.Usage(nil, "%v", err)
	}
	st, err := facts.Gather(ctx, h, f.Install)
	if err != nil {
		return err
	}
	for _, other := range st.Sharers {
		f.Shares = append(f.Shares, other.Address())
	}
	if err := h.Logbook.Start(ctx, p, nil); err != nil {
		return err
	}
	f.Playthrough = p
	a, err := h.Existing()
	if err != nil {
		return err
	}
	return a.Branch(ctx, snap, p.Name, p.Title, h.Now())
}

// layOut writes the game of a snapshot into a new folder.
func layOut(ctx context.Context, h *home.Home, snap *archive.Snapshot, first *game.Install, dir string, f *Frozen) error {
	a, err := h.Existing()
	if err != nil {
		return err
	}
	progress := h.Counting("restore", snap.Bytes())
	return h.NewFolder(dir, func(temp string, batch *durable.Batch) error {
		for _, kind := range []archive.Kind{archive.Game, archive.Mods, archive.Settings} { // the game first: where the rest lies is asked of it
			for _, root := range snap.Roots {
				if root.Kind != kind {
					continue
				}
				into, err := placeIn(ctx, first, temp, snap, root)
				if err != nil {
					return err
				}
				if into == "" {
					if kind == archive.Mods {
						f.Warnings = append(f.Warnings, "its mods lie in a folder outside it, which both installs use: they are left out")
					}
					continue
				}
				n, err := a.Extract(ctx, root, archive.Out{Dir: into, Spell: spelled, Progress: progress, Batch: batch})
				if err != nil {
					return problem.New(problem.Do("archive verify"), "the game of %s could not be brought back whole, so nothing has been written: %w", snap.Address(), err)
				}
				f.Files += n
			}
		}
		return first.Game.CheckMarker(temp)
	})
}

// placeIn is where a root of a snapshot lies in a copy of the game in dir, or "" where that is elsewhere.
func placeIn(ctx context.Context, first *game.Install, dir string, snap *archive.Snapshot, root archive.Root) (string, error) {
	if root.Kind == archive.Game {
		return dir, nil
	}
	in := &game.Install{Game: first.Game, Name: first.Name, Root: dir, Prefix: first.Prefix, PlayerHome: first.PlayerHome, Edition: first.Edition, Pins: first.Pins}
	if err := in.Open(); err != nil {
		return "", err
	}
	path := ""
	if root.Kind == archive.Mods {
		folders, err := in.Folders(ctx)
		if err != nil {
			return "", err
		}
		for _, f := range folders {
			if f.ID == root.Folder && f.Of(root.Account) {
				path = f.Path
			}
		}
	} else {
		groups, err := in.FileGroups(ctx)
		if err != nil {
			return "", err
		}
		g, ok, err := groupOf(&facts.State{Install: in, Called: in.Address(), Groups: groups}, snap, root)
		if err != nil || !ok {
			return "", err
		}
		path = g.Dir
	}
	if path == dir || path != "" && game.Within(path, dir) {
		return path, nil
	}
	return "", nil
}
