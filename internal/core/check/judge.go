package check

import (
	"fmt"
	"strings"

	"ostrov/internal/core/problem"
	"ostrov/internal/core/version"
)

// Evidence is how something is known, as the handbook lists it.
type Evidence string

// Kinds of evidence, strongest first.
const (
	Written  Evidence = "written"  // the save itself lists it
	Parcel   Evidence = "parcel"   // it came with the save, digests match
	Stated   Evidence = "stated"   // the player said so
	Loaded   Evidence = "loaded"   // the game's log says so
	Seen     Evidence = "seen"     // the save was written while this lay in place
	Descends Evidence = "descends" // the state before is known
	Inferred Evidence = "inferred" // found on disk
	// Referred is that identifiers of a mod occur in the save. It adds to the others: it tells a mod that a save cannot do without from
	// one it merely saw.
	Referred Evidence = "referred"
)

// Strength orders kinds of evidence: the strongest has the highest. No evidence is 0.
func (e Evidence) Strength() int {
	all := []Evidence{Referred, Inferred, Descends, Seen, Loaded, Stated, Parcel, Written}
	for i, one := range all {
		if one == e {
			return i + 1
		}
	}
	return 0
}

// Mod is one mod, needed or had.
type Mod struct {
	ID      string
	Version string // "" where the mod has none
	Title   string // "" where only the id is known
	Digest  string // of its content, with the algorithm's name; "" where not read
	Affects string // nothing, look, content, or "" for unknown
	// Off is set for a mod that is installed and switched off.
	Off bool
	// Base marks the game's own content, which never counts as an extra mod.
	Base bool
	// Doubtful marks a needed mod that may have changed since the save was written.
	Doubtful bool
	// Refs is how often a save refers to the mod, where Counted says that its identifiers are known and were looked for.
	Refs    int
	Counted bool
	// By is how it is known that this one mod is needed, where that is not how the whole list is known.
	By Evidence
}

// Name is what to call the mod before people, with its version.
func (m Mod) Name() string {
	name := m.Title
	if name == "" {
		name = m.ID
	}
	if m.Version != "" {
		name += " " + m.Version
	}
	return name
}

// Needs is what one save needs.
type Needs struct {
	Version         string // "" where unknown
	Build           string // "" where unknown; it tells apart what has the same version
	VersionEvidence Evidence
	Mods            []Mod // in load order where Ordered
	Ordered         bool
	Clean           bool     // it needs a game without mods
	ModsEvidence    Evidence // "" where nothing says which mods it needs
	// VersionChanged and ModsChanged tell why nothing says it: the install's have changed unseen since the save's former state.
	VersionChanged, ModsChanged bool
}

// since adds to what nothing says why that is so.
func since(text string, changed bool, what string) string {
	if changed {
		text += ": " + what + " changed since its former state, and nobody saw which it was written under"
	}
	return text
}

// Have is what one install has.
type Have struct {
	Version string
	Build   string
	Mods    []Mod // in load order where Ordered
	Ordered bool
	// HasMods tells whether the game has mods at all, as far as its description says.
	HasMods bool
	// PerSave tells that each save says which of the installed mods are on: then none is extra and the install has no order.
	PerSave bool
	// Strange is what lies in the install that a clean game does not have, as far as a clean one was recorded.
	Strange []string
}

// Rule says what the game does in one case, as observed.
type Rule struct {
	// Save is a range, or one of newer, older, same relative to the install.
	Relation version.Relation
	Save     version.Range
	Game     version.Range
	// On makes it a rule on a finding instead; Mod and Affects narrow it down.
	On      Code
	Mod     string
	Affects string

	Says   Verdict
	Effect string
	// UnlessMod is a mod that, when it is on, makes the rule not apply.
	UnlessMod string
	Instead   string // what to do to the game rather than to the save
	// ConvertTo is the version that a conversion makes of the save, or "".
	ConvertTo string
}

func (v Verdict) severity() Severity {
	switch v {
	case Unfit:
		return Stop
	case Risky:
		return Risk
	case Unclear:
		return Unknown
	default:
		return Note
	}
}

