package form

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/crc32"
	"math"
	"strconv"
	"strings"
)

// bytesShape is bytes whose values stand at offsets: nothing is put in or taken out.
type bytesShape []byte

func (b bytesShape) spans(_ context.Context, of *Span, query string, each bool) ([]Span, error) {
	q, err := compileBytes(query)
	if err != nil || each {
		return nil, errNotStreaming(query)
	}
	from, to := 0, len(b)
	if of != nil {
		from, to = of.From, of.To
	}
	s, ok := q.in(b[from:to], from)
	if !ok {
		return nil, nil
	}
	return []Span{s}, nil
}

// in is where the value of a query stands in data, which begins at base.
func (q bytesQuery) in(data []byte, base int) (Span, bool) {
	from := q.offset
	if from < 0 {
		from += int64(len(data))
	}
	if from < 0 || from > int64(len(data)) || q.kind != "cstr" && from+int64(q.size) > int64(len(data)) {
		return Span{}, false
	}
	if q.kind == "cstr" {
		if q.size = bytes.IndexByte(data[from:], 0); q.size < 0 {
			return Span{}, false
		}
	}
	return Span{base + int(from), base + int(from) + q.size, q}, true
}

func (b bytesShape) value(s Span) (string, bool, error) {
	q, ok := s.node.(bytesQuery)
	if !ok {
		return "", false, nil
	}
	q.offset = 0
	data := b[s.From:s.To]
	if q.kind == "cstr" {
		return string(data), true, nil
	}
	return bytesDoc(data).Value(context.Background(), q.String())
}

// String is a query as a description spells it.
func (q bytesQuery) String() string {
	order := "le"
	if q.order == binary.ByteOrder(binary.BigEndian) {
		order = "be"
	}
	switch {
	case q.kind == "hex" || q.kind == "ascii":
		return fmt.Sprintf("%d:%s%d", q.offset, q.kind, q.size)
	case q.size == 1 || q.kind == "cstr":
		return fmt.Sprintf("%d:%s", q.offset, q.kind)
	}
	return fmt.Sprintf("%d:%s%s", q.offset, q.kind, order)
}

func (b bytesShape) set(s Span, value string) (change, error) {
	q, ok := s.node.(bytesQuery)
	if !ok {
		return change{}, fmt.Errorf("%q: %w", value, ErrNotWritable)
	}
	q.size = s.To - s.From
	text, err := q.encode(value)
	return change{s.From, s.To, text}, err
}

func (b bytesShape) cut([]Span) ([]change, error) {
	return nil, fmt.Errorf("what stands at an offset %w: nothing tells what moves with it", ErrNotWritable)
}

func (b bytesShape) add(Span, *Span, string) (change, error) {
	return change{}, fmt.Errorf("what stands at an offset %w: nothing tells what moves with it", ErrNotWritable)
}

// encode is a value as the bytes of its type; texts are filled up with zeros to the size that they have.
func (q bytesQuery) encode(value string) (string, error) {
	b := make([]byte, q.size)
	tooLarge := fmt.Errorf("%q does not fit: %w", value, ErrNotWritable)
	switch q.kind {
	case "u8", "u16", "u32", "u64":
		n, err := strconv.ParseUint(value, 10, 8*q.size)
		if err != nil {
			return "", tooLarge
		}
		switch q.size {
		case 1:
			b[0] = byte(n)
		case 2:
			q.order.PutUint16(b, uint16(n))
		case 4:
			q.order.PutUint32(b, uint32(n))
		default:
			q.order.PutUint64(b, n)
		}
	case "i32":
		n, err := strconv.ParseInt(value, 10, 32)
		if err != nil {
			return "", tooLarge
		}
		q.order.PutUint32(b, uint32(n))
	case "f32", "f64":
		x, err := strconv.ParseFloat(value, 8*q.size)
		if err != nil {
			return "", tooLarge
		}
		if q.size == 4 {
			q.order.PutUint32(b, math.Float32bits(float32(x)))
		} else {
			q.order.PutUint64(b, math.Float64bits(x))
		}
	case "hex":
		raw, err := hex.DecodeString(value)
		if err != nil || len(raw) > q.size {
			return "", tooLarge
		}
		copy(b, raw)
	case "ascii":
		if len(value) > q.size || !isASCII(value) {
			return "", tooLarge
		}
		copy(b, value)
	case "cstr":
		if len(value) > q.size || strings.Contains(value, "\x00") {
			return "", fmt.Errorf("%q is longer than the %d bytes that stand there: %w", value, q.size, ErrNotWritable)
		}
		copy(b, value)
	default:
		return "", fmt.Errorf("a value of the type %s %w", q.kind, ErrNotWritable)
	}
	return string(b), nil
}

