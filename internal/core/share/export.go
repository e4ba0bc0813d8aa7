package share

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/bag"
	"ostrov/internal/core/check"
	"ostrov/internal/core/doc"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
)

// Export is a snapshot that is to be written as a zip of a BagIt bag for people who may not have Ostrov: the files of each of its folders,
// its mod list, and a read-me.
type Export struct {
	Snapshot *archive.Snapshot
	Files    int             // as written
	Size     int64           // of the zip, bytes; 0 where none was written
	Private  []check.Finding // what of the player it tells
	Blanked  []string        // what has been emptied or left out, in words

	h *home.Home
	a *archive.Archive
	// nameless tells that no account is named.
	nameless bool
	called   func(name string) string // what a file or save is called in the zip
	altered  map[string][]byte        // content of files that were blanked, by root name and path; nil is one that is left out
}

// PlanExport looks at what an export would tell of the player. st is the install that the snapshot is of, or nil where none is known. With
// blank what the description marks as personal is emptied or left out.
func PlanExport(ctx context.Context, h *home.Home, st *facts.State, snap *archive.Snapshot, blank bool) (*Export, error) {
	a, err := h.Existing()
	if err != nil {
		return nil, err
	}
	e := &Export{Snapshot: snap, h: h, a: a, altered: map[string][]byte{}, nameless: blank}
	p := &personal{ctx: ctx, short: map[string]bool{}, given: map[string]bool{}}
	if st != nil {
		if p, err = newPersonal(ctx, st, nil); err != nil {
			return nil, err
		}
	}
	e.called = func(name string) string { return name }
	if blank {
		e.called = p.name
	}
	d := h.Game(snap.Game)
	for i, root := range snap.Roots {
		if root.Kind == archive.Mods || root.Kind == archive.Game { // these are not the player's
			continue
		}
		if root.Account != "" && !blank {
			e.Private = append(e.Private, check.New(check.Private, e.rootName(i), "the folder is called after the account "+root.Account))
		}
		nodes := map[string]archive.Node{}
		err := a.Nodes(ctx, root, func(n archive.Node) error {
			if n.Kind == tree.File {
				nodes[n.Path] = n
			}
			return nil
		})
		if err != nil {
			return nil, damaged(snap, err)
		}
		if d != nil && root.Kind == archive.Saves {
			if err := e.saves(ctx, p, d, root, i, nodes, blank); err != nil {
				return nil, err
			}
		}
		if err := e.search(ctx, p, d, root, i, nodes, blank); err != nil {
			return nil, err
		}
	}
	return e, nil
}

// rootName is what a root's folder is called in the zip: with blank, without the account.
func (e *Export) rootName(i int) string {
	name := e.Snapshot.RootName(i)
	if account := e.Snapshot.Roots[i].Account; e.nameless && account != "" {
		return fmt.Sprintf("%s-%d", strings.TrimSuffix(name, "-"+account), i+1)
	}
	return name
}

func damaged(snap *archive.Snapshot, err error) error {
	return problem.New(problem.Do("archive verify"), "%s could not be read whole: %w", snap.Address(), err)
}

// saves reads the saves of a root as far as the description marks something in them as personal, and blanks that.
func (e *Export) saves(ctx context.Context, p *personal, d *game.Description, root archive.Root, i int, nodes map[string]archive.Node, blank bool) error {
	for _, kept := range e.Snapshot.Saves {
		k := slices.IndexFunc(d.Saves, func(s game.Save) bool { return s.ID == kept.Kind })
		if kept.Folder != root.Folder || kept.Account != root.Account || k < 0 {
			continue
		}
		in := inSave{p, &facts.Save{Save: &save.Save{Kind: &d.Saves[k], Name: kept.Name}}}
		fsys := held{}
		var names []string
		for _, f := range kept.Files {
			names = append(names, f.Path)
			in.sv.Files = append(in.sv.Files, nodes[f.Path].Entry())
		}
		for _, name := range names {
			if n := nodes[name]; in.marked(name) && n.Size <= wrap.DefaultLimits.Decoded {
				var b bytes.Buffer
				if err := e.a.Copy(ctx, n, &b); err != nil {
					return damaged(e.Snapshot, err)
				}
				fsys[name] = b.Bytes()
			}
		}
		in.sv.Facts = save.Read(ctx, in.sv.Kind, fsys, kept.Name, names)
		if err := in.fields(fsys); err != nil {
			return damaged(e.Snapshot, err)
		}
		if !blank {
			continue
		}
		for name := range fsys {
			f := parcelFile{entry: nodes[name].Entry(), data: fsys[name]}
			f.entry.Path = name
			left, said, err := in.blank(&f)
			if err != nil {
				return err
			}
			e.Blanked = append(e.Blanked, said...)
			if key := e.rootName(i) + "/" + name; left {
				e.altered[key] = nil
			} else if len(said) > 0 {
				e.altered[key] = f.data
			}
		}
	}
	return nil
}

