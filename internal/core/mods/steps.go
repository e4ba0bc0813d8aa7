package mods

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/ledger"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/tree"
)

// steps plans the changes of the folders: each folder that is wholly a mod's as one.
func (w *work) steps(wants []want) error {
	type key struct {
		of   ledger.Key
		gone bool
		back bool
	}
	groups := map[key][]want{}
	var order []key
	for _, one := range wants {
		k := key{one.of.Key(), one.file == nil, one.back}
		if groups[k] == nil {
			order = append(order, k)
		}
		groups[k] = append(groups[k], one)
	}
	// What comes is joined first: a file where a folder was takes the folder's files along, and a folder where a file was the file.
	slices.SortStableFunc(order, func(a, b key) int { return cmp.Compare(number(a.gone), number(b.gone)) })
	all := w.changes(wants)
	for _, k := range order {
		of := groups[k][0].of
		step := plan.Step{What: strings.TrimSpace(of.Name() + " " + of.Version), Note: count(len(groups[k]), "file", "files")}
		if k.back {
			step.What, step.Note = "what "+of.Name()+" had covered", count(len(groups[k]), "file", "files")
		}
		goals, err := all.goals(groups[k])
		if err != nil {
			return err
		}
		if err := w.step(step, k.gone, goals); err != nil {
			return err
		}
	}
	return nil
}

func number(b bool) int {
	if b {
		return 1
	}
	return 0
}

// goal is one target: a place, and all that is to be in it; none is that it goes.
type goal struct {
	at    ledger.Place
	wants []want
}

// step plans one step with its targets.
func (w *work) step(step plan.Step, gone bool, goals []goal) error {
	byRoot := map[string][]string{}
	var targets []plan.Target
	var roots []string
	for _, g := range goals {
		root, err := w.root(g.at.Root)
		if err != nil {
			return err
		}
		if gone {
			if byRoot[root] == nil {
				roots = append(roots, root)
			}
			byRoot[root] = append(byRoot[root], g.at.Path)
			continue
		}
		targets = append(targets, w.target(root, g))
	}
	for _, root := range roots {
		one := step
		one.Root = root
		w.p.Remove(w.ctx, one, plan.LeaveAside(), nil, byRoot[root]...)
	}
	if len(targets) > 0 {
		w.p.Put(w.ctx, step, plan.LeaveAside(), nil, targets...)
	}
	return nil
}

// target is a goal as the plan takes it.
func (w *work) target(root string, g goal) plan.Target {
	t := plan.Target{Root: root, Name: g.at.Path, Content: map[string]tree.Sums{}}
	var total int64
	for _, one := range g.wants {
		total += one.file.Size
		if !one.file.Digest.IsZero() {
			t.Content[one.at.Path] = tree.Sums{Blake3: one.file.Digest}
		}
	}
	for _, l := range w.left[ledger.Place{Root: root, Path: g.at.Path}] {
		if w.fits(l, g) {
			t.Place, t.Content = l.Place, nil
			return t
		}
	}
	progress := w.h.Counting("write", total)
	t.Fill = func(ctx context.Context, stage *plan.Stage) error {
		for _, one := range g.wants {
			name := "."
			if one.at.Path != g.at.Path {
				name = strings.TrimPrefix(one.at.Path, g.at.Path+"/")
			}
			var err error
			switch e := one.file.Entry(); e.Kind {
			case tree.Dir:
				err = stage.Mkdir(name, e)
			case tree.Link:
				err = stage.Symlink(name, e.Target)
			default:
				err = stage.Write(name, e, func(to io.Writer) error { return w.copy(ctx, one.file, to) })
			}
			if err != nil {
				return err
			}
			progress(one.file.Size)
		}
		return nil
	}
	return t
}

// fits reports whether what an earlier change left beside a folder is just what a goal is to be: its files, and besides them only what is no
// mod's.
func (w *work) fits(l plan.Left, g goal) bool {
	wanted := map[ledger.Place]*ledger.File{}
	for _, one := range g.wants {
		wanted[one.at] = one.file
	}
	dir, found, ok := filepath.Dir(l.Path), 0, true
	same := func(e tree.Entry, at ledger.Place) {
		f, wants := wanted[at]
		if !wants {
			ok = ok && !w.anyHas(at)
			return
		}
		found++
		switch {
		case f.Dir || f.Link != "":
			ok = ok && (e.Kind == tree.Dir) == f.Dir && e.Target == f.Link
		case e.Kind != tree.File || e.Size != f.Size:
			ok = false
		case !e.ModTime.Equal(f.Time):
			sums, err := w.h.Hasher.File(w.ctx, dir, e, false)
			ok = ok && err == nil && sums.Blake3 == f.Digest
		}
	}
	top, err := tree.Stat(dir, filepath.Base(l.Path))
	if err != nil {
		return false
	}
	if top.Kind != tree.Dir {
		same(top, g.at)
		return ok && found == len(wanted)
	}
	name := top.Path
	if _, wants := wanted[g.at]; wants {
		found++
	}
	err = tree.Walk(w.ctx, l.Path, func(e tree.Entry) error {
		at := ledger.Place{Root: g.at.Root, Path: g.at.Path + "/" + e.Path}
		if f, wants := wanted[at]; e.Kind == tree.Dir && !(wants && f.Dir) {
			return nil
		}
		e.Path = name + "/" + e.Path
		same(e, at)
		return nil
	})
	return err == nil && ok && found == len(wanted)
}