// chunksShape is chunks whose records can be put in and taken out: the lengths of their chunks follow.
type chunksShape struct {
	text   []byte
	doc    *chunksDoc
	before []chunkPart
	after  []chunkPart
}

// record is a record of a chunk.
type record struct {
	chunk int
	parts map[string]Span
}

func shapeChunks(text []byte, spec ChunkSpec) (shape, error) {
	doc, err := parseChunks(text, spec)
	if err != nil {
		return nil, err
	}
	before, after, err := spec.layout()
	return &chunksShape{text, doc, before, after}, err
}

func (c *chunksShape) spans(_ context.Context, of *Span, query string, each bool) ([]Span, error) {
	if of != nil {
		if r, ok := of.node.(record); ok && r.parts != nil {
			if s, ok := r.parts[query]; ok {
				return []Span{s}, nil
			}
			return nil, nil
		}
		return bytesShape(c.text).spans(context.Background(), of, query, each)
	}
	tag, at, err := compileChunks(query, each)
	if err != nil {
		return nil, err
	}
	var found []Span
	for i, ch := range c.doc.chunks {
		end := ch.at + len(ch.data)
		switch {
		case ch.tag != tag:
		case !each:
			q, _ := compileBytes(at)
			if s, ok := q.in(ch.data, ch.at); ok {
				return []Span{s}, nil
			}
			return nil, nil
		case len(c.doc.record) == 0:
			found = append(found, Span{ch.at, end, record{chunk: i}})
		default:
			for from := ch.at; from < end; {
				r := record{i, map[string]Span{}}
				to, err := c.placed(from, end, r.parts)
				if err != nil {
					return nil, err
				}
				if to == from || len(found) >= maxChunks {
					return nil, fmt.Errorf("%w: more than %d records", ErrTooLarge, maxChunks)
				}
				found = append(found, Span{from, to, r})
				from = to
			}
		}
	}
	return found, nil
}

// placed says where the parts of the record stand that begins at a byte, and where it ends.
func (c *chunksShape) placed(from, end int, parts map[string]Span) (int, error) {
	at := from
	for _, p := range c.doc.record {
		q, _ := compileBytes("0:" + p.kind)
		s, ok := q.in(c.text[at:end], at)
		if !ok {
			return 0, fmt.Errorf("%w: ends inside %s", ErrDamaged, p.name)
		}
		q.grows = q.kind == "cstr"
		s.node = q
		parts[p.name] = s
		if at = s.To; q.grows {
			at++
		}
	}
	return at, nil
}

func (c *chunksShape) value(s Span) (string, bool, error) { return bytesShape(c.text).value(s) }

// set writes a value. A text in a record may take another length: nothing that is read by its offset stands behind it.
func (c *chunksShape) set(s Span, value string) (change, error) {
	if q, ok := s.node.(bytesQuery); ok && q.grows && !strings.Contains(value, "\x00") {
		return change{s.From, s.To, value}, nil
	}
	return bytesShape(c.text).set(s, value)
}

