// Package doc reads single values and lists out of the decoded content of files, finds where they stand, and makes of a file what it is to be with
// some of them changed.
//
// Each form (json, xml, blocks, ini, lines, text, bytes, chunks, sqlite) has one scanner, which goes over the content, whatever its size, through a
// bounded window, and tells each thing with its name, where it stands, and its value decoded. Everything else is a consumer of that: queries (JSONPath
// for JSON and blocks, XPath 1.0 for XML, Section.key for INI, RE2 for text and lines, OFFSET:TYPE for bytes, one SELECT for SQLite), changes (Editor),
// the way to a place (Search). What two of them say of one file agrees, whatever its size.
//
// It promises to bound what it holds in memory, never to write a file of a game, and never to run anything that a file contains. Files are
// untrusted: whatever is in them ends in a value or in an error, never in a panic. Errors are those of package wrap.
package doc

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"

	"ostrov/internal/core/wrap"
)

// Spec describes how a file is wrapped, and its form.
type Spec struct {
	Layers   wrap.Layers
	Form     string
	Encoding string // of text before the form reads it: a name of the WHATWG encoding list; "" is UTF-8, or what the file says
	Blocks   BlockPatterns
	Chunks   ChunkSpec
}

// Forms are the names of the forms, sorted.
var Forms = []string{"blocks", "bytes", "chunks", "ini", "json", "lines", "sqlite", "text", "xml"}

// File is the decoded content of a file, which can be asked for values. It is not safe for concurrent use.
type File struct {
	Spec     Spec // its encoding is that of the text as it is asked
	src      *source
	free     *source // a window that nobody uses now
	step     int     // how large windows are, in bytes; 0 is windowSize
	reader   reader
	known    map[string]*answered
	declared xmlEntities // of an XML
}

// reader finds things in the content of one form.
type reader interface {
	// find visits what a query names in a thing, or, where of is nil, in the file: with each the elements of a list, else values. repeated reports
	// that a name on the way stands twice where only one counts.
	find(ctx context.Context, of *Node, query string, each bool, visit func(Node) error) (repeated bool, err error)
	// says returns the value of a node; ok is false if it has no single value.
	says(n *Node) (text string, ok bool, err error)
	// check goes over all of the content, and asks it these queries on the way.
	check(ctx context.Context, expected []string) error
}

// answered holds the answers to the queries that were expected.
type answered struct {
	nodes    []Node
	repeated bool
}

// maxKept is the largest answer to one query, in nodes, that is kept.
const maxKept = 20_000

// Open opens the file name of fsys and goes over it once, so that damage is found. It answers the queries that are expected on the way; others can be
// asked later. Errors wrap fs.ErrNotExist, wrap.ErrTooLarge, wrap.ErrDamaged or wrap.ErrUnknown.
func Open(ctx context.Context, fsys fs.FS, name string, spec Spec, limits wrap.Limits, expected ...string) (*Doc, error) {
	f := &File{Spec: spec}
	err := f.open(ctx, fsys, name, limits)
	if err == nil {
		err = f.reader.check(ctx, expected)
	}
	if err != nil {
		return nil, errors.Join(named(name, err), f.Close())
	}
	return &Doc{f: f}, nil
}

func named(name string, err error) error {
	if errors.As(err, new(*fs.PathError)) {
		return err
	}
	return fmt.Errorf("%s: %w", name, err)
}

// Parse reads content whose layers are peeled already. SQLite needs a file; see Open.
func Parse(data []byte, spec Spec) (*Doc, error) {
	f, err := spec.parse(data)
	if err != nil {
		return nil, err
	}
	if err := f.reader.check(context.Background(), nil); err != nil {
		return nil, err
	}
	return &Doc{f: f}, nil
}

func (spec Spec) parse(data []byte) (*File, error) {
	if IsText(spec.Form) {
		var err error
		if data, err = decode(data, encodingOf(data, spec)); err != nil {
			return nil, err
		}
	}
	return spec.fileOf(inMemory(data))
}

