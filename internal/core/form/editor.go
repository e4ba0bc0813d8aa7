package form

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
)

// Span is a part of a file: a value, an element of a list, a row. It is good for the Editor that found it, until that is Done.
type Span struct {
	// From is its first byte in the decoded text, and To the one behind its last; of a row of a database both are 0.
	From, To int
	node     any // what its form knows of it
}

// Is reports whether two spans, of one editor, are the same part.
func (s Span) Is(other Span) bool {
	row, ok := s.node.(rowPart)
	if !ok {
		return s.From == other.From && s.To == other.To
	}
	is, ok := other.node.(rowPart)
	return ok && row.table == is.table && row.row == is.row
}

// change is what is written in the place of the bytes from From and before To.
type change struct {
	From, To int
	Text     string
}

// Editor changes the decoded content of one file, part by part. It finds parts with the queries that they are read with, of which it takes the
// streaming subset: children, attributes, index, and equality of a member or attribute; of a database one table. Every byte outside of
// the parts that are changed stays as it is. Its errors wrap ErrNotWritable where a part cannot be changed that way, and then nothing is.
//
// An Editor is not safe for concurrent use, and must be closed.
type Editor struct {
	spec    Spec   // its encoding is that of text
	asked   string // the encoding that the description says
	shape   shape
	text    *source // decoded, as the queries see it
	content []byte  // before it was decoded; nil of a file that is not in memory
	edits   []change
}

// shape finds and writes the parts of one form.
type shape interface {
	// spans are the parts that a query names in a part, or in all of the file where of is nil: with each as elements of a list, else as values.
	spans(ctx context.Context, of *Span, query string, each bool) ([]Span, error)
	// value is what a part says; ok is false where it is not a single value.
	value(s Span) (text string, ok bool, err error)
	// set is how a part gets another value.
	set(s Span, value string) (change, error)
	// cut takes parts out, with what separates them from others.
	cut(parts []Span) ([]change, error)
	// add puts a piece into a part: behind another one that is in it, or, where after is nil, behind all that is in it.
	add(in Span, after *Span, piece string) (change, error)
}

// renamer is a shape whose parts have names.
type renamer interface {
	rename(s Span, name string) ([]change, error)
}

// follower is a shape in which other bytes follow from those that change: lengths.
type follower interface {
	follow(edits []change) ([]change, error)
}

// Edit opens the decoded content of a file for changes.
func (spec Spec) Edit(ctx context.Context, content []byte) (*Editor, error) {
	e := &Editor{spec: spec, asked: spec.Encoding, content: content, text: inMemory(content)}
	if spec.Form == "sqlite" {
		db, err := editSQLite(ctx, content)
		e.shape = db
		return e, err
	}
	if IsText(spec.Form) {
		text, as, err := decoded(spec, content)
		if err != nil {
			return nil, err
		}
		e.text, e.spec = inMemory(text), as
	}
	var err error
	e.shape, err = e.spec.shapeOf(e.text.data)
	return e, err
}

// EditFile is Edit for the decoded content of a file of any size: a large JSON or XML in UTF-8 is not held in memory. The file must stay as it is until
// the last of what Result gives has been read.
func (spec Spec) EditFile(ctx context.Context, file io.ReaderAt, size int64) (*Editor, error) {
	head := make([]byte, around)
	n, err := file.ReadAt(head, 0)
	if err != nil && err != io.EOF {
		return nil, err
	}
	utf8 := slices.Contains([]string{"", "utf-8"}, strings.ToLower(encodingOf(head[:n], spec)))
	if !streams(spec.Form) || size <= largeText || size > maxLarge || !utf8 {
		data, err := readAbout(io.NewSectionReader(file, 0, size), size, maxLarge)
		if err != nil {
			return nil, err
		}
		return spec.Edit(ctx, data)
	}
	e := &Editor{spec: spec, asked: spec.Encoding, text: inFile(file, int(size))}
	e.spec.Encoding = "utf-8"
	switch spec.Form {
	case "json":
		e.shape, err = shapeJSON(e.text)
	case "xml":
		e.shape, err = shapeXML(e.text)
	default:
		e.shape, err = shapeBlocks(e.text, spec.Blocks)
	}
	return e, err
}

