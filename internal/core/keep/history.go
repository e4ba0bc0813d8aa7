package keep

import (
	"context"
	"errors"
	"io/fs"
	"slices"
	"strings"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/home"
)

// History is what the snapshots of an install's playthroughs have of one save.
type History struct {
	Called string
	Now    *facts.Save // nil where it is not there now
	// States are the states of it, each once for each playthrough, in the order in which they were kept.
	States []HeldState
}

// Handle is how restore --slot names it.
func (h *History) Handle(st *facts.State) string {
	if h.Now != nil {
		return st.Slot(h.Now)
	}
	return h.Called
}

// HeldState is one state of a save in the snapshots of a playthrough.
type HeldState struct {
	archive.KeptState
	First, Last string // addresses of the first and the last snapshot that has it
	Present     bool   // it is what is there now
}

// HistoryOf finds what was kept of the save that a slot or a name means; folder narrows it down. It need not be there any more.
func HistoryOf(ctx context.Context, h *home.Home, st *facts.State, folder, name string) (*History, error) {
	a, err := h.Existing()
	if err != nil {
		return nil, err
	}
	now, missing := st.Find(folder, name)
	if missing != nil && len(st.Meant(folder, name)) > 1 {
		return nil, missing
	}
	history := &History{Called: name, Now: now}
	if now != nil {
		history.Called = now.Called()
	}
	for _, p := range st.Lines {
		states, err := a.States(p.Name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, place := range states.Places() {
			if now != nil && place != now.Place() || now == nil && !means(states, place, folder, name) {
				continue
			}
			for _, k := range states.Of(place) {
				history.States = append(history.States, HeldState{KeptState: k, First: states.Address(k.First), Last: states.Address(k.Last),
					Present: now != nil && k.Digest == now.Digest})
			}
		}
	}
	if len(history.States) == 0 && missing != nil {
		return nil, missing
	}
	return history, ctx.Err()
}

// means reports whether a slot or a name means the save at a place of the archive.
func means(states *archive.States, place, folder, name string) bool {
	parts := strings.SplitN(place, "\x00", 3)
	if len(parts) < 3 || folder != "" && !slices.Contains(facts.FolderWords(parts[0], parts[1]), folder) {
		return false
	}
	return parts[2] == name || slices.ContainsFunc(states.Of(place), func(k archive.KeptState) bool { return strings.EqualFold(k.Slot, name) })
}
