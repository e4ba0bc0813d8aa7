package game

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/field"
	"ostrov/internal/core/strict"
	"ostrov/internal/core/tree"
)

// Unpack is a layout in which downloads of mods come, and where their parts go. Outer folders with nothing else in them are passed over.
type Unpack struct {
	Merge    map[string]string `toml:"merge" jsonschema:"description=a folder of this name, wherever it stands, goes to this template: what is in it joins what is there"`
	Files    map[string]string `toml:"files" jsonschema:"description=a file in no such folder, whose name the glob matches, goes to this template"`
	Leave    []string          `toml:"leave" jsonschema:"description=globs of file names that are left out"`
	Variants bool              `toml:"variants" jsonschema:"description=folders side by side are a choice"`
	Together map[string]string `toml:"together" jsonschema:"description=parts of one mod in several downloads: the name of each, with what must be in it"`
	After    []string          `toml:"after" jsonschema:"description=what must be there at the end: a template, or a path in the mod's folder"`
}

// Unpacks are the layouts of a kind of mod. The first that matches counts.
type Unpacks []Unpack

// FromTOML reads one table or a list of tables.
func (u *Unpacks) FromTOML(d *strict.Decoder, path string, value any) {
	field.OneOrMany(d, path, value, (*[]Unpack)(u))
}

// Loader is a program of others that mods of some kinds need to be loaded at all.
type Loader struct {
	ID      string       `toml:"id" jsonschema:"required"`
	Title   string       `toml:"title"`
	Marker  []string     `toml:"marker" jsonschema:"required,description=files of which one is there where the loader is: paths in the game, or templates"`
	Version field.Fields `toml:"version" jsonschema:"description=its version, from one of the [file]s"`
}

// Name is what to call the loader before people.
func (l *Loader) Name() string {
	if l.Title != "" {
		return l.Title
	}
	return l.ID
}

// Destinations are the templates that a layout puts files to, each once.
func (u *Unpack) Destinations() []string {
	all := slices.Concat(slices.Collect(maps.Values(u.Merge)), slices.Collect(maps.Values(u.Files)))
	slices.Sort(all)
	return slices.Compact(all)
}

// unpack checks the layouts of a kind of mod.
func (v validator) unpack(at string, m *Mod) {
	for i, u := range m.Unpack {
		where := at + ".unpack"
		if len(m.Unpack) > 1 {
			where = fmt.Sprintf("%s.%d", where, i)
		}
		for name := range u.Merge {
			if name == "" || strings.ContainsAny(name, "/\\*?[{") {
				v.Errorf(where+".merge", "", "%q is not the name of a folder", name)
			}
		}
		for _, t := range u.Destinations() {
			v.template(where, t)
			v.ownPlace(where, t)
		}
		v.globs(where+".files", keys(u.Files))
		v.globs(where+".leave", u.Leave)
		v.globs(where+".together", slices.Sorted(maps.Values(u.Together)))
		if len(u.Together) == 1 {
			v.Errorf(where+".together", "", "one part alone is no mod in several downloads")
		}
		for _, t := range u.After {
			if strings.HasPrefix(t, "{") {
				v.template(where+".after", t)
			} else if !fs.ValidPath(t) {
				v.Errorf(where+".after", "", "%q is not a path in the mod's folder", t)
			}
		}
	}
	if m.Loader != "" {
		var ids []string
		for _, l := range v.d.Loaders {
			ids = append(ids, l.ID)
		}
		v.Defined(at+".loader", "[[loader]]", m.Loader, ids)
	}
}

// ownPlace refuses templates that lead elsewhere than into the game or one of its folders: what is written there would be no mod.
func (v validator) ownPlace(at, t string) {
	parts, err := splitTemplate(t)
	if err != nil || len(parts) == 0 || parts[0].name == "game" || parts[0].name == "folder" {
		return
	}
	v.Errorf(at, "", "%q: mods go into {game} or a {folder:…} of the game", t)
}

// loaders checks the loaders of mods.
func (v validator) loaders() {
	for i, l := range v.d.Loaders {
		at := fmt.Sprintf("loader.%d", i)
		if !idPattern.MatchString(l.ID) || len(l.Marker) == 0 {
			v.Errorf(at, "", "a loader has an id of a-z, 0-9 and -, and a marker")
		}
		for _, m := range l.Marker {
			if strings.HasPrefix(m, "{") {
				v.template(at+".marker", m)
			} else if !fs.ValidPath(m) {
				v.Errorf(at+".marker", "", "%q is not a path in the game", m)
			}
		}
		v.Fields(at+".version", l.Version, v.d.Files)
	}
}

