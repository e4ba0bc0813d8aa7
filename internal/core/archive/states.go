package archive

import (
	"maps"
	"slices"
	"time"

	"ostrov/internal/core/tree"
)

// KeptState is one state of a save that snapshots of a playthrough have.
type KeptState struct {
	Digest   tree.Digest `json:"digest"`
	Kind     string      `json:"kind"`
	Slot     string      `json:"slot,omitempty"`
	Title    string      `json:"title,omitempty"`
	Version  string      `json:"version,omitempty"`
	Bytes    int64       `json:"bytes"`
	Modified time.Time   `json:"modified"`
	Broken   string      `json:"broken,omitempty"` // see KeptSave
	// Columns are the values that lists show; see KeptSave.
	Columns map[string]string `json:"columns,omitempty"`
	Played  int64             `json:"played_seconds,omitempty"`
	ByHand  bool              `json:"by_hand,omitempty"`
	First   string            `json:"first"` // the id of the first snapshot that has it
	Last    string            `json:"last"`  // and of the last one
}

// States are the states of a playthrough's saves that its snapshots have, each once.
type States struct {
	ofPlace   map[string][]KeptState
	addresses map[string]string // by id
	Branches
}

// knownStates is what is remembered of snapshots, which never change.
type knownStates struct {
	Seen   map[string]bool        `json:"seen"` // ids
	States map[string][]KeptState `json:"states"`
	Kin    map[string]kin         `json:"kin"`
}

// States reads the states that a playthrough's snapshots have. Snapshots that cannot be read are passed over; those that were read before are
// not read again.
func (a *Archive) States(playthrough string) (*States, error) {
	all, err := a.numbers(playthrough)
	if err != nil {
		return nil, err
	}
	s := &States{addresses: map[string]string{}}
	order := map[string]int{}
	for i, n := range all {
		s.addresses[n.id], order[n.id] = n.address(playthrough), i
	}
	place := "states of " + a.ID + " " + playthrough
	var known knownStates
	if a.cache == nil || !a.cache.Recall(place, tree.Digest{4}, &known) {
		known = knownStates{}
	}
	for id := range known.Seen {
		if _, there := order[id]; !there { // one was cleared away: what it alone had is known no more
			known = knownStates{}
			break
		}
	}
	if known.Seen == nil {
		known = knownStates{map[string]bool{}, map[string][]KeptState{}, map[string]kin{}}
	}
	fresh := false
	for _, n := range all {
		if known.Seen[n.id] {
			continue
		}
		snap, err := a.read(playthrough, n.id)
		if err != nil {
			continue
		}
		known.add(snap, order)
		known.Seen[n.id], fresh = true, true
	}
	if fresh && a.cache != nil {
		a.cache.Note(place, tree.Digest{4}, known)
	}
	for _, states := range known.States {
		slices.SortStableFunc(states, func(x, y KeptState) int { return order[x.First] - order[y.First] })
	}
	s.ofPlace, s.Branches.of = known.States, known.Kin
	for _, n := range all {
		if _, read := known.Kin[n.id]; read {
			s.order = append(s.order, n.id)
		}
	}
	return s, nil
}

// add adds the saves of a snapshot.
func (k *knownStates) add(snap *Snapshot, order map[string]int) {
	k.Kin[snap.ID] = kinOf(snap)
	for _, sv := range snap.Saves {
		states := k.States[sv.Place()]
		i := slices.IndexFunc(states, func(s KeptState) bool { return s.Digest == sv.Digest })
		if i < 0 {
			k.States[sv.Place()] = append(states, KeptState{sv.Digest, sv.Kind, sv.Slot, sv.Title, sv.Version, sv.Bytes, sv.Modified, sv.Broken, sv.Columns, sv.Played, snap.ByHand, snap.ID, snap.ID})
			continue
		}
		s := &states[i]
		if order[snap.ID] < order[s.First] {
			s.First = snap.ID
		}
		if order[snap.ID] > order[s.Last] {
			s.Last = snap.ID
		}
	}
}

// Places are the places of all saves, in order.
func (s *States) Places() []string { return slices.Sorted(maps.Keys(s.ofPlace)) }

// Of are the states of one save, by its place (see KeptSave.Place), in the order in which they were first kept.
func (s *States) Of(place string) []KeptState { return s.ofPlace[place] }

// Holds reports whether any save has been in a state.
func (s *States) Holds(digest tree.Digest) bool {
	for _, states := range s.ofPlace {
		if slices.ContainsFunc(states, func(k KeptState) bool { return k.Digest == digest }) {
			return true
		}
	}
	return false
}

// Find is the state of a save that has a digest, or nil.
func (s *States) Find(place string, digest tree.Digest) *KeptState {
	i := slices.IndexFunc(s.ofPlace[place], func(k KeptState) bool { return k.Digest == digest })
	if i < 0 {
		return nil
	}
	return &s.ofPlace[place][i]
}

// Whole is the state that was kept last of those that are not broken and have at least that many bytes, or nil. A copy that was made by hand
// says nothing of when it was the newest: it is taken where there is no other.
func (s *States) Whole(place string, bytes int64) *KeptState {
	var byHand *KeptState
	for _, k := range slices.Backward(s.ofPlace[place]) {
		if k.Broken != "" || k.Bytes == 0 || k.Bytes < bytes {
			continue
		}
		if !k.ByHand {
			return &k
		}
		if byHand == nil {
			byHand = &k
		}
	}
	return byHand
}

// Address is how commands name a snapshot of these, by its id.
func (s *States) Address(id string) string { return s.addresses[id] }
