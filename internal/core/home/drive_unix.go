//go:build !windows

package home

import (
	"os"
	"syscall"
)

// sameDrive reports whether two folders lie on one volume, as far as that can be told.
func sameDrive(a, b string) bool {
	x, err1 := os.Stat(a)
	y, err2 := os.Stat(b)
	if err1 != nil || err2 != nil {
		return false
	}
	s, ok1 := x.Sys().(*syscall.Stat_t)
	t, ok2 := y.Sys().(*syscall.Stat_t)
	return ok1 && ok2 && s.Dev == t.Dev
}
