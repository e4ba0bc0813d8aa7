package job

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/pmezard/go-difflib/difflib"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/game"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/parcel"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/unpack"
)

// Side is one of two things that are compared: an install, a snapshot, a save, a mod list or a parcel.
type Side struct {
	Name    string // what to call it
	Version string // of the game; "" where unknown
	// Mods is nil where it says nothing of mods.
	Mods    []mod.Listed
	Ordered bool
	// Saves is nil where it has none of its own.
	Saves []SideSave
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
	Mods       []ModChange
	Moved      []mod.Listed // mods that both have on, in another order
	Saves      []SaveChange
	Same       int // saves that are the same
	CompareMod bool
	Files      []FileChange // of one mod, where that is compared
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

// ModList is a mod list in a file of its own.
type ModList struct {
	Format      int             `json:"ostrov_mods"`
	Game        string          `json:"game"`
	Version     string          `json:"version,omitempty"`
	Fingerprint mod.Fingerprint `json:"fingerprint"`
	Ordered     bool            `json:"ordered,omitempty"`
	Mods        []mod.Listed    `json:"mods"`
}

// ModListOf is the mod list of an install.
func ModListOf(l *Look) ModList {
	list := l.List
	if list == nil {
		list = []mod.Listed{}
	}
	return ModList{Format: 1, Game: l.Install.Game.ID, Version: l.Version, Fingerprint: l.Fingerprint, Ordered: l.Mods.Ordered, Mods: list}
}

// Compare says what differs between two things, named by their addresses or files. "GAME+MOD" with a snapshot compares the files of that mod.
func (s *Session) Compare(ctx context.Context, a, b string) (*Comparison, error) {
	if strings.Contains(a, "+") && !strings.ContainsAny(a, `/\`) {
		return s.compareMod(ctx, a, b)
	}
	if strings.Contains(b, "+") && !strings.ContainsAny(b, `/\`) {
		return s.compareMod(ctx, b, a)
	}
	x, err := s.side(ctx, a)
	if err != nil {
		return nil, err
	}
	y, err := s.side(ctx, b)
	if err != nil {
		return nil, err
	}
	c := &Comparison{A: x, B: y}
	if x.Mods != nil && y.Mods != nil {
		c.Mods = slices.DeleteFunc(CompareMods(x.Mods, y.Mods), func(m ModChange) bool { return m.What == "reordered" }) // Moved says it
		if x.Ordered && y.Ordered {
			c.Moved = moved(x.Mods, y.Mods)
		}
	}
	if x.Saves != nil && y.Saves != nil {
		c.saves()
	}
	return c, nil
}

// moved are the mods that both lists have on and that stand elsewhere among those, as few as tell the difference.
func moved(a, b []mod.Listed) []mod.Listed {
	place := map[string]int{}
	for i, m := range a {
		if m.On {
			place[strings.ToLower(m.ID)] = i + 1
		}
	}
	var common []mod.Listed
	for _, m := range b {
		if m.On && place[strings.ToLower(m.ID)] > 0 {
			common = append(common, m)
		}
	}
	// The longest run of mods that kept their order stays; the others moved.
	best, from := make([]int, len(common)), make([]int, len(common))
	end := -1
	for i := range common {
		best[i], from[i] = 1, -1
		for j := range i {
			if place[strings.ToLower(common[j].ID)] < place[strings.ToLower(common[i].ID)] && best[j]+1 > best[i] {
				best[i], from[i] = best[j]+1, j
			}
		}
		if end < 0 || best[i] > best[end] {
			end = i
		}
	}
	stays := map[int]bool{}
	for i := end; i >= 0; i = from[i] {
		stays[i] = true
	}
	var out []mod.Listed
	for i, m := range common {
		if !stays[i] {
			out = append(out, m)
		}
	}
	return out
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

// side finds what an address or file means.
func (s *Session) side(ctx context.Context, address string) (*Side, error) {
	if info, err := os.Stat(address); err == nil && !info.IsDir() {
		return s.fileSide(ctx, address)
	}
	if strings.Contains(address, "/") {
		l, st, err := s.FindSave(ctx, address)
		if err != nil {
			return nil, err
		}
		side := &Side{Name: l.Address(st), Version: st.Needs.Version, Ordered: l.Mods.Ordered}
		if st.Needs.ModsEvidence != "" {
			side.Mods = []mod.Listed{}
			for _, m := range st.Needs.Mods {
				side.Mods = append(side.Mods, m.Listed)
			}
		}
		return side, nil
	}
	in, err := s.Install(address)
	snap, snapErr := s.Snapshot(address)
	switch {
	case err == nil && snapErr == nil:
		return nil, usage(in.Address()+"\n"+snap.Address(), "%q could be an install or a snapshot: say which", address)
	case snapErr == nil:
		return snapshotSide(snap, s.Games), nil
	case err != nil && strings.Contains(address, "."):
		return nil, snapErr
	case err != nil:
		return nil, err
	}
	l, err := s.Look(ctx, in)
	if err != nil {
		return nil, err
	}
	side := &Side{Name: l.Called, Version: l.Version, Mods: ModListOf(l).Mods, Ordered: l.Mods.Ordered, Saves: []SideSave{}}
	for _, st := range l.Saves {
		key := st.Key()
		side.Saves = append(side.Saves, SideSave{key.Folder + "/" + key.Name, fmt.Sprintf("%s %q", slotOrName(st), st.Title()), st.Digest, st.Modified})
	}
	return side, nil
}

func snapshotSide(snap *archive.Snapshot, games map[string]*game.Description) *Side {
	side := &Side{Name: snap.Address(), Version: snap.Version, Saves: []SideSave{}}
	if !snap.ByHand {
		side.Mods = append([]mod.Listed{}, snap.Mods...)
	}
	if d := games[snap.Game]; d != nil {
		side.Ordered = d.Active != nil && d.Active.Order
	}
	for _, k := range snap.Saves {
		folder := k.Folder
		if k.Account != "" {
			folder += ":" + k.Account
		}
		side.Saves = append(side.Saves, SideSave{folder + "/" + k.Name, k.Called(), k.Digest, k.Modified})
	}
	return side
}

// maxModList bounds a mod list in a file, in bytes.
const maxModList = 64 << 20

// fileSide reads a mod list or a parcel.
func (s *Session) fileSide(ctx context.Context, file string) (side *Side, err error) {
	data, err := readBounded(file, maxModList)
	if err != nil {
		return nil, err
	}
	var list ModList
	if json.Unmarshal(data, &list) == nil && list.Format == 1 {
		return &Side{Name: filepath.Base(file), Version: list.Version, Mods: append([]mod.Listed{}, list.Mods...), Ordered: list.Ordered}, nil
	}
	d, err := unpack.Open(ctx, file, s.scratch())
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, d.Close()) }()
	if err := d.Inspect(ctx, s.reading(d)); err != nil {
		return nil, err
	}
	found, err := parcel.Find(ctx, d.FS, d.Entries)
	if err != nil {
		return nil, err
	}
	if found == nil || len(found.Wrong) > 0 {
		return nil, usage("ostrov vet "+Quoted(file), "%s is neither a mod list nor a parcel that can be relied on", file)
	}
	side = &Side{Name: filepath.Base(file), Version: found.Needs.Version, Ordered: found.Needs.Ordered}
	if found.Needs.Mods != nil {
		side.Mods = []mod.Listed{}
		for _, m := range found.Needs.Mods {
			digest, _ := tree.ParseDigest(m.Digest) // another algorithm's is of no use here
			side.Mods = append(side.Mods, mod.Listed{ID: m.ID, Version: m.Version, Title: m.Title, Digest: digest, On: true})
		}
	}
	return side, nil
}

// compareMod compares the files of an installed mod with those that a snapshot kept of it.
func (s *Session) compareMod(ctx context.Context, address, snapshot string) (*Comparison, error) {
	install, id, _ := strings.Cut(address, "+")
	in, err := s.Install(install)
	if err != nil {
		return nil, err
	}
	l, err := s.Look(ctx, in)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(l.Mods.Mods, func(m *mod.Mod) bool { return strings.EqualFold(m.ID, id) && m.HiddenBy == "" })
	if i < 0 {
		return nil, usage("ostrov mods "+l.Called, "%s has no mod %q", l.Called, id)
	}
	m := l.Mods.Mods[i]
	snap, err := s.Snapshot(snapshot)
	if err != nil {
		return nil, err
	}
	a, err := s.Archive(false)
	if err != nil {
		return nil, err
	}
	kept := map[string]archive.Node{}
	found := false
	for _, root := range snap.Roots {
		if root.What != archive.Mods || root.Folder != m.Folder.ID || root.Account != m.Folder.Account {
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
		return nil, usage("ostrov keep "+l.Called+" --with mods", "%s has not kept the mod %s itself", snap.Address(), m.Name())
	}
	c := &Comparison{A: &Side{Name: snap.Address()}, B: &Side{Name: m.Name()}, CompareMod: true}
	return c, s.modFiles(ctx, a, m, kept, c)
}

func (s *Session) modFiles(ctx context.Context, a *archive.Archive, m *mod.Mod, kept map[string]archive.Node, c *Comparison) error {
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
		sums, err := s.Hasher.File(ctx, base, e, false)
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
		if path.Base(path.Dir(name)) != ".git" {
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
	now, err := readBounded(file, maxDiff+1)
	if err != nil || len(now) > maxDiff || was.Size > maxDiff {
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
	return difflib.GetUnifiedDiffString(difflib.UnifiedDiff{A: difflib.SplitLines(before.String()), B: difflib.SplitLines(string(now)), Context: 1})
}
