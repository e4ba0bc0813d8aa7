package field

import (
	"context"
	"io"
	"io/fs"
	"time"

	"ostrov/internal/core/doc"
)

// Opened is one declared file as it was found and read.
type Opened struct {
	ID, Path string
	Size     int64         // bytes, as it lies there
	Form     string        // as it is declared
	Layers   []string      // that are around its content, outermost first
	Took     time.Duration // to open and read it
	Err      error         // fs.ErrNotExist where it is not there
	// Optional tells that it need not be there.
	Optional bool
	More     int // further files that the same glob means
}

// Opened opens the declared file id, and says how that went; now is the clock.
func (f *Files) Opened(ctx context.Context, id string, now func() time.Time) Opened {
	declared := f.files[id]
	o := Opened{ID: id, Path: declared.Path, Form: declared.Form, Optional: declared.Optional || declared.If != nil}
	places, err := f.places(id)
	if err == nil && len(places) == 0 {
		err = fs.ErrNotExist
	}
	if err != nil {
		o.Err = err
		return o
	}
	o.Path, o.More = places[0].Name, len(places)-1
	if info, err := fs.Stat(places[0].FS, places[0].Name); err == nil {
		o.Size = info.Size()
	}
	o.Layers = declared.Layers.Words(head(places[0].FS, places[0].Name))
	began := now()
	d, err := f.doc(ctx, id)
	if o.Took, o.Err = now().Sub(began), err; d == nil && err == nil {
		o.Err = fs.ErrNotExist
	}
	return o
}

// head is the beginning of a file, as much as tells what it is.
func head(fsys fs.FS, name string) []byte {
	f, err := fsys.Open(name)
	if err != nil {
		return nil
	}
	defer f.Close()
	buf := make([]byte, 4096)
	n, _ := io.ReadFull(f, buf)
	return buf[:n]
}

// Tried is how one alternative of a field was looked for.
type Tried struct {
	In, Query string // the file and the query; both "" for a fixed value or one from the name
	Value     Value
	Found     bool
	Several   int // how many places the query meets, where it meets more than one
	Err       error
}

// Try looks for one alternative of a field by itself.
func (f *Files) Try(ctx context.Context, field *Field) Tried {
	t := Tried{In: field.In}
	if len(field.At) > 0 {
		t.Query = field.At[0]
		for _, more := range field.At[1:] {
			t.Query += " + " + more
		}
	}
	t.Value, t.Found, t.Err = f.one(ctx, field)
	if t.Found && len(field.At) == 1 {
		if d, err := f.doc(ctx, field.In); err == nil && d != nil {
			if all, err := d.Each(ctx, field.At[0]); err == nil && len(all) > 1 { // of forms that have lists of values
				t.Several = len(all)
			}
		}
	}
	return t
}

// TriedList is how one list was looked for.
type TriedList struct {
	In, Query string
	Items     []Item
	There     bool // found, perhaps empty
	Whole     bool // each entry says which it is
	Err       error
}

// TryList looks for one list by itself.
func (f *Files) TryList(ctx context.Context, l *List) TriedList {
	t := TriedList{In: l.In, Query: l.Each, Whole: true}
	if l.At != "" {
		t.Query = l.At
	}
	if l.Section != "" {
		t.Query = "[" + l.Section + "] " + t.Query
	}
	r := listReader{l, f.files[l.In].Form, maxItems}
	t.Err = f.each(ctx, l.In, func(d *doc.Doc) error {
		items, there, whole, err := r.read(ctx, d)
		t.Items, t.There, t.Whole = append(t.Items, items...), t.There || there, t.Whole && whole
		return err
	})
	return t
}