// fileOf is the file of a decoded content, which the file then closes.
func (spec Spec) fileOf(src *source) (*File, error) {
	f := &File{Spec: spec, src: src}
	switch spec.Form {
	case "json", "xml", "blocks":
		f.reader = &treeReader{File: f}
	case "ini":
		f.reader = &iniReader{src: src}
	case "text", "lines":
		f.reader = &textReader{src: src, lines: spec.Form == "lines"}
	case "bytes", "chunks":
		data, err := src.held()
		if err != nil {
			return nil, err
		}
		if f.reader = bytesReader(data); spec.Form == "chunks" {
			if f.reader, err = newChunks(data, spec.Chunks); err != nil {
				return nil, err
			}
		}
	default:
		return nil, fmt.Errorf("no form %q", spec.Form)
	}
	return f, nil
}

// maxInMemory is the largest decoded content, in bytes, that is held in memory rather than in a file of our own.
const maxInMemory = 4 << 20

func (f *File) open(ctx context.Context, fsys fs.FS, name string, limits wrap.Limits) error {
	if f.Spec.Form == "sqlite" {
		db, err := openSQLite(ctx, fsys, name, f.Spec.Layers, limits)
		f.reader = db
		return err
	}
	file, err := fsys.Open(name)
	if err != nil {
		return err
	}
	src, kept, err := f.Spec.source(file, limits)
	if err != nil {
		return errors.Join(err, file.Close())
	}
	if !kept {
		err = file.Close()
	}
	opened, wrong := f.Spec.fileOf(src)
	if err = errors.Join(err, wrong); err != nil {
		return errors.Join(err, src.close())
	}
	f.src, f.reader = opened.src, opened.reader
	if t, ok := f.reader.(*treeReader); ok {
		t.File = f
	}
	return nil
}

// source is the decoded content of an open file: the file itself, which is kept open as long, or a copy.
func (spec Spec) source(file fs.File, limits wrap.Limits) (src *source, kept bool, err error) {
	info, err := file.Stat()
	if err != nil {
		return nil, false, err
	}
	if at, ok := file.(io.ReaderAt); ok && spec.Layers.None() && info.Size() > maxInMemory {
		head := make([]byte, 256)
		if _, err := at.ReadAt(head, 0); err != nil {
			return nil, false, err
		}
		if spec.InUTF8(head) || !IsText(spec.Form) {
			src := inFile(at, int(info.Size()))
			src.done = file.Close
			return src, true, nil
		}
	}
	content, err := spec.Layers.Reader(file, limits)
	if err != nil {
		return nil, false, err
	}
	defer content.Close()
	src, err = spec.copied(content)
	return src, false, err
}

// copied is a content, as UTF-8 if it is text, in memory or in a file that is gone when it is closed.
func (spec Spec) copied(content io.Reader) (*source, error) {
	if IsText(spec.Form) {
		var err error
		if content, err = TextReader(content, spec); err != nil {
			return nil, err
		}
	}
	held, done, err := spool(content)
	if err != nil {
		return nil, err
	}
	src := inFile(held, int(held.Size()))
	if data, ok := held.(*memory); ok {
		src = inMemory(data.data)
	}
	src.done = done
	return src, nil
}

// memory is a content in memory.
type memory struct {
	*bytes.Reader
	data []byte
}

// spool reads a stream to its end: into memory, or if it is large into a file of our own, which is gone when done is called.
func spool(r io.Reader) (content wrap.Content, done func() error, err error) {
	held, err := wrap.ReadAtMost(io.LimitReader(r, maxInMemory+1), maxInMemory+1)
	if err != nil {
		return nil, nil, err
	}
	if len(held) <= maxInMemory {
		return &memory{bytes.NewReader(held), held}, func() error { return nil }, nil
	}
	f, err := os.CreateTemp("", "ostrov-read-")
	if err != nil {
		return nil, nil, err
	}
	done = func() error { return errors.Join(f.Close(), os.Remove(f.Name())) }
	size, err := io.Copy(f, io.MultiReader(bytes.NewReader(held), r))
	if err != nil {
		return nil, nil, errors.Join(err, done())
	}
	return io.NewSectionReader(f, 0, size), done, nil
}

// Unwrap is the content of a file with its layers peeled, until done is called.
func (spec Spec) Unwrap(file wrap.Content, limits wrap.Limits) (content wrap.Content, done func() error, err error) {
	if spec.Layers.None() {
		return file, func() error { return nil }, nil
	}
	r, err := spec.Layers.Reader(io.NewSectionReader(file, 0, file.Size()), limits)
	if err != nil {
		return nil, nil, err
	}
	defer r.Close()
	return spool(r)
}