// anyHas reports whether a mod has a path, in place or aside.
func (w *work) anyHas(at ledger.Place) bool {
	return slices.ContainsFunc(slices.Concat(w.now, w.then), func(e *ledger.Entry) bool {
		_, has := slices.BinarySearchFunc(e.Files, at, func(f ledger.File, p ledger.Place) int { return comparePlaces(f.Place(), p) })
		return has
	})
}

// copy copies a content, checked by its digest.
func (w *work) copy(ctx context.Context, f *ledger.File, to io.Writer) error {
	r, err := w.open(f.Digest, f.Place())()
	if err != nil {
		return err
	}
	defer r.Close()
	sums, _, err := tree.SumReader(ctx, r, false, to)
	if err == nil && sums.Blake3 != f.Digest {
		return fmt.Errorf("%s is not what it was: its digest is another", f.Path)
	}
	return err
}

// changes are the paths that change, sorted, with what is found out of the folders around them.
type changes struct {
	w      *work
	sorted []want
	at     map[ledger.Place]int
	taken  []bool
	known  map[folderChange]bool
}

// folderChange is a folder, and whether what is in it goes.
type folderChange struct {
	dir  ledger.Place
	gone bool
}

func (w *work) changes(wants []want) *changes {
	c := &changes{w: w, sorted: slices.Clone(wants), at: map[ledger.Place]int{}, known: map[folderChange]bool{}}
	slices.SortFunc(c.sorted, func(a, b want) int { return comparePlaces(a.at, b.at) })
	for i, one := range c.sorted {
		c.at[one.at] = i
	}
	c.taken = make([]bool, len(c.sorted))
	return c
}

func comparePlaces(a, b ledger.Place) int {
	return cmp.Or(cmp.Compare(a.Root, b.Root), cmp.Compare(a.Path, b.Path))
}

// below are the changes of a path and of all below it.
func (c *changes) below(dir ledger.Place) []int {
	var all []int
	if i, ok := c.at[dir]; ok {
		all = append(all, i)
	}
	inside := ledger.Place{Root: dir.Root, Path: dir.Path + "/"}
	i, _ := slices.BinarySearchFunc(c.sorted, inside, func(one want, p ledger.Place) int { return comparePlaces(one.at, p) })
	for ; i < len(c.sorted) && c.sorted[i].at.Root == dir.Root && strings.HasPrefix(c.sorted[i].at.Path, inside.Path); i++ {
		all = append(all, i)
	}
	return all
}

// goals joins the changes of paths into those of folders, where a folder is new, or all that is in it changes.
func (c *changes) goals(group []want) ([]goal, error) {
	var goals []goal
	for _, one := range group {
		if c.taken[c.at[one.at]] {
			continue
		}
		at, err := c.widest(one)
		if err != nil {
			return nil, err
		}
		g := goal{at: at}
		for _, i := range c.below(at) {
			c.taken[i] = true
			if c.sorted[i].file != nil {
				g.wants = append(g.wants, c.sorted[i])
			}
		}
		goals = append(goals, g)
	}
	return goals, nil
}

// widest is the outermost folder around a path that can be changed as one, or the path itself.
func (c *changes) widest(one want) (ledger.Place, error) {
	parts := strings.Split(one.at.Path, "/")
	for i := 1; i < len(parts); i++ {
		f := folderChange{ledger.Place{Root: one.at.Root, Path: path.Join(parts[:i]...)}, one.file == nil}
		ok, known := c.known[f]
		if !known {
			var err error
			if ok, err = c.asOne(f); err != nil {
				return f.dir, err
			}
			c.known[f] = ok
		}
		if ok {
			return f.dir, nil
		}
	}
	return one.at, nil
}

// asOne reports whether a folder can be changed as one: it is not there and comes, or all that is in it changes in the same way.
func (c *changes) asOne(f folderChange) (bool, error) {
	if c.w.folders[f.dir] {
		return false, nil
	}
	root, err := c.w.root(f.dir.Root)
	if err != nil {
		return false, err
	}
	alike := func() bool {
		return !slices.ContainsFunc(c.below(f.dir), func(i int) bool { return c.sorted[i].at != f.dir && (c.sorted[i].file == nil) != f.gone })
	}
	e, err := tree.Stat(root, f.dir.Path)
	if err != nil {
		return !f.gone && alike(), nil
	}
	if e.Kind != tree.Dir { // a file that goes makes way for a folder of its name
		_, changes := c.at[f.dir]
		return !f.gone && changes && alike(), nil
	}
	ok := alike()
	err = tree.Walk(c.w.ctx, filepath.Join(root, filepath.FromSlash(f.dir.Path)), func(e tree.Entry) error {
		at := ledger.Place{Root: f.dir.Root, Path: f.dir.Path + "/" + e.Path}
		_, changes := c.at[at]
		if ok = ok && (changes || e.Kind == tree.Dir && !c.w.folders[at] || f.gone && c.w.whole[f.dir]); !ok {
			return fs.SkipAll
		}
		return nil
	})
	if errors.Is(err, fs.SkipAll) {
		err = nil
	}
	return ok, err
}
