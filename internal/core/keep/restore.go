package keep

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/unpack"
)

// RestoreRequest says what to bring back.
type RestoreRequest struct {
	Slot string         // one save only, by slot or name
	Only []archive.Kind // of Restorable; none is all that was kept but the game
	All  bool           // also the settings that the description has stay
}

// Restorable are the kinds that RestoreRequest.Only takes, and the game itself, for which see RestoreGame.
var Restorable = []archive.Kind{archive.Saves, archive.Settings, archive.Data, archive.Mods, archive.Pictures, archive.Game}

func (r RestoreRequest) wants(kind archive.Kind) bool {
	if r.Slot != "" {
		return kind == archive.Saves
	}
	return len(r.Only) == 0 || slices.Contains(r.Only, kind)
}

// InstallOf finds the install that a snapshot's playthrough is played on.
func InstallOf(ctx context.Context, h *home.Home, snap *archive.Snapshot) (*game.Install, error) {
	all, err := h.Logbook.Playthroughs(ctx)
	if err != nil {
		return nil, err
	}
	for _, p := range all {
		if p.Name == snap.Playthrough {
			return h.Install(p.Game + "@" + p.Install)
		}
	}
	return h.Install(snap.Game)
}

// Restore plans to put a snapshot back into the install that a state is of.
func Restore(ctx context.Context, h *home.Home, st *facts.State, snap *archive.Snapshot, req RestoreRequest) (*plan.Plan, error) {
	if err := h.RequireRecords(); err != nil {
		return nil, err
	}
	if err := plan.MayChange(ctx, st.Install, nil, nil); err != nil {
		return nil, err
	}
	a, err := h.Existing()
	if err != nil {
		return nil, err
	}
	if err := oneSave(snap, req.Slot); err != nil {
		return nil, err
	}
	r := &restorer{h: h, ctx: ctx, a: a, snap: snap, st: st, p: plan.New(ctx, h, st, "restore "+snap.Address(), nil), all: req.All}
	if err := r.roots(req); err != nil {
		return nil, err
	}
	if req.wants(archive.Saves) && req.Slot == "" {
		r.removeOthers()
		if !snap.ByHand {
			r.p.StandAt(snap.Playthrough, snap.ID)
		}
	}
	r.warn(req.wants(archive.Mods))
	r.p.Stayed = r.stayed
	r.p.Reason = r.nothing(req)
	return r.p, r.p.Err()
}

// nothing says why there is nothing to put back.
func (r *restorer) nothing(req RestoreRequest) string {
	if !slices.ContainsFunc(r.snap.Roots, func(root archive.Root) bool { return req.wants(root.Kind) && root.Files > 0 }) {
		var what []string
		for _, k := range req.Only {
			what = append(what, string(k))
		}
		if len(what) == 0 {
			return r.snap.Address() + " has nothing in it"
		}
		return fmt.Sprintf("%s has kept no %s", r.snap.Address(), strings.Join(what, " and no "))
	}
	if len(r.stayed) > 0 {
		return "only settings that stay, by the description of the game, are not as " + r.snap.Address() + " has them: " + strings.Join(r.stayed, ", ")
	}
	return "all of it is just as " + r.snap.Address() + " has it"
}

type restorer struct {
	h    *home.Home
	ctx  context.Context
	a    *archive.Archive
	snap *archive.Snapshot
	st   *facts.State
	p    *plan.Plan
	// swapping tells that one line makes way for another: then what comes is assigned to its line.
	swapping bool
	all      bool     // also settings that stay by the description
	stayed   []string // those that differ
}

