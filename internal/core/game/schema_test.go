package game

import (
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"reflect"
	"testing"

	"github.com/invopop/jsonschema"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/field"
)

var update = flag.Bool("update", false, "write generated files anew")

// TestSchemaIsThatOfTheCode keeps docs/json/description.schema.json equal to the types; `go test ./internal/core/game -update` writes it.
func TestSchemaIsThatOfTheCode(t *testing.T) {
	path := filepath.Join("..", "..", "..", "docs", "json", "description.schema.json")
	want, err := schema()
	require.NoError(t, err)
	if *update {
		require.NoError(t, os.WriteFile(path, want, 0o644))
	}
	got, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, string(want), string(got), "run: go test ./internal/core/game -update")
}

// schema is the JSON Schema of the description language, for editors that complete and check descriptions.
func schema() ([]byte, error) {
	r := reflector()
	s := r.Reflect(&Description{})
	s.Title = "Ostrov game description"
	data, err := json.MarshalIndent(s, "", "  ")
	return append(data, '\n'), err
}

func reflector() *jsonschema.Reflector {
	return &jsonschema.Reflector{FieldNameTag: "toml", RequiredFromJSONSchemaTags: true, Anonymous: true, ExpandedStruct: true, Mapper: union}
}

func oneOrList(one *jsonschema.Schema) *jsonschema.Schema {
	return &jsonschema.Schema{OneOf: []*jsonschema.Schema{one, {Type: "array", Items: one}}}
}

// union describes the types that a document may write in several shapes.
func union(t reflect.Type) *jsonschema.Schema {
	text := &jsonschema.Schema{Type: "string"}
	switch t {
	case reflect.TypeFor[field.Strings]():
		return oneOrList(text)
	case reflect.TypeFor[Companions]():
		type table Companions
		files := &jsonschema.Schema{Type: "array", Items: text}
		return &jsonschema.Schema{OneOf: []*jsonschema.Schema{files, inline(&table{})}, Description: "files that lie beside the save and belong to it; * stands for its name without the ending"}
	case reflect.TypeFor[field.Fields]():
		return oneOrList(inline(&field.Field{}))
	case reflect.TypeFor[field.Column]():
		return &jsonschema.Schema{OneOf: []*jsonschema.Schema{text, inline(&field.Field{})}}
	case reflect.TypeFor[field.Lists]():
		return oneOrList(inline(&field.List{}))
	case reflect.TypeFor[References]():
		return oneOrList(inline(&Reference{}))
	case reflect.TypeFor[AddsList]():
		return oneOrList(inline(&Adds{}))
	case reflect.TypeFor[BesideList]():
		return oneOrList(inline(&Beside{}))
	case reflect.TypeFor[field.Layers]():
		chain := oneOrList(text)
		return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{chain, {Type: "object", Required: []string{"by"}, AdditionalProperties: chain}}}
	}
	return nil
}

func inline(v any) *jsonschema.Schema {
	r := reflector()
	r.DoNotReference = true
	s := r.Reflect(v)
	s.Version = ""
	return s
}
