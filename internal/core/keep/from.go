package keep

import (
	"context"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// from takes in a copy that was made by hand: the saves in it, with their own date. What the copy does not say (mods, settings) is
// left open.
func (kp *keeper) from(ctx context.Context, st *facts.State, snap *archive.Snapshot, dir string) error {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		return problem.Usage(nil, "%s is not a folder", dir)
	}
	entries, err := kp.entriesIn(ctx, dir)
	if err != nil {
		return err
	}
	byPath := map[string]tree.Entry{}
	for _, e := range entries {
		byPath[e.Path] = e
	}
	snap.ByHand, snap.Mods, snap.Fingerprint, snap.Version = true, nil, "", ""
	groups := map[rootKey][]archive.Group{}
	var found []*save.Save
	var latest time.Time
	names := map[string]string{}
	for _, c := range save.Recognise(ctx, st.Install.Game, tree.DirFS(dir), entries) {
		if c.Captures == nil {
			continue
		}
		outer := path.Dir(c.Name)
		folder, err := st.SavesFolder(c.Kind, accountIn(c.Name, st))
		if err != nil {
			return err
		}
		sv := &save.Save{Kind: c.Kind, Folder: folder, Name: path.Base(c.Name), Captures: c.Captures, Facts: c.Facts}
		if other, twice := names[folder.Path+sv.Name]; twice {
			return problem.Usage(problem.Advise("take in one folder at a time"), "%s holds two copies of %s: %s and %s", dir, sv.Name, other, c.Name)
		}
		names[folder.Path+sv.Name] = c.Name
		if text, ok := c.Captures["slot"]; ok {
			sv.Slot, sv.HasSlot = c.Kind.Slots.Number(text)
		}
		var group []tree.Entry
		for _, f := range c.Files {
			e := byPath[f]
			if e.ModTime.After(sv.Modified) {
				sv.Modified = e.ModTime
			}
			e.Path = strings.TrimPrefix(e.Path, outer+"/")
			group = append(group, e)
			sv.Files = append(sv.Files, e)
		}
		if sv.Modified.After(latest) {
			latest = sv.Modified
		}
		if v := c.Facts.Version(); v != "" && (snap.Version == "" || st.Install.Game.Order().Compare(v, snap.Version) > 0) {
			snap.Version = v
		}
		key := rootKey{folder.ID, folder.Account}
		groups[key] = append(groups[key], archive.Group{Dir: filepath.Join(dir, filepath.FromSlash(outer)), Entries: group})
		found = append(found, sv)
	}
	if len(found) == 0 {
		return problem.Usage(nil, "%s holds no save of %s under a name that the game uses", dir, st.Install.Game.Title)
	}
	snap.Taken = latest.UTC()
	for key, g := range groups {
		root, nodes, err := kp.k.Root(ctx, archive.Root{Folder: key.folder, Account: key.account, Kind: archive.Saves}, g, true)
		if err != nil {
			return err
		}
		snap.Roots = append(snap.Roots, root)
		for _, sv := range found {
			if sv.Folder.ID == key.folder && sv.Folder.Account == key.account {
				snap.Saves = append(snap.Saves, keptSave(&facts.Save{Save: sv}, nodes))
			}
		}
	}
	return nil
}

// entriesIn are all entries of a folder that can be looked at; the others are left out by name.
func (kp *keeper) entriesIn(ctx context.Context, dir string) (entries []tree.Entry, err error) {
	err = tree.Walk(ctx, dir, func(e tree.Entry) error {
		if e.Kind == tree.Unread {
			kp.omit(filepath.Join(dir, filepath.FromSlash(e.Path)), e.Err)
			return nil
		}
		entries = append(entries, e)
		return nil
	})
	return entries, err
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
