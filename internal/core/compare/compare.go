// Package compare says what differs between two things: installs, snapshots, saves, mod lists, parcels; and between a mod and what was
// kept of it.
//
// It reads and changes nothing.
package compare

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
)

// Side is one of two things that are compared: an install, a snapshot, a save, a mod list or a parcel.
type Side struct {
	Name    string // what to call it
	Version string // of the game; "" where unknown
	// Mods is nil where it says nothing of mods.
	Mods    []modlist.Listed
	Ordered bool
	// Saves is nil where it has none of its own.
	Saves []SideSave
	// Save is the save that it is, or nil.
	Save *facts.Save

	inside contents     // its files, or nil
	own    bool         // of an install: each save has a mod set of its own
	base   []string     // of an install: ids of the game's own content, in lower case
	close  func() error // nil where there is nothing to close
}

// SideSave is a save of a side.
type SideSave struct {
	Place    string      `json:"place"` // folder and name, the same on both sides
	Name     string      `json:"name"`  // for people
	Digest   tree.Digest `json:"digest"`
	Modified time.Time   `json:"modified"`
}

// Comparison is what differs between two sides, mods first.
type Comparison struct {
	A, B       *Side
	Mods       []modlist.Change
	Moved      []modlist.Listed // mods that both have on, in another order
	Saves      []SaveChange
	Same       int // saves that are the same
	CompareMod bool
	Files      []FileChange // of one mod, where that is compared
	Inside     *Inside      // of two saves, or nil
}

// SaveChange is one save that differs.
type SaveChange struct {
	What string   `json:"what"` // new, gone or changed
	Save SideSave `json:"save"`
}

// FileChange is one file of a mod that differs.
type FileChange struct {
	What string `json:"what"` // new, gone or changed
	Path string `json:"path"`
	Diff string `json:"diff,omitempty"` // of a text that is not too large
}

