package mods

import (
	"context"
	"fmt"
	"io"
	"path/filepath"
	"slices"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/doc"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
)

// Fixing proposes to bring back what Verify found gone or broken, from the home's store and the archive, and to write the values that the game
// needs. Texts that were changed stay: players edit them. What is not to be had is a warning.
func (v *Verified) Fixing(ctx context.Context, f *Finder) (*Proposal, error) {
	p, err := begin(ctx, f.h, v.Install.State, "mods verify "+v.Install.Called)
	if err != nil {
		return nil, err
	}
	w := p.work
	back := map[ledger.Key][]goal{}
	var of []*ledger.Entry
	for _, b := range v.Broken {
		if b.Text && !b.Gone {
			continue
		}
		file := b.File
		open, err := f.find(ctx, b.Of, file)
		if err != nil {
			return nil, err
		}
		if open == nil && !file.Dir && file.Link == "" {
			p.Warnings = append(p.Warnings, fmt.Sprintf("%s of %s is neither in the store nor in the archive: add the mod anew", file.Path, b.Of.Name()))
			continue
		}
		w.sources[file.Digest] = open
		if back[b.Of.Key()] == nil {
			of = append(of, b.Of)
		}
		back[b.Of.Key()] = append(back[b.Of.Key()], goal{file.Place(), []want{{at: file.Place(), file: &file, of: b.Of}}})
	}
	for _, e := range of {
		goals := back[e.Key()]
		step := plan.Step{What: e.Name(), Note: count(len(goals), "file as it came", "files as they came")}
		if err := w.step(step, false, goals); err != nil {
			return nil, err
		}
	}
	if err := w.require(); err != nil {
		return nil, err
	}
	if !p.Moves() {
		p.Reason = "nothing is broken that could be brought back"
	}
	return p, p.Err()
}

// require plans to write the values that the game needs to load its saves as they are.
func (w *work) require() error {
	d := w.st.Install.Game
	for _, r := range w.st.Unmet {
		fields := d.Values[r.Value]
		if r.Value == "" || len(fields) == 0 || fields[0].In == "" || len(fields[0].At) != 1 {
			continue // that is for the player: the finding says how
		}
		full, ok, err := w.st.Install.FilePath(w.ctx, fields[0].In)
		if err != nil || !ok {
			return err
		}
		full = tree.Real(full)
		data, err := tree.ReadBounded(full, maxList)
		if err != nil {
			w.p.Warnings = append(w.p.Warnings, fmt.Sprintf("%s: %v", r.Fix, err))
			continue
		}
		declared := d.Files[fields[0].In]
		written, err := declared.Layers.Rewrite(data, wrap.DefaultLimits, func(content []byte) ([]byte, error) {
			return doc.Splice(declared.Spec(), content, fields[0].At[0], fields[0].Encode(r.Is))
		})
		if err != nil {
			w.p.Warnings = append(w.p.Warnings, fmt.Sprintf("%s cannot be written: %v; %s", full, err, r.Fix))
			continue
		}
		e, err := tree.Stat(filepath.Dir(full), filepath.Base(full))
		if err != nil {
			return err
		}
		if !w.changeable(filepath.Dir(full)) {
			w.p.Warnings = append(w.p.Warnings, fmt.Sprintf("%s lies in no folder that Ostrov changes: %s", full, r.Fix))
			continue
		}
		t := plan.Target{Root: filepath.Dir(full), Name: filepath.Base(full)}
		t.Fill = func(_ context.Context, stage *plan.Stage) error {
			e.ModTime = w.h.Now()
			return stage.Write(".", e, func(to io.Writer) error { _, err := to.Write(written); return err })
		}
		w.p.Put(w.ctx, plan.Step{What: filepath.Base(full), Note: r.Fix}, plan.LeaveAside(), nil, t)
	}
	return nil
}

// changeable reports whether a folder is one that changes may touch: of the game, or of its settings.
func (w *work) changeable(dir string) bool {
	if slices.ContainsFunc(w.st.Groups, func(g game.FileGroup) bool { return tree.Real(g.Dir) == dir }) {
		return true
	}
	return slices.ContainsFunc(w.st.Folders, func(f game.Located) bool { return f.Real == dir && !f.Managed })
}

// Finder finds the contents of mods in the home's store and in the archive. Close it.
type Finder struct {
	h       *home.Home
	archive *archive.Archive
	opened  map[string]*facts.Download
}

// NewFinder is a finder in a home's store, and in its archive where that is there.
func NewFinder(h *home.Home) *Finder {
	f := &Finder{h: h, opened: map[string]*facts.Download{}}
	if a, err := h.Archive(); err == nil {
		f.archive = a
	}
	return f
}

// Close frees the downloads that were opened.
func (f *Finder) Close() error {
	var err error
	for _, d := range f.opened {
		if e := d.Close(); e != nil {
			err = e
		}
	}
	return err
}

// find finds a file of a mod, nil where nothing has it.
func (f *Finder) find(ctx context.Context, of *ledger.Entry, file ledger.File) (opener, error) {
	if f.h.Store().Has(file.Digest) {
		return func() (io.ReadCloser, error) { return f.h.Store().Open(file.Digest) }, nil
	}
	if f.archive == nil {
		return nil, nil
	}
	for _, source := range of.From {
		d, err := f.download(ctx, source.Digest)
		if err != nil || d == nil {
			continue // a download that cannot be opened any more has nothing
		}
		for name, digest := range d.Digests {
			if digest == file.Digest {
				return func() (io.ReadCloser, error) { return d.FS.Open(name) }, nil
			}
		}
	}
	return f.inSnapshots(ctx, of, file)
}

// download opens a download that the archive keeps; nil where it does not.
func (f *Finder) download(ctx context.Context, digest tree.Digest) (*facts.Download, error) {
	if digest.IsZero() {
		return nil, nil
	}
	kept, ok, err := f.archive.FindDownload(digest)
	if err != nil || !ok {
		return nil, err
	}
	if d := f.opened[kept.Path]; d != nil {
		return d, nil
	}
	d, err := facts.OpenMod(ctx, f.h, kept.Path)
	if err == nil {
		f.opened[kept.Path] = d
	}
	return d, err
}

// inSnapshots finds a file among the mods that snapshots of the game have kept.
func (f *Finder) inSnapshots(ctx context.Context, of *ledger.Entry, file ledger.File) (opener, error) {
	lines, err := f.archive.Playthroughs()
	if err != nil {
		return nil, err
	}
	for _, line := range lines {
		snaps, _, err := f.archive.Snapshots(line)
		if err != nil {
			return nil, err
		}
		for _, s := range slices.Backward(snaps) {
			if s.Game != of.Game || !s.Holds(archive.Mods) {
				continue
			}
			for _, root := range s.Roots {
				if root.Kind != archive.Mods {
					continue
				}
				var found *archive.Node
				err := f.archive.Nodes(ctx, root, func(n archive.Node) error {
					if n.Kind == tree.File && n.Digest == file.Digest {
						found = &n
					}
					return nil
				})
				if err == nil && found != nil {
					return func() (io.ReadCloser, error) { return f.spool(ctx, *found) }, nil
				}
			}
		}
	}
	return nil, nil
}

// spool reads a file of a snapshot.
func (f *Finder) spool(ctx context.Context, n archive.Node) (io.ReadCloser, error) {
	r, w := io.Pipe()
	go func() { w.CloseWithError(f.archive.Copy(ctx, n, w)) }()
	return r, nil
}
