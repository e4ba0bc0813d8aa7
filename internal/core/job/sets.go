package job

import (
	"context"
	"errors"
	"fmt"
	"time"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/game"
)

// KeepSettings keeps the present settings of a game as a set of that name, which can be laid over any playthrough. It is a snapshot with no saves
// and no mod list, and a set that is kept again has the former states behind it.
func (s *Session) KeepSettings(ctx context.Context, in *game.Install, name, note string) (*Kept, error) {
	if err := s.RequireRecords(); err != nil {
		return nil, err
	}
	if err := archive.CheckName(name); err != nil {
		return nil, usage("", "%v", err)
	}
	if _, err := s.FindPlaythrough(ctx, name); err == nil {
		return nil, usage("", "there is a playthrough %s: call the set otherwise", name)
	}
	l, err := s.Look(ctx, in)
	if err != nil {
		return nil, err
	}
	if err := s.archiveApart(l); err != nil {
		return nil, err
	}
	a, err := s.Archive(true)
	if err != nil {
		return nil, err
	}
	kp := &keeper{s: s, a: a, in: in, progress: s.meter("keep")}
	defer kp.abandon()
	if err := kp.begin(ctx, name); err != nil {
		return nil, err
	}
	if kp.before != nil && (!kp.before.Set || kp.before.Game != in.Game.ID) {
		return nil, usage("", "%s is kept already, and is no set of settings of %s: call the set otherwise", name, in.Game.ID)
	}
	groups, err := in.FileGroups(ctx)
	if err != nil {
		return nil, err
	}
	snap := &archive.Snapshot{Playthrough: name, Title: name, Game: in.Game.ID, GameTitle: in.Game.Title, Taken: s.Now().UTC().Truncate(time.Millisecond),
		Version: l.Version, Note: note, Set: true}
	for _, g := range groups {
		if g.What != game.SettingsFiles || g.Active {
			continue
		}
		root, err := kp.fileGroup(ctx, g)
		if err != nil {
			return nil, err
		}
		snap.Roots = append(snap.Roots, root)
	}
	if totalOf(snap) == 0 {
		return nil, usage("ostrov games show "+l.Called, "%s has no settings files now", l.Called)
	}
	if err := kp.k.Commit(snap); err != nil {
		return nil, fmt.Errorf("nothing has been kept: %w", err)
	}
	kept := &Kept{Archive: a.Dir, Snapshot: snap, Since: kp.before, Copied: kp.k.Copied(), Reused: kp.k.Reused(), Stored: kp.k.Stored()}
	return kept, s.spread(ctx, a, snap, kept)
}

// settingsSet finds a set of settings of a game by its name.
func (s *Session) settingsSet(in *game.Install, name string) (*archive.Snapshot, error) {
	snap, err := s.Snapshot(name)
	if errors.Is(err, ErrUsage) || err == nil && (!snap.Set || snap.Game != in.Game.ID) {
		return nil, usage("ostrov keep "+in.Game.ID+" --settings NAME", "there is no set of settings %q of %s", name, in.Game.Title)
	}
	return snap, err
}
