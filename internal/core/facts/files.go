package facts

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"path/filepath"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
)

// GroupFiles are the files that a pattern stands for now, and what could not be looked at in their folder.
func GroupFiles(ctx context.Context, g game.FileGroup) ([]tree.Entry, error) {
	var entries []tree.Entry
	deep := strings.Contains(g.Glob, "/") || strings.Contains(g.Glob, "**")
	err := tree.Walk(ctx, g.Dir, func(e tree.Entry) error {
		if e.Kind == tree.Dir && (!deep || tree.Ours(path.Base(e.Path))) {
			return fs.SkipDir
		}
		if g.Except != "" && filepath.Join(g.Dir, filepath.FromSlash(e.Path)) == g.Except {
			return nil
		}
		if e.Kind == tree.Unread || e.Kind == tree.File && g.Holds(e.Path) {
			entries = append(entries, e)
		}
		return nil
	})
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	return entries, err
}

// GameFiles are the entries of an install that make up the game itself: all but what lies in its folders of saves and mods, or is a
// setting or a picture. unread is what cannot be looked at.
func GameFiles(ctx context.Context, st *State) (entries *tree.List, unread []tree.Entry, err error) {
	in := st.Install
	other := map[string]bool{}
	for _, f := range st.Folders {
		other[f.Path] = true
		if f.Account != "" {
			other[filepath.Dir(f.Path)] = true
		}
	}
	entries = &tree.List{}
	err = tree.Walk(ctx, in.Root, func(e tree.Entry) error {
		full := filepath.Join(in.Root, filepath.FromSlash(e.Path))
		switch {
		case e.Kind == tree.Special:
			return nil
		case e.Kind == tree.Unread:
			unread = append(unread, e)
			return nil
		case other[full] || tree.Ours(path.Base(e.Path)):
			if e.Kind == tree.Dir {
				return fs.SkipDir
			}
			return nil
		}
		for _, g := range st.Groups {
			rel, err := filepath.Rel(g.Dir, full)
			if e.Kind == tree.File && err == nil && filepath.IsLocal(rel) && doublestar.MatchUnvalidated(g.Glob, filepath.ToSlash(rel)) {
				return nil
			}
		}
		entries.Add(e)
		return nil
	})
	return entries, unread, err
}
