// Package mod finds the mods of an install and says what they are: id, version, digest, on or off, in which order, and what they need.
//
// A Set is the mod set of an install at one moment; its mod list is in package modlist. The package reads and never changes.
package mod

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"iter"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"golang.org/x/sync/errgroup"

	"ostrov/internal/core/check"
	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/version"
	"ostrov/internal/core/wrap"
)

// Need is one requirement of a mod.
type Need struct {
	ID    string
	Range version.Range
	// Stated tells that the player said so, and no file.
	Stated bool
}

// Words are the requirement as people say it.
func (n Need) Words() string {
	if n.Range.IsAny() {
		return n.ID
	}
	return n.ID + " " + n.Range.String()
}

// Mod is one installed mod.
type Mod struct {
	Kind   *game.Mod
	Folder game.Located
	Path   string // in the folder, slash-separated
	Pack   string // the pack it belongs to, or ""

	ID, Version, Title string
	Commit             string // of a checkout, in full; else ""
	// Fields are what it says of itself, by field.
	Fields  map[string]string
	Needs   []Need
	Clashes []string // ids; "*" is all others
	// Also are further ids that it goes by: those it provides, and those it had before.
	Also []string
	// Own is the game's own digest of it, in hex, where the description says how that is taken; else "".
	Own      string
	Supports version.Range // of game versions
	Adds     game.Added
	On       bool
	Order    int // place in the load order, from 1; 0 where there is none
	// HiddenBy is the path of the mod of the same id that the game uses instead, or "". Twice is where another one of the same id lies, of a kind
	// with which the game does not start with both.
	HiddenBy string
	Twice    string

	// Entries are all that is in the mod but special files, as tree.Walk finds it, paths relative to the mod. See Files.
	Entries tree.List

	Size   int64       // bytes
	Latest time.Time   // the latest of all times of its files and folder
	Digest tree.Digest // zero until taken
	// Altered tells that it is not what was first seen of this version: edited by hand, damaged, or updated without a new version.
	Altered bool
	Unread  []tree.Entry // what cannot be looked at in it
	// Problem is why the mod cannot be read, or nil.
	Problem error

	unlike bool // it is not made as mods of its kind are
}

// Name is what to call the mod before people.
func (m *Mod) Name() string {
	return modlist.Name(m.Title, m.ID)
}

// Unreadable reports whether the mod's own files cannot be read; what it says of itself may be odd all the same.
func (m *Mod) Unreadable() bool {
	return len(m.Unread) > 0 || errors.Is(m.Problem, wrap.ErrDamaged) || errors.Is(m.Problem, wrap.ErrTooLarge) || errors.As(m.Problem, new(*fs.PathError))
}

// Dir is where the mod lies: its folder, or that of its file.
func (m *Mod) Dir() string { return filepath.Join(m.Folder.Path, filepath.FromSlash(m.Path)) }

// Files are the files of the mod that its digest is taken over: those of a checkout's .git are not among them.
func (m *Mod) Files() iter.Seq[tree.Entry] {
	return func(yield func(tree.Entry) bool) {
		for e := range m.Entries.All() {
			if m.Counts(e.Path) && e.Kind == tree.File && !yield(e) {
				return
			}
		}
	}
}

// Counts reports whether a file of the mod, by its path in it, counts for the digest.
func (m *Mod) Counts(path string) bool { return !strings.HasPrefix(path, ".git/") }

// Set is the mods of one install: in load order where the game has one, else sorted by id.
type Set struct {
	Mods    []*Mod
	Ordered bool
	// Absent are the ids of mods that the game's own list has on and that are not installed.
	Absent []string
	// Problem is why it is not known which mods are on, or nil.
	Problem error
	// Away are mods that are set aside: Ostrov has them, and the game's folders do not. They have no folder and no files here.
	Away []*Mod
	// Loaders are those of the game.
	Loaders []game.FoundLoader
}

// Scan finds the mods of the install and reads what they say, where h does not remember it. It takes no digests.
func Scan(ctx context.Context, in *game.Install, h *tree.Hasher) (Set, error) {
	s := scanner{ctx: ctx, in: in, hasher: h}
	s.work.SetLimit(2 * runtime.GOMAXPROCS(0)) // more than there are cores: much of it is waiting for the drive
	for i := range in.Game.Mods {
		s.kind = &in.Game.Mods[i]
		folders, err := in.FoldersOf(ctx, s.kind.Folder)
		if err != nil {
			return Set{}, err
		}
		for _, s.folder = range folders {
			if err := s.dir("", ""); err != nil {
				return Set{}, err
			}
		}
	}
	if err := s.work.Wait(); err != nil {
		return Set{}, err
	}
	set := Set{Mods: slices.DeleteFunc(s.found, func(m *Mod) bool { return m.unlike })}
	set.hide()
	var err error
	if set.Loaders, err = in.Loaders(ctx); err != nil {
		return Set{}, err
	}
	set.Problem = cmp.Or(s.unread, set.activate(ctx, in))
	set.sort()
	return set, nil
}

