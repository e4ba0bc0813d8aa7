package field

import (
	"reflect"

	"ostrov/internal/core/strict"
	"ostrov/internal/core/wrap"
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

// FromTOML reads one table or a list of tables.
func (f *Fields) FromTOML(d *strict.Decoder, path string, value any) {
	if text, ok := value.(string); ok {
		d.Errorf(path, "", "a field is a table: give a fixed value as { default = %q }", text)
		return
	}
	OneOrMany(d, path, value, (*[]Field)(f))
}

// FromTOML reads a query, or a table that says more of it.
func (c *Column) FromTOML(d *strict.Decoder, path string, value any) {
	if query, ok := value.(string); ok {
		c.At = Strings{query}
		return
	}
	d.Value(path, value, reflect.ValueOf((*Field)(c)).Elem())
}

// FromTOML reads one table or a list of tables.
func (l *Lists) FromTOML(d *strict.Decoder, path string, value any) {
	OneOrMany(d, path, value, (*[]List)(l))
}

// OneOrMany reads one table or a list of tables.
func OneOrMany[T any](d *strict.Decoder, path string, value any, into *[]T) {
	if _, one := value.(map[string]any); one {
		*into = make([]T, 1)
		d.Value(path, value, reflect.ValueOf(&(*into)[0]).Elem())
		return
	}
	d.Value(path, value, reflect.ValueOf(into).Elem())
}

// Layers are the wrappings of a file: one, a list, or a table that chooses by a tag.
type Layers struct{ wrap.Layers }

// FromTOML reads the three shapes.
func (l *Layers) FromTOML(d *strict.Decoder, path string, value any) {
	chain := func(path string, value any) []wrap.Layer {
		var names Strings
		names.FromTOML(d, path, value)
		var layers []wrap.Layer
		for _, name := range names {
			layer, err := wrap.ParseLayer(name)
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
	from, to, err := wrap.ParseTag(by)
	if err != nil {
		d.Errorf(path, "", "layers by: %v", err)
		return
	}
	l.Tag = &wrap.Tag{From: from, To: to, Chains: map[string][]wrap.Layer{}}
	for tag, value := range table {
		switch {
		case tag == "by":
			continue
		case tag == "else" && value == "damaged":
			l.Tag.Strict = true
			continue
		case tag == "else" && to-from != len(tag):
			d.Errorf(path+"."+tag, "", "else is \"damaged\"; without it another tag is unknown")
			continue
		}
		if len(tag) != to-from {
			d.Errorf(path+"."+tag, "", "the tag %q is not %d bytes long", tag, to-from)
		}
		l.Tag.Chains[tag] = chain(path+"."+tag, value)
	}
}
