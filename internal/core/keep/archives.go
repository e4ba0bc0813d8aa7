package keep

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/problem"
)

// toOthers copies a snapshot that was just kept into all other archives that are there, and names those that are not.
func toOthers(ctx context.Context, h *home.Home, from *archive.Archive, snap *archive.Snapshot, kept *Kept) error {
	for _, dir := range h.ArchiveDirs() {
		if dir == from.Dir || h.StandsIn(from) {
			continue
		}
		to, err := archive.Open(dir, nil)
		if errors.Is(err, fs.ErrNotExist) {
			f := check.New(check.ArchiveAway, dir, "is not there now; it gets this snapshot when it is")
			kept.Findings = append(kept.Findings, f)
			if err := h.Missed(dir, snap); err != nil {
				return err
			}
			continue
		}
		if err != nil {
			return err
		}
		_, err = from.CopySnapshot(ctx, to, snap)
		if err = errors.Join(err, to.Close()); err != nil {
			return problem.New(problem.Do("archive copy", dir), "kept in %s, but not in %s: %w", from.Dir, dir, err)
		}
		kept.Copies = append(kept.Copies, dir)
	}
	return nil
}

// Remark gives a snapshot another note and other tags, in all archives that are there and have it. One that is away gets them with the next copy.
func Remark(h *home.Home, snap *archive.Snapshot, note string, tags []string) error {
	from, err := h.Archive()
	if err != nil {
		return err
	}
	if err := from.Remark(snap, note, tags); err != nil {
		return err
	}
	for _, dir := range h.ArchiveDirs() {
		if dir == from.Dir {
			continue
		}
		to, err := archive.Open(dir, nil)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil && to.Has(snap.Playthrough, snap.ID) {
			err = to.Remark(snap, note, tags)
		}
		if err != nil {
			return problem.New(problem.Do("archive verify"), "noted in %s, but not in %s: %w", from.Dir, dir, err)
		}
	}
	return nil
}

// CheckArchive says where an archive that the player names would lie, and refuses one inside a game's folders, or around them.
func CheckArchive(ctx context.Context, h *home.Home, dir string) (string, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return "", err
	}
	if real, err := filepath.EvalSymlinks(filepath.Dir(dir)); err == nil {
		dir = filepath.Join(real, filepath.Base(dir))
	}
	for _, in := range h.Installs {
		if err := in.Open(); err != nil {
			continue
		}
		folders, err := in.Folders(ctx)
		if err != nil {
			return "", err
		}
		for _, path := range append([]string{in.Root}, game.Paths(folders)...) {
			if dir == path || game.Within(dir, path) || game.Within(path, dir) {
				return "", problem.Usage(problem.Advise("choose a folder elsewhere, best on another drive"), "%s overlaps %s, a folder of %s: the game would find the snapshots there", dir, path, in.Game.Title)
			}
		}
	}
	return dir, nil
}

// AddArchive makes dir, as CheckArchive returned it, the archive that snapshots go to. It is created where it is missing. What the archive
// in use has until now is copied into it, so that it stays in sight; what was interrupted goes on from there.
func AddArchive(ctx context.Context, h *home.Home, dir string) (created bool, copied archive.Copied, err error) {
	if err := h.RequireRecords(); err != nil {
		return false, copied, err
	}
	a, err := archive.Open(dir, nil)
	if errors.Is(err, fs.ErrNotExist) {
		a, err = archive.Create(dir, nil)
		created = true
	}
	if err != nil {
		return false, copied, err
	}
	defer a.Close()
	if before, err := h.Archive(); err == nil && before.Dir != a.Dir {
		size, err := before.Size()
		if err != nil {
			return created, copied, err
		}
		if copied, err = before.CopyTo(ctx, a, h.Counting("copy", size)); err != nil {
			return created, copied, err
		}
	}
	return created, copied, h.UseArchive(dir)
}

