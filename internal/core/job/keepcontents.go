package job

import (
	"context"
	"errors"
	"io/fs"
	"iter"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/change"
	"ostrov/internal/core/game"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// keeper is a keep under way.
type keeper struct {
	s        *Session
	a        *archive.Archive
	in       *game.Install
	req      KeepRequest
	progress *meter

	k      *archive.Keeping
	before *archive.Snapshot // the one before, or nil
	roots  []archive.Root    // of what is heavy
}

// begin begins the snapshot, building on the newest one of the playthrough.
func (kp *keeper) begin(ctx context.Context, playthrough string) (err error) {
	if playthrough != "" {
		if kp.before, err = kp.a.Newest(playthrough, archive.Any); err != nil {
			return err
		}
	}
	kp.k, err = kp.a.Keep(ctx, kp.s.Hasher, kp.before, kp.s.Now(), kp.progress.did)
	return err
}

func (kp *keeper) abandon() {
	if kp.k != nil {
		kp.k.Abandon()
	}
}

// with reports whether the request is for what is meant, too. The game is kept with its mods: alone it would be half of what was played.
func (kp *keeper) with(what string) bool {
	return slices.Contains(kp.req.With, what) || what == archive.Mods && slices.Contains(kp.req.With, archive.Game)
}

// heavy keeps what is large, the mods and the game, and takes the digests of the look's mods as it goes.
func (kp *keeper) heavy(ctx context.Context, l *Look) error {
	if err := kp.s.archiveApart(l); err != nil {
		return err
	}
	if !kp.with(archive.Mods) {
		return kp.s.readMods(ctx, l, false)
	}
	if err := kp.mods(ctx, l); err != nil {
		return err
	}
	if kp.with(archive.Game) {
		return kp.game(ctx, l)
	}
	return nil
}

// present keeps the rest of what the game has now.
func (kp *keeper) present(ctx context.Context, l *Look, snap *archive.Snapshot) error {
	if err := kp.saves(ctx, l, snap); err != nil {
		return err
	}
	groups, err := l.Install.FileGroups(ctx)
	if err != nil {
		return err
	}
	for _, g := range groups {
		if g.What == game.PictureFiles && !kp.with(archive.Pictures) {
			continue
		}
		root, err := kp.fileGroup(ctx, g)
		if err != nil {
			return err
		}
		snap.Roots = append(snap.Roots, root)
	}
	snap.Roots = append(snap.Roots, kp.roots...)
	return nil
}

// fileGroup keeps the files of a pattern.
func (kp *keeper) fileGroup(ctx context.Context, g game.FileGroup) (archive.Root, error) {
	entries, err := groupFiles(ctx, g)
	if err != nil {
		return archive.Root{}, err
	}
	var each []archive.Group
	for _, e := range entries {
		each = append(each, archive.Group{Dir: g.Dir, Entries: []tree.Entry{e}})
		kp.progress.more(e.Size)
	}
	root, _, err := kp.k.Root(ctx, archive.Root{Folder: g.Name, What: g.What}, each, false)
	return root, err
}

// groupFiles are the files that a pattern stands for now.
func groupFiles(ctx context.Context, g game.FileGroup) ([]tree.Entry, error) {
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

func (kp *keeper) saves(ctx context.Context, l *Look, snap *archive.Snapshot) error {
	byRoot := map[rootKey][]*SaveState{}
	var order []rootKey
	for _, st := range l.Saves {
		if st.Playthrough != snap.Playthrough {
			continue
		}
		kp.progress.more(st.Size)
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
		root, nodes, err := kp.k.Root(ctx, root, groups, true)
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

// kept reports whether a mod is kept when mods are: the game's own content and what another program manages are not.
func kept(m *mod.Mod) bool { return !m.Kind.Base && !m.Folder.Managed }

// mods keeps the mods themselves.
func (kp *keeper) mods(ctx context.Context, l *Look) error {
	byFolder := map[string][]*mod.Mod{}
	for _, m := range l.Mods.Mods {
		if key := m.Folder.ID + "\x00" + m.Folder.Account; kept(m) {
			byFolder[key] = append(byFolder[key], m)
			kp.progress.more(m.Size)
		}
	}
	for _, key := range slices.Sorted(maps.Keys(byFolder)) {
		id, account, _ := strings.Cut(key, "\x00")
		dir := byFolder[key][0].Folder.Path
		spans, err := spansOf(byFolder[key])
		if err != nil {
			return err
		}
		d := digester{spans: spans}
		root := archive.Root{Folder: id, Account: account, What: archive.Mods}
		root, err = kp.k.WholeRoot(ctx, kp.place(dir), kp.before, root, dir, entriesOf(spans), d.visit)
		if err != nil {
			return err
		}
		d.end()
		kp.roots = append(kp.roots, root)
	}
	if err := kp.s.readMods(ctx, l, true); err != nil {
		return err
	}
	if err := kp.s.markAltered(ctx, l); err != nil {
		return err
	}
	l.List = l.Mods.List()
	l.Fingerprint = mod.FingerprintOf(l.List)
	return nil
}

// place names a folder in the notes of what was taken over whole.
func (kp *keeper) place(dir string) string { return dir + "\x00kept by " + kp.in.Address() }

// game keeps the game itself: all that is in the install but what lies in its folders of saves and mods, or is a setting or a picture.
func (kp *keeper) game(ctx context.Context, l *Look) error {
	entries, err := gameEntries(ctx, l)
	if err != nil {
		return err
	}
	for e := range entries.All() {
		kp.progress.more(e.Size)
	}
	root := archive.Root{Folder: archive.Game, What: archive.Game}
	root, err = kp.k.WholeRoot(ctx, kp.place(l.Install.Root), kp.before, root, l.Install.Root, entries.All(), func(archive.Node) {})
	kp.roots = append(kp.roots, root)
	return err
}

// gameEntries are the entries of an install that make up the game itself.
func gameEntries(ctx context.Context, l *Look) (*tree.List, error) {
	in := l.Install
	groups, err := in.FileGroups(ctx)
	if err != nil {
		return nil, err
	}
	other := map[string]bool{}
	for _, f := range l.Folders {
		other[f.Path] = true
		if f.Account != "" {
			other[filepath.Dir(f.Path)] = true
		}
	}
	entries := &tree.List{}
	err = tree.Walk(ctx, in.Root, func(e tree.Entry) error {
		full := filepath.Join(in.Root, filepath.FromSlash(e.Path))
		switch {
		case e.Kind == tree.Special:
			return nil
		case other[full] || change.Own(e.Path):
			if e.Kind == tree.Dir {
				return fs.SkipDir
			}
			return nil
		}
		for _, g := range groups {
			rel, err := filepath.Rel(g.Dir, full)
			if e.Kind == tree.File && err == nil && filepath.IsLocal(rel) && doublestar.MatchUnvalidated(g.Glob, filepath.ToSlash(rel)) {
				return nil
			}
		}
		entries.Add(e)
		return nil
	})
	return entries, err
}

// span is what a mod has at one place in the order of all paths of its folder: the folder or file that it is, or what is in it. These two may have
// others between them: deep-tides stands between deep and deep/art.
type span struct {
	key    string
	m      *mod.Mod
	top    tree.Entry
	inside bool
}

// spansOf sorts what the mods of one folder are made of.
func spansOf(mods []*mod.Mod) ([]span, error) {
	var spans []span
	for _, m := range mods {
		if m.Kind.Unit == game.UnitFile {
			for e := range m.Entries.All() {
				e.Path = m.Path
				spans = append(spans, span{key: m.Path, m: m, top: e})
			}
			continue
		}
		top, err := tree.Look(m.Folder.Path, m.Path)
		if err != nil {
			return nil, err
		}
		if top.Kind == tree.Link { // what it links to is kept as the mod that it is
			real, err := filepath.EvalSymlinks(m.Dir())
			if err != nil {
				return nil, err
			}
			if top, err = tree.Look(real, "."); err != nil {
				return nil, err
			}
		}
		top.Path = m.Path
		spans = append(spans, span{key: m.Path, m: m, top: top}, span{key: m.Path + "/", m: m, inside: true})
	}
	slices.SortFunc(spans, func(a, b span) int { return strings.Compare(a.key, b.key) })
	return spans, nil
}

// entriesOf are all entries of mods, relative to the folder they lie in, in order of their paths.
func entriesOf(spans []span) iter.Seq[tree.Entry] {
	return func(yield func(tree.Entry) bool) {
		for _, s := range spans {
			if !s.inside {
				if !yield(s.top) {
					return
				}
				continue
			}
			for e := range s.m.Entries.All() {
				e.Path = s.m.Path + "/" + e.Path
				if !yield(e) {
					return
				}
			}
		}
	}
}

// digester takes the digests of mods from their files as these are kept, in the order of spans.
type digester struct {
	spans []span
	at    int
	list  tree.ListHasher
	open  *mod.Mod // whose list it is, or nil
}

func (d *digester) visit(n archive.Node) {
	if n.Kind != tree.File {
		return
	}
	for s := d.spans[d.at]; n.Path != s.key && !(s.inside && strings.HasPrefix(n.Path, s.key)); s = d.spans[d.at] {
		d.at++
	}
	s := d.spans[d.at]
	if d.open != s.m {
		d.end()
		d.open, d.list = s.m, tree.NewListHasher()
	}
	switch inside := strings.TrimPrefix(n.Path, s.key); {
	case !s.inside:
		d.list.Add(tree.Named{Path: ".", Digest: n.Digest})
	case s.m.Counts(inside):
		d.list.Add(tree.Named{Path: inside, Digest: n.Digest})
	}
}

// end ends the digest of the mod that came last.
func (d *digester) end() {
	if d.open != nil {
		d.open.Digest = d.list.Sum()
		d.open = nil
	}
}
