package archive

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/tree"
)

// Broken is a snapshot that cannot be read.
type Broken struct {
	File    string
	Address string
	Err     error
}

// UnreadableError says that the snapshot which was asked for is there and cannot be read.
type UnreadableError struct {
	Broken
	// Older is the next older one that can be read, or nil.
	Older *Snapshot
}

func (e *UnreadableError) Error() string {
	return fmt.Sprintf("%s cannot be read: %v", e.Address, e.Err)
}

// Unwrap is why.
func (e *UnreadableError) Unwrap() error { return e.Err }

// Playthroughs are the names of the playthroughs that have snapshots, sorted.
func (a *Archive) Playthroughs() ([]string, error) {
	list, err := os.ReadDir(filepath.Join(a.Dir, "playthroughs"))
	if err != nil {
		return nil, err
	}
	var names []string
	for _, e := range list {
		if e.IsDir() && namePattern().MatchString(e.Name()) {
			names = append(names, e.Name())
		}
	}
	return names, nil
}

// ids are those of a playthrough's snapshots, in no order that means anything: machines' clocks differ.
func (a *Archive) ids(playthrough string) ([]string, error) {
	if err := CheckName(playthrough); err != nil {
		return nil, err
	}
	list, err := os.ReadDir(filepath.Join(a.Dir, "playthroughs", playthrough))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var ids []string
	for _, e := range list {
		if id, ok := strings.CutSuffix(e.Name(), ".json"); ok && snapshotPattern().MatchString(id) {
			ids = append(ids, id)
		}
	}
	return ids, nil
}

// numbered is a snapshot with its number.
type numbered struct {
	id     string
	number int
	twin   string
}

func (n numbered) address(playthrough string) string {
	return fmt.Sprintf("%s.%d%s", playthrough, n.number, n.twin)
}

// numbers are a playthrough's snapshots in the order of their numbers. One of which the number cannot be read has the one that follows the
// snapshot before.
func (a *Archive) numbers(playthrough string) ([]numbered, error) {
	ids, err := a.ids(playthrough)
	if err != nil {
		return nil, err
	}
	slices.Sort(ids) // by time: that orders the ones of the first archives, and twins
	known := a.knownNumbers(playthrough, ids)
	legacy, err := a.legacyNumbers()
	if err != nil {
		return nil, err
	}
	all := make([]numbered, len(ids))
	last, count := 0, 0
	for i, id := range ids {
		n := known[id]
		if n == unnumbered {
			if count++; legacy[playthrough+"/"+id] > 0 {
				count = legacy[playthrough+"/"+id]
			}
			n = count
		} else if n == 0 { // it cannot be read: most likely it followed the one before
			n = last + 1
		}
		all[i], last = numbered{id: id, number: n}, n
	}
	slices.SortStableFunc(all, func(x, y numbered) int { return cmp.Compare(x.number, y.number) })
	for i := 1; i < len(all); i++ {
		twins := 0
		for j := i - 1; j >= 0 && all[j].number == all[i].number; j-- {
			twins++
		}
		if twins > 0 {
			all[i].twin = string(rune('a' + min(twins, 25)))
		}
	}
	return all, nil
}

// unnumbered is what is known of snapshots that do not say their number.
const unnumbered = -1

// knownNumbers are the numbers that snapshots say they have: unnumbered where one does not say it, and 0 where it cannot be read. They
// never change, so they are remembered.
func (a *Archive) knownNumbers(playthrough string, ids []string) map[string]int {
	place := "numbers of " + a.ID + " " + playthrough
	if a.numbersOf == nil {
		a.numbersOf = map[string]map[string]int{}
	}
	known := a.numbersOf[playthrough]
	if known == nil {
		known = map[string]int{}
		if a.cache != nil {
			a.cache.Recall(place, tree.Digest{1}, &known)
		}
		a.numbersOf[playthrough] = known
	}
	fresh := false
	for _, id := range ids {
		if known[id] != 0 {
			continue
		}
		s, err := a.read(playthrough, id)
		switch {
		case err != nil:
			continue
		case s.Number == 0:
			known[id] = unnumbered
		default:
			known[id] = s.Number
		}
		fresh = true
	}
	if fresh && a.cache != nil {
		a.cache.Note(place, tree.Digest{1}, known)
	}
	return known
}

// Last is the highest number that a playthrough's snapshots have, or 0.
func (a *Archive) Last(playthrough string) (int, error) {
	all, err := a.numbers(playthrough)
	last := 0
	for _, n := range all {
		last = max(last, n.number)
	}
	return last, err
}

// Addresses are how commands name the snapshots of a playthrough, oldest first.
func (a *Archive) Addresses(playthrough string) ([]string, error) {
	all, err := a.numbers(playthrough)
	var names []string
	for _, n := range all {
		names = append(names, n.address(playthrough))
	}
	return names, err
}

