package hazard

import (
	"context"
	"fmt"
	"io/fs"

	"ostrov/internal/core/form"
	"ostrov/internal/core/schema"
)

// Database looks into a SQLite database, wrapped in so many compressions, for SQL that runs when the game reads or writes.
func Database(ctx context.Context, fsys fs.FS, name string, layers int) ([]Finding, error) {
	spec := form.Spec{Form: "sqlite"}
	for range layers {
		spec.Layers.Chain = append(spec.Layers.Chain, form.Layer{Name: "auto"})
	}
	if err := spec.Check(ctx, fsys, name); err != nil {
		return nil, err
	}
	doc, err := form.Open(ctx, fsys, name, spec, form.DefaultLimits)
	if err != nil {
		return nil, err
	}
	defer doc.Close()
	found, err := doc.Each(ctx, "SELECT name, sql FROM sqlite_schema WHERE sql IS NOT NULL")
	if err != nil {
		return nil, err
	}
	var names []string
	for _, f := range found {
		called, _, _ := f.Value(ctx, "name")
		text, _, _ := f.Value(ctx, "sql")
		if what := schema.Runs(text); what != "" {
			names = append(names, fmt.Sprintf("%q is %s", called, what))
		}
	}
	if len(names) == 0 {
		return nil, nil
	}
	return []Finding{{Code, "SQL in the database", "has SQL that runs when the game uses it: " + words(names)}}, nil
}
