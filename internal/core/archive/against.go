package archive

import (
	"bytes"
	"context"
	"io"
)

const (
	// page is the unit in which a file is compared with its state before: databases write whole pages of this size, in bytes.
	page = 4096
	// maxParts is how many parts a file may come to have by being compared; then it is stored anew.
	maxParts = 20_000
	// near is how many pages at its beginning tell whether a file is compared at all: an insertion moves everything behind it.
	near = 256
)

// splitAgainst stores what in gives as parts, where it is the same file as old some time later: pages that are as they were stay slices of
// the parts that old has, and only the others are stored. A file in which more than half of the first pages differ is split by its content
// instead, which finds what has moved.
func (r *reader) splitAgainst(ctx context.Context, old Node, in io.Reader) ([]Chunk, error) {
	if len(old.Chunks) > maxParts/2 {
		return r.split(in)
	}
	before, feed := io.Pipe()
	go func() { feed.CloseWithError(r.k.a.copyParts(ctx, old.Chunks, feed)) }()
	defer before.Close()
	head, was := make([]byte, near*page), make([]byte, near*page)
	n, err := io.ReadFull(in, head)
	if err != nil && err != io.ErrUnexpectedEOF && err != io.EOF {
		return nil, err
	}
	m, _ := io.ReadFull(before, was) // what cannot be read of the state before is as if it were not there
	same := 0
	for at := 0; at+page <= min(n, m); at += page {
		if bytes.Equal(head[at:at+page], was[at:at+page]) {
			same++
		}
	}
	in = io.MultiReader(bytes.NewReader(head[:n]), in)
	if same*page*2 < n {
		return r.split(in)
	}
	c := &comparing{r: r, old: old.Chunks}
	return c.run(in, io.MultiReader(bytes.NewReader(was[:m]), before))
}

// comparing is one file being compared with its state before.
type comparing struct {
	r     *reader
	old   []Chunk // of the state before
	index int     // of the part that begins at or before offset
	start int64   // where that part begins
	parts []Chunk
	fresh []byte // pages that differ, to be stored as one entry
	// open are the places in parts that stand for pages in fresh.
	open []int
}

func (c *comparing) run(in, before io.Reader) ([]Chunk, error) {
	now, was := make([]byte, page), make([]byte, page)
	for offset, moved := int64(0), 0; ; {
		if moved == near { // not pages that differ here and there: what follows has moved, and its content finds it
			if err := c.flush(); err != nil {
				return nil, err
			}
			rest, err := c.r.split(in)
			return append(c.parts, rest...), err
		}
		n, err := io.ReadFull(in, now)
		if err != nil && err != io.ErrUnexpectedEOF && err != io.EOF {
			return nil, err
		}
		if n == 0 {
			return c.parts, c.flush()
		}
		m := 0
		if before != nil {
			if m, _ = io.ReadFull(before, was); m < page {
				before = nil
			}
		}
		if m >= n && bytes.Equal(now[:n], was[:n]) {
			c.same(offset, int64(n))
			moved = 0
		} else {
			if err := c.differs(now[:n]); err != nil {
				return nil, err
			}
			moved++
		}
		offset += int64(n)
	}
}

// same takes a run of bytes over from the state before.
func (c *comparing) same(offset, length int64) {
	for length > 0 {
		for c.start+c.old[c.index].Length <= offset {
			c.start += c.old[c.index].Length
			c.index++
		}
		p := c.old[c.index]
		inside := offset - c.start
		n := min(length, p.Length-inside)
		c.add(Chunk{Blob: p.Blob, Offset: p.Offset + inside, Length: n})
		offset, length = offset+n, length-n
	}
}

// add appends a part, or makes the last one longer where it goes on from there.
func (c *comparing) add(p Chunk) {
	if n := len(c.parts); n > 0 {
		last := &c.parts[n-1]
		if last.Blob == p.Blob && last.Offset+last.Length == p.Offset && !last.Blob.IsZero() {
			last.Length += p.Length
			return
		}
	}
	c.parts = append(c.parts, p)
}

// differs gathers a page that is new. The pages of many places make up one entry.
func (c *comparing) differs(data []byte) error {
	at := int64(len(c.fresh))
	c.fresh = append(c.fresh, data...)
	if n := len(c.parts); n > 0 && len(c.open) > 0 && c.open[len(c.open)-1] == n-1 {
		c.parts[n-1].Length += int64(len(data))
	} else {
		c.open = append(c.open, n)
		c.parts = append(c.parts, Chunk{Offset: at, Length: int64(len(data))}) // its entry is known when it is stored
	}
	if len(c.fresh)+page > maxPart {
		return c.flush()
	}
	return nil
}

func (c *comparing) flush() error {
	if len(c.fresh) == 0 {
		return nil
	}
	d, err := c.r.k.w.add(&c.r.packer, c.fresh)
	for _, i := range c.open {
		c.parts[i].Blob = d
	}
	c.fresh, c.open = c.fresh[:0], c.open[:0]
	return err
}
