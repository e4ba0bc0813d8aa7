package demo

import (
	"io/fs"
	"os"
	"path/filepath"
)

// Cloud stands in for what keeps saves in step between machines: it has a copy of a folder and, when it believes that its copy is the right one,
// puts it back. It asks nobody, keeps the times of its own files, and never removes what it does not know.
type Cloud struct {
	Folder string // what it watches over
	Copy   string // where it has its own
}

// Up takes the folder as it is now for the right one.
func (c Cloud) Up() error { return mirror(c.Copy, c.Folder) }

// Down puts its own copy back over the folder.
func (c Cloud) Down() error { return mirror(c.Folder, c.Copy) }

// mirror copies all files below from into to, with their times.
func mirror(to, from string) error {
	return filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rest, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		target := filepath.Join(to, rest)
		if d.IsDir() {
			return os.MkdirAll(target, 0o755)
		}
		info, err := d.Info()
		if err != nil || !info.Mode().IsRegular() {
			return err
		}
		data, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if err := os.WriteFile(target, data, 0o644); err != nil {
			return err
		}
		return os.Chtimes(target, info.ModTime(), info.ModTime())
	})
}
