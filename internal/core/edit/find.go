package edit

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"ostrov/internal/core/field"
	"ostrov/internal/core/form"
	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
)

// Place is where a text stands in a save.
type Place struct {
	File   string // relative to the save's folder
	ID     string // of the file in the description, "" where it names none
	Line   int    // from 1; 0 of what is no text
	Offset int    // in the decoded content, in bytes
	Around string // a few words around it
	// Query leads there; "" where the form of the file has none.
	Query string
	// In leads to the wrapped value that the place is inside of, "" where it is not, or nothing leads there.
	In string
}

// At is what leads to the place as the option at of set takes it, FILE:QUERY, or "".
func (p Place) At() string {
	if p.ID == "" || p.Query == "" {
		return ""
	}
	return p.ID + ":" + p.Query
}

// Inside is In as the option at of set takes it, or "".
func (p Place) Inside() string {
	if p.ID == "" || p.In == "" {
		return ""
	}
	return p.ID + ":" + p.In
}

// Found is what there is of a text in a save.
type Found struct {
	Places []Place  // the first MaxPlaces
	Count  int      // of all
	Unread []Unread // it may stand there, too
}

// Unread is a file that could not be looked into.
type Unread struct {
	File string
	Why  error
}

// MaxPlaces is how many places are told; more are only counted.
const MaxPlaces = 1000

// Find finds where a text stands in the decoded files of a save of an install, and counts all. Letters are compared as they are. What it learns of the ways
// through large files h remembers.
func Find(ctx context.Context, h *tree.Hasher, src Source, text string) (*Found, error) {
	var all Found
	for _, e := range src.Save.Files {
		if e.Kind != tree.File {
			continue
		}
		id, f := src.declaredAt(e.Path)
		found, n, err := src.findIn(ctx, h, e, id, f, text, MaxPlaces-len(all.Places))
		if err == nil {
			var wrapped []Place
			var more int
			wrapped, more, err = src.findWrapped(ctx, e.Path, id, f, text, MaxPlaces-len(all.Places)-len(found))
			found, n = append(found, wrapped...), n+more
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			all.Unread = append(all.Unread, Unread{e.Path, err})
		}
		all.Places, all.Count = append(all.Places, found...), all.Count+n
	}
	return &all, nil
}

// declaredAt is what the description says of a file of the save; of one that it does not name, nothing.
func (src Source) declaredAt(name string) (string, field.File) {
	for id, f := range src.Save.Kind.Files {
		for _, at := range src.places(f) {
			if at == name {
				return id, f
			}
		}
	}
	return "", field.File{Form: "bytes", Layers: field.Layers{Layers: form.AnyCompression}}
}

// findIn finds a text in one file. What is not wrapped is read in pieces.
func (src Source) findIn(ctx context.Context, h *tree.Hasher, e tree.Entry, id string, f field.File, text string, most int) (places []Place, count int, err error) {
	name := e.Path
	content, err := src.unwrapped(name, f)
	if err != nil {
		return nil, 0, err
	}
	if f.Form == "sqlite" {
		data, err := all(content)
		if err != nil {
			return nil, 0, err
		}
		return findRows(ctx, name, id, data, text, most)
	}
	as := f
	if id == "" { // it may be one, and then its first bytes say in what encoding
		as.Form = "text"
	}
	if content, err = decoded(content, as); err != nil {
		return nil, 0, err
	}
	head := make([]byte, 4096)
	n, err := content.ReadAt(head, 0)
	if err != nil && err != io.EOF {
		return nil, 0, err
	}
	isText := bytes.IndexByte(head[:n], 0) < 0
	dir, here := src.Save.Folder.Path, slices.Values([]tree.Entry{e})
	noted := filepath.Join(dir, name) + "\x00ways"
	var learnt []byte
	if e.Size > large {
		h.Known(noted, src.Game.Digest, dir, here, &learnt)
	}
	way := f.Spec().Guide(content, content.Size(), learnt)
	defer way.Close()
	line := 1
	sample := make([]byte, len(head)) // of its middle: what it begins with is often another matter
	if n, err = content.ReadAt(sample, content.Size()/2); err != nil && err != io.EOF {
		return nil, 0, err
	}
	wanted := searchFor(text, sample[:n])
	err = inPieces(ctx, content, len(text), func(piece []byte, at int64, fresh int) error {
		from := 0
		for {
			i := wanted.index(piece[from:])
			if i < 0 || from+i >= fresh {
				break
			}
			if count++; len(places) < most {
				p := Place{File: name, ID: id, Offset: int(at) + from + i, Query: way.To(int(at) + from + i)}
				if p.Around, err = aroundIn(content, at+int64(from+i), len(text)); err != nil {
					return err
				}
				if isText {
					p.Line = line + bytes.Count(piece[:from+i], []byte("\n"))
				}
				places = append(places, p)
			}
			from += i + max(1, len(text))
		}
		if len(places) < most {
			line += bytes.Count(piece[:fresh], []byte("\n"))
		}
		return nil
	})
	if learnt := way.Learnt(); learnt != nil && err == nil && e.Size > large {
		h.Note(noted, src.Game.Digest, dir, here, learnt)
	}
	return places, count, err
}

