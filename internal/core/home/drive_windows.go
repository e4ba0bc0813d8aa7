package home

import (
	"path/filepath"
	"strings"
)

// sameDrive reports whether two folders lie on one drive letter or share.
func sameDrive(a, b string) bool {
	return strings.EqualFold(filepath.VolumeName(a), filepath.VolumeName(b))
}
