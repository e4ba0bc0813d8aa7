package durable

import (
	"os"

	"golang.org/x/sys/unix"
)

const canSyncVolume = true

// syncVolume writes what the volume of a folder has in memory to the drive. It reports what could not be written from Linux 5.8 on.
func syncVolume(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	return os.NewSyscallError("syncfs", unix.Syncfs(int(f.Fd())))
}
