package change

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"

	"ostrov/internal/core/durable"
)

// transaction is one change under way, all its areas locked.
type transaction struct {
	ctx   context.Context
	plan  Plan
	r     *Record
	areas areas
}

func (t *transaction) area(x Exchange) *area { return t.areas.of[x.Root] }

// stage prepares all new content, on the drive, and the list of exchanges.
func (t *transaction) stage() error {
	var batch durable.Batch
	var dirs []string
	for i, item := range t.plan.Items {
		a := t.areas.of[item.Root]
		dir := filepath.Join(a.dir, t.r.ID)
		for _, sub := range []string{"new", "old"} {
			if err := mkdirAll(filepath.Join(dir, sub), 0o700); err != nil {
				return err
			}
		}
		number := fmt.Sprintf("%04d", i)
		x := Exchange{Root: item.Root, Name: item.Name, New: item.From, Old: path.Join(t.r.ID, "old", number), Safe: item.Safe, Source: item.Source, Made: item.made}
		x.Lent = item.From != "" && !t.plan.undoes
		if item.to != "" && !exists(a.place(item.to)) {
			x.Old = item.to
			if err := mkdirAll(filepath.Dir(a.place(x.Old)), 0o700); err != nil {
				return err
			}
		}
		if item.Fill != nil {
			x.New = path.Join(t.r.ID, "new", number)
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
			if x.After, err = SignatureOf(t.ctx, a.place(x.New)); err != nil {
				return err
			}
			if x.After.Missing() {
				return fmt.Errorf("what %s is to become is not there any more", x.Target())
			}
		}
		t.r.Items = append(t.r.Items, x)
	}
	if err := fault("sync"); err != nil {
		return err
	}
	return batch.End(dirs...)
}

// exchange journals the change and makes it. Whatever fails after the journal stands is rolled back.
func (t *transaction) exchange() error {
	if t.plan.Guard != nil {
		if err := t.plan.Guard(); err != nil {
			return errors.Join(err, t.discard())
		}
	}
	for i, item := range t.plan.Items {
		if err := t.look(item, &t.r.Items[i]); err != nil {
			return errors.Join(err, t.discard())
		}
	}
	if err := t.r.check(); err != nil {
		return errors.Join(err, t.discard())
	}
	if t.plan.Announce != nil {
		if err := t.plan.Announce(t.r); err != nil {
			return errors.Join(err, t.discard())
		}
	}
	err := t.journal()
	for i := 0; i < len(t.r.Items) && err == nil; i++ {
		err = t.swap(t.r.Items[i])
	}
	if err == nil {
		err = t.verify()
	}
	if err == nil {
		t.r.State = done // the commit point: from here on the change has happened
		if err = writeJSON(t.lead().journalFile(), t.r); err != nil {
			t.r.State = applying
		}
	}
	if err != nil {
		return errors.Join(err, t.rollBack())
	}
	return nil
}

// look sees what is at a target just before the exchange.
func (t *transaction) look(item Item, x *Exchange) error {
	now, err := SignatureOf(t.ctx, x.Target())
	switch {
	case err != nil:
		return err
	case item.Expect != nil && !now.Equal(*item.Expect):
		return fmt.Errorf("%s %w", x.Target(), ErrChanged)
	case now.Missing():
		x.Old = ""
	case x.Safe.IsZero():
		return fmt.Errorf("%s %w", x.Target(), ErrUnsafe)
	}
	if !item.Create && !exists(item.Root) {
		return fmt.Errorf("%s is not there", item.Root)
	}
	if x.New == "" {
		return nil
	}
	x.Made = 0
	for dir := filepath.Dir(x.Target()); !exists(dir); dir = filepath.Dir(dir) {
		x.Made++
	}
	return checkWay(item.Root, item.Name)
}

// checkWay refuses a target that a link on the way leads to.
func checkWay(root, name string) error {
	for dir := path.Dir(name); dir != "."; dir = path.Dir(dir) {
		full := filepath.Join(root, filepath.FromSlash(dir))
		if info, err := os.Lstat(full); err == nil && info.Mode()&os.ModeSymlink != 0 {
			return fmt.Errorf("%s %w", full, ErrLink)
		}
	}
	return nil
}

// lead is the area whose journal says whether the change has happened.
func (t *transaction) lead() *area { return t.areas.of[t.r.Roots()[0]] }

// leadLast are the areas of the change, the lead last.
func (t *transaction) leadLast() []*area {
	var all []*area
	for _, a := range t.areas.sorted() {
		if a != t.lead() && slices.Contains(t.r.Roots(), a.root) {
			all = append(all, a)
		}
	}
	return append(all, t.lead())
}

