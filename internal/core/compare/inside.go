package compare

import (
	"context"
	"maps"
	"slices"
)

// Inside is what differs inside of two saves, files or folders.
type Inside struct {
	Fields []FieldChange `json:"fields"` // values that the description reads
	// Values are values of files that are text, as many as there is room for; More is how many others differ.
	Values []ValueChange `json:"values"`
	More   int           `json:"more,omitempty"`
	Files  []SizeChange  `json:"files"`
	Same   int           `json:"same"` // files that are the same
}

// FieldChange is a value that differs, as text; "" where a save has none.
type FieldChange struct {
	Field string `json:"field"`
	A     string `json:"a"`
	B     string `json:"b"`
}

// SizeChange is a file that differs, by its path inside; its sizes are in bytes.
type SizeChange struct {
	What string `json:"what"` // new, gone or changed
	Path string `json:"path"`
	A    int64  `json:"a"`
	B    int64  `json:"b"`
	Why  string `json:"why,omitempty"` // why no value inside of it is told
}

// inside compares what two things hold: the values that a description reads of them, where both are saves, and their files.
func inside(ctx context.Context, a, b *Side) (*Inside, error) {
	in := &Inside{Fields: []FieldChange{}, Values: []ValueChange{}, Files: []SizeChange{}}
	if a.Save != nil && b.Save != nil {
		in.fields(a, b)
	}
	paths := maps.Clone(a.inside)
	maps.Copy(paths, b.inside)
	for _, path := range slices.Sorted(maps.Keys(paths)) {
		x, had := a.inside[path]
		y, has := b.inside[path]
		switch {
		case !had:
			in.Files = append(in.Files, SizeChange{What: "new", Path: path, B: y.size})
		case !has:
			in.Files = append(in.Files, SizeChange{What: "gone", Path: path, A: x.size})
		default:
			same, err := sameContent(ctx, x, y)
			if err != nil {
				return nil, err
			}
			if same {
				in.Same++
				continue
			}
			in.Files = append(in.Files, SizeChange{What: "changed", Path: path, A: x.size, B: y.size, Why: in.differ(path, x, y)})
		}
	}
	return in, nil
}

func (in *Inside) fields(a, b *Side) {
	ids := maps.Clone(a.Save.Facts.Fields)
	maps.Copy(ids, b.Save.Facts.Fields)
	for _, id := range slices.Sorted(maps.Keys(ids)) {
		if x, y := a.Save.Facts.Fields[id].Text, b.Save.Facts.Fields[id].Text; x != y {
			in.Fields = append(in.Fields, FieldChange{id, x, y})
		}
	}
}

func sameContent(ctx context.Context, x, y content) (bool, error) {
	if x.size != y.size {
		return false, nil
	}
	one, err := x.digest(ctx)
	if err != nil {
		return false, err
	}
	other, err := y.digest(ctx)
	return one == other, err
}
