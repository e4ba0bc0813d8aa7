package doc

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"slices"
	"strconv"
	"strings"

	"ostrov/internal/core/wrap"
)

// ChunkSpec describes the form chunks. Chunk names the parts of a chunk in order: "tag:4 length:u32be", or with more after the content "length:u32be
// tag:4 data crc:4". Record, if a chunk is a list, names the parts of each record: "id:hex4 name:cstr".
type ChunkSpec struct{ Chunk, Record string }

// layout takes a chunk spec apart: the parts before and after the content.
func (s ChunkSpec) layout() (before, after []wrap.Part, err error) {
	parts, err := wrap.ParseParts(s.Chunk)
	if err != nil {
		return nil, nil, err
	}
	before = parts
	for i, p := range parts {
		if p.Name == "data" {
			before, after = parts[:i], parts[i+1:]
		}
	}
	has := map[string]bool{}
	for _, p := range before {
		has[p.Name] = true
	}
	if !has["tag"] || !has["length"] {
		return nil, nil, errors.New(`chunk names at least a tag and a length, as in "tag:4 length:u32be"`)
	}
	return before, after, nil
}

func (s ChunkSpec) check() error {
	_, _, err1 := s.layout()
	_, err2 := wrap.ParseParts(s.Record)
	return errors.Join(err1, err2)
}

// maxChunks bounds the chunks of one file, and the records of one chunk.
const maxChunks = 1_000_000

// chunk is one: where its head begins, and where its content stands.
type chunk struct {
	tag  string
	head int
	data place
}

// chunksReader is chunks that are asked "TAG OFFSET:TYPE" for a value in the first chunk of a tag, and "TAG" for a list: the records of all chunks of
// that tag, whose parts are asked by name, or without a record the chunks themselves, asked as bytes.
type chunksReader struct {
	bytesReader
	chunks        []chunk
	before, after []wrap.Part
	record        []wrap.Part
}

func newChunks(data []byte, spec ChunkSpec) (*chunksReader, error) {
	c := &chunksReader{bytesReader: data}
	var err error
	if c.before, c.after, err = spec.layout(); err != nil {
		return nil, err
	}
	if c.record, err = wrap.ParseParts(spec.Record); err != nil {
		return nil, err
	}
	for at := 0; at < len(data); {
		if len(c.chunks) >= maxChunks {
			return nil, fmt.Errorf("%w: more than %d chunks", wrap.ErrTooLarge, maxChunks)
		}
		head, n, err := wrap.ReadParts(data[at:], c.before)
		if err != nil {
			return nil, fmt.Errorf("at byte %d: %w", at, err)
		}
		from := at + n
		length, err := strconv.ParseUint(head["length"], 10, 63)
		if err != nil || length > uint64(len(data)-from) {
			return nil, fmt.Errorf("%w: the chunk %.20q ends too early", wrap.ErrDamaged, head["tag"])
		}
		to := from + int(length)
		c.chunks = append(c.chunks, chunk{head["tag"], at, place{from, to}})
		if _, n, err = wrap.ReadParts(data[to:], c.after); err != nil {
			return nil, fmt.Errorf("at byte %d: %w", to, err)
		}
		at = to + n
	}
	return c, nil
}

// chunkQuery takes a query apart.
func chunkQuery(query string, each bool) (tag string, offset int, t wrap.Type, err error) {
	tag, at, has := strings.Cut(query, " ")
	switch {
	case tag == "":
		err = errors.New("empty query")
	case each && has:
		err = fmt.Errorf("%q: a list is named by the tag alone", query)
	case !each && !has:
		err = fmt.Errorf("%q is not TAG OFFSET:TYPE", query)
	case has:
		offset, t, err = bytesQuery(at)
	}
	return tag, offset, t, err
}

// recordParts are the parts of a record, by their names.
type recordParts map[string]Node

func (c *chunksReader) find(ctx context.Context, of *Node, query string, each bool, visit func(Node) error) (bool, error) {
	if of != nil {
		return c.bytesReader.find(ctx, of, query, each, visit)
	}
	tag, offset, t, err := chunkQuery(query, each)
	if err != nil {
		return false, err
	}
	for _, ch := range c.chunks {
		switch {
		case ch.tag != tag:
		case !each:
			if n, ok := inBytes(c.bytesReader[ch.data.from:ch.data.to], ch.data.from, offset, t); ok {
				return false, visit(n)
			}
			return false, nil
		case len(c.record) == 0:
			err = visit(Node{From: ch.data.from, To: ch.data.to, value: ch.data})
		default:
			err = c.records(ch, visit)
		}
		if err != nil {
			return false, err
		}
	}
	return false, nil
}

