// Package line says which save belongs to which playthrough: one place for what belongs to whom.
//
// A playthrough, a line for short, owns places, not files: a place is one save's position in one folder. What the game writes at a place goes
// on with the line that owns it, also while another line is active. With one line all places of an install are its own and need no
// assignment; with more, what stands in the logbook counts, and a save that is new and unassigned belongs to the active line. Installs may share a folder: then a save that is another install's is that one's. The package decides from what it is
// given; it reads and writes nothing.
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

// Install is what is known of the lines of one install.
type Install struct {
	Lines   []logbook.Playthrough
	Belongs map[logbook.Key]string // as assigned
}

// Ownership is which save belongs to which line.
type Ownership struct {
	Owner map[logbook.Key]string // "" or missing: of none
	// Claims are saves that belong to Active from now on, and are to be assigned.
	Claims []logbook.Key
	Active string
}

// Active is the line that new saves belong to, or nil.
func (in Install) Active() *logbook.Playthrough {
	for i := range in.Lines {
		if in.Lines[i].Active || len(in.Lines) == 1 {
			return &in.Lines[i]
		}
	}
	return nil
}

// Owner is the line that owns a place at which no save is now, "" for none.
func (in Install) Owner(key logbook.Key) string {
	if name := in.Belongs[key]; name != "" || len(in.Lines) != 1 {
		return name
	}
	return in.Lines[0].Name
}

// Resolve finds the owner of each place of an install; others are the installs that share its folder.
func Resolve(own Install, others []Install, places []Place) Ownership {
	o := Ownership{Owner: map[logbook.Key]string{}}
	started := time.Time{}
	for _, p := range own.Lines {
		if p.Active {
			o.Active, started = p.Name, p.Started
		}
	}
	if len(own.Lines) == 1 && len(others) == 0 {
		for _, p := range places {
			o.Owner[p.Key] = own.Lines[0].Name
		}
		return o
	}
	theirs := ofOthers(own, others, places)
	untold := len(own.Lines) == 1 && len(own.Belongs) == 0 // an install's only line owns all, even if none were assigned
	for _, p := range places {
		if o.Owner[p.Key] = theirs[p.Key]; o.Owner[p.Key] != "" {
			continue
		}
		o.Owner[p.Key] = own.Belongs[p.Key]
		// Where another install's saves are there too, it may be that one which is played.
		// One that was seen before and has no owner was left so on purpose, until it is written.
		if o.Owner[p.Key] == "" && o.Active != "" && (untold || !p.Seen || p.Modified.After(started)) && len(theirs) == 0 {
			o.Owner[p.Key] = o.Active
			o.Claims = append(o.Claims, p.Key)
		}
	}
	return o
}

// ofOthers are the places that belong to lines of other installs. An older install's only line owns all saves, even if none were assigned.
func ofOthers(own Install, others []Install, places []Place) map[logbook.Key]string {
	theirs := map[logbook.Key]string{}
	for _, other := range others {
		older := len(other.Lines) == 1 && len(other.Belongs) == 0 && len(own.Belongs) == 0 && (len(own.Lines) == 0 || other.Lines[0].Started.Before(own.Lines[0].Started))
		for _, p := range places {
			if name, ok := other.Belongs[p.Key]; ok {
				theirs[p.Key] = name
			} else if older {
				theirs[p.Key] = other.Lines[0].Name
			}
		}
	}
	return theirs
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

// LinesOf are the lines of one install among all.
func LinesOf(all []logbook.Playthrough, gameID, install string) []logbook.Playthrough {
	return slices.DeleteFunc(slices.Clone(all), func(p logbook.Playthrough) bool { return p.Game != gameID || p.Install != install })
}