type scanner struct {
	ctx    context.Context
	in     *game.Install
	kind   *game.Mod
	folder game.Located
	hasher *tree.Hasher
	found  []*Mod
	unread error          // why not all mods are known
	work   errgroup.Group // reads mods
}

// maxNesting bounds packs of packs.
const maxNesting = 4

// dir finds the mods in one folder, rel below s.folder; pack is the pack that it is.
func (s *scanner) dir(rel, pack string) error {
	list, err := os.ReadDir(filepath.Join(s.folder.Path, filepath.FromSlash(rel)))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		s.unread = errors.Join(s.unread, err)
		return nil
	}
	for _, item := range list {
		at := path.Join(rel, item.Name())
		full := filepath.Join(s.folder.Path, filepath.FromSlash(at))
		info, err := os.Stat(full) // a linked mod counts as one
		if err != nil || strings.HasPrefix(item.Name(), save.Hidden) || info.IsDir() != (s.kind.Unit == game.UnitFolder) {
			continue
		}
		if s.kind.Name != "" && !doublestar.MatchUnvalidated(s.kind.Name, item.Name()) {
			continue
		}
		if s.kind.Unit == game.UnitFolder && s.kind.Nested && has(full, s.kind.Pack) {
			if strings.Count(at, "/") < maxNesting {
				if err := s.dir(at, item.Name()); err != nil {
					return err
				}
			}
			continue
		}
		if len(s.kind.Marker) > 0 && !has(full, s.kind.Marker) {
			continue
		}
		m := &Mod{Kind: s.kind, Folder: s.folder, Path: at, Pack: pack, On: true}
		s.found = append(s.found, m)
		s.work.Go(func() error { return s.read(m, full) })
	}
	return nil
}

// has reports whether the folder dir has one of the files named by the globs.
func has(dir string, globs []string) bool {
	for _, g := range globs {
		if found, _ := doublestar.Glob(tree.DirFS(dir), g); len(found) > 0 {
			return true
		}
	}
	return false
}

// read finds what is in a mod and what it says of itself. Several are read at once.
func (s *scanner) read(m *Mod, full string) error {
	dir, err := filepath.EvalSymlinks(full)
	if err != nil {
		m.Problem = err
		return nil
	}
	if m.Kind.Unit == game.UnitFile {
		e, err := tree.Stat(filepath.Dir(dir), filepath.Base(dir))
		if err != nil {
			return err
		}
		m.Entries.Add(e)
		dir = filepath.Dir(dir)
	} else if err := tree.Walk(s.ctx, dir, func(e tree.Entry) error {
		if e.Path != ".git" && !strings.HasPrefix(e.Path, ".git/") {
			m.add(e)
		}
		switch e.Kind {
		case tree.Unread:
			m.Unread = append(m.Unread, e)
		case tree.File, tree.Dir, tree.Link:
			m.Entries.Add(e)
		}
		return nil
	}); err != nil && s.ctx.Err() == nil {
		m.Unread = append(m.Unread, tree.Entry{Path: ".", Kind: tree.Unread, Err: err})
	}
	if e, err := tree.Stat(full, "."); err == nil {
		m.add(e)
	}
	var members []string
	for f := range m.Files() {
		m.Size += f.Size
		m.add(f)
		members = append(members, f.Path)
	}
	var said facts
	s.hasher.Once(full+"\x00"+m.Kind.ID, s.in.Game.Digest, dir, m.Files(), &said, func() bool {
		content := field.InFS(tree.DirFS(dir), path.Base(m.Path), members, m.Kind.Files)
		defer content.Close()
		said, err = readFacts(s.ctx, m.Kind, content)
		said.Unlike = err == nil && !made(m.Kind, tree.DirFS(dir), members, said)
		if err == nil && m.Kind.Digest != nil {
			said.Own, err = ownDigest(m.Kind.Digest, tree.DirFS(dir), members[0])
		}
		return err == nil
	})
	m.Problem = err
	m.take(said)
	if m.Kind.Unit == game.UnitFolder {
		if m.Commit, err = commitOf(dir); err != nil && m.Problem == nil {
			m.Problem = err
		}
		if m.Version == "" {
			m.Version = m.Commit[:min(len(m.Commit), 10)] // what is pulled now and then has no other
		}
	}
	return nil
}

func (m *Mod) add(e tree.Entry) {
	for _, t := range []time.Time{e.ModTime, e.ChangeTime} {
		if t.After(m.Latest) {
			m.Latest = t
		}
	}
}

// hide marks mods whose id was found before: the folder that the description names first decides.
func (s Set) hide() {
	first := map[string]*Mod{}
	for _, m := range s.Mods {
		key := strings.ToLower(m.ID)
		if other, ok := first[key]; ok {
			m.HiddenBy, m.On = other.Dir(), false
			if m.Kind.Twice == "stops" || other.Kind.Twice == "stops" {
				other.Twice, m.Twice = m.Dir(), other.Dir()
			}
			continue
		}
		first[key] = m
	}
}

