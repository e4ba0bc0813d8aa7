package form

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// frames is a stream of many packed pieces, one after another, each with a head before it that says how long it is: "length:u32le raw:u32le,zlib".
// The head has a part length, the bytes of the packed piece that follows; raw, where it is there, is the bytes of the piece unpacked. The last
// piece may be shorter than the others; the stream ends after a whole piece.
type frames struct {
	head   []chunkPart
	size   int // bytes of the head
	layer  Layer
	r      *bufio.Reader
	limits Limits
	piece  bytes.Reader
	n      int // pieces read
}

func parseFrames(arg string) (*frames, error) {
	head, algorithm, _ := strings.Cut(arg, ",")
	f := &frames{}
	var err error
	if f.head, err = parseParts(head); err != nil {
		return nil, err
	}
	hasLength := false
	for _, p := range f.head {
		q, err := compileBytes("0:" + p.kind)
		if err != nil || q.kind == "cstr" {
			return nil, fmt.Errorf("framed: %s must be of a fixed size", p.name)
		}
		hasLength = hasLength || p.name == "length"
		f.size += q.size
	}
	if f.layer, err = ParseLayer(algorithm); err != nil || !hasLength {
		return nil, errors.Join(err, fmt.Errorf("layer framed:%s: it takes a head with a length and a compression, as in framed:length:u32le raw:u32le,zlib", arg))
	}
	return f, nil
}

// maxFrame bounds one packed piece, in bytes.
const maxFrame = 64 << 20

func (f *frames) Read(p []byte) (int, error) {
	for f.piece.Len() == 0 {
		if err := f.next(); err != nil {
			return 0, err
		}
	}
	return f.piece.Read(p)
}

// next unpacks the next piece.
func (f *frames) next() error {
	head := make([]byte, f.size)
	if _, err := io.ReadFull(f.r, head); err == io.EOF && f.n > 0 {
		return io.EOF
	} else if err != nil {
		return fmt.Errorf("%w: the head of piece %d ends too early", ErrDamaged, f.n+1)
	}
	parts, _, err := readParts(head, f.head)
	if err != nil {
		return err
	}
	length, err := strconv.ParseUint(parts["length"], 10, 63)
	if err != nil || length > maxFrame {
		return fmt.Errorf("%w: piece %d says that it has %s bytes", ErrDamaged, f.n+1, parts["length"])
	}
	var packed bytes.Buffer // grows with what is there, not with what the head says
	if n, err := io.CopyN(&packed, f.r, int64(length)); err != nil {
		return fmt.Errorf("%w: piece %d has %d bytes of %d", ErrDamaged, f.n+1, n, length)
	}
	data, err := Layers{Chain: []Layer{f.layer}}.Peel(&packed, Limits{Decoded: min(f.limits.Decoded, maxFrame)})
	if err != nil {
		return fmt.Errorf("piece %d: %w", f.n+1, err)
	}
	if raw, said, _ := (parts).Value(context.Background(), "raw"); said && raw != strconv.Itoa(len(data)) {
		return fmt.Errorf("%w: piece %d has %d bytes unpacked and says %s", ErrDamaged, f.n+1, len(data), raw)
	}
	f.piece.Reset(data)
	f.n++
	return nil
}
