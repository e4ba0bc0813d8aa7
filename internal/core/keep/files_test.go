package keep

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
)

// TestFilesComeBackToTheirOwnPlace finds the place of kept settings by pattern and account, whatever other accounts have appeared since. What the first
// archives only numbered is understood where it can mean one place only.
func TestFilesComeBackToTheirOwnPlace(t *testing.T) {
	keys := func(account string) game.FileGroup {
		return game.FileGroup{Kind: game.SettingsFiles, Pattern: "{documents}/Game/{account}/keys.ini", Account: account, Dir: "/docs/Game/" + account, Glob: "keys.ini"}
	}
	order := game.FileGroup{Kind: game.SettingsFiles, Pattern: "{game}/mods/order.txt", Dir: "/game/mods", Glob: "order.txt", Active: true}
	kept := func(groups ...game.FileGroup) *archive.Snapshot {
		s := &archive.Snapshot{Playthrough: "p", Number: 1}
		for i, g := range groups {
			s.Roots = append(s.Roots, rootOf(g, i+1))
		}
		return s
	}
	first := func(s *archive.Snapshot) *archive.Snapshot { // as the first archives wrote it
		for i := range s.Roots {
			s.Roots[i].Pattern = ""
		}
		return s
	}
	for name, c := range map[string]struct {
		snap *archive.Snapshot
		now  []game.FileGroup
		root int
		want string // a folder; "" is none, "?" is refused
	}{
		"the same":                        {kept(keys("70431"), order), []game.FileGroup{keys("70431"), order}, 0, "/docs/Game/70431"},
		"another account before it":       {kept(keys("70431"), order), []game.FileGroup{keys("10001"), keys("70431"), order}, 0, "/docs/Game/70431"},
		"the load order after it":         {kept(keys("70431"), order), []game.FileGroup{keys("10001"), keys("70431"), order}, 1, "/game/mods"},
		"the account is gone":             {kept(keys("70431"), order), []game.FileGroup{keys("10001"), order}, 0, ""},
		"first archives, the same":        {first(kept(order)), []game.FileGroup{order}, 0, "/game/mods"},
		"first archives, an account more": {first(kept(keys("70431"), order)), []game.FileGroup{keys("10001"), keys("70431"), order}, 1, "?"},
		"first archives, two accounts":    {first(kept(keys("1"), keys("2"))), []game.FileGroup{keys("1"), keys("2")}, 1, "?"},
	} {
		t.Run(name, func(t *testing.T) {
			st := &facts.State{Groups: c.now}
			g, ok, err := groupOf(st, c.snap, c.snap.Roots[c.root])
			if c.want == "?" {
				require.Error(t, err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want != "", ok)
			assert.Equal(t, c.want, g.Dir)
		})
	}
}
