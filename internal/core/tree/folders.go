package tree

import (
	"context"
	"io/fs"
	"path/filepath"
	"strings"
)

// Folders finds folders in a folder and below it, that one included: those that is says are meant, into which it does not go on, and not below
// what is deep. Links are not followed, and what may not be read is passed over.
func Folders(ctx context.Context, dir string, is, deep func(path string) bool) ([]string, error) {
	var found []string
	err := filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case err != nil && path == dir:
			return err
		case err != nil || !e.IsDir():
			return nil
		case is(path):
			found = append(found, path)
			return fs.SkipDir
		case deep(path):
			return fs.SkipDir
		}
		return nil
	})
	return found, err
}

// Depth is how many levels a path lies below a folder.
func Depth(dir, path string) int {
	rel, err := filepath.Rel(dir, path)
	if err != nil || rel == "." {
		return 0
	}
	return 1 + strings.Count(rel, string(filepath.Separator))
}
