package keep

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"iter"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/assess"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// keeper is a keep under way.
type keeper struct {
	h        *home.Home
	a        *archive.Archive
	in       *game.Install
	req      Request
	progress *home.Meter

	k       *archive.Keeping
	before  *archive.Snapshot // the one before, or nil
	roots   []archive.Root    // of what is heavy
	leftOut []archive.LeftOut

	strict bool // a save that is being written is an error
	mu     sync.Mutex
	busy   []*facts.Save // that are being written
}

// begin begins the snapshot, building on the newest one of the playthrough.
func (kp *keeper) begin(ctx context.Context, playthrough string) (err error) {
	if playthrough != "" {
		if kp.before, err = kp.a.NewestReadable(playthrough, archive.Any); err != nil {
			return err
		}
	}
	kp.k, err = kp.a.Keep(ctx, kp.h.Hasher, kp.before, kp.h.Now(), kp.progress.Did)
	return err
}

func (kp *keeper) abandon() {
	if kp.k != nil {
		kp.k.Abandon()
	}
}

// omit names something that cannot be read and is not kept.
func (kp *keeper) omit(path string, err error) {
	left := archive.LeftOut{Path: path, Why: assess.Reading(err)}
	if of := (*fs.PathError)(nil); errors.As(err, &of) && strings.HasPrefix(of.Path, path) { // the file in it
		left.Path, left.Why = of.Path, of.Err.Error()
	}
	kp.leftOut = append(kp.leftOut, left)
}

// with reports whether the request is for what is meant, too. The game is kept with its mods: alone it would be half of what was played.
func (kp *keeper) with(kind archive.Kind) bool {
	return slices.Contains(kp.req.With, kind) || kind == archive.Mods && slices.Contains(kp.req.With, archive.Game)
}

// heavy keeps what is large, the mods and the game, and takes the digests of the state's mods as it goes.
func (kp *keeper) heavy(ctx context.Context, st *facts.State) error {
	if err := apart(kp.h, st); err != nil {
		return err
	}
	if !kp.with(archive.Mods) {
		return facts.ReadMods(ctx, kp.h, st, false)
	}
	if err := kp.mods(ctx, st); err != nil {
		return err
	}
	if kp.with(archive.Game) {
		return kp.game(ctx, st)
	}
	return nil
}

// present keeps the rest of what the game has now.
func (kp *keeper) present(ctx context.Context, st *facts.State, snap *archive.Snapshot) error {
	if err := kp.saves(ctx, st, snap); err != nil {
		return err
	}
	counts := map[game.FileKind]int{}
	for _, g := range st.Groups {
		counts[g.Kind]++
		if g.Kind == game.PictureFiles && !kp.with(archive.Pictures) {
			continue
		}
		root, err := kp.fileGroup(ctx, g, counts[g.Kind], func(string) bool { return true })
		if err != nil {
			return err
		}
		snap.Roots = append(snap.Roots, root)
	}
	snap.Roots = append(snap.Roots, kp.roots...)
	return kp.ledger(ctx, st, snap)
}

// rootOf is the root of a pattern's files; number counts the patterns of its kind, for its label.
func rootOf(g game.FileGroup, number int) archive.Root {
	return archive.Root{Folder: fmt.Sprintf("%s-%d", g.Kind, number), Account: g.Account, Pattern: g.Pattern, Kind: archive.Kind(g.Kind)}
}

// fileGroup keeps the files of a pattern that are wanted.
func (kp *keeper) fileGroup(ctx context.Context, g game.FileGroup, number int, wanted func(path string) bool) (archive.Root, error) {
	entries, err := facts.GroupFiles(ctx, g)
	if err != nil {
		kp.omit(g.Dir, err)
	}
	var each []archive.Group
	for _, e := range entries {
		if !wanted(e.Path) {
			continue
		}
		if err := cmp.Or(e.Err, readable(g.Dir, e)); err != nil {
			kp.omit(filepath.Join(g.Dir, filepath.FromSlash(e.Path)), err)
			continue
		}
		each = append(each, archive.Group{Dir: g.Dir, Entries: []tree.Entry{e}})
		kp.progress.More(e.Size)
	}
	root, _, err := kp.k.Root(ctx, rootOf(g, number), each, false)
	return root, err
}

