package facts

import (
	"context"
	"os"
	"path/filepath"

	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
)

// drive is the folder in a compatibility prefix that a Windows game takes for its drive C.
const drive = "drive_c"

// prefixDepth is how many levels below a folder a prefix is looked for: launchers keep one for each game in a numbered folder, and in an inner
// folder of that.
const prefixDepth = 4

// aroundPrefix is the prefix that a path lies in, or "".
func aroundPrefix(path string) string {
	for dir := filepath.Dir(path); ; dir = filepath.Dir(dir) {
		if filepath.Base(dir) == drive && isDir(dir) {
			return filepath.Dir(dir)
		}
		if filepath.Dir(dir) == dir {
			return ""
		}
	}
}

// prefixesIn finds the prefixes that a folder is or holds. Links are not followed, and what may not be read is passed over.
func prefixesIn(ctx context.Context, dir string) ([]string, error) {
	if filepath.Base(dir) == drive {
		return []string{filepath.Dir(dir)}, nil
	}
	return tree.Folders(ctx, dir, func(path string) bool { return isDir(filepath.Join(path, drive)) },
		func(path string) bool { return tree.Depth(dir, path) >= prefixDepth })
}

// takePrefix finds the prefix that an install runs in: the one around it, or among those in the folder that the player names the one in which
// the game has run. What could be several is asked about.
func takePrefix(ctx context.Context, in *game.Install, named string) error {
	if named == "" {
		if in.PlayerHome == "" {
			in.Prefix = aroundPrefix(in.Root)
		}
		return nil
	}
	found, err := prefixesIn(ctx, named)
	if err != nil {
		return err
	}
	if len(found) == 0 {
		return problem.Usage(problem.Do("games add", in.Game.ID).With("at", in.Root).With("prefix", "DIR"), "%s is no compatibility prefix and holds none: no %s in it", named, drive)
	}
	var used []string
	for _, prefix := range found {
		if hasRun(ctx, in, prefix) {
			used = append(used, prefix)
		}
	}
	switch {
	case len(found) == 1:
		in.Prefix = found[0]
	case len(used) == 1:
		in.Prefix = used[0]
	default:
		if len(used) > 1 {
			found = used
		}
		var hints problem.Hints
		for _, prefix := range found {
			hints = hints.Or(problem.Do("games add", in.Game.ID).With("at", in.Root).With("prefix", prefix))
		}
		return problem.Usage(hints, "there are %d prefixes in %s, and nothing tells in which %s runs: say which", len(found), named, in.Game.Title)
	}
	return nil
}

// hasRun reports whether the game has folders of its own in a prefix, besides what lies in the install.
func hasRun(ctx context.Context, in *game.Install, prefix string) bool {
	if aroundPrefix(in.Root) == prefix {
		return true
	}
	tried := *in
	tried.Prefix = prefix
	if tried.Open() != nil {
		return false
	}
	folders, err := tried.Folders(ctx)
	if err != nil {
		return false
	}
	for _, l := range folders {
		if _, err := os.Stat(l.Path); err == nil && game.Within(l.Real, tree.Real(prefix)) && !game.Within(l.Path, in.Root) {
			return true
		}
	}
	return false
}
