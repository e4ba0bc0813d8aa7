package change

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"strings"
	"syscall"
	"time"

	"ostrov/internal/core/durable"

	"github.com/gofrs/flock"
	"github.com/zeebo/blake3"
)

// Names inside an area.
const (
	areaDir     = ".ostrov" // beside the game's folders
	lockName    = "lock"
	ownerName   = "owner.json"
	journalName = "journal.json"
	recordName  = "record.json"
	noteName    = "ostrov-change-not-finished.txt"
)

// errNotDir is what looking below a file says.
var errNotDir = syscall.ENOTDIR

// Own reports whether a path, slash-separated, is of what changes leave beside the folders that they change.
func Own(path string) bool {
	for part := range strings.SplitSeq(path, "/") {
		if part == areaDir || part == noteName {
			return true
		}
	}
	return false
}

// area is where changes of one folder are staged and journaled: .ostrov/KEY beside the folder, on its volume, where KEY is taken from the
// folder's resolved path, so that every Ostrov that changes the folder meets the same lock and journal.
type area struct {
	root string
	dir  string
}

// maxUp is how many folders up a place for the area is looked for.
const maxUp = 8

// findArea finds the area of root, making it when create is set; without, an area that does not exist is nil.
func findArea(root string, listed []string, create bool) (*area, error) {
	sum := blake3.Sum256([]byte(root))
	key := fmt.Sprintf("%x", sum[:8])
	var why error
	parent := root
	for range maxUp {
		next := filepath.Dir(parent)
		if next == parent {
			break
		}
		parent = next
		if isListed(parent, listed) {
			continue
		}
		a := &area{root, filepath.Join(parent, areaDir, key)}
		if exists(filepath.Join(a.dir, lockName)) {
			return a, nil
		}
		if !create || !exists(parent) {
			continue
		}
		if err := a.make(); err != nil {
			why = err
			continue
		}
		return a, nil
	}
	if !create {
		return nil, nil
	}
	return nil, fmt.Errorf("%w of %s: there is no folder above it, on the same drive and writable, that the game does not list: %v", ErrNoRoom, root, why)
}

// isListed reports whether dir is, or lies in, one of the folders that the game lists.
func isListed(dir string, listed []string) bool {
	for _, l := range listed {
		if dir == l || within(dir, l) {
			return true
		}
	}
	return false
}

// make creates the area and proves, by a real rename into the folder, that both are on one volume.
func (a *area) make() error {
	if err := os.MkdirAll(a.dir, 0o700); err != nil {
		return err
	}
	target := a.root
	for !exists(target) {
		target = filepath.Dir(target)
	}
	trial, moved := filepath.Join(a.dir, "trial"), filepath.Join(target, areaDir+"-trial")
	err := os.Mkdir(trial, 0o700)
	if err == nil || errors.Is(err, fs.ErrExist) {
		if err = os.Rename(trial, moved); err == nil {
			err = os.Remove(moved)
		}
	}
	if err == nil {
		var f *os.File
		if f, err = os.OpenFile(filepath.Join(a.dir, lockName), os.O_RDWR|os.O_CREATE, 0o600); err == nil {
			err = f.Close()
		}
	}
	if err != nil {
		_ = os.Remove(trial)
		_ = os.Remove(a.dir)
		_ = os.Remove(filepath.Dir(a.dir))
	}
	return err
}

// lockAreas finds and locks the areas of all roots of a plan, in one order everywhere, so that two Ostrovs never wait for each other.
func lockAreas(ctx context.Context, p Plan) (map[string]*area, func(), error) {
	areas := map[string]*area{}
	var roots []string
	for _, item := range p.Items {
		if _, ok := areas[item.Root]; !ok {
			a, err := findArea(item.Root, p.Listed, true)
			if err != nil {
				return nil, nil, err
			}
			areas[item.Root] = a
			roots = append(roots, item.Root)
		}
	}
	sort.Strings(roots)
	var unlocks []func()
	unlock := func() {
		for _, u := range slices.Backward(unlocks) {
			u()
		}
	}
	for _, root := range roots {
		u, err := areas[root].lock(ctx, p.Wait)
		if err != nil {
			unlock()
			return nil, nil, err
		}
		unlocks = append(unlocks, u)
	}
	return areas, unlock, nil
}

type owner struct {
	Host    string    `json:"host"`
	Process int       `json:"process"`
	Since   time.Time `json:"since"`
}

// lock takes the area's lock, waiting for at most wait. Beside it stands who holds it.
func (a *area) lock(ctx context.Context, wait time.Duration) (func(), error) {
	l := flock.New(filepath.Join(a.dir, lockName))
	ctx, cancel := context.WithTimeout(ctx, max(wait, time.Millisecond))
	defer cancel()
	ok, err := l.TryLock()
	if !ok && err == nil {
		ok, err = l.TryLockContext(ctx, 50*time.Millisecond)
	}
	if errors.Is(err, context.DeadlineExceeded) || err == nil && !ok {
		return nil, &LockedError{a.root, a.holder()}
	}
	if err != nil {
		return nil, err
	}
	host, _ := os.Hostname()
	data, _ := json.Marshal(owner{host, os.Getpid(), time.Now()})
	_ = os.WriteFile(filepath.Join(a.dir, ownerName), data, 0o600) // who holds it is only told
	return func() {
		_ = os.Remove(filepath.Join(a.dir, ownerName))
		_ = l.Unlock()
	}, nil
}