// Snapshot reads the one of a playthrough that has the number and, where two machines gave the same one, the letter. It is fs.ErrNotExist
// where there is none, and an UnreadableError where that is damaged.
func (a *Archive) Snapshot(playthrough string, number int, twin string) (*Snapshot, error) {
	all, err := a.numbers(playthrough)
	if err != nil {
		return nil, err
	}
	for i, n := range all {
		if n.number == number && n.twin == twin && number > 0 {
			s, err := a.at(playthrough, n)
			if err != nil {
				return nil, a.unreadable(playthrough, all, i, err, Any)
			}
			return s, nil
		}
	}
	return nil, fmt.Errorf("%s.%d%s: %w", playthrough, number, twin, fs.ErrNotExist)
}

// unreadable is the error for the snapshot at place i.
func (a *Archive) unreadable(playthrough string, all []numbered, i int, why error, ok func(*Snapshot) bool) error {
	e := &UnreadableError{Broken: Broken{a.snapshotFile(playthrough, all[i].id), all[i].address(playthrough), why}}
	for _, n := range slices.Backward(all[:i]) {
		if s, err := a.at(playthrough, n); err == nil && ok(s) {
			e.Older = s
			break
		}
	}
	return e
}

// Newest reads the newest of a playthrough's snapshots for which ok holds. It is nil where there is none. Where a newer one cannot be
// read, so that nobody knows whether it is the one, that is an UnreadableError.
func (a *Archive) Newest(playthrough string, ok func(*Snapshot) bool) (*Snapshot, error) {
	all, err := a.numbers(playthrough)
	if err != nil {
		return nil, err
	}
	for i, n := range slices.Backward(all) {
		s, err := a.at(playthrough, n)
		if err != nil {
			return nil, a.unreadable(playthrough, all, i, err, ok)
		}
		if ok(s) {
			return s, nil
		}
	}
	return nil, nil
}

// NewestReadable is Newest for what only builds on a snapshot: one that cannot be read is passed over.
func (a *Archive) NewestReadable(playthrough string, ok func(*Snapshot) bool) (*Snapshot, error) {
	s, err := a.Newest(playthrough, ok)
	if damaged := (*UnreadableError)(nil); errors.As(err, &damaged) {
		return damaged.Older, nil
	}
	return s, err
}

// Any is what Newest asks for where every snapshot will do.
func Any(*Snapshot) bool { return true }

// OnPurpose is what Newest asks for where only a snapshot will do that the player asked for.
func OnPurpose(s *Snapshot) bool { return s.Before == "" && !s.ByHand }

// Snapshots reads those of a playthrough, oldest first, and names those that cannot be read.
func (a *Archive) Snapshots(playthrough string) ([]*Snapshot, []Broken, error) {
	ids, err := a.numbers(playthrough)
	if err != nil {
		return nil, nil, err
	}
	var all []*Snapshot
	var broken []Broken
	for _, n := range ids {
		s, err := a.at(playthrough, n)
		if err != nil {
			broken = append(broken, Broken{a.snapshotFile(playthrough, n.id), n.address(playthrough), err})
			continue
		}
		all = append(all, s)
	}
	return all, broken, nil
}

// Has reports whether a snapshot is in the archive.
func (a *Archive) Has(playthrough, id string) bool {
	if !namePattern().MatchString(playthrough) || !snapshotPattern().MatchString(id) {
		return false
	}
	_, err := os.Stat(a.snapshotFile(playthrough, id))
	return err == nil
}

// at reads a snapshot and numbers it.
func (a *Archive) at(playthrough string, n numbered) (*Snapshot, error) {
	s, err := a.read(playthrough, n.id)
	if err == nil {
		s.Number, s.Twin = n.number, n.twin
	}
	return s, err
}

func (a *Archive) read(playthrough, id string) (*Snapshot, error) {
	data, err := readBounded(a.snapshotFile(playthrough, id))
	if err != nil {
		return nil, err
	}
	s, err := parseSnapshot(data)
	if err == nil && (s.ID != id || s.Playthrough != playthrough) {
		err = fmt.Errorf("%w: it is of %.80q %.80q", ErrDamaged, s.Playthrough, s.ID)
	}
	if err != nil {
		return nil, err
	}
	return a.remarked(s), nil
}

// legacyFile has the numbers that snapshots of the first archives had, by playthrough and id, once some of these have been cleared.
const legacyFile = "numbers.json"

func (a *Archive) legacyNumbers() (map[string]int, error) {
	var file struct {
		Numbers map[string]int `json:"numbers"`
	}
	err := a.readSmall(legacyFile, &file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return file.Numbers, err
}

// keepLegacyNumbers writes down the numbers of snapshots that do not say them, before some of them go.
func (a *Archive) keepLegacyNumbers() error {
	names, err := a.Playthroughs()
	if err != nil {
		return err
	}
	numbers := map[string]int{}
	for _, name := range names {
		all, err := a.numbers(name)
		if err != nil {
			return err
		}
		for _, n := range all {
			if a.numbersOf[name][n.id] == unnumbered {
				numbers[name+"/"+n.id] = n.number
			}
		}
	}
	if len(numbers) == 0 {
		return nil
	}
	return a.publishSmall(legacyFile, map[string]any{"ostrov_numbers": 1, "numbers": numbers})
}