func (spec Spec) shapeOf(text []byte) (shape, error) {
	switch spec.Form {
	case "json":
		return shapeJSON(inMemory(text))
	case "xml":
		return shapeXML(inMemory(text))
	case "blocks":
		return shapeBlocks(inMemory(text), spec.Blocks)
	case "ini":
		return shapeINI(text)
	case "text", "lines":
		return textShape{text, spec.Form == "lines"}, nil
	case "bytes":
		return bytesShape(text), nil
	case "chunks":
		return shapeChunks(text, spec.Chunks)
	}
	return nil, fmt.Errorf("the form %s %w", spec.Form, ErrNotWritable)
}

// Values are the values that a query names, in a part or, where of is nil, in all of the file.
func (e *Editor) Values(ctx context.Context, of *Span, query string) ([]Span, error) {
	return e.shape.spans(ctx, of, query, false)
}

// Each are the elements that a query names, as Values.
func (e *Editor) Each(ctx context.Context, of *Span, query string) ([]Span, error) {
	return e.shape.spans(ctx, of, query, true)
}

// One is the one value that a query names; that there is none, or more than one, is an error that wraps ErrNotWritable.
func (e *Editor) One(ctx context.Context, of *Span, query string) (Span, error) {
	found, err := e.Values(ctx, of, query)
	switch {
	case err != nil:
		return Span{}, err
	case len(found) == 0:
		return Span{}, missingValue(query)
	case len(found) > 1:
		return Span{}, severalValues(query)
	}
	return found[0], nil
}

// Value is what a part says; ok is false where it is not a single value.
func (e *Editor) Value(s Span) (text string, ok bool, err error) { return e.shape.value(s) }

// Says reports whether a part says a value, as far as its form can tell: some trim white space.
func (e *Editor) Says(s Span, value string) bool {
	text, ok, err := e.shape.value(s)
	return err == nil && ok && sameValue(e.spec.Form, text, value)
}

// EachValue visits the values that a query names in all of the file, one after the other; of a database their bytes. Nothing may be changed
// meanwhile.
func (e *Editor) EachValue(ctx context.Context, query string, visit func(s Span, value []byte) error) error {
	if db, ok := e.shape.(*sqliteShape); ok {
		return db.each(ctx, query, visit)
	}
	found, err := e.Values(ctx, nil, query)
	if err != nil {
		return err
	}
	for _, s := range found {
		text, ok, err := e.Value(s)
		if err != nil {
			return err
		}
		if !ok {
			text = string(e.text.peek(s.From, s.To))
		}
		if err := visit(s, []byte(text)); err != nil {
			return err
		}
	}
	return nil
}

// Piece is a part as it stands in the file, fit for Insert and Replace: its text, or a row of a database as JSON.
func (e *Editor) Piece(s Span) ([]byte, error) {
	if db, ok := e.shape.(*sqliteShape); ok {
		return db.piece(s)
	}
	return e.text.peek(s.From, s.To), nil
}

// Key is what a member of an object is called, the text it stands behind; "" of what is none.
func (e *Editor) Key(s Span) string {
	if j, ok := e.shape.(*jsonShape); ok {
		return j.key(s)
	}
	return ""
}

// Set gives a part another value.
func (e *Editor) Set(s Span, value string) error {
	edit, err := e.shape.set(s, value)
	if err == nil {
		e.edits = append(e.edits, edit)
	}
	return err
}

// Rename calls a part otherwise: a member, an element, a block or pair, a key.
func (e *Editor) Rename(s Span, name string) error {
	r, ok := e.shape.(renamer)
	if !ok || strings.ContainsAny(name, " \t\r\n\"'<>[]{}=:") && e.spec.Form != "json" || name == "" {
		return fmt.Errorf("the name of a part of the form %s %w", e.spec.Form, ErrNotWritable)
	}
	edits, err := r.rename(s, name)
	e.edits = append(e.edits, edits...)
	return err
}

// Remove takes parts out.
func (e *Editor) Remove(parts ...Span) error {
	edits, err := e.shape.cut(parts)
	if err == nil {
		e.edits = append(e.edits, edits...)
	}
	return err
}

