package form

import (
	"cmp"
	"encoding/json"
	"io"
	"io/fs"
	"slices"
	"strings"
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

// memory is of the file in a form, and knows nothing yet.
func (f *rememberedFile) memory(form string) *memory {
	return &memory{form: form, note: func(what []byte) { f.of.note(f.name, what) }}
}

// recall looks up what is remembered of the text as one of a form, before it is passed over.
func (s *source) recall(form string) {
	s.form = form
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
		if m := f.memory(form); m.read(f.of.recall(f.name), s.size) {
			s.before = m
		} else {
			s.unknown = m
		}
	}
}

// remember notes what has been learnt of the text, all of which has been passed over and is whole.
func (s *source) remember() {
	if s.err != nil {
		return
	}
	if s.unknown != nil {
		s.unknown.note(written(s.form, s))
		s.unknown = nil
	}
	if p, ok := s.before.(*patched); ok {
		p.passed = s
	}
}

// Learnt is what a Remembered may be given of what the edits have made of the file, nil where that has not been passed over or is soon passed over.
func (p *patched) Learnt() []byte {
	if p.passed == nil || p.size <= maxTree {
		return nil
	}
	return written(p.passed.form, p.passed)
}

// memory is what is remembered of a file in a form: the outline of all of it.
type memory struct {
	outline
	form string
	note func(what []byte)
	seen map[int]bool // parts that end where they should, by where they begin
}

// stands reports whether what is remembered of a part can be: what closes it stands there. Times and sizes say that a file is as it was; where a
// system keeps only one time of it, which others can set, this says so too.
func (s *source) stands(m *memory, from int, e extent) bool {
	if m.seen[from] {
		return true
	}
	var ok bool
	if m.form == "json" {
		ok = s.at(e.to-1) == s.at(from)+2 // ] is [+2, and } is {+2
	} else if n := e.to - e.inner; n > 0 && n <= maxClosing {
		closing := string(s.peek(e.inner, e.to))
		name, named := strings.CutPrefix(closing, "</")
		if name = strings.TrimRight(name, "> \t\r\n"); m.form == "xml" {
			ok = named && strings.HasSuffix(closing, ">") && string(s.peek(from+1, from+1+len(name))) == name
		} else {
			ok = closing == "}" || strings.HasPrefix(closing, "[/") && strings.HasSuffix(closing, "]")
		}
	}
	m.seen[from] = ok
	return ok
}

// maxClosing is how long what closes a part is at most, in bytes, for the part to be remembered.
const maxClosing = 4 << 10

// maxRemembered is how many parts of a file are remembered, the largest.
const maxRemembered = 2000

// writtenOutline is an outline between runs.
type writtenOutline struct {
	Form  string
	Parts []int // of each where it begins, where what is in it ends, and where it ends itself
}

// read reads what written made; ok is false of what cannot be the outline of a file of that size.
func (m *memory) read(what []byte, size int) (ok bool) {
	var w writtenOutline
	if json.Unmarshal(what, &w) != nil || w.Form != m.form || len(w.Parts)%3 != 0 || len(w.Parts) > 3*maxRemembered {
		return false
	}
	m.outline, m.seen = newOutline(), map[int]bool{}
	for p := range slices.Chunk(w.Parts, 3) {
		if p[0] < 0 || p[0] >= p[2] || p[1] < 0 || p[1] > p[2] || p[2] > size {
			return false
		}
		m.outline.note(p[0], extent{p[1], p[2]})
	}
	return true
}

// written is what is known of a file in a form, to be read by memory.read.
func written(form string, known outlined) []byte {
	type part struct {
		from int
		extent
	}
	var all []part
	eachPart(known, func(from int, e extent) { all = append(all, part{from, e}) })
	slices.SortFunc(all, func(a, b part) int {
		return cmp.Or(cmp.Compare(b.to-b.from, a.to-a.from), cmp.Compare(a.from, b.from))
	})
	all = slices.Compact(all)
	w := writtenOutline{Form: form}
	for _, p := range all[:min(len(all), maxRemembered)] {
		w.Parts = append(w.Parts, p.from, p.inner, p.to)
	}
	data, err := json.Marshal(w)
	if err != nil {
		return nil
	}
	return data
}

// eachPart visits all parts that are known of a file, some perhaps twice.
func eachPart(known outlined, visit func(from int, e extent)) {
	switch k := known.(type) {
	case *source:
		for from, e := range k.parts {
			visit(from, e)
		}
		eachPart(k.before, visit)
	case *memory:
		for from, e := range k.parts {
			visit(from, e)
		}
	case *patched:
		eachPart(k.known, func(from int, e extent) {
			if shift, ok := k.moved(from, e.to); ok {
				visit(from+shift, extent{max(0, e.inner+shift), e.to + shift})
			}
		})
	}
}
