// Package form reads single values and lists out of the files of games, whatever wraps them (layers) and whatever shape they have (forms), and makes of a
// file what it is to be with some of them changed.
//
// A Spec says once how a file is wrapped and shaped; Open gives a Doc, which is asked with queries of the shape's own open query language:
// JSONPath for JSON, XPath 1.0 for XML, Section.key for INI, RE2 for text and lines, OFFSET:TYPE for bytes, one SELECT for SQLite.
//
// An Editor finds parts with the same queries and sets, takes out, puts in and renames them; every other byte stays. One more form is a type that is a Doc
// for reading and a shape for changing.
//
// It promises to bound what it holds in memory (Limits), never to write a file of a game, and never to run anything a file contains. Files are untrusted:
// whatever is in them ends in a value or in an error, never in a panic.
package form

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
)

// ErrTooLarge says that a file, unwrapped, exceeds Limits.
var ErrTooLarge = errors.New("too large to be read")

// ErrDamaged says that a file is not what its layers or form say, or is cut short.
var ErrDamaged = errors.New("damaged")

// ErrUnknown says that a file is wrapped in a way that its description does not tell: it may be right.
var ErrUnknown = errors.New("not understood")

// Limits bound the reading of one file.
type Limits struct {
	Decoded int64 // bytes after all layers are peeled
	// Dictionary is how much of what it has unpacked a decoder may look back at, in bytes; 0 is 64 MiB.
	Dictionary int64
}

// maxDictionary is what a decoder may hold, in bytes, where nothing else is said: xz -9 needs that much.
const maxDictionary = 64 << 20

func (l Limits) dictionary() int64 {
	if l.Dictionary > 0 {
		return l.Dictionary
	}
	return maxDictionary
}

// maxHeld is the largest content, in bytes, that is held in memory at once: all of a text for patterns, of chunks, of what a checksum is taken of.
const maxHeld = 64 << 20

// maxTree is the largest text, in bytes, that is read as a tree, which takes some fifteen times its memory. See large.go for what is
// larger.
const maxTree = 32 << 20

// DefaultLimits are right for the files of one save or mod. Of these JSON, XML and databases lie in a file while they are read.
var DefaultLimits = Limits{Decoded: 256 << 20}

// Spec says how a file is wrapped and shaped.
type Spec struct {
	Layers   Layers
	Form     string
	Encoding string // of text before the form reads it: a name of the WHATWG encoding list; "" is UTF-8
	Blocks   BlockPatterns
	Chunks   ChunkSpec

	large int // the size, in bytes, above which no tree is made of it; 0 is largeText
}

// Forms are the names of the forms understood, sorted.
var Forms = []string{"blocks", "bytes", "chunks", "ini", "json", "lines", "sqlite", "text", "xml"}

// Doc is a file, or one element of a list in it, that can be asked for values. It is not safe for concurrent use.
type Doc interface {
	// Value returns the value that the query names, as text. The second result reports whether there is one: a value that is missing,
	// null or not a single value is none. An error says that the file is damaged, not that nothing was found.
	Value(ctx context.Context, query string) (string, bool, error)
	// Each returns the elements that the query names, in the order of the file.
	Each(ctx context.Context, query string) ([]Doc, error)
	// Close frees what the document holds. Elements are not closed.
	Close() error
}

// Open reads the file name of fsys.
// Errors wrap fs.ErrNotExist, ErrTooLarge or ErrDamaged where these apply.
func Open(ctx context.Context, fsys fs.FS, name string, spec Spec, limits Limits) (Doc, error) {
	if spec.Form == "sqlite" {
		return openSQLite(ctx, fsys, name, spec, limits)
	}
	if streams(spec.Form) {
		return openText(fsys, name, spec, limits)
	}
	data, err := Read(fsys, name, spec.Layers, Limits{Decoded: min(limits.Decoded, maxHeld)})
	if err != nil {
		return nil, err
	}
	doc, err := Parse(data, spec)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return doc, nil
}

// Read returns the content of the file name of fsys with its layers peeled.
func Read(fsys fs.FS, name string, layers Layers, limits Limits) ([]byte, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := layers.Peel(f, limits)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return data, nil
}

// worthATree is up to what size, in bytes, a tree is made for a single question.
const worthATree = 64 << 10

// Values calls visit with each value that the query names in the file name of fsys, unwrapped from its own layers; of SQLite, each row's
// first column as bytes. A value is only good until visit returns.
func Values(ctx context.Context, fsys fs.FS, name string, spec Spec, query string, layers Layers, limits Limits, visit func([]byte) error) error {
	unwrapped := func(value []byte) error {
		if layers.Tag != nil || len(layers.Chain) > 0 {
			var err error
			if value, err = layers.Peel(bytes.NewReader(value), limits); err != nil {
				return err
			}
		}
		return visit(value)
	}
	if streams(spec.Form) && Streams(spec.Form, query) {
		spec.large = worthATree // for one question that can be asked without one
	}
	doc, err := Open(ctx, fsys, name, spec, limits)
	if err != nil {
		return err
	}
	defer doc.Close()
	if db, ok := doc.(*sqliteDoc); ok {
		return db.blobs(ctx, query, unwrapped)
	}
	return EachText(ctx, doc, spec.Form, query, func(text string) error { return unwrapped([]byte(text)) })
}

