package job

import (
	"context"
	"path/filepath"

	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
)

// orphans notes settings of mods that are not installed.
func (l *Look) orphans(ctx context.Context) error {
	groups, err := l.Install.FileGroups(ctx)
	if err != nil {
		return err
	}
	for _, g := range groups {
		if g.What != game.SettingsFiles {
			continue
		}
		files, err := groupFiles(ctx, g)
		if err != nil {
			return err
		}
		for _, e := range files {
			if id, ofMod := g.ModOf(e.Path); ofMod && !l.hasMod(id) {
				l.orphaned = append(l.orphaned, orphan{g.Dir, e.Path})
				f := check.New(check.SettingsOrphaned, id, e.Path+" is a setting of it, and it is not installed")
				f.Remedy = "ostrov look " + l.Called + " --put-aside"
				l.Findings = append(l.Findings, f)
			}
		}
	}
	return nil
}

// orphan is a settings file whose mod is gone.
type orphan struct{ dir, path string }

// PlanAside plans to put settings aside whose mods are gone. They are kept first, and undo brings them back.
func (s *Session) PlanAside(ctx context.Context, in *game.Install) (*Planned, error) {
	if err := s.RequireRecords(); err != nil {
		return nil, err
	}
	l, err := s.Look(ctx, in)
	if err != nil {
		return nil, err
	}
	if err := mayChange(ctx, in, nil, nil); err != nil {
		return nil, err
	}
	p := s.newPlan(ctx, l, "look "+l.Called+" --put-aside", nil)
	for _, o := range l.orphaned {
		p.Steps = append(p.Steps, Step{"remove", o.path, filepath.Join(o.dir, filepath.FromSlash(o.path)), "a setting of a mod that is gone; kept first"})
		p.remove(ctx, o.dir, o.path)
	}
	return p, nil
}
