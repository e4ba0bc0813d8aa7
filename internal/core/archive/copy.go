package archive

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"ostrov/internal/core/durable"
	"ostrov/internal/core/tree"
)

// Copied is what copying one archive into another did.
type Copied struct {
	Snapshots int   `json:"snapshots"`
	Files     int   `json:"content_files"`
	Bytes     int64 `json:"bytes"`
}

// CopyTo copies into another archive what that one lacks: first the content of each snapshot, then the snapshot. Each file is written
// whole or not at all, so that what was interrupted goes on from there. Content files are never altered and named at random: one of the
// same name is the same. What is damaged is not passed on: the snapshots that use it are left out, and the error, ErrDamaged, names them
// when all others are copied. progress is told the bytes copied.
func (a *Archive) CopyTo(ctx context.Context, to *Archive, progress func(n int64)) (Copied, error) {
	var done Copied
	names, err := a.Playthroughs()
	if err != nil {
		return done, err
	}
	var damaged error
	for _, name := range names {
		snapshots, broken, err := a.Snapshots(name)
		if err != nil {
			return done, err
		}
		for _, b := range broken {
			damaged = errors.Join(damaged, fmt.Errorf("%s is not copied: %w", a.relative(b.File), b.Err))
		}
		for _, s := range snapshots {
			switch err := a.copySnapshot(ctx, to, s, &done, progress); {
			case errors.Is(err, ErrDamaged), errors.Is(err, fs.ErrNotExist):
				damaged = errors.Join(damaged, fmt.Errorf("%s is not copied: %w", s.Address(), err))
			case err != nil:
				return done, err
			}
		}
	}
	if err := a.copyDownloads(ctx, to, &done, progress); err != nil {
		return done, err
	}
	return done, damaged
}

// CopySnapshot copies one snapshot into another archive.
func (a *Archive) CopySnapshot(ctx context.Context, to *Archive, s *Snapshot) (Copied, error) {
	var done Copied
	err := a.copySnapshot(ctx, to, s, &done, func(int64) {})
	return done, err
}

func (a *Archive) copySnapshot(ctx context.Context, to *Archive, s *Snapshot, done *Copied, progress func(int64)) error {
	rel := filepath.Join("playthroughs", s.Playthrough, s.ID+".json")
	if _, err := os.Stat(filepath.Join(to.Dir, rel)); err == nil {
		return a.copyRemark(to, s)
	}
	for _, c := range s.Content {
		n, err := a.copyFile(ctx, to, filepath.Join("content", c))
		if err != nil {
			return err
		}
		if n > 0 {
			done.Files, done.Bytes = done.Files+1, done.Bytes+n
			progress(n)
		}
	}
	if err := os.MkdirAll(filepath.Join(to.Dir, "playthroughs", s.Playthrough), folderMode); err != nil {
		return err
	}
	n, err := a.copyFile(ctx, to, rel)
	if err != nil {
		return err
	}
	done.Snapshots, done.Bytes = done.Snapshots+1, done.Bytes+n
	to.where = nil // it has more than was known
	return errors.Join(a.copyRemark(to, s), to.declare([]string{s.name()}, nil))
}

// copyFile copies one file that the other archive lacks and returns its size; 0 where it is there.
func (a *Archive) copyFile(ctx context.Context, to *Archive, rel string) (int64, error) {
	target := filepath.Join(to.Dir, rel)
	source := filepath.Join(a.Dir, rel)
	info, err := os.Stat(source)
	if err != nil {
		return 0, err
	}
	if there, err := os.Stat(target); err == nil && there.Size() == info.Size() {
		return 0, nil
	}
	return info.Size(), copyOver(ctx, source, target)
}

// copyOver writes a copy of source under the name target, whole or not at all. A source whose seal does not hold is ErrDamaged.
func copyOver(ctx context.Context, source, target string) error {
	in, err := tree.Open(source)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.CreateTemp(filepath.Dir(target), partName())
	if err != nil {
		return err
	}
	_, _, err = tree.SumReader(ctx, in, false, out)
	if err == nil {
		if err = checkSealAt(out.Name(), target); errors.Is(err, errUnsealed) {
			err = nil // it is no better here
		}
		if err != nil {
			err = fmt.Errorf("%s: %w", filepath.Base(source), err)
		}
	}
	return durable.Publish(out, target, fileMode, err)
}

