package form

import (
	"bytes"
	"errors"
	"fmt"
	"io"
)

// source is a large text: in memory, or in a file of which one block at a time is.
type source struct {
	data []byte // all of it, or, of a file, the block that begins at base
	base int
	size int // of all, in bytes
	file io.ReaderAt
	err  error // of the last reading: what reads on finds nothing then
	// done closes the file.
	done func() error
}

func (s *source) close() error {
	if s.done == nil {
		return nil
	}
	return s.done()
}

// block is how much of a file is in memory at once, in bytes.
const block = 1 << 20

func inMemory(data []byte) *source { return &source{data: data, size: len(data)} }

func inFile(file io.ReaderAt, size int) *source { return &source{file: file, size: size} }

// bytes are those of a place. Of a file they are good until more is read; a place may be larger than a block.
func (s *source) bytes(from, to int) []byte {
	if from >= s.base && to <= s.base+len(s.data) {
		return s.data[from-s.base : to-s.base]
	}
	if s.file == nil || from > to {
		return nil
	}
	end := min(max(to, from+block), s.size)
	if cap(s.data) < end-from || cap(s.data) > 4*block && end-from <= block {
		s.data = make([]byte, end-from)
	}
	s.data = s.data[:end-from]
	s.base = from
	if n, err := s.file.ReadAt(s.data, int64(from)); n < end-from {
		s.err = errors.Join(s.err, fmt.Errorf("%w: ends after %d of %d bytes: %w", ErrDamaged, from+n, s.size, err))
		s.data = s.data[:n]
		if to-from > n {
			return s.data
		}
	}
	return s.data[:to-from]
}

// rest is what of a place is in memory, at least one byte of it.
func (s *source) rest(from, to int) []byte {
	if s.file == nil {
		return s.data[from:to]
	}
	if from < s.base || from >= s.base+len(s.data) {
		s.bytes(from, min(from+1, to))
	}
	if from < s.base || from >= s.base+len(s.data) {
		return nil
	}
	return s.data[from-s.base : min(to-s.base, len(s.data))]
}

// index is where c stands first in a place, or -1.
func (s *source) index(from, to int, c byte) int {
	for from < to {
		part := s.rest(from, to)
		if i := bytes.IndexByte(part, c); i >= 0 {
			return from + i
		}
		if len(part) == 0 {
			return -1
		}
		from += len(part)
	}
	return -1
}

// search is where a text stands first in a place, or -1.
func (s *source) search(from, to int, text string) int {
	for from+len(text) <= to {
		part := s.rest(from, to)
		if len(part) < len(text) {
			part = s.bytes(from, min(from+block, to))
		}
		if i := bytes.Index(part, []byte(text)); i >= 0 {
			return from + i
		}
		if len(part) < len(text) {
			return -1
		}
		from += len(part) - len(text) + 1
	}
	return -1
}

// byteAt is one byte.
func (s *source) byteAt(at int) byte {
	if b := s.bytes(at, at+1); len(b) == 1 {
		return b[0]
	}
	return 0
}

// reader reads a place. Of a file it reads beside the block that is in memory.
func (s *source) reader(from, to int) io.Reader {
	if s.file != nil {
		return io.NewSectionReader(s.file, int64(from), int64(to-from))
	}
	return bytes.NewBuffer(s.data[from:to])
}
