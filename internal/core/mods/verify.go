package mods

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
)

// Verified is what verifying the mods of an install found.
type Verified struct {
	Install  *assess.Install
	Mods     int   // that have a ledger and are in place
	Files    int   // of theirs that were read
	Bytes    int64 // of these
	Findings []check.Finding
	// Broken are files that can be brought back, with the mods whose they are.
	Broken []Broken
}

// Broken is a file of a mod that is not as it came.
type Broken struct {
	Of   *ledger.Entry
	File ledger.File
	Path string // on this machine
	Gone bool
	Text bool // a text, which players edit
}

// Verify reads every file of every mod that has a ledger, and names what is missing, altered or nobody's, what mods need of each other and of the
// game, and for games whose saves have mod sets of their own that of each save.
func Verify(ctx context.Context, h *home.Home, now *assess.Install) (*Verified, error) {
	entries, err := h.Ledger(ctx, now.Install)
	if err != nil {
		return nil, err
	}
	w := newWork(ctx, h, now.State, &Proposal{}, entries)
	v := &Verified{Install: now}
	shelf := ledger.NewShelf(entries, rank(w.presentOrder()))
	if err := v.files(w, shelf); err != nil {
		return nil, err
	}
	if err := v.nobodys(w, shelf); err != nil {
		return nil, err
	}
	for _, f := range now.Findings {
		if aboutMods[f.Code] {
			v.Findings = append(v.Findings, f)
		}
	}
	v.ofSaves()
	check.Sort(v.Findings)
	return v, nil
}

// aboutMods are the findings of an install that concern its mods.
var aboutMods = map[check.Code]bool{check.RequirementMissing: true, check.ModsCollide: true, check.ModUnsupported: true, check.ModHidden: true, check.ModMissing: true,
	check.ModTwice: true, check.NotLoaded: true, check.SettingNeeded: true, check.SettingsOrphaned: true, check.OrderDiffers: true}

