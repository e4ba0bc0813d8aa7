package form

import (
	"encoding/json"
	"slices"
	"strings"
)

// milestones are places in a large file that a guide has come by, with the way to each.
type milestones struct {
	stones []milestone // in order
	every  int         // how far one is from the next, in bytes
	fresh  bool        // some are new
}

// milestone is a place between two parts of a text, and the way to it.
type milestone struct {
	At    int
	Want  int `json:",omitempty"` // of a JSON, what may come next
	Steps []milestoneStep
}

// milestoneStep is an array, an object or an element that is open there.
type milestoneStep struct {
	Bracket byte           `json:",omitempty"` // of JSON
	From    int            `json:",omitempty"`
	N       int            // of an array the index of its element; of an element which of its name it is
	Key     []int          `json:",omitempty"` // where the name of a member stands
	Name    string         `json:",omitempty"` // of an element
	Seen    map[string]int `json:",omitempty"` // how many of each name there were in it
}

const (
	leastApart = 1 << 20
	// maxStones is about how many there are in a file, and maxSeen how many names one may count.
	maxStones = 512
	maxSeen   = 200
)

// milestonesOf are those that written has, if they can be ones of a file of a size.
func milestonesOf(size int, written []byte) *milestones {
	m := &milestones{every: max(leastApart, size/maxStones)}
	if written != nil && json.Unmarshal(written, &m.stones) != nil {
		m.stones = nil
	}
	sound := slices.IsSortedFunc(m.stones, func(a, b milestone) int { return a.At - b.At })
	for _, s := range m.stones {
		sound = sound && s.At > 0 && s.At <= size && len(s.Steps) > 0
	}
	if !sound {
		m.stones = nil
	}
	return m
}

// written is all of them, to be read by milestonesOf; nil where none is new.
func (m *milestones) written() []byte {
	if !m.fresh {
		return nil
	}
	data, err := json.Marshal(m.stones)
	if err != nil {
		return nil
	}
	return data
}

// before is the last one before a place, if that saves going there from where one is.
func (m *milestones) before(place, from int) (milestone, bool) {
	i, _ := slices.BinarySearchFunc(m.stones, place+1, byPlace)
	if i == 0 || m.stones[i-1].At <= from {
		return milestone{}, false
	}
	return m.stones[i-1], true
}

// due reports whether one is to be laid at a place that has been come to: it is far enough from those before it and behind it.
func (m *milestones) due(at int) bool {
	i, there := slices.BinarySearchFunc(m.stones, at, byPlace)
	return !there && (i == 0 && at >= m.every || i > 0 && at-m.stones[i-1].At >= m.every) && (i == len(m.stones) || m.stones[i].At-at >= m.every)
}

func byPlace(s milestone, at int) int { return s.At - at }

func (m *milestones) lay(s milestone) {
	if len(s.Steps) == 0 { // all is over
		return
	}
	for _, step := range s.Steps {
		if len(step.Seen) > maxSeen {
			return
		}
	}
	i, _ := slices.BinarySearchFunc(m.stones, s.At, byPlace)
	m.stones, m.fresh = slices.Insert(m.stones, i, s), true
}

// stoneOf is where a walk over a JSON is.
func stoneOf(w *jsonWalk) milestone {
	s := milestone{At: w.at, Want: w.want}
	for _, o := range w.open {
		s.Steps = append(s.Steps, milestoneStep{Bracket: o.bracket, From: o.from, N: o.index, Key: []int{o.name.from, o.name.to}})
	}
	return s
}

// walk is the walk that goes on there.
func (s milestone) walk() *jsonWalk {
	w := &jsonWalk{at: s.At, want: s.Want}
	for _, step := range s.Steps {
		o := jsonOpen{bracket: step.Bracket, from: step.From, index: step.N}
		if len(step.Key) == 2 {
			o.name = place{step.Key[0], step.Key[1]}
		}
		w.open = append(w.open, o)
	}
	return w
}

// stoneOn is a place behind a tag, and what is open there.
func stoneOn(way []xmlWay, at int) milestone {
	s := milestone{At: at}
	for _, step := range way {
		m := milestoneStep{Name: strings.Clone(step.name), N: step.n}
		for name, n := range step.seen {
			if m.Seen == nil {
				m.Seen = map[string]int{}
			}
			m.Seen[name] = *n
		}
		s.Steps = append(s.Steps, m)
	}
	return s
}

// way is the way that goes on there.
func (s milestone) way() (way []xmlWay) {
	for _, step := range s.Steps {
		w := xmlWay{name: step.Name, n: step.N}
		for name, n := range step.Seen {
			if w.seen == nil {
				w.seen = map[string]*int{}
			}
			w.seen[name] = &n
		}
		way = append(way, w)
	}
	return way
}
