package line

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"ostrov/internal/core/logbook"
)

var began = time.Date(2026, 3, 1, 20, 0, 0, 0, time.UTC)

func key(name string) logbook.Key { return logbook.Key{Folder: "saves", Name: name} }

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
	for name, c := range map[string]struct {
		own    Install
		others []Install
		places map[string]int
		owner  map[string]string
		claims int
	}{
		"no line at all":            {Install{}, nil, old, map[string]string{"old": ""}, 0},
		"one line owns all":         {Install{Lines: []logbook.Playthrough{play("a", true, 0)}}, nil, old, map[string]string{"old": "a"}, 0},
		"one closed line owns all":  {Install{Lines: []logbook.Playthrough{play("a", false, 0)}}, nil, old, map[string]string{"old": "a"}, 0},
		"new ones are the active's": {Install{Lines: []logbook.Playthrough{play("a", false, -9), play("b", true, 0)}}, nil, new, map[string]string{"new": "b"}, 1},
		"one with an old date that was never seen is new": {Install{Lines: []logbook.Playthrough{play("a", false, -9), play("b", true, 0)}}, nil,
			map[string]int{"copied": -5}, map[string]string{"copied": "b"}, 1},
		"older ones are nobody's":     {Install{Lines: []logbook.Playthrough{play("a", false, -9), play("b", true, 0)}}, nil, old, map[string]string{"old": ""}, 0},
		"assigned ones stay":          {Install{Lines: []logbook.Playthrough{play("a", false, -9), play("b", true, 0)}, Belongs: map[logbook.Key]string{key("new"): "a"}}, nil, new, map[string]string{"new": "a"}, 0},
		"nothing active, nothing new": {Install{Lines: []logbook.Playthrough{play("a", false, -9), play("b", false, 0)}}, nil, new, map[string]string{"new": ""}, 0},
		"another install's is its own": {Install{Lines: []logbook.Playthrough{play("a", true, 0)}},
			[]Install{{Lines: []logbook.Playthrough{play("x", true, -9)}, Belongs: map[logbook.Key]string{key("new"): "x"}}}, new, map[string]string{"new": "x"}, 0},
		"an older install's only line owns all": {Install{Lines: []logbook.Playthrough{play("a", true, 0)}},
			[]Install{{Lines: []logbook.Playthrough{play("x", true, -9)}}}, old, map[string]string{"old": "x"}, 0},
		"a younger install owns nothing untold": {Install{Lines: []logbook.Playthrough{play("a", true, -9)}},
			[]Install{{Lines: []logbook.Playthrough{play("x", true, 0)}}}, old, map[string]string{"old": "a"}, 1},
	} {
		t.Run(name, func(t *testing.T) {
			o := Resolve(c.own, c.others, places(c.places))
			for save, want := range c.owner {
				assert.Equal(t, want, o.Owner[key(save)], save)
			}
			assert.Len(t, o.Claims, c.claims)
		})
	}
}

func TestTheActiveLine(t *testing.T) {
	assert.Nil(t, Install{}.Active())
	assert.Equal(t, "a", Install{Lines: []logbook.Playthrough{play("a", false, 0)}}.Active().Name, "one line is the one that is played")
	assert.Nil(t, Install{Lines: []logbook.Playthrough{play("a", false, 0), play("b", false, 0)}}.Active())
	assert.Equal(t, "b", Install{Lines: []logbook.Playthrough{play("a", false, 0), play("b", true, 0)}}.Active().Name)
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
