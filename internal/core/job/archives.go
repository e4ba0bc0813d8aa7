package job

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/check"
)

// spread copies a snapshot that was just kept into all other archives that are there, and names those that are not.
func (s *Session) spread(ctx context.Context, from *archive.Archive, snap *archive.Snapshot, kept *Kept) error {
	for _, dir := range s.ArchiveDirs() {
		if dir == from.Dir {
			continue
		}
		to, err := archive.Open(dir, s.archiveCache())
		if errors.Is(err, fs.ErrNotExist) {
			f := check.New(check.ArchiveAway, dir, "is not there")
			f.Remedy = "ostrov archive copy " + Quoted(dir)
			kept.Findings = append(kept.Findings, f)
			continue
		}
		if err != nil {
			return err
		}
		_, err = from.CopySnapshot(ctx, to, snap)
		if err = errors.Join(err, to.Close()); err != nil {
			return problem("ostrov archive copy "+Quoted(dir), "kept in %s, but not in %s: %w", from.Dir, dir, err)
		}
		kept.Spread = append(kept.Spread, dir)
	}
	return nil
}

// existing opens the archive for what makes no sense without one.
func (s *Session) existing() (*archive.Archive, error) {
	a, err := s.Archive(false)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &Error{Text: "there is no archive in " + s.ArchiveDir() + " yet", Hint: "ostrov keep", Err: err}
	}
	return a, err
}

// stoodIn is a snapshot that was kept into the archive in Ostrov's home while no other was there.
type stoodIn struct {
	Playthrough string `json:"playthrough"`
	ID          string `json:"id"`
}

// gather copies into an archive that is there again what was kept meanwhile into the one that stood in for it.
func (s *Session) gather(ctx context.Context, to *archive.Archive) error {
	if len(s.config.StoodIn) == 0 || to.Dir == s.ownArchive() || s.Unrecorded != nil {
		return nil
	}
	own, err := archive.Open(s.ownArchive(), s.archiveCache())
	if err != nil {
		return err
	}
	defer own.Close()
	for _, kept := range s.config.StoodIn {
		snap, err := own.Newest(kept.Playthrough, func(x *archive.Snapshot) bool { return x.ID == kept.ID })
		if err != nil {
			return err
		}
		if snap == nil { // cleared meanwhile
			continue
		}
		if _, err := own.CopySnapshot(ctx, to, snap); err != nil {
			return err
		}
	}
	s.config.StoodIn = nil
	return s.writeConfig()
}

// openArchive opens an archive that an argument names.
func (s *Session) openArchive(dir string) (*archive.Archive, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	a, err := archive.Open(dir, s.archiveCache())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, &Error{Text: "there is no archive in " + dir, Hint: "ostrov archive add DIR", Err: err}
	}
	return a, err
}

// CopyArchive copies what the archive in dir lacks from the one that is kept into.
func (s *Session) CopyArchive(ctx context.Context, dir string) (archive.Copied, error) {
	a, err := s.existing()
	if err != nil {
		return archive.Copied{}, err
	}
	to, err := s.openArchive(dir)
	if err != nil {
		return archive.Copied{}, err
	}
	if to.Dir == a.Dir {
		return archive.Copied{}, usage("ostrov archive add DIR, then ostrov archive copy DIR", "%s is the archive that would be copied", dir)
	}
	all, err1 := a.Size()
	there, err2 := to.Size()
	if err := errors.Join(err1, err2); err != nil {
		return archive.Copied{}, err
	}
	done, err := a.CopyTo(ctx, to, s.counting("copy", max(all-there, 0)))
	return done, errors.Join(err, to.Close())
}

// RepairArchive replaces damaged content by that of the archive in dir, and returns the names of what was replaced.
func (s *Session) RepairArchive(ctx context.Context, dir string) ([]string, error) {
	a, err := s.existing()
	if err != nil {
		return nil, err
	}
	from, err := s.openArchive(dir)
	if err != nil {
		return nil, err
	}
	total, err := a.Size()
	if err != nil {
		return nil, errors.Join(err, from.Close())
	}
	repaired, err := a.Repair(ctx, from, s.counting("check", total))
	return repaired, errors.Join(err, from.Close())
}

// GlanceArchive looks whether all that snapshots use is there, without reading it.
func (s *Session) GlanceArchive(ctx context.Context) (archive.Report, error) {
	a, err := s.existing()
	if err != nil {
		return archive.Report{}, err
	}
	return a.Glance(ctx)
}

// PlanClear looks what clearing the archive by a rule would remove.
func (s *Session) PlanClear(rule archive.Rule) (*archive.Clearing, error) {
	a, err := s.existing()
	if err != nil {
		return nil, err
	}
	return a.PlanClear(rule, s.Now())
}

// Clear carries out a clearing.
func (s *Session) Clear(rule archive.Rule, c *archive.Clearing) error {
	a, err := s.Archive(false)
	if err != nil {
		return err
	}
	return a.Clear(rule, c, s.Now())
}