// search looks through the files of a root for what tells of the player; with blank, settings files that the description marks are left
// out.
func (e *Export) search(ctx context.Context, p *personal, d *game.Description, root archive.Root, i int, nodes map[string]archive.Node, blank bool) error {
	for _, name := range sortedKeys(nodes) {
		key := e.rootName(i) + "/" + name
		if d != nil && root.Kind == archive.Settings && isPersonal(d, name) {
			if blank {
				e.altered[key] = nil
				e.Blanked = append(e.Blanked, name+" left out")
				continue
			}
			e.Private = append(e.Private, check.New(check.Private, key, "the description marks it as personal"))
		}
		data, altered := e.altered[key]
		if altered && data == nil {
			continue
		}
		var found []check.Finding
		var err error
		if altered {
			found, err = p.search(key, inMemory(data), auto, doc.Spec{})
		} else {
			found, err = p.search(key, func() (io.ReadCloser, error) {
				r, w := io.Pipe()
				go func() { w.CloseWithError(e.a.Copy(ctx, nodes[name], w)) }()
				return r, nil
			}, auto, doc.Spec{})
		}
		if err != nil {
			return damaged(e.Snapshot, err)
		}
		if blank && len(found) > 0 && root.Kind == archive.Saves && nodes[name].Size <= wrap.DefaultLimits.Decoded {
			if found, err = e.conceal(ctx, p, key, nodes[name]); err != nil {
				return damaged(e.Snapshot, err)
			}
		}
		e.Private = append(append(e.Private, p.inName(e.called(key))...), found...)
	}
	return nil
}

// conceal takes out of a file what still tells of the player, where it is text, and finds what is left.
func (e *Export) conceal(ctx context.Context, p *personal, key string, n archive.Node) ([]check.Finding, error) {
	original := e.altered[key]
	if original == nil {
		var b bytes.Buffer
		if err := e.a.Copy(ctx, n, &b); err != nil {
			return nil, err
		}
		original = b.Bytes()
	}
	written, what, err := p.rewritten(original, auto, field.File{})
	if err != nil && !errors.Is(err, wrap.ErrNotWritable) {
		return nil, err
	}
	if err == nil {
		original, e.altered[key] = written, written
		for _, w := range what {
			e.Blanked = append(e.Blanked, fmt.Sprintf("%s in %s", w, e.called(key)))
		}
	}
	return p.search(e.called(key), inMemory(original), auto, doc.Spec{})
}

func sortedKeys(nodes map[string]archive.Node) []string {
	var names []string
	for name := range nodes {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// Write writes the zip, whole or not at all. An existing file is only replaced with replace.
func (e *Export) Write(ctx context.Context, file string, replace bool) error {
	snap := e.Snapshot
	progress := e.h.Counting("export", snap.Bytes())
	var err error
	e.Files = 0
	e.Size, err = e.h.WriteFile(file, replace, func(out io.Writer) error {
		w := bag.NewWriter(out, strings.TrimSuffix(filepath.Base(file), filepath.Ext(file)), snap.Taken)
		for i, root := range snap.Roots {
			err := e.a.Nodes(ctx, root, func(n archive.Node) error {
				if n.Kind != tree.File {
					return nil
				}
				progress(n.Size)
				return e.file(ctx, w, path.Join(e.rootName(i), n.Path), n)
			})
			if err != nil {
				return problem.New(problem.Do("archive verify"), "%s could not be written whole, so %s has not been written: %w", snap.Address(), file, err)
			}
		}
		mods, err := json.MarshalIndent(modlist.NewFile(snap.Game, snap.Version, false, snap.Mods), "", "  ")
		if err != nil {
			return err
		}
		if err := w.Text("data/mods.json", append(mods, '\n')); err != nil {
			return err
		}
		if err := w.Text("data/READ-ME.txt", []byte(e.readMe())); err != nil {
			return err
		}
		return w.Close(fmt.Sprintf("%s %s, snapshot %s", snap.GameTitle, snap.Version, snap.Address()))
	})
	return err
}

func (e *Export) file(ctx context.Context, w *bag.Writer, name string, n archive.Node) error {
	data, altered := e.altered[name]
	if altered && data == nil {
		return nil
	}
	e.Files++
	return w.File("data/"+e.called(name), n.Time, func(to io.Writer) error {
		if altered {
			_, err := to.Write(data)
			return err
		}
		return e.a.Copy(ctx, n, to)
	})
}

// ofWhat says what a root holds, for people.
func ofWhat(r archive.Root) string {
	if r.Pattern != "" {
		return fmt.Sprintf("%s: %s", r.Kind, r.Pattern)
	}
	return fmt.Sprintf("%s of the game's folder %q", r.Kind, r.Folder)
}

// readMe says for someone without Ostrov what an export holds.
func (e *Export) readMe() string {
	snap := e.Snapshot
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s, %s, kept %s\n", snap.GameTitle, snap.Version, snap.Title, snap.Taken.UTC().Format("2 January 2006 15:04 UTC"))
	if snap.Note != "" {
		fmt.Fprintf(&b, "%s\n", snap.Note)
	}
	b.WriteString("\nWhat is in the folders beside this file\n")
	for i, r := range snap.Roots {
		fmt.Fprintf(&b, "  %-28s %s, %d files\n", e.rootName(i)+"/", ofWhat(r), r.Files)
	}
	b.WriteString("\nSaves\n")
	for _, k := range snap.Saves {
		fmt.Fprintf(&b, "  %s, made with %s: %s\n", e.called(k.Called()), k.Version, e.called(k.Name))
	}
	b.WriteString("\nMods, in load order where the game has one\n")
	for _, m := range snap.Mods {
		state := ""
		if !m.On {
			state = " (off)"
		}
		if m.Altered {
			state += " (altered: not what was first seen of this version)"
		}
		fmt.Fprintf(&b, "  %s %s [%s]%s\n", m.Name(), m.Version, m.ID, state)
	}
	if len(snap.Mods) == 0 {
		b.WriteString("  none, or nobody knows\n")
	}
	b.WriteString("\nTo check that nothing is damaged: sha512sum -c manifest-sha512.txt, in the folder above this one.\n")
	return b.String()
}