// readable reports why a file cannot be opened, or nil.
func readable(dir string, e tree.Entry) error {
	if e.Kind != tree.File {
		return nil
	}
	f, err := tree.Open(filepath.Join(dir, filepath.FromSlash(e.Path)))
	if err != nil {
		return err
	}
	return f.Close()
}

type rootKey struct{ folder, account string }

func (kp *keeper) saves(ctx context.Context, st *facts.State, snap *archive.Snapshot) error {
	byRoot := map[rootKey][]*facts.Save{}
	var order []rootKey
	for _, s := range st.Saves {
		if s.Line != snap.Playthrough {
			continue
		}
		if s.Unread != nil && !s.BeingWritten() {
			kp.omit(s.Path(), s.Unread)
			continue
		}
		kp.progress.More(s.Size)
		key := rootKey{s.Folder.ID, s.Folder.Account}
		if byRoot[key] == nil {
			order = append(order, key)
		}
		byRoot[key] = append(byRoot[key], s)
	}
	for _, u := range st.Problems.Saves {
		kp.omit(u.Path(), u.Err)
	}
	for _, key := range order {
		root := archive.Root{Folder: key.folder, Account: key.account, Kind: archive.Saves}
		var groups []archive.Group
		for _, s := range byRoot[key] {
			entries, special, err := withFolders(ctx, s.Save)
			if err != nil {
				return err
			}
			for _, e := range special {
				kp.omit(filepath.Join(s.Folder.Path, filepath.FromSlash(e.Path)), errSpecial)
			}
			for _, e := range entries {
				if top, _, _ := strings.Cut(e.Path, "/"); e.Kind == tree.Link && e.LeadsOut(top) != "" {
					kp.omit(filepath.Join(s.Folder.Path, filepath.FromSlash(e.Path)), fmt.Errorf("a link out of the save, to %s", e.Target))
				}
			}
			group := archive.Group{Dir: s.Folder.Path, Entries: entries}
			if !kp.strict {
				group.Busy = func() { kp.isBusy(s) }
			}
			groups = append(groups, group)
		}
		root, nodes, err := kp.k.Root(ctx, root, groups, true)
		if err != nil {
			if errors.Is(err, tree.ErrBeingWritten) {
				return problem.Busy(problem.Advise("wait until the game has saved, then try again"), "%v; nothing has been kept", err)
			}
			return err
		}
		snap.Roots = append(snap.Roots, root)
		for _, s := range byRoot[key] {
			if !slices.Contains(kp.busy, s) {
				snap.Saves = append(snap.Saves, keptSave(s, nodes))
			}
		}
	}
	for _, s := range kp.busy {
		kp.omit(s.Path(), errBusy)
	}
	if len(kp.busy) > 0 && len(snap.Saves) == 0 {
		return problem.Busy(problem.Advise("wait until the game has saved, then try again"), "%s %v; nothing has been kept", kp.busy[0].Path(), errBusy)
	}
	return nil
}

// isBusy notes a save that the game goes on writing. It is left out; the others are kept.
func (kp *keeper) isBusy(s *facts.Save) {
	kp.mu.Lock()
	defer kp.mu.Unlock()
	kp.busy = append(kp.busy, s)
}

var errBusy = errors.New("is being written")

var errSpecial = errors.New("a pipe or a device, which cannot be kept")

// withFolders are all entries of a save, its folders too, so that they come back with their times; special are those that no archive holds.
func withFolders(ctx context.Context, sv *save.Save) (entries, special []tree.Entry, err error) {
	if sv.Kind.Unit != game.UnitFolder {
		return slices.Clone(sv.Files), nil, nil
	}
	top, err := tree.Stat(sv.Folder.Path, sv.Name)
	if err != nil {
		return nil, nil, err
	}
	entries = []tree.Entry{top}
	wanted := map[string]bool{}
	for _, f := range sv.Files {
		wanted[f.Path] = true
	}
	err = tree.Walk(ctx, filepath.Join(sv.Folder.Path, sv.Name), func(e tree.Entry) error {
		e.Path = sv.Name + "/" + e.Path
		switch {
		case e.Kind == tree.Dir || e.Kind == tree.Link || wanted[e.Path]:
			entries = append(entries, e)
		case e.Kind == tree.Special:
			special = append(special, e)
		}
		return nil
	})
	return entries, special, err
}