// EachText visits the texts of the elements that a query names in a document of a form. Of a large JSON or XML they are not held in memory.
func EachText(ctx context.Context, doc Doc, form, query string, visit func(string) error) error {
	if large, ok := doc.(interface {
		eachText(query string, visit func(string) error) (streams bool, err error)
	}); ok {
		if streams, err := large.eachText(query, visit); streams || err != nil {
			return err
		}
	}
	elements, err := doc.Each(ctx, query)
	if err != nil {
		return err
	}
	for _, e := range elements {
		if text, ok, err := e.Value(ctx, Self(form)); err != nil {
			return err
		} else if ok {
			if err := visit(text); err != nil {
				return err
			}
		}
	}
	return nil
}

// Parse reads data, whose layers are peeled already. SQLite needs a file and is not parsed here.
func Parse(data []byte, spec Spec) (Doc, error) {
	if IsText(spec.Form) {
		var err error
		if data, err = decode(data, encodingOf(data, spec)); err != nil {
			return nil, err
		}
	}
	switch large := len(data) > cmp.Or(spec.large, largeText); spec.Form {
	case "json":
		if large {
			return parseLargeJSON(data)
		}
		return parseJSON(data)
	case "xml":
		if large {
			return parseLargeXML(data)
		}
		return parseXML(data)
	case "ini":
		return parseINI(data)
	case "text":
		return &textDoc{text: string(data)}, nil
	case "lines":
		return &linesDoc{lines: splitLines(data)}, nil
	case "bytes":
		return bytesDoc(data), nil
	case "blocks":
		if large {
			return largeBlocksOf(inMemory(data), spec.Blocks)
		}
		return parseBlocks(data, spec.Blocks)
	case "chunks":
		doc, err := parseChunks(data, spec.Chunks)
		if err != nil {
			return nil, err
		}
		return doc, nil
	default:
		return nil, fmt.Errorf("no form %q", spec.Form)
	}
}

// IsText reports whether a form is of text, so that a file of it has an encoding.
func IsText(form string) bool {
	return slices.Contains([]string{"blocks", "ini", "json", "lines", "text", "xml"}, form)
}

// CheckSpec reports what is wrong with a spec, before any file is read.
func CheckSpec(spec Spec) error {
	if !slices.Contains(Forms, spec.Form) {
		return fmt.Errorf("no form %q; there are %s", spec.Form, strings.Join(Forms, ", "))
	}
	if spec.Encoding != "" {
		if err := checkEncoding(spec.Encoding); err != nil {
			return err
		}
	}
	if spec.Encoding != "" && !IsText(spec.Form) {
		return fmt.Errorf("the form %s has no encoding", spec.Form)
	}
	if spec.Form == "chunks" {
		return spec.Chunks.check()
	}
	if spec.Chunks != (ChunkSpec{}) {
		return errors.New("chunk and record belong to the form chunks")
	}
	if spec.Form != "blocks" && spec.Blocks != (BlockPatterns{}) {
		return errors.New("open, close and pair belong to the form blocks")
	}
	return spec.Blocks.check()
}

// CheckQuery reports what is wrong with a query for a form, before any file is read. With each, the query is to name elements.
func CheckQuery(form, query string, each bool) error {
	switch form {
	case "json", "blocks":
		_, err := compileJSON(query)
		return err
	case "chunks":
		_, _, err := compileChunks(query, each)
		return err
	case "xml":
		_, err := compileXPath(query)
		return err
	case "sqlite":
		return checkSelect(query)
	case "bytes":
		if each {
			return errors.New("the form bytes has no lists")
		}
		_, err := compileBytes(query)
		return err
	case "ini":
		if each {
			_, err := compilePattern(query)
			return err
		}
		if query == "" {
			return errors.New("empty query")
		}
		return nil
	default:
		_, err := compilePattern(query)
		return err
	}
}

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

// readAtMost reads r whole, or fails with ErrTooLarge past limit bytes.
func readAtMost(r io.Reader, limit int64) ([]byte, error) { return readAbout(r, 0, limit) }

// readAbout is readAtMost where about as many bytes are expected as size.
func readAbout(r io.Reader, size, limit int64) ([]byte, error) {
	var b bytes.Buffer
	if size > bytes.MinRead && size <= limit {
		b.Grow(int(size) + bytes.MinRead)
	}
	n, err := io.Copy(&b, io.LimitReader(r, min(limit, maxDoubled)+1))
	if err != nil {
		return nil, err
	}
	if n <= min(limit, maxDoubled) {
		return b.Bytes(), nil
	}
	parts, total := [][]byte{b.Bytes()}, n // a buffer that grows to twice its size would be there three times
	for {
		part := make([]byte, maxDoubled)
		m, err := io.ReadFull(r, part)
		parts, total = append(parts, part[:m]), total+int64(m)
		switch {
		case total > limit:
			return nil, fmt.Errorf("%w: more than %d bytes", ErrTooLarge, limit)
		case err == io.EOF || err == io.ErrUnexpectedEOF:
			return bytes.Join(parts, nil), nil
		case err != nil:
			return nil, err
		}
	}
}

// maxDoubled is up to what size, in bytes, a buffer grows to twice as much.
const maxDoubled = 4 << 20
