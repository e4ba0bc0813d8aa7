package check

import (
	"fmt"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/problem"
	"ostrov/internal/core/version"
)

// Judge compares needs with have under the rules of the game.
func Judge(needs Needs, have Have, rules []Rule, order version.Order) []Finding {
	j := judge{needs: needs, have: have, rules: rules, order: order}
	j.version()
	j.mods()
	Sort(j.found)
	return j.found
}

type judge struct {
	needs Needs
	have  Have
	rules []Rule
	order version.Order
	found []Finding
	how   string // how a mod differs: older, newer or edited
}

// add notes a finding: the severity of the table, unless a rule on that finding says otherwise, and never a stop on inferred evidence.
func (j *judge) add(f Finding, mod Mod, by Evidence) {
	f, named := ruled(f, mod, j.rules, j.have.Mods, j.how)
	if mod.Refs > 0 && (f.Code == ModMissing || f.Code == ModOff) { // what a save refers to it needs, however uncertain it is that it lay there
		by, mod.Doubtful = Referred, false
	}
	f = weaken(f, by, mod.Doubtful)
	if f.Severity == Stop && mod.Counted && mod.Refs == 0 && !named && merelySeen[f.Code] { // the save merely saw it: nothing of it can be lost
		f.Severity, f.Effect = Risk, ""
	}
	j.found = append(j.found, f)
}

// Ruled is a finding about a mod as the game's rules have it: the severity of the table, unless one says otherwise. have are the mods that are
// installed.
func Ruled(f Finding, about Mod, rules []Rule, have []Mod) Finding {
	f, _ = ruled(f, about, rules, have, "")
	return f
}

// ruled also reports whether the rule names the mod.
func ruled(f Finding, about Mod, rules []Rule, have []Mod, how string) (_ Finding, named bool) {
	for _, r := range rules {
		if r.on(f.Code, about, how) && !r.passed(have) {
			f.Severity, f.Effect = r.Says.severity(), r.Effect
			return f, r.Mod != ""
		}
	}
	return f, false
}

// merelySeen are the findings that cost a save nothing that has nothing of the mod in it.
var merelySeen = map[Code]bool{ModMissing: true, ModOff: true, ModDiffers: true, ModAltered: true}

// on reports whether a rule is on a finding about a mod, which differs as how says.
func (r Rule) on(code Code, mod Mod, how string) bool {
	edited := r.On == ModDiffers && code == ModAltered && (r.Is == "edited" || r.Is == "")
	if r.On != code && !edited || r.Is != "" && r.Is != how {
		return false
	}
	if r.Mod != "" && !strings.EqualFold(r.Mod, mod.ID) && !doublestar.MatchUnvalidated(strings.ToLower(r.Mod), strings.ToLower(mod.ID)) {
		return false
	}
	return (r.Affects == "" || r.Affects == mod.Affects) && (r.Kind == "" || slices.Contains(mod.Kind, r.Kind))
}

// weaken keeps evidence that is never certain from stopping anything.
func weaken(f Finding, by Evidence, doubtful bool) Finding {
	if f.Severity == Stop && by == Inferred {
		f.Severity = Risk
		if doubtful {
			f.Severity = Unknown
		}
	}
	return f
}

// passed reports whether a mod that is on makes the rule not apply.
func (r Rule) passed(have []Mod) bool {
	if r.UnlessMod == "" {
		return false
	}
	m, ok := find(have, r.UnlessMod)
	return ok && !m.Off
}

