package mods

import (
	"context"
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/layout"
	"ostrov/internal/core/problem"
)

// recognise finds the mods in downloads. An archive that is called like a mod, or that holds none, may be one itself: so of returns the downloads as
// they were taken.
func recognise(ctx context.Context, in *game.Install, downloads []*facts.Download, req layout.Request) (found *layout.Result, of []*facts.Download, err error) {
	parts := func() (parts []layout.Part) {
		for _, d := range of {
			parts = append(parts, layout.Part{Name: bare(d.Name), FS: d.FS, Entries: d.Entries})
		}
		return parts
	}
	whole := func(is func(file string) bool) (some bool, err error) {
		for i, d := range downloads {
			if !is(d.File) {
				continue
			}
			one, err := d.AsOne(ctx)
			if err != nil {
				return some, err
			}
			if one != nil {
				of[i], some = one, true
			}
		}
		return some, nil
	}
	of = slices.Clone(downloads)
	if _, err := whole(func(file string) bool { return isCalled(in.Game, filepath.Base(file)) }); err != nil {
		return nil, of, err
	}
	found, err = layout.Recognise(ctx, in, parts(), req)
	if unknown := (*layout.UnknownError)(nil); !errors.As(err, &unknown) {
		return found, of, err
	}
	some, wholeErr := whole(func(file string) bool {
		return slices.ContainsFunc(in.Game.Mods, func(m game.Mod) bool {
			return m.Unit == game.UnitFile && !m.Base && (m.Name == "" || matches(m.Name, file))
		})
	})
	if wholeErr != nil || !some {
		return nil, of, errors.Join(wholeErr, err)
	}
	found, err = layout.Recognise(ctx, in, parts(), req)
	return found, of, err
}

// isCalled reports whether a file is called as mods of the game are that are archives under another name: "*.jar".
func isCalled(d *game.Description, file string) bool {
	return path.Ext(file) != ".zip" && slices.ContainsFunc(d.Mods, func(m game.Mod) bool {
		return m.Unit == game.UnitFile && !m.Base && path.Ext(m.Name) != "" && matches(m.Name, file)
	})
}

func matches(glob, file string) bool {
	return doublestar.MatchUnvalidated(strings.ToLower(glob), strings.ToLower(filepath.Base(file)))
}

// bare is a name without the endings of archives.
func bare(name string) string {
	for _, ext := range []string{".zip", ".7z", ".rar", ".gz", ".tgz", ".xz", ".bz2", ".zst", ".tar"} {
		name = strings.TrimSuffix(name, ext)
	}
	return name
}

// explain says why a download is no mod in words for people.
func explain(err error, file string) error {
	var choice *layout.ChoiceError
	var unknown *layout.UnknownError
	switch {
	case errors.As(err, &choice):
		var hints problem.Hints
		for _, n := range choice.Names {
			hints = hints.Or(problem.Do("mods add", file).With("pick", n))
		}
		return &problem.Error{Text: fmt.Sprintf("%s: %v", file, choice), Hints: hints, Err: errors.Join(problem.ErrUsage, choice)}
	case errors.As(err, &unknown):
		has := unknown.Has
		if len(has) > maxNamed {
			has = append(slices.Clone(has[:maxNamed]), fmt.Sprintf("and %d more", len(has)-maxNamed))
		}
		hints := problem.Advise("it holds: %s", strings.Join(has, ", ")).Or(problem.Advise("a mod is told by: %s", strings.Join(unknown.Want, "; ")))
		return problem.Usage(hints, "%s: %v; nothing has been changed", file, unknown)
	}
	return fmt.Errorf("%s: %w; nothing has been changed", file, err)
}

// maxNamed is how many things of a download are named.
const maxNamed = 12
