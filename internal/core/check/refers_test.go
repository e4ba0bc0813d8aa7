package check

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"ostrov/internal/core/version"
)

// TestWhatASaveRefersTo judges missing mods by whether anything of them is in the save.
func TestWhatASaveRefersTo(t *testing.T) {
	have := Have{Version: "1", HasMods: true, Mods: []Mod{{ID: "here"}, {ID: "base", Base: true}}}
	for _, c := range []struct {
		about    string
		need     Mod
		have     func(*Have)
		by       Evidence
		code     Code
		severity Severity
		says     string
	}{
		{"needed", Mod{ID: "gone", Counted: true, Refs: 214}, nil, Written, ModMissing, Stop, "the save lists it and refers to it 214 times"},
		{"merely seen", Mod{ID: "gone", Counted: true}, nil, Written, ModMissing, Risk, "but nothing of it is in the save"},
		{"not counted", Mod{ID: "gone"}, nil, Written, ModMissing, Stop, "the save lists it"},
		{"by its things alone", Mod{ID: "gone", Counted: true, Refs: 1, By: Referred}, nil, Written, ModMissing, Stop, "the save refers to it 1 time"},
		{"by the log", Mod{ID: "gone"}, nil, Loaded, ModMissing, Stop, "the game loaded it when this was saved"},
		{"seen", Mod{ID: "gone"}, nil, Seen, ModMissing, Stop, "it lay in place when this was saved, as was seen"},
		{"by a parcel", Mod{ID: "gone"}, nil, Parcel, ModMissing, Stop, "the parcel lists it"},
		{"inferred", Mod{ID: "gone"}, nil, Inferred, ModMissing, Risk, "it lay in place"},
		{"inferred, and perhaps changed since", Mod{ID: "gone", Doubtful: true}, nil, Inferred, ModMissing, Unknown, "it may have changed since"},
		{"inferred and referred to", Mod{ID: "gone", Counted: true, Refs: 3}, nil, Inferred, ModMissing, Stop, "the save refers to it 3 times"},
		{"perhaps changed since, and referred to", Mod{ID: "gone", Doubtful: true, Counted: true, Refs: 1}, nil, Inferred, ModMissing, Stop, "the save refers to it 1 time"},
		{"switched off for the save", Mod{ID: "here", Counted: true, Refs: 2, By: Referred}, func(h *Have) { h.PerSave = true }, Written, ModOff, Stop, "this save has it switched off"},
	} {
		h := have
		if c.have != nil {
			c.have(&h)
		}
		found := Judge(Needs{Version: "1", Mods: []Mod{c.need, {ID: "here"}}, ModsEvidence: c.by}, h, nil, version.Order{})
		if assert.NotEmpty(t, found, c.about) {
			assert.Equal(t, c.code, found[0].Code, c.about)
			assert.Equal(t, c.severity, found[0].Severity, c.about)
			assert.Contains(t, found[0].Evidence, c.says, c.about)
		}
	}
	assert.Empty(t, Judge(Needs{Version: "1", Mods: []Mod{{ID: "base", Refs: 9, Counted: true, By: Referred}, {ID: "here"}}, ModsEvidence: Written}, have, nil, version.Order{}),
		"the game's own content is always there")
	ordered := have
	ordered.Ordered = true
	ordered.Mods = []Mod{{ID: "b"}, {ID: "a"}}
	found := Judge(Needs{Version: "1", Ordered: true, Mods: []Mod{{ID: "a"}, {ID: "b", Counted: true, Refs: 1, By: Referred}}, ModsEvidence: Written}, ordered, nil, version.Order{})
	assert.Empty(t, found, "what is only referred to has no place in the order")
}

func TestBuildsAndConversions(t *testing.T) {
	needs := func(v, build string) Needs {
		return Needs{Version: v, Build: build, VersionEvidence: Written, ModsEvidence: Written}
	}
	rules := []Rule{
		{Relation: version.Newer, Says: Unfit, Effect: "not listed"},
		{Relation: version.Older, Says: Unfit, Effect: "stops", ConvertTo: "3.0"},
		{Relation: version.Same, Game: mustRange(t, "= 9"), Says: Risky, Effect: "odd"},
	}
	codes := func(n Needs, have string) (all []Code) {
		for _, f := range Judge(n, Have{Version: have, Build: "3120"}, rules, version.Order{}) {
			all = append(all, f.Code)
		}
		return all
	}
	assert.Empty(t, codes(needs("3.1", "3120"), "3.1"))
	assert.Equal(t, []Code{SaveNewer}, codes(needs("3.1", "3121"), "3.1"), "of the same version a newer build")
	assert.Equal(t, []Code{SaveOlder, Convertible}, codes(needs("2.9", ""), "3.1"))
	assert.Empty(t, codes(needs("3.1", ""), "3.1"), "an unknown build says nothing")
	assert.Equal(t, []Code{VersionDiffers}, codes(needs("9", ""), "9"), "a rule on the same version")
	spring := []Rule{{Save: mustRange(t, "spring"), Game: mustRange(t, "harvest"), Says: Risky, Effect: "buds"}}
	found := Judge(needs("spring", ""), Have{Version: "harvest"}, spring, version.Order{})
	assert.Equal(t, VersionDiffers, found[0].Code, "versions that do not sort")
	clean := Judge(Needs{Version: "1", Clean: true, ModsEvidence: Stated}, Have{Version: "1", HasMods: true, Strange: []string{"x.dll"}}, nil, version.Order{})
	assert.Equal(t, NeedsCleanGame, clean[0].Code)
	assert.Equal(t, "x.dll", clean[0].Subject)
}

func mustRange(t *testing.T, s string) version.Range {
	r, err := version.ParseRange(s)
	assert.NoError(t, err)
	return r
}
