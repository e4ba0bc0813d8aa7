package form

import (
	"bufio"
	"errors"
	"io"

	"github.com/klauspost/compress/gzip"
)

// gzipReader reads all members of a gzip (RFC 1952, 2.2) and, as the usual programs do, passes over zeros behind the last one: some games keep a
// file at one size, and tapes have blocks. Anything else there is an error.
type gzipReader struct {
	z *gzip.Reader
	b *bufio.Reader
}

func newGzip(r io.Reader) (*gzipReader, error) {
	b := bufio.NewReader(r)
	z, err := gzip.NewReader(b)
	if err != nil {
		return nil, err
	}
	z.Multistream(false)
	return &gzipReader{z, b}, nil
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

// next begins the next member; the error is io.EOF where there is none.
func (g *gzipReader) next() error {
	first, err := g.b.Peek(1)
	if err != nil {
		return err
	}
	if first[0] != 0 {
		err := g.z.Reset(g.b)
		g.z.Multistream(false)
		return err
	}
	for {
		c, err := g.b.ReadByte()
		if err != nil {
			return err
		}
		if c != 0 {
			return errors.New("something other than zeros stands behind its end")
		}
	}
}
