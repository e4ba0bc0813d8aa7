//go:build !windows

package durable

import (
	"io/fs"
	"syscall"
)

// umask is what the player's system takes from the permission bits of new files. It can only be read by setting it, so it is read before
// anything else runs.
var umask = func() fs.FileMode {
	mask := syscall.Umask(0)
	syscall.Umask(mask)
	return fs.FileMode(mask)
}()
