// Package line says which save belongs to which playthrough: one place for what belongs to whom.
//
// A playthrough, a line for short, owns places, not files: a place is one save's position in one real folder, and it is the same place for
// every install that reaches it. What the game writes at a place goes on with the line that owns it, also while another line is active. With
// one line all places are its own and need no assignment; with more, what stands in the logbook counts, and a save that is new and
// unassigned belongs to the active line. Installs that reach one folder are neighbours: a new save there belongs to the line whose saves are
// there now. The package decides from what it is given; it reads and writes nothing.
package line

import (
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/logbook"
)

// Place is where a save stands, and when it was written.
type Place struct {
	Key      logbook.Key
	Modified time.Time
	Seen     bool // an earlier look found a save there
}

// Folders is what is known of the folders of saves of an install.
type Folders struct {
	Lines      []logbook.Playthrough   // of the install
	Neighbours [][]logbook.Playthrough // of each other install that reaches them
	Belongs    map[logbook.Key]string  // as assigned
}

// Ownership is which save belongs to which line.
type Ownership struct {
	Owner map[logbook.Key]string // "" or missing: of none
	// Claims are saves that belong to a line from now on, and are to be assigned.
	Claims map[string][]logbook.Key
}

// Active is the one of an install's lines that new saves belong to, or nil.
func Active(lines []logbook.Playthrough) *logbook.Playthrough {
	for i := range lines {
		if lines[i].Active || len(lines) == 1 {
			return &lines[i]
		}
	}
	return nil
}

// Assigned is the line that a place is assigned to, "" where that is none or one that is no more.
func (f Folders) Assigned(key logbook.Key) string {
	name := f.Belongs[key]
	for _, lines := range append([][]logbook.Playthrough{f.Lines}, f.Neighbours...) {
		if slices.ContainsFunc(lines, func(p logbook.Playthrough) bool { return p.Name == name }) {
			return name
		}
	}
	return ""
}

// Only is the only line that there is, of the install and its neighbours, or nil.
func (f Folders) Only() *logbook.Playthrough {
	all := slices.Concat(append([][]logbook.Playthrough{f.Lines}, f.Neighbours...)...)
	if len(all) != 1 {
		return nil
	}
	return &all[0]
}

// Owner is the line that owns a place at which no save is now, "" for none.
func (f Folders) Owner(key logbook.Key) string {
	if only := f.Only(); only != nil {
		return only.Name
	}
	return f.Assigned(key)
}

// Resolve finds the owner of each place.
func (f Folders) Resolve(places []Place) Ownership {
	o := Ownership{Owner: map[logbook.Key]string{}, Claims: map[string][]logbook.Key{}}
	only, alone := f.Only(), len(f.Neighbours) == 0
	there := map[string]bool{}
	for _, p := range places {
		name := f.Assigned(p.Key)
		if only != nil && (alone || name == "") {
			if name = only.Name; !alone { // another line may come: then what is there now stays this one's
				o.Claims[name] = append(o.Claims[name], p.Key)
			}
		}
		o.Owner[p.Key], there[name] = name, true
	}
	first := f.first()
	for _, p := range places {
		if o.Owner[p.Key] != "" {
			continue
		}
		owner := first
		if owner == nil || !p.Seen {
			owner = f.writing(there, p)
		}
		if owner != nil {
			o.Owner[p.Key] = owner.Name
			o.Claims[owner.Name] = append(o.Claims[owner.Name], p.Key)
		}
	}
	return o
}

// first is the line that owns all that was seen before any save was assigned: the oldest, where its install has no other.
func (f Folders) first() *logbook.Playthrough {
	if len(f.Belongs) > 0 {
		return nil
	}
	var oldest []logbook.Playthrough
	for _, lines := range append([][]logbook.Playthrough{f.Lines}, f.Neighbours...) {
		if len(lines) > 0 && (oldest == nil || lines[0].Started.Before(oldest[0].Started)) {
			oldest = lines
		}
	}
	if len(oldest) != 1 {
		return nil
	}
	return &oldest[0]
}

// writing is the line that is going on in the folder now, or nil: the active one of the install, or, where only saves of a neighbour's active
// line are there, that one. A save that was seen before and has no owner was left so on purpose, until it is written.
func (f Folders) writing(there map[string]bool, p Place) *logbook.Playthrough {
	active := func(lines []logbook.Playthrough) *logbook.Playthrough {
		i := slices.IndexFunc(lines, func(l logbook.Playthrough) bool { return l.Active })
		if i < 0 || p.Seen && !p.Modified.After(lines[i].Started) {
			return nil
		}
		return &lines[i]
	}
	own := active(f.Lines)
	if own != nil && there[own.Name] {
		return own
	}
	for _, lines := range f.Neighbours {
		if a := active(lines); a != nil && there[a.Name] {
			return a
		}
	}
	return own
}

// Named is the line that a name means, or a title where no line has that name and just one has that title; else nil.
func Named(all []logbook.Playthrough, name string) *logbook.Playthrough {
	var titled []*logbook.Playthrough
	if name == "" {
		return nil
	}
	for i := range all {
		if all[i].Name == name {
			return &all[i]
		}
		if strings.EqualFold(all[i].Title, name) {
			titled = append(titled, &all[i])
		}
	}
	if len(titled) != 1 {
		return nil
	}
	return titled[0]
}

// LinesOf are the lines of one install among all; installs are the names that it has and had.
func LinesOf(all []logbook.Playthrough, gameID string, installs ...string) []logbook.Playthrough {
	return slices.DeleteFunc(slices.Clone(all), func(p logbook.Playthrough) bool { return p.Game != gameID || !slices.Contains(installs, p.Install) })
}
