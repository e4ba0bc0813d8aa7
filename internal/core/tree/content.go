package tree

import (
	"io"
	"io/fs"
	"path"
	"time"
)

// Content is the bytes of a file, wherever they are. A *bytes.Reader is one, and an *io.SectionReader.
type Content interface {
	io.ReaderAt
	Size() int64 // bytes
}

// Contents are files by their paths.
type Contents map[string]Content

// Open opens one.
func (c Contents) Open(name string) (fs.File, error) {
	content, ok := c[name]
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return &contentFile{io.NewSectionReader(content, 0, content.Size()), name}, nil
}

type contentFile struct {
	*io.SectionReader
	name string
}

// Stat is what there is to say of it.
func (f *contentFile) Stat() (fs.FileInfo, error) { return contentInfo{f}, nil }

// Close does nothing.
func (f *contentFile) Close() error { return nil }

type contentInfo struct{ f *contentFile }

func (i contentInfo) Name() string       { return path.Base(i.f.name) }
func (i contentInfo) Size() int64        { return i.f.SectionReader.Size() }
func (i contentInfo) Mode() fs.FileMode  { return 0o644 }
func (i contentInfo) ModTime() time.Time { return time.Time{} }
func (i contentInfo) IsDir() bool        { return false }
func (i contentInfo) Sys() any           { return nil }

// InFS is a file of fsys, opened for each reading: nothing keeps it open, so that it can be renamed meanwhile. The file system's files must be
// io.ReaderAt; ok is false where they are not.
func InFS(fsys fs.FS, name string) (content Content, ok bool, err error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, false, err
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, false, err
	}
	_, ok = f.(io.ReaderAt)
	return &inFS{fsys, name, info.Size()}, ok, nil
}

type inFS struct {
	fsys fs.FS
	name string
	size int64
}

// Size is what it was when it was first opened.
func (c *inFS) Size() int64 { return c.size }

// Opened is the file itself.
func (c *inFS) Opened() (fs.File, error) { return c.fsys.Open(c.name) }

// ReadAt opens the file and reads.
func (c *inFS) ReadAt(b []byte, off int64) (int, error) {
	f, err := c.fsys.Open(c.name)
	if err != nil {
		return 0, err
	}
	defer f.Close()
	at, ok := f.(io.ReaderAt)
	if !ok {
		return 0, fs.ErrInvalid
	}
	return at.ReadAt(b, off)
}
