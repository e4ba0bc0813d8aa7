// Package save recognises the saves of a game: by name in the game's own folders, and by content, whatever their name, in a download.
//
// It reads what a save says of itself (Facts) through the description and takes its digest. It never changes anything, and what it reads
// comes through an fs.FS, so that a folder, a zip and a snapshot are all the same to it.
package save

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
)

// Hidden is how the names begin of what Ostrov itself puts beside saves; no save is called so.
const Hidden = ".ostrov"

// Facts is what a save says of itself.
type Facts struct {
	Fields    map[string]field.Value
	Mods      []field.Item
	ModsKnown bool // the save lists its mods, perhaps none
	Owner     string
	// Problem is why the save cannot be read, or nil; what could be read is filled in all the same.
	Problem error `json:"-"`

	// Referring are the values at places that were to be read besides, as far as these are few.
	Referring map[game.Spot][]string `json:"-"`

	unread bool // what tells its kind could not be read
}

// Damaged reports whether the save is not what it should be. One that is only not understood or too large to be read may be right, and so may one whose
// reading did not come to an end.
func (f Facts) Damaged() bool {
	return f.Problem != nil && !errors.Is(f.Problem, wrap.ErrUnknown) && !errors.Is(f.Problem, wrap.ErrTooLarge) && !f.Stopped()
}

// Stopped reports whether reading it was stopped, or took longer than it may.
func (f Facts) Stopped() bool {
	return errors.Is(f.Problem, context.Canceled) || errors.Is(f.Problem, context.DeadlineExceeded)
}

// Version is the version of the game that wrote the save, or "".
func (f Facts) Version() string { return f.Fields["version"].Raw }

// Played is how long it was played, where the description reads that, or 0.
func (f Facts) Played() time.Duration { return f.Fields["played"].Duration }

// Named is what a field says in a save's name.
func (f Facts) Named(field string) string { return f.Fields[field].Raw }

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

	unread error       // why not all of its files are known
	scope  tree.Digest // of the description, where reading took so long that it is worth remembering by content
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

// Name is what a file or folder of a save is called, and would be called.
type Name struct{ From, To string }

// Renamed is what the files or the folder of the save would be called with other captures, its own name first; to is that where captures do not
// tell it, else "".
func (s *Save) Renamed(captures map[string]string, to string) ([]Name, error) {
	if to == "" {
		var ok bool
		if to, ok = s.Kind.Spell(captures, s.Facts.Named); !ok {
			return nil, fmt.Errorf("the name %s cannot be made out of %v", s.Kind.Names()[0], captures)
		}
	}
	switch s.Kind.Unit {
	case game.UnitFolder:
		return []Name{{s.Name, to}}, nil
	case game.UnitFile:
		names := []Name{{s.Name, to}}
		old, fresh := CompanionNames(s.Kind, s.Name), CompanionNames(s.Kind, to)
		for _, f := range s.Files {
			if i := slices.Index(old, f.Path); i >= 0 {
				names = append(names, Name{f.Path, fresh[i]})
			}
		}
		return names, nil
	}
	var names []Name
	for _, f := range s.Files {
		spelled := ""
		for _, n := range s.Kind.Names() {
			own, ok := n.Match(f.Path, true)
			if !ok {
				continue
			}
			maps.Copy(own, captures)
			if spelled, ok = n.Spell(own); !ok { // the ending is not captured: keep it
				spelled = strings.TrimSuffix(to, path.Ext(to)) + path.Ext(f.Path)
			}
			break
		}
		if spelled == "" {
			return nil, fmt.Errorf("%s is not called as the game calls it", f.Path)
		}
		names = append(names, Name{f.Path, spelled})
	}
	return names, nil
}

// Unread is a folder of saves that cannot be listed, so that what is in it is not known; or, with its Name, what is called as a save is and
// is none that can be read: a link.
type Unread struct {
	Folder game.Located
	Name   string
	Err    error
}

// Path is where it lies.
func (u Unread) Path() string { return filepath.Join(u.Folder.Path, u.Name) }

// Meter is told how many bytes there are to be dealt with, and how many have been.
type Meter interface {
	More(n int64)
	Did(n int64)
}

