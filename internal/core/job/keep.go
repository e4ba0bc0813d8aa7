package job

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// KeepRequest says what to keep.
type KeepRequest struct {
	As     string // playthrough; "" is the current one
	Note   string
	Mods   bool   // the mods themselves too
	From   string // a copy made by hand earlier, instead of what the game has now
	Reread bool   // read all files, changed or not
	// safety names the command before which this is kept.
	safety string
}

// Kept is what keeping did.
type Kept struct {
	Snapshot       *archive.Snapshot
	Since          *archive.Snapshot // the one before, or nil
	New, Changed   int               // saves, compared with the one before
	ModChanges     []ModChange
	Copied, Reused int64 // bytes of files read and not read
	Stored         int64 // bytes the archive grew
	Archive        string
	Spread         []string // other archives that it was copied into
	// Started is the playthrough that was made for it, or "".
	Started  string
	Findings []check.Finding
}

// Keep takes a snapshot of a playthrough of the install.
func (s *Session) Keep(ctx context.Context, in *game.Install, req KeepRequest) (*Kept, error) {
	if err := s.RequireRecords(); err != nil {
		return nil, err
	}
	l, err := s.Look(ctx, in)
	if err != nil {
		return nil, err
	}
	kept := &Kept{}
	name, err := s.playthroughFor(ctx, l, req.As, kept)
	if err != nil {
		return nil, err
	}
	a, err := s.Archive(true)
	if err != nil {
		return nil, err
	}
	kept.Archive = a.Dir
	if err := s.archiveApart(l); err != nil {
		return nil, err
	}
	if kept.Since, err = a.Newest(name.Name, archive.Any); err != nil {
		return nil, err
	}
	s.Hasher.Reread = req.Reread
	k, err := a.Keep(ctx, s.Hasher, kept.Since, s.Now(), s.counting("keep", l.sizeOf(name.Name, req)))
	if err != nil {
		return nil, err
	}
	defer k.Abandon()
	snap := &archive.Snapshot{Playthrough: name.Name, Title: name.Title, Game: in.Game.ID, GameTitle: in.Game.Title, Taken: s.Now().UTC().Truncate(time.Millisecond),
		Version: l.Version, Note: req.Note, Safety: req.safety, Mods: l.List, Fingerprint: l.Fingerprint}
	if req.From != "" {
		err = s.keepFrom(ctx, k, l, snap, req.From)
	} else {
		err = s.keepPresent(ctx, k, l, kept.Since, snap, req)
	}
	if err != nil {
		return nil, err
	}
	if err := k.Commit(snap); err != nil {
		return nil, fmt.Errorf("nothing has been kept: %w", err)
	}
	kept.compare(snap)
	kept.Snapshot, kept.Copied, kept.Reused, kept.Stored = snap, k.Copied(), k.Reused(), k.Stored()
	if err := s.spread(ctx, a, snap, kept); err != nil {
		return nil, err
	}
	if sameDrive(kept.Archive, in.Root) && kept.Since == nil {
		kept.Findings = append(kept.Findings, check.New(check.SameDrive, "", "the archive is on the game's own drive"))
	}
	delete(s.looks, in)
	return kept, nil
}

// sizeOf is how many bytes a keep of a playthrough goes through.
func (l *Look) sizeOf(playthrough string, req KeepRequest) int64 {
	var total int64
	for _, st := range l.Saves {
		if st.Playthrough == playthrough {
			total += st.Size
		}
	}
	for _, m := range l.Mods.Mods {
		if req.Mods && !m.Kind.Base && !m.Folder.Managed {
			total += m.Size
		}
	}
	return total
}

func (s *Session) archiveApart(l *Look) error {
	for _, f := range append(folderPaths(l.Folders), l.Install.Root) {
		if dir := s.ArchiveDir(); dir == f || game.Within(dir, f) {
			return usage("ostrov archive add DIR, elsewhere", "the archive %s lies inside %s: the game would find the snapshots there", dir, f)
		}
	}
	return nil
}

func (k *Kept) compare(snap *archive.Snapshot) {
	if k.Since == nil || snap.ByHand {
		k.New = len(snap.Saves)
		return
	}
	old := map[string]tree.Digest{}
	for _, sv := range k.Since.Saves {
		old[sv.Folder+"\x00"+sv.Account+"\x00"+sv.Name] = sv.Digest
	}
	for _, sv := range snap.Saves {
		switch d, ok := old[sv.Folder+"\x00"+sv.Account+"\x00"+sv.Name]; {
		case !ok:
			k.New++
		case d != sv.Digest:
			k.Changed++
		}
	}
	k.ModChanges = CompareMods(k.Since.Mods, snap.Mods)
}

