// Package save recognises the saves of a game: by name in the game's own folders, and by content, whatever their name, in a download.
//
// It reads what a save says of itself (Facts) through the description and takes its digest. It never changes anything, and what it reads
// comes through an fs.FS, so that a folder, a zip and a snapshot are all the same to it.
package save

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/form"
	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
)

// Hidden is how the names begin of what Ostrov itself puts beside saves; no save is called so.
const Hidden = ".ostrov"

// Facts is what a save says of itself.
type Facts struct {
	Fields    map[string]form.Value
	Mods      []game.Item
	ModsKnown bool // the save lists its mods, perhaps none
	Owner     string
	// Problem is why the save cannot be read, or nil; what could be read is filled in all the same.
	Problem error `json:"-"`
}

// Version is the version of the game that wrote the save, or "".
func (f Facts) Version() string { return f.Fields["version"].Raw }

// Title is what the save calls itself, or "".
func (f Facts) Title() string { return f.Fields["title"].Text }

// Save is one save in a folder of the game.
type Save struct {
	Kind   *game.Save
	Folder game.Located
	// Name is that of the file or folder; of a set the name of its first file.
	Name     string
	Captures map[string]string
	Slot     int // as names count it; see HasSlot
	HasSlot  bool
	// Files are all files of the save, paths relative to the folder, sorted; for a folder they begin with its name.
	Files    []tree.Entry
	Size     int64     // bytes
	Modified time.Time // the latest of its files
	Digest   tree.Digest
	Facts    Facts

	unread error // why not all of its files are known
}

// SlotShown is the slot as the game shows it, or "".
func (s *Save) SlotShown() string {
	if !s.HasSlot {
		return ""
	}
	return s.Kind.Slots.Shown(s.Slot)
}

// Handle is what commands call the save inside its folder: the slot as the game shows it, else its name.
func (s *Save) Handle() string {
	if s.HasSlot {
		return s.SlotShown()
	}
	return s.Name
}

// Title is what to call the save before people.
func (s *Save) Title() string {
	if t := s.Facts.Title(); t != "" {
		return t
	}
	return s.Name
}

// Tops are the names in the folder that make up the save: one file or folder, or the files of a set.
func (s *Save) Tops() []string {
	if s.Kind.Unit == game.UnitFolder {
		return []string{s.Name}
	}
	tops := make([]string, len(s.Files))
	for i, f := range s.Files {
		tops[i] = f.Path
	}
	return tops
}

// Unread is a folder of saves that cannot be listed: what is in it is not known.
type Unread struct {
	Folder game.Located
	Err    error
}

// Scan finds all saves in the folders of the install and reads what they say, where h does not remember it. It takes no digests.
func Scan(ctx context.Context, in *game.Install, h *tree.Hasher) (all []*Save, unread []Unread, err error) {
	for i := range in.Game.Saves {
		kind := &in.Game.Saves[i]
		if ok, err := in.Holds(ctx, kind.If); err != nil || !ok {
			if err != nil {
				return nil, nil, err
			}
			continue
		}
		folders, err := in.FoldersOf(ctx, kind.Folder)
		if err != nil {
			return nil, nil, err
		}
		for _, folder := range folders {
			saves, err := scanFolder(ctx, in, kind, folder, h)
			if err != nil && ctx.Err() != nil {
				return nil, nil, err
			}
			if err != nil {
				unread = append(unread, Unread{folder, err})
			}
			all = append(all, saves...)
		}
	}
	return all, unread, nil
}

