package hazard

import (
	"context"
	"fmt"
	"io/fs"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/schema"
	"ostrov/internal/core/wrap"
)

// Database looks into a SQLite database, wrapped in so many compressions, for SQL that runs when the game reads or writes.
func Database(ctx context.Context, fsys fs.FS, name string, layers int) ([]Finding, error) {
	spec := doc.Spec{Form: "sqlite"}
	for range layers {
		spec.Layers.Chain = append(spec.Layers.Chain, wrap.Layer{Name: "auto"})
	}
	if err := spec.Check(ctx, fsys, name); err != nil {
		return nil, err
	}
	d, err := doc.Open(ctx, fsys, name, spec, wrap.DefaultLimits)
	if err != nil {
		return nil, err
	}
	defer d.Close()
	found, err := d.Each(ctx, "SELECT name, sql FROM sqlite_schema WHERE sql IS NOT NULL")
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