// files reads the files that lie on top.
func (v *Verified) files(w *work, shelf *ledger.Shelf) error {
	type check struct {
		of   *ledger.Entry
		file ledger.File
	}
	var all []check
	var total int64
	for _, p := range shelf.Places() {
		of, f := shelf.Top(p)
		if of.Kind == listKind {
			continue
		}
		all = append(all, check{of, f})
		total += f.Size
	}
	for _, e := range shelf.Entries() {
		if e.State == ledger.InPlace && e.Kind != listKind {
			v.Mods++
		}
		for _, f := range e.Files { // the roots, before several ask for them at once
			if _, err := w.root(f.Root); err != nil && f.Root != "active" {
				return err
			}
		}
	}
	progress := w.h.Counting("verify", total)
	var mu sync.Mutex
	var group errgroup.Group
	group.SetLimit(2 * runtime.GOMAXPROCS(0))
	for _, c := range all {
		group.Go(func() error {
			broken, err := whole(w, c.of, c.file)
			progress(c.file.Size)
			mu.Lock()
			defer mu.Unlock()
			v.Files, v.Bytes = v.Files+1, v.Bytes+c.file.Size
			if broken != nil {
				v.Broken = append(v.Broken, *broken)
			}
			return errors.Join(err, w.ctx.Err())
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	slices.SortFunc(v.Broken, func(a, b Broken) int { return strings.Compare(a.Path, b.Path) })
	for _, b := range v.Broken {
		v.Findings = append(v.Findings, b.finding())
	}
	return nil
}

func (b Broken) finding() check.Finding {
	code, text := check.ModBroken, b.File.Path+" is not as it came"
	switch {
	case b.Gone:
		text = b.File.Path + " is gone"
	case b.Text:
		code, text = check.ModEdited, b.File.Path+" has been changed"
	}
	return check.New(code, b.Of.Name(), text)
}

// whole reads one file of a mod; nil is that it is as the ledger says.
func whole(w *work, of *ledger.Entry, f ledger.File) (*Broken, error) {
	dir, err := w.root(f.Root)
	if err != nil {
		return nil, err
	}
	b := &Broken{Of: of, File: f, Path: filepath.Join(dir, filepath.FromSlash(f.Path)), Text: isText(f)}
	e, err := tree.Stat(dir, f.Path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		b.Gone = true
		return b, nil
	case err != nil:
		return nil, err
	case f.Dir && e.Kind == tree.Dir, f.Link != "" && e.Target == f.Link:
		return nil, nil
	case e.Kind != tree.File || e.Size != f.Size:
		b.Text = b.Text && e.Size > 0
		return b, nil
	}
	sums, err := w.h.Hasher.File(w.ctx, dir, e, false)
	if w.ctx.Err() != nil {
		return nil, w.ctx.Err()
	}
	if err != nil || sums.Blake3 != f.Digest {
		b.Text = b.Text && err == nil
		return b, nil
	}
	return nil, nil
}

// maxNobodys is how many files that are nobody's are named one by one.
const maxNobodys = 20

// nobodys names what lies in the folders of mods and is nobody's.
func (v *Verified) nobodys(w *work, shelf *ledger.Shelf) error {
	folders := shelf.Folders()
	n := 0
	var without []string
	name := func(path, what string) {
		if n++; n <= maxNobodys {
			v.Findings = append(v.Findings, check.New(check.ModNobodys, path, what))
		}
	}
	w.unowned = func(mod string) { without = append(without, mod) }
	seen := map[string]bool{}
	for i := range w.st.Install.Game.Mods {
		kind := &w.st.Install.Game.Mods[i]
		dirs, err := w.st.Install.FoldersOf(w.ctx, kind.Folder)
		if err != nil {
			return err
		}
		for _, dir := range dirs {
			if dir.Managed || kind.Base || seen[dir.Real] || !dir.Exists {
				continue
			}
			seen[dir.Real] = true
			if err := v.nobodysIn(w, shelf, folders, dir, name); err != nil {
				return err
			}
		}
	}
	if len(without) > 0 {
		text := count(len(without), "mod has", "mods have") + " no ledger, as they came some other way: " + strings.Join(without[:min(len(without), maxNobodys)], ", ")
		v.Findings = append(v.Findings, check.New(check.ModNobodys, "", text).Helped(problem.Do("mods adopt", w.st.Called)))
	}
	if n > maxNobodys {
		v.Findings = append(v.Findings, check.New(check.ModNobodys, "", count(n-maxNobodys, "more", "more")))
	}
	return nil
}

func (v *Verified) nobodysIn(w *work, shelf *ledger.Shelf, folders map[ledger.Place]bool, dir game.Located, name func(path, what string)) error {
	active, _, _ := w.st.Install.ActiveFile(w.ctx)
	active = tree.Real(active)
	return tree.Walk(w.ctx, dir.Real, func(e tree.Entry) error {
		full := filepath.Join(dir.Real, filepath.FromSlash(e.Path))
		root, rel, err := w.st.Install.PlaceOf(w.ctx, full)
		if err != nil {
			return nil // another folder of the description begins there
		}
		at := ledger.Place{Root: root, Path: rel}
		of, _ := shelf.Top(at)
		switch {
		case of != nil, full == active, e.Path == ".git", strings.Contains(e.Path, "/.git"):
			if e.Kind == tree.Dir && strings.HasSuffix(e.Path, ".git") {
				return fs.SkipDir
			}
			return nil
		case e.Kind == tree.Dir && folders[at]:
			return nil
		}
		for _, m := range w.st.Mods.Mods {
			if full == filepath.Join(tree.Real(m.Folder.Path), filepath.FromSlash(m.Path)) {
				if !m.Kind.Base {
					w.unowned(m.Name())
				}
				if e.Kind == tree.Dir {
					return fs.SkipDir
				}
				return nil
			}
		}
		if e.Kind != tree.Dir {
			name(e.Path, "belongs to no mod that is known")
		}
		return nil
	})
}

// ofSaves adds what there is to say of the mod sets that saves have of their own.
func (v *Verified) ofSaves() {
	if !v.Install.Install.Game.PerSaveMods() {
		return
	}
	for _, s := range v.Install.Saves {
		for _, f := range s.Findings {
			if f.Code == check.RequirementMissing || f.Code == check.ModsCollide || f.Code == check.ModUnsupported {
				f.Evidence = s.Called() + ": " + f.Evidence
				v.Findings = append(v.Findings, f)
			}
		}
	}
}
