package change

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"ostrov/internal/core/durable"
)

// Everything that a change does to folders goes through these, so that tests can stop it at each (see fault_on.go).

func mkdirAll(dir string, mode fs.FileMode) error {
	if exists(dir) {
		return nil
	}
	if err := mkdirAll(filepath.Dir(dir), mode); err != nil {
		return err
	}
	return mkdir(dir, mode)
}

// mkdir makes a folder; one that is there is no error.
func mkdir(dir string, mode fs.FileMode) error {
	if err := fault("mkdir"); err != nil {
		return err
	}
	if err := os.Mkdir(dir, mode); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return nil
}

func rename(from, to string) error {
	if err := fault("rename"); err != nil {
		return err
	}
	return durable.Rename(from, to)
}

// remove removes a file or an empty folder; one that is not there is no error.
func remove(path string) error {
	if err := fault("remove"); err != nil {
		return err
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

func syncDir(dir string) error {
	if err := fault("sync"); err != nil {
		return err
	}
	return durable.SyncDir(dir)
}

// removeAll removes a folder of ours with all in it, also one whose files are not writable.
func removeAll(dir string) error {
	list, err := os.ReadDir(dir)
	if errors.Is(err, fs.ErrPermission) {
		if err = os.Chmod(dir, 0o700); err == nil {
			list, err = os.ReadDir(dir)
		}
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil && !errors.Is(err, errNotDir) {
		return err
	}
	if len(list) > 0 {
		_ = os.Chmod(dir, 0o700) // else what is in a folder that is not writable cannot go
	}
	for _, e := range list {
		path := filepath.Join(dir, e.Name())
		if e.IsDir() {
			err = removeAll(path)
		} else {
			err = removeFile(path)
		}
		if err != nil {
			return err
		}
	}
	return remove(dir)
}

func removeFile(path string) error {
	err := remove(path)
	if errors.Is(err, fs.ErrPermission) && os.Chmod(path, 0o600) == nil { // Windows keeps read-only files
		err = remove(path)
	}
	return err
}

// writeJSON writes one of our own files, whole or not at all. The name that it has meanwhile is always the same, so that a crash leaves
// one at most.
func writeJSON(path string, v any) error {
	data, err := json.MarshalIndent(v, "", " ")
	if err != nil {
		return err
	}
	return writeFile(path, append(data, '\n'))
}

func writeFile(path string, data []byte) error {
	if err := fault("create"); err != nil {
		return err
	}
	f, err := os.OpenFile(path+".new", os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	if err = fault("write"); err == nil {
		_, err = f.Write(data)
	}
	if err == nil {
		err = fault("publish")
	}
	return durable.Publish(f, path, 0o600, err)
}

func exists(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}
