package mod

import (
	"context"
	"io/fs"
	"path"
	"sort"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

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

// Unmet are the requirements of mods that are on and not met.
func (s Set) Unmet(order version.Order) []Unmet {
	byID := map[string]*Mod{}
	for _, m := range s.Mods {
		if m.HiddenBy == "" {
			byID[strings.ToLower(m.ID)] = m
		}
	}
	var unmet []Unmet
	for _, m := range s.Mods {
		if !m.On {
			continue
		}
		for _, n := range m.Needs {
			other, ok := byID[strings.ToLower(n.ID)]
			why := ""
			switch {
			case !ok:
				why = "not installed"
			case !other.On:
				why = "switched off"
			case !n.Range.IsAny() && !n.Range.Holds(order, other.Version):
				why = "you have " + other.Version
			default:
				continue
			}
			unmet = append(unmet, Unmet{m, n, why})
		}
	}
	return unmet
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
		for at, files := range places(kind, entries) {
			sub, err := fs.Sub(fsys, at)
			if err != nil {
				continue
			}
			in := game.InFS(sub, path.Base(at), files, kind.Files)
			said, err := readFacts(ctx, kind, in)
			if in.Close() != nil || err != nil || said.ID == "" && len(kind.Field["id"]) > 0 && len(kind.Marker) == 0 {
				continue
			}
			m := &Mod{Kind: kind, Path: at, On: true}
			m.take(said)
			found = append(found, m)
		}
	}
	sort.Slice(found, func(i, j int) bool { return found[i].Path < found[j].Path })
	return found
}

// places are the folders of a download that could be mods of a kind, with their files relative to them. A mod that is one file is taken as
// the folder it lies in with just that file.
func places(kind *game.Mod, entries []tree.Entry) map[string][]string {
	all := map[string][]string{}
	marked := map[string]bool{}
	for _, e := range entries {
		if e.Kind != tree.File {
			continue
		}
		if kind.Unit == game.UnitFile {
			if kind.Name == "" || doublestar.MatchUnvalidated(kind.Name, path.Base(e.Path)) {
				all[path.Dir(e.Path)], marked[path.Dir(e.Path)] = []string{path.Base(e.Path)}, true
			}
			continue
		}
		rest := path.Base(e.Path)
		for dir := path.Dir(e.Path); ; dir = path.Dir(dir) {
			all[dir] = append(all[dir], rest)
			marked[dir] = marked[dir] || marks(kind, rest)
			rest = path.Join(path.Base(dir), rest)
			if dir == "." {
				break
			}
		}
	}
	for dir := range all {
		if !marked[dir] {
			delete(all, dir)
		}
	}
	return all
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
