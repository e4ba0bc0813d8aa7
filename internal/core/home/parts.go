package home

import (
	"crypto/rand"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/gofrs/flock"

	"ostrov/internal/core/durable"
	"ostrov/internal/core/problem"
)

// What Ostrov writes where the player said has another name until it is whole. A killed Ostrov would leave it there: so it is noted first,
// with a lock that ends with the process, and the next command removes what no process is writing any more.

// partsDir is the folder of the home with a note for each thing that is being written.
const partsDir = "parts"

type part struct {
	Path string `json:"path"`
}

func newPartName() string { return strings.TrimSuffix(PartName, "*") + rand.Text() }

// announce notes what is about to be written at a path, and returns what ends that.
func (h *Home) announce(path string) (func() error, error) {
	if h.ReadOnly || h.Unrecorded != nil {
		return func() error { return nil }, nil
	}
	name := partsDir + "/" + filepath.Base(path) + ".json"
	if err := h.Write(name, part{path}); err != nil {
		return nil, err
	}
	lock := flock.New(filepath.Join(h.Dir, filepath.FromSlash(name)))
	if _, err := lock.TryLock(); err != nil {
		return nil, errors.Join(err, h.Remove(name))
	}
	return func() error { return errors.Join(lock.Unlock(), h.Remove(name)) }, nil // Windows removes nothing that is open
}

// ClearParts removes what killed commands left unfinished where the player had it written.
func (h *Home) ClearParts() {
	if h.ReadOnly || h.Unrecorded != nil {
		return
	}
	names, err := h.List(partsDir, ".json")
	if err != nil {
		h.Log.Warn("unfinished files", "error", err)
		return
	}
	for _, name := range names {
		lock := flock.New(filepath.Join(h.Dir, partsDir, name))
		if ok, err := lock.TryLock(); !ok || err != nil {
			continue // it is being written
		}
		var p part
		err := h.Read(partsDir+"/"+name, &p)
		if ok, _ := filepath.Match(PartName, filepath.Base(p.Path)); err == nil && ok {
			err = os.RemoveAll(p.Path)
		}
		err = errors.Join(err, lock.Unlock())
		if err == nil {
			err = h.Remove(partsDir + "/" + name)
		}
		if err != nil {
			h.Log.Warn("an unfinished file stays", "path", p.Path, "error", err)
		}
	}
}

// TempFolder makes a folder in dir for something that is not whole yet. done removes it, where it has not been renamed, and forgets it.
func (h *Home) TempFolder(dir string) (path string, done func() error, err error) {
	path = filepath.Join(dir, newPartName())
	forget, err := h.announce(path) // before it is there: a kill may come between
	if err != nil {
		return "", nil, err
	}
	if err := os.Mkdir(path, 0o700); err != nil {
		return "", nil, errors.Join(err, forget())
	}
	return path, func() error { return errors.Join(os.RemoveAll(path), forget()) }, nil
}

// WriteFile writes what the player asked for into a file, whole or not at all, and returns its size in bytes. A file that is there is
// replaced with replace only; else that is ErrDeclined.
func (h *Home) WriteFile(path string, replace bool, write func(io.Writer) error) (size int64, err error) {
	if err := CheckFree(path, replace); err != nil {
		return 0, err
	}
	temp := filepath.Join(filepath.Dir(path), newPartName())
	forget, err := h.announce(temp) // before it is there: a kill may come between
	if err != nil {
		return 0, err
	}
	defer func() { err = errors.Join(err, forget()) }()
	f, err := os.OpenFile(temp, os.O_RDWR|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrNotExist) {
		return 0, &fs.PathError{Op: "open", Path: filepath.Dir(path), Err: fs.ErrNotExist}
	}
	if err != nil {
		return 0, err
	}
	if err := durable.Publish(f, path, 0o666, write(f)); err != nil {
		return 0, err
	}
	info, err := os.Stat(path)
	if err != nil {
		return 0, err
	}
	return info.Size(), nil
}

// CheckFree refuses a file that is there, without replace.
func CheckFree(path string, replace bool) error {
	if _, err := os.Lstat(path); err == nil && !replace {
		return problem.Declined(problem.Advise("choose another name; the option yes replaces it"), "%s is there already; nothing has been written", path)
	}
	return nil
}

// NewFolder makes a folder, which must be missing or empty, with what fill writes: beside it first, then it gets its name.
func (h *Home) NewFolder(dir string, fill func(temp string, batch *durable.Batch) error) (err error) {
	if err := CheckEmpty(dir); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o777); err != nil {
		return err
	}
	temp, done, err := h.TempFolder(filepath.Dir(dir))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, done()) }()
	var batch durable.Batch
	if err := fill(temp, &batch); err != nil {
		return err
	}
	if err := errors.Join(durable.Chmod(temp, 0o777), batch.End(temp)); err != nil {
		return err
	}
	_ = os.Remove(dir) // where it is there, it is empty
	if err := durable.Rename(temp, dir); err != nil {
		return err
	}
	return durable.SyncDir(filepath.Dir(dir))
}

// CheckEmpty refuses a folder that has something in it; one that is missing is as good as empty.
func CheckEmpty(dir string) error {
	list, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if len(list) > 0 {
		return problem.Usage(problem.Advise("choose a new folder"), "%s is not empty", dir)
	}
	return nil
}
