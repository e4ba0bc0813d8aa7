package home

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
)

func TestAddressesOfSaves(t *testing.T) {
	fern := &game.Install{Game: &game.Description{ID: "fern"}, Name: "main"}
	beta := &game.Install{Game: fern.Game, Name: "beta", Was: []string{"old"}}
	reed := &game.Install{Game: &game.Description{ID: "reed"}, Name: "main"}
	type found struct {
		in           *game.Install
		folder, name string
	}
	for _, c := range []struct {
		known   []*game.Install
		address string
		want    found
		refused string
	}{
		{[]*game.Install{fern}, "3", found{fern, "", "3"}, ""},
		{[]*game.Install{fern}, "fern/3", found{fern, "", "3"}, ""},
		{[]*game.Install{fern, reed}, "reed/a/b c.sav", found{reed, "", "a/b c.sav"}, ""},
		{[]*game.Install{fern, beta, reed}, "fern@beta:worlds/x", found{beta, "worlds", "x"}, ""},
		{[]*game.Install{fern, beta, reed}, "fern@old/x", found{beta, "", "x"}, ""},
		{[]*game.Install{fern, beta}, "fern/x", found{}, "fern has several installs"},
		{[]*game.Install{fern, reed}, "3", found{}, "say which, as GAME/3"},
		{[]*game.Install{fern, reed}, "fern", found{}, "fern is a game; name one of its saves"},
		{[]*game.Install{fern, reed}, "fern@main", found{}, "is a game"},
		{[]*game.Install{fern, reed}, "feather/3", found{}, `no install "feather" is known`},
		{nil, "3", found{}, "no game is known yet"},
		{nil, "fern/3", found{}, "no game is known yet"},
	} {
		in, folder, name, err := (&Home{Installs: c.known}).SaveAddress(c.address)
		if c.refused != "" {
			assert.ErrorContains(t, err, c.refused, c.address)
			assert.ErrorIs(t, err, problem.ErrUsage, c.address)
			assert.Nil(t, in, c.address)
			continue
		}
		require.NoError(t, err, c.address)
		assert.Equal(t, c.want, found{in, folder, name}, c.address)
	}
}

func TestTags(t *testing.T) {
	for tag, good := range map[string]bool{"before-1.7": true, "1.7": true, "1.7.2": true, "evening": true, "7": false, "14b": false, "-x": false, "": false, "Ab": false, "a b": false, "../x": false, "a/b": false,
		strings.Repeat("a", 41): false} {
		assert.Equal(t, good, CheckTag(tag) == nil, "%q", tag)
	}
}

func TestSlugs(t *testing.T) {
	for title, want := range map[string]string{"Gannet Rock!": "gannet-rock", "  A  b ": "a-b", "Спасённый": "", "1.6.2": "1-6-2"} {
		assert.Equal(t, want, Slug(title))
	}
}
