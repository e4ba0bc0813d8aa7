package tree

import (
	"io/fs"
	"syscall"
	"time"
)

func identity(info fs.FileInfo) (changed time.Time, id uint64) {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return time.Unix(s.Ctimespec.Sec, s.Ctimespec.Nsec), s.Ino
	}
	return time.Time{}, 0
}
