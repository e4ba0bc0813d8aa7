package mods

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/game"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/modlist"
)

// installed are mods of which some say what is hard to write.
var installed = []*mod.Mod{
	{ID: "Kelp-Lights", Title: `Kelp & "Lights"`, Version: "1.2", Path: "mods/kelp", Fields: map[string]string{"by": "<nobody>"}},
	{ID: "rope", Title: "Rope", Version: "3", Path: "mods/a/rope"},
	{ID: "lines", Title: "two\nlines", Path: "mods/lines"},
}

func knownMod(id string) *mod.Mod {
	i := slices.IndexFunc(installed, func(m *mod.Mod) bool { return strings.EqualFold(m.ID, id) })
	if i < 0 {
		return nil
	}
	return installed[i]
}

func TestHowAnElementIsWritten(t *testing.T) {
	for _, c := range []struct{ form, template, id, want string }{
		{"lines", "{id}", "rope", "rope"},
		{"lines", "{id}", "gone", "gone"},
		{"lines", "{title}|{version}|{folder}", "rope", "Rope|3|rope"},
		{"lines", "{title} by {field:by}", "kelp-lights", `Kelp & "Lights" by <nobody>`},
		{"lines", "{field:by}", "rope", ""},
		{"lines", "{title}", "gone", ""},
		{"lines", "{title}", "lines", ""},
		{"ini", "mod={id};{version}", "rope", "mod=rope;3"},
		{"json", `{"id": "{id}", "title": "{title}", "more": {}}`, "kelp-lights", `{"id": "kelp-lights", "title": "Kelp & \"Lights\"", "more": {}}`},
		{"json", `"{title}"`, "lines", `"two\nlines"`},
		{"json", `{"a": {"b": "{id}"}}`, "rope", `{"a": {"b": "rope"}}`},
		{"xml", `<mod name="{title}" by="{field:by}"/>`, "kelp-lights", `<mod name="Kelp &amp; &#34;Lights&#34;" by="&lt;nobody&gt;"/>`},
		{"lines", "{id} {nothing} {", "rope", "rope {nothing} {"},
		{"lines", "{id}{id}", "{id}", "{id}{id}"},
	} {
		e := entries{active: &game.Active{}, spec: doc.Spec{Form: c.form}, known: knownMod}
		assert.Equal(t, c.want, e.spell(c.template, c.id, knownMod(c.id)), "%s of %s in %s", c.template, c.id, c.form)
	}
}

// TestAnElementIsSwitched has elements with more in them than the description writes: that stays, and comes back as it was.
func TestAnElementIsSwitched(t *testing.T) {
	for _, c := range []struct{ form, on, off, id, text, want string }{
		{"lines", "{id}", "#{id}", "rope", "rope", "#rope"},
		{"lines", "{id}", "#{id}", "rope", "rope  ; tied twice", "#rope  ; tied twice"},
		{"lines", "+{id}", "-{id}", "rope", "+rope = 7", "-rope = 7"},
		{"lines", "{id}=1", "{id}=0", "rope", "rope=1", "rope=0"},
		{"lines", "{id}=1", "{id}=0", "rope", "  rope=1", "  rope=0"},
		{"lines", "{id}=on", "{id}=off", "rope", "rope=on // note", "rope=off // note"},
		{"lines", "{id}|{title}", "#{id}|{title}", "rope", "rope|Rope", "#rope|Rope"},
		{"lines", "{id}|{title}", "#{id}|{title}", "rope", "rope|another title", "#rope|Rope"},
		{"lines", "{id}", "", "rope", "rope", ""},
		{"json", `{"id":"{id}","on":true}`, `{"id":"{id}","on":false}`, "rope", `{"id":"rope","on":true,"first":7}`, `{"id":"rope","on":false,"first":7}`},
		{"json", `{"id":"{id}","on":true}`, `{"id":"{id}","on":false}`, "rope", `{"first":7,"id":"rope","on":true}`, `{"first":7,"id":"rope","on":false}`},
		{"xml", `<mod id="{id}"/>`, `<mod id="{id}" off="1"/>`, "rope", `<mod id="rope"/>`, `<mod id="rope" off="1"/>`},
	} {
		e := entries{active: &game.Active{Entry: c.on, EntryOff: c.off}, spec: doc.Spec{Form: c.form}, known: knownMod}
		off, err := e.turned(item{c.id, c.text, true}, false)
		require.NoError(t, err)
		assert.Equal(t, c.want, off, "%q off", c.text)
		if off == "" || strings.Contains(c.text, "another") {
			continue
		}
		on, err := e.turned(item{c.id, off, false}, true)
		require.NoError(t, err)
		assert.Equal(t, c.text, on, "%q on again", off)
	}
	e := entries{active: &game.Active{Entry: "{id}|{title}", EntryOff: "#{id}|{title}"}, spec: doc.Spec{Form: "lines"}, known: knownMod}
	_, err := e.turned(item{"gone", "gone|Gone", true}, false)
	assert.ErrorContains(t, err, "gone", "what it says is not to be had")
	e.active = &game.Active{}
	_, err = e.turned(item{"rope", "rope", true}, false)
	assert.ErrorContains(t, err, "does not say how")
}

