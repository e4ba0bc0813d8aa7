package modlist

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"ostrov/internal/core/tree"
)

func TestModListsThatDiffer(t *testing.T) {
	list := func(ids ...string) []Listed {
		var l []Listed
		for _, id := range ids {
			id, version, _ := strings.Cut(id, "=")
			l = append(l, Listed{ID: strings.TrimPrefix(id, "#"), Version: version, On: !strings.HasPrefix(id, "#")})
		}
		return l
	}
	altered := list("a=1")
	altered[0].Digest = tree.Digest{1}
	other := list("a=1")
	other[0].Digest = tree.Digest{2}
	for name, c := range map[string]struct {
		before, now []Listed
		want        string
	}{
		"nothing":   {list("a=1", "b"), list("A=1", "b"), ""},
		"added":     {list("a"), list("a", "b"), "added b"},
		"dropped":   {list("a", "b"), list("b"), "dropped a"},
		"updated":   {list("a=1"), list("a=2"), "updated a"},
		"switched":  {list("a", "#b"), list("#a", "b"), "off a, on b"},
		"reordered": {list("a", "b", "c"), list("b", "c", "a"), "reordered a"},
		"altered":   {altered, other, "altered a"},
		"not read":  {list("a=1"), other, ""},
		"new first": {list("a", "b"), list("n", "a", "b"), "added n"},
	} {
		var got []string
		for _, m := range Compare(c.before, c.now) {
			got = append(got, m.What+" "+m.Mod.ID)
		}
		assert.Equal(t, c.want, strings.Join(got, ", "), name)
	}
}

func TestMovedModsAreAsFewAsCanBe(t *testing.T) {
	var list []Listed
	for _, id := range []string{"a", "b", "c", "d", "e"} {
		list = append(list, Listed{ID: id, On: true})
	}
	assert.Empty(t, Moved(list, list))
	one := append(append([]Listed{}, list[1:]...), list[0])
	got := Moved(list, one)
	assert.Len(t, got, 1, "one that goes to the end moved, and no other")
	assert.Equal(t, list[0].ID, got[0].ID)
}