// playthroughFor finds the playthrough to keep, starting one where the install has none.
func (s *Session) playthroughFor(ctx context.Context, l *Look, as string, kept *Kept) (logbook.Playthrough, error) {
	for _, p := range l.Playthroughs {
		if p.Name == as {
			return p, nil
		}
	}
	if as == "" {
		if p := l.Current(); p != nil {
			return *p, nil
		}
		if len(l.Playthroughs) > 0 {
			return logbook.Playthrough{}, usage("ostrov keep "+l.Called+" --as PLAYTHROUGH", "none of the playthroughs of %s is active: say which to keep", l.Called)
		}
		as = l.Install.Game.ID
	} else if len(l.Playthroughs) > 0 {
		return logbook.Playthrough{}, usage("ostrov playthroughs start "+as, "%s has no playthrough %q", l.Called, as)
	}
	p, err := s.startPlaythrough(ctx, l, as)
	if err == nil {
		kept.Started = p.Name
	}
	return p, err
}

// keepPresent keeps what the game has now.
func (s *Session) keepPresent(ctx context.Context, k *archive.Keeping, l *Look, before, snap *archive.Snapshot, req KeepRequest) error {
	if err := s.keepSaves(ctx, k, l, snap); err != nil {
		return err
	}
	groups, err := settingsGroups(ctx, l.Install)
	if err != nil {
		return err
	}
	for i, g := range groups {
		entries, err := settingsFiles(ctx, g)
		if err != nil {
			return err
		}
		root := archive.Root{Folder: fmt.Sprintf("settings-%d", i+1), What: archive.Settings}
		var each []archive.Group
		for _, e := range entries {
			each = append(each, archive.Group{Dir: g.Dir, Entries: []tree.Entry{e}})
		}
		if root, _, err = k.Root(ctx, root, each, false); err != nil {
			return err
		}
		snap.Roots = append(snap.Roots, root)
	}
	if req.Mods {
		return s.keepMods(ctx, k, l, before, snap)
	}
	return nil
}

// settingsGroups are the patterns of the game's settings and, as part of the mod list, the file that says which mods are on.
func settingsGroups(ctx context.Context, in *game.Install) ([]game.SettingsGroup, error) {
	groups, err := in.SettingsGroups(ctx)
	if err != nil {
		return nil, err
	}
	if file, ok, err := in.ActiveFile(ctx); err != nil {
		return nil, err
	} else if ok {
		groups = append(groups, game.SettingsGroup{Dir: filepath.Dir(file), Glob: filepath.Base(file)})
	}
	return groups, nil
}