// unwrapped is the decoded content of a file.
func (src Source) unwrapped(name string, f field.File) (tree.Content, error) {
	if len(f.Layers.Chain) == 0 && f.Layers.Tag == nil {
		if content, ok, err := tree.InFS(src.FS, name); ok || err != nil {
			return content, err
		}
	}
	data, err := form.Read(src.FS, name, f.Layers.Layers, form.DefaultLimits)
	return bytes.NewReader(data), err
}

// decoded is the content of a text in UTF-8.
func decoded(content tree.Content, f field.File) (tree.Content, error) {
	if !form.IsText(f.Form) {
		return content, nil
	}
	head := make([]byte, 4096)
	n, err := content.ReadAt(head, 0)
	if err != nil && err != io.EOF {
		return nil, err
	}
	if f.Spec().InUTF8(head[:n]) {
		return content, nil
	}
	r, err := form.TextReader(io.NewSectionReader(content, 0, content.Size()), f.Spec())
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(r, maxFile+1))
	if len(data) > maxFile {
		err = fmt.Errorf("%w: more than %d bytes", form.ErrTooLarge, maxFile)
	}
	return bytes.NewReader(data), err
}

// inPieces reads a content piece by piece. Each is followed by so many bytes of the next that what begins in its fresh part is whole in it.
func inPieces(ctx context.Context, content tree.Content, longest int, visit func(piece []byte, at int64, fresh int) error) error {
	const size = 4 << 20
	buf := make([]byte, size+longest)
	for at := int64(0); at < content.Size(); at += size {
		n, err := content.ReadAt(buf, at)
		if err != nil && err != io.EOF {
			return err
		}
		if err := visit(buf[:n], at, min(n, size)); err != nil {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return nil
}

// aroundIn is around in a content that is not in memory.
func aroundIn(content tree.Content, at int64, length int) (string, error) {
	const reach = 128
	from := max(0, at-reach)
	piece := make([]byte, min(content.Size(), at+int64(length)+reach)-from)
	if _, err := content.ReadAt(piece, from); err != nil && err != io.EOF {
		return "", err
	}
	return around(piece, int(at-from), length), nil
}

// findWrapped finds a text in values that are wrapped inside of a file, as far as the description says how.
func (src Source) findWrapped(ctx context.Context, name, id string, f field.File, text string, most int) (places []Place, count int, err error) {
	asked := map[string]bool{}
	for i := range src.Game.References {
		r := &src.Game.References[i]
		plain := len(r.Layers.Chain) == 0 && r.Layers.Tag == nil
		if id == "" || r.In != id || r.At == "" || plain || r.Save != "" && r.Save != src.Save.Kind.ID || asked[r.At] {
			continue
		}
		asked[r.At] = true
		row := 0
		err := src.eachWrapped(ctx, name, f, r, func(query string, value []byte) error {
			row++
			n := bytes.Count(value, []byte(text))
			if count += n; n > 0 && len(places) < most {
				at := bytes.Index(value, []byte(text))
				places = append(places, Place{File: name, ID: id, Offset: at, Around: fmt.Sprintf("inside value %d: %s", row, around(value, at, len(text))), In: query})
			}
			return ctx.Err()
		})
		if err != nil {
			return nil, 0, err
		}
	}
	return places, count, nil
}

// oneColumn is a SELECT of one column of all rows.
var oneColumn = regexp.MustCompile(`(?is)^\s*SELECT\s+"?(\w+)"?\s+FROM\s+"?(\w+)"?\s*;?\s*$`)

// eachWrapped visits the values that references are looked for in, unwrapped, with the query that leads to each, or "".
func (src Source) eachWrapped(ctx context.Context, name string, f field.File, r *game.Reference, visit func(query string, value []byte) error) (err error) {
	column := oneColumn.FindStringSubmatch(r.At)
	if f.Form != "sqlite" && f.Form != "json" && f.Form != "xml" && f.Form != "blocks" || f.Form == "sqlite" && column == nil || !form.Streams(f.Form, r.At) {
		return form.Values(ctx, src.FS, name, f.Spec(), r.At, r.Layers.Layers, form.Limits{Decoded: maxFile}, func(value []byte) error { return visit("", value) })
	}
	content, err := src.unwrapped(name, f)
	if err != nil {
		return err
	}
	unwrap := func(query string, value []byte) error {
		peeled, err := r.Layers.Peel(bytes.NewReader(value), form.Limits{Decoded: maxFile})
		if err != nil {
			return err
		}
		return visit(query, peeled)
	}
	if f.Form == "sqlite" {
		data, err := all(content)
		if err != nil {
			return err
		}
		return form.EachRow(ctx, data, func(row form.Row) error {
			i := slices.IndexFunc(row.Columns, func(c string) bool { return strings.EqualFold(c, column[1]) })
			if i < 0 || !strings.EqualFold(row.Table, column[2]) || row.Values[i] == nil {
				return nil
			}
			return unwrap(row.Query(i), row.Values[i])
		})
	}
	e, err := f.Spec().EditFile(ctx, content, content.Size())
	if err != nil {
		return err
	}
	way := e.Guide()
	defer func() { way.Close(); err = errors.Join(err, e.Close()) }()
	return e.EachValue(ctx, r.At, func(at form.Span, value []byte) error { return unwrap(way.To(at.From), value) })
}

// findRows finds a text in the rows of a database.
func findRows(ctx context.Context, name, id string, content []byte, text string, most int) (places []Place, count int, err error) {
	err = form.EachRow(ctx, content, func(row form.Row) error {
		for i, value := range row.Values {
			n := bytes.Count(value, []byte(text))
			if count += n; n == 0 || len(places) >= most {
				continue
			}
			at := bytes.Index(value, []byte(text))
			places = append(places, Place{File: name, ID: id, Offset: at, Around: row.Table + ": " + around(value, at, len(text)), Query: row.Query(i)})
		}
		return nil
	})
	if errors.Is(err, form.ErrUnknown) {
		err = nil
	}
	return places, count, err
}

// around is a text with a few words around it, in one line.
func around(content []byte, at, length int) string {
	const reach = 40
	from, to := max(0, at-reach), min(len(content), at+length+reach)
	for from < at && !utf8.RuneStart(content[from]) {
		from++
	}
	piece := content[from:to]
	if !utf8.Valid(bytes.ToValidUTF8(piece, nil)) || bytes.IndexByte(piece, 0) >= 0 {
		return hex.EncodeToString(content[max(0, at-8):min(len(content), at+length+8)])
	}
	return strings.Join(strings.Fields(string(bytes.ToValidUTF8(piece, nil))), " ")
}
