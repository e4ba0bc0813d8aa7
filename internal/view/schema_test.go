package view

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

	"ostrov/internal/core/ledger"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/parcel"
	"ostrov/internal/core/tree"
)

var update = flag.Bool("update", false, "write generated files anew")

// documents are the types of the documents, by what their schemas are called.
var documents = map[string]any{
	"look": LooksDoc{}, "saves": SavesDoc{}, "mods": ModsDoc{}, "needs": NeedsOfDoc{}, "games": GamesDoc{}, "games-add": FoldersDoc{}, "games-show": FoldersDoc{},
	"games-test": TestDoc{}, "games-test-on": TriedDoc{}, "keep": KeepDoc{}, "keep-dry-run": KeepPlanDoc{}, "kept": KeptDoc{}, "kept-save": HistoryDoc{}, "error": ErrorDoc{}, "look-put-aside": ChangeDoc{}, "mods-write": WrittenDoc{}, "kept-export": WrittenDoc{}, "mods-all": AllModsDoc{}, "games-show-all": AllFoldersDoc{}, "archive": ArchiveDoc{}, "archive-add": ArchiveDoc{}, "archive-verify": VerifyDoc{},
	"playthroughs": PlaythroughsDoc{}, "vet": VetDoc{}, "place": ChangeDoc{}, "restore": ChangeDoc{}, "undo": ChangeDoc{}, "redo": ChangeDoc{}, "undo-list": ChangesDoc{}, "games-forget": ForgottenDoc{}, "games-rename": RenamedDoc{}, "saves-label": LabelledDoc{}, "saves-newest": CopiesDoc{}, "saves-rename": ChangeDoc{}, "restore-to": WrittenDoc{}, "restore-game": FrozenDoc{},
	"look-if": SupposedDoc{}, "games-base": BaseDoc{}, "play": WatchedDoc{}, "watch": WatchedDoc{}, "parcel": WrappedDoc{}, "compare": ComparedDoc{}, "mod-list": modlist.File{}, "swap": ChangeDoc{}, "fresh": ChangeDoc{}, "archive-copy": CopiedDoc{},
	"mods-add": ChangeDoc{}, "mods-drop": ChangeDoc{}, "mods-on": ChangeDoc{}, "mods-off": ChangeDoc{}, "mods-aside": ChangeDoc{}, "mods-back": ChangeDoc{}, "mods-adopt": ChangeDoc{},
	"mods-order": ChangeDoc{}, "mods-pin": ChangeDoc{}, "mods-verify": VerifiedModsDoc{}, "mods-verify-fix": ChangeDoc{}, "fields": FieldsDoc{}, "find": FoundTextDoc{}, "set": ChangeDoc{},
	"borrow": ChangeDoc{}, "strip": ChangeDoc{}, "convert": ChangeDoc{}, "open": ChangeDoc{}, "members": MembersDoc{}, "members-take": WrittenDoc{}, "members-put": ChangeDoc{}, "members-copy": ChangeDoc{}, "members-remove": ChangeDoc{}, "member": parcel.Member{},
	"mod-ledger": ledger.Entry{}, "archive-clear-old": ClearingDoc{}, "parcel-needs": parcel.Needs{},
}

// TestSchemasAreThoseOfTheCode keeps docs/json equal to the types; `go test ./internal/view -update` writes it.
func TestSchemasAreThoseOfTheCode(t *testing.T) {
	r := &jsonschema.Reflector{Anonymous: true, DoNotReference: true, ExpandedStruct: true, Mapper: func(t reflect.Type) *jsonschema.Schema {
		if t == reflect.TypeFor[tree.Digest]() {
			return &jsonschema.Schema{Type: "string", Pattern: "^(blake3:[0-9a-f]{64})?$"}
		}
		return nil
	}}
	for name, document := range documents {
		s := r.Reflect(document)
		s.Title = "ostrov " + name + " --json"
		want, err := json.MarshalIndent(s, "", "  ")
		require.NoError(t, err)
		path := filepath.Join("..", "..", "docs", "json", name+".schema.json")
		if *update {
			require.NoError(t, os.WriteFile(path, append(want, '\n'), 0o644))
		}
		got, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, string(want)+"\n", string(got), "run: go test ./internal/view -update")
	}
}
