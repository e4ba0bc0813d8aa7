package compare

import (
	"context"
	"maps"
	"slices"

	"ostrov/internal/core/facts"
	"ostrov/internal/core/home"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// Inside is what differs between two saves.
type Inside struct {
	Fields []FieldChange `json:"fields"` // values that the description reads
	Files  []SizeChange  `json:"files"`
	Same   int           `json:"same"` // files that are the same
}

// FieldChange is a value that differs, as text; "" where a save has none.
type FieldChange struct {
	Field string `json:"field"`
	A     string `json:"a"`
	B     string `json:"b"`
}

// SizeChange is a file of a save that differs, by its path in the save; its sizes are in bytes.
type SizeChange struct {
	What string `json:"what"` // new, gone or changed
	Path string `json:"path"`
	A    int64  `json:"a"`
	B    int64  `json:"b"`
}

// inside compares two saves: the values that the description reads of them, and their files.
func inside(ctx context.Context, h *home.Home, a, b *facts.Save) (*Inside, error) {
	in := &Inside{Fields: []FieldChange{}, Files: []SizeChange{}}
	ids := maps.Clone(a.Facts.Fields)
	maps.Copy(ids, b.Facts.Fields)
	for _, id := range slices.Sorted(maps.Keys(ids)) {
		if x, y := a.Facts.Fields[id].Text, b.Facts.Fields[id].Text; x != y {
			in.Fields = append(in.Fields, FieldChange{id, x, y})
		}
	}
	was, now := filesOf(a), filesOf(b)
	paths := maps.Clone(was)
	maps.Copy(paths, now)
	for _, path := range slices.Sorted(maps.Keys(paths)) {
		x, had := was[path]
		y, has := now[path]
		switch {
		case !had:
			in.Files = append(in.Files, SizeChange{"new", path, 0, y.Size})
		case !has:
			in.Files = append(in.Files, SizeChange{"gone", path, x.Size, 0})
		default:
			same, err := sameFile(ctx, h, a, b, x, y)
			if err != nil {
				return nil, err
			}
			if same {
				in.Same++
			} else {
				in.Files = append(in.Files, SizeChange{"changed", path, x.Size, y.Size})
			}
		}
	}
	return in, nil
}

// filesOf are the files of a save, by what they are called in it: two saves in different slots have the same ones.
func filesOf(s *facts.Save) map[string]tree.Entry {
	files := map[string]tree.Entry{}
	for _, e := range s.Files {
		files[save.Inside(s.Kind, s.Name, e.Path)] = e
	}
	return files
}

func sameFile(ctx context.Context, h *home.Home, a, b *facts.Save, x, y tree.Entry) (bool, error) {
	if x.Size != y.Size {
		return false, nil
	}
	one, err := h.Hasher.File(ctx, a.Folder.Path, x, false)
	if err != nil {
		return false, err
	}
	other, err := h.Hasher.File(ctx, b.Folder.Path, y, false)
	return one.Blake3 == other.Blake3, err
}
