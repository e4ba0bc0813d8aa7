package line

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"ostrov/internal/core/logbook"
)

var began = time.Date(2026, 3, 1, 20, 0, 0, 0, time.UTC)

func key(name string) logbook.Key { return logbook.Key{Folder: "/saves", Name: name} }

// places are saves by name, written so many hours after began; an earlier look saw the one called old.
func places(hours map[string]int) []Place {
	var list []Place
	for name, h := range hours {
		list = append(list, Place{key(name), began.Add(time.Duration(h) * time.Hour), name == "old"})
	}
	return list
}

func play(name string, active bool, hours int) logbook.Playthrough {
	return logbook.Playthrough{Name: name, Active: active, Started: began.Add(time.Duration(hours) * time.Hour)}
}

// TestWhoseSaveItIs goes through the cases of one and several lines, and of installs that share a folder.
func TestWhoseSaveItIs(t *testing.T) {
	old, new := map[string]int{"old": -5}, map[string]int{"new": 5}
	one := func(name string, active bool, hours int) []logbook.Playthrough {
		return []logbook.Playthrough{play(name, active, hours)}
	}
	two := []logbook.Playthrough{play("a", false, -9), play("b", true, 0)}
	for name, c := range map[string]struct {
		in     Folders
		places map[string]int
		owner  map[string]string
		claims int
	}{
		"no line at all":                                  {Folders{}, old, map[string]string{"old": ""}, 0},
		"one line owns all":                               {Folders{Lines: one("a", true, 0)}, old, map[string]string{"old": "a"}, 0},
		"one closed line owns all":                        {Folders{Lines: one("a", false, 0)}, old, map[string]string{"old": "a"}, 0},
		"new ones are the active's":                       {Folders{Lines: two, Belongs: map[logbook.Key]string{key("x"): "a"}}, new, map[string]string{"new": "b"}, 1},
		"one with an old date that was never seen is new": {Folders{Lines: two}, map[string]int{"copied": -5}, map[string]string{"copied": "b"}, 1},
		"older ones are nobody's":                         {Folders{Lines: two}, old, map[string]string{"old": ""}, 0},
		"assigned ones stay":                              {Folders{Lines: two, Belongs: map[logbook.Key]string{key("new"): "a"}}, new, map[string]string{"new": "a"}, 0},
		"what is assigned to a line that is no more is new": {Folders{Lines: two, Belongs: map[logbook.Key]string{key("new"): "dropped"}}, new,
			map[string]string{"new": "b"}, 1},
		"nothing active, nothing new": {Folders{Lines: []logbook.Playthrough{play("a", false, -9), play("b", false, 0)}}, new, map[string]string{"new": ""}, 0},
		"a neighbour's is its own": {Folders{Lines: one("a", true, 0), Neighbours: [][]logbook.Playthrough{one("x", true, -9)}, Belongs: map[logbook.Key]string{key("new"): "x"}},
			new, map[string]string{"new": "x"}, 0},
		"an older neighbour's only line owns all": {Folders{Lines: one("a", true, 0), Neighbours: [][]logbook.Playthrough{one("x", true, -9)}},
			old, map[string]string{"old": "x"}, 1},
		"a younger neighbour owns nothing untold": {Folders{Lines: one("a", true, -9), Neighbours: [][]logbook.Playthrough{one("x", true, 0)}},
			old, map[string]string{"old": "a"}, 1},
		"a neighbour's only line owns all": {Folders{Neighbours: [][]logbook.Playthrough{one("x", true, 0)}}, old, map[string]string{"old": "x"}, 1},
		"where a neighbour's saves are, a new one is its own": {Folders{Lines: one("a", true, -9), Neighbours: [][]logbook.Playthrough{one("x", true, -5)},
			Belongs: map[logbook.Key]string{key("old"): "x"}}, map[string]int{"old": -5, "new": 5}, map[string]string{"old": "x", "new": "x"}, 1},
		"where both are, it belongs to the install that is looked at": {Folders{Lines: one("a", true, -9), Neighbours: [][]logbook.Playthrough{one("x", true, -5)},
			Belongs: map[logbook.Key]string{key("old"): "x", key("mine"): "a"}}, map[string]int{"old": -5, "mine": -4, "new": 5}, map[string]string{"new": "a"}, 1},
	} {
		t.Run(name, func(t *testing.T) {
			o := c.in.Resolve(places(c.places))
			for save, want := range c.owner {
				assert.Equal(t, want, o.Owner[key(save)], save)
			}
			claims := 0
			for _, keys := range o.Claims {
				claims += len(keys)
			}
			assert.Equal(t, c.claims, claims)
		})
	}
}

func TestTheActiveLine(t *testing.T) {
	assert.Nil(t, Active(nil))
	assert.Equal(t, "a", Active([]logbook.Playthrough{play("a", false, 0)}).Name, "one line is the one that is played")
	assert.Nil(t, Active([]logbook.Playthrough{play("a", false, 0), play("b", false, 0)}))
	assert.Equal(t, "b", Active([]logbook.Playthrough{play("a", false, 0), play("b", true, 0)}).Name)
}

func TestLinesOfOneInstall(t *testing.T) {
	all := []logbook.Playthrough{{Name: "a", Game: "g", Install: "main"}, {Name: "b", Game: "g", Install: "other"}, {Name: "c", Game: "h", Install: "main"}}
	assert.Equal(t, all[:1], LinesOf(all, "g", "main"))
	assert.Len(t, all, 3, "the list that was given stays as it is")
}

func TestALineIsFoundByNameOrTitle(t *testing.T) {
	all := []logbook.Playthrough{{Name: "night-run", Title: "Night Run"}, {Name: "again", Title: "Twice"}, {Name: "once-more", Title: "Twice"}, {Name: "twice-2", Title: "again"}}
	assert.Equal(t, "night-run", Named(all, "night run").Name)
	assert.Equal(t, "again", Named(all, "again").Name, "a name comes before a title")
	assert.Nil(t, Named(all, "Twice"), "it could be two")
	assert.Nil(t, Named(all, ""))
}
