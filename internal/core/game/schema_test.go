package game

import (
	"encoding/json"
	"flag"
	"os"
	"path/filepath"
	"testing"

	"github.com/invopop/jsonschema"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
	r := &jsonschema.Reflector{FieldNameTag: "toml", RequiredFromJSONSchemaTags: true, Anonymous: true, ExpandedStruct: true}
	s := r.Reflect(&Description{})
	s.Title = "Ostrov game description"
	data, err := json.MarshalIndent(s, "", "  ")
	return append(data, '\n'), err
}

func oneOrList(one *jsonschema.Schema) *jsonschema.Schema {
	return &jsonschema.Schema{OneOf: []*jsonschema.Schema{one, {Type: "array", Items: one}}}
}

// JSONSchema describes a text or a list of texts.
func (Strings) JSONSchema() *jsonschema.Schema { return oneOrList(&jsonschema.Schema{Type: "string"}) }

// JSONSchema describes a list of files, or a table that says whether the game needs them.
func (Companions) JSONSchema() *jsonschema.Schema {
	type table Companions
	files := &jsonschema.Schema{Type: "array", Items: &jsonschema.Schema{Type: "string"}}
	return &jsonschema.Schema{OneOf: []*jsonschema.Schema{files, inline(&table{})}, Description: "files that lie beside the save and belong to it; * stands for its name without the ending"}
}

// JSONSchema describes one field or a list of alternatives.
func (Fields) JSONSchema() *jsonschema.Schema { return oneOrList(inline(&Field{})) }

// JSONSchema describes a list or several.
func (Lists) JSONSchema() *jsonschema.Schema { return oneOrList(inline(&List{})) }

// JSONSchema describes one place or several.
func (References) JSONSchema() *jsonschema.Schema { return oneOrList(inline(&Reference{})) }

// JSONSchema describes one way or several.
func (AddsList) JSONSchema() *jsonschema.Schema { return oneOrList(inline(&Adds{})) }

// JSONSchema describes the three shapes of layers.
func (Layers) JSONSchema() *jsonschema.Schema {
	chain := oneOrList(&jsonschema.Schema{Type: "string"})
	return &jsonschema.Schema{AnyOf: []*jsonschema.Schema{chain, {Type: "object", Required: []string{"by"}, AdditionalProperties: chain}}}
}

func inline(v any) *jsonschema.Schema {
	r := &jsonschema.Reflector{FieldNameTag: "toml", RequiredFromJSONSchemaTags: true, Anonymous: true, DoNotReference: true, ExpandedStruct: true}
	s := r.Reflect(v)
	s.Version = ""
	return s
}
