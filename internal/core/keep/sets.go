package keep

import (
	"context"
	"errors"
	"path"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/record"
	"ostrov/internal/core/tree"
)

// Settings keeps the present settings of a game as a set of that name, which can be laid over any playthrough. It is a snapshot with no
// saves and no mod list, and a set that is kept again has the former states behind it. files are names or patterns of those that belong to it;
// none is all.
func Settings(ctx context.Context, h *home.Home, st *facts.State, name, note string, files []string) (*Kept, error) {
	if err := h.RequireRecords(); err != nil {
		return nil, err
	}
	if err := archive.CheckName(name); err != nil {
		return nil, problem.Usage(nil, "%v", err)
	}
	if taken, err := record.Taken(ctx, h, name); err != nil || taken != nil {
		if err != nil {
			return nil, err
		}
		return nil, problem.Usage(nil, "there is a playthrough %s: call the set otherwise", name)
	}
	if err := apart(h, st); err != nil {
		return nil, err
	}
	return intoArchive(h, func(a *archive.Archive) (*Kept, error) { return settings(ctx, h, a, st, name, note, files) })
}

func settings(ctx context.Context, h *home.Home, a *archive.Archive, st *facts.State, name, note string, files []string) (*Kept, error) {
	in := st.Install
	kp := &keeper{h: h, a: a, in: in, progress: h.Meter("keep")}
	defer kp.abandon()
	if err := kp.begin(ctx, name); err != nil {
		return nil, err
	}
	if kp.before != nil && (!kp.before.Set || kp.before.Game != in.Game.ID) {
		return nil, problem.Usage(nil, "%s is kept already, and is no set of settings of %s: call the set otherwise", name, in.Game.ID)
	}
	snap := &archive.Snapshot{Playthrough: name, Title: name, Game: in.Game.ID, GameTitle: in.Game.Title, Taken: h.Now().UTC().Truncate(time.Millisecond),
		Version: st.Version, Note: note, Set: true}
	chosen := chosenFiles{files, map[string]bool{}, nil}
	count := 0
	for _, g := range st.Groups {
		count++
		if g.Kind != game.SettingsFiles || g.Active {
			continue
		}
		root, err := kp.fileGroup(ctx, g, count, chosen.has)
		if err != nil {
			return nil, err
		}
		snap.Roots = append(snap.Roots, root)
	}
	for _, name := range files {
		if !chosen.used[name] {
			return nil, problem.Usage(problem.Advise("there are: %s", strings.Join(chosen.seen, ", ")), "no settings file of %s is called %q; nothing has been kept", st.Called, name)
		}
	}
	if snap.Bytes() == 0 {
		return nil, problem.Usage(problem.Do("games show", st.Called), "%s has no settings files now", st.Called)
	}
	if err := kp.commit(snap); err != nil {
		return nil, err
	}
	kept := &Kept{State: st, Archive: a.Dir, Snapshot: snap, Since: kp.before, Copied: kp.k.Copied(), Reused: kp.k.Reused(), Stored: kp.k.Stored()}
	return kept, toOthers(ctx, h, a, snap, kept)
}

// chosenFiles are files that the player names, by path or by pattern.
type chosenFiles struct {
	names []string
	used  map[string]bool
	seen  []string
}

// has reports whether a file, by its path in its folder, is one of them.
func (c *chosenFiles) has(file string) bool {
	c.seen = append(c.seen, file)
	found := len(c.names) == 0
	for _, name := range c.names {
		if doublestar.MatchUnvalidated(name, file) || doublestar.MatchUnvalidated(name, path.Base(file)) {
			c.used[name], found = true, true
		}
	}
	return found
}

// Contents are the paths of all files in a snapshot, each with the folder that it lies in, in order; limit bounds how many.
func Contents(ctx context.Context, h *home.Home, snap *archive.Snapshot, limit int) ([]string, error) {
	a, err := h.Existing()
	if err != nil {
		return nil, err
	}
	var all []string
	for i, dir := range folderNames(h, snap) {
		err := a.Nodes(ctx, snap.Roots[i], func(n archive.Node) error {
			if n.Kind == tree.File && len(all) < limit {
				all = append(all, path.Join(dir, n.Path))
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}

// settingsSet finds a set of settings of a game by its name.
func settingsSet(h *home.Home, in *game.Install, name string) (*archive.Snapshot, error) {
	snap, err := h.Snapshot(name)
	if errors.Is(err, problem.ErrUsage) || err == nil && (!snap.Set || snap.Game != in.Game.ID) {
		return nil, problem.Usage(problem.Do("keep", in.Game.ID).With("settings", "NAME"), "there is no set of settings %q of %s", name, in.Game.Title)
	}
	return snap, err
}
