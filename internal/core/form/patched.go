package form

import (
	"bufio"
	"cmp"
	"errors"
	"io"
	"io/fs"
	"math"
	"slices"
)

// patched is a file with edits, read without being written anywhere.
type patched struct {
	base  io.ReaderAt
	edits []change // in order, none inside of another
	ends  []int    // where each edit's text ends in what is read
	size  int
	shift int      // how much larger it is than base
	known outlined // what is known of base
	// passed is the last pass over all of it that found it whole, or nil.
	passed *source
}

func newPatched(base *source, edits []change) (*patched, error) {
	edits, err := inOrder(edits)
	if err != nil {
		return nil, err
	}
	p := &patched{base: base.file, edits: edits, size: base.size, known: base}
	shift := 0
	for _, e := range edits {
		if e.From < 0 || e.To > base.size {
			return nil, errors.New("an edit outside of the text")
		}
		p.ends = append(p.ends, e.From+shift+len(e.Text))
		shift += len(e.Text) - (e.To - e.From)
	}
	p.size += shift
	p.shift = shift
	return p, nil
}

// Size is how many bytes it has.
func (p *patched) Size() int64 { return int64(p.size) }

// CopyTo writes what the edits have made of the file. What they leave goes from file to file where the system can do that.
func (p *patched) CopyTo(w io.Writer) (err error) {
	base := io.NewSectionReader(p.base, 0, int64(p.size-p.shift))
	from := io.ReadSeeker(base)
	if file, ok := p.base.(interface{ Opened() (fs.File, error) }); ok {
		f, err := file.Opened()
		if err != nil {
			return err
		}
		defer f.Close()
		if r, ok := f.(*rememberedFile); ok {
			f = r.File
		}
		if seeker, ok := f.(io.ReadSeeker); ok {
			from = seeker
		}
	}
	b := bufio.NewWriterSize(w, block)
	at := 0
	for _, e := range append(slices.Clone(p.edits), change{From: p.size - p.shift}) {
		if e.From-at > block { // then bufio passes the reader on
			if err := b.Flush(); err != nil {
				return err
			}
		}
		if _, err := from.Seek(int64(at), io.SeekStart); err != nil {
			return err
		}
		if _, err := io.CopyN(b, from, int64(e.From-at)); err != nil {
			return err
		}
		if _, err := b.WriteString(e.Text); err != nil {
			return err
		}
		at = e.To
	}
	return b.Flush()
}

// before is the first edit that ends behind a place, and how far the base in front of it is shifted against what is read.
func (p *patched) before(at int) (edit, shift int) {
	i, _ := slices.BinarySearchFunc(p.ends, at, func(end, at int) int {
		if end <= at {
			return -1
		}
		return 1
	})
	if i > 0 {
		shift = p.edits[i-1].To - p.ends[i-1]
	}
	return i, shift
}

// part is where a part ends that no edit has touched.
func (p *patched) part(from int) (extent, bool) {
	i, shift := p.before(from)
	next := math.MaxInt
	if i < len(p.edits) {
		next = p.edits[i].From
	}
	if from+shift >= next {
		return extent{}, false
	}
	e, ok := p.known.part(from + shift)
	if !ok || e.to > next {
		return extent{}, false
	}
	return extent{e.inner - shift, e.to - shift}, true
}

// moved is how far what stands at a place of the base is shifted in what is read; ok is false where an edit touches it.
func (p *patched) moved(from, to int) (shift int, ok bool) {
	i, _ := slices.BinarySearchFunc(p.edits, from+1, func(e change, at int) int { return cmp.Compare(e.To, at) })
	if i > 0 {
		shift = p.ends[i-1] - p.edits[i-1].To
	}
	return shift, i == len(p.edits) || p.edits[i].From >= to
}

// ReadAt reads from what the edits have made of the file.
func (p *patched) ReadAt(b []byte, off int64) (n int, err error) {
	at := int(off)
	i, shift := p.before(at)
	for ; n < len(b) && at < p.size; i++ {
		next := p.size
		if i < len(p.edits) {
			next = p.ends[i] - len(p.edits[i].Text)
		}
		if at < next { // the base before the next edit
			part := b[n:min(len(b), n+next-at)]
			m, err := p.base.ReadAt(part, int64(at+shift))
			n, at = n+m, at+m
			if m < len(part) {
				return n, err
			}
		}
		if i == len(p.edits) {
			break
		}
		if n < len(b) && at < p.ends[i] {
			text := p.edits[i].Text
			m := copy(b[n:], text[len(text)-(p.ends[i]-at):])
			n, at = n+m, at+m
		}
		shift = p.edits[i].To - p.ends[i]
	}
	if n < len(b) {
		return n, io.EOF
	}
	return n, nil
}
