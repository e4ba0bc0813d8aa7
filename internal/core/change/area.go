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

	"github.com/gofrs/flock"
	"github.com/zeebo/blake3"

	"ostrov/internal/core/tree"
)

// Names inside an area.
const (
	lockName    = "lock"
	ownerName   = "owner.json"
	journalName = "journal.json"
	recordName  = "record.json"
)

// errNotDir is what looking below a file says.
var errNotDir = syscall.ENOTDIR

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
	var candidates []*area
	for parent, up := filepath.Dir(root), 0; up < maxUp; parent, up = filepath.Dir(parent), up+1 {
		if !isListed(parent, listed) {
			a := &area{root, filepath.Join(parent, tree.AreaName, key)}
			if isDir(a.dir) && exists(filepath.Join(a.dir, lockName)) {
				return a, nil
			}
			candidates = append(candidates, a)
		}
		if filepath.Dir(parent) == parent {
			break
		}
	}
	if !create {
		return nil, nil
	}
	var why error
	for _, a := range candidates {
		if !exists(filepath.Dir(filepath.Dir(a.dir))) {
			continue
		}
		if why = a.make(); why == nil {
			return a, nil
		}
	}
	return nil, fmt.Errorf("%w of %s: there is no folder above it, on the same drive and writable, that the game does not list: %v", ErrNoRoom, root, why)
}

// isDir reports whether path is a folder itself, not a link to one: what a mod or a download could have left there is not followed.
func isDir(path string) bool {
	for _, p := range []string{path, filepath.Dir(path)} {
		if info, err := os.Lstat(p); err != nil || !info.IsDir() {
			return false
		}
	}
	return true
}

// isListed reports whether dir is, or lies in, one of the folders that the game lists.
func isListed(dir string, listed []string) bool {
	return slices.ContainsFunc(listed, func(l string) bool { return dir == l || within(dir, l) })
}

// within reports whether path lies below dir.
func within(path, dir string) bool {
	rel, err := filepath.Rel(dir, path)
	return err == nil && rel != "." && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
}

// trialName is what an empty folder is called for a moment in the folder that is to be changed.
const trialName = tree.AreaName + "-trial"

