package archive

import "slices"

// kin is what is known of where a snapshot stands among those of its line.
type kin struct {
	After  string `json:"after,omitempty"`
	ByHand bool   `json:"by_hand,omitempty"`
	// Passing tells that it was taken before a change, which then replaced what it has.
	Passing bool `json:"passing,omitempty"`
}

// Branches is how the snapshots of a line go on from each other.
type Branches struct {
	order []string // ids
	of    map[string]kin
}

// BranchesOf tells how snapshots, in their order, go on from each other.
func BranchesOf(all []*Snapshot) Branches {
	b := Branches{of: map[string]kin{}}
	for _, s := range all {
		b.order = append(b.order, s.ID)
		b.of[s.ID] = kinOf(s)
	}
	return b
}

func kinOf(s *Snapshot) kin { return kin{s.After, s.ByHand, s.Before != ""} }

// begins stands for the snapshot that one goes on from where it goes on from none of those that are there.
const begins = "none"

// Begins is what a snapshot goes on from of which only the newest of its line is known: that one, if it was kept on this machine; else it is a
// beginning of its own.
func Begins(newest *Snapshot) string {
	if newest.ByHand || newest.Machine != "" && newest.Machine != host() {
		return begins
	}
	return newest.ID
}

// After is the snapshot that one goes on from, "" for none. One that does not say it goes on from the one before it.
func (b Branches) After(id string) string {
	k, ok := b.of[id]
	if !ok || k.ByHand {
		return ""
	}
	if _, there := b.of[k.After]; there {
		return k.After
	}
	if k.After != "" {
		return "" // cleared away
	}
	for i := slices.Index(b.order, id) - 1; i >= 0; i-- {
		if !b.of[b.order[i]].ByHand {
			return b.order[i]
		}
	}
	return ""
}

// ByID reads a snapshot of which only the id is known. Its Twin is not set.
func (a *Archive) ByID(playthrough, id string) (*Snapshot, error) { return a.read(playthrough, id) }

// Line are the snapshots that led to one, that one first.
func (b Branches) Line(id string) []string {
	var line []string
	for ; id != "" && !slices.Contains(line, id); id = b.After(id) {
		line = append(line, id)
	}
	return line
}

// Ends are the snapshots that none goes on from, in order; what was only kept before a change ends nothing.
func (b Branches) Ends() []string {
	led := map[string]bool{}
	var ends []string
	for _, id := range b.order {
		if k := b.of[id]; !k.ByHand && !k.Passing {
			for before := b.After(id); before != "" && !led[before]; before = b.After(before) {
				led[before] = true
			}
		}
	}
	for _, id := range b.order {
		if k := b.of[id]; !led[id] && !k.ByHand && !k.Passing {
			ends = append(ends, id)
		}
	}
	return ends
}

// Common is the latest snapshot that led to both of two, "" for none.
func (b Branches) Common(x, y string) string {
	led := b.Line(x)
	for _, id := range b.Line(y) {
		if slices.Contains(led, id) {
			return id
		}
	}
	return ""
}
