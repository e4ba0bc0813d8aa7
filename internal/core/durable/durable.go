// Package durable writes files so that a crash or a loss of power leaves them whole: what they hold is on the drive before they get their
// name.
//
// It promises that a file is there under its name with all of its content or as it was before, and that what a Batch was told of is on the
// drive when it ends. It never writes outside the folder of the file that it is asked for, and leaves nothing behind but, after a crash, a
// file with the temporary name that its caller chose.
package durable

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"syscall"
	"time"
)

// Write makes the file path out of what write gives, or leaves what is there. temp is the pattern, as os.CreateTemp has it, of the name it
// has meanwhile.
func Write(path, temp string, mode fs.FileMode, write func(io.Writer) error) error {
	f, err := os.CreateTemp(filepath.Dir(path), temp)
	if errors.Is(err, fs.ErrNotExist) { // what is not there is the folder, not a file that nobody has heard of
		return &fs.PathError{Op: "open", Path: filepath.Dir(path), Err: fs.ErrNotExist}
	}
	if err != nil {
		return err
	}
	return Publish(f, path, mode, write(f))
}

// Publish gives f, which is written and lies in the same folder, the name path. err is what went wrong with writing it: then, as where it
// cannot be published, f is removed, and that is what is returned. f is closed.
func Publish(f *os.File, path string, mode fs.FileMode, err error) error {
	if err == nil && runtime.GOOS != "windows" { // there the only permission is to write
		err = f.Chmod(mode &^ umask)
	}
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = Rename(f.Name(), path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return SyncDir(filepath.Dir(path))
}

// retryFor bounds how long a rename is tried again on Windows, where scanners and indexers hold files open for moments.
const retryFor = 2 * time.Second

// Rename renames, and says of a file that stays held open which it is. What it did lasts once the folders have been synced.
func Rename(from, to string) error {
	var err error
	wait := 5 * time.Millisecond
	for start := time.Now(); ; time.Sleep(wait) {
		if err = os.Rename(from, to); err == nil || runtime.GOOS != "windows" || !errors.Is(err, fs.ErrPermission) || time.Since(start) > retryFor {
			break
		}
		wait = min(wait*2, 200*time.Millisecond)
	}
	if err != nil && runtime.GOOS == "windows" && errors.Is(err, fs.ErrPermission) {
		return fmt.Errorf("%s is held open by another program: %w", from, err)
	}
	return err
}

// SyncDir makes the names in a folder last. Windows has no such call and orders its own journal; a file system that cannot do it is no
// error.
func SyncDir(dir string) error {
	if runtime.GOOS == "windows" {
		return nil
	}
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := f.Sync(); err != nil && !errors.Is(err, errors.ErrUnsupported) && !errors.Is(err, syscall.EINVAL) {
		return err
	}
	return nil
}

// Chmod sets permission bits, without those of the player's umask.
func Chmod(path string, mode fs.FileMode) error { return os.Chmod(path, mode&^umask) }