func keptSave(sv *facts.Save, nodes []archive.Node) archive.KeptSave {
	kept := archive.KeptSave{Kind: sv.Kind.ID, Folder: sv.Folder.ID, Account: sv.Folder.Account, Name: sv.Name, Slot: sv.SlotShown(), Title: sv.Facts.Title(),
		Version: sv.Facts.Version(), Modified: sv.Modified.UTC(), Broken: sv.Broken(), Played: int64(sv.Facts.Played().Seconds())}
	for _, id := range sv.Kind.Columns {
		personal := slices.ContainsFunc(sv.Kind.Field[id], func(f field.Field) bool { return f.Personal })
		if text := sv.Facts.Fields[id].Text; text != "" && !personal && id != "version" && id != "title" {
			if kept.Columns == nil {
				kept.Columns = map[string]string{}
			}
			kept.Columns[id] = text
		}
	}
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

// kept reports whether a mod is kept when mods are: all are but the game's own content. What another program manages is, too: it may take it
// away at any time.
func kept(m *mod.Mod) bool { return !m.Kind.Base }

// mods keeps the mods themselves.
func (kp *keeper) mods(ctx context.Context, st *facts.State) error {
	byFolder := map[string][]*mod.Mod{}
	for _, m := range st.Mods.Mods {
		if key := m.Folder.ID + "\x00" + m.Folder.Account; kept(m) {
			byFolder[key] = append(byFolder[key], m)
			kp.progress.More(m.Size)
		}
	}
	for _, key := range slices.Sorted(maps.Keys(byFolder)) {
		id, account, _ := strings.Cut(key, "\x00")
		dir := byFolder[key][0].Folder.Path
		for _, m := range byFolder[key] {
			for _, e := range m.Unread {
				kp.omit(filepath.Join(m.Dir(), filepath.FromSlash(e.Path)), e.Err)
			}
		}
		spans, err := spansOf(byFolder[key])
		if err != nil {
			return err
		}
		d := digester{spans: spans}
		root := archive.Root{Folder: id, Account: account, Kind: archive.Mods}
		root, err = kp.k.WholeRoot(ctx, kp.place(dir), kp.before, root, dir, entriesOf(spans), d.visit)
		if err != nil {
			return err
		}
		d.end()
		kp.roots = append(kp.roots, root)
	}
	return facts.ReadMods(ctx, kp.h, st, true)
}

// place names a folder in the notes of what was taken over whole.
func (kp *keeper) place(dir string) string { return dir + "\x00kept by " + kp.in.Address() }

// game keeps the game itself: all that is in the install but what lies in its folders of saves and mods, or is a setting or a picture.
func (kp *keeper) game(ctx context.Context, st *facts.State) error {
	entries, unread, err := facts.GameFiles(ctx, st)
	if err != nil {
		return err
	}
	for _, e := range unread {
		kp.omit(filepath.Join(st.Install.Root, filepath.FromSlash(e.Path)), e.Err)
	}
	for e := range entries.All() {
		kp.progress.More(e.Size)
	}
	root := archive.Root{Folder: string(archive.Game), Kind: archive.Game}
	root, err = kp.k.WholeRoot(ctx, kp.place(st.Install.Root), kp.before, root, st.Install.Root, entries.All(), func(archive.Node) {})
	kp.roots = append(kp.roots, root)
	return err
}

// span is a part of a mod in the order of all paths of its folder. A mod's own entry and its contents sort apart (deep-tides stands
// between deep and deep/art), so each mod that is a folder gives two spans.
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
		top, err := tree.Stat(m.Folder.Path, m.Path)
		if err != nil {
			return nil, err
		}
		if top.Kind == tree.Link { // what it links to is kept as the mod that it is
			real, err := filepath.EvalSymlinks(m.Dir())
			if err != nil {
				return nil, err
			}
			if top, err = tree.Stat(real, "."); err != nil {
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
	// partial tells that not all of it could be read: then it has no digest.
	partial bool
}

func (d *digester) visit(n archive.Node) {
	if n.Kind != tree.File && n.Kind != tree.Unread {
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
	case n.Kind == tree.Unread:
		d.partial = true
	case !s.inside:
		d.list.Add(tree.Named{Path: ".", Digest: n.Digest})
	case s.m.Counts(inside):
		d.list.Add(tree.Named{Path: inside, Digest: n.Digest})
	}
}

// end ends the digest of the mod that came last.
func (d *digester) end() {
	if d.open != nil && !d.partial && len(d.open.Unread) == 0 {
		d.open.Digest = d.list.Sum()
	}
	d.open, d.partial = nil, false
}
