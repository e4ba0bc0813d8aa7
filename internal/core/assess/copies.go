package assess

import (
	"cmp"
	"slices"
	"strings"

	"ostrov/internal/core/facts"
)

// Copy is one of several places in which a save is.
type Copy struct {
	State *facts.State
	Save  *Save
}

// Copies are the places in which one save is, by its title, else its name, the newest first.
type Copies struct {
	Called string
	Copies []Copy
}

// CopiesOf finds saves that are in several places of one game: in several slots, folders or installs, under one title or, where they have none,
// one name. The newest is the one that was written last; where that is the same, the one that was played longer.
func CopiesOf(installs []*Install) []Copies {
	by := map[string]*Copies{}
	var order []string
	seen := map[string]bool{}
	for _, l := range installs {
		for _, s := range l.Saves {
			if place := s.Folder.Real + "\x00" + s.Name; seen[place] { // a neighbour's look found it
				continue
			} else {
				seen[place] = true
			}
			called := cmp.Or(s.Facts.Title(), s.Name)
			key := l.Install.Game.ID + "\x00" + s.Kind.ID + "\x00" + strings.ToLower(called)
			if by[key] == nil {
				by[key] = &Copies{Called: called}
				order = append(order, key)
			}
			by[key].Copies = append(by[key].Copies, Copy{l.State, s})
		}
	}
	var found []Copies
	for _, key := range order {
		c := by[key]
		if len(c.Copies) < 2 {
			continue
		}
		slices.SortStableFunc(c.Copies, func(x, y Copy) int {
			if d := y.Save.Modified.Compare(x.Save.Modified); d != 0 {
				return d
			}
			return cmp.Compare(y.Save.Facts.Played(), x.Save.Facts.Played())
		})
		found = append(found, *c)
	}
	return found
}
