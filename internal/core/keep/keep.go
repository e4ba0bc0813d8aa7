// Package keep is snapshots in and out: what belongs into one, taking in copies made by hand, putting one back into the game or into a
// folder, switching between lines of play, and archives together.
//
// It plans changes of a game's folders and never makes them: package plan does. Before a plan is carried out Before keeps what it would
// replace. It promises that what cannot be read is named in the snapshot and hinders nothing else, and that a thing asked for is that
// thing or an error.
package keep

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/record"
	"ostrov/internal/core/tree"
)

// Request says what to keep.
type Request struct {
	As   string // playthrough; "" is the current one
	Note string
	Tags []string
	// With names what is kept besides saves, mod list, settings and data of mods: mods, game (with its mods), pictures. nil is what the
	// playthrough is always kept with.
	With   []archive.Kind
	Always bool   // keep it with these from now on
	From   string // a copy made by hand earlier, instead of what the game has now
	Reread bool   // read all files, changed or not
	// List is which mod list is filed with the saves; "" is WrittenList for what is kept before a change and for a line that rests, else PresentList.
	List string
	// Before names the command before which this is kept by itself, or is "".
	Before string
}

// Which mod list is filed with a line's saves, where the present one is not the one that they were last written under.
const (
	WrittenList = "as-written"
	PresentList = "as-now"
)

// Optional are the kinds that Request.With takes.
var Optional = []archive.Kind{archive.Mods, archive.Game, archive.Pictures}

// Kept is what keeping did.
type Kept struct {
	State          *facts.State // what was seen meanwhile
	Snapshot       *archive.Snapshot
	Since          *archive.Snapshot // the one before, or nil
	New, Changed   int               // saves, compared with the one before
	Gone           []facts.Gone      // saves that were there at the last look; from now on they are not named any more
	ModChanges     []modlist.Change
	Copied, Reused int64 // bytes of files read and not read
	Stored         int64 // bytes the archive grew
	Archive        string
	Copies         []string // other archives that it was copied into
	// Also is what was kept of other lines, whose saves had changed too.
	Also []*Kept
	// Missed tells that a save was being written that no earlier snapshot has either.
	Missed bool
	// Started is the playthrough that was made for it, or "".
	Started string
	// Unchanged tells that nothing was kept before a change, since all of it is in Snapshot already.
	Unchanged bool
	Findings  []check.Finding
}

// Keep looks at an install, records what it sees, and takes a snapshot of one of its playthroughs.
func Keep(ctx context.Context, h *home.Home, in *game.Install, req Request) (*Kept, error) {
	for _, tag := range req.Tags {
		if err := home.CheckTag(tag); err != nil {
			return nil, err
		}
	}
	if err := h.RequireRecords(); err != nil {
		return nil, err
	}
	p, err := presumed(ctx, h, in, req.As)
	if err != nil {
		return nil, err
	}
	if req.As != "" && p.Name != "" {
		req.As = p.Name // it may have been named by its title
	}
	if req.With == nil && req.From == "" {
		req.With = kinds(p.Keeps)
	}
	h.Hasher.Reread = req.Reread
	return intoArchive(h, func(a *archive.Archive) (*Kept, error) {
		kp := &keeper{h: h, a: a, in: in, req: req, progress: h.Meter("keep")}
		defer kp.abandon()
		if err := kp.begin(ctx, p.Name); err != nil {
			return nil, err
		}
		// what the look would read of mods is kept as it is read
		st, err := facts.GatherReading(ctx, h, in, kp.heavy)
		if err != nil {
			return nil, err
		}
		if err := record.Seen(ctx, h, st); err != nil {
			return nil, err
		}
		if snap := resting(h, st, req); snap != nil {
			return &Kept{State: st, Archive: a.Dir, Snapshot: snap, Since: snap, Unchanged: true}, nil
		}
		var kept *Kept
		if req.As == "" && st.Current() == nil && len(st.Others) > 0 {
			kp.abandon()
			kept, err = others(ctx, h, st, nil, req.Before)
		} else if kept, err = kp.finish(ctx, st); err == nil && req.As == "" && req.From == "" {
			kept, err = others(ctx, h, st, kept, req.Before)
		}
		if err != nil || req.Before != "" || req.From != "" {
			return kept, err
		}
		lines := []string{kept.Snapshot.Playthrough}
		for _, other := range kept.Also {
			lines = append(lines, other.Snapshot.Playthrough)
		}
		for _, g := range st.Gone {
			if g.Line == "" || slices.Contains(lines, g.Line) {
				kept.Gone = append(kept.Gone, g)
			}
		}
		return kept, record.Acknowledged(ctx, h, st, lines)
	})
}

