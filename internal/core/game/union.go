package game

import (
	"reflect"
	"strings"

	"ostrov/internal/core/form"
	"ostrov/internal/core/strict"
)

// Strings is one text or a list of them.
type Strings []string

// FromTOML reads either shape.
func (s *Strings) FromTOML(d *strict.Decoder, path string, value any) {
	if one, ok := value.(string); ok {
		*s = Strings{one}
		return
	}
	var many []string
	d.Value(path, value, reflect.ValueOf(&many).Elem())
	*s = many
}

// Fields are alternatives, of which the first that has a value counts.
type Fields []Field

// FromTOML reads one table or a list of tables.
func (f *Fields) FromTOML(d *strict.Decoder, path string, value any) {
	oneOrMany[Field](d, path, value, (*[]Field)(f))
}

// Lists are lists of which all are read, one after the other.
type Lists []List

// FromTOML reads one table or a list of tables.
func (l *Lists) FromTOML(d *strict.Decoder, path string, value any) {
	oneOrMany[List](d, path, value, (*[]List)(l))
}

// References are all places in which identifiers of mods are looked for.
type References []Reference

// FromTOML reads one table or a list of tables.
func (r *References) FromTOML(d *strict.Decoder, path string, value any) {
	oneOrMany[Reference](d, path, value, (*[]Reference)(r))
}

// AddsList are all ways in which a mod's identifiers are known.
type AddsList []Adds

// FromTOML reads one table or a list of tables.
func (a *AddsList) FromTOML(d *strict.Decoder, path string, value any) {
	oneOrMany[Adds](d, path, value, (*[]Adds)(a))
}

func oneOrMany[T any](d *strict.Decoder, path string, value any, into *[]T) {
	if _, one := value.(map[string]any); one {
		*into = make([]T, 1)
		d.Value(path, value, reflect.ValueOf(&(*into)[0]).Elem())
		return
	}
	d.Value(path, value, reflect.ValueOf(into).Elem())
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

// Layers are the wrappings of a file: one, a list, or a table that chooses by a tag.
type Layers struct{ form.Layers }

// FromTOML reads the three shapes.
func (l *Layers) FromTOML(d *strict.Decoder, path string, value any) {
	chain := func(path string, value any) []form.Layer {
		var names Strings
		names.FromTOML(d, path, value)
		var layers []form.Layer
		for _, name := range names {
			layer, err := form.ParseLayer(name)
			if err != nil {
				d.Errorf(path, "", "%v", err)
				continue
			}
			layers = append(layers, layer)
		}
		return layers
	}
	table, ok := value.(map[string]any)
	if !ok {
		l.Chain = chain(path, value)
		return
	}
	by, _ := table["by"].(string)
	from, to, err := form.ParseTag(by)
	if err != nil {
		d.Errorf(path, "", "layers by: %v", err)
		return
	}
	l.Tag = &form.Tag{From: from, To: to, Chains: map[string][]form.Layer{}}
	for tag, value := range table {
		if tag == "by" {
			continue
		}
		if len(tag) != to-from {
			d.Errorf(path+"."+tag, "", "the tag %q is not %d bytes long", tag, to-from)
		}
		l.Tag.Chains[tag] = chain(path+"."+tag, value)
	}
}

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
