package keep

import (
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// handMade is a copy that was made by hand: what of it is taken in, and what is not.
type handMade struct {
	dir      string
	entries  map[string]tree.Entry // files, by path
	saves    []*save.Save
	groups   map[rootKey][]archive.Group
	files    []copied // settings and what mods stored
	latest   time.Time
	version  string
	mods     []modlist.Listed // as the copy's own list of active mods has them; nil where it has none
	leftOut  []archive.LeftOut
	more     int             // how many there were to name
	accepted map[string]bool // paths of what is taken in
}

// copied are the files of one of the description's patterns in a copy.
type copied struct {
	group  game.FileGroup
	number int // among those of its kind
	groups []archive.Group
}

// readCopy finds what a copy made by hand holds. What is not taken in is named: nothing is left out without a word.
func readCopy(ctx context.Context, st *facts.State, dir string) (*handMade, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		return nil, problem.Usage(nil, "%s is not a folder", dir)
	}
	c := &handMade{dir: dir, entries: map[string]tree.Entry{}, groups: map[rootKey][]archive.Group{}, accepted: map[string]bool{}}
	var all []tree.Entry
	err = tree.Walk(ctx, dir, func(e tree.Entry) error {
		if e.Kind == tree.Unread {
			c.leave(e.Path, e.Err.Error())
			return nil
		}
		all = append(all, e)
		if e.Kind != tree.Dir {
			c.entries[e.Path] = e
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if err := c.findSaves(ctx, st, all); err != nil {
		return nil, err
	}
	if len(c.saves) == 0 {
		return nil, problem.Usage(nil, "%s holds no save of %s under a name that the game uses", dir, st.Install.Game.Title)
	}
	c.findFiles(st, all)
	if c.mods, err = c.readList(ctx, st); err != nil {
		c.leave(st.Install.Game.Files[st.Install.Game.Active.In].Path, "no list of active mods: "+err.Error())
	}
	for _, e := range all {
		if e.Kind != tree.Dir && !c.accepted[e.Path] {
			c.leave(e.Path, "no save of the game under a name that it uses, and none of its settings")
		}
	}
	return c, nil
}

// maxLeft is how many things that are not taken in are named one by one: a copy may be of anything.
const maxLeft = 200

func (c *handMade) leave(name, why string) {
	if c.more++; c.more > maxLeft {
		c.leftOut = append(c.leftOut[:maxLeft], archive.LeftOut{Path: c.dir, Why: fmt.Sprintf("%d more", c.more-maxLeft)})
		return
	}
	c.leftOut = append(c.leftOut, archive.LeftOut{Path: filepath.Join(c.dir, filepath.FromSlash(name)), Why: why})
}

// findSaves takes in the saves, with their own dates.
func (c *handMade) findSaves(ctx context.Context, st *facts.State, all []tree.Entry) error {
	names := map[string]string{}
	for _, one := range save.Recognise(ctx, st.Install.Game, save.Begin(tree.DirFS(c.dir), st.Install.Game), all) {
		if one.Captures == nil {
			continue
		}
		outer := path.Dir(one.Name)
		folder, err := st.SavesFolder(one.Kind.Folder, accountIn(one.Name, st))
		if err != nil {
			return err
		}
		sv := &save.Save{Kind: one.Kind, Folder: folder, Name: path.Base(one.Name), Captures: one.Captures, Facts: one.Facts}
		if other, twice := names[folder.Path+sv.Name]; twice {
			return problem.Usage(problem.Advise("take in one folder at a time"), "%s holds two copies of %s: %s and %s", c.dir, sv.Name, other, one.Name)
		}
		names[folder.Path+sv.Name] = one.Name
		if text, ok := one.Captures["slot"]; ok {
			sv.Slot, sv.HasSlot = one.Kind.Slots.Number(text)
		}
		var group []tree.Entry
		for _, f := range one.Files {
			e := c.entries[f]
			c.accepted[f] = true
			if e.ModTime.After(sv.Modified) {
				sv.Modified = e.ModTime
			}
			e.Path = strings.TrimPrefix(e.Path, outer+"/")
			group = append(group, e)
			sv.Files = append(sv.Files, e)
			sv.Size += e.Size
		}
		if sv.Modified.After(c.latest) {
			c.latest = sv.Modified
		}
		if v := one.Facts.Version(); v != "" && (c.version == "" || st.Install.Game.Order().Compare(v, c.version) > 0) {
			c.version = v
		}
		key := rootKey{folder.ID, folder.Account}
		c.groups[key] = append(c.groups[key], archive.Group{Dir: filepath.Join(c.dir, filepath.FromSlash(outer)), Entries: group})
		c.saves = append(c.saves, sv)
	}
	return nil
}

// findFiles takes in settings and what mods stored: files that one of the description's patterns names, in a folder that is called as the
// game's own is, or directly in the copy.
func (c *handMade) findFiles(st *facts.State, all []tree.Entry) {
	counts := map[game.FileKind]int{}
	for _, g := range st.Groups {
		counts[g.Kind]++
		if g.Kind == game.PictureFiles {
			continue
		}
		one := copied{group: g, number: counts[g.Kind]}
		taken := map[string]string{} // by the path that it gets
		for _, e := range all {
			rest, ok := inGroup(g, e.Path)
			if e.Kind != tree.File || !ok || c.accepted[e.Path] {
				continue
			}
			c.accepted[e.Path] = true
			if other, twice := taken[rest]; twice {
				c.leave(e.Path, "another "+rest+" was taken: "+other)
				continue
			}
			taken[rest] = e.Path
			dir := filepath.Join(c.dir, filepath.FromSlash(strings.TrimSuffix(strings.TrimSuffix(e.Path, rest), "/")))
			e.Path = rest
			one.groups = append(one.groups, archive.Group{Dir: dir, Entries: []tree.Entry{e}})
		}
		if len(one.groups) > 0 {
			c.files = append(c.files, one)
		}
	}
}

// inGroup is the path of a copied file in the folder of a pattern; ok is false where it is none of the pattern's files.
func inGroup(g game.FileGroup, name string) (rest string, ok bool) {
	parts := strings.Split(name, "/")
	depth := strings.Count(g.Glob, "/") + 1
	if len(parts) < depth {
		return "", false
	}
	rest = strings.Join(parts[len(parts)-depth:], "/")
	if !doublestar.MatchUnvalidated(g.Glob, rest) {
		return "", false
	}
	outer := parts[:len(parts)-depth]
	return rest, len(outer) == 0 || strings.EqualFold(outer[len(outer)-1], filepath.Base(g.Dir))
}

// readList reads the copy's own list of active mods: what is on today says nothing of a copy from then.
func (c *handMade) readList(ctx context.Context, st *facts.State) ([]modlist.Listed, error) {
	a := st.Install.Game.Active
	if a == nil {
		return nil, nil
	}
	var own *archive.Group
	for _, f := range c.files {
		for i := range f.groups {
			if f.group.Active || filepath.Base(st.Install.Game.Files[a.In].Path) == path.Base(f.groups[i].Entries[0].Path) {
				own = &f.groups[i]
			}
		}
	}
	if own == nil {
		return nil, nil
	}
	files := field.NewFiles(c.dir, st.Install.Game.Files, func(field.File) ([]field.Place, error) {
		return []field.Place{{FS: tree.DirFS(own.Dir), Name: own.Entries[0].Path}}, nil
	})
	defer files.Close()
	list, known, err := mod.ReadActive(ctx, st.Install.Game, files)
	if err != nil || !known {
		return nil, err
	}
	return append([]modlist.Listed{}, list...), nil // an empty list is one, too
}

// from takes in a copy that was made by hand: its saves, settings and mod list, with their own date. What the copy does not say is left
// open.
func (kp *keeper) from(ctx context.Context, st *facts.State, snap *archive.Snapshot, dir string) error {
	c, err := readCopy(ctx, st, dir)
	if err != nil {
		return err
	}
	kp.leftOut = append(kp.leftOut, c.leftOut...)
	snap.ByHand, snap.Mods, snap.Fingerprint, snap.Version, snap.Taken = true, c.mods, "", c.version, c.latest.UTC()
	for key, g := range c.groups {
		root, nodes, err := kp.k.Root(ctx, archive.Root{Folder: key.folder, Account: key.account, Kind: archive.Saves}, g, true)
		if err != nil {
			return fmt.Errorf("%s: %w", c.dir, err)
		}
		snap.Roots = append(snap.Roots, root)
		for _, sv := range c.saves {
			if sv.Folder.ID == key.folder && sv.Folder.Account == key.account {
				snap.Saves = append(snap.Saves, keptSave(&facts.Save{Save: sv}, nodes))
			}
		}
	}
	for _, f := range c.files {
		root, _, err := kp.k.Root(ctx, rootOf(f.group, f.number), f.groups, false)
		if err != nil {
			return fmt.Errorf("%s: %w", c.dir, err)
		}
		snap.Roots = append(snap.Roots, root)
	}
	return nil
}

// accountIn is the account whose folder a path in a copy goes through, or "".
func accountIn(name string, st *facts.State) string {
	for _, part := range strings.Split(path.Dir(name), "/") {
		for _, f := range st.Folders {
			if f.Account == part && part != "" {
				return part
			}
		}
	}
	return ""
}