// keepLine takes a snapshot of a line of a state that was looked at just now; before is what it is taken before, or "". Strict says that it must have all that the line has.
func keepLine(ctx context.Context, h *home.Home, st *facts.State, name, before, list string, strict bool) (*Kept, error) {
	return intoArchive(h, func(a *archive.Archive) (*Kept, error) {
		i := slices.IndexFunc(st.Lines, func(p logbook.Playthrough) bool { return p.Name == name })
		req := Request{As: name, Before: before, List: list}
		if i >= 0 {
			req.With = kinds(st.Lines[i].Keeps)
		}
		kp := &keeper{h: h, a: a, in: st.Install, req: req, progress: h.Meter("keep"), strict: strict}
		defer kp.abandon()
		if err := kp.begin(ctx, name); err != nil {
			return nil, err
		}
		if err := kp.heavy(ctx, st); err != nil {
			return nil, err
		}
		return kp.finish(ctx, st)
	})
}

// intoArchive calls do with the archive to keep into. Where its drive is full, the one in Ostrov's home stands in, as it does where the
// drive is away.
func intoArchive(h *home.Home, do func(*archive.Archive) (*Kept, error)) (*Kept, error) {
	a, away, err := h.ArchiveToKeep()
	if err != nil {
		return nil, fullArchive(h, err)
	}
	kept, err := do(a)
	if home.IsFull(err) && len(h.ArchiveDirs()) > 0 && !h.StandsIn(a) {
		own, standErr := h.StandIn()
		if standErr == nil && own.Dir != a.Dir {
			away = fmt.Errorf("%s is full", a.Dir)
			a = own
			kept, err = do(own)
		}
	}
	if err != nil {
		return nil, fullArchive(h, err)
	}
	if away != nil {
		dir := h.ArchiveDirs()[0]
		f := check.New(check.ArchiveAway, dir, fmt.Sprintf("%s; %s stands in", whyAway(dir, away), a.Dir))
		kept.Findings = append(kept.Findings, f.Helped(problem.Do("archive copy", dir)))
	}
	return kept, nil
}

// whyAway says why an archive cannot be kept into.
func whyAway(dir string, err error) string {
	if errors.Is(err, fs.ErrNotExist) {
		return "is not there now"
	}
	return "cannot be kept into now (" + strings.TrimPrefix(err.Error(), dir+" ") + ")"
}

func fullArchive(h *home.Home, err error) error {
	if said := (*problem.Error)(nil); !home.IsFull(err) || errors.As(err, &said) {
		return err
	}
	hints := problem.Do("archive clear-old").Or(problem.Do("archive add", "DIR").Note("on a drive that has room"))
	return &problem.Error{Text: fmt.Sprintf("the drive of the archive %s is full; nothing has been kept", h.ArchiveDir()), Hints: hints, Err: err}
}

