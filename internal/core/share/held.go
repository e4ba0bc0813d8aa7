package share

import (
	"bytes"
	"io/fs"
	"path"
	"time"
)

// held is files in memory, by path.
type held map[string][]byte

// Open opens one of the files.
func (h held) Open(name string) (fs.File, error) {
	data, ok := h[name]
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return &heldFile{bytes.NewReader(data), path.Base(name), int64(len(data))}, nil
}

type heldFile struct {
	*bytes.Reader
	name string
	size int64
}

func (f *heldFile) Stat() (fs.FileInfo, error) { return heldInfo{f}, nil }
func (f *heldFile) Close() error               { return nil }

type heldInfo struct{ f *heldFile }

func (i heldInfo) Name() string       { return i.f.name }
func (i heldInfo) Size() int64        { return i.f.size }
func (i heldInfo) Mode() fs.FileMode  { return 0o444 }
func (i heldInfo) ModTime() time.Time { return time.Time{} }
func (i heldInfo) IsDir() bool        { return false }
func (i heldInfo) Sys() any           { return nil }
