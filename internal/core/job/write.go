package job

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// writeWhole writes a file whole or not at all.
func writeWhole(path string, mode fs.FileMode, write func(io.Writer) error) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".part-ostrov-*")
	if errors.Is(err, fs.ErrNotExist) { // the player named a folder, not that file
		return &fs.PathError{Op: "open", Path: filepath.Dir(path), Err: fs.ErrNotExist}
	}
	if err != nil {
		return err
	}
	if err = write(f); err == nil {
		err = errors.Join(f.Chmod(mode), f.Sync())
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}

// WriteFile writes what the player asked for into a file, whole or not at all, and returns its size in bytes. A file that is there is replaced
// with replace only; else that is ErrDeclined.
func WriteFile(path string, replace bool, write func(io.Writer) error) (int64, error) {
	if _, err := os.Lstat(path); err == nil && !replace {
		return 0, &Error{Text: path + " is there already; nothing has been written", Hint: "choose another name, or repeat it with --yes to replace it", Err: ErrDeclined}
	}
	if err := writeWhole(path, 0o644, write); err != nil {
		return 0, err
	}
	info, err := os.Stat(path)
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}
