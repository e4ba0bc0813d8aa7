package wrap

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// frames is the layer "framed:HEAD,COMPRESSION": a stream of many packed pieces, each after a head with its length, as in "framed:length:u32le
// raw:u32le,zlib". The part length is the size of the packed piece that follows, in bytes; raw, if the head has it, its size when unpacked. The
// stream ends after a whole piece.
type frames struct {
	head   []Part
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
	if f.head, err = ParseParts(head); err != nil {
		return nil, err
	}
	hasLength := false
	for _, p := range f.head {
		if p.Type.Text() || p.Type.Size == 0 {
			return nil, fmt.Errorf("framed: %s must be of a fixed size", p.Name)
		}
		hasLength = hasLength || p.Name == "length"
		f.size += p.Type.Size
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
		data, _, err := f.next()
		if err != nil {
			return 0, err
		}
		f.piece.Reset(data)
	}
	return f.piece.Read(p)
}

// next unpacks the next piece, and returns it with its head and packed bytes; the error is io.EOF behind the last.
func (f *frames) next() (data, framed []byte, err error) {
	framed = make([]byte, f.size)
	if _, err := io.ReadFull(f.r, framed); err == io.EOF && f.n > 0 {
		return nil, nil, io.EOF
	} else if err != nil {
		return nil, nil, fmt.Errorf("%w: the head of piece %d ends too early", ErrDamaged, f.n+1)
	}
	parts, _, err := ReadParts(framed, f.head)
	if err != nil {
		return nil, nil, err
	}
	length, err := strconv.ParseUint(parts["length"], 10, 63)
	if err != nil || length > maxFrame {
		return nil, nil, fmt.Errorf("%w: piece %d says that it has %s bytes", ErrDamaged, f.n+1, parts["length"])
	}
	var packed bytes.Buffer // grows with the input, not by the number in the head
	if n, err := io.CopyN(&packed, f.r, int64(length)); err != nil {
		return nil, nil, fmt.Errorf("%w: piece %d has %d bytes of %d", ErrDamaged, f.n+1, n, length)
	}
	framed = append(framed, packed.Bytes()...)
	data, err = Layers{Chain: []Layer{f.layer}}.Peel(&packed, Limits{Decoded: min(f.limits.Decoded, maxFrame)})
	if err != nil {
		return nil, nil, fmt.Errorf("piece %d: %w", f.n+1, err)
	}
	if raw, said := parts["raw"]; said && raw != strconv.Itoa(len(data)) {
		return nil, nil, fmt.Errorf("%w: piece %d has %d bytes unpacked and says %s", ErrDamaged, f.n+1, len(data), raw)
	}
	f.n++
	return data, framed, nil
}

// put writes content in pieces of the original's sizes, and then of the size of the largest. A piece with the same content keeps its bytes.
func (f *frames) put(content, original []byte) ([]byte, error) {
	f.r, f.limits = bufio.NewReader(bytes.NewReader(original)), DefaultLimits
	var out bytes.Buffer
	largest := 1
	var last []byte // the framed bytes of the last piece: its head is a model for more
	for {
		data, framed, err := f.next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		last, largest = framed, max(largest, len(data))
		if _, err := f.r.Peek(1); err == io.EOF {
			break // the last one takes what is left, in as many pieces as it needs
		}
		size := min(len(data), len(content))
		if bytes.Equal(content[:size], data) {
			out.Write(framed)
		} else if err := f.write(&out, content[:size], framed); err != nil {
			return nil, err
		}
		if content = content[size:]; len(content) == 0 {
			return out.Bytes(), nil
		}
	}
	for first := true; first || len(content) > 0; first = false {
		size := min(largest, len(content))
		if err := f.write(&out, content[:size], last); err != nil {
			return nil, err
		}
		content = content[size:]
	}
	return out.Bytes(), nil
}

// write packs one piece behind a head like that of model.
func (f *frames) write(out *bytes.Buffer, piece, model []byte) error {
	packed, err := Layers{Chain: []Layer{f.layer}}.Wrap(bytes.NewReader(piece), bytes.NewReader(model[f.size:]), DefaultLimits)
	if err != nil {
		return err
	}
	at := out.Len()
	out.Write(model[:f.size])
	head := out.Bytes()[at:]
	from := 0
	for _, p := range f.head {
		if n, known := map[string]int{"length": len(packed), "raw": len(piece)}[p.Name]; known {
			text, err := p.Type.Encode(strconv.Itoa(n), p.Type.Size)
			if err != nil {
				return err
			}
			copy(head[from:], text)
		}
		from += p.Type.Size
	}
	out.Write(packed)
	return nil
}
