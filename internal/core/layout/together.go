package layout

import (
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/game"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/tree"
)

func toSlash(p string) string { return filepath.ToSlash(p) }

// together finds mods that come in several downloads: each part is told by what must be in it.
func (r *recogniser) together() ([]*Found, error) {
	var found []*Found
	for k := range r.in.Game.Mods {
		kind := &r.in.Game.Mods[k]
		for u := range kind.Unpack {
			if len(kind.Unpack[u].Together) == 0 {
				continue
			}
			f, err := r.joined(kind, &kind.Unpack[u])
			if err != nil {
				return nil, err
			}
			if f != nil {
				found = append(found, f)
			}
		}
	}
	return found, nil
}

// joined is the mod that parts make up, or nil where no download is a part of one.
func (r *recogniser) joined(kind *game.Mod, u *game.Unpack) (*Found, error) {
	f := &Found{Kind: kind, Named: map[int]string{}}
	bases := map[int]string{}
	for i, part := range r.parts {
		for _, name := range sortedKeys(u.Together) {
			base, ok := partBase(filesOf(part.Entries), u.Together[name])
			if !ok || slices.Contains(values(f.Named), name) {
				continue
			}
			f.Named[i], bases[i] = name, base
			f.Parts = append(f.Parts, i)
			break
		}
	}
	if len(f.Parts) == 0 {
		return nil, nil
	}
	for _, name := range sortedKeys(u.Together) {
		if !slices.Contains(values(f.Named), name) {
			f.Lacks = append(f.Lacks, name)
		}
	}
	if len(u.Merge)+len(u.Files) > 0 {
		for _, i := range f.Parts {
			one, err := r.merged(kind, u, i, ".")
			if err != nil {
				return nil, err
			}
			if one != nil {
				f.Pieces = append(f.Pieces, one.Pieces...)
			}
		}
		if len(f.Pieces) == 0 {
			return nil, nil
		}
		if err := r.identify(f); err != nil {
			return nil, err
		}
		f.Differ = r.differ(f, bases)
		return f, nil
	}
	return f, r.joinFolders(f, bases)
}

// joinFolders puts the parts of a mod that is a folder into one: that of the part which says what it is.
func (r *recogniser) joinFolders(f *Found, bases map[int]string) error {
	for _, i := range f.Parts {
		for _, m := range mod.OfKind(r.ctx, f.Kind, r.parts[i].FS, r.parts[i].Entries) {
			if m.Path == bases[i] && len(f.Mods) == 0 {
				f.Mods, f.ID, f.Version, f.Title = []*mod.Mod{m}, m.ID, m.Version, m.Title
			}
		}
	}
	first := f.Parts[0]
	if len(f.Mods) == 0 { // a part alone, of one that is there already
		f.ID, f.Version = splitVersion(r.parts[first].Name)
	} else {
		first = f.Parts[slices.IndexFunc(f.Parts, func(i int) bool { return bases[i] == f.Mods[0].Path })]
	}
	name, err := r.folderName(f, first, bases[first])
	if err != nil {
		return err
	}
	dir, err := r.folder(f.Kind)
	if err != nil {
		return err
	}
	for _, i := range f.Parts {
		for _, e := range r.parts[i].Entries {
			rest, ok := below(e.Path, bases[i])
			if !ok || e.Kind == tree.Dir && !r.empty(i, e.Path) || r.isPacked(i, e.Path) {
				continue
			}
			to, err := r.placeAt(dir, path.Join(name, rest))
			if err != nil {
				return err
			}
			f.Pieces = append(f.Pieces, Piece{i, e.Path, e, to})
		}
	}
	f.Differ = r.differ(f, bases)
	return nil
}

// partBase is the outermost folder of a download from which a glob leads to something in it.
func partBase(files []tree.Entry, glob string) (string, bool) {
	best, found := "", false
	for _, e := range files {
		for dir := path.Dir(e.Path); ; dir = path.Dir(dir) {
			if rest, ok := below(e.Path, dir); ok && doublestar.MatchUnvalidated(glob, rest) && (!found || strings.Count(dir, "/") < strings.Count(best, "/") || dir == ".") {
				best, found = dir, true
			}
			if dir == "." {
				break
			}
		}
	}
	return best, found
}

// differ says how the versions of parts differ: as each says itself, else as its name does.
func (r *recogniser) differ(f *Found, bases map[int]string) string {
	var words []string
	versions := map[string]bool{}
	for _, i := range f.Parts {
		_, version := splitVersion(r.parts[i].Name)
		for _, m := range mod.OfKind(r.ctx, f.Kind, r.parts[i].FS, r.parts[i].Entries) {
			if m.Path == bases[i] && m.Version != "" {
				version = m.Version
			}
		}
		if version != "" {
			versions[version] = true
			words = append(words, fmt.Sprintf("%s is %s", f.Named[i], version))
		}
	}
	if len(versions) < 2 {
		return ""
	}
	return strings.Join(words, ", ")
}

func sortedKeys(m map[string]string) []string {
	var all []string
	for k := range m {
		all = append(all, k)
	}
	slices.Sort(all)
	return all
}

func values(m map[int]string) []string {
	var all []string
	for _, v := range m {
		all = append(all, v)
	}
	return all
}