func settingsFiles(ctx context.Context, g game.SettingsGroup) ([]tree.Entry, error) {
	var entries []tree.Entry
	deep := strings.Contains(g.Glob, "/") || strings.Contains(g.Glob, "**")
	err := tree.Walk(ctx, g.Dir, func(e tree.Entry) error {
		if e.Kind == tree.Dir && (!deep || strings.HasPrefix(path.Base(e.Path), save.Hidden)) {
			return fs.SkipDir
		}
		if e.Kind == tree.File && doublestar.MatchUnvalidated(g.Glob, e.Path) {
			entries = append(entries, e)
		}
		return nil
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return entries, err
}

type rootKey struct{ folder, account string }

func (s *Session) keepSaves(ctx context.Context, k *archive.Keeping, l *Look, snap *archive.Snapshot) error {
	byRoot := map[rootKey][]*SaveState{}
	var order []rootKey
	for _, st := range l.Saves {
		if st.Playthrough != snap.Playthrough {
			continue
		}
		key := rootKey{st.Folder.ID, st.Folder.Account}
		if byRoot[key] == nil {
			order = append(order, key)
		}
		byRoot[key] = append(byRoot[key], st)
	}
	for _, key := range order {
		root := archive.Root{Folder: key.folder, Account: key.account, What: archive.Saves}
		var groups []archive.Group
		for _, st := range byRoot[key] {
			entries, err := withFolders(ctx, st.Save)
			if err != nil {
				return err
			}
			groups = append(groups, archive.Group{Dir: st.Folder.Path, Entries: entries})
		}
		root, nodes, err := k.Root(ctx, root, groups, true)
		if err != nil {
			if errors.Is(err, tree.ErrBeingWritten) {
				return &Error{Text: err.Error() + "; nothing has been kept", Hint: "wait until the game has saved, then try again", Err: ErrBusy}
			}
			return err
		}
		snap.Roots = append(snap.Roots, root)
		for _, st := range byRoot[key] {
			snap.Saves = append(snap.Saves, keptSave(st.Save, nodes))
		}
	}
	return nil
}

// withFolders are all entries of a save, its folders too, so that they come back with their times.
func withFolders(ctx context.Context, sv *save.Save) ([]tree.Entry, error) {
	if sv.Kind.Unit != game.UnitFolder {
		return slices.Clone(sv.Files), nil
	}
	top, err := tree.Look(sv.Folder.Path, sv.Name)
	if err != nil {
		return nil, err
	}
	entries := []tree.Entry{top}
	wanted := map[string]bool{}
	for _, f := range sv.Files {
		wanted[f.Path] = true
	}
	err = tree.Walk(ctx, filepath.Join(sv.Folder.Path, sv.Name), func(e tree.Entry) error {
		e.Path = sv.Name + "/" + e.Path
		if e.Kind == tree.Dir || e.Kind == tree.Link || wanted[e.Path] {
			entries = append(entries, e)
		}
		return nil
	})
	return entries, err
}

func keptSave(sv *save.Save, nodes []archive.Node) archive.KeptSave {
	kept := archive.KeptSave{Kind: sv.Kind.ID, Folder: sv.Folder.ID, Account: sv.Folder.Account, Name: sv.Name, Slot: sv.SlotShown(), Title: sv.Facts.Title(),
		Version: sv.Facts.Version(), Modified: sv.Modified.UTC()}
	tops := sv.Tops()
	var list []tree.Named
	for _, n := range nodes {
		if n.Kind == tree.File && slices.Contains(tops, strings.SplitN(n.Path, "/", 2)[0]) {
			kept.Files = append(kept.Files, archive.KeptFile{Path: n.Path, SHA256: n.SHA256})
			kept.Bytes += n.Size
			list = append(list, tree.Named{Path: save.Inside(sv.Kind, sv.Name, n.Path), Digest: n.Digest})
		}
	}
	kept.Digest = save.DigestOf(sv.Kind, list)
	return kept
}

// keepMods keeps the mods themselves, those of the game's own content and of other programs excepted.
func (s *Session) keepMods(ctx context.Context, k *archive.Keeping, l *Look, before, snap *archive.Snapshot) error {
	byFolder := map[string][]*mod.Mod{}
	for _, m := range l.Mods.Mods {
		if key := m.Folder.ID + "\x00" + m.Folder.Account; !m.Kind.Base && !m.Folder.Managed {
			byFolder[key] = append(byFolder[key], m)
		}
	}
	for _, key := range slices.Sorted(maps.Keys(byFolder)) {
		id, account, _ := strings.Cut(key, "\x00")
		dir := byFolder[key][0].Folder.Path
		var groups []archive.Group
		for _, m := range byFolder[key] {
			entries, err := modEntries(m)
			if err != nil {
				return err
			}
			groups = append(groups, archive.Apart(dir, entries)...)
		}
		root, nodes, err := k.WholeRoot(ctx, dir+"\x00kept as "+snap.Playthrough, before, archive.Root{Folder: id, Account: account, What: archive.Mods}, groups)
		if err != nil {
			return err
		}
		snap.Roots = append(snap.Roots, root)
		digests := make(map[string]tree.Digest, len(nodes))
		for _, n := range nodes {
			digests[n.Path] = n.Digest
		}
		for _, m := range byFolder[key] {
			m.DigestFrom(digests)
		}
	}
	if err := l.Mods.TakeDigests(ctx, s.Hasher, true); err != nil {
		return err
	}
	snap.Mods = l.Mods.List()
	return nil
}

// modEntries are all entries of a mod, relative to the folder it lies in.
func modEntries(m *mod.Mod) ([]tree.Entry, error) {
	if m.Kind.Unit == game.UnitFile {
		entries := slices.Clone(m.Entries)
		for i := range entries {
			entries[i].Path = m.Path
		}
		return entries, nil
	}
	top, err := tree.Look(m.Folder.Path, m.Path)
	if err != nil {
		return nil, err
	}
	entries := []tree.Entry{top}
	for _, e := range m.Entries {
		e.Path = m.Path + "/" + e.Path
		entries = append(entries, e)
	}
	return entries, nil
}
