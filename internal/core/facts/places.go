package facts

import (
	"cmp"
	"errors"
	"os"
	"path/filepath"
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
	in    string // the folder: its id, and its account where there is one
	place string // as snapshots call it
}

// Former is a folder of saves that an install had before, where it has another now.
type Former struct {
	logbook.Folder
	Now   game.Located // without a Folder where none is chosen now
	Saves int          // that are in it
}

// ID is that of the folder.
func (f Former) ID() string {
	id, _, _ := strings.Cut(f.Called, ":")
	return id
}

// Handle is how restore --slot names it.
func (g Gone) Handle(st *State) string {
	own := cmp.Or(g.Slot, g.Name)
	folder, account, _ := strings.Cut(g.in, ":")
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

// savesFolders are the folders of saves that the install has now, as the logbook knows them. Since is when each was first the one.
func (g gathering) savesFolders() ([]logbook.Folder, error) {
	known, err := g.h.Logbook.Folders(g.ctx, g.Install.Address())
	if err != nil {
		return nil, err
	}
	now := g.h.Now()
	for _, l := range g.Folders {
		if !isSaves(g.Install.Game, l.ID) {
			continue
		}
		f := logbook.Folder{Install: g.Install.Address(), Called: l.Called(), Path: l.Real, Template: l.Folder.Path, Since: now, Seen: now}
		i := slices.IndexFunc(known, func(k logbook.Folder) bool { return k.Called == f.Called }) // the one that was seen last
		switch {
		case i >= 0 && known[i].Path == f.Path:
			f.Since = known[i].Since
		case i >= 0 && known[i].Template == f.Template && l.Exists && !isDir(known[i].Path):
			f.Moved, f.Since = known[i].Path, known[i].Since
		}
		g.Learnt.Folders = append(g.Learnt.Folders, f)
	}
	return known, nil
}

func isDir(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir()
}

// former finds the folders of saves that were the install's before, and are not now, as a condition chooses another one. One that is not
// there any more, and for which there is no other, is still asked about: its saves are gone.
func (g gathering) former(known []logbook.Folder) ([]logbook.Folder, error) {
	asked := slices.Clone(g.Learnt.Folders)
	for _, k := range known {
		id := Former{Folder: k}.ID()
		if slices.ContainsFunc(asked, func(f logbook.Folder) bool { return f.Path == k.Path || f.Moved == k.Path }) {
			continue
		}
		i := slices.IndexFunc(g.Folders, func(l game.Located) bool {
			return l.ID == id && l.Of(strings.TrimPrefix(strings.TrimPrefix(k.Called, id), ":"))
		})
		if i < 0 {
			if away := g.Install.Unplaced()[id]; !isDir(k.Path) && !errors.Is(away, game.ErrNoPlace) {
				asked = append(asked, k)
				continue
			}
			i = slices.IndexFunc(g.Folders, func(l game.Located) bool { return l.ID == id })
		}
		places, err := g.h.Logbook.Places(g.ctx, []logbook.Folder{k})
		if err != nil {
			return nil, err
		}
		f := Former{Folder: k}
		if i >= 0 {
			f.Now = g.Folders[i]
		}
		for _, p := range places {
			if _, err := os.Lstat(filepath.Join(p.Folder, p.Name)); err == nil {
				f.Saves++
			}
		}
		if f.Saves > 0 {
			g.Former = append(g.Former, f)
		}
	}
	return asked, nil
}

// spelled are keys as the saves are spelled that are there now, where the game or the platform takes names that differ in case only for one.
func spelled[V any](g gathering, known map[logbook.Key]V) map[logbook.Key]V {
	if !g.Install.FoldsCase() {
		return known
	}
	fold := func(k logbook.Key) logbook.Key { return logbook.Key{Folder: k.Folder, Name: strings.ToLower(k.Name)} }
	now := map[logbook.Key]logbook.Key{}
	for _, s := range g.Saves {
		now[fold(s.Key())] = s.Key()
	}
	all := make(map[logbook.Key]V, len(known))
	for key, v := range known {
		to, ok := now[fold(key)]
		if _, exact := known[to]; ok && to != key && !exact {
			g.Learnt.Respelled[key] = to
			key = to
		}
		all[key] = v
	}
	return all
}

// places compares the saves with where they stood at the last look.
func (g gathering) places() error {
	known, err := g.savesFolders()
	if err != nil {
		return err
	}
	asked, err := g.former(known)
	if err != nil {
		return err
	}
	before, err := g.h.Logbook.Places(g.ctx, asked)
	if err != nil {
		return err
	}
	before = spelled(g, before)
	seen, present := map[logbook.Key]bool{}, g.present()
	for _, s := range g.Saves {
		key := s.Key()
		seen[key] = true
		if s.Digest.IsZero() {
			continue
		}
		old, had := before[key]
		s.Seen, s.under, s.Label = had, present, old.Label
		if had && old.Digest == s.Digest && old.Under != (logbook.Under{}) {
			s.under = old.Under
		}
		g.learn(s, old)
		if had && old.Digest != s.Digest {
			s.Was = &old
			if !old.Gone && s.Size < old.Size/shrunk {
				s.Shrank = &old
			}
		}
	}
	called, unread := map[string]string{}, map[string]bool{}
	for _, f := range asked {
		called[f.Path] = f.Called
	}
	for _, u := range g.Problems.Saves {
		if u.Name == "" {
			unread[u.Folder.Real] = true
		}
		seen[KeyAt(u.Folder, u.Name)] = true
	}
	for key, p := range before {
		if seen[key] || unread[key.Folder] {
			continue
		}
		folder, account, _ := strings.Cut(called[key.Folder], ":")
		g.Gone = append(g.Gone, Gone{Place: p, in: called[key.Folder], place: folder + "\x00" + account + "\x00" + key.Name})
		if !p.Gone {
			p.Gone = true
			g.Learnt.Places = append(g.Learnt.Places, p)
		}
	}
	slices.SortFunc(g.Gone, func(a, b Gone) int { return strings.Compare(a.place, b.place) })
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
	g.Lines = line.LinesOf(all, g.Install.Game.ID, g.Install.PlayedAs()...)
	known := line.Folders{Lines: g.Lines}
	if known.Belongs, err = g.h.Logbook.Belongs(g.ctx, g.Learnt.Folders); err != nil {
		return err
	}
	known.Belongs = spelled(g, known.Belongs)
	for _, in := range g.Sharers {
		if !in.PlaysWith(g.Install) {
			known.Neighbours = append(known.Neighbours, line.LinesOf(all, in.Game.ID, in.PlayedAs()...))
		}
	}
	var places []line.Place
	for _, s := range g.Saves {
		places = append(places, line.Place{Key: s.Key(), Modified: s.Modified, Seen: s.Seen})
	}
	owned := known.Resolve(places)
	for i := range g.Gone {
		g.Gone[i].Line = known.Owner(g.Gone[i].Key)
	}
	for _, s := range g.Saves {
		s.Line = owned.Owner[s.Key()]
	}
	g.Learnt.Claims = owned.Claims
	return nil
}
