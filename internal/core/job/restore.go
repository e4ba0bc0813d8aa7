package job

import (
	"context"
	"errors"
	"fmt"
	"io"
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

	look     *Look
	progress *meter
	plan     change.Plan
	safety   string // what the snapshot taken before is for; "" takes none
	records  []func(ctx context.Context) error
	outcome  *outcome // what the logbook is to know then, and undone when it is taken back; nil where that is known from the folders
	undone   *outcome
}

// Done is a change that has been made.
type Done struct {
	Record *change.Record    // nil where there was nothing to move
	Safety *archive.Snapshot // what was kept before, or nil where nothing had changed since the newest snapshot
}

// RestoreRequest says what to bring back.
type RestoreRequest struct {
	Slot string   // one save only, by slot or name
	Only []string // of RestoreOnly; none is all that was kept but the game
}

// RestoreOnly are the words that RestoreRequest.Only takes, and "game", for which see RestoreGame.
var RestoreOnly = []string{archive.Saves, archive.Settings, archive.Data, archive.Mods, archive.Pictures, archive.Game}

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
	p.outcome, p.undone = &outcome{}, &outcome{}
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
		case archive.Settings, archive.Data, archive.Pictures:
			err = r.fileGroup(root)
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
	return &Planned{Install: l.Install, look: l, progress: s.meter("restore"), safety: title, plan: change.Plan{Title: title, Install: l.Install.Address(), Listed: listed, Guard: guard, Now: s.Now(), Wait: lockWait}}
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
		if now == nil {
			r.p.undone.Forget = append(r.p.undone.Forget, keyOf(&save.Save{Folder: folder, Name: kept.Name}))
		} else {
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
	var own []archive.Node
	for _, n := range nodes {
		if n.Path == top || strings.HasPrefix(n.Path, top+"/") {
			own = append(own, n)
			r.p.progress.more(n.Size)
		}
	}
	a, progress := r.a, r.p.progress
	return func(ctx context.Context, stage *change.Stage) error {
		return fillFrom(ctx, a, own, top, stage, progress.did)
	}
}

func fillFrom(ctx context.Context, a *archive.Archive, nodes []archive.Node, top string, stage *change.Stage, progress func(n int64)) error {
	for _, n := range nodes {
		progress(n.Size)
		name := "."
		if n.Path != top {
			name = strings.TrimPrefix(n.Path, top+"/")
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
		r.p.outcome.Forget = append(r.p.outcome.Forget, st.Key())
		if len(r.l.Playthroughs) > 1 { // with one, all saves are its own without being said to be
			r.p.undone.Assign = append(r.p.undone.Assign, assigned{Key: st.Key(), Playthrough: st.Playthrough})
		}
	}
}

// warn tells how the game will differ from the snapshot even when all planned is done.
func (r *restorer) warn(mods bool) {
	if r.snap.Version != "" && r.snap.Version != r.l.Version && !r.snap.ByHand {
		r.p.Warnings = append(r.p.Warnings, fmt.Sprintf("the snapshot was taken with %s, you have %s", r.snap.Version, r.l.Version))
	}
	if r.snap.ByHand {
		return
	}
	brought := mods && r.snap.Holds(archive.Mods)
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

// Called is the shortest address of the install that a plan changes.
func (p *Planned) Called() string { return p.look.Called }

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

// Changes reports whether the plan changes anything in folders.
func (p *Planned) Changes() bool { return len(p.plan.Items) > 0 }

// Activates reports whether another playthrough is played once the plan is carried out, though there may be nothing to move for it.
func (p *Planned) Activates() bool { return p.outcome != nil && p.outcome.Activate != "" }

// VerifyArchive proves the archive whole, or names what is damaged.
func (s *Session) VerifyArchive(ctx context.Context) (archive.Report, error) {
	a, err := s.existing()
	if err != nil {
		return archive.Report{}, err
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
