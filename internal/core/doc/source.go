package doc

import (
	"bytes"
	"fmt"
	"io"

	"ostrov/internal/core/wrap"
)

// source is the decoded content of a file: in memory, or in a file behind a window.
type source struct {
	file io.ReaderAt // nil if all of it is in buf
	size int         // bytes
	buf  []byte      // the window
	base int         // where the window begins
	step int         // how large a window is, in bytes
	done func() error
}

// windowSize is the size of the window, in bytes.
const windowSize = 1 << 20

// maxPiece bounds what must be in memory in one piece, in bytes: a name, a tag, a line, a value that is asked for.
const maxPiece = 16 << 20

func inMemory(data []byte) *source { return &source{buf: data, size: len(data), step: windowSize} }

func inFile(file io.ReaderAt, size int) *source {
	return &source{file: file, size: size, step: windowSize}
}

func (s *source) close() error {
	if s.done == nil {
		return nil
	}
	done := s.done
	s.done = nil
	return done()
}

// from returns the bytes from a place on that are in memory, at least want of them unless the content ends before. They are good until the next call.
func (s *source) from(at, want int) ([]byte, error) {
	if at >= s.base && at+want <= s.base+len(s.buf) || s.file == nil {
		return s.buf[min(at-s.base, len(s.buf)):], nil
	}
	if at >= s.size {
		return nil, nil
	}
	want = min(max(want, s.step), s.size-at)
	if cap(s.buf) < want || cap(s.buf) > 4*s.step && want <= s.step {
		s.buf = make([]byte, want)
	}
	s.buf, s.base = s.buf[:want], at
	if n, err := s.file.ReadAt(s.buf, int64(at)); n < want {
		s.buf = s.buf[:0]
		return nil, fmt.Errorf("%w: ends after %d of %d bytes: %v", wrap.ErrDamaged, at+n, s.size, err)
	}
	return s.buf, nil
}

// bytes are those of a place, at most maxPiece.
func (s *source) bytes(at place) ([]byte, error) {
	n := at.to - at.from
	if n > maxPiece {
		return nil, fmt.Errorf("%w: a piece of %d bytes", wrap.ErrTooLarge, n)
	}
	part, err := s.from(at.from, n)
	if err != nil {
		return nil, err
	}
	if len(part) < n {
		return nil, fmt.Errorf("%w: ends at byte %d", wrap.ErrDamaged, at.from+len(part))
	}
	return part[:n:n], nil
}

// held are all bytes of a content that must be in memory at once.
func (s *source) held() ([]byte, error) {
	if s.file == nil {
		return s.buf, nil
	}
	if s.size > wrap.MaxHeld {
		return nil, fmt.Errorf("%w: more than %d MiB of a form that must be in memory at once", wrap.ErrTooLarge, wrap.MaxHeld>>20)
	}
	return wrap.ReadAtMost(io.NewSectionReader(s.file, 0, int64(s.size)), wrap.MaxHeld)
}

// byteAt is one byte, or 0 behind the end.
func (s *source) byteAt(at int) byte {
	part, err := s.from(at, 1)
	if err != nil || len(part) == 0 || at < 0 {
		return 0
	}
	return part[0]
}

// bom returns the length of the byte order mark of a text in UTF-8.
func (s *source) bom() int {
	if part, err := s.from(0, 3); err == nil && bytes.HasPrefix(part, []byte("\xef\xbb\xbf")) {
		return 3
	}
	return 0
}

// atByte is an error that says where in the text it is.
type atByte struct {
	at int
	error
}

func (e atByte) Unwrap() error { return e.error }

// space reports whether a byte is white space.
func space(b byte) bool { return b == ' ' || b == '\t' || b == '\r' || b == '\n' }

