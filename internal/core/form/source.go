package form

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"sync/atomic"
)

// source is a large text: in memory, or in a file of which one block at a time is.
type source struct {
	data []byte // all of it, or, of a file, the block that begins at base
	base int
	size int // of all, in bytes
	file io.ReaderAt
	step int   // how much of the file is in memory at once, in bytes
	err  error // of the last reading: what reads on finds nothing then
	// apostrophes tells that what is in memory has apostrophes, perhaps.
	apostrophes bool
	// done closes the file.
	done func() error

	outline
	before  outlined // what is known of the file without reading it, or nil
	form    string   // the one that it is passed over as
	unknown *memory  // what is to be remembered of the file, and is not yet, or nil

	ahead     *ahead
	aheadFrom int          // the size from which on there is a second pass
	stopped   *atomic.Bool // nothing more is to be read, nil where that is not asked
}

// part is where the part ends that begins at a place, where that is known.
func (s *source) part(from int) (e extent, ok bool) {
	if from < s.high || s.before != nil {
		e, ok = s.known(from)
	}
	return e, ok
}

func (s *source) known(from int) (extent, bool) {
	if e, ok := s.outline.part(from); ok || s.before == nil {
		return e, ok
	}
	e, ok := s.before.part(from)
	if m, remembered := s.before.(*memory); ok && remembered && !s.stands(m, from, e) {
		s.before = nil // it was of something else
		return extent{}, false
	}
	return e, ok
}

func (s *source) close() error {
	if s.done == nil {
		return nil
	}
	return s.done()
}

// failed is err, or why the text could not be read on: what was found then is not what stands there.
func (s *source) failed(err error) error {
	if s.err != nil && !errors.Is(err, s.err) {
		return errors.Join(err, s.err)
	}
	return err
}

// block is how much of a file is in memory at once, in bytes; what is smaller is soon read again.
const block = 1 << 20

func inMemory(data []byte) *source {
	return &source{data: data, size: len(data), step: block, apostrophes: bytes.IndexByte(data, '\'') >= 0, outline: newOutline()}
}

func inFile(file io.ReaderAt, size int) *source {
	return &source{file: file, size: size, step: block, outline: newOutline(), before: outlineOf(file, int64(size)), aheadFrom: leastAhead}
}

// bytes are those of a place, none of one that goes on behind the end. Of a file they are good until more is read; a place may be larger than a block.
func (s *source) bytes(from, to int) []byte {
	if from >= s.base && to <= s.base+len(s.data) {
		return s.data[from-s.base : to-s.base]
	}
	if s.file == nil || from > to || to > s.size {
		return nil
	}
	if s.stopped != nil && s.stopped.Load() {
		s.err = errStopped
		return nil
	}
	end := min(max(to, from+s.step), s.size)
	if cap(s.data) < end-from || cap(s.data) > 4*s.step && end-from <= s.step {
		s.data = make([]byte, end-from)
	}
	s.data = s.data[:end-from]
	s.base, s.apostrophes = from, true
	if n, err := s.file.ReadAt(s.data, int64(from)); n < end-from {
		s.err = errors.Join(s.err, fmt.Errorf("%w: ends after %d of %d bytes: %w", ErrDamaged, from+n, s.size, err))
		s.data = s.data[:n]
		if to-from > n {
			return s.data
		}
	}
	s.apostrophes = bytes.IndexByte(s.data, '\'') >= 0
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
			part = s.bytes(from, min(from+max(s.step, len(text)), to))
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

// behind is the first byte at or behind a place that is no white space and no zero: a file may be filled up with these.
func (s *source) behind(at int) int {
	for at < s.size {
		part := s.rest(at, s.size)
		for i, c := range part {
			if c != 0 && !space(c) {
				return at + i
			}
		}
		if len(part) == 0 {
			break
		}
		at += len(part)
	}
	return at
}

// nothingBehind is an error where something is left of a text behind its end: what some readers would read, and others not.
func nothingBehind(form string, s *source, end int) error {
	if at := s.behind(end); at < s.size {
		return fmt.Errorf("%w: the %s is over at byte %d, and something follows at byte %d", ErrDamaged, form, end, at)
	}
	return nil
}

// byteAt is one byte.
func (s *source) byteAt(at int) byte {
	if b := s.bytes(at, at+1); len(b) == 1 {
		return b[0]
	}
	return 0
}

// peek are the bytes of a small place, beside the block that is in memory.
func (s *source) peek(from, to int) []byte {
	from, to = max(from, 0), min(to, s.size)
	if from >= to {
		return nil
	}
	if from >= s.base && to <= s.base+len(s.data) {
		return s.data[from-s.base : to-s.base]
	}
	b := make([]byte, to-from)
	n, err := s.file.ReadAt(b, int64(from))
	if n < len(b) {
		s.err = errors.Join(s.err, fmt.Errorf("%w: ends after %d of %d bytes: %w", ErrDamaged, from+n, s.size, err))
	}
	return b[:n]
}

// bom is how long the mark is that a text in UTF-8 may begin with.
func (s *source) bom() int {
	if bytes.Equal(s.peek(0, 3), []byte("\xef\xbb\xbf")) {
		return 3
	}
	return 0
}

// at is one byte, as peek.
func (s *source) at(i int) byte {
	if b := s.peek(i, i+1); len(b) == 1 {
		return b[0]
	}
	return 0
}

// around is how many bytes are looked at before or behind a part, at first.
const around = 256

// gapBefore is the white space before a byte.
func (s *source) gapBefore(at int) string {
	for n := around; ; n *= 4 {
		before := s.peek(at-n, at)
		if gap := gapBefore(before, len(before)); len(gap) < len(before) || len(before) < n || n > maxDeclaration {
			return string(gap)
		}
	}
}

// lineAfter puts a line behind the one that a byte is on, ended as the first line of the text is.
func (s *source) lineAfter(at int, piece string) change {
	end := "\n"
	if n := s.index(0, s.size, '\n'); n > 0 && s.at(n-1) == '\r' {
		end = "\r\n"
	}
	if n := s.index(at, s.size, '\n'); n >= 0 {
		return change{n + 1, n + 1, piece + end}
	}
	if s.size == 0 || s.at(s.size-1) == '\n' {
		return change{s.size, s.size, piece + end}
	}
	return change{s.size, s.size, end + piece}
}

// lineOf is lineOf.
func (s *source) lineOf(from, to int) (int, int, bool) {
	for n := around; ; n *= 4 {
		before, after := s.peek(from-n, from), s.peek(to, to+n)
		text := append(append([]byte(nil), before...), after...)
		start, end, alone := lineOf(text, len(before), len(before))
		cut := start == 0 && len(before) == n || end == len(text) && len(after) == n
		if !cut || n > maxDeclaration {
			return from - (len(before) - start), to + (end - len(before)), alone
		}
	}
}
