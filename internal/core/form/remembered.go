package form

import (
	"cmp"
	"encoding/json"
	"io"
	"io/fs"
	"slices"
)

// Remembered is fsys, of whose large files it is remembered where their larger parts end, so that what is whole in one of them is not passed over again as long
// as it stays as it is. recall is what was last noted of a file in its present state, nil where that is nothing; note is called once a file was passed over.
func Remembered(fsys fs.FS, recall func(name string) []byte, note func(name string, what []byte)) fs.FS {
	return remembered{fsys, recall, note}
}

type remembered struct {
	fs.FS
	recall func(name string) []byte
	note   func(name string, what []byte)
}

// Open opens a file; what is small, or cannot be read at any place, is as fsys has it.
func (r remembered) Open(name string) (fs.File, error) {
	f, err := r.FS.Open(name)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	at, ok := f.(io.ReaderAt)
	if err != nil || !ok || !info.Mode().IsRegular() || info.Size() <= maxTree {
		return f, nil
	}
	return &rememberedFile{f, at, r, name, info.Size()}, nil
}

// rememberedFile is a large file of a Remembered.
type rememberedFile struct {
	fs.File
	io.ReaderAt
	of   remembered
	name string
	size int64
}

// outline is what is remembered of the file in a form; known is false where that is nothing yet.
func (f *rememberedFile) outline(form string) (m *memory, known bool) {
	m = &memory{form: form, note: func(what []byte) { f.of.note(f.name, what) }}
	return m, m.read(f.of.recall(f.name), int(f.size))
}

// recall looks up what is remembered of the text as one of a form, before it is passed over.
func (s *source) recall(form string) {
	file := any(s.file)
	if c, ok := file.(interface{ Opened() (fs.File, error) }); ok {
		f, err := c.Opened()
		if err != nil {
			return
		}
		defer f.Close()
		file = f
	}
	if f, ok := file.(*rememberedFile); ok && f.size == int64(s.size) {
		if m, known := f.outline(form); known {
			s.before = m
		} else {
			s.unknown = m
		}
	}
}

// remember notes what has been learnt of the text, all of which has been passed over and is whole.
func (s *source) remember() {
	if s.unknown != nil && s.err == nil {
		s.unknown.learn(&s.outline)
		s.unknown = nil
	}
}

// memory is what is remembered of a file in a form: the outline of all of it.
type memory struct {
	outline
	form string
	note func(what []byte)
}

// maxRemembered is how many parts of a file are remembered, the largest.
const maxRemembered = 2000

// writtenOutline is an outline between runs.
type writtenOutline struct {
	Form  string
	Parts []int // of each where it begins, where what is in it ends, and where it ends itself
}

// read reads what learn wrote; ok is false of what cannot be the outline of a file of that size.
func (m *memory) read(written []byte, size int) (ok bool) {
	var w writtenOutline
	if json.Unmarshal(written, &w) != nil || w.Form != m.form || len(w.Parts)%3 != 0 || len(w.Parts) > 3*maxRemembered {
		return false
	}
	o := newOutline()
	for p := range slices.Chunk(w.Parts, 3) {
		if p[0] < 0 || p[0] >= p[2] || p[1] < 0 || p[1] > p[2] || p[2] > size {
			return false
		}
		o.note(p[0], extent{p[1], p[2]})
	}
	m.outline = o
	return true
}

// learn notes what is known of a file all of which has been passed over, and is whole.
func (m *memory) learn(o *outline) {
	type part struct {
		from int
		extent
	}
	var largest []part
	for from, e := range o.parts {
		largest = append(largest, part{from, e})
	}
	slices.SortFunc(largest, func(a, b part) int {
		return cmp.Or(cmp.Compare(b.to-b.from, a.to-a.from), cmp.Compare(a.from, b.from))
	})
	w := writtenOutline{Form: m.form}
	for _, p := range largest[:min(len(largest), maxRemembered)] {
		w.Parts = append(w.Parts, p.from, p.inner, p.to)
	}
	if data, err := json.Marshal(w); err == nil {
		m.note(data)
	}
}