// Close frees what the file holds. It may be called again.
func (f *File) Close() error {
	if db, ok := f.reader.(*database); ok {
		return db.Close()
	}
	if f.src == nil {
		return nil
	}
	return f.src.close()
}

// window lends a window on the content to one scan; give takes it back.
func (f *File) window() *source {
	if f.src.file == nil {
		return inMemory(f.src.buf)
	}
	if w := f.free; w != nil {
		f.free = nil
		return w
	}
	w := inFile(f.src.file, f.src.size)
	if f.step > 0 {
		w.step = f.step
	}
	return w
}

func (f *File) give(w *source) { f.free = w }

// Find are the things that a query names in a thing, or, where of is nil, in the file: with each the elements of a list, else values.
// A name that stands twice where only one counts is an error that wraps wrap.ErrUnknown, unless each asks for all.
func (f *File) Find(ctx context.Context, of *Node, query string, each bool) (found []Node, err error) {
	if of == nil {
		if a, ok := f.known[query]; ok {
			if a.repeated && !each {
				return nil, errRepeated(query)
			}
			return slices.Clone(a.nodes), nil
		}
	}
	repeated, err := f.reader.find(ctx, of, query, each, func(n Node) error {
		if len(found) >= maxFound {
			return errMany()
		}
		found = append(found, n)
		return ctx.Err()
	})
	if err == nil && repeated && !each && len(found) > 0 {
		err = errRepeated(query)
	}
	if err != nil {
		return nil, err
	}
	return found, nil
}

func errRepeated(query string) error {
	return fmt.Errorf("%w: %s is led to by a name that stands twice, and programs differ in which one counts", wrap.ErrUnknown, query)
}

// Value returns the value of a node; ok is false if it has no single value.
func (f *File) Value(n Node) (text string, ok bool, err error) { return f.reader.says(&n) }

// EachText visits the texts of the elements that a query names, one after the other: they need not fit into memory.
func (f *File) EachText(ctx context.Context, query string, visit func(text string) error) error {
	return f.eachValue(ctx, query, false, func(_ Node, value []byte) error { return visit(string(value)) })
}

// EachValue visits the elements that a query names, each with its value, or with its text if it has no single value; for a database with the bytes of
// the first column.
func (f *File) EachValue(ctx context.Context, query string, visit func(n Node, value []byte) error) error {
	return f.eachValue(ctx, query, true, visit)
}

func (f *File) eachValue(ctx context.Context, query string, all bool, visit func(n Node, value []byte) error) error {
	if db, ok := f.reader.(*database); ok {
		return db.eachValue(ctx, query, visit)
	}
	_, err := f.answers(ctx, query, func(n Node) error {
		text, ok, err := f.reader.says(&n)
		if err != nil || !ok && !all {
			return err
		}
		value := []byte(text)
		if !ok {
			if value, err = f.src.bytes(n.place()); err != nil {
				return err
			}
		}
		if err := visit(n, value); err != nil {
			return err
		}
		return ctx.Err()
	})
	return err
}

// answers visits the elements that a query names, from memory if it was expected, else while it scans.
func (f *File) answers(ctx context.Context, query string, visit func(Node) error) (repeated bool, err error) {
	a, ok := f.known[query]
	if !ok {
		return f.reader.find(ctx, nil, query, true, visit)
	}
	for _, n := range a.nodes {
		if err := visit(n); err != nil {
			return a.repeated, err
		}
	}
	return a.repeated, nil
}

// IsText reports whether a form is of text, so that a file of it has an encoding.
func IsText(form string) bool {
	return slices.Contains([]string{"blocks", "ini", "json", "lines", "text", "xml"}, form)
}

// IsTree reports whether a form has things in one another, whose names and values may be spelled in several ways.
func IsTree(form string) bool { return form == "json" || form == "xml" || form == "blocks" }

// Plausible reports whether a file whose content, unwrapped, begins with head could be of the form: cheaply, and with no false no.
func Plausible(form string, head []byte) bool {
	text := bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	switch form {
	case "json":
		return len(text) == 0 || strings.IndexByte("{[\"-0123456789tfn", text[0]) >= 0
	case "xml":
		return len(text) == 0 || text[0] == '<'
	case "sqlite":
		return bytes.HasPrefix(head, []byte("SQLite format 3"))
	case "ini", "blocks":
		return bytes.IndexByte(head, 0) < 0
	}
	return true
}
