package save

import (
	"context"
	"errors"
	"io/fs"
	"regexp"

	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
)

// Broken are, for each link of a save, the values that name something which is not there. name and files are as for Read.
func Broken(ctx context.Context, kind *game.Save, links []*game.Link, fsys fs.FS, name string, files []string) (broken [][]string, err error) {
	content, err := ContentOf(kind, fsys, name, files)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, content.Close()) }()
	for _, l := range links {
		none, err := regexp.Compile("^(?:" + l.None + ")$")
		if err != nil {
			return nil, err
		}
		to, err := content.All(ctx, &field.Field{In: l.To.In, At: field.Strings{l.To.At}})
		if err != nil {
			return nil, err
		}
		from, err := content.All(ctx, &field.Field{In: l.From.In, At: field.Strings{l.From.At}})
		if err != nil {
			return nil, err
		}
		there := map[string]bool{}
		for _, v := range to {
			there[v] = true
		}
		var missing []string
		for _, v := range from {
			if !there[v] && !none.MatchString(v) {
				missing = append(missing, v)
			}
		}
		broken = append(broken, missing)
	}
	return broken, nil
}
