package game

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/tree"
)

// CheckMarker reports whether dir is an install of the game. The error, where it is not, is fs.ErrNotExist.
func (d *Description) CheckMarker(dir string) error {
	for _, m := range d.Install.Marker {
		if _, err := os.Stat(spelled(filepath.Join(dir, filepath.FromSlash(m)))); err == nil {
			return nil
		}
	}
	return fmt.Errorf("%s is no install of %s: it has no %s: %w", dir, d.ID, strings.Join(d.Install.Marker, " or "), fs.ErrNotExist)
}

// FindInstalls returns the folders, of those where the game usually is, that are installs of it.
func (d *Description) FindInstalls(known Known) []string {
	in := &Install{Game: d, known: known}
	var found []string
	for _, t := range d.Install.Find {
		path := t
		if strings.HasPrefix(t, "{") {
			expanded, err := in.expand(context.Background(), t, 0)
			if err != nil || len(expanded) != 1 {
				continue
			}
			path = expanded[0].path
		}
		if d.CheckMarker(path) == nil && !slices.Contains(found, path) {
			found = append(found, path)
		}
	}
	return found
}

// underDepth is how many levels below a folder an install is looked for.
const underDepth = 6

// FindUnder returns the installs of the game in a folder and below it, some levels deep, and as deep again in each drive of a compatibility
// prefix. Links are not followed, and what may not be read is passed over.
func (d *Description) FindUnder(ctx context.Context, dir string) ([]string, error) {
	return tree.Folders(ctx, dir, func(path string) bool { return d.CheckMarker(path) == nil }, func(path string) bool {
		from := dir
		if i := strings.LastIndex(path, string(filepath.Separator)+"drive_c"); i >= len(dir) {
			from = path[:i]
		}
		return tree.Depth(from, path) >= underDepth
	})
}
