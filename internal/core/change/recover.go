package change

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"time"
)

// Vouch says whether Ostrov's home knows a change by just this digest. A journal that nothing vouches for was written by another home, or
// by nobody who may: it is shown, and acted on only when the player says so.
type Vouch func(id, digest string) bool

// UnfinishedError says that a change of a folder is not finished.
type UnfinishedError struct{ Root string }

func (e *UnfinishedError) Error() string { return "a change of " + e.Root + " is not finished" }

// UnknownError says that beside a folder lies the journal of a change that this Ostrov has not made.
type UnknownError struct {
	Root   string
	Record *Record // what it says; not to be believed
}

func (e *UnknownError) Error() string {
	return fmt.Sprintf("beside %s lies a change that is not finished and was not made from here: %q", e.Root, e.Record.Title)
}

// Unfinished returns the change of one of the folders that is not finished, or nil. Nothing is touched, and nothing that it says is to be
// believed.
func Unfinished(roots, listed []string) (*Record, error) {
	for _, root := range roots {
		a, err := findArea(root, listed, false)
		if err != nil {
			return nil, err
		}
		if a == nil || !exists(a.journalFile()) {
			continue
		}
		r, err := readJournal(a)
		if errors.Is(err, fs.ErrNotExist) { // finished meanwhile
			continue
		}
		return r, err
	}
	return nil, nil
}

// Recover puts in order what an interrupted Ostrov left of changes of the folders: a change that had happened is concluded, another one is
// rolled back. It reports which changes these were. listed is as in Plan. Folders that another Ostrov is changing at this moment are left
// to it. A journal that vouch does not know is an UnknownError, and left alone, unless its digest is believe and all that it concerns lies
// in roots.
func Recover(ctx context.Context, roots, listed []string, vouch Vouch, believe string) ([]*Record, error) {
	var did []*Record
	for _, root := range roots {
		r, err := Unfinished([]string{root}, listed)
		if err != nil {
			return did, err
		}
		if r == nil {
			continue
		}
		if known := vouch(r.ID, r.Digest()); !known {
			outside := slices.ContainsFunc(r.Roots(), func(other string) bool { return !slices.Contains(roots, other) })
			if believe != r.Digest() || outside {
				return did, &UnknownError{root, r}
			}
		}
		switch err := finish(ctx, r, listed); {
		case errors.As(err, new(*LockedError)):
			continue
		case err != nil:
			return did, fmt.Errorf("putting in order what an interrupted command left: %w", err)
		}
		did = append(did, r)
	}
	return did, nil
}

// finish concludes a change that had happened and rolls another one back.
func finish(ctx context.Context, r *Record, listed []string) error {
	locked, err := lockAreas(ctx, r.Roots(), listed, false, 100*time.Millisecond)
	if err != nil {
		return err
	}
	defer locked.unlock()
	t := &transaction{ctx, Plan{}, r, locked}
	for _, root := range r.Roots() {
		if locked.of[root] == nil {
			return fmt.Errorf("%s has no place for changes any more", root)
		}
	}
	happened, err := t.happened()
	switch {
	case err != nil:
		return err
	case happened:
		r.State = done
		return t.conclude()
	}
	if t.over() { // another Ostrov has put it in order meanwhile
		return nil
	}
	return t.rollBack()
}

// happened reports whether the change has passed its commit point: the lead's journal says so, or the lead has its record.
func (t *transaction) happened() (bool, error) {
	lead := t.lead()
	j, err := readJournal(lead)
	if err == nil && j.ID == t.r.ID {
		return j.State == done, nil
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return false, err
	}
	return exists(lead.recordFile(t.r.ID)), nil
}

// over reports whether no area has a journal of the change any more.
func (t *transaction) over() bool {
	return !slices.ContainsFunc(t.leadLast(), func(a *area) bool { return exists(a.journalFile()) })
}

// readJournal reads the journal of an area. In format 1 those of areas that another one leads only named that one.
func readJournal(a *area) (*Record, error) {
	r, err := readRecord(a.journalFile())
	if err == nil || errors.Is(err, fs.ErrNotExist) {
		return r, err
	}
	if lead, ok := firstPointer(a.journalFile()); ok {
		for _, file := range []string{lead.journalFile(), lead.recordFile(lead.root)} {
			if r, err := readRecord(file); err == nil {
				return r, nil
			}
		}
	}
	return nil, err
}
