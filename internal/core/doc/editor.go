package doc

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"ostrov/internal/core/wrap"
)

// change writes Text over the bytes from From up to To.
type change struct {
	From, To int
	Text     string
}

// Editor changes the decoded content of one file, part by part. It finds parts with the queries that read them, and keeps every byte outside of the
// changed parts. If a part cannot be changed, the error wraps wrap.ErrNotWritable, and nothing is changed.
//
// An Editor is not safe for concurrent use, and must be closed.
type Editor struct {
	*File
	asked   string       // the encoding that the description says
	content wrap.Content // before it was decoded
	writer  writer
	edits   []change
}

// writer writes the parts of one form.
type writer interface {
	// set gives a part another value.
	set(n *Node, value string) (change, error)
	// cut takes parts out, with what separates them from others.
	cut(parts []Node) ([]change, error)
	// add puts a piece into a part: behind another one that is in it, or, if after is nil, behind all that is in it.
	add(in, after *Node, piece string) (change, error)
}

// renamer is a writer whose parts have names.
type renamer interface {
	rename(n *Node, name string) ([]change, error)
}

// follower is a writer in whose form other bytes follow from those that change: lengths.
type follower interface {
	follow(edits []change) ([]change, error)
}

// maxEdited is the largest content, in bytes, of an encoding other than UTF-8 that is changed: it is held in memory.
const maxEdited = wrap.MaxHeld

// Edit opens the decoded content of a file for changes. The content must not change until the result of Result has been read.
func (spec Spec) Edit(ctx context.Context, content wrap.Content) (*Editor, error) {
	e := &Editor{asked: spec.Encoding, content: content}
	if spec.Form == "sqlite" {
		db, err := editSQLite(ctx, content)
		if err != nil {
			return nil, err
		}
		e.File, e.writer = &File{Spec: spec, reader: db}, db
		return e, nil
	}
	src, as, err := spec.editable(content)
	if err != nil {
		return nil, err
	}
	if e.File, err = as.fileOf(src); err != nil {
		return nil, err
	}
	if src.file == nil { // a large one is gone over when it is asked
		if err := e.reader.check(ctx, nil); err != nil {
			return nil, err
		}
	}
	switch r := e.reader.(type) {
	case *treeReader:
		e.writer = map[string]writer{"json": jsonEdit{r}, "xml": xmlEdit{r}, "blocks": blockEdit{r}}[spec.Form]
	case *iniReader:
		e.writer = iniEdit{r}
	case *textReader:
		e.writer = textEdit{r}
	case bytesReader:
		e.writer = bytesEdit{r}
	case *chunksReader:
		e.writer = chunksEdit{r, bytesEdit{r.bytesReader}}
	}
	return e, nil
}

// editable returns the text of a content, and the Spec to read it with. A text in another encoding must encode to the same bytes again.
func (spec Spec) editable(content wrap.Content) (*source, Spec, error) {
	head := make([]byte, min(content.Size(), 256))
	if _, err := content.ReadAt(head, 0); err != nil && err != io.EOF {
		return nil, spec, err
	}
	if !IsText(spec.Form) || inUTF8(encodingOf(head, spec)) {
		if content.Size() > maxInMemory {
			return inFile(content, int(content.Size())), spec, nil
		}
		data, err := wrap.ReadAtMost(io.NewSectionReader(content, 0, content.Size()), maxInMemory)
		return inMemory(data), spec, err
	}
	data, err := wrap.ReadAtMost(io.NewSectionReader(content, 0, content.Size()), maxEdited)
	if err != nil {
		return nil, spec, err
	}
	var text []byte
	as := spec
	_, err = spec.Recode(data, func(t []byte, s Spec) ([]byte, error) {
		text, as = t, s
		return t, nil
	})
	return inMemory(text), as, err
}

// One returns the one value that a query names in a part, or with a nil part in the file. If the query names no value or several, the error wraps
// wrap.ErrNotWritable.
func (e *Editor) One(ctx context.Context, of *Node, query string) (Node, error) {
	if err := e.CheckWritable(query); err != nil && of == nil {
		return Node{}, err
	}
	found, err := e.Find(ctx, of, query, false)
	switch {
	case errors.Is(err, wrap.ErrUnknown):
		return Node{}, fmt.Errorf("%w: %w", err, wrap.ErrNotWritable)
	case err != nil:
		return Node{}, err
	case len(found) == 0:
		return Node{}, missingValue(query)
	case len(found) > 1:
		return Node{}, severalValues(query)
	}
	return found[0], nil
}

// CheckWritable checks whether a value that a query names can be written; see Spec.CheckWritable.
func (e *Editor) CheckWritable(query string) error { return e.Spec.CheckWritable(query) }

// Says reports whether a part says a value, as far as its form can tell: some trim white space.
func (e *Editor) Says(n Node, value string) bool {
	text, ok, err := e.Value(n)
	return err == nil && ok && sameValue(e.Spec.Form, text, value)
}

