// Package handle does with single saves what is otherwise done in a file manager: it gives one another slot or name, copies it, takes it
// away, and puts files that were edited in the place of a save or beside it.
//
// It plans; a plan keeps first what goes, and undo takes it back. It promises names that the game looks for, and to put another save only
// where none is. It never reads what is in a save: what is edited, package edit does.
package handle

import (
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/unpack"
)

// Rename plans to give a save the slot or name to.
func Rename(ctx context.Context, h *home.Home, st *facts.State, s *facts.Save, to string) (*plan.Plan, error) {
	p, err := put(ctx, h, st, s, s.Folder, to, "rename %s to %s", nil)
	if err != nil {
		return nil, err
	}
	gone := plan.Step{What: plan.Describe(s), Root: s.Folder.Path, Name: s.Name, Note: "under its former name"}
	p.Remove(ctx, gone, plan.Guard(s), &plan.Save{Key: s.Key(), Before: plan.Standing(st, s)}, s.Tops()...)
	return p, p.Err()
}

// Duplicate plans to copy a save to the slot or name to, or where to is "" to the first that is free.
func Duplicate(ctx context.Context, h *home.Home, st *facts.State, s *facts.Save, to string) (*plan.Plan, error) {
	p, err := put(ctx, h, st, s, s.Folder, to, "duplicate %s to %s", nil)
	if err != nil {
		return nil, err
	}
	return p, p.Err()
}

// Alter plans to give a save other bytes in some of its files, by their paths in its folder, nil for one that goes: in its place, or where to is a slot or name, or
// folder is another one, in a copy there. What is written by anybody else since the save was read is an error.
func Alter(ctx context.Context, h *home.Home, st *facts.State, s *facts.Save, files tree.Contents, folder game.Located, to string) (*plan.Plan, error) {
	if err := unwritten(s); err != nil {
		return nil, err
	}
	if to != "" || folder.Path != s.Folder.Path {
		p, err := put(ctx, h, st, s, folder, to, "change %s as %s", files)
		if err != nil {
			return nil, err
		}
		return p, p.Err()
	}
	p, err := begin(ctx, h, st, s, "change "+s.Called())
	if err != nil {
		return nil, err
	}
	var targets []plan.Target
	for _, top := range s.Tops() {
		if holds(top, files) {
			targets = append(targets, copyOf(s, top, s.Folder.Path, top, files, h.Now()))
		}
	}
	step := plan.Step{What: plan.Describe(s), Root: s.Folder.Path, Name: s.Name}
	standing := plan.Standing(st, s)
	p.Put(ctx, step, plan.Guard(s), &plan.Save{Key: s.Key(), Before: standing, After: standing}, targets...)
	return p, p.Err()
}

// unwritten is an error where a save has been written since it was read.
func unwritten(s *facts.Save) error {
	for _, e := range s.Files {
		if now, err := tree.Stat(s.Folder.Path, e.Path); err != nil || now.Size != e.Size || !now.ModTime.Equal(e.ModTime) {
			return problem.Busy(problem.Advise("do it again"), "%s has been written meanwhile; nothing has been changed", filepath.Join(s.Folder.Path, filepath.FromSlash(e.Path)))
		}
	}
	return nil
}

// whileUnwritten fills a target from a save, which is not written meanwhile: what is edited is read from it as it is filled in.
func whileUnwritten(s *facts.Save, fill plan.Fill) plan.Fill {
	return func(ctx context.Context, stage *plan.Stage) error {
		if err := unwritten(s); err != nil {
			return err
		}
		if err := fill(ctx, stage); err != nil {
			return err
		}
		return unwritten(s)
	}
}

// holds reports whether a file or folder of a save is, or has in it, one of files.
func holds(top string, files tree.Contents) bool {
	for name := range files {
		if name == top || strings.HasPrefix(name, top+"/") {
			return true
		}
	}
	return false
}

// Remove plans to take a save away.
func Remove(ctx context.Context, h *home.Home, st *facts.State, s *facts.Save) (*plan.Plan, error) {
	p, err := begin(ctx, h, st, s, "remove "+s.Called())
	if err != nil {
		return nil, err
	}
	step := plan.Step{What: plan.Describe(s), Root: s.Folder.Path, Name: s.Name}
	p.Remove(ctx, step, plan.Guard(s), &plan.Save{Key: s.Key(), Before: plan.Standing(st, s)}, s.Tops()...)
	return p, p.Err()
}

