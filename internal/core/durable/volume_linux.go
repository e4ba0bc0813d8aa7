package durable

import (
	"io"
	"os"

	"golang.org/x/sys/unix"
)

const canSyncVolume = true

// startWriting has the drive begin with a large file, so that there is less to wait for at the end.
func startWriting(f *os.File) {
	if n, err := f.Seek(0, io.SeekCurrent); err == nil && n >= 1<<20 {
		_ = unix.SyncFileRange(int(f.Fd()), 0, 0, unix.SYNC_FILE_RANGE_WRITE) // if not now, then at the end
	}
}

// syncVolume writes what the volume of a folder has in memory to the drive. It reports what could not be written from Linux 5.8 on.
func syncVolume(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return os.NewSyscallError("syncfs", unix.Syncfs(int(f.Fd())))
}