// Scan finds all saves in the folders of the install and reads what they say, where h does not remember it. It takes no digests. m is told of
// each save twice: it is to be read for its digest, too.
func Scan(ctx context.Context, in *game.Install, h *tree.Hasher, m Meter) (all []*Save, unread []Unread, err error) {
	for i := range in.Game.Saves {
		kind := &in.Game.Saves[i]
		if ok, _, err := in.Holds(ctx, kind.If); err != nil || !ok {
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
			saves, links, err := scanFolder(ctx, in, kind, folder)
			if err != nil && ctx.Err() != nil {
				return nil, nil, err
			}
			if err != nil {
				unread = append(unread, Unread{Folder: folder, Err: err})
			}
			all, unread = append(all, saves...), append(unread, links...)
		}
	}
	for _, s := range all {
		m.More(2 * s.Size)
	}
	all = slices.DeleteFunc(all, func(s *Save) bool {
		s.read(ctx, in, h)
		m.Did(s.Size)
		another := s.unread == nil && s.Kind.Is != nil && s.Kind.Unit == game.UnitFolder && errors.Is(s.Facts.Problem, fs.ErrNotExist) && !anyDeclared(s.Kind, s.Name, paths(s.Files))
		if another { // a folder of another kind that lies among the saves
			m.Did(s.Size)
		}
		return another
	})
	return ofOneKind(all, m), unread, ctx.Err()
}

// ofOneKind leaves each place to the kind that its content is of best, the first one of several, where more than one kind calls its saves so.
func ofOneKind(all []*Save, m Meter) []*Save {
	best := map[string]*Save{}
	place := func(s *Save) string { return filepath.Join(s.Folder.Path, s.Name) }
	rank := func(s *Save) int { return s.candidate().rank(tree.DirFS(s.Folder.Path)) }
	for _, s := range all {
		if former := best[place(s)]; former == nil || rank(s) < rank(former) {
			best[place(s)] = s
		}
	}
	return slices.DeleteFunc(all, func(s *Save) bool {
		if best[place(s)] == s {
			return false
		}
		m.Did(s.Size)
		return true
	})
}

func scanFolder(ctx context.Context, in *game.Install, kind *game.Save, folder game.Located) (saves []*Save, linked []Unread, err error) {
	list, err := os.ReadDir(folder.Path)
	if errors.Is(err, fs.ErrNotExist) {
		if link, target := tree.Dangling(cmp.Or(folder.Link, folder.Path)); link != "" {
			return nil, nil, fmt.Errorf("%s is a link to %s, which is not there", link, target)
		}
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	var names, links []string
	for _, item := range list {
		if item.Type()&fs.ModeSymlink != 0 {
			links = append(links, item.Name())
		} else if item.IsDir() == (kind.Unit == game.UnitFolder) && !strings.HasPrefix(item.Name(), Hidden) && (item.IsDir() || item.Type().IsRegular()) {
			names = append(names, item.Name())
		}
	}
	for _, g := range group(kind, links, in.FoldsCase()) {
		linked = append(linked, Unread{folder, g.names[0], leadsTo(filepath.Join(folder.Path, g.names[0]))})
	}
	for _, g := range group(kind, names, in.FoldsCase()) {
		s := &Save{Kind: kind, Folder: folder, Name: g.names[0], Captures: g.captures}
		if s.Files, s.unread, err = members(ctx, kind, folder.Path, g.names); err != nil {
			return nil, nil, err
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
		saves = append(saves, s)
	}
	sort.SliceStable(saves, func(i, j int) bool {
		if saves[i].HasSlot && saves[j].HasSlot {
			return saves[i].Slot < saves[j].Slot
		}
		return saves[i].Name < saves[j].Name
	})
	return saves, linked, nil
}

// leadsTo says where a link leads that stands in the place of a save. It is not followed: what it leads to may be on another drive, and be
// another save.
func leadsTo(path string) error {
	if link, target := tree.Dangling(path); link != "" {
		return fmt.Errorf("is a link to %s, which is not there", target)
	}
	return fmt.Errorf("is a link to %s, and links in the place of a save are not followed", tree.Real(path))
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

type grouped struct {
	names    []string
	captures map[string]string
}

// group finds the names that are saves of a kind; those of a set that share their captures are one save.
func group(kind *game.Save, names []string, fold bool) []grouped {
	var found []grouped
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
				found = append(found, grouped{[]string{name}, captures})
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
	s.note(h)
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
