package form

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// ChunkSpec says how the form chunks is laid out. Chunk names what a chunk is made of, in order: "tag:4 length:u32be", or with more after
// the content "length:u32be tag:4 data crc:4". Record, where a chunk is a list, names what each of its records is made of: "id:hex4
// name:cstr".
type ChunkSpec struct{ Chunk, Record string }

// chunkPart is one part of a chunk's head or of a record: a name and a type of the form bytes; size is that of a text of fixed length.
type chunkPart struct{ name, kind string }

func parseParts(s string) ([]chunkPart, error) {
	var parts []chunkPart
	for _, word := range strings.Fields(s) {
		name, kind, has := strings.Cut(word, ":")
		if name == "data" && !has {
			parts = append(parts, chunkPart{name: name})
			continue
		}
		if _, err := strconv.Atoi(kind); err == nil {
			kind = "ascii" + kind
		}
		if _, err := compileBytes("0:" + kind); err != nil || name == "" {
			return nil, fmt.Errorf("%q is not NAME:TYPE", word)
		}
		parts = append(parts, chunkPart{name, kind})
	}
	return parts, nil
}

// layout takes a chunk spec apart: the parts before and after the content.
func (s ChunkSpec) layout() (before, after []chunkPart, err error) {
	parts, err := parseParts(s.Chunk)
	if err != nil {
		return nil, nil, err
	}
	before = parts
	for i, p := range parts {
		if p.name == "data" {
			before, after = parts[:i], parts[i+1:]
		}
	}
	has := map[string]bool{}
	for _, p := range before {
		has[p.name] = true
	}
	if !has["tag"] || !has["length"] {
		return nil, nil, errors.New(`chunk names at least a tag and a length, as in "tag:4 length:u32be"`)
	}
	return before, after, nil
}

func (s ChunkSpec) check() error {
	_, _, err1 := s.layout()
	_, err2 := parseParts(s.Record)
	return errors.Join(err1, err2)
}

// maxChunks bounds the chunks of one file, and the records of one chunk.
const maxChunks = 1_000_000

type chunk struct {
	tag  string
	at   int // where data begins in the file
	data bytesDoc
}

// chunksDoc is asked "TAG OFFSET:TYPE" for a value in the first chunk of a tag, and "TAG" for a list: the records of all chunks of that
// tag, whose parts are asked by name, or without a record the chunks themselves, asked as bytes.
type chunksDoc struct {
	chunks []chunk
	record []chunkPart
}

func parseChunks(data []byte, spec ChunkSpec) (*chunksDoc, error) {
	before, after, err := spec.layout()
	if err != nil {
		return nil, err
	}
	d := &chunksDoc{}
	if d.record, err = parseParts(spec.Record); err != nil {
		return nil, err
	}
	for at := 0; at < len(data); {
		if len(d.chunks) >= maxChunks {
			return nil, fmt.Errorf("%w: more than %d chunks", ErrTooLarge, maxChunks)
		}
		head, n, err := readParts(data[at:], before)
		if err != nil {
			return nil, fmt.Errorf("at byte %d: %w", at, err)
		}
		at += n
		length, err := strconv.ParseUint(head["length"], 10, 63)
		if err != nil || length > uint64(len(data)-at) {
			return nil, fmt.Errorf("%w: the chunk %.20q ends too early", ErrDamaged, head["tag"])
		}
		d.chunks = append(d.chunks, chunk{head["tag"], at, data[at : at+int(length)]})
		at += int(length)
		if _, n, err = readParts(data[at:], after); err != nil {
			return nil, fmt.Errorf("at byte %d: %w", at, err)
		}
		at += n
	}
	return d, nil
}

// readParts reads parts one after the other and returns them with the bytes they take.
func readParts(data []byte, parts []chunkPart) (matchDoc, int, error) {
	values := matchDoc{}
	at := 0
	for _, p := range parts {
		query := fmt.Sprintf("%d:%s", at, p.kind)
		v, ok, err := bytesDoc(data).Value(context.Background(), query)
		if err != nil {
			return nil, 0, err
		}
		if !ok {
			return nil, 0, fmt.Errorf("%w: ends inside %s", ErrDamaged, p.name)
		}
		values[p.name] = v
		q, _ := compileBytes(query)
		if at += q.size; q.kind == "cstr" {
			at += len(v) + 1 - q.size
		}
	}
	return values, at, nil
}

func compileChunks(query string, each bool) (tag, at string, err error) {
	tag, at, has := strings.Cut(query, " ")
	switch {
	case tag == "":
		return "", "", errors.New("empty query")
	case each && has:
		return "", "", fmt.Errorf("%q: a list is named by the tag alone", query)
	case !each && !has:
		return "", "", fmt.Errorf("%q is not TAG OFFSET:TYPE", query)
	case has:
		_, err = compileBytes(at)
	}
	return tag, at, err
}

func (d *chunksDoc) Value(ctx context.Context, query string) (string, bool, error) {
	tag, at, err := compileChunks(query, false)
	if err != nil {
		return "", false, err
	}
	for _, c := range d.chunks {
		if c.tag == tag {
			return c.data.Value(ctx, at)
		}
	}
	return "", false, nil
}

func (d *chunksDoc) Each(_ context.Context, query string) ([]Doc, error) {
	tag, _, err := compileChunks(query, true)
	if err != nil {
		return nil, err
	}
	var docs []Doc
	for _, c := range d.chunks {
		if c.tag != tag {
			continue
		}
		if len(d.record) == 0 {
			docs = append(docs, c.data)
			continue
		}
		for rest := []byte(c.data); len(rest) > 0; {
			values, n, err := readParts(rest, d.record)
			if err != nil {
				return nil, err
			}
			if n == 0 || len(docs) >= maxChunks {
				return nil, fmt.Errorf("%w: more than %d records", ErrTooLarge, maxChunks)
			}
			docs = append(docs, values)
			rest = rest[n:]
		}
	}
	return docs, nil
}

func (d *chunksDoc) Close() error { return nil }
