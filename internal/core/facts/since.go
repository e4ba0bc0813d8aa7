package facts

import (
	"cmp"
	"errors"
	"io/fs"
	"slices"
	"time"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/game"
	"ostrov/internal/core/line"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/tree"
)

// Since is the newest snapshot of a line, and what changed since.
type Since struct {
	Line         string
	Snapshot     *archive.Snapshot // or nil
	New, Changed int               // saves
	Back         int               // saves that are again as an older snapshot has them
	Version      string            // of the snapshot, where it differs; else ""
	Froze        *archive.Snapshot // the newest that has the game itself in that version, or nil
	Mods         []modlist.Change
	Away         *Away // why none of its saves is here, or nil
	Elsewhere    []Elsewhere
}

// Elsewhere is where a line went on by another way than here: on another machine, as the archive that both use says.
type Elsewhere struct {
	Snapshot *archive.Snapshot // the last one there
	Address  string
	// From is the address of the snapshot that both go on from; "" where there is none.
	From string
	// Ahead tells that here it has not gone on since From.
	Ahead bool
}

// Away tells that the saves of a line are put away, since those of a neighbour's are in their place.
type Away struct {
	In      *archive.Snapshot // has them
	Line    string            // whose saves are there
	Install *game.Install     // on which that is played
}

// since compares the saves of each line with its newest snapshot, and finds for those that are broken or gone the last snapshot that has
// them whole.
func (g gathering) since() error {
	a, err := g.h.Archive()
	g.Problems.Away = g.h.Away()
	current := g.Current()
	if errors.Is(err, fs.ErrNotExist) { // no archive yet: nothing of any line has been kept
		for _, p := range g.Lines {
			if other := g.savesSince(nil, p.Name, nil); (current == nil || p.Name != current.Name) && other.New > 0 {
				g.Others = append(g.Others, other)
			}
		}
		return nil
	}
	if err != nil {
		g.Problems.Archive = err
		return nil // its drive is away: then nothing is said of snapshots
	}
	g.restorable(a)
	for i := range g.Lines {
		name := g.Lines[i].Name
		if current != nil && name == current.Name {
			g.sinceOfCurrent(a, name)
			continue
		}
		snap, err := a.NewestReadable(name, func(s *archive.Snapshot) bool { return !s.ByHand })
		if err != nil {
			g.Problems.Archive = err
			continue
		}
		if other := g.savesSince(a, name, snap); other.New+other.Changed > 0 {
			g.Others = append(g.Others, other)
		}
	}
	return nil
}

func (g gathering) sinceOfCurrent(a *archive.Archive, name string) {
	// what was kept on purpose says more than what was kept before a change
	snap, err := a.NewestReadable(name, archive.OnPurpose)
	if err == nil && snap == nil {
		snap, err = a.NewestReadable(name, archive.Any)
	}
	g.Since = Since{Line: name}
	if err != nil || snap == nil {
		g.Problems.Archive = err
		return
	}
	g.Since = g.savesSince(a, name, snap)
	g.Since.Away = g.away(a, name)
	g.Since.Elsewhere = g.elsewhere(a, name)
	if snap.Version != g.Version && snap.Version != "" && g.Version != "" {
		g.Since.Version = snap.Version
		if g.Since.Froze, err = a.NewestReadable(name, func(s *archive.Snapshot) bool { return s.Version == snap.Version && s.Holds(archive.Game) }); err != nil {
			g.Problems.Archive = err
		}
	}
	g.Since.Mods = modlist.Compare(snap.Mods, g.List)
}

