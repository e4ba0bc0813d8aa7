package modlist

import "strings"

// Change is one difference between two mod lists.
type Change struct {
	What string `json:"what"` // added, dropped, updated, altered, on, off or reordered
	Mod  Listed `json:"mod"`
	Was  string `json:"was,omitempty"` // the version before
}

// Compare says how the list now differs from the one before. Lists of games without a load order are sorted by id, so never reordered.
func Compare(before, now []Listed) []Change {
	old := map[string]Listed{}
	for _, m := range before {
		old[strings.ToLower(m.ID)] = m
	}
	var changes []Change
	for _, m := range now {
		was, ok := old[strings.ToLower(m.ID)]
		delete(old, strings.ToLower(m.ID))
		switch {
		case !ok:
			changes = append(changes, Change{"added", m, ""})
		case was.Version != m.Version:
			changes = append(changes, Change{"updated", m, was.Version})
		case !was.Digest.IsZero() && !m.Digest.IsZero() && was.Digest != m.Digest:
			changes = append(changes, Change{"altered", m, was.Version})
		case was.On != m.On && m.On:
			changes = append(changes, Change{"on", m, ""})
		case was.On != m.On:
			changes = append(changes, Change{"off", m, ""})
		}
	}
	for _, m := range before {
		if was, gone := old[strings.ToLower(m.ID)]; gone {
			changes = append(changes, Change{"dropped", was, was.Version})
		}
	}
	if m := Moved(before, now); len(m) > 0 {
		changes = append(changes, Change{"reordered", m[0], ""})
	}
	return changes
}

// Moved are the mods that both lists have on and that stand elsewhere among those: as few as tell the difference.
func Moved(a, b []Listed) []Listed {
	place := map[string]int{}
	for i, m := range a {
		if m.On {
			place[strings.ToLower(m.ID)] = i + 1
		}
	}
	var common []Listed
	for _, m := range b {
		if m.On && place[strings.ToLower(m.ID)] > 0 {
			common = append(common, m)
		}
	}
	// The longest run of mods that kept their order stays; the others moved.
	best, from := make([]int, len(common)), make([]int, len(common))
	end := -1
	for i := range common {
		best[i], from[i] = 1, -1
		for j := range i {
			if place[strings.ToLower(common[j].ID)] < place[strings.ToLower(common[i].ID)] && best[j]+1 > best[i] {
				best[i], from[i] = best[j]+1, j
			}
		}
		if end < 0 || best[i] > best[end] {
			end = i
		}
	}
	stays := map[int]bool{}
	for i := end; i >= 0; i = from[i] {
		stays[i] = true
	}
	var out []Listed
	for i, m := range common {
		if !stays[i] {
			out = append(out, m)
		}
	}
	return out
}
