package tree

import (
	"bytes"
	"io/fs"
	"path"
	"time"
)

// Memory are files in memory, by name.
type Memory map[string][]byte

// Open opens one.
func (m Memory) Open(name string) (fs.File, error) {
	data, ok := m[name]
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return &memoryFile{bytes.NewReader(data), name}, nil
}

type memoryFile struct {
	*bytes.Reader
	name string
}

// Stat is what there is to say of it.
func (f *memoryFile) Stat() (fs.FileInfo, error) { return memoryInfo{f}, nil }

// Close does nothing.
func (f *memoryFile) Close() error { return nil }

type memoryInfo struct{ f *memoryFile }

func (i memoryInfo) Name() string       { return path.Base(i.f.name) }
func (i memoryInfo) Size() int64        { return i.f.Reader.Size() }
func (i memoryInfo) Mode() fs.FileMode  { return 0o644 }
func (i memoryInfo) ModTime() time.Time { return time.Time{} }
func (i memoryInfo) IsDir() bool        { return false }
func (i memoryInfo) Sys() any           { return nil }
