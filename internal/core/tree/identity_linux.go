package tree

import (
	"io/fs"
	"syscall"
	"time"
)

func identity(info fs.FileInfo) (changed time.Time, id uint64) {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return time.Unix(int64(s.Ctim.Sec), int64(s.Ctim.Nsec)), s.Ino
	}
	return time.Time{}, 0
}
