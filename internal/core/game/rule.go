package game

import "strings"

// Rule is one [[rule]].
type Rule struct {
	Save    string   `toml:"save" jsonschema:"description=a range of versions or newer or older or same"`
	Game    string   `toml:"game" jsonschema:"description=a range of versions"`
	On      string   `toml:"on" jsonschema:"description=a finding"`
	Mod     string   `toml:"mod" jsonschema:"description=the id of a mod or a glob"`
	Kind    string   `toml:"kind" jsonschema:"description=the id of a kind of mod"`
	Is      string   `toml:"is" jsonschema:"enum=older,enum=newer,enum=edited,description=on mod-differs: how it differs"`
	Affects string   `toml:"affects" jsonschema:"enum=nothing,enum=look,enum=content"`
	Format  string   `toml:"format" jsonschema:"description=a range of the save's field format"`
	Build   string   `toml:"build" jsonschema:"description=a range of the save's field build; or newer or older or same"`
	Field   *FieldIs `toml:"field" jsonschema:"description=a field of the save and what it is"`
	Says    string   `toml:"says" jsonschema:"required,enum=fit,enum=risky,enum=unfit"`
	Effect  string   `toml:"effect" jsonschema:"description=what the game does, observed"`
	Edition string   `toml:"edition"`
	If      *Cond    `toml:"if"`
	Convert string   `toml:"convert" jsonschema:"description=a [[convert]] that helps"`
	Unless  *Unless  `toml:"unless"`
	Instead string   `toml:"instead" jsonschema:"description=what to do to the game rather than to the save"`
}

// Words are what a rule is about, for people.
func (r *Rule) Words() string {
	var parts []string
	for _, p := range [][2]string{{"save", r.Save}, {"format", r.Format}, {"build", r.Build}, {"game", r.Game}, {"on", r.On}, {"mod", r.Mod}, {"kind", r.Kind}, {"affects", r.Affects}, {"is", r.Is}} {
		if p[1] != "" {
			parts = append(parts, p[0]+" "+p[1])
		}
	}
	if r.Field != nil {
		parts = append(parts, r.Field.ID+" "+r.Field.Is)
	}
	return strings.Join(parts, ", ") + ": " + r.Says
}

// FieldIs compares a field of a save.
type FieldIs struct {
	ID string `toml:"id" jsonschema:"required"`
	Is string `toml:"is" jsonschema:"required,description=a text; or a range"`
}

// Unless makes a rule not apply.
type Unless struct {
	Mod string `toml:"mod" jsonschema:"required"`
}