func begin(ctx context.Context, h *home.Home, st *facts.State, s *facts.Save, title string) (*plan.Plan, error) {
	if s.Folder.Managed {
		return nil, problem.Usage(nil, "the folder %s belongs to another program and is never written", s.Folder.ID)
	}
	guard := func() error { return plan.MayChange(ctx, st.Install, s.Kind, s.Save) }
	if err := guard(); err != nil {
		return nil, err
	}
	return plan.New(ctx, h, st, title, guard), nil
}

// put plans to copy a save to another place, with other bytes in some of its files. title takes what the save is called and where it goes.
func put(ctx context.Context, h *home.Home, st *facts.State, s *facts.Save, folder game.Located, to, title string, files tree.Contents) (*plan.Plan, error) {
	if s.Unread != nil {
		return nil, problem.Usage(nil, "%s cannot be read: %w; nothing has been changed", s.Called(), s.Unread)
	}
	captures, err := place(st, s, folder, to)
	if err != nil {
		return nil, err
	}
	name := ""
	if captures == nil {
		name = beside(st, s, folder)
	} else if spelled, ok := ownPattern(s).Spell(captures); ok && s.Kind.Unit != game.UnitSet {
		name = spelled
	}
	names, err := s.Renamed(captures, name)
	if err != nil {
		return nil, err
	}
	where := names[0].To
	if n, ok := s.Kind.Slots.Number(captures["slot"]); ok && s.Kind.Slots != nil {
		where = "slot " + s.Kind.Slots.Shown(n)
	}
	p, err := begin(ctx, h, st, s, fmt.Sprintf(title, s.Called(), where))
	if err != nil {
		return nil, err
	}
	for _, n := range names {
		if _, err := tree.Stat(folder.Path, n.To); err == nil {
			return nil, problem.Usage(problem.Advise("choose another"), "%s is taken; nothing has been changed", n.To)
		}
	}
	after := plan.Standing(st, s)
	if after.Place != nil {
		after.Place.Key, after.Place.Slot = facts.KeyAt(folder, names[0].To), ""
	}
	var targets []plan.Target
	for _, n := range names {
		targets = append(targets, copyOf(s, n.From, folder.Path, n.To, files, h.Now()))
	}
	step := plan.Step{What: plan.Describe(s), Root: folder.Path, Name: names[0].To}
	p.Put(ctx, step, plan.LeaveAside(), &plan.Save{Key: facts.KeyAt(folder, names[0].To), After: after}, targets...)
	return p, nil
}

// maxFree bounds the search for a free name.
const maxFree = 1000

// beside is a free name for a copy of a save whose name is made of its fields alone, so that the game would call both the same.
func beside(st *facts.State, s *facts.Save, folder game.Located) string {
	ext := path.Ext(s.Name)
	for i := 2; ; i++ {
		if name := fmt.Sprintf("%s %d%s", strings.TrimSuffix(s.Name, ext), i, ext); st.At(folder, name) == nil {
			return name
		}
	}
}

// ownPattern is the one that the name of a save is of: what is packed keeps the ending that says so.
func ownPattern(s *facts.Save) *game.Name {
	for _, n := range s.Kind.Names() {
		if _, ok := n.Match(s.Name, true); ok {
			return n
		}
	}
	return s.Kind.Names()[0]
}

// place finds the captures of the name that a save would have: in the slot or with the name to, or where that is "" in the first that is
// free. They are nil where nothing in such a name varies.
func place(st *facts.State, s *facts.Save, folder game.Located, to string) (map[string]string, error) {
	pattern, slots := ownPattern(s), s.Kind.Slots
	free := func(captures map[string]string) bool {
		spelled, ok := pattern.Spell(captures)
		return ok && st.At(folder, spelled) == nil
	}
	with := func(capture, value string) map[string]string {
		captures := maps.Clone(s.Captures)
		captures[capture] = value
		return captures
	}
	if slots != nil && pattern.HasSlot() {
		first, last := slots.Range()
		for n := first; n <= last; n++ {
			captures := with("slot", pattern.SpellSlot(n))
			if to == "" && free(captures) || to != "" && strings.EqualFold(slots.Shown(n), to) {
				return captures, nil
			}
		}
		if to == "" {
			return nil, problem.Usage(problem.Do("saves remove", st.Address(s)), "all %d slots are taken", last-first+1)
		}
		return nil, problem.Usage(nil, "there is no slot %s; they go from %s to %s", to, slots.Shown(first), slots.Shown(last))
	}
	if captures, ok := pattern.Match(to, false); ok {
		return captures, nil
	}
	stem := to
	if stem == "" {
		stem = pattern.Stem(s.Captures)
	}
	if _, varies := pattern.Another(nil, "x", 1); !varies && to == "" && pattern.OfFields() {
		return nil, nil
	}
	for i := 1; i < maxFree; i++ {
		captures, ok := pattern.Another(s.Captures, stem, i)
		if !ok {
			break
		}
		spelled, ok := pattern.Spell(captures)
		if !ok || unpack.CheckName(spelled) != "" || strings.ContainsAny(spelled, "/\\") {
			break
		}
		if again, ok := pattern.Match(spelled, false); ok && (to != "" || free(captures)) {
			return again, nil
		}
	}
	return nil, problem.Usage(nil, "the game's name for it, %s, cannot be made out of %q", pattern, stem)
}