// Repair replaces what is damaged, and content that is missing, by what another archive has, where that is whole, and returns the names of
// what it replaced. progress is told the bytes looked at.
func (a *Archive) Repair(ctx context.Context, from *Archive, progress func(n int64)) ([]string, error) {
	names, err := a.Playthroughs()
	if err != nil {
		return nil, err
	}
	repaired, err := a.repairSnapshots(ctx, from, names)
	if err != nil {
		return repaired, err
	}
	checked := map[string]bool{}
	for _, name := range names {
		snapshots, _, err := a.Snapshots(name)
		if err != nil {
			return repaired, err
		}
		for _, s := range snapshots {
			for _, c := range s.Content {
				if checked[c] {
					continue
				}
				checked[c] = true
				own, other := filepath.Join(a.Dir, "content", c), filepath.Join(from.Dir, "content", c)
				if info, err := os.Stat(own); err == nil {
					progress(info.Size())
				}
				if checkContent(ctx, own) == nil {
					continue
				}
				if err := checkContent(ctx, other); err != nil {
					continue // not there, or no better
				}
				if err := copyOver(ctx, other, own); err != nil {
					return repaired, err
				}
				repaired = append(repaired, c)
			}
		}
	}
	a.where = nil
	return repaired, errors.Join(a.open.close())
}

// repairSnapshots replaces the JSON of snapshots whose seal does not hold.
func (a *Archive) repairSnapshots(ctx context.Context, from *Archive, names []string) ([]string, error) {
	var repaired []string
	for _, name := range names {
		ids, err := a.ids(name)
		if err != nil {
			return repaired, err
		}
		for _, id := range ids {
			own, other := a.snapshotFile(name, id), from.snapshotFile(name, id)
			if checkSealedFile(own) == nil || checkSealedFile(other) != nil {
				continue
			}
			if err := copyOver(ctx, other, own); err != nil {
				return repaired, err
			}
			repaired = append(repaired, a.relative(own))
		}
	}
	return repaired, nil
}

// Glance looks whether every content file that a snapshot uses is there and has a directory that can be read, without reading what is in
// it.
func (a *Archive) Glance(ctx context.Context) (Report, error) {
	var r Report
	names, err := a.Playthroughs()
	if err != nil {
		return r, err
	}
	wrong := map[string]string{} // content file: what is wrong with it, or ""
	touches := map[string][]string{}
	for _, name := range names {
		snapshots, broken, err := a.Snapshots(name)
		if err != nil {
			return r, err
		}
		for _, b := range broken {
			r.Damage = append(r.Damage, Damage{What: fmt.Sprintf("%s: %v", a.relative(b.File), b.Err), Touches: []string{"a snapshot of " + name}})
		}
		for _, s := range snapshots {
			if err := ctx.Err(); err != nil {
				return r, err
			}
			r.Snapshots++
			for _, c := range s.Content {
				what, known := wrong[c]
				if !known {
					what = a.glanceAt(c, &r)
					wrong[c] = what
				}
				if what != "" {
					touches[what] = append(touches[what], s.Address())
				}
			}
		}
	}
	r.report(touches)
	return r, nil
}

func (a *Archive) glanceAt(name string, r *Report) string {
	digests, err := listZip(filepath.Join(a.Dir, "content", name))
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fmt.Sprintf("content/%s is %v", name, ErrMissing)
	case err != nil:
		return fmt.Sprintf("content/%s: %v", name, err)
	}
	r.Files++
	r.Entries += len(digests)
	if info, err := os.Stat(filepath.Join(a.Dir, "content", name)); err == nil {
		r.Bytes += info.Size()
	}
	return ""
}

// Lacks is what CopyTo would copy into another archive.
func (a *Archive) Lacks(to *Archive) (Copied, error) {
	var c Copied
	names, err := a.Playthroughs()
	if err != nil {
		return c, err
	}
	counted := map[string]bool{}
	for _, name := range names {
		all, _, err := a.Snapshots(name)
		if err != nil {
			return c, err
		}
		for _, s := range all {
			if to.Has(name, s.ID) {
				continue
			}
			c.Snapshots++
			for _, file := range s.Content {
				info, err := os.Stat(filepath.Join(a.Dir, "content", file))
				if _, there := os.Stat(filepath.Join(to.Dir, "content", file)); err != nil || there == nil || counted[file] {
					continue
				}
				counted[file] = true
				c.Files, c.Bytes = c.Files+1, c.Bytes+info.Size()
			}
		}
	}
	return c, nil
}
