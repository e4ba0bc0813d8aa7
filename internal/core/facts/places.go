package facts

import (
	"slices"
	"strings"

	"ostrov/internal/core/game"
	"ostrov/internal/core/line"
	"ostrov/internal/core/logbook"
)

// places compares the saves with where they stood at the last look.
func (g gathering) places() error {
	before, err := g.h.Logbook.Places(g.ctx, g.Install.Address())
	if err != nil {
		return err
	}
	now := g.h.Now()
	seen := map[logbook.Key]bool{}
	for _, s := range g.Saves {
		key := s.Key()
		seen[key] = true
		if s.Digest.IsZero() {
			continue
		}
		old, had := before[key]
		g.learn(s, old.Digest)
		if had && !old.Gone && s.Size < old.Size/4 && old.Size > 0 && old.Digest != s.Digest {
			s.Shrank = &old
			continue // the last whole state stays what it is compared with
		}
		g.Learnt.Places = append(g.Learnt.Places, s.Stands(now))
	}
	unread := map[string]bool{}
	for _, u := range g.Problems.Saves {
		unread[KeyAt(u.Folder, "").Folder] = true
	}
	for key, p := range before {
		if seen[key] || unread[key.Folder] {
			continue
		}
		g.Gone = append(g.Gone, p)
		if !p.Gone {
			p.Gone = true
			g.Learnt.Places = append(g.Learnt.Places, p)
		}
	}
	slices.SortFunc(g.Gone, func(a, b logbook.Place) int { return strings.Compare(a.Folder+"\x00"+a.Name, b.Folder+"\x00"+b.Name) })
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
		places = append(places, line.Place{Key: s.Key(), Modified: s.Modified})
	}
	owned := line.Resolve(own, others, places)
	for _, s := range g.Saves {
		s.Line = owned.Owner[s.Key()]
	}
	g.Learnt.Claims, g.Learnt.Active = owned.Claims, owned.Active
	return nil
}