// Place resolves a template that stands for one place.
func (in *Install) Place(ctx context.Context, template string) (string, error) {
	found, err := in.expand(ctx, template, 0)
	if err != nil {
		return "", err
	}
	if len(found) != 1 {
		return "", fmt.Errorf("%s is %d places: %w", template, len(found), ErrNoPlace)
	}
	return found[0].path, nil
}

// InPlace resolves a template, or a path in the game.
func (in *Install) InPlace(ctx context.Context, name string) (string, error) {
	if strings.HasPrefix(name, "{") {
		return in.Place(ctx, name)
	}
	return filepath.Join(in.Root, filepath.FromSlash(name)), nil
}

// FoundLoader is a loader of the game, as it is in an install.
type FoundLoader struct {
	*Loader
	There   bool
	Version string // "" where it is not known
}

// Loaders are the loaders of the game, there or not.
func (in *Install) Loaders(ctx context.Context) ([]FoundLoader, error) {
	var all []FoundLoader
	for i := range in.Game.Loaders {
		l := FoundLoader{Loader: &in.Game.Loaders[i]}
		for _, m := range l.Marker {
			at, err := in.InPlace(ctx, m)
			if errors.Is(err, ErrNoPlace) {
				continue
			}
			if err != nil {
				return nil, err
			}
			_, err = os.Stat(at)
			l.There = l.There || err == nil
		}
		if l.There && len(l.Loader.Version) > 0 {
			version, _, err := in.field(ctx, l.Loader.Version)
			if err != nil {
				return nil, fmt.Errorf("the version of %s: %w", l.Name(), err)
			}
			l.Version = version.Raw
		}
		all = append(all, l)
	}
	return all, nil
}

// ErrElsewhere says that a place lies neither in the game nor in a folder of it that may be written.
var ErrElsewhere = errors.New("lies in no folder of the game that is written")

// Root names of places in the ledger.
const (
	inGame   = "game"
	inFolder = "folder:"
)

// PlaceOf is what the ledger calls a path, whatever the install is called and wherever it lies: the folder of the description that it lies in,
// else the game, and the path in there, slash-separated. Links have been resolved in what is given as in what is compared.
func (in *Install) PlaceOf(ctx context.Context, full string) (root, rel string, err error) {
	folders, err := in.Folders(ctx)
	if err != nil {
		return "", "", err
	}
	best := ""
	for _, f := range folders {
		if f.Managed && Within(full, f.Real) {
			return "", "", fmt.Errorf("%s: another program owns what is in it, and it is never written: %w", full, ErrElsewhere)
		}
		if Within(full, f.Real) && len(f.Real) > len(best) {
			best, root = f.Real, inFolder+f.Called()
		}
	}
	if best == "" {
		if real := tree.Real(in.Root); Within(full, real) {
			best, root = real, inGame
		}
	}
	if best == "" {
		return "", "", fmt.Errorf("%s: %w", full, ErrElsewhere)
	}
	rel, err = filepath.Rel(best, full)
	return root, filepath.ToSlash(rel), err
}

// RootOf is where the root of a place lies now, links resolved; ErrNoPlace where it is not there.
func (in *Install) RootOf(ctx context.Context, root string) (string, error) {
	if root == inGame {
		return tree.Real(in.Root), nil
	}
	folders, err := in.Folders(ctx)
	if err != nil {
		return "", err
	}
	for _, f := range folders {
		if inFolder+f.Called() == root {
			return f.Real, nil
		}
	}
	return "", fmt.Errorf("the folder %s %w", strings.TrimPrefix(root, inFolder), ErrNoPlace)
}

// Leaves reports whether a file of a download, by its name, is left out.
func (u *Unpack) Leaves(file string) bool {
	return matchesAny(u.Leave, file)
}

func matchesAny(globs []string, file string) bool {
	if len(globs) == 0 {
		return false
	}
	file = strings.ToLower(file)
	name := path.Base(file)
	return slices.ContainsFunc(globs, func(g string) bool {
		g = strings.ToLower(g)
		return doublestar.MatchUnvalidated(g, name) || doublestar.MatchUnvalidated(g, file)
	})
}

// MergesIntoGame reports whether mods of the game may have files in the game's own folder.
func (d *Description) MergesIntoGame() bool {
	return slices.ContainsFunc(d.Mods, func(m Mod) bool { return len(m.Unpack) > 0 })
}

// ModKind is the kind of mod of that id, or nil.
func (d *Description) ModKind(id string) *Mod {
	for i := range d.Mods {
		if d.Mods[i].ID == id {
			return &d.Mods[i]
		}
	}
	return nil
}