func (c *chunksShape) cut(parts []Span) ([]change, error) {
	var edits []change
	for _, s := range parts {
		if r, ok := s.node.(record); !ok || r.parts == nil {
			return nil, fmt.Errorf("a chunk itself %w", ErrNotWritable)
		}
		edits = append(edits, change{s.From, s.To, ""})
	}
	return edits, nil
}

func (c *chunksShape) add(_ Span, after *Span, piece string) (change, error) {
	if after == nil {
		return change{}, fmt.Errorf("a record beside no other %w: nothing tells its chunk", ErrNotWritable)
	}
	return change{after.To, after.To, piece}, nil
}

// follow are the lengths of the chunks that edits make longer or shorter, and the checksums behind those that had right ones.
func (c *chunksShape) follow(edits []change) ([]change, error) {
	var more []change
	for _, ch := range c.doc.chunks {
		end := ch.at + len(ch.data)
		var inside []change
		delta := 0
		for _, e := range edits {
			if e.From >= ch.at && e.To <= end {
				inside = append(inside, change{e.From - ch.at, e.To - ch.at, e.Text})
				delta += len(e.Text) - (e.To - e.From)
			}
		}
		if len(inside) == 0 {
			continue
		}
		lengths, err := c.part(ch, "length", -1)
		if err != nil {
			return nil, err
		}
		if delta != 0 {
			q := lengths.node.(bytesQuery)
			q.size = lengths.To - lengths.From
			text, err := q.encode(strconv.Itoa(len(ch.data) + delta))
			if err != nil {
				return nil, err
			}
			more = append(more, change{lengths.From, lengths.To, text})
		}
		sum, err := c.checksum(ch, inside)
		if err != nil {
			return nil, err
		}
		more = append(more, sum...)
	}
	return more, nil
}

// part is where a part of a chunk's head, or with end its tail, stands.
func (c *chunksShape) part(ch chunk, name string, end int) (Span, error) {
	parts, at := c.before, ch.at
	if end >= 0 {
		parts, at = c.after, end
	} else {
		for _, p := range c.before {
			q, _ := compileBytes("0:" + p.kind)
			if q.kind == "cstr" {
				return Span{}, fmt.Errorf("a chunk whose head has no fixed length %w", ErrNotWritable)
			}
			at -= q.size
		}
	}
	for _, p := range parts {
		q, _ := compileBytes("0:" + p.kind)
		if p.name == name {
			return Span{at, at + q.size, q}, nil
		}
		at += q.size
	}
	return Span{}, missingValue(name)
}

// checksum is the CRC-32 behind a chunk, over its tag and content or its content alone, as it was before.
func (c *chunksShape) checksum(ch chunk, edits []change) ([]change, error) {
	if len(c.after) == 0 {
		return nil, nil
	}
	at, err := c.part(ch, "crc", ch.at+len(ch.data))
	if err != nil || at.To-at.From != 4 || len(c.after) > 1 {
		return nil, fmt.Errorf("what stands behind a chunk follows from it in a way that is not known: it %w", ErrNotWritable)
	}
	data, err := apply(ch.data, edits)
	if err != nil {
		return nil, err
	}
	was := c.text[at.From:at.To]
	for _, tag := range []string{ch.tag, ""} {
		sum := func(data []byte) uint32 { return crc32.ChecksumIEEE(append([]byte(tag), data...)) }
		for _, put := range []func([]byte, uint32) []byte{appendBig, appendLittle} {
			if bytes.Equal(put(nil, sum(ch.data)), was) {
				return []change{{at.From, at.To, string(put(nil, sum(data)))}}, nil
			}
		}
	}
	return nil, fmt.Errorf("the checksum behind a chunk is made in a way that is not known: it %w", ErrNotWritable)
}

func appendBig(b []byte, n uint32) []byte {
	return append(b, byte(n>>24), byte(n>>16), byte(n>>8), byte(n))
}

func appendLittle(b []byte, n uint32) []byte {
	return append(b, byte(n), byte(n>>8), byte(n>>16), byte(n>>24))
}
