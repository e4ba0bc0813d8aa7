package wrap

import (
	"bufio"
	"bytes"
	"errors"
	"io"

	"github.com/klauspost/compress/gzip"
)

// gzipReader reads all members of a gzip (RFC 1952, 2.2) and, as the usual programs do, passes over zeros behind the last one: some games keep a
// file at one size, and tapes have blocks. Anything else there is an error.
type gzipReader struct {
	z     *gzip.Reader
	b     *bufio.Reader
	first gzip.Header
	zeros int  // zeros after the last member; known at the end
	named bool // a member behind the first one has a name, a comment or an extra field
}

func newGzip(r io.Reader) (*gzipReader, error) {
	b := bufio.NewReader(r)
	z, err := gzip.NewReader(b)
	if err != nil {
		return nil, err
	}
	z.Multistream(false)
	return &gzipReader{z: z, b: b, first: z.Header}, nil
}

func (g *gzipReader) Read(p []byte) (int, error) {
	for {
		n, err := g.z.Read(p)
		if n > 0 || err != io.EOF {
			if err == io.EOF {
				err = nil // there may be another one
			}
			return n, err
		}
		if err := g.next(); err != nil {
			return 0, err
		}
	}
}

// next begins the next member; the error is io.EOF after the last one.
func (g *gzipReader) next() error {
	first, err := g.b.Peek(1)
	if err != nil {
		return err
	}
	if first[0] != 0 {
		if err := g.z.Reset(g.b); err != nil {
			return err
		}
		g.z.Multistream(false)
		g.named = g.named || g.z.Name != "" || g.z.Comment != "" || len(g.z.Extra) > 0
		return nil
	}
	for {
		c, err := g.b.ReadByte()
		if err != nil {
			return err
		}
		if c != 0 {
			return errors.New("something other than zeros stands behind its end")
		}
		g.zeros++
	}
}

// GzipHeader returns the length of the header that a file in gzip begins with (RFC 1952, 2.3.1), in bytes; 0 for other files.
func GzipHeader(file []byte) int {
	if len(file) < 10 || file[0] != 0x1f || file[1] != 0x8b {
		return 0
	}
	flags, at := file[3], 10
	if flags&4 != 0 && at+2 <= len(file) { // an extra field
		at += 2 + int(file[at]) + int(file[at+1])<<8
	}
	for _, text := range []byte{8, 16} { // a name, a comment
		if flags&text != 0 && at <= len(file) {
			end := bytes.IndexByte(file[at:], 0)
			if end < 0 {
				return 0
			}
			at += end + 1
		}
	}
	if flags&2 != 0 { // a checksum of the header
		at += 2
	}
	if at > len(file) {
		return 0
	}
	return at
}

// Unnamed returns a file in gzip without the name, the comment and the extra field in its header.
func Unnamed(file []byte) []byte {
	head := GzipHeader(file)
	if head == 0 {
		return file
	}
	plain := append(bytes.Clone(file[:10]), file[head:]...)
	plain[3] &= 1 // whether it is text
	return plain
}