// elsewhere finds the ends of a line that were not reached here: their saves have states that were never seen here.
func (g gathering) elsewhere(a *archive.Archive, name string) []Elsewhere {
	at := g.Current().At
	states := g.states(a, name)
	if states == nil || at == "" {
		return nil
	}
	here := states.Line(at)
	var found []Elsewhere
	for _, end := range states.Ends() {
		if slices.Contains(here, end) || end == at {
			continue
		}
		snap, err := a.ByID(name, end)
		if err != nil {
			continue
		}
		strange := slices.ContainsFunc(snap.Saves, func(k archive.KeptSave) bool {
			known, err := g.h.Logbook.Knows(g.ctx, k.Digest)
			return err == nil && !known
		})
		if !strange {
			continue
		}
		common := states.Common(at, end)
		found = append(found, Elsewhere{snap, states.Address(end), states.Address(common), common == at})
	}
	return found
}

// away finds out whether the saves of a line are put away for a neighbour's.
func (g gathering) away(a *archive.Archive, name string) *Away {
	theirs := ""
	for _, s := range g.Saves {
		if s.Line == name {
			return nil
		}
		theirs = cmp.Or(theirs, s.Line)
	}
	all, err := g.h.Logbook.Playthroughs(g.ctx)
	if theirs == "" || err != nil {
		return nil
	}
	for _, in := range g.Sharers {
		ofIt := slices.ContainsFunc(line.LinesOf(all, in.Game.ID, in.PlayedAs()...), func(p logbook.Playthrough) bool { return p.Name == theirs })
		if !ofIt || in.PlaysWith(g.Install) {
			continue
		}
		in := &Away{Line: theirs, Install: in}
		if in.In, err = a.NewestReadable(name, archive.Any); err != nil || in.In == nil || len(in.In.Saves) == 0 {
			return nil
		}
		return in
	}
	return nil
}

// savesSince counts a line's saves that a snapshot of it, or none, does not have as they are. One that is as an older snapshot has it has not
// changed: it was brought back.
func (g gathering) savesSince(a *archive.Archive, name string, snap *archive.Snapshot) Since {
	since := Since{Line: name, Snapshot: snap}
	kept := map[string]tree.Digest{}
	if snap != nil {
		for _, k := range snap.Saves {
			kept[k.Place()] = k.Digest
		}
	}
	for _, s := range g.Saves {
		if s.Line != name {
			continue
		}
		switch d, ok := kept[s.Place()]; {
		case !ok:
			since.New++
		case d != s.Digest:
			if states := g.states(a, name); states != nil && states.Find(s.Place(), s.Digest) != nil {
				since.Back++
				continue
			}
			since.Changed++
		default:
			s.Kept = true
		}
	}
	return since
}

// states are the states that the archive has of a line's saves, read when they are first asked for; nil where there are none.
func (g gathering) states(a *archive.Archive, line string) *archive.States {
	if line == "" {
		return nil
	}
	known, ok := g.known[line]
	if !ok {
		var err error
		if known, err = a.States(line); err != nil {
			g.Problems.Archive, known = err, nil
		}
		g.known[line] = known
	}
	return known
}

// restorable finds what the archive has of saves that are not what they were at the last look: whether a state is one from before, and which
// snapshot has those whole that are broken now or gone.
func (g gathering) restorable(a *archive.Archive) {
	for _, s := range g.Saves {
		broken, size := s.Broken(), int64(0)
		if s.Shrank != nil {
			size = s.Shrank.Size / shrunk
		}
		if s.Was == nil && broken == "" {
			continue
		}
		states := g.states(a, s.Line)
		if states == nil {
			continue
		}
		if broken != "" {
			if k := states.Whole(s.Place(), size); k != nil {
				s.Whole = states.Address(k.Last)
			}
			continue
		}
		now, was := states.Find(s.Place(), s.Digest), states.Find(s.Place(), s.Was.Digest)
		if now == nil || s.Was.Gone {
			continue
		}
		if s.Again = states.Address(now.Last); was != nil {
			s.Whole, s.WasPlayed = states.Address(was.Last), time.Duration(was.Played)*time.Second
		}
	}
	for i := range g.Gone {
		p := &g.Gone[i]
		if states := g.states(a, p.Line); states != nil {
			if k := states.Whole(p.place, p.Size/shrunk); k != nil {
				p.Whole = states.Address(k.Last)
			}
		}
	}
}
