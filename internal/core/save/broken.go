package save

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"slices"

	"ostrov/internal/core/game"
	"ostrov/internal/core/wrap"
)

// maxNames bounds the values of one link that are held in memory.
const maxNames = 2_000_000

// Broken are, for each link of a save, the values that name something which is not there. name and files are as for Read.
func Broken(ctx context.Context, kind *game.Save, links []*game.Link, fsys fs.FS, name string, files []string) (broken [][]string, err error) {
	content, err := ContentOf(kind, fsys, name, files)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, content.Close()) }()
	for _, l := range links {
		missing, err := brokenOf(ctx, content, l)
		if err != nil {
			return nil, err
		}
		broken = append(broken, missing)
	}
	return broken, nil
}

// errAllThere ends the reading of what a link may name.
var errAllThere = errors.New("all there")

// brokenOf are the values of one link; of what they may name, which may be very many, nothing is kept.
func brokenOf(ctx context.Context, content *Content, l *game.Link) ([]string, error) {
	none, err := regexp.Compile("^(?:" + l.None + ")$")
	if err != nil {
		return nil, err
	}
	named := map[string]int{}
	err = content.EachText(ctx, l.From.In, l.From.At, func(value string) error {
		if l.None == "" || !none.MatchString(value) {
			named[value]++
		}
		if len(named) > maxNames {
			return fmt.Errorf("%w: a link of more than %d values", wrap.ErrTooLarge, maxNames)
		}
		return ctx.Err()
	})
	if err != nil || len(named) == 0 {
		return nil, err
	}
	err = content.EachText(ctx, l.To.In, l.To.At, func(value string) error {
		if delete(named, value); len(named) == 0 {
			return errAllThere
		}
		return nil
	})
	if errors.Is(err, errAllThere) {
		return nil, nil
	}
	var missing []string
	for value, n := range named {
		missing = append(missing, slices.Repeat([]string{value}, n)...)
	}
	slices.Sort(missing)
	return missing, err
}
