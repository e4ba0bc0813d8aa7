package trial

import (
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// install tries what an install says of itself, and the folders that are chosen in it.
func (t trier) install(root string) ([]Thing, error) {
	in := &game.Install{Game: t.d, Name: "tried", Root: root}
	if known := slices.IndexFunc(t.h.Installs, func(k *game.Install) bool { return k.Root == root && k.Game.ID == t.d.ID }); known >= 0 {
		in = &game.Install{Game: t.d, Name: t.h.Installs[known].Name, Root: root, Prefix: t.h.Installs[known].Prefix, PlayerHome: t.h.Installs[known].PlayerHome, Edition: t.h.Installs[known].Edition}
	}
	if err := in.Open(); err != nil {
		return nil, err
	}
	thing := Thing{What: "install", Name: root}
	files := in.Files(t.ctx)
	defer files.Close()
	thing.Files = t.files(files, "file", t.d.Files)
	thing.Fields = append(thing.Fields, t.field(files, "version", t.d.Version))
	if len(t.d.Versions.Build) > 0 {
		thing.Fields = append(thing.Fields, t.field(files, "build", t.d.Versions.Build))
	}
	for _, id := range t.d.Sorted("value", slices.Collect(maps.Keys(t.d.Values))) {
		thing.Fields = append(thing.Fields, t.field(files, "value "+id, t.d.Values[id]))
	}
	if t.d.Account != nil {
		thing.Fields = append(thing.Fields, t.field(files, "account", t.d.Account.Current))
	}
	if a := t.d.Active; a != nil {
		l := field.List{In: a.In, Each: a.Each, ID: a.ID}.FromWhole()
		thing.Lists = append(thing.Lists, List{"active", files.TryList(t.ctx, &l)})
	}
	folders, err := in.Folders(t.ctx)
	if err != nil {
		return nil, err
	}
	var things []Thing
	for _, f := range folders {
		found, cut, err := t.folder(f)
		if err != nil {
			return nil, err
		}
		one := Folder{ID: f.Called(), Path: f.Path, Why: f.Why, Exists: f.Exists, Cut: cut}
		for _, thing := range found {
			if thing.What == "save" {
				one.Saves++
			} else {
				one.Mods++
			}
		}
		thing.Folders = append(thing.Folders, one)
		things = append(things, found...)
	}
	for id, why := range in.Unplaced() {
		thing.Folders = append(thing.Folders, Folder{ID: id, Why: why.Error()})
	}
	return append([]Thing{thing}, things...), nil
}

// folder tries the saves and mods in a folder of an install: each by itself, as the game finds them there. cut tells that there are more than are
// tried.
func (t trier) folder(f game.Located) (things []Thing, cut bool, err error) {
	list, err := os.ReadDir(f.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	for _, item := range list {
		if t.ctx.Err() != nil || len(things) >= maxThings {
			return things, true, t.ctx.Err()
		}
		if strings.HasPrefix(item.Name(), save.Hidden) {
			continue
		}
		fsys, name := tree.DirFS(f.Path), item.Name()
		if item.IsDir() {
			fsys, name = tree.DirFS(filepath.Join(f.Path, item.Name())), "."
		} else if later, err := t.laterOfASet(fsys, name); err != nil || later {
			if err != nil {
				return nil, false, err
			}
			continue
		}
		found, err := t.inside(fsys, name, item.Name())
		if err != nil {
			return nil, false, err
		}
		found = slices.DeleteFunc(found, func(thing Thing) bool { return !t.belongs(thing, f.ID) })
		if len(found) == 0 {
			if found, err = t.unmarked(f, item); err != nil {
				return nil, false, err
			}
		}
		things = append(things, found...)
	}
	return things, false, nil
}

// laterOfASet reports whether a file is one of a set of which another one comes first.
func (t trier) laterOfASet(fsys fs.FS, name string) (bool, error) {
	for i := range t.d.Saves {
		if t.d.Saves[i].Unit != game.UnitSet {
			continue
		}
		others, err := save.Beside(&t.d.Saves[i], fsys, name)
		if err != nil {
			return false, err
		}
		if slices.ContainsFunc(others, func(o string) bool { return o < name }) {
			return true, nil
		}
	}
	return false, nil
}

// unmarked tries a folder as a mod of a kind whose mods nothing marks: everything in their folder is one.
func (t trier) unmarked(f game.Located, item os.DirEntry) ([]Thing, error) {
	for i := range t.d.Mods {
		kind := &t.d.Mods[i]
		if kind.Folder != f.ID || kind.Unit != game.UnitFolder || !item.IsDir() || len(kind.Marker)+len(kind.Files) > 0 {
			continue
		}
		thing, err := t.mod(kind, tree.DirFS(f.Path), item.Name(), nil, item.Name())
		return []Thing{thing}, err
	}
	return nil, nil
}

// belongs reports whether a thing's kind is one of a folder.
func (t trier) belongs(thing Thing, folder string) bool {
	return slices.ContainsFunc(t.d.Saves, func(s game.Save) bool { return thing.What == "save" && s.ID == thing.Kind && s.Folder == folder }) ||
		slices.ContainsFunc(t.d.Mods, func(m game.Mod) bool { return thing.What == "mod" && m.ID == thing.Kind && m.Folder == folder })
}
