package tree

import (
	"os"
	"path/filepath"
)

// maxLinks bounds how many links one path may lead through.
const maxLinks = 40

// Real is a path with the links resolved at every level, so that two paths to one place have one name. What is not there keeps the name that
// it would have: the end of a link that leads nowhere is where the link points to.
func Real(path string) string { return real(filepath.Clean(path), maxLinks) }

func real(path string, links int) string {
	if resolved, err := filepath.EvalSymlinks(path); err == nil {
		return resolved
	}
	if target, err := os.Readlink(path); err == nil && links > 0 {
		if !filepath.IsAbs(target) {
			target = filepath.Join(filepath.Dir(path), target)
		}
		return real(target, links-1)
	}
	dir := filepath.Dir(path)
	if dir == path {
		return path
	}
	return filepath.Join(real(dir, links), filepath.Base(path))
}

// Dangling finds the link on the way to path that leads to what is not there; link is "" where there is none.
func Dangling(path string) (link, target string) {
	for {
		info, err := os.Lstat(path)
		switch dir := filepath.Dir(path); {
		case err == nil && info.Mode()&os.ModeSymlink == 0, err != nil && dir == path:
			return "", ""
		case err == nil:
			if _, err := os.Stat(path); err == nil {
				return "", ""
			}
			return path, Real(path)
		default:
			path = dir
		}
	}
}
