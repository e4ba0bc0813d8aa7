package job

import (
	"context"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/game"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// keepFrom takes in a copy that was made by hand: the saves in it, with their own date. What the copy does not say (mods, settings) is
// left open.
func (s *Session) keepFrom(ctx context.Context, k *archive.Keeping, l *Look, snap *archive.Snapshot, dir string) error {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	if info, err := os.Stat(dir); err != nil || !info.IsDir() {
		return usage("", "%s is not a folder", dir)
	}
	var entries []tree.Entry
	if err := tree.Walk(ctx, dir, func(e tree.Entry) error { entries = append(entries, e); return nil }); err != nil {
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
	for _, c := range save.Recognise(ctx, l.Install.Game, os.DirFS(dir), entries) {
		if c.Captures == nil {
			continue
		}
		outer := path.Dir(c.Name)
		folder, err := l.ownFolder(c.Kind, accountIn(c.Name, l))
		if err != nil {
			return err
		}
		sv := &save.Save{Kind: c.Kind, Folder: folder, Name: path.Base(c.Name), Captures: c.Captures, Facts: c.Facts}
		if other, twice := names[folder.Path+sv.Name]; twice {
			return usage("take in one folder at a time", "%s holds two copies of %s: %s and %s", dir, sv.Name, other, c.Name)
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
		if v := c.Facts.Version(); v != "" && (snap.Version == "" || l.Install.Game.Order().Compare(v, snap.Version) > 0) {
			snap.Version = v
		}
		key := rootKey{folder.ID, folder.Account}
		groups[key] = append(groups[key], archive.Group{Dir: filepath.Join(dir, filepath.FromSlash(outer)), Entries: group})
		found = append(found, sv)
	}
	if len(found) == 0 {
		return usage("", "%s holds no save of %s under a name that the game uses", dir, l.Install.Game.Title)
	}
	snap.Taken = latest.UTC()
	for key, g := range groups {
		root, nodes, err := k.Root(ctx, archive.Root{Folder: key.folder, Account: key.account, What: archive.Saves}, g, true)
		if err != nil {
			return err
		}
		snap.Roots = append(snap.Roots, root)
		for _, sv := range found {
			if sv.Folder.ID == key.folder && sv.Folder.Account == key.account {
				snap.Saves = append(snap.Saves, keptSave(sv, nodes))
			}
		}
	}
	return nil
}

// accountIn is the account whose folder a path in a copy goes through, or "".
func accountIn(name string, l *Look) string {
	for _, part := range strings.Split(path.Dir(name), "/") {
		for _, f := range l.Folders {
			if f.Account == part && part != "" {
				return part
			}
		}
	}
	return ""
}

// ownFolder is the folder that a save of the kind goes into: that of account, else the player's own, else the only one there is.
func (l *Look) ownFolder(kind *game.Save, account string) (game.Located, error) {
	var found []game.Located
	for _, f := range l.Folders {
		if f.ID == kind.Folder && !f.Managed {
			found = append(found, f)
		}
	}
	for _, want := range []string{account, l.Account} {
		for _, f := range found {
			if want != "" && f.Account == want {
				return f, nil
			}
		}
	}
	if account != "" && len(found) > 0 && found[0].Account != "" {
		return game.Located{}, usage("", "%s has no folder of account %s", l.Called, account)
	}
	switch len(found) {
	case 0:
		return game.Located{}, problem("start the game once", "%s has no folder for saves yet", l.Called)
	case 1:
		return found[0], nil
	}
	var names []string
	for _, f := range found {
		names = append(names, "--in "+f.Account)
	}
	return game.Located{}, usage(strings.Join(names, "\n"), "%s has several folders for saves: say which", l.Called)
}