// roots plans to put back what a request wants.
func (r *restorer) roots(req RestoreRequest) error {
	for _, root := range r.snap.Roots {
		if !req.wants(root.Kind) {
			continue
		}
		var err error
		switch root.Kind {
		case archive.Saves:
			err = r.saves(root, func(k archive.KeptSave) bool { return req.Slot == "" || isCalled(k, req.Slot) })
		case archive.Settings, archive.Data, archive.Pictures:
			err = r.fileGroup(root)
		case archive.Mods:
			err = r.mods(root)
		}
		if gone := (*noFolderError)(nil); errors.As(err, &gone) && req.Slot == "" && len(r.snap.Roots) > 1 { // the rest comes back all the same
			r.p.Warnings = append(r.p.Warnings, fmt.Sprintf("%s: left out", gone))
			continue
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// filesGuard keeps the line that is played: settings and what mods stored are kept with it.
func filesGuard(st *facts.State) plan.Safeguard {
	if current := st.Current(); current != nil {
		return plan.KeepLine(current.Name)
	}
	return plan.LeaveAside()
}

// source says that a snapshot keeps what is put.
func inSnapshot(snap *archive.Snapshot) plan.Safe { return plan.InSnapshot(snap.Playthrough, snap.ID) }

// saves plans to put back the saves of one root, those only whose state differs.
func (r *restorer) saves(root archive.Root, wanted func(archive.KeptSave) bool) error {
	folder, err := r.folder(root)
	if err != nil {
		return err
	}
	nodes, err := r.nodes(root)
	if err != nil {
		return err
	}
	for _, kept := range r.snap.Saves {
		if kept.Folder != root.Folder || kept.Account != root.Account || !wanted(kept) {
			continue
		}
		if err := r.save(kept, folder, nodes); err != nil {
			return err
		}
	}
	return nil
}

func (r *restorer) save(kept archive.KeptSave, folder game.Located, nodes []archive.Node) error {
	now := r.st.At(folder, kept.Name)
	step := plan.Step{What: kept.Called(), Root: folder.Path, Name: kept.Name, Saved: kept.Modified}
	if now != nil && now.Digest == kept.Digest && now.Line == r.snap.Playthrough {
		step.Verb, step.Note = plan.Leave, "unchanged"
		r.p.Say(step)
		return nil
	}
	if now != nil && now.Line != r.snap.Playthrough && (now.Line != "" || len(r.st.Lines) > 1) {
		whose := "of no playthrough"
		if now.Line != "" {
			whose = "of the playthrough " + now.Line
		}
		hints := problem.Do("restore", r.snap.Address()).With("to", "DIR").Or(problem.Do("playthroughs assign", r.snap.Playthrough, r.st.Address(now)).Note("if it belongs there"))
		return problem.Usage(hints, "%s is in use by %s, %s; nothing has been changed", kept.Called(), now.Title(), whose)
	}
	kind := kindOf(r.st.Install.Game, kept.Kind)
	if kind == nil {
		return problem.Usage(problem.Do("restore", r.snap.Address()).With("to", "DIR"), "the description of %s has no kind of save %q any more", r.st.Install.Game.ID, kept.Kind)
	}
	tops, err := topsOf(kind, kept)
	if err != nil {
		return problem.New(problem.Do("archive verify"), "%s cannot be brought back: %w; nothing has been changed", r.snap.Address(), err)
	}
	if kept.Broken != "" || kept.Bytes == 0 {
		r.p.Warnings = append(r.p.Warnings, fmt.Sprintf("%s was %s already when %s was taken", kept.Called(), cmp.Or(kept.Broken, "empty"), r.snap.Address()))
	}
	s := &plan.Save{Key: facts.KeyAt(folder, kept.Name), After: r.stand(kept, folder)}
	if now != nil {
		if step.Was = plan.Describe(now); now.Broken() == "" { // a broken save is no newer one
			if step.WasSaved = now.Modified; kept.Title == now.Facts.Title() {
				step.Played, step.WasPlayed = time.Duration(kept.Played)*time.Second, now.Facts.Played()
			}
		}
		s.Before = plan.Standing(r.st, now)
	}
	var targets []plan.Target
	for _, top := range tops {
		targets = append(targets, r.target(folder.Path, nodes, top))
	}
	r.p.Put(r.ctx, step, plan.Guard(now), s, targets...)
	if now != nil {
		gone := slices.DeleteFunc(now.Tops(), func(top string) bool { return slices.Contains(tops, top) })
		r.p.Replacing(r.ctx, folder.Path, plan.Guard(now), gone...)
	}
	return nil
}

// stand is how a kept save stands once it is back.
func (r *restorer) stand(kept archive.KeptSave, folder game.Located) plan.Stand {
	place := logbook.Place{Key: facts.KeyAt(folder, kept.Name), Digest: kept.Digest, Title: kept.Title, Slot: kept.Slot, Size: kept.Bytes, Modified: kept.Modified, Seen: r.h.Now()}
	stand := plan.Stand{There: true, Place: &place}
	if len(r.st.Lines) > 1 || r.swapping {
		stand.Line = r.snap.Playthrough
	}
	return stand
}

// topsOf are the names in the folder that make up a kept save.
func topsOf(kind *game.Save, kept archive.KeptSave) ([]string, error) {
	tops := []string{kept.Name}
	if kind.Unit != game.UnitFolder {
		tops = nil
		for _, f := range kept.Files {
			tops = append(tops, f.Path)
		}
	}
	for _, top := range tops {
		if strings.Contains(top, "/") || !archive.IsLocal(top) {
			return nil, fmt.Errorf("%w: the name %.200q leads out of its folder", archive.ErrDamaged, top)
		}
	}
	return tops, nil
}

func kindOf(d *game.Description, id string) *game.Save {
	for i := range d.Saves {
		if d.Saves[i].ID == id {
			return &d.Saves[i]
		}
	}
	return nil
}

// folder finds where a root of the snapshot lies now.
func (r *restorer) folder(root archive.Root) (game.Located, error) {
	for _, f := range r.st.Folders {
		if f.ID == root.Folder && f.Of(root.Account) {
			return f, nil
		}
	}
	where := root.Folder
	if root.Account != "" {
		where += " of account " + root.Account
	}
	hints := problem.Advise("start the game once").Or(problem.Do("restore", r.snap.Address()).With("to", "DIR"))
	missing := &noFolderError{r.st.Called, where}
	return game.Located{}, &problem.Error{Text: missing.Error(), Hints: hints, Err: errors.Join(problem.ErrUsage, missing)}
}

// noFolderError says that a folder that a snapshot has is not there now.
type noFolderError struct{ game, folder string }

func (e *noFolderError) Error() string {
	return fmt.Sprintf("%s has no folder %s now", e.game, e.folder)
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
		return nil, problem.New(problem.Do("archive verify"), "%s cannot be brought back: %w; nothing has been changed", r.snap.Address(), err)
	}
	return nodes, nil
}

// target is to be one name of a listing, a file or a folder with all in it.
func (r *restorer) target(root string, nodes []archive.Node, top string) plan.Target {
	t := plan.Target{Root: root, Name: top, Source: inSnapshot(r.snap), Content: map[string]tree.Sums{}}
	var own []archive.Node
	var total int64
	for _, n := range nodes {
		if n.Path == top || strings.HasPrefix(n.Path, top+"/") {
			own = append(own, n)
			total += n.Size
			if n.Kind == tree.File {
				t.Content[n.Path] = tree.Sums{Blake3: n.Digest, SHA256: n.SHA256}
			}
		}
	}
	a, progress := r.a, r.h.Counting("restore", total)
	t.Fill = func(ctx context.Context, stage *plan.Stage) error {
		return fillFrom(ctx, a, own, top, stage, progress)
	}
	return t
}

func fillFrom(ctx context.Context, a *archive.Archive, nodes []archive.Node, top string, stage *plan.Stage, progress func(n int64)) error {
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
			if n.Entry().LeadsOut(top) != "" {
				continue // what it leads to was never part of the save
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

// removeOthers plans to take away the saves of the playthrough that the snapshot does not have.
func (r *restorer) removeOthers() {
	for _, s := range r.st.Saves {
		if s.Line != r.snap.Playthrough || slices.ContainsFunc(r.snap.Saves, func(k archive.KeptSave) bool { return k.Place() == s.Place() }) {
			continue
		}
		r.remove(s, "not in the snapshot")
	}
}

// remove plans to take a save away.
func (r *restorer) remove(s *facts.Save, why string) {
	step := plan.Step{What: plan.Describe(s), Root: s.Folder.Path, Name: s.Name, Note: why}
	r.p.Remove(r.ctx, step, plan.Guard(s), &plan.Save{Key: s.Key(), Before: plan.Standing(r.st, s)}, s.Tops()...)
}

// warn tells how the game will differ from the snapshot even when all planned is done.
func (r *restorer) warn(mods bool) {
	if r.snap.Version != "" && r.snap.Version != r.st.Version && !r.snap.ByHand {
		r.p.Warnings = append(r.p.Warnings, fmt.Sprintf("the snapshot was taken with %s, you have %s", r.snap.Version, r.st.Version))
	}
	for _, l := range r.snap.LeftOut {
		r.p.Warnings = append(r.p.Warnings, fmt.Sprintf("%s is not in the snapshot: %s", l.Path, l.Why))
	}
	if r.snap.ByHand {
		return
	}
	brought := mods && r.snap.Holds(archive.Mods)
	for _, c := range modlist.Compare(r.snap.Mods, r.st.List) {
		if c.What == "dropped" && !brought {
			r.p.Warnings = append(r.p.Warnings, strings.TrimSpace(fmt.Sprintf("%s %s was there then and is missing now", c.Mod.Name(), c.Was)))
		}
	}
}

// newestOf is the newest snapshot of a playthrough, or nil.
func newestOf(h *home.Home, playthrough string) (*archive.Snapshot, error) {
	a, err := h.Archive()
	if errors.Is(err, fs.ErrNotExist) {
		return nil, h.OutOfReach(playthrough, nil)
	}
	if err != nil {
		return nil, err
	}
	newest, err := a.Newest(playthrough, archive.Any)
	if err != nil {
		return nil, err
	}
	return newest, h.OutOfReach(playthrough, newest)
}

// readBack reads back what a change may take away and a snapshot has, saves, settings, what mods stored, and returns the digests of its
// files by their paths on this machine.
func readBack(ctx context.Context, h *home.Home, st *facts.State, snap *archive.Snapshot) (map[string]tree.Digest, error) {
	a, err := h.Existing()
	if err != nil {
		return nil, err
	}
	held := map[string]tree.Digest{}
	progress := h.Meter("verify")
	for _, root := range snap.Roots {
		dir := dirOf(st, root)
		if dir == "" || root.Kind == archive.Mods || root.Kind == archive.Game { // these stay aside whole
			continue
		}
		progress.More(root.Bytes)
		err := a.Nodes(ctx, root, func(n archive.Node) error {
			if n.Kind != tree.File {
				return nil
			}
			progress.Did(n.Size)
			held[filepath.Join(dir, filepath.FromSlash(n.Path))] = n.Digest
			return a.Copy(ctx, n, io.Discard)
		})
		if err != nil {
			return nil, err
		}
	}
	return held, nil
}

// dirOf is where a root of a snapshot that was taken just now lies, links resolved, or "".
func dirOf(st *facts.State, root archive.Root) string {
	for _, f := range st.Folders {
		if (root.Kind == archive.Saves || root.Kind == archive.Mods) && f.ID == root.Folder && f.Of(root.Account) {
			return f.Real
		}
	}
	for _, g := range st.Groups {
		if root.Pattern != "" && archive.Kind(g.Kind) == root.Kind && g.Pattern == root.Pattern && g.Account == root.Account {
			return tree.Real(g.Dir)
		}
	}
	return ""
}
