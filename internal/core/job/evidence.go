package job

import (
	"context"
	"fmt"
	"time"

	"github.com/dustin/go-humanize"

	"ostrov/internal/core/check"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// record writes what was seen into the logbook: each state with its evidence, and where it stands. Saves that were there at the last look
// and are gone, or lost most of their size, become findings.
func (s *Session) record(ctx context.Context, l *Look) error {
	install := l.Install.Address()
	before, err := s.Logbook.Places(ctx, install)
	if err != nil {
		return err
	}
	now := s.Now()
	var places []logbook.Place
	seen := map[logbook.Key]bool{}
	for _, st := range l.Saves {
		key := st.Key()
		seen[key] = true
		if st.Digest.IsZero() {
			continue // being written
		}
		old, had := before[key]
		if err := s.evidence(ctx, l, st.Save, old.Digest); err != nil {
			return err
		}
		if had && !old.Gone && st.Size < old.Size/4 && old.Size > 0 {
			f := check.New(check.SaveShrank, "", fmt.Sprintf("from %s to %s since %s", humanize.Bytes(uint64(old.Size)), humanize.Bytes(uint64(st.Size)), old.Seen.Local().Format("2 January")))
			st.Findings = append(st.Findings, f)
			continue // the last whole state stays what it is compared with
		}
		places = append(places, logbook.Place{Key: key, Digest: st.Digest, Title: st.Facts.Title(), Slot: st.SlotShown(), Size: st.Size, Modified: st.Modified, Seen: now})
	}
	for key, p := range before {
		if seen[key] {
			continue
		}
		name := p.Name
		if p.Slot != "" {
			name = "slot " + p.Slot
		}
		if p.Title != "" {
			name += fmt.Sprintf(", %q", p.Title)
		}
		l.Findings = append(l.Findings, check.New(check.SaveGone, name, "was there on "+p.Seen.Local().Format("2 January 15:04")))
		if !p.Gone {
			p.Gone = true
			places = append(places, p)
		}
	}
	return s.Logbook.SetPlaces(ctx, install, places)
}

// evidence records what a save of an install says of itself, what it descends from, and, where nothing better is known, what can be inferred
// from what lies in place.
func (s *Session) evidence(ctx context.Context, l *Look, sv *save.Save, before tree.Digest) error {
	now := s.Now()
	if err := s.Logbook.See(ctx, logbook.State{Digest: sv.Digest, Game: l.Install.Game.ID, Kind: sv.Kind.ID, Title: sv.Facts.Title(), Size: sv.Size}, now); err != nil {
		return err
	}
	if err := s.written(ctx, sv.Digest, sv.Facts, ""); err != nil {
		return err
	}
	if !before.IsZero() && before != sv.Digest {
		if err := s.Logbook.Add(ctx, sv.Digest, logbook.Evidence{Kind: check.Descends, At: now, Parent: before}); err != nil {
			return err
		}
	}
	needs, err := s.Logbook.Needs(ctx, sv.Digest)
	if err != nil {
		return err
	}
	e := logbook.Evidence{Kind: check.Inferred, At: now}
	if needs.Version == "" {
		e.Version = l.Version
	}
	if needs.ModsEvidence == "" && len(l.Install.Game.Mods) > 0 && !sv.Kind.NoMods {
		e.Mods = inferMods(l.Mods, sv.Modified)
	}
	if e.Version == "" && e.Mods == nil {
		return nil
	}
	return s.Logbook.Add(ctx, sv.Digest, e)
}

// written records what a save says of itself.
func (s *Session) written(ctx context.Context, digest tree.Digest, facts save.Facts, note string) error {
	e := logbook.Evidence{Kind: check.Written, At: s.Now(), Version: facts.Version(), Note: note}
	if facts.ModsKnown {
		e.Mods = []logbook.Needed{}
		for _, item := range facts.Mods {
			d, _ := tree.ParseDigest(item.Digest) // another algorithm's is of no use here
			e.Mods = append(e.Mods, logbook.Needed{Listed: mod.Listed{ID: item.ID, Version: item.Version, Title: item.Title, Digest: d, On: true}})
		}
	}
	if e.Version == "" && e.Mods == nil {
		return nil
	}
	return s.Logbook.Add(ctx, digest, e)
}

// inferMods are the mods that lay in place when a save was written, as far as times on disk tell: those of which anything is younger than
// the save are doubtful. Unpacking keeps old times, so the rest is not certain either.
func inferMods(set mod.Set, written time.Time) []logbook.Needed {
	needed := []logbook.Needed{}
	for _, m := range set.Mods {
		if m.On && !m.Kind.Base {
			needed = append(needed, logbook.Needed{
				Listed:   mod.Listed{ID: m.ID, Version: m.Version, Title: m.Title, Digest: m.Digest, On: true},
				Doubtful: m.Latest.After(written),
			})
		}
	}
	return needed
}

// belongings finds which playthrough each save belongs to. Saves that are new and unassigned belong to the active one.
func (s *Session) belongings(ctx context.Context, l *Look) error {
	all, err := s.Logbook.Playthroughs(ctx)
	if err != nil {
		return err
	}
	active := ""
	for _, p := range all {
		if p.Game == l.Install.Game.ID && p.Install == l.Install.Name {
			l.Playthroughs = append(l.Playthroughs, p)
			if p.Active {
				active = p.Name
			}
		}
	}
	if len(l.Playthroughs) == 1 && len(l.sharers) == 0 {
		for _, st := range l.Saves {
			st.Playthrough = l.Playthroughs[0].Name
		}
		return nil
	}
	belongs, err := s.Logbook.Belongs(ctx, l.Install.Address())
	if err != nil {
		return err
	}
	theirs, err := s.ofOthers(ctx, l, all, belongs)
	if err != nil {
		return err
	}
	started := time.Time{}
	for _, p := range l.Playthroughs {
		if p.Name == active {
			started = p.Started
		}
	}
	var fresh []logbook.Key
	for _, st := range l.Saves {
		if st.Playthrough = theirs[st.Key()]; st.Playthrough != "" {
			continue
		}
		st.Playthrough = belongs[st.Key()]
		only := len(l.Playthroughs) == 1 && len(belongs) == 0                                                 // until now all were its own, unsaid
		if st.Playthrough == "" && active != "" && (only || st.Modified.After(started)) && len(theirs) == 0 { // else it is another install that is played
			st.Playthrough = active
			fresh = append(fresh, st.Key())
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	return s.Logbook.Assign(ctx, l.Install.Address(), fresh, active)
}