// CopyArchive copies what the archive in dir lacks from the one that is kept into. Without do it only says what would be copied.
func CopyArchive(ctx context.Context, h *home.Home, dir string, do bool) (archive.Copied, error) {
	a, err := h.Existing()
	if err != nil {
		return archive.Copied{}, err
	}
	to, err := h.OpenArchive(dir)
	if err != nil {
		return archive.Copied{}, err
	}
	defer to.Close()
	if to.Dir == a.Dir {
		return archive.Copied{}, problem.Usage(problem.Do("archive add", "DIR").Or(problem.Do("archive copy", "DIR")), "%s is the archive that would be copied", dir)
	}
	if !do {
		return a.Lacks(to)
	}
	all, err1 := a.Size()
	there, err2 := to.Size()
	if err := errors.Join(err1, err2); err != nil {
		return archive.Copied{}, err
	}
	return a.CopyTo(ctx, to, h.Counting("copy", max(all-there, 0)))
}

// RepairArchive replaces damaged content by that of the archive in dir, and returns the names of what was replaced.
func RepairArchive(ctx context.Context, h *home.Home, dir string) ([]string, error) {
	a, err := h.Existing()
	if err != nil {
		return nil, err
	}
	from, err := h.OpenArchive(dir)
	if err != nil {
		return nil, err
	}
	defer from.Close()
	total, err := a.Size()
	if err != nil {
		return nil, err
	}
	return a.Repair(ctx, from, h.Counting("check", total))
}

// ArchiveState is one of the archives.
type ArchiveState struct {
	Dir  string `json:"dir"`
	Away bool   `json:"away,omitempty"` // it is not there now
	Size int64  `json:"size"`
	// StandsIn tells that it is the one in Ostrov's home, which is kept into while no chosen one is there.
	StandsIn bool `json:"stands_in,omitempty"`
	// Lacks is how many snapshots it will get when it is there again.
	Lacks int `json:"lacks,omitempty"`
	// Report is what checking it found, where it was checked.
	Report *archive.Report `json:"report,omitempty"`
}

// eachArchive calls do with all archives, those that are away too; a is nil for these.
func eachArchive(h *home.Home, do func(s ArchiveState, a *archive.Archive) error) error {
	if _, err := h.Archive(); err != nil && !errors.Is(err, fs.ErrNotExist) { // it also brings what others lack
		return err
	}
	away := h.Away()
	for _, dir := range h.AllArchiveDirs() {
		s := ArchiveState{Dir: dir, Away: slices.Contains(away, dir), StandsIn: !slices.Contains(h.ArchiveDirs(), dir), Lacks: h.Lacks(dir)}
		a, err := archive.Open(dir, nil)
		switch {
		case s.Away:
			err = do(s, nil)
		case errors.Is(err, fs.ErrNotExist): // the one in Ostrov's home may not be there yet
			err = nil
		case err == nil:
			err = errors.Join(do(s, a), a.Close())
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Archives are all archives, the one that is kept into first.
func Archives(h *home.Home) ([]ArchiveState, error) {
	var all []ArchiveState
	err := eachArchive(h, func(s ArchiveState, a *archive.Archive) (err error) {
		if a != nil {
			s.Size, err = a.Size()
		}
		all = append(all, s)
		return err
	})
	return all, err
}

// VerifyArchives proves each archive that is there whole, or names what is damaged. Fast only looks whether all that snapshots use is there,
// without reading it.
func VerifyArchives(ctx context.Context, h *home.Home, fast bool) ([]ArchiveState, error) {
	if _, err := h.Existing(); err != nil && len(h.Away()) == 0 {
		return nil, err
	}
	var all []ArchiveState
	err := eachArchive(h, func(s ArchiveState, a *archive.Archive) (err error) {
		if a != nil {
			if s.Size, err = a.Size(); err != nil {
				return err
			}
			var r archive.Report
			if fast {
				r, err = a.Glance(ctx)
			} else {
				r, err = a.Verify(ctx, h.Counting("verify "+s.Dir, s.Size))
			}
			if r.Damage == nil {
				r.Damage = []archive.Damage{}
			}
			s.Report = &r
		}
		all = append(all, s)
		return err
	})
	return all, err
}