// records visits the records of a chunk.
func (c *chunksReader) records(ch chunk, visit func(Node) error) error {
	count := 0
	for from := ch.data.from; from < ch.data.to; {
		r, at := recordParts{}, from
		for _, p := range c.record {
			n, ok := inBytes(c.bytesReader[at:ch.data.to], at, 0, p.Type)
			if !ok {
				return fmt.Errorf("%w: ends inside %s", wrap.ErrDamaged, p.Name)
			}
			n.extra = byteValue{p.Type, p.Type.Text()}
			r[p.Name] = n
			if at = n.To; p.Type.Text() {
				at++
			}
		}
		if count++; at == from || count > maxChunks {
			return fmt.Errorf("%w: more than %d records", wrap.ErrTooLarge, maxChunks)
		}
		if err := visit(Node{From: from, To: at, start: from, value: place{from, at}, extra: r}); err != nil {
			return err
		}
		from = at
	}
	return nil
}

// chunksEdit writes chunks: records can be put in and taken out, and the lengths of their chunks follow.
type chunksEdit struct {
	*chunksReader
	bytesEdit
}

func (c chunksEdit) cut(parts []Node) ([]change, error) {
	var edits []change
	for _, n := range parts {
		if _, ok := n.extra.(recordParts); !ok {
			return nil, fmt.Errorf("a chunk itself %w", wrap.ErrNotWritable)
		}
		edits = append(edits, change{n.From, n.To, ""})
	}
	return edits, nil
}

func (c chunksEdit) add(_ *Node, after *Node, piece string) (change, error) {
	if after == nil {
		return change{}, fmt.Errorf("a record beside no other %w: nothing tells its chunk", wrap.ErrNotWritable)
	}
	return change{after.To, after.To, piece}, nil
}

// follow are the lengths and checksums that follow from changes.
func (c chunksEdit) follow(edits []change) (more []change, err error) {
	for _, ch := range c.chunks {
		grown := 0
		var here []change
		for _, e := range edits {
			if e.From >= ch.data.from && e.To <= ch.data.to && (e.From < ch.data.to || e.From == e.To) {
				grown += len(e.Text) - (e.To - e.From)
				here = append(here, change{e.From - ch.data.from, e.To - ch.data.from, e.Text})
			}
		}
		if len(here) == 0 {
			continue
		}
		if grown != 0 {
			at, t, err := c.part(c.before, ch.head, "length")
			if err != nil {
				return nil, err
			}
			text, err := t.Encode(strconv.Itoa(ch.data.to-ch.data.from+grown), t.Size)
			if err != nil {
				return nil, err
			}
			more = append(more, change{at, at + t.Size, string(text)})
		}
		sum, err := c.checksum(ch, here)
		if err != nil {
			return nil, err
		}
		more = append(more, sum...)
	}
	return more, nil
}

// part finds a part of a chunk's head or tail that begins at a place.
func (c chunksEdit) part(parts []wrap.Part, at int, name string) (int, wrap.Type, error) {
	for _, p := range parts {
		if p.Name == name {
			return at, p.Type, nil
		}
		n, _ := p.Type.Span(c.bytesReaderOf()[at:])
		if at += n; p.Type.Text() {
			at++
		}
	}
	return 0, wrap.Type{}, missingValue(name)
}

func (c chunksEdit) bytesReaderOf() []byte { return c.chunksReader.bytesReader }

// checksum is the CRC-32 behind a chunk, over its tag and content or its content alone, in the order of bytes that it had.
func (c chunksEdit) checksum(ch chunk, edits []change) ([]change, error) {
	if len(c.after) == 0 {
		return nil, nil
	}
	at, t, err := c.part(c.after, ch.data.to, "crc")
	if err != nil || t.Size != 4 || len(c.after) > 1 {
		return nil, fmt.Errorf("what stands behind a chunk follows from it in a way that is not known: it %w", wrap.ErrNotWritable)
	}
	data := c.bytesReaderOf()[ch.data.from:ch.data.to]
	now, err := apply(data, edits)
	if err != nil {
		return nil, err
	}
	was := c.bytesReaderOf()[at : at+4]
	for _, tag := range []string{ch.tag, ""} {
		sum := func(data []byte) []byte {
			return binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE(append([]byte(tag), data...)))
		}
		before, after := sum(data), sum(now)
		for range 2 {
			if bytes.Equal(before, was) {
				return []change{{at, at + 4, string(after)}}, nil
			}
			slices.Reverse(before)
			slices.Reverse(after)
		}
	}
	return nil, fmt.Errorf("the checksum behind a chunk is made in a way that is not known: it %w", wrap.ErrNotWritable)
}