// Compare says what differs between two things, named by their addresses or files. "GAME+MOD" with a snapshot compares the files of that
// mod.
func Compare(ctx context.Context, h *home.Home, a, b string) (*Comparison, error) {
	if strings.Contains(a, "+") && !strings.ContainsAny(a, `/\`) {
		return compareMod(ctx, h, a, b)
	}
	if strings.Contains(b, "+") && !strings.ContainsAny(b, `/\`) {
		return compareMod(ctx, h, b, a)
	}
	x, err := sideOf(ctx, h, a)
	if err != nil {
		return nil, err
	}
	defer x.end()
	y, err := sideOf(ctx, h, b)
	if err != nil {
		return nil, err
	}
	defer y.end()
	c := &Comparison{A: x, B: y}
	if x.Mods != nil && y.Mods != nil {
		c.Mods = slices.DeleteFunc(modlist.Compare(x.Mods, y.Mods), func(m modlist.Change) bool { return m.What == "reordered" }) // Moved says it
		c.Mods = slices.DeleteFunc(c.Mods, func(m modlist.Change) bool { return beside(x, y, m) || beside(y, x, m) })
		if x.Ordered && y.Ordered {
			c.Moved = modlist.Moved(x.Mods, y.Mods)
		}
	}
	if x.Saves != nil && y.Saves != nil {
		c.saves()
	}
	if x.inside != nil && y.inside != nil {
		c.Inside, err = inside(ctx, x, y)
	}
	if c.Inside == nil && (x.Mods == nil || y.Mods == nil) && (x.Saves == nil || y.Saves == nil) && err == nil {
		return nil, problem.Usage(nil, "%s and %s have nothing in common that could be compared", x.Name, y.Name)
	}
	return c, err
}

// beside reports whether a mod is in just one of a save and an install without that being a difference: where saves have their own sets, one that is
// installed besides, and the game's own content, which is always on.
func beside(saved, installed *Side, m modlist.Change) bool {
	if saved.Save == nil || installed.Save != nil {
		return false
	}
	has := func(list []modlist.Listed) bool {
		return slices.ContainsFunc(list, func(l modlist.Listed) bool { return strings.EqualFold(l.ID, m.Mod.ID) })
	}
	if !has(saved.Mods) {
		return installed.own
	}
	return !has(installed.Mods) && slices.Contains(installed.base, strings.ToLower(m.Mod.ID))
}

// end frees what a side holds open; nothing was written.
func (s *Side) end() {
	if s.close != nil {
		_ = s.close()
	}
}

func listed(n logbook.Needs) []modlist.Listed {
	list := []modlist.Listed{}
	for _, m := range n.Mods {
		list = append(list, m.Listed)
	}
	return list
}

func (c *Comparison) saves() {
	before := map[string]SideSave{}
	for _, sv := range c.A.Saves {
		before[sv.Place] = sv
	}
	for _, sv := range c.B.Saves {
		was, ok := before[sv.Place]
		delete(before, sv.Place)
		switch {
		case !ok:
			c.Saves = append(c.Saves, SaveChange{"new", sv})
		case was.Digest != sv.Digest:
			c.Saves = append(c.Saves, SaveChange{"changed", sv})
		default:
			c.Same++
		}
	}
	for _, sv := range c.A.Saves {
		if _, gone := before[sv.Place]; gone {
			c.Saves = append(c.Saves, SaveChange{"gone", sv})
		}
	}
}

// ListOf is the mod list of an install, a snapshot, a save, a parcel or a file, and what to call that.
func ListOf(ctx context.Context, h *home.Home, address string) ([]modlist.Listed, string, error) {
	side, err := sideOf(ctx, h, address)
	if err != nil {
		return nil, "", err
	}
	if side.close != nil {
		err = side.close()
	}
	if side.Mods == nil {
		return nil, "", problem.Usage(nil, "%s says nothing of mods", address)
	}
	return side.Mods, side.Name, err
}

// sideOf finds what an address or file means.
func sideOf(ctx context.Context, h *home.Home, address string) (*Side, error) {
	if _, err := os.Stat(address); err == nil && (strings.ContainsAny(address, `/\.`) || !h.Knows(address)) {
		return pathSide(ctx, h, address)
	}
	if strings.Contains(address, "/") {
		st, s, err := facts.FindSave(ctx, h, address)
		if err != nil {
			return nil, err
		}
		side := &Side{Name: st.Address(s), Version: s.Needs.Version, Ordered: st.Mods.Ordered, Save: s, inside: ofSave(h, s)}
		if s.Needs.ModsEvidence != "" {
			side.Mods = listed(s.Needs)
		}
		return side, nil
	}
	in, err := h.Install(address)
	snap, snapErr := h.Snapshot(address)
	switch {
	case err == nil && snapErr == nil:
		return nil, problem.Usage(problem.Advise("%s", in.Address()).Or(problem.Advise("%s", snap.Address())), "%q could be an install or a snapshot: say which", address)
	case snapErr == nil:
		return snapshotSide(snap, h.Game(snap.Game)), nil
	case err != nil && strings.Contains(address, "."):
		return nil, snapErr
	case err != nil:
		return nil, err
	}
	st, err := facts.Gather(ctx, h, in)
	if err != nil {
		return nil, err
	}
	side := &Side{Name: st.Called, Version: st.Version, Mods: append([]modlist.Listed{}, st.List...), Ordered: st.Mods.Ordered, Saves: []SideSave{}}
	side.own = in.Game.PerSaveMods()
	for _, m := range st.Mods.Mods {
		if m.Kind.Base {
			side.base = append(side.base, strings.ToLower(m.ID))
		}
	}
	for _, s := range st.Saves {
		side.Saves = append(side.Saves, SideSave{s.Place(), fmt.Sprintf("%s %q", s.Called(), s.Title()), s.Digest, s.Modified})
	}
	return side, nil
}

func snapshotSide(snap *archive.Snapshot, d *game.Description) *Side {
	side := &Side{Name: snap.Address(), Version: snap.Version, Saves: []SideSave{}}
	if !snap.ByHand {
		side.Mods = append([]modlist.Listed{}, snap.Mods...)
	}
	if d != nil {
		side.Ordered = d.Active != nil && d.Active.Order
	}
	for _, k := range snap.Saves {
		side.Saves = append(side.Saves, SideSave{k.Place(), k.Called(), k.Digest, k.Modified})
	}
	return side
}

// maxModList bounds a mod list in a file, in bytes.
const maxModList = 64 << 20

// listSide reads a mod list; it is nil for another file.
func listSide(file string) *Side {
	data, err := tree.ReadBounded(file, maxModList)
	var list modlist.File
	if err != nil || json.Unmarshal(data, &list) != nil || list.Format != modlist.Format {
		return nil
	}
	return &Side{Name: filepath.Base(file), Version: list.Version, Mods: append([]modlist.Listed{}, list.Mods...), Ordered: list.Ordered}
}

// parcelSide is what a parcel says that its save needs; it is nil for another file.
func parcelSide(ctx context.Context, h *home.Home, file string) (*Side, error) {
	d, err := facts.OpenDownload(ctx, h, file)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	if d.Parcel == nil || len(d.Parcel.Wrong) > 0 || len(d.Hazards) > 0 {
		return nil, nil
	}
	n := d.Parcel.Needs
	side := &Side{Name: filepath.Base(file), Version: n.Version, Ordered: n.Ordered}
	if n.Mods != nil {
		side.Mods = []modlist.Listed{}
		for _, m := range facts.ListOfParcel(n) {
			side.Mods = append(side.Mods, m.Listed)
		}
	}
	return side, nil
}

// compareMod compares the files of an installed mod with those that a snapshot kept of it.
func compareMod(ctx context.Context, h *home.Home, address, snapshot string) (*Comparison, error) {
	install, id, _ := strings.Cut(address, "+")
	in, err := h.Install(install)
	if err != nil {
		return nil, err
	}
	st, err := facts.Gather(ctx, h, in)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(st.Mods.Mods, func(m *mod.Mod) bool { return strings.EqualFold(m.ID, id) && m.HiddenBy == "" })
	if i < 0 {
		return nil, problem.Usage(problem.Do("mods", st.Called), "%s has no mod %q", st.Called, id)
	}
	m := st.Mods.Mods[i]
	snap, err := h.Snapshot(snapshot)
	if err != nil {
		return nil, err
	}
	a, err := h.Existing()
	if err != nil {
		return nil, err
	}
	kept := map[string]archive.Node{}
	found := false
	for _, root := range snap.Roots {
		if root.Kind != archive.Mods || root.Folder != m.Folder.ID || root.Account != m.Folder.Account {
			continue
		}
		err := a.Nodes(ctx, root, func(n archive.Node) error {
			inside, ok := strings.CutPrefix(n.Path, m.Path+"/")
			if found = found || ok || n.Path == m.Path; ok && n.Kind == tree.File {
				kept[inside] = n
			} else if n.Path == m.Path && n.Kind == tree.File {
				kept["."] = n
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	if !found {
		return nil, problem.Usage(problem.Do("keep", st.Called).With("with", "mods"), "%s has not kept the mod %s itself", snap.Address(), m.Name())
	}
	c := &Comparison{A: &Side{Name: snap.Address()}, B: &Side{Name: m.Name()}, CompareMod: true}
	return c, modFiles(ctx, h, a, m, kept, c)
}

func modFiles(ctx context.Context, h *home.Home, a *archive.Archive, m *mod.Mod, kept map[string]archive.Node, c *Comparison) error {
	dir := m.Dir()
	files := slices.Collect(m.Files())
	for _, e := range files {
		name, base := e.Path, dir
		if len(files) == 1 && kept["."].Kind == tree.File {
			name, base = ".", filepath.Dir(dir)
		}
		was, ok := kept[name]
		delete(kept, name)
		if !ok {
			c.Files = append(c.Files, FileChange{What: "new", Path: e.Path})
			continue
		}
		sums, err := h.Hasher.File(ctx, base, e, false)
		if err != nil {
			return err
		}
		if sums.Blake3 == was.Digest {
			c.Same++
			continue
		}
		change := FileChange{What: "changed", Path: e.Path}
		if change.Diff, err = diff(ctx, a, was, filepath.Join(base, filepath.FromSlash(e.Path))); err != nil {
			return err
		}
		c.Files = append(c.Files, change)
	}
	for name := range kept {
		if m.Counts(name) {
			c.Files = append(c.Files, FileChange{What: "gone", Path: name})
		}
	}
	sort.Slice(c.Files, func(i, j int) bool { return c.Files[i].Path < c.Files[j].Path })
	return nil
}

// maxDiff bounds a text whose lines are compared, in bytes.
const maxDiff = 256 << 10

// diff is what changed in a text, line by line; "" for what is no text, or a large one.
func diff(ctx context.Context, a *archive.Archive, was archive.Node, file string) (string, error) {
	now, err := tree.ReadBounded(file, maxDiff)
	if errors.Is(err, tree.ErrLarge) || was.Size > maxDiff {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	var before bytes.Buffer
	if err := a.Copy(ctx, was, &before); err != nil {
		return "", err
	}
	for _, text := range [][]byte{now, before.Bytes()} {
		if !utf8.Valid(text) || bytes.IndexByte(text, 0) >= 0 {
			return "", nil
		}
	}
	return lines(before.String(), string(now)), nil
}
