package home

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/gofrs/flock"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
)

// missed is a snapshot that was kept while an archive was not there.
type missed struct {
	Playthrough string `json:"playthrough"`
	ID          string `json:"id"`
}

// Away are the archives that the player has chosen and that are not there now: their drives are not connected.
func (h *Home) Away() []string {
	var away []string
	for _, dir := range h.config.Archives {
		if _, err := os.Stat(filepath.Join(dir, "archive.json")); err != nil {
			away = append(away, dir)
		}
	}
	return away
}

// OutOfReach is an error where a playthrough has snapshots that no archive has which is there now: what is newest there is not the newest.
func (h *Home) OutOfReach(playthrough string, newest *archive.Snapshot) error {
	away := h.Away()
	if len(away) == 0 {
		return nil
	}
	numbers := map[string]int{}
	if err := h.Read(numbersFile, &numbers); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	have := 0
	if newest != nil {
		have = newest.Number
	}
	if numbers[playthrough] <= have {
		return nil
	}
	return h.isAway(fmt.Sprintf("%s.%d", playthrough, numbers[playthrough]), away)
}

// isAway says that a snapshot may be in an archive that is not there.
func (h *Home) isAway(snapshot string, away []string) error {
	hints := problem.Advise("connect its drive, then try again").Or(problem.Do("archive"))
	return problem.New(hints, "%s is in none of the archives that are there; %s, which may have it, is not there now", snapshot, strings.Join(away, " and "))
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

// AllArchiveDirs are ArchiveDirs and the archive in Ostrov's home, which may stand in for them.
func (h *Home) AllArchiveDirs() []string {
	dirs := slices.Clone(h.ArchiveDirs())
	if !slices.Contains(dirs, h.ownArchive()) {
		dirs = append(dirs, h.ownArchive())
	}
	return dirs
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
	for _, dir := range h.AllArchiveDirs() {
		a, err := archive.Open(dir, h.archiveCache())
		if err == nil {
			h.archive = a
			h.catchUp(context.Background())
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

// IsKept reports whether a snapshot of any line has a save in a state, as far as the archive is there.
func (h *Home) IsKept(digest tree.Digest) bool {
	a, err := h.Archive()
	if err != nil || digest.IsZero() {
		return false
	}
	names, err := a.Playthroughs()
	return err == nil && slices.ContainsFunc(names, func(name string) bool {
		states, err := a.States(name)
		return err == nil && states.Holds(digest)
	})
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
			h.catchUp(context.Background())
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

// Missed notes that an archive did not get a snapshot, to be copied when it is there again.
func (h *Home) Missed(dir string, snap *archive.Snapshot) error {
	if h.config.Missed == nil {
		h.config.Missed = map[string][]missed{}
	}
	h.config.Missed[dir] = append(h.config.Missed[dir], missed{snap.Playthrough, snap.ID})
	return h.writeConfig()
}

// Lacks is how many snapshots an archive is known to lack, which it gets when it is there.
func (h *Home) Lacks(dir string) int { return len(h.config.Missed[dir]) }

// catchUp copies into archives that are there again what was kept meanwhile. What fails is tried again by the next command.
func (h *Home) catchUp(ctx context.Context) {
	if len(h.config.StoodIn) > 0 && len(h.config.Archives) > 0 {
		h.config.Missed = map[string][]missed{h.config.Archives[0]: h.config.StoodIn}
		h.config.StoodIn = nil
	}
	if len(h.config.Missed) == 0 || h.Unrecorded != nil || h.ReadOnly {
		return
	}
	there := map[string]*archive.Archive{}
	for _, dir := range h.AllArchiveDirs() {
		if a, err := archive.Open(dir, nil); err == nil {
			defer a.Close()
			there[dir] = a
		}
	}
	changed := false
	for dir, list := range h.config.Missed {
		to := there[dir]
		if !slices.Contains(h.config.Archives, dir) { // it is not the player's choice any more
			delete(h.config.Missed, dir)
			changed = true
			continue
		}
		if to == nil || to.Writable() != nil {
			continue
		}
		var still []missed
		for _, m := range list {
			err := bring(ctx, m, to, there)
			if err != nil && (!errors.Is(err, fs.ErrNotExist) || len(h.Away()) > 0) {
				h.Log.Warn("a snapshot was not copied yet", "archive", dir, "error", err)
				still = append(still, m)
			}
		}
		if changed = changed || len(still) != len(list); len(still) == 0 {
			delete(h.config.Missed, dir)
		} else {
			h.config.Missed[dir] = still
		}
	}
	if changed {
		if err := h.writeConfig(); err != nil {
			h.Log.Warn("what was copied is not noted", "error", err)
		}
	}
}

// bring copies a snapshot into an archive from one that has it; fs.ErrNotExist where none has.
func bring(ctx context.Context, m missed, to *archive.Archive, there map[string]*archive.Archive) error {
	if to.Has(m.Playthrough, m.ID) {
		return nil
	}
	for _, from := range there {
		if from == to || !from.Has(m.Playthrough, m.ID) {
			continue
		}
		snap, err := from.NewestReadable(m.Playthrough, func(x *archive.Snapshot) bool { return x.ID == m.ID })
		if err == nil && snap != nil {
			_, err = from.CopySnapshot(ctx, to, snap)
		}
		return err
	}
	return fs.ErrNotExist
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
