package game

import (
	"reflect"
	"strings"

	"ostrov/internal/core/field"
	"ostrov/internal/core/strict"
)

// References are all places in which identifiers of mods are looked for.
type References []Reference

// FromTOML reads one table or a list of tables.
func (r *References) FromTOML(d *strict.Decoder, path string, value any) {
	field.OneOrMany(d, path, value, (*[]Reference)(r))
}

// AddsList are all ways in which a mod's identifiers are known.
type AddsList []Adds

// FromTOML reads one table or a list of tables.
func (a *AddsList) FromTOML(d *strict.Decoder, path string, value any) {
	field.OneOrMany(d, path, value, (*[]Adds)(a))
}

// BesideList are all groups of files that mods of a kind have outside their own folders.
type BesideList []Beside

// FromTOML reads one table or a list of tables.
func (b *BesideList) FromTOML(d *strict.Decoder, path string, value any) {
	field.OneOrMany(d, path, value, (*[]Beside)(b))
}

// Companions are files that lie beside a save and belong to it.
type Companions struct {
	Files []string `toml:"files" jsonschema:"description=* stands for the save's name without the ending"`
	// Need tells that the game does not load a save without them; it does unless the description says otherwise.
	Need *bool `toml:"need" jsonschema:"description=false: the game loads the save without them, too"`
}

// FromTOML reads a list of files, or a table.
func (c *Companions) FromTOML(d *strict.Decoder, path string, value any) {
	if _, list := value.([]any); list {
		d.Value(path, value, reflect.ValueOf(&c.Files).Elem())
		return
	}
	type table Companions
	d.Value(path, value, reflect.ValueOf((*table)(c)).Elem())
}

// Needed reports whether the game does not load a save without them.
func (c Companions) Needed() bool { return c.Need == nil || *c.Need }

// decodeSlot reads a slot number or letter as a number.
func decodeSlot(value any) (n int, letter, ok bool) {
	switch v := value.(type) {
	case int64:
		return int(v), false, v >= 0 && v < 1e6
	case string:
		v = strings.ToLower(v)
		if len(v) == 1 && v[0] >= 'a' && v[0] <= 'z' {
			return int(v[0] - 'a'), true, true
		}
	}
	return 0, false, false
}