func scanFolder(ctx context.Context, in *game.Install, kind *game.Save, folder game.Located, h *tree.Hasher) ([]*Save, error) {
	list, err := os.ReadDir(folder.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var names []string
	for _, item := range list {
		if item.IsDir() == (kind.Unit == game.UnitFolder) && !strings.HasPrefix(item.Name(), Hidden) && (item.IsDir() || item.Type().IsRegular()) {
			names = append(names, item.Name())
		}
	}
	var saves []*Save
	for _, g := range group(kind, names, in.FoldsCase()) {
		s := &Save{Kind: kind, Folder: folder, Name: g.names[0], Captures: g.captures}
		if s.Files, s.unread, err = members(ctx, kind, folder.Path, g.names); err != nil {
			return nil, err
		}
		if len(s.Files) == 0 && kind.Unit != game.UnitFolder {
			continue
		}
		s.Slot, s.HasSlot = slotOf(kind, g.captures)
		for _, f := range s.Files {
			s.Size += f.Size
			if f.ModTime.After(s.Modified) {
				s.Modified = f.ModTime
			}
		}
		h.Once(filepath.Join(folder.Path, s.Name), in.Game.Digest, folder.Path, slices.Values(s.Files), &s.Facts, func() bool {
			s.Facts = Read(ctx, kind, tree.DirFS(folder.Path), s.Name, paths(s.Files))
			return s.Facts.Problem == nil
		})
		if kind.Is != nil && kind.Unit == game.UnitFolder && errors.Is(s.Facts.Problem, fs.ErrNotExist) && !anyDeclared(kind, s.Name, paths(s.Files)) {
			continue // a folder of another kind that lies among the saves
		}
		saves = append(saves, s)
	}
	sort.SliceStable(saves, func(i, j int) bool {
		if saves[i].HasSlot && saves[j].HasSlot {
			return saves[i].Slot < saves[j].Slot
		}
		return saves[i].Name < saves[j].Name
	})
	return saves, nil
}

// slotOf is the slot that captures name, if it is one of the game's.
func slotOf(kind *game.Save, captures map[string]string) (int, bool) {
	text, ok := captures["slot"]
	if !ok {
		return 0, false
	}
	return kind.Slots.Number(text)
}

func anyDeclared(kind *game.Save, name string, files []string) bool {
	for _, f := range kind.Files {
		for _, p := range files {
			if doublestar.MatchUnvalidated(path.Join(name, f.Path), p) {
				return true
			}
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

type named struct {
	names    []string
	captures map[string]string
}

// group finds the names that are saves of a kind; those of a set that share their captures are one save.
func group(kind *game.Save, names []string, fold bool) []named {
	var found []named
	index := map[string]int{}
	for _, name := range names {
		if ignored(kind, name) {
			continue
		}
		for _, pattern := range kind.Names() {
			captures, ok := pattern.Match(name, fold)
			if !ok || kind.Slots != nil && !inRange(kind, captures) {
				continue
			}
			key := name
			if kind.Unit == game.UnitSet {
				key = fmt.Sprint(captures)
			}
			if i, ok := index[key]; ok {
				found[i].names = append(found[i].names, name)
			} else {
				index[key] = len(found)
				found = append(found, named{[]string{name}, captures})
			}
			break
		}
	}
	return found
}

func inRange(kind *game.Save, captures map[string]string) bool {
	n, ok := kind.Slots.Number(captures["slot"])
	first, last := kind.Slots.Range()
	return ok && n >= first && n <= last
}

func ignored(kind *game.Save, name string) bool {
	for _, g := range kind.Ignore {
		if doublestar.MatchUnvalidated(g, name) || doublestar.MatchUnvalidated(g, path.Base(name)) {
			return true
		}
	}
	return false
}

// CompanionNames are the names of the files that belong to a save and lie beside it: those the description names, and those that a database keeps.
func CompanionNames(kind *game.Save, name string) []string {
	named := kind.CompanionsOf(name)
	for _, f := range kind.Files {
		if f.Form == "sqlite" && f.Path == "." {
			for _, ending := range form.SQLiteCompanions {
				named = append(named, name+ending)
			}
		}
	}
	return named
}

// FilesOf are the files of a save that a declared file means: one, or all that its glob matches.
func FilesOf(kind *game.Save, declared game.File, name string, files []string) []string {
	if declared.Path == "." {
		return files[:min(1, len(files))]
	}
	var found []string
	for _, f := range files {
		inside := f
		if kind.Unit == game.UnitFolder && name != "." {
			inside = strings.TrimPrefix(f, name+"/")
		}
		if inside == declared.Path || strings.EqualFold(inside, declared.Path) || doublestar.MatchUnvalidated(declared.Path, inside) {
			found = append(found, f)
		}
	}
	return found
}

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

// Read reads what a save says of itself. fsys holds it; name is that of its file or folder, and files are all its files, relative to fsys.
func Read(ctx context.Context, kind *game.Save, fsys fs.FS, name string, files []string) Facts {
	facts := Facts{Fields: map[string]form.Value{}}
	root := fsys
	if kind.Unit == game.UnitFolder && name != "." {
		sub, err := fs.Sub(fsys, name)
		if err != nil {
			facts.Problem = err
			return facts
		}
		root = sub
		relative := make([]string, len(files))
		for i, f := range files {
			relative[i] = strings.TrimPrefix(f, name+"/")
		}
		files = relative
	}
	in := game.InFS(root, name, files, kind.Files)
	defer in.Close()
	note := func(err error) {
		if err != nil && facts.Problem == nil {
			facts.Problem = err
		}
	}
	for _, id := range fieldIDs(kind) {
		v, ok, err := in.Field(ctx, kind.Field[id])
		note(err)
		if ok {
			facts.Fields[id] = v
		}
	}
	var err error
	facts.Mods, facts.ModsKnown, err = in.List(ctx, kind.Mods)
	note(err)
	facts.ModsKnown = facts.ModsKnown && err == nil
	if o := kind.Owner; o != nil && o.In != "" {
		v, _, err := in.Field(ctx, game.Fields{{In: o.In, At: o.At, As: o.As}})
		note(err)
		facts.Owner = v.Raw
	}
	return facts
}

func fieldIDs(kind *game.Save) []string {
	ids := make([]string, 0, len(kind.Field))
	for id := range kind.Field {
		ids = append(ids, id)
	}
	sort.Strings(ids)
	return ids
}

// TakeDigest reads what has changed of the save since the hasher last saw it and sets Digest.
// A save that the game is writing is tree.ErrBeingWritten.
func (s *Save) TakeDigest(ctx context.Context, h *tree.Hasher) error {
	if s.unread != nil {
		return s.unread
	}
	var list []tree.Named
	for _, f := range s.Files {
		sums, err := h.File(ctx, s.Folder.Path, f, false)
		if err != nil {
			return err
		}
		list = append(list, tree.Named{Path: s.relative(f.Path), Digest: sums.Blake3})
	}
	s.Digest = DigestOf(s.Kind, list)
	return nil
}

// relative is a path inside the save: without the save's own name, which is not part of its content.
func (s *Save) relative(file string) string { return Inside(s.Kind, s.Name, file) }

// Inside is the path of a save's file inside the save called name.
func Inside(kind *game.Save, name, file string) string {
	switch kind.Unit {
	case game.UnitFolder:
		if name == "." {
			return file
		}
		return strings.TrimPrefix(file, name+"/")
	case game.UnitSet:
		return path.Ext(file)
	default:
		if file == name {
			return "."
		}
		if companion := strings.TrimPrefix(file, name); companion != file {
			return companion
		}
		return strings.TrimPrefix(path.Base(file), strings.TrimSuffix(path.Base(name), path.Ext(name)))
	}
}

// DigestOf is the digest of a save from those of its files, whose paths are as Inside gives them: that of the file itself for a single
// one, else that of the list.
func DigestOf(kind *game.Save, files []tree.Named) tree.Digest {
	if kind.Unit == game.UnitFile && len(files) == 1 {
		return files[0].Digest
	}
	return tree.ListDigest(files)
}
