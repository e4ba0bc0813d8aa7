package tree

import (
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"
)

// stat is Stat for a name in an open folder: the system need not find the folder again for each of the names in it, which is most of the
// time that a walk takes.
func (f folder) stat(name string) (Entry, error) {
	var s unix.Stat_t
	var err error
	for {
		if err = unix.Fstatat(int(f.Fd()), name, &s, unix.AT_SYMLINK_NOFOLLOW); err != unix.EINTR {
			break
		}
	}
	if err != nil {
		return Entry{}, &fs.PathError{Op: "lstat", Path: filepath.Join(f.path, name), Err: err}
	}
	e := Entry{Path: name, Mode: fs.FileMode(s.Mode & 0o777), ModTime: time.Unix(s.Mtim.Unix()), ChangeTime: time.Unix(s.Ctim.Unix()), FileID: s.Ino}
	switch s.Mode & unix.S_IFMT {
	case unix.S_IFREG:
		e.Kind, e.Size = File, s.Size
	case unix.S_IFDIR:
		e.Kind = Dir
	case unix.S_IFLNK:
		e.Kind = Link
		e.Target, err = os.Readlink(filepath.Join(f.path, name))
	default:
		e.Kind = Special
	}
	return e, err
}
