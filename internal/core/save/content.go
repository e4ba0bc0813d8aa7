package save

import (
	"context"
	"io/fs"
	"slices"
	"sort"
	"strings"

	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
)

// Read reads what a save says of itself. fsys holds it; name is that of its file or folder, and files are all its files, relative to fsys. What stands at
// the places of also is read on the same way; see Facts.Referring.
func Read(ctx context.Context, kind *game.Save, fsys fs.FS, name string, files []string, also ...game.Spot) Facts {
	content, err := ContentOf(kind, fsys, name, files)
	if err != nil {
		return Facts{Fields: map[string]field.Value{}, Problem: err}
	}
	defer content.Close()
	for _, spot := range also {
		content.ExpectAt(spot.In, spot.At)
	}
	facts := content.Facts(ctx)
	if facts.Problem == nil {
		facts.Problem = content.referring(ctx, &facts, also)
	}
	return facts
}

// Content is the files of a save, from which fields and lists are read.
type Content struct {
	*field.Files
	kind  *game.Save
	root  fs.FS
	files []string // relative to root
}

// ContentOf readies the content of a save; see Read. It must be closed.
func ContentOf(kind *game.Save, fsys fs.FS, name string, files []string) (*Content, error) {
	root := fsys
	if kind.Unit == game.UnitFolder && name != "." {
		var err error
		if root, err = fs.Sub(fsys, name); err != nil {
			return nil, err
		}
	}
	if kind.Unit != game.UnitFolder && slices.ContainsFunc(files, func(f string) bool { return strings.Contains(f, "/") }) {
		root = sideBySide(fsys, files)
	}
	files = within(kind, name, files)
	return &Content{field.InFS(root, name, files, kind.Files), kind, root, files}, nil
}

// Facts reads what the save says of itself.
func (in *Content) Facts(ctx context.Context) (facts Facts) {
	kind := in.kind
	facts.Fields = map[string]field.Value{}
	in.Expect(kind.Field, kind.Mods)
	defer func() { // a field that cannot be read says more than the file that it is in
		if facts.Problem == nil {
			facts.Problem = whole(ctx, kind, in.root, in.files)
		}
	}()
	note := func(err error) {
		if err != nil && facts.Problem == nil {
			facts.Problem = err
		}
	}
	for _, id := range fieldIDs(kind) {
		v, ok, err := in.Field(ctx, kind.Field[id])
		note(err)
		facts.unread = facts.unread || err != nil && (kind.Is == nil || slices.Contains(kind.Is.Has, id))
		if ok {
			facts.Fields[id] = v
		}
	}
	var err error
	facts.Mods, facts.ModsKnown, err = in.List(ctx, kind.Mods)
	note(err)
	facts.ModsKnown = facts.ModsKnown && err == nil
	if o := kind.Owner; o != nil && o.In != "" {
		v, _, err := in.Field(ctx, kind.Owner.Fields())
		note(err)
		facts.Owner = v.Raw
	}
	return facts
}

// maxReferring is how much of the values at places of references is kept, in bytes.
const maxReferring = 1 << 20

// referring fills in the values at places, as far as they are known and few.
func (in *Content) referring(ctx context.Context, facts *Facts, also []game.Spot) error {
	left := maxReferring
	for _, spot := range also {
		values, ok, err := in.Answered(ctx, spot.In, spot.At)
		if err != nil {
			return err
		}
		for _, v := range values {
			left -= len(v)
		}
		if !ok || left < 0 {
			continue
		}
		if facts.Referring == nil {
			facts.Referring = map[game.Spot][]string{}
		}
		facts.Referring[spot] = values
	}
	return nil
}

func fieldIDs(kind *game.Save) []string {
	ids := make([]string, 0, len(kind.Field))
	for id := range kind.Field {
		ids = append(ids, id)
	}
	sort.Strings(ids)
	return ids
}
