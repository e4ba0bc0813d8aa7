// Package change alters game folders so that no crash, full disk or second Ostrov can leave them half done, and takes changes back.
//
// A Plan names targets (a file or a folder in some folder) and what each is to become. Apply stages everything new on the same volume,
// writes a journal, exchanges old for new by renames and keeps the old beside; Recover, which every command calls first, rolls an
// interrupted change back; Undo exchanges the other way round. What is replaced is never deleted but moved aside whole.
//
// The promise: after a crash at any instant and the next Recover, all targets are in their old state, or all in their new one. The
// package knows paths, not games. Areas, journals and locks are described in docs/formats.md.
package change

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"ostrov/internal/core/durable"
)

// Item is one target of a change.
type Item struct {
	// Root is the folder that holds the target: absolute, links resolved. It is made when it is missing and Create is set.
	Root   string
	Create bool
	// Name is the target's path below Root, slash-separated. Missing folders on the way to it are made.
	Name string
	// Fill writes what the target is to become into the stage; nil removes the target.
	Fill func(ctx context.Context, stage *Stage) error
	// Expect, when not nil, is what the target must be just before the exchange; else the change fails with ErrChanged.
	Expect *Print
	// from is a path beside, that is to become the target: for Undo.
	from string
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
	// Announce is called when everything is staged, before anything is exchanged: a crash after the commit must not leave a change that nobody
	// can find. It may announce a change that then does not happen, and so has no record.
	Announce func(*Record) error
	// Now is the time of the change.
	Now time.Time
	// Wait is how long to wait for another Ostrov that is changing the same folder.
	Wait time.Duration
}

// Record is a change that has been made; it is kept beside the folders, and a pointer to it in Ostrov's home.
type Record struct {
	Format  int        `json:"ostrov_change"`
	ID      string     `json:"id"`
	Title   string     `json:"title"`
	Install string     `json:"install"`
	Time    time.Time  `json:"time"`
	State   string     `json:"state"` // applying or done
	Undoes  string     `json:"undoes,omitempty"`
	Undone  bool       `json:"undone,omitempty"`
	Items   []Exchange `json:"items"`
	Dir     string     `json:"dir"` // the change's folder in the first area
}

// Exchange is one target with where its old content went and where its new content came from.
type Exchange struct {
	Root   string   `json:"root"`
	Target string   `json:"target"`
	New    string   `json:"new,omitempty"`  // "": the target was removed
	Old    string   `json:"old,omitempty"`  // "": there was none
	After  Print    `json:"after"`          // the target as the change left it
	Made   []string `json:"made,omitempty"` // folders made on the way, outermost first
}

// Errors that callers tell apart.
var (
	// ErrChanged says that a target is not what it was when the change was planned or made.
	ErrChanged = errors.New("has changed meanwhile")
	// ErrNoRoom says that there is nowhere to stage a change.
	ErrNoRoom = errors.New("no place to prepare the change")
)

// LockedError says that another Ostrov holds a folder.
type LockedError struct{ Folder, Holder string }

func (e *LockedError) Error() string {
	return fmt.Sprintf("%s is being changed by %s; try again when that is done", e.Folder, e.Holder)
}

// recordFormat is the number of the journal's format.
const recordFormat = 1

// keepRecords is how many changes of an area can still be taken back; what older ones moved aside is removed.
const keepRecords = 8

// Apply makes the change, or leaves everything as it was and says why not. It has called Recover for the folders first.
func Apply(ctx context.Context, p Plan) (*Record, error) { return apply(ctx, p, "") }

func apply(ctx context.Context, p Plan, undoes string) (record *Record, err error) {
	if len(p.Items) == 0 {
		return nil, errors.New("nothing to change")
	}
	areas, unlock, err := lockAreas(ctx, p)
	if err != nil {
		return nil, err
	}
	defer unlock()
	for _, a := range areas {
		if err := a.recover(); err != nil {
			return nil, err
		}
	}
	lead := areas[p.Items[0].Root]
	r := &Record{Format: recordFormat, ID: p.Now.UTC().Format("20060102T150405.000000Z") + "-" + strings.ToLower(rand.Text()[:6]), Title: p.Title, Install: p.Install,
		Time: p.Now, State: "applying", Undoes: undoes}
	r.Dir = filepath.Join(lead.dir, r.ID)
	t := &transaction{ctx, p, r, areas, lead}
	if err := t.stage(); err != nil {
		return nil, errors.Join(err, t.discard())
	}
	if err := t.exchange(); err != nil {
		return nil, err
	}
	return r, t.finish()
}