// ReadActive reads the list of active mods of a game, which must have [active], out of files: those of an install, or of a copy of it. known is
// false where there is none.
func ReadActive(ctx context.Context, d *game.Description, files *field.Files) (list []modlist.Listed, known bool, err error) {
	a := d.Active
	items, known, err := files.List(ctx, field.Lists{{In: a.In, Each: a.Each, ID: a.ID, Title: a.Off, Whole: true}})
	for _, item := range items {
		off := len(a.Off.At) > 0 && item.Title != "" && item.Title != "false" && item.Title != "0"
		list = append(list, modlist.Listed{ID: item.ID, On: !off})
	}
	return list, known, err
}

// activate reads which mods are on and in which order. A game without [active] loads all there are.
func (s *Set) activate(ctx context.Context, in *game.Install) error {
	a := in.Game.Active
	if a == nil {
		return nil
	}
	files := in.Files(ctx)
	defer files.Close()
	items, known, err := ReadActive(ctx, in.Game, files)
	if err != nil || !known {
		return err
	}
	s.Ordered = a.Order
	listed := map[string]int{}
	off := map[string]bool{}
	for i, item := range items {
		key := strings.ToLower(item.ID)
		listed[key] = i + 1
		off[key] = !item.On
		if item.On && !slices.ContainsFunc(s.Mods, func(m *Mod) bool { return strings.EqualFold(m.ID, item.ID) || slices.Contains(m.Also, item.ID) }) {
			s.Absent = append(s.Absent, item.ID)
		}
	}
	for _, m := range s.Mods {
		if m.Kind.Base || m.HiddenBy != "" {
			continue
		}
		key := strings.ToLower(m.ID)
		m.On = listed[key] > 0 && !off[key]
		if s.Ordered {
			m.Order = listed[key]
		}
	}
	return nil
}

func (s Set) sort() {
	sort.SliceStable(s.Mods, func(i, j int) bool {
		a, b := s.Mods[i], s.Mods[j]
		if s.Ordered && a.Order != b.Order && a.Order > 0 && b.Order > 0 {
			return a.Order < b.Order
		}
		if s.Ordered && (a.Order > 0) != (b.Order > 0) {
			return a.Order > 0
		}
		return strings.ToLower(a.ID) < strings.ToLower(b.ID)
	})
}

// List is the mod list of the set: the mods that are not the game's own, those that are on first and in their order.
func (s Set) List() []modlist.Listed {
	var list []modlist.Listed
	for _, on := range []bool{true, false} {
		for _, m := range s.Mods {
			if m.On == on && !m.Kind.Base && m.HiddenBy == "" {
				list = append(list, m.listed())
			}
		}
	}
	for _, m := range s.Away {
		if !slices.ContainsFunc(list, func(l modlist.Listed) bool { return strings.EqualFold(l.ID, m.ID) }) {
			list = append(list, m.listed())
		}
	}
	return list
}

func (m *Mod) listed() modlist.Listed {
	l := modlist.Listed{ID: m.ID, Version: m.Version, Title: m.Title, Digest: m.Digest, On: m.On, Altered: m.Altered}
	for _, n := range m.Needs {
		if n.Stated {
			l.Needs = append(l.Needs, n.Words())
		}
	}
	return l
}

// FolderID is the folder that the mod lies in, "" for one of a download.
func (m *Mod) FolderID() string {
	if m.Folder.Folder == nil {
		return ""
	}
	return m.Folder.ID
}

// With is the set with just those mods on that a save has on, besides the game's own.
func (s Set) With(on func(*Mod) bool) Set {
	with := s
	with.Mods = make([]*Mod, len(s.Mods))
	for i, m := range s.Mods {
		one := *m
		one.On = m.Kind.Base || on(m)
		with.Mods[i] = &one
	}
	return with
}

// ForCheck are the mods as package check compares them with a save that was written at a time, or, where that is zero, elsewhere. Those that another
// one hides are among them: a save may say which of the two it loads.
func (s Set) ForCheck(written time.Time) []check.Mod {
	var mods, hidden []check.Mod
	for _, m := range s.Mods {
		c := check.Mod{ID: m.ID, Version: m.Version, Title: m.Title, Digest: m.Digest.String(), Affects: m.Kind.Affects, Off: !m.On, Base: m.Kind.Base,
			Kind: m.Kind.Names(), Also: m.Also, OwnDigest: m.Own, In: m.FolderID(), Twice: m.Twice}
		switch {
		case m.Altered && written.IsZero():
			c.Edited = "yours is not what was first seen of this version"
		case m.Altered && m.Latest.After(written):
			c.Edited = "it was changed without a new version after this was saved"
		}
		if m.HiddenBy == "" {
			mods = append(mods, c)
		} else {
			c.Hidden, c.Off = true, false
			hidden = append(hidden, c)
		}
	}
	for _, m := range s.Away {
		if !slices.ContainsFunc(mods, func(c check.Mod) bool { return strings.EqualFold(c.ID, m.ID) }) {
			mods = append(mods, check.Mod{ID: m.ID, Version: m.Version, Title: m.Title, Affects: m.Kind.Affects, Off: true, Kind: m.Kind.Names(), Also: m.Also})
		}
	}
	return append(mods, hidden...)
}
