package hazard

import (
	"context"
	"fmt"
	"io/fs"
	"strings"

	"ostrov/internal/core/form"
)

// Database looks into a SQLite database, wrapped in so many compressions, for triggers and views: SQL that runs when the game reads or
// writes.
func Database(ctx context.Context, fsys fs.FS, name string, layers int) ([]Finding, error) {
	spec := form.Spec{Form: "sqlite"}
	for range layers {
		spec.Layers.Chain = append(spec.Layers.Chain, form.Layer{Name: "auto"})
	}
	doc, err := form.Open(ctx, fsys, name, spec, form.DefaultLimits)
	if err != nil {
		return nil, err
	}
	defer doc.Close()
	found, err := doc.Each(ctx, "SELECT type, name FROM sqlite_schema WHERE type IN ('trigger', 'view') LIMIT 50")
	if err != nil || len(found) == 0 {
		return nil, err
	}
	var names []string
	for _, f := range found {
		what, _, _ := f.Value(ctx, "type")
		called, _, _ := f.Value(ctx, "name")
		names = append(names, strings.TrimSpace(what+" "+called))
	}
	return []Finding{{Code, "SQL in the database", fmt.Sprintf("has SQL that runs when the game uses it: %s", words(names))}}, nil
}
