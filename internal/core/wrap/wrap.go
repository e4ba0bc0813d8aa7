// Package wrap takes the layers off the files of games and puts them back: compressions, headers, lengths, checksums, an entry of a zip.
//
// Layers say once how a file is wrapped. Reader and Peel unwrap; Wrap puts another content into the layers of an original. What stands before,
// between and behind the streams of a layer belongs to the layer: Wrap keeps it byte for byte, or refuses to write and says what stands there.
//
// It promises to bound what it holds in memory (Limits) and to check every checksum, length and index that a layer has. It never writes a file.
// Input is untrusted: whatever is in it ends in content or in an error, never in a panic.
package wrap

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
)

// ErrTooLarge means that a file, unwrapped, exceeds a limit. It was not read; it may be healthy.
var ErrTooLarge = errors.New("too large to be read")

// ErrDamaged means that a file does not match its layers or its form, or is cut short.
var ErrDamaged = errors.New("damaged")

// ErrUnknown means that a file is made in a way that its description does not cover: it may be right.
var ErrUnknown = errors.New("not understood")

// ErrNotWritable means that something cannot be written to its place.
var ErrNotWritable = errors.New("cannot be written")

// Limits bound the reading of one file.
type Limits struct {
	Decoded int64 // bytes after all layers are peeled
	// Dictionary is the distance that a decoder may look back in its output, in bytes; 0 is 64 MiB.
	Dictionary int64
}

// DefaultLimits are right for the files of one save or mod.
var DefaultLimits = Limits{Decoded: 512 << 20}

// maxDictionary is the largest dictionary of a decoder, in bytes, unless Limits say less: xz -9 needs that much.
const maxDictionary = 64 << 20

func (l Limits) dictionary() int64 {
	if l.Dictionary > 0 {
		return l.Dictionary
	}
	return maxDictionary
}

// MaxHeld is the largest content, in bytes, that is held in memory at once by what needs all of it: a zip, a checksum, a list of chunks.
const MaxHeld = 64 << 20

// Content is the bytes of a file, wherever they are. A *bytes.Reader is one.
type Content interface {
	io.ReaderAt
	Size() int64 // bytes
}

// all reads a content from its beginning.
func all(c Content) io.Reader { return io.NewSectionReader(c, 0, c.Size()) }

// maxDoubled is the size, in bytes, up to which a buffer doubles when it grows; larger ones would be in memory three times.
const maxDoubled = 4 << 20

// inUnits is a limit in words.
func inUnits(n int64) string {
	if n >= 1<<20 {
		return fmt.Sprintf("%d MiB", n>>20)
	}
	return fmt.Sprintf("%d bytes", n)
}

// ReadAtMost reads r to its end; the error wraps ErrTooLarge if that is more than limit bytes.
func ReadAtMost(r io.Reader, limit int64) ([]byte, error) {
	var b bytes.Buffer
	if f, ok := r.(interface{ Size() int64 }); ok && f.Size() <= limit {
		b.Grow(int(f.Size()) + bytes.MinRead)
	}
	n, err := io.Copy(&b, io.LimitReader(r, min(limit, maxDoubled)+1))
	if err != nil {
		return nil, err
	}
	if n <= min(limit, maxDoubled) {
		return b.Bytes(), nil
	}
	parts, total := [][]byte{b.Bytes()}, n
	for {
		part := make([]byte, maxDoubled)
		m, err := io.ReadFull(r, part)
		parts, total = append(parts, part[:m]), total+int64(m)
		switch {
		case total > limit:
			return nil, fmt.Errorf("%w: more than %s", ErrTooLarge, inUnits(limit))
		case err == io.EOF || err == io.ErrUnexpectedEOF:
			return bytes.Join(parts, nil), nil
		case err != nil:
			return nil, err
		}
	}
}

// ReadFile returns the content of the file name of fsys with the layers peeled.
func (l Layers) ReadFile(fsys fs.FS, name string, limits Limits) ([]byte, error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := l.Peel(f, limits)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return data, nil
}
