package mod

import (
	"bytes"
	"context"
	"io"
	"io/fs"
	"iter"
	"path"
	"slices"
	"sort"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/version"
)

// Unmet is a requirement that a mod has and the install does not meet.
type Unmet struct {
	Mod  *Mod
	Need Need
	Why  string
}

// Unmet are the requirements of mods that are on and not met. Mods are numbered by themselves, whatever the game's own versions are.
func (s Set) Unmet() []Unmet {
	byID := map[string]*Mod{}
	for _, m := range s.Mods {
		for _, id := range append([]string{m.ID}, m.Also...) {
			key := strings.ToLower(id)
			if had := byID[key]; m.HiddenBy == "" && (had == nil || !had.On && m.On) {
				byID[key] = m
			}
		}
	}
	var unmet []Unmet
	for _, m := range s.Mods {
		if !m.On {
			continue
		}
		if l := s.loader(m.Kind.Loader); l != nil && !l.There {
			unmet = append(unmet, Unmet{m, Need{ID: l.Name()}, "the loader is not installed"})
		}
		for _, n := range m.Needs {
			if l := s.loader(n.ID); l != nil {
				if why := lacks(l, n); why != "" {
					unmet = append(unmet, Unmet{m, n, why})
				}
				continue
			}
			other, ok := byID[strings.ToLower(n.ID)]
			why := ""
			switch {
			case !ok:
				why = "not installed"
			case !other.On:
				why = "switched off"
			case !n.Range.IsAny() && !n.Range.Holds(version.Order{}, other.Version):
				why = "you have " + other.Version
			default:
				continue
			}
			unmet = append(unmet, Unmet{m, n, why})
		}
	}
	return unmet
}

// loader is the loader of that id, or nil.
func (s Set) loader(id string) *game.FoundLoader {
	for i := range s.Loaders {
		if id != "" && strings.EqualFold(s.Loaders[i].ID, id) {
			return &s.Loaders[i]
		}
	}
	return nil
}

// lacks says why a loader does not meet a need, or is "".
func lacks(l *game.FoundLoader, n Need) string {
	switch {
	case !l.There:
		return "the loader is not installed"
	case n.Range.IsAny() || n.Range.Holds(version.Order{}, l.Version):
		return ""
	case l.Version == "":
		return "its version is not known"
	}
	return "you have " + l.Version
}

// ParseNeed reads a requirement as players state it: an id, and a range of versions or none.
func ParseNeed(text string) (Need, error) {
	id, rest, _ := strings.Cut(strings.TrimSpace(text), " ")
	r, err := version.ParseRange(strings.TrimSpace(rest))
	return Need{ID: id, Range: r, Stated: true}, err
}

// Clash is two mods that are on and cannot be on together.
type Clash struct{ Mod, With *Mod }

// Clashes are those of the set, each pair once.
func (s Set) Clashes() []Clash {
	var found []Clash
	seen := map[[2]*Mod]bool{}
	for _, m := range s.Mods {
		for _, id := range m.Clashes {
			for _, other := range s.Mods {
				if !m.On || !other.On || other == m || other.Kind.Base || id != "*" && !strings.EqualFold(id, other.ID) || seen[[2]*Mod{other, m}] {
					continue
				}
				seen[[2]*Mod{m, other}] = true
				found = append(found, Clash{m, other})
			}
		}
	}
	return found
}

// InDownload finds the mods of the game in a download: folders that hold a mod's files, or files that are called and read as a mod's are.
func InDownload(ctx context.Context, d *game.Description, fsys fs.FS, entries []tree.Entry) []*Mod {
	var found []*Mod
	for i := range d.Mods {
		kind := &d.Mods[i]
		if kind.Base {
			continue
		}
		found = append(found, OfKind(ctx, kind, fsys, entries)...)
	}
	sort.SliceStable(found, func(i, j int) bool { return found[i].Path < found[j].Path })
	return found
}

// OfKind finds the mods of one kind in a download.
func OfKind(ctx context.Context, kind *game.Mod, fsys fs.FS, entries []tree.Entry) []*Mod {
	var found []*Mod
	for _, p := range places(kind, entries) {
		if m := inPlace(ctx, kind, fsys, p); m != nil {
			found = append(found, m)
		}
	}
	sort.SliceStable(found, func(i, j int) bool { return found[i].Path < found[j].Path })
	return found
}

