package check

import (
	"slices"
	"strings"

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
	// Kind is the id and the title of the kinds of mod that it is, or, of one that is not there, that it may be.
	Kind []string
	// Also are further ids: what an installed mod provides, and what it was called before.
	Also []string
	// Of is, of a needed one, the kind that it is where the save lists only mods of that kind, or "".
	Of string
	// Range is the range of versions that is needed, where the save says one.
	Range version.Range
	// OwnDigest is the game's own digest of the mod, in lower case; saves may name mods by it.
	OwnDigest string
	// In is the folder that an installed mod lies in; of a needed one, the folder that it is to be loaded from, or "".
	In string
	// Hidden tells that the game uses another mod of the same id, unless a save says which of the two it loads.
	Hidden bool
	// Twice is where another mod of the same id lies, where the game does not start with both; else "".
	Twice string
	// Edited says how it is known that an installed mod is not what the save was made with, though its version is; "" where it is not.
	Edited string
}

// is reports whether an installed mod goes by an id.
func (m Mod) is(id string) bool {
	return strings.EqualFold(m.ID, id) || slices.ContainsFunc(m.Also, func(also string) bool { return strings.EqualFold(also, id) })
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
	// Unmapped is the version as the save has it, where the description does not say what that means; then Version is "".
	Unmapped     string
	Format       string            // of the save's own, or ""
	Fields       map[string]string // of the save, for rules
	Mods         []Mod             // in load order where Ordered
	Ordered      bool
	Clean        bool     // it needs a game without mods
	ModsEvidence Evidence // "" where nothing says which mods it needs
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
	// Called is how commands name the install, for remedies; it may be "".
	Called  string
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
	// BuildRelation and Build say the same of builds, Format of the save's format, FieldIs and FieldRange of its field Field.
	BuildRelation version.Relation
	Build         version.Range
	Format        version.Range
	Field         string
	FieldIs       string
	FieldRange    version.Range
	// On makes it a rule on a finding instead; the next four narrow it down. Mod is an id or a glob.
	On      Code
	Mod     string
	Kind    string
	Affects string
	Is      string // older, newer or edited

	Says   Verdict
	Effect string
	// UnlessMod is a mod that, when it is on, makes the rule not apply.
	UnlessMod string
	Instead   string // what to do to the game rather than to the save
	// ConvertTo is the version that a conversion makes of the save, or "".
	ConvertTo string
	// CanConvert tells that the description says how, so that Ostrov can do it.
	CanConvert bool
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
