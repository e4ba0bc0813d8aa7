package doc

import (
	"bytes"
	"context"
	"errors"
	"fmt"

	"ostrov/internal/core/wrap"
)

// pieceSink counts what is outermost in a piece.
type pieceSink struct {
	depth int
	tops  []event
	names []string
	text  bool // there is text outside of all things
}

func (p *pieceSink) begin(e *event) (bool, error) {
	if p.depth == 0 {
		p.tops, p.names = append(p.tops, *e), append(p.names, e.decodedName())
	}
	p.depth++
	return false, nil
}

func (p *pieceSink) end(*event) error { p.depth--; return nil }

func (p *pieceSink) leaf(e *event) error {
	if p.depth > 0 {
		return nil
	}
	if e.kind == kindText {
		p.text = p.text || len(bytes.TrimSpace(e.raw)) > 0
		return nil
	}
	p.tops, p.names = append(p.tops, *e), append(p.names, e.decodedName())
	return nil
}

// how says where a piece goes.
type how int

const (
	inside  how = iota // into a part
	beside             // behind another part that is like it
	instead            // instead of a part, which keeps its name
)

// checkPiece checks that a piece is exactly one thing: one element of XML, one value or member of JSON, one part of blocks, one line; and of the same
// kind as the part beside it or instead of it. It scans the piece before it is put in.
func (e *Editor) checkPiece(like *Node, to how, piece []byte) error {
	not := func(what string) error { return fmt.Errorf("what is put in is not %s: %w", what, wrap.ErrNotWritable) }
	switch e.Spec.Form {
	case "json":
		member := like.kind == kindObject
		if to != inside {
			member = to == beside && like.named()
		}
		text := piece
		if member {
			text = append(append([]byte{'{'}, piece...), '}')
		}
		tops, _, err := scanPiece(&jsonScan{source: inMemory(text)}, member)
		if err != nil || len(tops) != 1 {
			if member {
				return not("one member of an object, with its name")
			}
			return not("one value")
		}
		if to != inside && tops[0].kind != like.kind {
			return not("of the kind that stands there")
		}
	case "xml":
		tops, _, err := scanPiece(&xmlScan{source: inMemory(piece), entities: e.entities()}, false)
		if like.kind == kindElement && to == inside && (err != nil || len(tops) == 0) && bytes.IndexByte(piece, '<') < 0 {
			_, err := e.entities().decode(piece) // a text into an element
			return err
		}
		if err != nil || len(tops) != 1 {
			return not("one element")
		}
	case "blocks":
		tops, _, err := scanPiece(&blockScan{source: inMemory(piece), patterns: e.Spec.Blocks}, false)
		if err != nil || len(tops) != 1 {
			return not("one block or pair")
		}
		if _, is := like.extra.(rootBlock); to != inside && !is && tops[0].kind != like.kind {
			return not("of the kind that stands there")
		}
	case "lines", "ini":
		if bytes.IndexByte(bytes.TrimRight(piece, "\r\n"), '\n') >= 0 {
			return not("one line")
		}
	}
	return nil
}

// named reports whether a node of JSON is a member.
func (n *Node) named() bool { return n.start != n.From }

// scanPiece scans a piece alone. With inside, it reports the parts of its outermost thing instead of that.
func scanPiece(s scanner, inside bool) ([]event, []string, error) {
	p := &pieceSink{}
	if inside {
		p.depth = -1
	}
	err := s.whole(p)
	if err == nil && (p.text || p.depth != map[bool]int{true: -1}[inside]) {
		err = wrap.ErrDamaged
	}
	return p.tops, p.names, err
}

// EditPiece opens a piece, as Editor.Piece gives it, for changes, and returns the one thing that it is, nil if that is the piece itself. Rows of databases
// are changed with WithColumn.
func (spec Spec) EditPiece(ctx context.Context, piece []byte) (*Editor, *Node, error) {
	spec.Layers, spec.Encoding = wrap.Layers{}, "" // of the file that it was in
	var only []Node
	each := map[string]string{"xml": "*", "blocks": "$.*"}[spec.Form]
	if spec.Form == "chunks" {
		record, err := wrap.ParseParts(spec.Chunks.Record)
		if err == nil {
			c := &chunksReader{bytesReader: piece, record: record}
			err = c.records(chunk{data: place{0, len(piece)}}, func(n Node) error { only = append(only, n); return nil })
		}
		if err != nil {
			return nil, nil, err
		}
		spec.Form, spec.Chunks, each = "bytes", ChunkSpec{}, "."
	}
	e, err := spec.Edit(ctx, bytes.NewReader(piece))
	if err != nil || each == "" {
		return e, nil, err
	}
	if each != "." {
		only, err = e.Find(ctx, nil, each, true)
	}
	if err == nil && len(only) != 1 {
		err = fmt.Errorf("it is %d things: it %w", len(only), wrap.ErrNotWritable)
	}
	if err != nil {
		return nil, nil, errors.Join(err, e.Close())
	}
	return e, &only[0], nil
}