// TestTheListIsChanged holds single changes against the list that comes of them.
func TestTheListIsChanged(t *testing.T) {
	e := entries{active: &game.Active{Entry: "{id}", EntryOff: "#{id}"}, spec: doc.Spec{Form: "lines"}, known: knownMod}
	items := []item{{"a", "a", true}, {"b", "#b", false}, {"c", "c ; note", true}}
	for _, c := range []struct {
		about string
		edit  listEdit
		want  string
	}{
		{"nothing", listEdit{}, "a,#b,c ; note"},
		{"one goes", listEdit{remove: []string{"B"}}, "a,c ; note"},
		{"one comes", listEdit{add: []listedMod{{id: "d"}}}, "a,#b,c ; note,d"},
		{"one that is there comes", listEdit{add: []listedMod{{id: "C"}}}, "a,#b,c ; note"},
		{"one comes back", listEdit{add: []listedMod{{id: "d", text: "d ; was here", at: 2}}}, "a,d ; was here,#b,c ; note"},
		{"one comes back off", listEdit{add: []listedMod{{id: "d", text: "#d", at: 1}}, on: map[string]bool{"d": false}}, "#d,a,#b,c ; note"},
		{"one comes back behind the end", listEdit{add: []listedMod{{id: "d", text: "d", at: 9}}}, "a,#b,c ; note,d"},
		{"two are switched", listEdit{on: map[string]bool{"a": false, "b": true}}, "#a,b,c ; note"},
		{"one is as it is to be", listEdit{on: map[string]bool{"c": true}}, "a,#b,c ; note"},
		{"some that are in no list are switched on", listEdit{on: map[string]bool{"rope": true, "kelp-lights": true, "x": false}}, "a,#b,c ; note,Kelp-Lights,rope"},
		{"another order", listEdit{order: []string{"c", "a"}}, "c ; note,#b,a"},
		{"another order of all", listEdit{order: []string{"C", "b", "A"}}, "c ; note,#b,a"},
		{"all at once", listEdit{remove: []string{"a"}, add: []listedMod{{id: "d"}}, on: map[string]bool{"b": true}, order: []string{"d", "c"}}, "b,d,c ; note"},
	} {
		for range 2 { // which leaves the edit as it is
			got, err := c.edit.apply(e, slices.Clone(items))
			require.NoError(t, err, c.about)
			var texts []string
			for _, i := range got {
				texts = append(texts, i.text)
				assert.Equal(t, !strings.HasPrefix(i.text, "#"), i.on, c.about)
			}
			assert.Equal(t, c.want, strings.Join(texts, ","), c.about)
		}
	}
}

// TestOrderLikeAnother brings random lists into the order of others: nothing is lost, what both have is in the other's order, and the rest stays.
func TestOrderLikeAnother(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 300 {
		var ids []string
		for _, n := range r.Perm(r.IntN(12)) {
			ids = append(ids, fmt.Sprintf("Mod-%d", n))
		}
		var other []modlist.Listed
		wanted := map[string]int{}
		for i, n := range r.Perm(12)[:r.IntN(12)] {
			other = append(other, modlist.Listed{ID: fmt.Sprintf("mod-%d", n)})
			wanted[fmt.Sprintf("mod-%d", n)] = i + 1
		}
		got := like(ids, other)
		assert.ElementsMatch(t, ids, got)
		last := 0
		for i, id := range got {
			if place := wanted[strings.ToLower(id)]; place > 0 {
				assert.Greater(t, place, last)
				last = place
			} else {
				assert.Equal(t, ids[i], id, "what only one has stays")
			}
		}
		assert.Equal(t, got, like(got, other), "once more changes nothing")
		edit := listEdit{order: got}
		var items []item
		for _, id := range ids {
			items = append(items, item{id: id, text: id, on: true})
		}
		ordered := edit.inOrder(items)
		for i := range ordered {
			assert.Equal(t, got[i], ordered[i].id)
		}
	}
}