func (a *area) holder() string {
	data, err := os.ReadFile(filepath.Join(a.dir, ownerName))
	var o owner
	if err != nil || json.Unmarshal(data, &o) != nil {
		return "another Ostrov"
	}
	return fmt.Sprintf("another Ostrov (process %d on %s, since %s)", o.Process, o.Host, o.Since.Local().Format("15:04:05"))
}

// pointer is the journal of an area that another one leads.
type pointer struct {
	Lead string `json:"lead"`
	ID   string `json:"id"`
}

func (a *area) writeJournal(r *Record) error { return writeJSON(filepath.Join(a.dir, journalName), r) }

func (a *area) writePointer(lead, id string) error {
	return writeJSON(filepath.Join(a.dir, journalName), pointer{lead, id})
}

// noteFile is where the note for people lies: beside the game's folder.
func (a *area) noteFile() string { return filepath.Join(filepath.Dir(filepath.Dir(a.dir)), noteName) }

func (a *area) writeNote(r *Record) error {
	text := fmt.Sprintf("Ostrov was interrupted while it changed several files of %s:\n%s\n\nRun any ostrov command on this game before you play: it puts the old state back.\n", r.Install, r.Title)
	return writeFile(a.noteFile(), []byte(strings.ReplaceAll(text, "\n", newline)))
}

var newline = map[bool]string{true: "\r\n", false: "\n"}[runtime.GOOS == "windows"]

// conclude turns the journal of a change that happened into its record.
func (a *area) conclude(r *Record) error {
	dir := filepath.Join(a.dir, r.ID)
	_ = os.RemoveAll(filepath.Join(dir, "new")) // what is left of the stage is empty
	if dir == r.Dir {
		if err := writeJSON(filepath.Join(dir, recordName), r); err != nil {
			return err
		}
	} else if err := writeJSON(filepath.Join(dir, recordName), pointer{r.Dir, r.ID}); err != nil {
		return err
	}
	if err := fault("recorded"); err != nil {
		return err
	}
	a.forgetOld()
	return a.clear()
}

// clear removes the journal and the note.
func (a *area) clear() error {
	for _, name := range []string{a.noteFile(), filepath.Join(a.dir, journalName)} {
		if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return durable.SyncDir(a.dir)
}

// discard forgets a change that did not happen.
func (a *area) discard(id string) error {
	return errors.Join(a.clear(), removeAll(filepath.Join(a.dir, id)))
}

// changes are the folders of changes in the area, oldest first.
func (a *area) changes() []string {
	list, _ := os.ReadDir(a.dir)
	var ids []string
	for _, e := range list {
		if e.IsDir() {
			ids = append(ids, e.Name())
		}
	}
	return ids
}

// forgetOld removes what changes further back than keepRecords moved aside. All of it is in the archive too, or was taken back.
func (a *area) forgetOld() {
	ids := a.changes()
	for len(ids) > keepRecords {
		_ = removeAll(filepath.Join(a.dir, ids[0]))
		ids = ids[1:]
	}
}

// recover finishes or rolls back what an interrupted Ostrov left in the area, which is locked.
func (a *area) recover() error {
	path := filepath.Join(a.dir, journalName)
	data, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err == nil {
		var p pointer
		if err := json.Unmarshal(data, &p); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		lead := a
		if p.Lead != "" && p.Lead != a.dir {
			lead = &area{dir: p.Lead}
		}
		r, err := readRecord(filepath.Join(lead.dir, journalName))
		switch {
		case errors.Is(err, fs.ErrNotExist) || err == nil && lead != a && r.ID != p.ID: // the lead is through, or never began
			if err := a.clear(); err != nil {
				return err
			}
		case err != nil:
			return err
		case r.State == "done":
			if err := (&area{root: a.root, dir: lead.dir}).conclude(r); err != nil {
				return err
			}
			if lead != a {
				if err := a.conclude(r); err != nil {
					return err
				}
			}
		default:
			if err := r.rollBack(); err != nil {
				return fmt.Errorf("putting back what an interrupted command left: %w", err)
			}
			if err := errors.Join(lead.discard(r.ID), a.discard(r.ID)); err != nil {
				return err
			}
		}
	}
	for _, id := range a.changes() { // staged and never journaled
		if dir := filepath.Join(a.dir, id); !exists(filepath.Join(dir, recordName)) {
			if err := removeAll(dir); err != nil {
				return err
			}
		}
	}
	return nil
}

// Recover puts the folders in order that an interrupted Ostrov left, each as roots name it, and reports whether there was anything to do.
// listed is as in Plan. Folders that another Ostrov is changing at this moment are left to it.
func Recover(ctx context.Context, roots, listed []string) (bool, error) {
	did := false
	for _, root := range roots {
		a, err := findArea(root, listed, false)
		if err != nil {
			return did, err
		}
		if a == nil || !exists(filepath.Join(a.dir, journalName)) {
			continue
		}
		unlock, err := a.lock(ctx, 100*time.Millisecond)
		if locked := (*LockedError)(nil); errors.As(err, &locked) {
			continue
		}
		if err != nil {
			return did, err
		}
		err = a.recover()
		unlock()
		if err != nil {
			return did, err
		}
		did = true
	}
	return did, nil
}
