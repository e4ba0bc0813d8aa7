package edit

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"unicode/utf8"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/field"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
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

// Find finds where a text stands in the decoded files of a save of an install, and counts all: in texts as they are written, and in names and values as
// they are decoded. Letters are compared as they are.
func Find(ctx context.Context, src Source, text string) (*Found, error) {
	var all Found
	for _, e := range src.Save.Files {
		if e.Kind != tree.File {
			continue
		}
		id, f := src.declaredAt(e.Path)
		fi := finder{ctx: ctx, src: src, name: e.Path, id: id, file: f, text: text, all: &all}
		err := fi.search()
		if err == nil {
			err = fi.wrapped()
		}
		if err == nil {
			err = fi.members()
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			all.Unread = append(all.Unread, Unread{e.Path, err})
		}
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
	return "", field.File{Form: "bytes", Layers: field.Layers{Layers: wrap.Auto}}
}

// finder finds a text in one file.
type finder struct {
	ctx  context.Context
	src  Source
	name string
	id   string
	file field.File
	text string
	all  *Found
}

// tell tells a place, if there is room, and counts it.
func (f *finder) tell(p func() (Place, error)) error {
	if f.all.Count++; len(f.all.Places) >= MaxPlaces {
		return nil
	}
	place, err := p()
	f.all.Places = append(f.all.Places, place)
	return err
}

// open opens the content of the file.
func (f *finder) open() (*doc.File, func() error, error) {
	raw, ok, err := tree.InFS(f.src.FS, f.name)
	if err == nil && !ok {
		var data []byte
		data, err = wrap.Layers{}.ReadFile(f.src.FS, f.name, wrap.Limits{Decoded: maxFile})
		raw = bytes.NewReader(data)
	}
	if err != nil {
		return nil, nil, err
	}
	spec := f.file.Spec()
	if f.id == "" { // it may be a text, and then its first bytes say in what encoding
		spec.Form = "text"
	}
	content, done, err := spec.Unwrap(raw, wrap.DefaultLimits)
	if err != nil {
		return nil, nil, err
	}
	e, err := spec.Look(f.ctx, content)
	if err != nil {
		return nil, nil, errors.Join(err, done())
	}
	return e, func() error { return errors.Join(e.Close(), done()) }, nil
}

// search looks through the file itself.
func (f *finder) search() (err error) {
	e, done, err := f.open()
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, done()) }()
	lines := e.Lines()
	return e.Search(f.ctx, f.text, func(found doc.Found) error {
		return f.tell(func() (Place, error) {
			p := Place{File: f.name, ID: f.id, Offset: found.At, Query: found.Query}
			if found.Value != "" {
				p.Around = around([]byte(found.Value), strings.Index(found.Value, f.text), len(f.text))
				if found.Table != "" {
					p.Around = found.Table + ": " + p.Around
					return p, nil
				}
			} else {
				piece, at := e.Near(found.At, len(f.text))
				p.Around = around(piece, at, len(f.text))
			}
			var err error
			p.Line, err = lines(found.At)
			return p, err
		})
	})
}

// wrapped looks into values that are wrapped inside of the file, as far as the description says how.
func (f *finder) wrapped() (err error) {
	asked := map[string]bool{}
	for i := range f.src.Game.References {
		r := &f.src.Game.References[i]
		if f.id == "" || r.In != f.id || r.At == "" || r.Layers.None() || r.Save != "" && r.Save != f.src.Save.Kind.ID || asked[r.At] {
			continue
		}
		asked[r.At] = true
		if err := f.inValues(r.At, r.Layers.Layers); err != nil {
			return err
		}
	}
	for _, fields := range f.src.Save.Kind.Field {
		for i := range fields {
			one := &fields[i]
			if one.In == f.id && f.id != "" && len(one.At) == 1 && !one.Layers.None() && !asked[one.At[0]] && one.Each == "" {
				asked[one.At[0]] = true
				if err := f.inValues(one.At[0], one.Layers.Layers); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// inValues looks into the values that a query names, unwrapped.
func (f *finder) inValues(query string, layers wrap.Layers) (err error) {
	e, done, err := f.open()
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, done()) }()
	row := 0
	return e.EachValue(f.ctx, query, func(at doc.Node, value []byte) error {
		row++
		content, err := layers.Peel(bytes.NewReader(value), wrap.Limits{Decoded: maxFile})
		if err != nil {
			return fmt.Errorf("value %d of %s: %w", row, query, err)
		}
		for from := 0; ; {
			i := bytes.Index(content[from:], []byte(f.text))
			if i < 0 || f.text == "" {
				return nil
			}
			from += i
			err := f.tell(func() (Place, error) {
				way, err := e.Way(f.ctx, at)
				return Place{File: f.name, ID: f.id, Offset: from, Around: fmt.Sprintf("inside value %d: %s", row, around(content, from, len(f.text))), In: way}, err
			})
			if err != nil {
				return err
			}
			from += len(f.text)
		}
	})
}

// members looks into the other entries of a zip of which the description names one.
func (f *finder) members() error {
	for _, l := range f.file.Layers.Chain {
		if l.Name != "zip" {
			continue
		}
		others, err := f.file.Layers.Others(f.src.FS, f.name, wrap.DefaultLimits)
		if err != nil {
			return err
		}
		for _, o := range others {
			for from := 0; ; {
				i := bytes.Index(o.Content[from:], []byte(f.text))
				if i < 0 || f.text == "" {
					break
				}
				from += i
				if err := f.tell(func() (Place, error) {
					return Place{File: f.name + " (" + o.Name + ")", Offset: from, Around: around(o.Content, from, len(f.text))}, nil
				}); err != nil {
					return err
				}
				from += len(f.text)
			}
		}
	}
	return nil
}

// around is a text with a few words around it, in one line.
func around(content []byte, at, length int) string {
	const reach = 40
	from, to := max(0, at-reach), min(len(content), at+length+reach)
	for from < at && !utf8.RuneStart(content[from]) {
		from++
	}
	piece := content[from:to]
	if from == 0 {
		piece = bytes.TrimPrefix(piece, []byte("\xef\xbb\xbf")) // a mark, and no text
	}
	if !utf8.Valid(bytes.ToValidUTF8(piece, nil)) || bytes.IndexByte(piece, 0) >= 0 {
		return hex.EncodeToString(content[max(0, at-8):min(len(content), at+length+8)])
	}
	return strings.Join(strings.Fields(string(bytes.ToValidUTF8(piece, nil))), " ")
}
