// Package change alters game folders so that no crash, full disk or second Ostrov can leave them half done, and takes changes back.
//
// A Plan names targets (a file or a folder in some folder) and what each is to become. Apply stages everything new on the same volume,
// writes a journal beside each folder, exchanges old for new by renames and keeps the old beside; Recover rolls an interrupted change
// back, or concludes it where it had happened; Undo exchanges the other way round. What is replaced is never deleted but moved aside
// whole, and stays there at least until a snapshot holds it: an Item that replaces something must say what keeps the old bytes (Safe).
//
// The promise: after a crash at any instant and the next Recover, all targets are in their old state, or all in their new one. A journal
// is believed only if Ostrov's own home knows it (Vouch). The package knows paths, not games. Areas, journals and locks are described in
// docs/formats.md.
package change

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"
)

// Item is one target of a change.
type Item struct {
	// Root is the folder that holds the target: absolute, links resolved. It is made when it is missing and Create is set.
	Root   string
	Create bool
	// Name is the target's path below Root, slash-separated. Missing folders on the way to it are made; links on the way are refused.
	Name string
	// Fill writes what the target is to become into the stage; nil removes the target.
	Fill func(ctx context.Context, stage *Stage) error
	// From, instead of Fill, is what the target is to become: a place in the area of Root, as Exchange.Old of an earlier change names it. It is
	// moved into its place as it is, with all its times. Taken back, it returns to that place.
	From string
	// Expect, when not nil, is what the target must be just before the exchange; else the change fails with ErrChanged.
	Expect *Signature
	// Safe is what keeps what is there now. Source is what keeps what Fill writes, where something does.
	Safe   Safe
	Source Safe

	to   string // for Undo: the place in the area to which the old content returns, or ""
	made int    // for Undo: how many folders above the target go with it when they are empty
}

// Plan is a change that has not been made.
type Plan struct {
	Title   string // what it does, for people
	Install string // whose folders it changes
	Items   []Item
	// Listed are folders that the game lists: nothing is staged in or directly beside what lies in them.
	Listed []string
	// Guard is asked just before the exchange whether it may happen; nil always may.
	Guard func() error
	// Announce is called when everything is staged, before anything is exchanged: a crash after the commit must not leave a change that
	// nobody can find. It may announce a change that then does not happen, and so has no record.
	Announce func(*Record) error
	// Held reports whether what keeps the old content of an earlier change is still there. nil: it is not.
	Held func(*Record, Exchange) bool
	// Vouch is as for Recover.
	Vouch Vouch
	// Above is the highest number of a change that is known; the change gets a higher one.
	Above int64
	// Now is the time of the change, for people.
	Now time.Time
	// Wait is how long to wait for another Ostrov that is changing the same folder.
	Wait time.Duration

	of     string
	back   bool
	undoes bool
}

// Errors that callers tell apart.
var (
	// ErrChanged says that a target is not what it was when the change was planned or made.
	ErrChanged = errors.New("has changed meanwhile")
	// ErrNoRoom says that there is nowhere to stage a change.
	ErrNoRoom = errors.New("no place to prepare the change")
	// ErrUnsafe says that nothing would keep what a change replaces.
	ErrUnsafe = errors.New("would be lost: nothing keeps it")
	// ErrLink says that a link lies on the way to a target.
	ErrLink = errors.New("is a link; nothing is changed through it")
)

// LockedError says that another Ostrov holds a folder.
type LockedError struct{ Folder, Holder string }

func (e *LockedError) Error() string {
	return fmt.Sprintf("%s is being changed by %s; try again when that is done", e.Folder, e.Holder)
}

// Apply makes the change, or leaves everything as it was and says why not.
func Apply(ctx context.Context, p Plan) (*Record, error) {
	if len(p.Items) == 0 {
		return nil, errors.New("nothing to change")
	}
	var roots []string
	for _, item := range p.Items {
		roots = append(roots, item.Root)
	}
	locked, err := lockAreas(ctx, roots, p.Listed, true, p.Wait)
	if err != nil {
		return nil, err
	}
	defer locked.unlock()
	last := p.Above
	for _, a := range locked.of {
		if exists(a.journalFile()) { // another Ostrov was killed since the caller has put things in order
			return nil, &UnfinishedError{a.root}
		}
		if err := a.sweep(); err != nil {
			return nil, err
		}
		last = max(last, a.lastSeq())
	}
	id := fmt.Sprintf("c%010d-%s", last+1, strings.ToLower(rand.Text()[:6]))
	r := &Record{Format: recordFormat, ID: id, Seq: last + 1, Title: p.Title, Install: p.Install, Time: p.Now, State: applying, Of: id}
	if p.of != "" {
		r.Of, r.Back = p.of, p.back
	}
	t := &transaction{ctx, p, r, locked}
	if err := t.stage(); err != nil {
		return nil, errors.Join(err, t.discard())
	}
	if err := t.exchange(); err != nil {
		return nil, err
	}
	if err := t.conclude(); err != nil {
		return r, err
	}
	held := p.Held
	if held == nil {
		held = func(*Record, Exchange) bool { return false }
	}
	for _, a := range locked.of {
		a.prune(held)
	}
	return r, nil
}

// Undo takes back a change that Apply made, or makes one again that was taken back, and returns the change that did so. p says how, and
// has no items. It fails with ErrChanged when a target is not as the change left it, unless force is set.
func Undo(ctx context.Context, r *Record, p Plan, force bool) (*Record, error) {
	for _, x := range slices.Backward(r.Items) {
		item := Item{Root: x.Root, Name: x.Name, Create: true, From: x.Old, Safe: x.Source, Source: x.Safe}
		if x.Old == "" {
			item.made = x.Made
		}
		if x.Lent {
			item.to = x.New
		}
		if item.Safe.IsZero() {
			item.Safe = Aside()
		}
		if !force {
			item.Expect = &x.After
		} else if now, err := SignatureOf(ctx, x.Target()); err != nil {
			return nil, err
		} else if !now.Equal(x.After) {
			item.Safe = Aside()
		}
		p.Items = append(p.Items, item)
	}
	p.of, p.back, p.undoes = r.Of, !r.Back, true
	return Apply(ctx, p)
}

// Changed returns the targets that are not as the change left them.
func (r *Record) Changed(ctx context.Context) ([]string, error) {
	var changed []string
	for _, x := range r.Items {
		now, err := SignatureOf(ctx, x.Target())
		if err != nil {
			return nil, err
		}
		if !now.Equal(x.After) {
			changed = append(changed, x.Target())
		}
	}
	return changed, nil
}

// Find reads the record of a change that concerns the folder root. It is fs.ErrNotExist where the change did not happen, or is forgotten.
func Find(root string, listed []string, id string) (*Record, error) {
	if !idPattern().MatchString(id) {
		return nil, fmt.Errorf("%.80q is no change", id)
	}
	a, err := findArea(root, listed, false)
	if err != nil {
		return nil, err
	}
	if a == nil {
		return nil, os.ErrNotExist
	}
	r, err := readRecord(a.recordFile(id))
	if err == nil && r.ID != id {
		err = fmt.Errorf("%s is the record of another change", a.recordFile(id))
	}
	return r, err
}