// Judge compares needs with have under the rules of the game.
func Judge(needs Needs, have Have, rules []Rule, order version.Order) []Finding {
	j := judge{needs, have, rules, order, nil}
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
}

// add notes a finding: the severity of the table, unless a rule on that finding says otherwise, and never a stop on inferred evidence.
func (j *judge) add(f Finding, mod Mod, by Evidence) {
	for _, r := range j.rules {
		if r.On != f.Code || r.Mod != "" && !strings.EqualFold(r.Mod, mod.ID) || r.Affects != "" && r.Affects != mod.Affects || j.passed(r) {
			continue
		}
		f.Severity, f.Effect = r.Says.severity(), r.Effect
		break
	}
	f = weaken(f, by, mod.Doubtful)
	if f.Severity == Stop && mod.Counted && mod.Refs == 0 { // the save merely saw it: nothing of it can be lost
		f.Severity, f.Effect = Risk, ""
	}
	j.found = append(j.found, f)
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

func (j *judge) passed(r Rule) bool {
	if r.UnlessMod == "" {
		return false
	}
	m, ok := find(j.have.Mods, r.UnlessMod)
	return ok && !m.Off
}

func (j *judge) version() {
	save, game := j.needs.Version, j.have.Version
	if save == "" {
		j.found = append(j.found, New(NoRule, "", since("nothing says which version made it", j.needs.VersionChanged, "the game's version")))
		return
	}
	if game == "" {
		j.found = append(j.found, New(NoRule, "", fmt.Sprintf("made with %s; nothing says which version you have", save)))
		return
	}
	rel := j.order.Compare(save, game)
	text := fmt.Sprintf("made with %s, you have %s", save, game)
	if rel == version.Same && j.needs.Build != "" && j.have.Build != "" {
		if rel = (version.Order{}).Compare(j.needs.Build, j.have.Build); rel != version.Same {
			text = fmt.Sprintf("made with build %s of %s, you have build %s", j.needs.Build, save, j.have.Build)
		}
	}
	for _, r := range j.rules {
		if r.On != "" || j.passed(r) || rel == version.Same && r.Relation != version.Same || r.Relation != version.Unknown && r.Relation != rel ||
			!r.Save.Holds(j.order, save) || !r.Game.Holds(j.order, game) {
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

// versionRule notes what a rule about versions says.
func (j *judge) versionRule(r Rule, rel version.Relation, save, text string) {
	code := map[version.Relation]Code{version.Newer: SaveNewer, version.Older: SaveOlder}[rel]
	if code == "" {
		code = VersionDiffers
	}
	f := New(code, "", text)
	f.Severity, f.Effect = r.Says.severity(), r.Effect
	if r.Instead != "" {
		f.Remedy = problem.Advise("%s", r.Instead)
	} else if r.Says != Fit {
		f.Remedy = versionRemedy(rel, save)
	}
	if rel == version.Same && r.Says == Fit {
		return
	}
	j.found = append(j.found, weaken(f, j.needs.VersionEvidence, false))
	if r.ConvertTo != "" {
		c := New(Convertible, "", fmt.Sprintf("a save of %s can be converted to %s", save, r.ConvertTo))
		c.Remedy = problem.Advise("convert it to %s", r.ConvertTo)
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

func (j *judge) mods() {
	if !j.have.HasMods {
		return
	}
	by := j.needs.ModsEvidence
	if by == "" {
		j.add(New(ModsUnknown, "", since("nothing says which mods it was made with", j.needs.ModsChanged, "the mods")), Mod{}, by)
		return
	}
	on := 0
	for _, m := range j.have.Mods {
		if !m.Off && !m.Base {
			on++
		}
	}
	if j.needs.Clean {
		if on > 0 {
			f := New(NeedsCleanGame, "", fmt.Sprintf("needs a clean game, %s", count(on, "mod is on", "mods are on")))
			f.Remedy = problem.Advise("put the mods aside first")
			j.add(f, Mod{}, by)
		}
		for _, name := range j.have.Strange {
			f := New(NeedsCleanGame, name, "is no part of a clean game")
			f.Remedy = problem.Advise("put it aside first")
			j.add(f, Mod{}, by)
		}
		return
	}
	for _, need := range j.needs.Mods {
		j.mod(need, by)
	}
	if j.have.PerSave {
		return
	}
	for _, m := range j.have.Mods {
		if _, needed := find(j.needs.Mods, m.ID); !needed && !m.Off && !m.Base {
			j.add(New(ModExtra, m.Name(), "on here; the save was made without it"), m, by)
		}
	}
	j.loadOrder(by)
}

// known says how it is known that a mod is needed.
func known(need Mod, by Evidence) string {
	how := map[Evidence]string{
		Written: "the save lists it", Parcel: "the parcel lists it", Stated: "you said it needs it", Loaded: "the game loaded it when this was saved",
		Seen: "it lay in place when this was saved, as was seen", Descends: "the state before needed it", Inferred: "it lay in place when this was saved",
	}[by]
	if need.Doubtful {
		how += ", though it may have changed since"
	}
	refers := fmt.Sprintf("refers to it %s", count(need.Refs, "time", "times"))
	switch {
	case by == Referred:
		return "the save " + refers
	case need.Refs > 0 && by == Written:
		return how + " and " + refers
	case need.Refs > 0:
		return how + "; the save " + refers
	case need.Counted:
		return how + ", but nothing of it is in the save"
	}
	return how
}

func (j *judge) mod(need Mod, by Evidence) {
	if need.By != "" {
		by = need.By
	}
	how := known(need, by)
	has, ok := find(j.have.Mods, need.ID)
	if !ok {
		f := New(ModMissing, need.Name(), how)
		f.Remedy = problem.Advise("install %s", need.Name())
		j.add(f, need, by)
		return
	}
	if need.Title == "" {
		need.Title = has.Title
	}
	need.Affects = has.Affects
	switch {
	case has.Base && by == Referred: // the game's own content is always on
	case j.have.PerSave && by == Referred:
		f := New(ModOff, need.Name(), "installed, but this save has it switched off; "+how)
		f.Remedy = problem.Advise("switch %s on for this save", need.Name())
		j.add(f, need, by)
	case has.Off:
		f := New(ModOff, need.Name(), "installed but switched off; "+how)
		f.Remedy = problem.Advise("switch %s on", need.Name())
		j.add(f, need, by)
	case need.Version != "" && has.Version != "" && j.order.Compare(need.Version, has.Version) != version.Same:
		title := need
		title.Version = ""
		f := New(ModDiffers, title.Name(), fmt.Sprintf("saved with %s, you have %s", need.Version, has.Version))
		f.Remedy = problem.Advise("install %s", need.Name())
		j.add(f, need, by)
	case need.Digest != "" && has.Digest != "" && need.Digest != has.Digest:
		j.add(New(ModAltered, need.Name(), "not the same content as when this was saved"), need, by)
	}
}

// loadOrder compares the order of the mods that both have.
func (j *judge) loadOrder(by Evidence) {
	if !j.needs.Ordered || !j.have.Ordered {
		return
	}
	place := map[string]int{}
	for i, m := range j.have.Mods {
		if !m.Off {
			place[strings.ToLower(m.ID)] = i + 1
		}
	}
	last, lastMod := 0, Mod{}
	for _, need := range j.needs.Mods {
		at := place[strings.ToLower(need.ID)]
		if at == 0 || need.By == Referred { // what a save refers to has no place in its order
			continue
		}
		if at < last {
			j.add(New(OrderDiffers, "", fmt.Sprintf("%s was loaded before %s, here it comes after", lastMod.Name(), need.Name())), need, by)
			return
		}
		last, lastMod = at, need
	}
}

// find looks a mod up by id, which players and games spell in either case.
func find(mods []Mod, id string) (Mod, bool) {
	for _, m := range mods {
		if strings.EqualFold(m.ID, id) {
			return m, true
		}
	}
	return Mod{}, false
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
