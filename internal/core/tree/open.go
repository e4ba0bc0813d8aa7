package tree

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// errNoFile says that something else stands where a file is expected.
var errNoFile = errors.New("is no file")

// Open opens a regular file. What is none is an error at once: a pipe would be waited for, a device may have no end.
func Open(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|noWait, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: path, Err: errNoFile}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// ErrLarge says that a file is larger than what is asked of it allows.
var ErrLarge = errors.New("is too large")

// ReadBounded reads a regular file. One of more than limit bytes is ErrLarge: whoever reads a file whole, and writes it or believes it, is never
// given a part of it.
func ReadBounded(path string, limit int64) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err == nil && int64(len(data)) > limit {
		return nil, &fs.PathError{Op: "read", Path: path, Err: fmt.Errorf("%w: more than %d bytes", ErrLarge, limit)}
	}
	return data, err
}

// DirFS is os.DirFS, but that only regular files are opened in it.
func DirFS(dir string) fs.FS { return dirFS(dir) }

type dirFS string

func (d dirFS) path(op, name string) (string, error) {
	local, err := filepath.Localize(name)
	if err != nil {
		return "", &fs.PathError{Op: op, Path: name, Err: fs.ErrInvalid}
	}
	return filepath.Join(string(d), local), nil
}

func (d dirFS) Open(name string) (fs.File, error) {
	path, err := d.path("open", name)
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(path); err == nil && info.IsDir() {
		return os.Open(path)
	}
	return Open(path)
}

func (d dirFS) ReadFile(name string) ([]byte, error) {
	path, err := d.path("open", name)
	if err != nil {
		return nil, err
	}
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(f)
}

func (d dirFS) Stat(name string) (fs.FileInfo, error) {
	path, err := d.path("stat", name)
	if err != nil {
		return nil, err
	}
	return os.Stat(path)
}

func (d dirFS) ReadDir(name string) ([]fs.DirEntry, error) {
	path, err := d.path("readdir", name)
	if err != nil {
		return nil, err
	}
	return os.ReadDir(path)
}
