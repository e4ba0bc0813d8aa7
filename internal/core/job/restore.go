package job

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/change"
	"ostrov/internal/core/game"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/unpack"
)

// lockWait is how long a change waits for another Ostrov.
const lockWait = 10 * time.Second

// Step is one thing that a change does, for people.
type Step struct {
	Do   string `json:"do"` // put, replace, remove or leave
	What string `json:"what"`
	Path string `json:"path"`
	Note string `json:"note,omitempty"`
}

// Planned is a change of game folders that can be shown before it is made.
type Planned struct {
	Install *game.Install
	Steps   []Step
	// Warnings are what the player should know before agreeing.
	Warnings []string

	look    *Look
	plan    change.Plan
	safety  string // what the snapshot taken before is for; "" takes none
	records []func(ctx context.Context) error
	outcome *outcome // what the logbook is to know then, and undone when it is taken back; nil where that is known from the folders
	undone  *outcome
}

// Done is a change that has been made.
type Done struct {
	Record *change.Record
	Safety *archive.Snapshot // what was kept before, or nil where nothing had changed since the newest snapshot
}

// RestoreRequest says what to bring back.
type RestoreRequest struct {
	Slot string   // one save only, by slot or name
	Only []string // saves, settings, mods; none is all that was kept
}

// PlanRestore plans to put a snapshot back.
func (s *Session) PlanRestore(ctx context.Context, snap *archive.Snapshot, req RestoreRequest) (*Planned, error) {
	if err := s.RequireRecords(); err != nil {
		return nil, err
	}
	in, err := s.installOf(ctx, snap)
	if err != nil {
		return nil, err
	}
	l, err := s.Look(ctx, in)
	if err != nil {
		return nil, err
	}
	if err := mayChange(ctx, in, nil, nil); err != nil {
		return nil, err
	}
	a, err := s.Archive(false)
	if err != nil {
		return nil, err
	}
	p := s.newPlan(ctx, l, "restore "+snap.Address(), nil)
	r := restorer{s, ctx, a, snap, l, p}
	wants := func(what string) bool {
		return req.Slot == "" && len(req.Only) == 0 || slices.Contains(req.Only, what) || req.Slot != "" && what == archive.Saves
	}
	for _, root := range snap.Roots {
		if !wants(root.What) {
			continue
		}
		switch root.What {
		case archive.Saves:
			err = r.saves(root, req.Slot)
		case archive.Settings:
			err = r.settings(root)
		case archive.Mods:
			err = r.mods(root)
		}
		if err != nil {
			return nil, err
		}
	}
	if wants(archive.Saves) && req.Slot == "" {
		r.removeOthers()
	}
	if len(p.plan.Items) == 0 {
		if req.Slot != "" {
			return nil, usage("ostrov kept "+snap.Playthrough, "%s has no save %q", snap.Address(), req.Slot)
		}
		return p, nil
	}
	r.warn(wants(archive.Mods))
	return p, nil
}

