package home

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"github.com/gofrs/flock"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/problem"
)

// standIn is a snapshot that was kept into the archive in Ostrov's home while no other was there.
type standIn struct {
	Playthrough string `json:"playthrough"`
	ID          string `json:"id"`
}

// ArchiveDir is the folder of the archive that snapshots go to: that of the open one, else the first one configured, else one in Ostrov's
// home.
func (h *Home) ArchiveDir() string {
	if h.archive != nil {
		return h.archive.Dir
	}
	return h.ArchiveDirs()[0]
}

// ArchiveDirs are the folders of all archives, the one that is kept into first.
func (h *Home) ArchiveDirs() []string {
	if len(h.config.Archives) > 0 {
		return h.config.Archives
	}
	return []string{h.ownArchive()}
}

// ownArchive is the archive in Ostrov's home, which stands in where no other can be written.
func (h *Home) ownArchive() string { return filepath.Join(h.Dir, "archive") }

// StandsIn reports whether an archive stands in for those that the player has chosen.
func (h *Home) StandsIn(a *archive.Archive) bool {
	return len(h.config.Archives) > 0 && !slices.Contains(h.config.Archives, a.Dir)
}

// Archive opens the archive to read from: the first of those configured that is there, else the one that stands in. The error is
// fs.ErrNotExist where there is none at all.
func (h *Home) Archive() (*archive.Archive, error) {
	if h.archive != nil {
		return h.archive, nil
	}
	var first error
	for _, dir := range append(slices.Clone(h.ArchiveDirs()), h.ownArchive()) {
		a, err := archive.Open(dir, h.archiveCache())
		if err == nil {
			h.archive = a
			if err := h.bringHome(context.Background(), a); err != nil {
				h.Log.Warn("what stood in was not copied yet", "error", err)
			}
			return a, nil
		}
		if !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		if first == nil {
			first = err
		}
	}
	return nil, first
}

// Existing is Archive for what makes no sense without one.
func (h *Home) Existing() (*archive.Archive, error) {
	a, err := h.Archive()
	if errors.Is(err, fs.ErrNotExist) {
		return nil, problem.New(problem.Do("keep"), "there is no archive in %s yet%w", h.ArchiveDir(), quiet{err})
	}
	return a, err
}

// quiet is a cause that adds no words.
type quiet struct{ error }

func (q quiet) Error() string { return "" }
func (q quiet) Unwrap() error { return q.error }

// ArchiveToKeep opens the archive to keep into: the first of those configured that is there and can be written, else the one in Ostrov's
// home, which is made where it is missing, so that a keep before a change never fails for a drive that is absent or read-only. away says
// why the player's own choice was passed over, or is nil.
func (h *Home) ArchiveToKeep() (a *archive.Archive, away error, err error) {
	for _, dir := range h.config.Archives {
		if h.archive == nil || h.archive.Dir != dir {
			if err := h.closeArchive(); err != nil {
				return nil, nil, err
			}
			h.archive, err = archive.Open(dir, h.archiveCache())
		}
		if err == nil {
			err = h.archive.Writable()
		}
		if err == nil {
			if err := h.bringHome(context.Background(), h.archive); err != nil {
				h.Log.Warn("what stood in was not copied yet", "error", err)
			}
			return h.archive, away, nil
		}
		if away == nil {
			away = err
		}
	}
	a, err = h.StandIn()
	return a, away, err
}

// StandIn opens the archive in Ostrov's home to keep into, making it where it is missing.
func (h *Home) StandIn() (*archive.Archive, error) {
	if h.archive != nil && h.archive.Dir == h.ownArchive() {
		return h.archive, nil
	}
	if err := h.closeArchive(); err != nil {
		return nil, err
	}
	a, err := archive.Open(h.ownArchive(), h.archiveCache())
	if errors.Is(err, fs.ErrNotExist) {
		a, err = archive.Create(h.ownArchive(), h.archiveCache())
	}
	if err == nil {
		h.archive = a
	}
	return a, err
}

func (h *Home) closeArchive() error {
	if h.archive == nil {
		return nil
	}
	a := h.archive
	h.archive = nil
	return a.Close()
}

// OpenArchive opens an archive that the player names.
func (h *Home) OpenArchive(dir string) (*archive.Archive, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	a, err := archive.Open(dir, h.archiveCache())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, problem.New(problem.Do("archive add", "DIR"), "there is no archive in %s%w", dir, quiet{err})
	}
	return a, err
}

func (h *Home) archiveCache() archive.Cache {
	if h.index == nil {
		return nil
	}
	return h.index
}

// UseArchive makes dir the archive that is kept into from now on.
func (h *Home) UseArchive(dir string) error {
	if err := h.closeArchive(); err != nil {
		return err
	}
	archives := []string{dir}
	for _, other := range h.config.Archives {
		if other != dir {
			archives = append(archives, other)
		}
	}
	h.config.Archives = archives
	return h.writeConfig()
}

func (h *Home) writeConfig() error {
	if err := h.RequireRecords(); err != nil {
		return err
	}
	h.config.Format = configFormat
	return h.Write("config.json", h.config)
}

// StoodIn notes a snapshot that was kept into the archive which stands in, to be copied when another is there again.
func (h *Home) StoodIn(snap *archive.Snapshot) error {
	h.config.StoodIn = append(h.config.StoodIn, standIn{snap.Playthrough, snap.ID})
	return h.writeConfig()
}

// bringHome copies into an archive that is there again what was kept meanwhile into the one that stood in for it.
func (h *Home) bringHome(ctx context.Context, to *archive.Archive) error {
	if len(h.config.StoodIn) == 0 || to.Dir == h.ownArchive() || h.Unrecorded != nil || h.ReadOnly {
		return nil
	}
	own, err := archive.Open(h.ownArchive(), h.archiveCache())
	if err != nil {
		return err
	}
	defer own.Close()
	for _, kept := range h.config.StoodIn {
		snap, err := own.NewestReadable(kept.Playthrough, func(x *archive.Snapshot) bool { return x.ID == kept.ID })
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
	h.config.StoodIn = nil
	return h.writeConfig()
}

// numbersFile has the highest number that was given to a snapshot of each playthrough: an archive that stands in for another does not have
// those that came before.
const numbersFile = "numbers.json"

// Numbering calls do with the highest number given to snapshots of a playthrough so far, and notes what do returns as the highest now. Of
// several Ostrovs on this machine only one is numbering at a time.
func (h *Home) Numbering(playthrough string, do func(above int) (int, error)) error {
	lock := flock.New(filepath.Join(h.Dir, "numbers.lock"))
	if err := lock.Lock(); err != nil {
		return err
	}
	defer lock.Unlock()
	numbers := map[string]int{}
	if err := h.Read(numbersFile, &numbers); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	n, err := do(numbers[playthrough])
	if err != nil || n <= numbers[playthrough] {
		return err
	}
	numbers[playthrough] = n
	return h.Write(numbersFile, numbers)
}

// IsFull reports whether an error says that a drive is full.
func IsFull(err error) bool { return isFull(err) }

// SameDrive reports whether two folders lie on one volume, as far as that can be told.
func SameDrive(a, b string) bool {
	_, err1 := os.Stat(a)
	_, err2 := os.Stat(b)
	return err1 == nil && err2 == nil && sameDrive(a, b)
}