// Piece returns the text of a part, or a row of a database as JSON, fit for Insert and Replace.
func (e *Editor) Piece(n Node) ([]byte, error) {
	if db, ok := e.writer.(*database); ok {
		return db.piece(n)
	}
	part, err := e.src.bytes(n.place())
	return bytes.Clone(part), err
}

// Decoded is all that a part says, decoded: of a thing with others in it the names and values of all, one behind the other in lines.
func (e *Editor) Decoded(ctx context.Context, n Node) ([]byte, error) {
	if db, ok := e.writer.(*database); ok {
		if r := n.extra.(rowPart); r.column == "" {
			return db.piece(n)
		}
		text, _, err := db.says(&n)
		return []byte(text), err
	}
	t, ok := e.reader.(*treeReader)
	if _, root := n.extra.(rootBlock); !ok || root || n.kind == kindText {
		return e.src.bytes(n.place())
	}
	scan := t.scanner()
	defer e.giveBack(scan)
	said := &saidSink{scan: scan}
	err := scan.inside(&n, said)
	return said.b.Bytes(), err
}

// saidSink joins names and values.
type saidSink struct {
	scan scanner
	b    bytes.Buffer
}

func (s *saidSink) begin(e *event) (bool, error) {
	s.b.WriteString(e.decodedName() + "\n")
	return false, nil
}

func (s *saidSink) end(*event) error { return nil }

func (s *saidSink) leaf(e *event) error {
	if e.kind != kindText && string(e.name) != "words" {
		s.b.WriteString(e.decodedName() + "\n")
	}
	if e.raw == nil {
		return nil
	}
	text, err := s.scan.decode(e)
	s.b.WriteString(text + "\n")
	return err
}

// Key returns the name of a member of an object, or "".
func (e *Editor) Key(n Node) string {
	if e.Spec.Form == "json" {
		return n.Name
	}
	return ""
}

// Set gives a part another value.
func (e *Editor) Set(n Node, value string) error {
	edit, err := e.writer.set(&n, value)
	if err == nil {
		e.edits = append(e.edits, edit)
	}
	return err
}

// SetCounted is Set for a value with a number that gives its length: length names the number as TYPE@OFFSET, counted from the value's first
// character. With length "", a value in a file that is read as binary must keep its length.
func (e *Editor) SetCounted(n Node, value, length string) error {
	if e.asked != asBinary || e.src == nil {
		return e.Set(n, value)
	}
	was, _, err := e.Value(n)
	if err != nil {
		return err
	}
	if length == "" && utf8.RuneCountInString(was) != utf8.RuneCountInString(value) {
		return fmt.Errorf("%q is not as long as what stands there, and the description does not say where its length does: it %w", value, wrap.ErrNotWritable)
	}
	if err := e.Set(n, value); err != nil || length == "" {
		return err
	}
	kind, at, _ := strings.Cut(length, "@")
	t, err := wrap.ParseType(kind)
	if err != nil {
		return err
	}
	offset, err := strconv.Atoi(at)
	if err != nil {
		return err
	}
	number, err := t.Encode(strconv.Itoa(utf8.RuneCountInString(value)), t.Size)
	if err != nil {
		return err
	}
	from, ok := e.characters(e.edits[len(e.edits)-1].From, offset)
	to, ok2 := e.characters(from, t.Size)
	if !ok || !ok2 {
		return fmt.Errorf("its length would stand outside of the file: it %w", wrap.ErrNotWritable)
	}
	text, err := decode(number, asBinary)
	e.edits = append(e.edits, change{from, to, string(text)})
	return err
}

// characters is the place so many characters behind another one, or before it.
func (e *Editor) characters(at, n int) (int, bool) {
	for ; n < 0; n++ {
		for at--; at >= 0 && !utf8.RuneStart(e.src.byteAt(at)); at-- {
		}
	}
	for ; n > 0; n-- {
		for at++; at < e.src.size && !utf8.RuneStart(e.src.byteAt(at)); at++ {
		}
	}
	return at, at >= 0 && at <= e.src.size
}

// Rename calls a part otherwise: a member, an element, a block or pair, a key.
func (e *Editor) Rename(n Node, name string) error {
	r, ok := e.writer.(renamer)
	if !ok || strings.ContainsAny(name, " \t\r\n\"'<>[]{}=:") && e.Spec.Form != "json" || name == "" {
		return fmt.Errorf("the name of a part of the form %s %w", e.Spec.Form, wrap.ErrNotWritable)
	}
	edits, err := r.rename(&n, name)
	e.edits = append(e.edits, edits...)
	return err
}

// Remove takes parts out.
func (e *Editor) Remove(parts ...Node) error {
	edits, err := e.writer.cut(parts)
	if err == nil {
		e.edits = append(e.edits, edits...)
	}
	return err
}

