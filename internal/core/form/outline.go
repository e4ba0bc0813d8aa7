package form

import (
	"io"
	"maps"
)

// extent is where a part ends that begins somewhere: what is in it, where that ends otherwise, and it itself.
type extent struct{ inner, to int }

// outline are the larger parts of a text that have been passed over and are whole, by where they begin, so that nothing passes over them again: values
// of JSON in brackets, elements of XML, blocks. What is whole at one place of a text is so at every other one, too: nothing tells from outside how a
// value, an element or a block in brackets or braces is to be read.
type outline struct {
	parts map[int]extent
	least int // the size, in bytes, from which parts are noted
	high  int // behind the last of them
}

const (
	leastNoted = 4 << 10
	// maxNoted is how many parts are noted; of more, the smaller ones are forgotten.
	maxNoted = 50_000
)

func newOutline() outline { return outline{parts: map[int]extent{}, least: leastNoted} }

// note notes a part that has just been passed over and has at least that size.
func (o *outline) note(from int, e extent) {
	if len(o.parts) == maxNoted {
		o.least *= 2
		maps.DeleteFunc(o.parts, func(from int, e extent) bool { return e.to-from < o.least })
	}
	if len(o.parts) < maxNoted {
		o.parts[from] = e
		o.high = max(o.high, e.to)
	}
}

// part is where the part ends that begins at a place, where that is known.
func (o *outline) part(from int) (extent, bool) {
	if from >= o.high {
		return extent{}, false
	}
	e, ok := o.parts[from]
	return e, ok
}

// outlined knows where parts of a file end.
type outlined interface {
	part(from int) (extent, bool)
}

// outlineOf is what is known of a file without reading it: of one that an Editor has changed, all that was known of what it did not touch.
func outlineOf(file io.ReaderAt, size int64) outlined {
	for {
		if known, ok := file.(outlined); ok {
			return known
		}
		section, ok := file.(interface {
			Outer() (io.ReaderAt, int64, int64)
		})
		if !ok {
			return nil
		}
		outer, from, n := section.Outer()
		if from != 0 || n != size {
			return nil
		}
		file = outer
	}
}