// OnePerPlace leaves each place of a download to one kind of mod: the first whose folder is the player's own, else the first.
func OnePerPlace(d *game.Description, found []*Mod) []*Mod {
	managed := func(m *Mod) bool {
		return slices.ContainsFunc(d.Folders, func(f game.Folder) bool { return f.ID == m.Kind.Folder && f.Managed })
	}
	var kept []*Mod
	for _, m := range found {
		switch i := slices.IndexFunc(kept, func(k *Mod) bool { return k.Path == m.Path }); {
		case i < 0:
			kept = append(kept, m)
		case managed(kept[i]) && !managed(m):
			kept[i] = m
		}
	}
	return kept
}

// inPlace reads the mod that something in a download is, or nil.
func inPlace(ctx context.Context, kind *game.Mod, fsys fs.FS, p place) *Mod {
	sub, err := fs.Sub(fsys, p.dir)
	if err != nil {
		return nil
	}
	in := field.InFS(sub, path.Base(p.at), p.files, kind.Files)
	said, err := readFacts(ctx, kind, in)
	if in.Close() != nil || err != nil || !made(kind, sub, p.files, said) {
		return nil
	}
	if said.Fields["id"] == "" && len(kind.Field["id"]) > 0 && len(kind.Marker) == 0 {
		return nil
	}
	if kind.Digest != nil {
		if said.Own, err = ownDigest(kind.Digest, sub, p.files[0]); err != nil {
			return nil
		}
	}
	m := &Mod{Kind: kind, Path: p.at, On: true}
	m.take(said)
	return m
}

// made reports whether a mod is made as [mod.is] says; without that, any is.
func made(kind *game.Mod, fsys fs.FS, files []string, said facts) bool {
	if kind.Is == nil {
		return true
	}
	for _, id := range kind.Is.Has {
		if said.Fields[id] == "" {
			return false
		}
	}
	magic, offset := kind.Is.MagicBytes()
	if magic == nil {
		return true
	}
	f, err := fsys.Open(files[0])
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, int(offset)+len(magic))
	_, err = io.ReadFull(f, head)
	return err == nil && bytes.Equal(head[offset:], magic)
}

// place is something in a download that could be a mod: a folder, or a file in one.
type place struct {
	at, dir string
	files   []string // relative to dir
}

// places are what could be mods of a kind: files that are called so, or any where the content tells, and folders that have what marks one.
func places(kind *game.Mod, entries []tree.Entry) []place {
	var found []place
	marked := map[string]bool{}
	for _, e := range entries {
		if e.Kind != tree.File {
			continue
		}
		if kind.Unit == game.UnitFile {
			if kind.Name == "" || kind.Is != nil || doublestar.MatchUnvalidated(kind.Name, path.Base(e.Path)) {
				found = append(found, place{e.Path, path.Dir(e.Path), []string{path.Base(e.Path)}})
			}
			continue
		}
		for dir, rest := range above(e.Path) {
			if !marked[dir] && marks(kind, rest) {
				marked[dir] = true
			}
		}
	}
	if len(marked) == 0 {
		return found
	}
	folders := map[string][]string{}
	for _, e := range entries {
		if e.Kind != tree.File {
			continue
		}
		for dir, rest := range above(e.Path) {
			if marked[dir] {
				folders[dir] = append(folders[dir], rest)
			}
		}
	}
	for dir, files := range folders {
		found = append(found, place{dir, dir, files})
	}
	return found
}

// above are the folders that a file lies in, from the innermost to ".", each with the way from there to the file.
func above(file string) iter.Seq2[string, string] {
	return func(yield func(dir, rest string) bool) {
		for end := len(file); ; {
			end = strings.LastIndexByte(file[:end], '/')
			if end < 0 {
				yield(".", file)
				return
			}
			if !yield(file[:end], file[end+1:]) {
				return
			}
		}
	}
}

// marks reports whether a file, relative to a folder, makes that folder a mod of the kind.
func marks(kind *game.Mod, file string) bool {
	globs := kind.Marker
	if len(globs) == 0 {
		for _, f := range kind.Files {
			if !f.Optional {
				globs = append(globs, f.Path)
			}
		}
	}
	for _, g := range globs {
		if doublestar.MatchUnvalidated(g, file) {
			return true
		}
	}
	return false
}