// finish keeps the rest of what a state has and publishes the snapshot.
func (kp *keeper) finish(ctx context.Context, st *facts.State) (*Kept, error) {
	h, req := kp.h, kp.req
	if err := apart(h, st); err != nil {
		return nil, err
	}
	kept := &Kept{State: st, Archive: kp.a.Dir}
	if away := st.Since.Away; away != nil && req.Before == "" && req.From == "" && (req.As == "" || req.As == st.Since.Line) {
		hints := problem.Do("keep", h.Called(away.Install)).Or(problem.Do("play", st.Called).Note("brings them back"))
		return nil, problem.Declined(hints, "the saves here are of %s; those of %s are put away and safe in %s, so there is nothing of it to keep", away.Line, st.Since.Line, away.In.Address())
	}
	p, err := lineFor(ctx, h, st, req.As, kept)
	if err != nil {
		return nil, err
	}
	if kept.Since, err = kp.a.NewestReadable(p.Name, archive.Any); err != nil {
		return nil, err
	}
	if kept.Since != nil && kept.Since.Set {
		return nil, problem.Usage(problem.Do("kept", p.Name), "%s is a set of settings, not a playthrough", p.Name)
	}
	snap := &archive.Snapshot{Playthrough: p.Name, Title: p.Title, Game: st.Install.Game.ID, GameTitle: st.Install.Game.Title, Taken: h.Now().UTC().Truncate(time.Millisecond),
		Version: st.Version, Note: req.Note, Before: req.Before, Tags: req.Tags, Mods: st.List, Fingerprint: st.Fingerprint, LeftOut: kp.leftOut, After: p.At}
	if p.At == "" && kept.Since != nil {
		snap.After = archive.Begins(kept.Since)
	}
	if req.From != "" {
		err = kp.from(ctx, st, snap, req.From)
	} else {
		err = kp.present(ctx, st, snap)
	}
	if err == nil && req.From == "" {
		err = kp.fileList(st, snap, kept)
	}
	if err != nil {
		return nil, err
	}
	if snap.LeftOut = append(kp.leftOut, kp.k.LeftOut()...); len(kp.busy) > 0 {
		states, err := kp.a.States(p.Name)
		if err != nil {
			return nil, err
		}
		for _, s := range kp.busy {
			kept.Missed = kept.Missed || len(states.Of(s.Place())) == 0
		}
	}
	if req.Before != "" && sameAs(snap, kept.Since) {
		kept.Snapshot, kept.Unchanged = kept.Since, true
		return kept, nil
	}
	if err := kp.commit(snap); err != nil {
		return nil, err
	}
	if req.From == "" {
		if err := h.Logbook.StandAt(ctx, p.Name, snap.ID); err != nil {
			return nil, err
		}
		for i := range st.Lines {
			if st.Lines[i].Name == p.Name {
				st.Lines[i].At = snap.ID
			}
		}
	}
	kept.compare(snap)
	kept.Snapshot, kept.Copied, kept.Reused, kept.Stored = snap, kp.k.Copied(), kp.k.Reused(), kp.k.Stored()
	if req.Always {
		p.Keeps = names(req.With)
		if err := h.Logbook.Update(ctx, p.Name, p); err != nil {
			return nil, err
		}
	}
	if err := toOthers(ctx, h, kp.a, snap, kept); err != nil {
		return nil, err
	}
	if home.SameDrive(kept.Archive, st.Install.Root) && kept.Since == nil {
		kept.Findings = append(kept.Findings, check.New(check.SameDrive, "", "the archive is on the game's own drive").Helped(problem.Do("archive add", "DIR")))
	}
	return kept, nil
}

// commit publishes the snapshot under the next number of its playthrough.
func (kp *keeper) commit(snap *archive.Snapshot) error {
	err := kp.h.Numbering(snap.Playthrough, func(above int) (int, error) {
		err := kp.k.Commit(snap, above)
		return snap.Number, err
	})
	if err != nil {
		return fmt.Errorf("nothing has been kept: %w", err)
	}
	if kp.h.StandsIn(kp.a) {
		for _, dir := range kp.h.ArchiveDirs() {
			if err := kp.h.Missed(dir, snap); err != nil {
				return err
			}
		}
	}
	return nil
}