// transaction is one change under way, all its areas locked.
type transaction struct {
	ctx   context.Context
	plan  Plan
	r     *Record
	areas map[string]*area // by root
	lead  *area
}

// dir is the folder of the change in the area of root.
func (t *transaction) dir(root string) string { return filepath.Join(t.areas[root].dir, t.r.ID) }

// stage prepares all new content, on the drive, and the list of exchanges.
func (t *transaction) stage() error {
	var batch durable.Batch
	var dirs []string
	for i, item := range t.plan.Items {
		dir := t.dir(item.Root)
		for _, sub := range []string{"new", "old"} {
			if err := os.MkdirAll(filepath.Join(dir, sub), 0o700); err != nil {
				return err
			}
		}
		x := Exchange{Root: item.Root, Target: filepath.Join(item.Root, filepath.FromSlash(item.Name)), New: item.from}
		number := fmt.Sprintf("%04d", i)
		if item.Fill != nil {
			x.New = filepath.Join(dir, "new", number)
			stage, err := openStage(filepath.Join(dir, "new"), number, &batch)
			if err != nil {
				return err
			}
			if err := errors.Join(item.Fill(t.ctx, stage), stage.finish()); err != nil {
				return fmt.Errorf("preparing %s: %w", item.Name, err)
			}
			if !slices.Contains(dirs, dir) {
				dirs = append(dirs, dir)
			}
		}
		if x.New != "" {
			var err error
			if x.After, err = PrintOf(t.ctx, x.New); err != nil {
				return err
			}
		}
		x.Old = filepath.Join(dir, "old", number)
		t.r.Items = append(t.r.Items, x)
	}
	if err := batch.End(dirs...); err != nil {
		return err
	}
	return fault("staged")
}

// exchange journals the change and makes it. Whatever fails after the journal stands is rolled back.
func (t *transaction) exchange() error {
	if t.plan.Guard != nil {
		if err := t.plan.Guard(); err != nil {
			return errors.Join(err, t.discard())
		}
	}
	for i, item := range t.plan.Items {
		x := &t.r.Items[i]
		now, err := PrintOf(t.ctx, x.Target)
		if err == nil && item.Expect != nil && !now.Equal(*item.Expect) {
			err = fmt.Errorf("%s %w", x.Target, ErrChanged)
		}
		if err != nil {
			return errors.Join(err, t.discard())
		}
		if now.Missing() {
			x.Old = ""
		}
		for dir := filepath.Dir(x.Target); ; dir = filepath.Dir(dir) {
			if _, err := os.Lstat(dir); err == nil {
				break
			}
			x.Made = append([]string{dir}, x.Made...)
		}
		if !item.Create && !exists(item.Root) {
			return errors.Join(fmt.Errorf("%s is not there", item.Root), t.discard())
		}
	}
	if t.plan.Announce != nil {
		if err := t.plan.Announce(t.r); err != nil {
			return errors.Join(err, t.discard())
		}
	}
	if err := t.journal(); err != nil {
		return errors.Join(err, t.rollBack())
	}
	for i := range t.r.Items {
		if err := t.swap(&t.r.Items[i]); err != nil {
			return errors.Join(err, t.rollBack())
		}
	}
	if err := t.verify(); err != nil {
		return errors.Join(err, t.rollBack())
	}
	t.r.State = "done" // the commit point: from here on the change has happened
	if err := t.lead.writeJournal(t.r); err != nil {
		t.r.State = "applying"
		return errors.Join(err, t.rollBack())
	}
	return nil
}

// within reports whether path lies below dir.
func within(path, dir string) bool {
	rel, err := filepath.Rel(dir, path)
	return err == nil && rel != "." && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
}

// journal writes the pointers of the other areas, then the lead's journal, then the note for people.
func (t *transaction) journal() error {
	for _, a := range t.sorted() {
		if a != t.lead {
			if err := a.writePointer(t.lead.dir, t.r.ID); err != nil {
				return err
			}
		}
	}
	if err := fault("before-journal"); err != nil {
		return err
	}
	if err := t.lead.writeJournal(t.r); err != nil {
		return err
	}
	if len(t.r.Items) > 1 {
		for _, a := range t.sorted() {
			if err := a.writeNote(t.r); err != nil {
				return err
			}
		}
	}
	return fault("journaled")
}

