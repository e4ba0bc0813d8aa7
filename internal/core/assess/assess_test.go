package assess_test

import (
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/coretest"
)

// verdicts are those of an install's saves, by what the save is called.
func verdicts(a *assess.Install) map[string]check.Verdict {
	all := map[string]check.Verdict{}
	for _, s := range a.Saves {
		all[s.Save.Called()] = s.Verdict
	}
	return all
}

func TestVerdictsOfTheDemo(t *testing.T) {
	w := coretest.New(t)
	assert.Equal(t, map[string]check.Verdict{
		"slot 1": check.Fit, "slot 2": check.Fit, "slot 3": check.Fit, "slot 4": check.Risky, "slot 5": check.Unfit, "slot 7": check.Unfit, "slot 9": check.Fit,
	}, verdicts(assess.Of(w.See("tidewrack"))))
}

// TestJudgingIsPure judges the same facts twice.
func TestJudgingIsPure(t *testing.T) {
	w := coretest.New(t)
	for _, game := range []string{"tidewrack", "brass-orchard", "night-tram"} {
		st := w.See(game)
		before := coretest.State(t, w.Root)
		first, second := assess.Of(st), assess.Of(st)
		assert.Equal(t, verdicts(first), verdicts(second))
		assert.Equal(t, first.Findings, second.Findings)
		assert.Equal(t, before, coretest.State(t, w.Root), "it touches nothing")
	}
}

// TestWhatIsNotReadIsNotFit damages, hides and empties what a verdict rests on, one at a time.
func TestWhatIsNotReadIsNotFit(t *testing.T) {
	for name, spoil := range map[string]func(w *coretest.World) error{
		"the save is cut":   func(w *coretest.World) error { return os.Truncate(w.Voyages("slot_00", "voyage.json.gz"), 40) },
		"the save is empty": func(w *coretest.World) error { return os.Truncate(w.Voyages("slot_00", "voyage.json.gz"), 0) },
		"the save is no save": func(w *coretest.World) error {
			return os.WriteFile(w.Voyages("slot_00", "voyage.json.gz"), []byte("{}"), 0o644)
		},
		"its file is a folder": func(w *coretest.World) error { return swapForFolder(w.Voyages("slot_00", "voyage.json.gz")) },
		"no list of mods":      func(w *coretest.World) error { return swapForFolder(w.Path("games", "Tidewrack", "mods", "order.txt")) },
		"no mods at all":       func(w *coretest.World) error { return os.RemoveAll(w.Path("games", "Tidewrack", "mods")) },
		"a mod is gone":        func(w *coretest.World) error { return os.RemoveAll(w.Path("games", "Tidewrack", "mods", "deep-tides")) },
		"a mod says nothing": func(w *coretest.World) error {
			return os.Truncate(w.Path("games", "Tidewrack", "mods", "deep-tides", "mod.json"), 0)
		},
		"the version is hidden": func(w *coretest.World) error { return emptyVersion(w) },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			w := coretest.New(t)
			require.Equal(t, check.Fit, verdicts(assess.Of(w.See("tidewrack")))["slot 1"])
			require.NoError(t, spoil(w))
			w.Again()
			a := assess.Of(w.See("tidewrack"))
			verdict, there := verdicts(a)["slot 1"]
			assert.True(t, there, "it is named")
			assert.NotEqual(t, check.Fit, verdict)
			for _, s := range a.Saves {
				if s.Save.Called() == "slot 1" {
					assert.NotEmpty(t, s.Findings, "with a reason")
				}
			}
		})
	}
}

func swapForFolder(path string) error {
	if err := os.Remove(path); err != nil {
		return err
	}
	return os.Mkdir(path, 0o755)
}

// emptyVersion takes away what says which version of the game is installed.
func emptyVersion(w *coretest.World) error {
	return filepath.WalkDir(w.Path("games", "Tidewrack"), func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() || filepath.Dir(path) != w.Path("games", "Tidewrack") {
			return err
		}
		if ext := filepath.Ext(path); ext == ".json" || ext == ".txt" || ext == ".ini" || ext == ".toml" {
			return os.Truncate(path, 0)
		}
		return nil
	})
}

// TestSupposing asks how it would be without a mod, and with another version: nothing is changed by asking, and dropping what a save needs never makes it better.
func TestSupposing(t *testing.T) {
	w := coretest.New(t)
	st := w.See("tidewrack")
	now := assess.Of(st)
	order := []check.Verdict{check.Fit, check.Risky, check.Unclear, check.Unfit}
	rank := func(v check.Verdict) int { return slices.Index(order, v) }
	for _, m := range st.Mods.Mods {
		if !slices.Contains([]string{"deep-tides", "rope-and-tar", "kelp-farms"}, m.ID) {
			continue
		}
		supposed := assess.Suppose(now, []assess.Change{{Words: "without " + m.Name(), Drop: m}})
		for i, s := range supposed.Then.Saves {
			if s.Called() == "slot 1" {
				assert.Greater(t, rank(s.Verdict), rank(now.Saves[i].Verdict), "%s without %s", s.Called(), m.ID)
			}
		}
	}
	supposed := assess.Suppose(now, []assess.Change{{Words: "nothing", Version: st.Version}})
	for i, s := range supposed.Then.Saves {
		assert.Equal(t, now.Saves[i].Verdict, s.Verdict, s.Called())
	}
	unsafe := []check.Finding{check.New(check.Dangerous, "", "it holds a program")}
	bridging := *st.Mods.Mods[0]
	bridging.ID, bridging.Version, bridging.On = "tar-works", "1.0.0", true
	better := assess.Suppose(now, []assess.Change{{Words: "with tar-works", Add: &bridging}})
	supposed = assess.Suppose(now, []assess.Change{{Words: "with a program", Add: &bridging, Unsafe: unsafe}})
	rose := 0
	for i, s := range supposed.Then.Saves {
		if rank(better.Then.Saves[i].Verdict) < rank(now.Saves[i].Verdict) {
			rose++
		}
		assert.GreaterOrEqual(t, rank(s.Verdict), rank(now.Saves[i].Verdict), "what is dangerous makes nothing better")
	}
	assert.Positive(t, rose, "what is missing would have helped")
	assert.Equal(t, verdicts(now), verdicts(assess.Of(st)), "asking changed nothing")
}