// installOf finds the install that a snapshot's playthrough is played on.
func (s *Session) installOf(ctx context.Context, snap *archive.Snapshot) (*game.Install, error) {
	all, err := s.Logbook.Playthroughs(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range all {
		if p.Name == snap.Playthrough {
			return s.Install(p.Game + "@" + p.Install)
		}
	}
	return s.Install(snap.Game)
}

func (s *Session) newPlan(ctx context.Context, l *Look, title string, guard func() error) *Planned {
	_, listed, _ := s.changeable(ctx, l.Install) // a look has resolved the same folders already
	if guard == nil {
		guard = func() error { return mayChange(ctx, l.Install, nil, nil) }
	}
	return &Planned{Install: l.Install, look: l, safety: title, plan: change.Plan{Title: title, Install: l.Install.Address(), Listed: listed, Guard: guard, Now: s.Now(), Wait: lockWait}}
}

type restorer struct {
	s    *Session
	ctx  context.Context
	a    *archive.Archive
	snap *archive.Snapshot
	l    *Look
	p    *Planned
}

// saves plans to put back the saves of one root, those only whose state differs.
func (r *restorer) saves(root archive.Root, only string) error {
	folder, err := r.folder(root)
	if err != nil {
		return err
	}
	nodes, err := r.nodes(root)
	if err != nil {
		return err
	}
	for _, kept := range r.snap.Saves {
		if kept.Folder != root.Folder || kept.Account != root.Account || only != "" && kept.Slot != only && kept.Name != only {
			continue
		}
		now := r.l.at(folder, kept.Name)
		if now != nil && now.Digest == kept.Digest {
			r.p.Steps = append(r.p.Steps, Step{"leave", kept.Called(), filepath.Join(folder.Path, kept.Name), "is as it was kept"})
			continue
		}
		if now != nil && now.Playthrough != r.snap.Playthrough && (now.Playthrough != "" || len(r.l.Playthroughs) > 1) {
			whose := "of no playthrough"
			if now.Playthrough != "" {
				whose = "of the playthrough " + now.Playthrough
			}
			return usage(fmt.Sprintf("ostrov restore %s --to DIR", r.snap.Address()), "%s is in use by %s, %s; nothing has been changed", kept.Called(), now.Title(), whose)
		}
		kind := kindOf(r.l.Install.Game, kept.Kind)
		if kind == nil {
			return usage("", "the description of %s has no kind of save %q any more", r.l.Install.Game.ID, kept.Kind)
		}
		step := Step{"put", kept.Called(), filepath.Join(folder.Path, kept.Name), ""}
		tops := topsOf(kind, kept)
		if now != nil {
			step.Do, step.Note = "replace", "now: "+describe(now)
			for _, top := range now.Tops() {
				if !slices.Contains(tops, top) {
					r.p.remove(r.ctx, folder.Path, top)
				}
			}
		}
		r.p.Steps = append(r.p.Steps, step)
		for _, top := range tops {
			if err := r.p.put(r.ctx, folder.Path, top, r.fill(nodes, top)); err != nil {
				return err
			}
		}
		r.p.records = append(r.p.records, func(ctx context.Context) error { return r.s.recordRestored(ctx, r.l, r.snap, kept, folder) })
	}
	return nil
}

// topsOf are the names in the folder that make up a kept save.
func topsOf(kind *game.Save, kept archive.KeptSave) []string {
	if kind.Unit == game.UnitFolder {
		return []string{kept.Name}
	}
	var tops []string
	for _, f := range kept.Files {
		tops = append(tops, f.Path)
	}
	return tops
}

func kindOf(d *game.Description, id string) *game.Save {
	for i := range d.Saves {
		if d.Saves[i].ID == id {
			return &d.Saves[i]
		}
	}
	return nil
}

// at is the save that has a name in a folder now, or nil.
func (l *Look) at(folder game.Located, name string) *SaveState {
	for _, st := range l.Saves {
		if st.Folder.Path == folder.Path && (st.Name == name || l.Install.FoldsCase() && strings.EqualFold(st.Name, name)) {
			return st
		}
	}
	return nil
}

func describe(st *SaveState) string {
	text := fmt.Sprintf("%q", st.Title())
	if v := st.Facts.Version(); v != "" {
		text += ", " + v
	}
	return text + ", " + st.Modified.Local().Format("2 January 15:04")
}

// folder finds where a root of the snapshot lies now.
func (r *restorer) folder(root archive.Root) (game.Located, error) {
	for _, f := range r.l.Folders {
		if f.ID == root.Folder && f.Account == root.Account {
			if f.Managed {
				return f, usage("", "the folder %s belongs to another program and is never written", f.ID)
			}
			return f, nil
		}
	}
	where := root.Folder
	if root.Account != "" {
		where += " of account " + root.Account
	}
	return game.Located{}, usage("start the game once, or `ostrov restore "+r.snap.Address()+" --to DIR`", "%s has no folder %s now", r.l.Called, where)
}

func (r *restorer) nodes(root archive.Root) ([]archive.Node, error) {
	var nodes []archive.Node
	err := r.a.Nodes(r.ctx, root, func(n archive.Node) error {
		if why := unpack.CheckName(n.Path); why != "" && runtime.GOOS == "windows" {
			return fmt.Errorf("%q %s", n.Path, why)
		}
		nodes = append(nodes, n)
		return nil
	})
	if err != nil {
		return nil, problem("ostrov archive verify", "%s cannot be brought back: %w; nothing has been changed", r.snap.Address(), err)
	}
	return nodes, nil
}

// fill writes one name of a listing, a file or a folder with all in it, into a stage.
func (r *restorer) fill(nodes []archive.Node, top string) func(context.Context, *change.Stage) error {
	return func(ctx context.Context, stage *change.Stage) error {
		return fillFrom(ctx, r.a, nodes, top, stage)
	}
}

func fillFrom(ctx context.Context, a *archive.Archive, nodes []archive.Node, top string, stage *change.Stage) error {
	for _, n := range nodes {
		name := "."
		if n.Path != top {
			rest, below := strings.CutPrefix(n.Path, top+"/")
			if !below {
				continue
			}
			name = rest
		}
		var err error
		switch n.Kind {
		case tree.Dir:
			err = stage.Mkdir(name, n.Entry())
		case tree.Link:
			if target := path.Join(path.Dir(n.Path), n.Target); path.IsAbs(n.Target) || target != top && !strings.HasPrefix(target, top+"/") {
				continue // a link out of the save was never part of it
			}
			err = stage.Symlink(name, n.Target)
		default:
			err = stage.Write(name, n.Entry(), func(w io.Writer) error { return a.Copy(ctx, n, w) })
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// put plans to make name in root what fill writes.
func (p *Planned) put(ctx context.Context, root, name string, fill func(context.Context, *change.Stage) error) error {
	expect, err := change.PrintOf(ctx, filepath.Join(root, filepath.FromSlash(name)))
	if err != nil {
		return err
	}
	p.plan.Items = append(p.plan.Items, change.Item{Root: root, Create: true, Name: name, Fill: fill, Expect: &expect})
	return nil
}

func (p *Planned) remove(ctx context.Context, root, name string) {
	if expect, err := change.PrintOf(ctx, filepath.Join(root, filepath.FromSlash(name))); err == nil && !expect.Missing() {
		p.plan.Items = append(p.plan.Items, change.Item{Root: root, Name: name, Expect: &expect})
	}
}

// removeOthers plans to take away the saves of the playthrough that the snapshot does not have. They are kept first.
func (r *restorer) removeOthers() {
	for _, st := range r.l.Saves {
		if st.Playthrough != r.snap.Playthrough {
			continue
		}
		kept := slices.ContainsFunc(r.snap.Saves, func(k archive.KeptSave) bool {
			return k.Folder == st.Folder.ID && k.Account == st.Folder.Account && k.Name == st.Name
		})
		if kept {
			continue
		}
		r.p.Steps = append(r.p.Steps, Step{"remove", describe(st), filepath.Join(st.Folder.Path, st.Name), "not in the snapshot; kept first"})
		for _, top := range st.Tops() {
			r.p.remove(r.ctx, st.Folder.Path, top)
		}
		key, install := st.Key(), r.l.Install.Address()
		r.p.records = append(r.p.records, func(ctx context.Context) error { return r.s.Logbook.Forget(ctx, install, key) })
	}
}

func (r *restorer) settings(root archive.Root) error {
	groups, err := settingsGroups(r.ctx, r.l.Install)
	if err != nil {
		return err
	}
	var n int
	if _, err := fmt.Sscanf(root.Folder, "settings-%d", &n); err != nil || n < 1 || n > len(groups) {
		r.p.Warnings = append(r.p.Warnings, "the description has no place for "+root.Folder+" any more: left out")
		return nil
	}
	return r.files(root, groups[n-1].Dir)
}

// files plans to put back single files that differ from those in dir.
func (r *restorer) files(root archive.Root, dir string) error {
	nodes, err := r.nodes(root)
	if err != nil {
		return err
	}
	for _, n := range nodes {
		if n.Kind != tree.File {
			continue
		}
		if r.stays(n.Path) {
			continue
		}
		step := Step{"put", n.Path, filepath.Join(dir, filepath.FromSlash(n.Path)), ""}
		if e, err := tree.Look(dir, n.Path); err == nil {
			if sums, err := r.s.Hasher.File(r.ctx, dir, e, false); err == nil && sums.Blake3 == n.Digest {
				continue
			}
			step.Do = "replace"
		}
		r.p.Steps = append(r.p.Steps, step)
		if err := r.p.put(r.ctx, dir, n.Path, r.fill([]archive.Node{n}, n.Path)); err != nil {
			return err
		}
	}
	return nil
}

// mods plans to put back kept mods that are missing or differ. Mods that were added since stay where they are.
func (r *restorer) mods(root archive.Root) error {
	folder, err := r.folder(root)
	if err != nil {
		return err
	}
	nodes, err := r.nodes(root)
	if err != nil {
		return err
	}
	present := map[string]*mod.Mod{}
	for _, m := range r.l.Mods.Mods {
		if m.Folder.Path == folder.Path {
			present[m.Path] = m
		}
	}
	for _, top := range modTops(nodes) {
		var list []tree.Named
		for _, n := range nodes {
			if rest, ok := strings.CutPrefix(n.Path, top+"/"); ok && n.Kind == tree.File && !strings.HasPrefix(rest, ".git/") {
				list = append(list, tree.Named{Path: rest, Digest: n.Digest})
			} else if n.Path == top && n.Kind == tree.File {
				list = append(list, tree.Named{Path: ".", Digest: n.Digest})
			}
		}
		step := Step{"put", "mod " + path.Base(top), filepath.Join(folder.Path, filepath.FromSlash(top)), ""}
		if m := present[top]; m != nil {
			if m.Digest == tree.ListDigest(list) {
				continue
			}
			step.Do, step.Note = "replace", "now: "+m.Name()+" "+m.Version
		}
		r.p.Steps = append(r.p.Steps, step)
		if err := r.p.put(r.ctx, folder.Path, top, r.fill(nodes, top)); err != nil {
			return err
		}
	}
	return nil
}

// modTops are the paths of the mods in a listing: those that lie in no other path of it.
func modTops(nodes []archive.Node) []string {
	var tops []string
	seen := map[string]bool{}
	for _, n := range nodes { // "a.txt" stands between "a" and "a/b"
		inside := false
		for dir := path.Dir(n.Path); dir != "." && !inside; dir = path.Dir(dir) {
			inside = seen[dir]
		}
		if !inside {
			seen[n.Path] = true
			tops = append(tops, n.Path)
		}
	}
	return tops
}

// warn tells how the game will differ from the snapshot even when all planned is done.
func (r *restorer) warn(mods bool) {
	if r.snap.Version != "" && r.snap.Version != r.l.Version && !r.snap.ByHand {
		r.p.Warnings = append(r.p.Warnings, fmt.Sprintf("the snapshot was taken with %s, you have %s", r.snap.Version, r.l.Version))
	}
	if r.snap.ByHand {
		return
	}
	brought := mods && slices.ContainsFunc(r.snap.Roots, func(root archive.Root) bool { return root.What == archive.Mods })
	for _, c := range CompareMods(r.snap.Mods, r.l.List) {
		if c.What == "dropped" && !brought {
			name := c.Mod.Title
			if name == "" {
				name = c.Mod.ID
			}
			r.p.Warnings = append(r.p.Warnings, strings.TrimSpace(fmt.Sprintf("%s %s was there then and is missing now", name, c.Was)))
		}
	}
}

// Apply carries out a plan: it keeps what the plan touches, then changes, then records.
func (s *Session) Apply(ctx context.Context, p *Planned) (*Done, error) {
	done := &Done{}
	if p.safety != "" && len(p.look.Saves) > 0 {
		snap, err := s.keepBefore(ctx, p)
		if err != nil {
			return nil, err
		}
		done.Safety = snap
	}
	p.plan.Announce = s.announce(p.outcome, p.undone)
	r, err := change.Apply(ctx, p.plan)
	if err != nil {
		return nil, s.changeError(err)
	}
	done.Record = r
	s.recordDone(ctx, p, r)
	for _, record := range p.records {
		if err := record(ctx); err != nil {
			s.Log.Error("the change is made but not recorded", "error", err)
		}
	}
	delete(s.looks, p.Install)
	return done, nil
}

// recordDone makes the logbook know what a change meant. The change has happened: what fails here is caught up with by the next command.
func (s *Session) recordDone(ctx context.Context, p *Planned, r *change.Record) {
	if p.outcome == nil {
		return
	}
	pointer := pointerTo{ID: r.ID, Title: r.Title, Install: r.Install, Dir: r.Dir, Outcome: p.outcome, OnUndo: p.undone}
	if err := s.finishOutcome(ctx, pointer); err != nil {
		s.Log.Error("the change is made but not recorded", "error", err)
	}
}

// keepBefore keeps the playthroughs that a plan touches, unless the newest snapshot has them just so.
func (s *Session) keepBefore(ctx context.Context, p *Planned) (*archive.Snapshot, error) {
	l := p.look
	if current := l.Current(); current != nil && l.Snapshot != nil && l.Since.New == 0 && l.Since.Changed == 0 && len(l.Since.Mods) == 0 {
		return nil, nil
	}
	kept, err := s.Keep(ctx, p.Install, KeepRequest{safety: p.safety})
	if err != nil {
		return nil, fmt.Errorf("the present state could not be kept first, so nothing has been changed: %w", err)
	}
	return kept.Snapshot, nil
}

// changeError says what went wrong with a change in words for people.
func (s *Session) changeError(err error) error {
	var locked *change.LockedError
	switch {
	case errors.As(err, &locked):
		return &Error{Text: err.Error(), Hint: "nothing has been changed", Err: ErrBusy}
	case errors.Is(err, change.ErrChanged):
		return &Error{Text: err.Error(), Hint: "everything is as it was; look again and repeat the command", Err: err}
	case isFull(err):
		return &Error{Text: "the drive is full: " + err.Error(), Hint: "everything is as it was; make room and repeat the command", Err: err}
	}
	return err
}

// recordRestored makes the logbook know where a restored save stands and whose it is.
func (s *Session) recordRestored(ctx context.Context, l *Look, snap *archive.Snapshot, kept archive.KeptSave, folder game.Located) error {
	key := keyOf(&save.Save{Folder: folder, Name: kept.Name})
	install := l.Install.Address()
	if err := s.Logbook.SetPlaces(ctx, install, []logbook.Place{{Key: key, Digest: kept.Digest, Title: kept.Title, Slot: kept.Slot, Size: kept.Bytes, Modified: kept.Modified, Seen: s.Now()}}); err != nil {
		return err
	}
	if len(l.Playthroughs) > 1 {
		return s.Logbook.Assign(ctx, install, []logbook.Key{key}, snap.Playthrough)
	}
	return nil
}

// RestoreTo writes a snapshot into a new or empty folder, touching nothing else. Names that this system cannot hold are escaped.
func (s *Session) RestoreTo(ctx context.Context, snap *archive.Snapshot, dir string, req RestoreRequest) (files int, err error) {
	a, err := s.Archive(false)
	if err != nil {
		return 0, err
	}
	list, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return 0, err
	}
	if len(list) > 0 {
		return 0, usage("", "%s is not empty", dir)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return 0, err
	}
	for _, root := range snap.Roots {
		if len(req.Only) > 0 && !slices.Contains(req.Only, root.What) || req.Slot != "" && root.What != archive.Saves {
			continue
		}
		var names []string
		for _, part := range []string{root.What, root.Folder, root.Account} {
			if part != "" {
				names = append(names, escape(part))
			}
		}
		sub := filepath.Join(dir, strings.Join(names, "-"))
		if err := os.Mkdir(sub, 0o755); err != nil {
			return files, err
		}
		n, err := s.writeRoot(ctx, a, snap, root, sub, req.Slot)
		if err != nil {
			return files, problem("ostrov archive verify", "%s could not be brought back whole: %w", snap.Address(), err)
		}
		files += n
	}
	return files, nil
}

func (s *Session) writeRoot(ctx context.Context, a *archive.Archive, snap *archive.Snapshot, root archive.Root, dir, only string) (files int, err error) {
	target, err := os.OpenRoot(dir)
	if err != nil {
		return 0, err
	}
	defer target.Close()
	wanted := map[string]bool{}
	for _, k := range snap.Saves {
		if only == "" || k.Slot == only || k.Name == only {
			for _, f := range k.Files {
				wanted[f.Path] = true
			}
		}
	}
	var dirs []archive.Node
	err = a.Nodes(ctx, root, func(n archive.Node) error {
		if only != "" && !wanted[n.Path] {
			return nil
		}
		name := escape(n.Path)
		if n.Kind == tree.Dir {
			dirs = append(dirs, n)
			return target.MkdirAll(name, 0o755)
		}
		if n.Kind == tree.Link {
			return nil // what it pointed to is there under its own name
		}
		if parent := path.Dir(name); parent != "." {
			if err := target.MkdirAll(parent, 0o755); err != nil {
				return err
			}
		}
		f, err := target.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return err
		}
		err = a.Copy(ctx, n, f)
		if err == nil && runtime.GOOS != "windows" {
			err = f.Chmod(n.Entry().Mode)
		}
		if err = errors.Join(err, f.Close()); err != nil {
			return err
		}
		files++
		return target.Chtimes(name, time.Time{}, n.Time)
	})
	for _, d := range slices.Backward(dirs) {
		_ = target.Chtimes(escape(d.Path), time.Time{}, d.Time) // a folder's time is a comfort
	}
	return files, err
}

// escape writes a path so that every system can hold it: a part that one of them cannot is spelled with % and hex digits.
func escape(p string) string {
	parts := strings.Split(p, "/")
	for i, part := range parts {
		if unpack.CheckName(part) == "" {
			continue
		}
		var b strings.Builder
		for j := range len(part) {
			c := part[j]
			if c < 0x20 || strings.IndexByte(`:*?"<>|\%`, c) >= 0 || j == len(part)-1 && (c == '.' || c == ' ') || j == 0 && unpack.CheckName(part[:min(3, len(part))]) != "" {
				fmt.Fprintf(&b, "%%%02X", c)
				continue
			}
			b.WriteByte(c)
		}
		parts[i] = b.String()
	}
	return path.Join(parts...)
}

// Changes reports whether the plan changes anything.
func (p *Planned) Changes() bool { return len(p.plan.Items) > 0 }

// VerifyArchive proves the archive whole, or names what is damaged.
func (s *Session) VerifyArchive(ctx context.Context) (archive.Report, error) {
	a, err := s.Archive(false)
	if err != nil {
		return archive.Report{}, problem("ostrov keep", "there is no archive in %s: %w", s.ArchiveDir(), err)
	}
	total, err := a.Size()
	if err != nil {
		return archive.Report{}, err
	}
	var done int64
	return a.Verify(ctx, func(n int64) {
		done += n
		s.Progress("verify", min(done, total), total)
	})
}