// swap moves one target aside and its new content into place.
func (t *transaction) swap(x *Exchange) error {
	for _, dir := range x.Made {
		if err := os.Mkdir(dir, 0o755); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	if x.Old != "" {
		if err := durable.Rename(x.Target, x.Old); err != nil {
			return err
		}
		if err := fault("aside"); err != nil {
			return err
		}
	}
	if x.New != "" {
		if err := durable.Rename(x.New, x.Target); err != nil {
			return err
		}
	}
	if err := durable.SyncDir(filepath.Dir(x.Target)); err != nil {
		return err
	}
	return fault("exchanged")
}

func (t *transaction) verify() error {
	for _, x := range t.r.Items {
		now, err := PrintOf(t.ctx, x.Target)
		if err != nil {
			return err
		}
		if !now.Equal(x.After) {
			return fmt.Errorf("%s is not what was put there: it %w", x.Target, ErrChanged)
		}
	}
	return fault("verified")
}

// rollBack undoes what has been exchanged and forgets the change.
func (t *transaction) rollBack() error {
	if err := t.r.rollBack(); err != nil {
		return fmt.Errorf("%w; the next command tries again to put the old state back", err)
	}
	return t.discard()
}

// finish turns the journal into a record and drops what is not needed any more. The change has happened: what fails here only leaves
// something to clean up for the next Recover.
func (t *transaction) finish() error {
	if err := fault("committed"); err != nil {
		return err
	}
	for _, a := range t.sorted() {
		if err := a.conclude(t.r); err != nil {
			return err
		}
	}
	return nil
}

// discard removes what was staged for a change that does not happen.
func (t *transaction) discard() error {
	var err error
	for _, a := range t.sorted() {
		err = errors.Join(err, a.discard(t.r.ID))
	}
	return err
}

// sorted are the areas of the change, each once, the lead last: when its journal is gone nothing points to it.
func (t *transaction) sorted() []*area {
	var all []*area
	for _, a := range t.areas {
		if a != t.lead {
			all = append(all, a)
		}
	}
	sort.Slice(all, func(i, j int) bool { return all[i].dir < all[j].dir })
	return append(all, t.lead)
}

// rollBack puts every target back to its old state. It may be called again after being interrupted itself.
func (r *Record) rollBack() error {
	for i := len(r.Items) - 1; i >= 0; i-- {
		x := r.Items[i]
		oldAside := x.Old != "" && exists(x.Old)
		newPlaced := x.New != "" && !exists(x.New) && exists(x.Target)
		if newPlaced && (oldAside || x.Old == "") {
			if err := durable.Rename(x.Target, x.New); err != nil {
				return err
			}
		}
		if oldAside {
			if exists(x.Target) { // something else has been put there since: kept beside
				if err := durable.Rename(x.Target, freeName(x.Old+".found")); err != nil {
					return err
				}
			}
			if err := durable.Rename(x.Old, x.Target); err != nil {
				return err
			}
		}
		for j := len(x.Made) - 1; j >= 0; j-- {
			_ = os.Remove(x.Made[j]) // only when empty
		}
		if err := durable.SyncDir(filepath.Dir(x.Target)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}

// Undo takes back a change that Apply made, and returns the change that did so. It fails with ErrChanged when a target is not as the
// change left it, unless force is set.
func Undo(ctx context.Context, r *Record, p Plan, force bool) (*Record, error) {
	for i := len(r.Items) - 1; i >= 0; i-- {
		x := r.Items[i]
		name, err := filepath.Rel(x.Root, x.Target)
		if err != nil {
			return nil, err
		}
		item := Item{Root: x.Root, Name: filepath.ToSlash(name), from: x.Old}
		if !force {
			item.Expect = &r.Items[i].After
		}
		p.Items = append(p.Items, item)
	}
	done, err := apply(ctx, p, r.ID)
	if err != nil {
		return nil, err
	}
	r.Undone = true
	return done, writeJSON(filepath.Join(r.Dir, recordName), r)
}

// Changed returns the targets that are not as the change left them.
func (r *Record) Changed(ctx context.Context) ([]string, error) {
	var changed []string
	for _, x := range r.Items {
		now, err := PrintOf(ctx, x.Target)
		if err != nil {
			return nil, err
		}
		if !now.Equal(x.After) {
			changed = append(changed, x.Target)
		}
	}
	return changed, nil
}

// ReadRecord reads the record of a change from its folder.
func ReadRecord(dir string) (*Record, error) {
	r, err := readRecord(filepath.Join(dir, recordName))
	if err != nil {
		return nil, err
	}
	return r, nil
}

func readRecord(path string) (*Record, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	var r Record
	if err := json.Unmarshal(data, &r); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	if r.Format != recordFormat {
		return nil, fmt.Errorf("%s is of format %d; this Ostrov reads %d", path, r.Format, recordFormat)
	}
	return &r, nil
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

func freeName(path string) string {
	for i := 1; ; i++ {
		if name := fmt.Sprintf("%s-%d", path, i); !exists(name) {
			return name
		}
	}
}