// sameAs reports whether a snapshot would have nothing that the one before has not.
func sameAs(snap, before *archive.Snapshot) bool {
	if before == nil || before.ByHand || before.Version != snap.Version || len(before.Saves) != len(snap.Saves) || len(modlist.Compare(before.Mods, snap.Mods)) > 0 || len(snap.LeftOut) != len(before.LeftOut) {
		return false
	}
	for _, root := range snap.Roots {
		i := slices.IndexFunc(before.Roots, func(r archive.Root) bool { return r.Key() == root.Key() })
		if i < 0 && root.Files > 0 || i >= 0 && !slices.Equal(before.Roots[i].Listing, root.Listing) {
			return false
		}
	}
	return true
}

// apart refuses an archive that the game would find among its own files.
func apart(h *home.Home, st *facts.State) error {
	for _, f := range append(game.Paths(st.Folders), st.Install.Root) {
		if dir := h.ArchiveDir(); dir == f || game.Within(dir, f) {
			return problem.Usage(problem.Do("archive add", "DIR").Note("elsewhere"), "the archive %s lies inside %s: the game would find the snapshots there", dir, f)
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
		old[sv.Place()] = sv.Digest
	}
	for _, sv := range snap.Saves {
		switch d, ok := old[sv.Place()]; {
		case !ok:
			k.New++
		case d != sv.Digest:
			k.Changed++
		}
	}
	k.ModChanges = modlist.Compare(k.Since.Mods, snap.Mods)
}

func kinds(names []string) []archive.Kind {
	if names == nil {
		return nil
	}
	list := []archive.Kind{}
	for _, n := range names {
		list = append(list, archive.Kind(n))
	}
	return list
}

func names(kinds []archive.Kind) []string {
	list := []string{}
	for _, k := range kinds {
		list = append(list, string(k))
	}
	return list
}

// Backup is what was kept before a change.
type Backup struct {
	Taken []*archive.Snapshot // those that were taken for it
	// Addresses are how commands name the snapshots that keep what goes, by what the plan's steps call them.
	Addresses map[string]string
}

// Before keeps what a plan would replace and says for each step what keeps it: each line that the plan touches is kept unless its newest
// snapshot has it just so, the snapshot is read back, and what it does not hold byte for byte stays aside.
//
// list is which mod list is filed with the line that is played, as Request has it.
func Before(ctx context.Context, h *home.Home, p *plan.Plan, list string) (*Backup, error) {
	b := &Backup{Addresses: map[string]string{}}
	held := map[string]map[string]tree.Digest{}
	by := map[string]*archive.Snapshot{}
	for _, name := range p.Lines() {
		worth, err := worthKeeping(h, p.State, name)
		if err != nil {
			return nil, err
		}
		if !worth {
			continue
		}
		kept, err := keepLine(ctx, h, p.State, name, p.Title, list, true)
		if err != nil {
			return nil, fmt.Errorf("the present state could not be kept first, so nothing has been changed: %w", err)
		}
		if held[name], err = readBack(ctx, h, p.State, kept.Snapshot); err != nil {
			return nil, problem.New(problem.Do("archive verify"), "what was kept first cannot be read back, so nothing has been changed: %w", err)
		}
		if by[name] = kept.Snapshot; !kept.Unchanged {
			b.Taken = append(b.Taken, kept.Snapshot)
		}
		b.Addresses[inSnapshot(kept.Snapshot).Snapshot] = kept.Snapshot.Address()
	}
	return b, p.Secure(ctx, func(name string) (map[string]tree.Digest, plan.Safe) {
		if by[name] == nil {
			return nil, plan.Safe{}
		}
		return held[name], inSnapshot(by[name])
	})
}

// worthKeeping reports whether a line has anything to keep. If no save is left and the newest snapshot has some, an empty snapshot is
// kept, so that undo can return to it.
func worthKeeping(h *home.Home, st *facts.State, name string) (bool, error) {
	if slices.ContainsFunc(st.Saves, func(s *facts.Save) bool { return s.Line == name }) {
		return true, nil
	}
	newest, err := newestOf(h, name)
	return newest != nil && len(newest.Saves) > 0, err
}