// copyOf is a target that is made of a file or folder of a save, called name, as it is, but for files that are to have other bytes, by their paths in the
// save's folder; those are written at the time now.
func copyOf(s *facts.Save, name, root, to string, files tree.Contents, now time.Time) plan.Target {
	t := plan.Target{Root: root, Name: to, Content: map[string]tree.Sums{}}
	c := copying{dir: s.Folder.Path, name: name, files: files, now: now, wrote: func(inside string, sums tree.Sums) { t.Content[path.Join(to, inside)] = sums }}
	t.Fill = whileUnwritten(s, c.fill)
	return t
}

// copying is how a target is made of a file or folder.
type copying struct {
	dir, name string
	files     tree.Contents
	now       time.Time
	wrote     func(inside string, sums tree.Sums) // is told of each file with other bytes
}

func (c copying) fill(ctx context.Context, stage *plan.Stage) error {
	root, err := os.OpenRoot(c.dir)
	if err != nil {
		return err
	}
	defer root.Close()
	one := func(inside string, e tree.Entry) error {
		switch e.Kind {
		case tree.Dir:
			return stage.Mkdir(inside, e)
		case tree.Link:
			return stage.Symlink(inside, e.Target)
		case tree.File:
			if data, ok := c.files[path.Join(c.name, inside)]; ok {
				return c.write(ctx, stage, inside, e, data)
			}
			f, err := root.Open(path.Join(c.name, inside))
			if err != nil {
				return err
			}
			defer f.Close()
			return stage.Write(inside, e, func(w io.Writer) error { _, err := io.Copy(w, f); return err })
		default:
			return fmt.Errorf("%s cannot be copied: it is neither file nor folder", path.Join(c.name, inside))
		}
	}
	top, err := tree.Stat(c.dir, c.name)
	if err != nil {
		return err
	}
	if err := one(".", top); err != nil || top.Kind != tree.Dir {
		return err
	}
	if err := tree.Walk(ctx, filepath.Join(c.dir, c.name), func(e tree.Entry) error { return one(e.Path, e) }); err != nil {
		return err
	}
	return c.newFiles(ctx, root, stage)
}

// write writes a file with other bytes, none where data is nil.
func (c copying) write(ctx context.Context, stage *plan.Stage, inside string, e tree.Entry, data tree.Content) error {
	if data == nil {
		return nil
	}
	e.ModTime, e.Size = c.now, data.Size()
	sums, err := stage.Summed(ctx, inside, e, writing(data))
	if err == nil {
		c.wrote(inside, sums)
	}
	return err
}

// writing writes a content.
func writing(c tree.Content) func(io.Writer) error {
	return func(w io.Writer) error {
		if edited, ok := c.(interface{ CopyTo(io.Writer) error }); ok {
			return edited.CopyTo(w)
		}
		_, err := io.Copy(w, io.NewSectionReader(c, 0, c.Size()))
		return err
	}
}

// newFiles writes the files of a folder that are not in it yet.
func (c copying) newFiles(ctx context.Context, root *os.Root, stage *plan.Stage) error {
	made := map[string]bool{}
	for _, file := range slices.Sorted(maps.Keys(c.files)) {
		inside, ok := strings.CutPrefix(file, c.name+"/")
		if !ok || c.files[file] == nil {
			continue
		}
		if _, err := root.Lstat(file); err == nil {
			continue
		}
		for i, letter := range inside {
			if letter != '/' || made[inside[:i]] {
				continue
			}
			if _, err := root.Lstat(path.Join(c.name, inside[:i])); err == nil {
				continue
			}
			made[inside[:i]] = true
			if err := stage.Mkdir(inside[:i], tree.Entry{Kind: tree.Dir, Mode: 0o755, ModTime: c.now}); err != nil {
				return err
			}
		}
		e := tree.Entry{Path: inside, Kind: tree.File, Mode: 0o644}
		if err := c.write(ctx, stage, inside, e, c.files[file]); err != nil {
			return err
		}
	}
	return nil
}