// Insert puts a piece into a part, or with a nil part into the file: after another part, or with a nil after behind the last one. The piece must be
// exactly one thing of the same kind.
func (e *Editor) Insert(in, after *Node, piece []byte) error {
	if in == nil {
		in = &Node{}
		if e.src != nil {
			in.To = e.src.size
		}
	}
	like, to := after, beside
	if like == nil {
		like, to = in, inside
	}
	if err := e.checkPiece(like, to, piece); err != nil {
		return err
	}
	edit, err := e.writer.add(in, after, string(piece))
	if err != nil || e.src == nil {
		return err
	}
	beside := slices.ContainsFunc(e.edits, func(c change) bool { return c.From == edit.From && c.To == edit.From })
	if e.Spec.Form == "json" && beside && !strings.HasPrefix(edit.Text, ",") { // the second one in what was empty
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
	return nil
}

// Replace replaces a part by a piece, under the same conditions as Insert.
func (e *Editor) Replace(n Node, piece []byte) error {
	if db, ok := e.writer.(*database); ok {
		return db.replace(n, piece)
	}
	if err := e.checkPiece(&n, instead, piece); err != nil {
		return err
	}
	e.edits = append(e.edits, change{n.From, n.To, string(piece)})
	return nil
}

// ReplaceText replaces a part by any text; the file is checked as a whole.
func (e *Editor) ReplaceText(n Node, text string) {
	e.edits = append(e.edits, change{n.From, n.To, text})
}

// Rewrite replaces all of the text.
func (e *Editor) Rewrite(text []byte) { e.edits = []change{{0, e.src.size, string(text)}} }

// Text is all of the text that nodes count in; the error wraps wrap.ErrTooLarge if that is too much to be in memory.
func (e *Editor) Text() ([]byte, error) { return e.src.held() }

// Part is the text of a part.
func (e *Editor) Part(n Node) []byte {
	if e.src == nil {
		return nil
	}
	part, _ := e.src.bytes(n.place())
	return part
}

// Result returns the content with all changes; changed is false if there are none. A content in memory has been read again in its form; a larger one
// must be read by the caller.
func (e *Editor) Result(ctx context.Context) (content wrap.Content, changed bool, err error) {
	if db, ok := e.writer.(*database); ok {
		return db.result(ctx, e.content)
	}
	edits := e.edits
	if f, ok := e.writer.(follower); ok && len(edits) > 0 {
		more, err := f.follow(edits)
		if err != nil {
			return nil, false, err
		}
		edits = append(slices.Clone(edits), more...)
	}
	if len(edits) == 0 {
		return e.content, false, nil
	}
	if e.src.file != nil {
		p, err := newPatched(e.content, edits)
		if err != nil {
			return nil, false, err
		}
		return p, true, nil // whoever uses it reads it
	}
	text, err := apply(e.src.buf, edits)
	if err == nil {
		err = e.reads(ctx, inMemory(text))
	}
	if err != nil {
		return nil, false, err
	}
	if IsText(e.Spec.Form) && e.Spec.Encoding != e.asked || !inUTF8(e.asked) && e.asked != "" {
		if text, err = e.encoded(text); err != nil {
			return nil, false, err
		}
	}
	return bytes.NewReader(text), true, nil
}

// reads is an error if a text would not be read as its form any more.
func (e *Editor) reads(ctx context.Context, src *source) error {
	f, err := e.Spec.fileOf(src)
	if err == nil {
		err = f.reader.check(ctx, nil)
	}
	if err != nil && ctx.Err() == nil {
		line := ""
		if where := (atByte{}); errors.As(err, &where) && src.file == nil {
			line = fmt.Sprintf(" on line %d", 1+bytes.Count(src.buf[:min(where.at, len(src.buf))], []byte{'\n'}))
		}
		return fmt.Errorf("it would be no %s any more: %w%s: %w", e.Spec.Form, err, line, wrap.ErrNotWritable)
	}
	return err
}

// encoded is the text in the encoding that the file had.
func (e *Editor) encoded(text []byte) ([]byte, error) {
	head := make([]byte, min(e.content.Size(), 256))
	if _, err := e.content.ReadAt(head, 0); err != nil && err != io.EOF {
		return nil, err
	}
	as := Spec{Form: e.Spec.Form, Encoding: e.asked}
	encoding := encodingOf(head, as)
	written, err := encode(text, encoding)
	if err != nil {
		return nil, fmt.Errorf("what is new %w in the encoding %s: %w", wrap.ErrNotWritable, encoding, err)
	}
	if now := encodingOf(written, as); now != encoding {
		return nil, fmt.Errorf("the file would be read as %s: what is new %w at its beginning", now, wrap.ErrNotWritable)
	}
	return written, nil
}

// Done is Result in memory.
func (e *Editor) Done(ctx context.Context) ([]byte, error) {
	content, _, err := e.Result(ctx)
	if err != nil {
		return nil, err
	}
	return wrap.ReadAtMost(io.NewSectionReader(content, 0, content.Size()), 1<<40)
}

// ErrMissing says that nothing stands where a query leads. It wraps wrap.ErrNotWritable.
var ErrMissing = fmt.Errorf("is not there: %w", wrap.ErrNotWritable)
