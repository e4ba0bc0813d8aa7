package ledger

import (
	"cmp"
	"path"
	"slices"
	"strings"
)

// Shelf is the entries of an install in the order in which they lie: later ones on top.
type Shelf struct {
	entries []*Entry
	piles   map[Place][]laid
}

// laid is a file of an entry in a pile.
type laid struct {
	of   *Entry
	file File
}

// NewShelf puts entries in order: by rank, which is their place in the load order, 0 for none; those of one rank, and those of none, by when
// they came in. Mods without a rank lie below those with one.
func NewShelf(entries []*Entry, rank func(*Entry) int) *Shelf {
	s := &Shelf{entries: slices.Clone(entries), piles: map[Place][]laid{}}
	slices.SortStableFunc(s.entries, func(a, b *Entry) int {
		return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a.Order, b.Order))
	})
	for _, e := range s.entries {
		if e.State != InPlace {
			continue
		}
		for _, f := range e.Files {
			s.piles[f.Place()] = append(s.piles[f.Place()], laid{e, f})
		}
	}
	return s
}

// Entries are all entries, lowest first.
func (s *Shelf) Entries() []*Entry { return s.entries }

// Top is what a path must hold, and the mod whose it is; nil where no mod in place has it.
func (s *Shelf) Top(p Place) (*Entry, File) {
	pile := s.piles[p]
	if len(pile) == 0 {
		return nil, File{}
	}
	return pile[len(pile)-1].of, pile[len(pile)-1].file
}

// Owners are the mods in place that bring a path, the lowest first.
func (s *Shelf) Owners(p Place) []*Entry {
	var all []*Entry
	for _, l := range s.piles[p] {
		all = append(all, l.of)
	}
	return all
}

// Places are all paths that mods in place bring, in order.
func (s *Shelf) Places() []Place {
	all := make([]Place, 0, len(s.piles))
	for p := range s.piles {
		all = append(all, p)
	}
	slices.SortFunc(all, func(a, b Place) int { return cmp.Or(cmp.Compare(a.Root, b.Root), cmp.Compare(a.Path, b.Path)) })
	return all
}

// Hidden are the files of mods in place that do not lie in their places, since another mod's lie on top.
func (s *Shelf) Hidden() []File {
	var all []File
	for _, pile := range s.piles {
		for _, l := range pile[:len(pile)-1] {
			all = append(all, l.file)
		}
	}
	return all
}

// Bottoms are what lay at paths before any mod in place, by path.
func Bottoms(entries []*Entry) map[Place]File {
	all := map[Place]File{}
	for _, e := range entries {
		for _, f := range e.Covered {
			all[f.Place()] = f
		}
	}
	return all
}

// lowest is the lowest mod in place that has a path, or, where that is a folder, something in it; nil where none has.
func (s *Shelf) lowest(p Place, dir bool) *Entry {
	if pile := s.piles[p]; len(pile) > 0 {
		return pile[0].of
	}
	if !dir {
		return nil
	}
	for _, e := range s.entries {
		if e.State == InPlace && slices.ContainsFunc(e.Files, func(f File) bool { return f.Root == p.Root && strings.HasPrefix(f.Path, p.Path+"/") }) {
			return e
		}
	}
	return nil
}

// Folders are all folders in which mods in place have something.
func (s *Shelf) Folders() map[Place]bool {
	all := map[Place]bool{}
	for p := range s.piles {
		for dir := path.Dir(p.Path); dir != "."; dir = path.Dir(dir) {
			at := Place{p.Root, dir}
			if all[at] {
				break
			}
			all[at] = true
		}
	}
	return all
}

// Settle gives each bottom to the lowest mod in place that has its path, and takes it from all others; those of paths that no mod has any more
// are returned: they lie in their places again. Entries that it alters are copied first, so those given stay as they are.
func (s *Shelf) Settle(bottoms map[Place]File) (uncovered []File) {
	holds := map[*Entry][]File{}
	for p, f := range bottoms {
		if of := s.lowest(p, f.Dir); of != nil {
			holds[of] = append(holds[of], f)
		} else {
			uncovered = append(uncovered, f)
		}
	}
	byPath := func(a, b File) int { return cmp.Or(cmp.Compare(a.Root, b.Root), cmp.Compare(a.Path, b.Path)) }
	for i, e := range s.entries {
		covered := holds[e]
		slices.SortFunc(covered, byPath)
		if slices.Equal(covered, e.Covered) {
			continue
		}
		settled := *e
		settled.Covered = covered
		s.entries[i] = &settled
		for _, f := range settled.Files {
			for j, l := range s.piles[f.Place()] {
				if l.of == e {
					s.piles[f.Place()][j].of = &settled
				}
			}
		}
	}
	slices.SortFunc(uncovered, byPath)
	return uncovered
}
