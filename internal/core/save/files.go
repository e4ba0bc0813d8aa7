package save

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
)

// Paths are the paths of the save's files, relative to its folder.
func (s *Save) Paths() []string { return paths(s.Files) }

// members lists the files of the save that names make up. unread is why some of them are not known, or nil.
func members(ctx context.Context, kind *game.Save, dir string, names []string) (files []tree.Entry, unread, err error) {
	for _, name := range names {
		if kind.Unit != game.UnitFolder {
			for _, part := range append([]string{name}, CompanionNames(kind, name)...) {
				switch e, err := tree.Stat(dir, part); {
				case err == nil && e.Kind == tree.File:
					files = append(files, e)
				case err != nil && !errors.Is(err, fs.ErrNotExist):
					unread = err
				}
			}
			continue
		}
		err := tree.Walk(ctx, filepath.Join(dir, name), func(e tree.Entry) error {
			if ignored(kind, e.Path) {
				if e.Kind == tree.Dir {
					return fs.SkipDir
				}
				return nil
			}
			switch e.Kind {
			case tree.File:
				e.Path = name + "/" + e.Path
				files = append(files, e)
			case tree.Unread:
				unread = e.Err
			}
			return nil
		})
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
		if err != nil { // the save's own folder
			unread = err
		}
	}
	return files, unread, nil
}

// FilesOf are the files of a save that a declared file means: one, or all that its glob matches.
func FilesOf(kind *game.Save, declared field.File, name string, files []string) []string {
	inside := within(kind, name, files)
	var found []string
	for _, f := range declared.In(inside) {
		found = append(found, files[slices.Index(inside, f)])
	}
	return found
}

// within are files of a save relative to it: of a folder without its name before them.
func within(kind *game.Save, name string, files []string) []string {
	inside := make([]string, len(files))
	if kind.Unit != game.UnitFolder {
		for i, f := range files {
			inside[i] = path.Base(f)
		}
		return inside
	}
	if name == "." {
		return files
	}
	for i, f := range files {
		inside[i] = strings.TrimPrefix(f, name+"/")
	}
	return inside
}

// side is where the files of a save that is no folder lie as the game has them, all side by side: a download may have them in folders of its own.
type side struct {
	fs.FS
	at map[string]string // by its name
}

func (s side) Open(name string) (fs.File, error) {
	at, ok := s.at[name]
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return s.FS.Open(at)
}

func sideBySide(fsys fs.FS, files []string) fs.FS {
	s := side{fsys, map[string]string{}}
	for _, f := range slices.Backward(files) { // the first one counts
		s.at[path.Base(f)] = f
	}
	return s
}

// CompanionNames are the names of the files that belong to a save and lie beside it: those the description names, and those that a
// database keeps.
func CompanionNames(kind *game.Save, name string) []string {
	named := kind.CompanionsOf(name)
	for _, f := range kind.Files {
		if f.Form == "sqlite" && f.Path == "." {
			for _, ending := range doc.SQLiteCompanions {
				named = append(named, name+ending)
			}
		}
	}
	return named
}

// Beside are the names of files in the root of fsys that make up one save of the kind with the file name: those of the same set, or companions.
func Beside(kind *game.Save, fsys fs.FS, name string) ([]string, error) {
	if kind.Unit != game.UnitSet {
		return slices.DeleteFunc(CompanionNames(kind, name), func(c string) bool { _, err := fs.Stat(fsys, c); return err != nil }), nil
	}
	list, err := fs.ReadDir(fsys, ".")
	if err != nil {
		return nil, err
	}
	var names []string
	for _, item := range list {
		if !item.IsDir() {
			names = append(names, item.Name())
		}
	}
	for _, g := range group(kind, names, true) {
		if slices.Contains(g.names, name) {
			return slices.DeleteFunc(slices.Clone(g.names), func(n string) bool { return n == name }), nil
		}
	}
	return nil, nil
}

func ignored(kind *game.Save, name string) bool {
	for _, g := range kind.Ignore {
		if doublestar.MatchUnvalidated(g, name) || doublestar.MatchUnvalidated(g, path.Base(name)) {
			return true
		}
	}
	return false
}

func paths(entries []tree.Entry) []string {
	list := make([]string, len(entries))
	for i, e := range entries {
		list[i] = e.Path
	}
	return list
}