// skipSpace is the first byte at or behind a place that is no white space, and with zeros no zero either.
func (s *source) skipSpace(at, end int, zeros bool) (int, error) {
	for at < end {
		part, err := s.from(at, 1)
		if err != nil {
			return at, err
		}
		for i := range min(len(part), end-at) {
			if c := part[i]; !space(c) && !(zeros && c == 0) {
				return at + i, nil
			}
		}
		if len(part) == 0 {
			break
		}
		at += len(part)
	}
	return min(at, end), nil
}

// nothingBehind is an error if something follows the end of a text: some readers would read it, others not. A file may be filled up with white
// space and zeros.
func (s *source) nothingBehind(form string, end int) error {
	at, err := s.skipSpace(end, s.size, true)
	if err == nil && at < s.size {
		err = fmt.Errorf("%w: the %s is over at byte %d, and something follows at byte %d", wrap.ErrDamaged, form, end, at)
	}
	return err
}

// around is the number of bytes that are read before and after a part at first.
const around = 256

// before are up to n bytes before a place.
func (s *source) before(at, n int) []byte {
	from := max(at-n, 0)
	part, err := s.bytes(place{from, at})
	if err != nil {
		return nil
	}
	return part
}

// gapBefore is the white space before a byte.
func (s *source) gapBefore(at int) string {
	for n := around; ; n *= 4 {
		before := s.before(at, n)
		text := bytes.TrimRight(before, " \t\r\n")
		if len(text) > 0 || len(before) < n || n > maxPiece/4 {
			return string(before[len(text):])
		}
	}
}

// lineOf widens a part to its whole lines, with the end of the last one, if they contain nothing else.
func (s *source) lineOf(from, to int) (int, int, bool) {
	start, end := from, to
	for start > 0 && (s.byteAt(start-1) == ' ' || s.byteAt(start-1) == '\t') {
		start--
	}
	for end < s.size && (s.byteAt(end) == ' ' || s.byteAt(end) == '\t' || s.byteAt(end) == '\r') {
		end++
	}
	if start > 0 && s.byteAt(start-1) != '\n' || end < s.size && s.byteAt(end) != '\n' {
		return from, to, false
	}
	return start, min(end+1, s.size), true
}

// index returns the first place of a byte at or after a place, or -1.
func (s *source) index(at int, c byte) int {
	for at < s.size {
		part, err := s.from(at, 1)
		if err != nil || len(part) == 0 {
			return -1
		}
		if i := bytes.IndexByte(part, c); i >= 0 {
			return at + i
		}
		at += len(part)
	}
	return -1
}

// lineAfter puts a line behind the one that a byte is on, with the line end of the first line of the text.
func (s *source) lineAfter(at int, piece string) change {
	end := "\n"
	if n := s.index(0, '\n'); n > 0 && s.byteAt(n-1) == '\r' {
		end = "\r\n"
	}
	if n := s.index(at, '\n'); n >= 0 {
		return change{n + 1, n + 1, piece + end}
	}
	if s.size == 0 || s.byteAt(s.size-1) == '\n' {
		return change{s.size, s.size, piece + end}
	}
	return change{s.size, s.size, end + piece}
}

// eachLine visits the lines of a place, without their ends. A line is good until visit returns.
func (s *source) eachLine(at place, visit func(from int, line []byte) error) error {
	for from := at.from; from < at.to; {
		want := 1
		for {
			part, err := s.from(from, want)
			if err != nil {
				return err
			}
			part = part[:min(len(part), at.to-from)]
			n := bytes.IndexByte(part, '\n')
			if n < 0 && from+len(part) < at.to {
				if want = 2 * len(part); want > maxPiece {
					return fmt.Errorf("%w: a line of more than %d MiB", wrap.ErrTooLarge, maxPiece>>20)
				}
				continue
			}
			next := from + n + 1
			if n < 0 {
				n, next = len(part), at.to
			}
			if err := visit(from, bytes.TrimSuffix(part[:n], []byte("\r"))); err != nil {
				return err
			}
			from = next
			break
		}
	}
	return nil
}
