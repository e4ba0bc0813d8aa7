package facts

import (
	"cmp"
	"slices"
	"strings"

	"ostrov/internal/core/game"
	"ostrov/internal/core/line"
	"ostrov/internal/core/logbook"
)

// shrunk is how many times smaller than before a save must be to count as cut off.
const shrunk = 4

// Gone is a save that was there at the last look.
type Gone struct {
	logbook.Place
	Line  string // that it belonged to, or ""
	Whole string // the address of the newest snapshot that has it whole, or ""
	place string // as snapshots call it
}

// Handle is how restore --slot names it.
func (g Gone) Handle(st *State) string {
	own := cmp.Or(g.Slot, g.Name)
	folder, account, _ := strings.Cut(g.Folder, ":")
	for _, s := range st.Saves {
		if strings.EqualFold(s.Handle(), own) {
			words := FolderWords(folder, account)
			return words[len(words)-1] + "/" + own
		}
	}
	return own
}

// Called is what to call it before people.
func (g Gone) Called() string {
	if g.Slot != "" {
		return "slot " + g.Slot
	}
	return g.Name
}

// placeOf is what snapshots call a place of the logbook.
func placeOf(key logbook.Key) string {
	folder, account, _ := strings.Cut(key.Folder, ":")
	return folder + "\x00" + account + "\x00" + key.Name
}

// places compares the saves with where they stood at the last look.
func (g gathering) places() error {
	before, err := g.h.Logbook.Places(g.ctx, g.Install.Address())
	if err != nil {
		return err
	}
	seen := map[logbook.Key]bool{}
	for _, s := range g.Saves {
		key := s.Key()
		seen[key] = true
		if s.Digest.IsZero() {
			continue
		}
		old, had := before[key]
		s.Seen = had
		g.learn(s, old.Digest)
		if had && old.Digest != s.Digest {
			s.Was = &old
			if !old.Gone && s.Size < old.Size/shrunk {
				s.Shrank = &old
			}
		}
	}
	unread := map[string]bool{}
	for _, u := range g.Problems.Saves {
		unread[KeyAt(u.Folder, "").Folder] = true
	}
	for key, p := range before {
		if seen[key] || unread[key.Folder] {
			continue
		}
		g.Gone = append(g.Gone, Gone{Place: p, place: placeOf(key)})
		if !p.Gone {
			p.Gone = true
			g.Learnt.Places = append(g.Learnt.Places, p)
		}
	}
	slices.SortFunc(g.Gone, func(a, b Gone) int { return strings.Compare(a.Folder+"\x00"+a.Name, b.Folder+"\x00"+b.Name) })
	return nil
}

// stand notes where the saves stand. One that has shrunk, or is an older state again, is not noted: what it was stays what it is compared
// with, until the player keeps it so or brings it back.
func (g gathering) stand() error {
	now := g.h.Now()
	for _, s := range g.Saves {
		if !s.Digest.IsZero() && s.Shrank == nil && s.Again == "" {
			g.Learnt.Places = append(g.Learnt.Places, s.Stands(now))
		}
	}
	return nil
}

// lines finds which playthrough each save belongs to.
func (g gathering) lines() error {
	all, err := g.h.Logbook.Playthroughs(g.ctx)
	if err != nil {
		return err
	}
	of := func(in *game.Install) (line.Install, error) {
		belongs, err := g.h.Logbook.Belongs(g.ctx, in.Address())
		return line.Install{Lines: line.LinesOf(all, in.Game.ID, in.Name), Belongs: belongs}, err
	}
	own, err := of(g.Install)
	if err != nil {
		return err
	}
	g.Lines = own.Lines
	var others []line.Install
	for _, in := range g.Sharers {
		other, err := of(in)
		if err != nil {
			return err
		}
		others = append(others, other)
	}
	var places []line.Place
	for _, s := range g.Saves {
		places = append(places, line.Place{Key: s.Key(), Modified: s.Modified, Seen: s.Seen})
	}
	owned := line.Resolve(own, others, places)
	for i := range g.Gone {
		g.Gone[i].Line = own.Owner(g.Gone[i].Key)
	}
	for _, s := range g.Saves {
		s.Line = owned.Owner[s.Key()]
	}
	g.Learnt.Claims, g.Learnt.Active = owned.Claims, owned.Active
	return nil
}