// make creates the area and proves, by a real rename into the folder, that both are on one volume. A crash leaves at most an empty folder,
// which the next trial uses again.
func (a *area) make() error {
	if err := mkdirAll(a.dir, 0o700); err != nil {
		return err
	}
	if !isDir(a.dir) {
		return fmt.Errorf("%s is a link", a.dir)
	}
	target := a.root
	for !exists(target) {
		target = filepath.Dir(target)
	}
	trial, moved := filepath.Join(a.dir, "trial"), filepath.Join(target, trialName)
	err := remove(moved) // what a crash left
	if err == nil {
		err = mkdir(trial, 0o700)
	}
	if err == nil {
		if err = rename(trial, moved); err == nil {
			err = remove(moved)
		}
	}
	if err == nil {
		err = fault("create")
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

// areas are the areas of some folders, locked.
type areas struct {
	of     map[string]*area // by root
	unlock func()
}

// lockAreas finds and locks the areas of folders, in one order everywhere, so that two Ostrovs never wait for each other. Without create
// those that do not exist are left out.
func lockAreas(ctx context.Context, roots, listed []string, create bool, wait time.Duration) (areas, error) {
	found := areas{of: map[string]*area{}}
	sorted := slices.Clone(roots)
	sort.Strings(sorted)
	for _, root := range slices.Compact(sorted) {
		a, err := findArea(root, listed, create)
		if err != nil {
			return found, err
		}
		if a != nil {
			found.of[root] = a
		}
	}
	var unlocks []func()
	found.unlock = func() {
		for _, u := range slices.Backward(unlocks) {
			u()
		}
	}
	for _, a := range found.sorted() {
		u, err := a.lock(ctx, wait)
		if err != nil {
			found.unlock()
			return found, err
		}
		unlocks = append(unlocks, u)
	}
	return found, nil
}

// sorted are the areas in the order in which they are locked.
func (s areas) sorted() []*area {
	var all []*area
	for _, a := range s.of {
		all = append(all, a)
	}
	sort.Slice(all, func(i, j int) bool { return all[i].root < all[j].root })
	return all
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
	since := time.Now() // who holds it is only told, to people
	data, _ := json.Marshal(owner{host, os.Getpid(), since})
	_ = os.WriteFile(filepath.Join(a.dir, ownerName), data, 0o600)
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

// place is where something of a change lies: ID/new/NUMBER or ID/old/NUMBER.
func (a *area) place(p string) string { return filepath.Join(a.dir, filepath.FromSlash(p)) }

func (a *area) journalFile() string { return filepath.Join(a.dir, journalName) }

func (a *area) recordFile(id string) string { return filepath.Join(a.dir, id, recordName) }

// noteFile is where the note for people lies: beside the game's folder.
func (a *area) noteFile() string {
	return filepath.Join(filepath.Dir(filepath.Dir(a.dir)), tree.NoteName)
}

func (a *area) writeNote(r *Record) error {
	text := fmt.Sprintf("Ostrov was interrupted while it changed several files of %s:\n%s\n\nRun any ostrov command on this game before you play: it puts the files in order.\n", r.Install, r.Title)
	return writeFile(a.noteFile(), []byte(strings.ReplaceAll(text, "\n", newline)))
}

var newline = map[bool]string{true: "\r\n", false: "\n"}[runtime.GOOS == "windows"]

// clear removes the note and the journal, the journal last.
func (a *area) clear() error {
	for _, name := range []string{a.noteFile() + ".new", a.noteFile(), a.journalFile() + ".new", a.journalFile()} {
		if err := remove(name); err != nil {
			return err
		}
	}
	return syncDir(a.dir)
}

// changes are the ids of changes that have a folder in the area, oldest first.
func (a *area) changes() []string {
	list, _ := os.ReadDir(a.dir)
	var ids []string
	for _, e := range list { // sorted by name
		if e.IsDir() && idPattern().MatchString(e.Name()) {
			ids = append(ids, e.Name())
		}
	}
	return ids
}

// lastSeq is the highest number that a change in the area has.
func (a *area) lastSeq() int64 {
	var last int64
	for _, id := range a.changes() {
		var n int64
		if _, err := fmt.Sscanf(id, "c%010d-", &n); err == nil {
			last = max(last, n)
		}
	}
	return last
}

// prune removes what older changes moved aside, but for those whose old content nothing else keeps; held says whether what keeps it is
// still there.
func (a *area) prune(held func(*Record, Exchange) bool) {
	ids := a.changes()
	for _, id := range ids[:max(0, len(ids)-keepRecords)] {
		r, err := readRecord(a.recordFile(id))
		if err != nil {
			continue // unknown: it stays
		}
		needed := slices.ContainsFunc(r.Items, func(x Exchange) bool {
			return x.Root == a.root && x.Old != "" && exists(a.place(x.Old)) && !held(r, x)
		})
		if !needed {
			_ = removeAll(filepath.Join(a.dir, id)) // what cannot be removed is removed by the next change
		}
	}
}

// Kept is what changes of one folder moved aside, to be taken back.
type Kept struct {
	Dir     string `json:"dir"` // beside the folder
	Changes int    `json:"changes"`
	Bytes   int64  `json:"bytes"`
}

// KeptBeside is what lies beside some folders of what changes moved aside; folders without are left out.
func KeptBeside(ctx context.Context, roots, listed []string) ([]Kept, error) {
	var all []Kept
	for _, root := range roots {
		a, err := findArea(root, listed, false)
		if err != nil || a == nil {
			continue
		}
		k := Kept{Dir: a.dir}
		for _, id := range a.changes() {
			k.Changes++
			err := tree.Walk(ctx, filepath.Join(a.dir, id), func(e tree.Entry) error {
				if e.Kind == tree.File {
					k.Bytes += e.Size
				}
				return nil
			})
			if err != nil {
				return nil, err
			}
		}
		if k.Changes > 0 {
			all = append(all, k)
		}
	}
	return all, nil
}

// keepRecords is how many changes of an area can be taken back at least.
const keepRecords = 8

// sweep removes what was staged and never journaled: folders of changes without a record.
func (a *area) sweep() error {
	for _, id := range a.changes() {
		if exists(a.recordFile(id)) {
			continue
		}
		old, err := os.ReadDir(filepath.Join(a.dir, id, "old"))
		if err != nil && !errors.Is(err, fs.ErrNotExist) || len(old) > 0 {
			continue // never delete what was moved aside, whoever lost the record
		}
		if err := removeAll(filepath.Join(a.dir, id)); err != nil {
			return err
		}
	}
	return nil
}