func (j *judge) version() {
	save, game := j.needs.Version, j.have.Version
	if save == "" {
		text := since("nothing says which version made it", j.needs.VersionChanged, "the game's version")
		if j.needs.Unmapped != "" {
			text = fmt.Sprintf("it says version %s, and the description does not say which that is", j.needs.Unmapped)
		}
		j.found = append(j.found, New(NoRule, "", text))
		return
	}
	made := "made with " + save
	if j.needs.Format != "" {
		made += ", format " + j.needs.Format
	}
	if game == "" {
		j.found = append(j.found, New(NoRule, "", made+"; nothing says which version you have"))
		return
	}
	rel := j.order.Compare(save, game)
	text := fmt.Sprintf("%s, you have %s", made, game)
	build := version.Unknown
	if j.needs.Build != "" && j.have.Build != "" {
		if build = (version.Order{}).Compare(j.needs.Build, j.have.Build); rel == version.Same && build != version.Same {
			rel = build
			text = fmt.Sprintf("made with build %s of %s, you have build %s", j.needs.Build, save, j.have.Build)
		}
	}
	for _, r := range j.rules {
		if r.On != "" || r.passed(j.have.Mods) || !r.aboutVersions(j, rel, build) {
			continue
		}
		j.versionRule(r, rel, save, text)
		return
	}
	if rel == version.Same {
		return
	}
	f := New(NoRule, "", text+": no rule says what happens")
	f.Remedy = versionRemedy(rel, save)
	j.found = append(j.found, f)
}

// CanMeet reports whether a rule about versions can match a save that says this of itself, in some install.
func (r Rule) CanMeet(needs Needs, order version.Order) bool {
	if r.On != "" {
		return false
	}
	j := &judge{needs: needs, order: order}
	any := r
	any.Relation, any.BuildRelation, any.Game = version.Unknown, version.Unknown, version.Range{}
	return needs.Version != "" && any.aboutVersions(j, version.Unknown, version.Unknown)
}

// inside reports whether a rule is about more than the version.
func (r Rule) inside() bool {
	return !r.Format.IsAny() || !r.Build.IsAny() || r.BuildRelation != version.Unknown || r.Field != ""
}

// aboutVersions reports whether a rule about versions matches; rel and build are how those of the save stand to the install's.
func (r Rule) aboutVersions(j *judge, rel, build version.Relation) bool {
	if rel == version.Same && r.Relation != version.Same && !r.inside() {
		return false
	}
	if r.Relation != version.Unknown && r.Relation != rel || r.BuildRelation != version.Unknown && r.BuildRelation != build {
		return false
	}
	if !r.Save.Holds(j.order, j.needs.Version) || !r.Game.Holds(j.order, j.have.Version) {
		return false
	}
	if !r.Format.Holds(version.Order{}, j.needs.Format) || !r.Build.Holds(version.Order{}, j.needs.Build) {
		return false
	}
	if r.Field == "" {
		return true
	}
	value, ok := j.needs.Fields[r.Field]
	return ok && (value == r.FieldIs || !r.FieldRange.IsAny() && r.FieldRange.Holds(version.Order{}, value))
}

// versionRule notes what a rule about versions says.
func (j *judge) versionRule(r Rule, rel version.Relation, save, text string) {
	code := map[version.Relation]Code{version.Newer: SaveNewer, version.Older: SaveOlder}[rel]
	switch {
	case code == "" && rel == version.Same && r.inside():
		code = FormatDiffers
		if r.Field != "" {
			text += fmt.Sprintf("; %s is %s", r.Field, j.needs.Fields[r.Field])
		}
	case code == "":
		code = VersionDiffers
	}
	f := New(code, "", text)
	f.Severity, f.Effect = r.Says.severity(), r.Effect
	if r.Instead != "" {
		f.Remedy = problem.Advise("%s", r.Instead)
	} else if r.Says != Fit {
		f.Remedy = versionRemedy(rel, save)
	}
	if r.CanConvert && r.Says != Fit {
		f.Remedy = problem.Do("convert", "FILE").With("to", r.ConvertTo).Or(f.Remedy)
	}
	if rel == version.Same && r.Says == Fit {
		return
	}
	j.found = append(j.found, weaken(f, j.needs.VersionEvidence, false))
	if r.ConvertTo != "" {
		c := New(Convertible, "", fmt.Sprintf("a save of %s can be converted to %s", save, r.ConvertTo))
		if c.Remedy = problem.Advise("convert it to %s", r.ConvertTo); r.CanConvert {
			c.Remedy = problem.Do("convert", "FILE").With("to", r.ConvertTo)
		}
		j.found = append(j.found, c)
	}
}

func versionRemedy(rel version.Relation, save string) problem.Hints {
	switch rel {
	case version.Newer:
		return problem.Advise("update the game to %s", save)
	case version.Older:
		return problem.Advise("keep a snapshot before you load it")
	}
	return problem.Advise("try it on a copy")
}