// Insert puts a piece into a part, or where in is nil into the file: behind another one, or where after is nil behind all that is in it.
func (e *Editor) Insert(in, after *Span, piece []byte) error {
	if in == nil {
		in = &Span{0, e.text.size, nil}
	}
	edit, err := e.shape.add(*in, after, string(piece))
	if err == nil {
		_, json := e.shape.(*jsonShape)
		beside := slices.ContainsFunc(e.edits, func(c change) bool { return c.From == edit.From && c.To == edit.From })
		if json && beside && !strings.HasPrefix(edit.Text, ",") { // the second one in what was empty
			edit.Text = ", " + edit.Text
		}
		if end, filled := strings.CutPrefix(edit.Text, ">"+string(piece)); filled && edit.From < edit.To {
			for i, c := range e.edits { // another one into what was <a/>
				if was, ok := strings.CutSuffix(c.Text, end); ok && c.From == edit.From && c.To == edit.To {
					e.edits[i].Text = was + string(piece) + end
					return nil
				}
			}
		}
		e.edits = append(e.edits, edit)
	}
	return err
}

// Replace puts a piece in the place of a part.
func (e *Editor) Replace(s Span, piece []byte) error {
	if db, ok := e.shape.(*sqliteShape); ok {
		return db.replace(s, piece)
	}
	e.edits = append(e.edits, change{s.From, s.To, string(piece)})
	return nil
}

// Rewrite puts another text in the place of all of it.
func (e *Editor) Rewrite(text []byte) { e.edits = []change{{0, e.text.size, string(text)}} }

// Guide is a guide through the text that spans count in, as it was before any change.
func (e *Editor) Guide() *Guide {
	if e.text.file == nil {
		return e.spec.Guide(bytes.NewReader(e.text.data), int64(e.text.size), nil)
	}
	return e.spec.Guide(e.text.file, int64(e.text.size), nil)
}

// Text is the text that spans count in, all of it.
func (e *Editor) Text() []byte { return e.text.peek(0, e.text.size) }

// Part is the text of a part.
func (e *Editor) Part(s Span) []byte { return e.text.peek(s.From, s.To) }

// Result is the content with all changes; changed is false where it is as it was. What is not held in memory is not read again here: whoever uses it
// reads it as what it is to be.
func (e *Editor) Result(ctx context.Context) (content sized, changed bool, err error) {
	switch {
	case e.text.file == nil:
		now, err := e.Done(ctx)
		return bytes.NewReader(now), err == nil && !bytes.Equal(now, e.content), err
	case e.text.err != nil:
		return nil, false, e.text.err
	case len(e.edits) == 0:
		return nil, false, nil
	}
	content, err = newPatched(e.text, e.edits)
	return content, err == nil, err
}

// sized is the content of a file, wherever it is.
type sized interface {
	io.ReaderAt
	Size() int64 // bytes
}

// Done is the content with all changes. It reads as its form does; two changes of the same bytes are an error.
func (e *Editor) Done(ctx context.Context) ([]byte, error) {
	if db, ok := e.shape.(*sqliteShape); ok {
		return db.done(ctx)
	}
	edits := e.edits
	if f, ok := e.shape.(follower); ok && len(edits) > 0 {
		more, err := f.follow(edits)
		if err != nil {
			return nil, err
		}
		edits = append(slices.Clone(edits), more...)
	}
	if len(edits) == 0 {
		return e.content, nil
	}
	text, err := apply(e.text.data, edits)
	if err != nil {
		return nil, err
	}
	if _, err := e.spec.shapeOf(text); err != nil {
		at := ""
		if line := lineOfDamage(e.spec.Form, text); line > 0 {
			at = fmt.Sprintf(" on line %d", line)
		}
		return nil, fmt.Errorf("it would be no %s any more: %w%s: %w", e.spec.Form, err, at, ErrNotWritable)
	}
	if !IsText(e.spec.Form) {
		return text, nil
	}
	as := Spec{Form: e.spec.Form, Encoding: e.asked}
	encoding := encodingOf(e.content, as)
	written, err := encode(text, encoding)
	if err != nil {
		return nil, fmt.Errorf("what is new %w in the encoding %s: %w", ErrNotWritable, encoding, err)
	}
	if now := encodingOf(written, as); now != encoding {
		return nil, fmt.Errorf("the file would be read as %s: what is new %w at its beginning", now, ErrNotWritable)
	}
	return written, nil
}

// Close frees what the editor holds.
func (e *Editor) Close() error {
	if db, ok := e.shape.(*sqliteShape); ok {
		return db.Close()
	}
	return nil
}
