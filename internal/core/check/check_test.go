package check

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/version"
)

func rangeOf(t *testing.T, s string) version.Range {
	r, err := version.ParseRange(s)
	require.NoError(t, err)
	return r
}

func TestJudgeVersions(t *testing.T) {
	rules := []Rule{
		{Save: rangeOf(t, "< 1.2"), Game: rangeOf(t, ">= 1.5"), Says: Unfit, Effect: "stops", UnlessMod: "bridge"},
		{Relation: version.Newer, Says: Unfit, Effect: "starts anew"},
		{Save: rangeOf(t, ">= 1.2"), Relation: version.Older, Says: Fit},
	}
	for name, c := range map[string]struct {
		needs    Needs
		mods     []Mod
		code     Code
		severity Severity
		verdict  Verdict
	}{
		"same":                       {needs: Needs{Version: "1.6", VersionEvidence: Written}, verdict: Fit},
		"newer stops":                {Needs{Version: "1.7", VersionEvidence: Written}, nil, SaveNewer, Stop, Unfit},
		"newer, inferred only":       {Needs{Version: "1.7", VersionEvidence: Inferred}, nil, SaveNewer, Risk, Risky},
		"older is said to fit":       {Needs{Version: "1.4", VersionEvidence: Written}, nil, SaveOlder, Note, Fit},
		"much older":                 {Needs{Version: "1.1", VersionEvidence: Written}, nil, SaveOlder, Stop, Unfit},
		"much older, bridged":        {Needs{Version: "1.1", VersionEvidence: Written}, []Mod{{ID: "Bridge"}}, NoRule, Unknown, Unclear},
		"bridge is there but is off": {Needs{Version: "1.1", VersionEvidence: Written}, []Mod{{ID: "bridge", Off: true}}, SaveOlder, Stop, Unfit},
		"no version":                 {Needs{}, nil, NoRule, Unknown, Unclear},
		"unsortable":                 {Needs{Version: "winter", VersionEvidence: Written}, nil, NoRule, Unknown, Unclear},
	} {
		t.Run(name, func(t *testing.T) {
			found := Judge(c.needs, Have{Version: "1.6", Mods: c.mods}, rules, version.Order{})
			assert.Equal(t, c.verdict, Sum(found))
			if c.code == "" {
				assert.Empty(t, found)
				return
			}
			require.Len(t, found, 1)
			assert.Equal(t, c.code, found[0].Code)
			assert.Equal(t, c.severity, found[0].Severity)
		})
	}
}

func TestJudgeMods(t *testing.T) {
	have := Have{Version: "1", HasMods: true, Ordered: true, Mods: []Mod{
		{ID: "core", Version: "2", Base: true}, {ID: "rope", Version: "0.9.0", Title: "Rope & Tar", Digest: "blake3:aa"},
		{ID: "deep", Version: "2.1"}, {ID: "paint", Version: "1", Affects: "look", Off: true}, {ID: "extra"},
	}}
	rules := []Rule{
		{On: ModMissing, Mod: "hats", Says: Fit, Effect: "no hats"},
		{On: ModOff, Affects: "look", Says: Risky, Effect: "plain bark"},
	}
	type found struct {
		code     Code
		severity Severity
		subject  string
	}
	for name, c := range map[string]struct {
		needs Needs
		want  []found
	}{
		"all there":      {Needs{Mods: []Mod{{ID: "rope"}, {ID: "deep"}, {ID: "extra"}}, ModsEvidence: Written}, nil},
		"one missing":    {Needs{Mods: []Mod{{ID: "rope"}, {ID: "deep"}, {ID: "extra"}, {ID: "Kelp", Version: "3"}}, ModsEvidence: Written}, []found{{ModMissing, Stop, "Kelp 3"}}},
		"missing, seems": {Needs{Mods: []Mod{{ID: "rope"}, {ID: "deep"}, {ID: "extra"}, {ID: "kelp"}}, ModsEvidence: Inferred}, []found{{ModMissing, Risk, "kelp"}}},
		"doubtful":       {Needs{Mods: []Mod{{ID: "rope"}, {ID: "deep"}, {ID: "extra"}, {ID: "kelp", Doubtful: true}}, ModsEvidence: Inferred}, []found{{ModMissing, Unknown, "kelp"}}},
		"forgiven":       {Needs{Mods: []Mod{{ID: "rope"}, {ID: "deep"}, {ID: "extra"}, {ID: "hats"}}, ModsEvidence: Written}, []found{{ModMissing, Note, "hats"}}},
		"off":            {Needs{Mods: []Mod{{ID: "rope"}, {ID: "deep"}, {ID: "extra"}, {ID: "paint"}}, ModsEvidence: Written}, []found{{ModOff, Risk, "paint"}}},
		"other version":  {Needs{Mods: []Mod{{ID: "rope", Version: "0.9.2"}, {ID: "deep"}, {ID: "extra"}}, ModsEvidence: Written}, []found{{ModDiffers, Risk, "Rope & Tar"}}},
		"altered":        {Needs{Mods: []Mod{{ID: "rope", Version: "0.9.0", Digest: "blake3:bb"}, {ID: "deep"}, {ID: "extra"}}, ModsEvidence: Written}, []found{{ModAltered, Risk, "Rope & Tar 0.9.0"}}},
		"extra":          {Needs{Mods: []Mod{{ID: "rope"}, {ID: "deep"}}, ModsEvidence: Written}, []found{{ModExtra, Note, "extra"}}},
		"other order":    {Needs{Mods: []Mod{{ID: "deep"}, {ID: "rope"}, {ID: "extra"}}, ModsEvidence: Written, Ordered: true}, []found{{OrderDiffers, Risk, ""}}},
		"clean":          {Needs{Clean: true, ModsEvidence: Stated}, []found{{NeedsCleanGame, Stop, ""}}},
		"unknown":        {Needs{}, []found{{ModsUnknown, Unknown, ""}}},
	} {
		t.Run(name, func(t *testing.T) {
			c.needs.Version = "1"
			var got []found
			for _, f := range Judge(c.needs, have, rules, version.Order{}) {
				got = append(got, found{f.Code, f.Severity, f.Subject})
			}
			assert.Equal(t, c.want, got)
		})
	}
}

func TestSumAndSort(t *testing.T) {
	note, risk, unknown, stop := New(Litter, "", ""), New(ModDiffers, "", ""), New(ModsUnknown, "", ""), New(Damaged, "", "")
	assert.Equal(t, Fit, Sum(nil))
	assert.Equal(t, Fit, Sum([]Finding{note}))
	assert.Equal(t, Risky, Sum([]Finding{note, risk}))
	assert.Equal(t, Unclear, Sum([]Finding{risk, unknown}))
	assert.Equal(t, Unfit, Sum([]Finding{unknown, stop}))
	assert.True(t, Worse(Unfit, Unclear))
	assert.False(t, Worse(Fit, Fit))
	all := []Finding{note, risk, unknown, stop}
	Sort(all)
	assert.Equal(t, []Finding{stop, unknown, risk, note}, all)
	assert.True(t, IsDangerous([]Finding{note, New(Dangerous, "", "")}))
	assert.False(t, IsDangerous(all))
}

func TestEveryCodeIsExplained(t *testing.T) {
	for _, info := range Codes() {
		assert.True(t, Known(info.Code))
		for _, text := range []string{info.Meaning, info.Effect, info.Remedy, info.Example} {
			assert.NotEmpty(t, text, info.Code)
		}
	}
	assert.Greater(t, Written.Strength(), Inferred.Strength())
	assert.Zero(t, Evidence("").Strength())
}