// journal writes the change down beside each folder, the lead last, and then the note for people.
func (t *transaction) journal() error {
	for _, a := range t.leadLast() {
		if err := writeJSON(a.journalFile(), t.r); err != nil {
			return err
		}
	}
	if len(t.r.Items) > 1 {
		for _, a := range t.leadLast() {
			if err := a.writeNote(t.r); err != nil {
				return err
			}
		}
	}
	return nil
}

// swap moves one target aside and its new content into place.
func (t *transaction) swap(x Exchange) error {
	a, target := t.area(x), x.Target()
	if x.New != "" {
		if err := mkdirAll(filepath.Dir(target), 0o755); err != nil {
			return err
		}
	}
	if x.Old != "" {
		if err := rename(target, a.place(x.Old)); err != nil {
			return err
		}
	}
	if x.New != "" {
		if err := rename(a.place(x.New), target); err != nil {
			return err
		}
	} else {
		removeMade(x)
	}
	if dir := filepath.Dir(target); exists(dir) {
		return syncDir(dir)
	}
	return nil
}

// removeMade removes the folders that were made on the way to a target which is gone, those that are empty.
func removeMade(x Exchange) {
	dir := filepath.Dir(x.Target())
	for range x.Made {
		if remove(dir) != nil { // not empty
			return
		}
		dir = filepath.Dir(dir)
	}
}

func (t *transaction) verify() error {
	for _, x := range t.r.Items {
		now, err := SignatureOf(t.ctx, x.Target())
		if err != nil {
			return err
		}
		if !now.Equal(x.After) {
			return fmt.Errorf("%s is not what was put there: it %w", x.Target(), ErrChanged)
		}
	}
	return nil
}

// rollBack undoes what has been exchanged and forgets the change.
func (t *transaction) rollBack() error {
	for _, x := range slices.Backward(t.r.Items) {
		if err := t.swapBack(x); err != nil {
			return fmt.Errorf("%w; the next command tries again to put the old state back", err)
		}
	}
	return t.discard()
}

// swapBack puts one target back to its old state. It may be called again after being interrupted itself.
func (t *transaction) swapBack(x Exchange) error {
	a, target := t.area(x), x.Target()
	oldAside := x.Old != "" && exists(a.place(x.Old))
	newPlaced := x.New != "" && !exists(a.place(x.New)) && exists(target)
	if newPlaced && (oldAside || x.Old == "") {
		if err := rename(target, a.place(x.New)); err != nil {
			return err
		}
	}
	if oldAside {
		if exists(target) { // something else has been put there since: kept beside
			if err := rename(target, freeName(a.place(x.Old)+".found")); err != nil {
				return err
			}
		}
		if err := mkdirAll(filepath.Dir(target), 0o755); err != nil {
			return err
		}
		if err := rename(a.place(x.Old), target); err != nil {
			return err
		}
	}
	if x.New != "" && x.Old == "" {
		removeMade(x)
	}
	if dir := filepath.Dir(target); exists(dir) {
		return syncDir(dir)
	}
	return nil
}

// conclude turns the journals of a change that has happened into records, the lead first: a journal whose lead has a record has happened.
// It may be called again after being interrupted.
func (t *transaction) conclude() error {
	all := t.leadLast()
	for _, a := range slices.Backward(all) {
		if err := removeAll(filepath.Join(a.dir, t.r.ID, "new")); err != nil { // what is left of the stage is empty
			return err
		}
		if err := mkdirAll(filepath.Join(a.dir, t.r.ID), 0o700); err != nil {
			return err
		}
		if err := writeJSON(a.recordFile(t.r.ID), t.r); err != nil {
			return err
		}
	}
	for _, a := range all {
		if err := a.clear(); err != nil {
			return err
		}
	}
	return nil
}

// discard forgets a change that did not happen. What was found at a target meanwhile and kept beside stays.
func (t *transaction) discard() error {
	var err error
	roots := t.areas.sorted()
	for _, a := range roots {
		dir := filepath.Join(a.dir, t.r.ID)
		err = errors.Join(err, a.clear(), removeAll(filepath.Join(dir, "new")))
		if left, _ := os.ReadDir(filepath.Join(dir, "old")); len(left) == 0 {
			err = errors.Join(err, removeAll(dir))
		}
	}
	return err
}

func freeName(path string) string {
	for i := 1; ; i++ {
		if name := fmt.Sprintf("%s-%d", path, i); !exists(name) {
			return name
		}
	}
}
