package facts

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/game"
	"ostrov/internal/core/glob"
	"ostrov/internal/core/home"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
)

// Base is what a clean install of a game consists of: recorded from one, or from an author's list of what may be there.
type Base struct {
	Format  int       `json:"ostrov_base"`
	Install string    `json:"install"`
	Version string    `json:"version,omitempty"` // of the game, when it was recorded
	Taken   time.Time `json:"taken"`
	// Files has each file with its digest; a zero digest, from a list, means that only the name counts.
	Files map[string]tree.Digest `json:"files"`
	// Listed tells that it is an author's list: then only files are judged that the description calls the game's own.
	Listed bool `json:"listed,omitempty"`
}

// Strays is how an install differs from its clean state; all are paths in it.
type Strays struct {
	Extra, Changed, Missing []string
	// Unmatched are lines of an author's list that nothing matches. A list says what may be there, so that is no difference; but it may be a mistake.
	Unmatched []string
}

// Clean reports whether there is no difference.
func (d Strays) Clean() bool { return len(d.Extra)+len(d.Changed)+len(d.Missing) == 0 }

// BaseName is the file of Ostrov's home that has the clean state of an install.
func BaseName(in *game.Install) string { return "bases/" + in.Game.ID + "@" + in.Name + ".json" }

// baseFormat is the number of the format of that file.
const baseFormat = 1

// baseFiles lists the files of the install that are the game's own, as far as its description says; with all, every file.
func baseFiles(ctx context.Context, in *game.Install, all bool) ([]tree.Entry, error) {
	var own []tree.Entry
	globs := in.Game.Install.Base
	err := tree.Walk(ctx, in.Root, func(e tree.Entry) error {
		if tree.Ours(path.Base(e.Path)) {
			return fs.SkipDir
		}
		if e.Kind == tree.File && (all || len(globs) == 0 || matches(globs, e.Path)) {
			own = append(own, e)
		}
		return nil
	})
	return own, err
}

func matches(globs []string, path string) bool {
	return slices.ContainsFunc(globs, func(g string) bool { return doublestar.MatchUnvalidated(g, path) })
}

// matchesOf is matches, and marks each glob that a path matches.
func matchesOf(globs []string, path string, used map[string]bool) bool {
	found := false
	for _, g := range globs {
		if doublestar.MatchUnvalidated(g, path) {
			used[g], found = true, true
		}
	}
	return found
}

// NewBase is what the install consists of now, as its clean state: from is an author's list, one path or glob a line, or "" for the
// install as it is.
func NewBase(ctx context.Context, h *home.Home, in *game.Install, from string) (*Base, error) {
	if err := Open(ctx, h, in); err != nil {
		return nil, err
	}
	version, _, err := in.Version(ctx)
	if err != nil {
		return nil, err
	}
	b := &Base{Format: baseFormat, Install: in.Address(), Version: version, Taken: h.Now(), Files: map[string]tree.Digest{}}
	own, err := baseFiles(ctx, in, false)
	if err != nil {
		return nil, err
	}
	if from != "" {
		if err := b.readList(from); err != nil {
			return nil, err
		}
		// what the list names is recorded as it is now, so that it is noticed when it is altered or gone
		own = slices.DeleteFunc(own, func(e tree.Entry) bool {
			_, named := b.Files[e.Path]
			return !named && !matches(b.globs(), e.Path)
		})
	}
	progress := h.Meter("read")
	for _, e := range own {
		progress.More(e.Size)
	}
	for _, e := range own {
		sums, err := h.Hasher.File(ctx, in.Root, e, false)
		if err != nil {
			return nil, err
		}
		progress.Did(e.Size)
		b.Files[e.Path] = sums.Blake3
	}
	return b, nil
}

// maxBaseList bounds an author's list, in lines.
const maxBaseList = 1_000_000

// readList reads an author's list: a path or glob of the install a line; # begins a comment.
func (b *Base) readList(from string) error {
	f, err := tree.Open(from)
	if err != nil {
		return err
	}
	defer f.Close()
	b.Listed = true
	lines := bufio.NewScanner(f)
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(strings.ReplaceAll(lines.Text(), `\`, "/"))
		line = strings.TrimPrefix(line, "./")
		switch {
		case line == "" || strings.HasPrefix(line, "#"):
		case n > maxBaseList || !glob.Valid(line) || !fs.ValidPath(strings.TrimSuffix(line, "/")):
			return fmt.Errorf("%s:%d: %q is no path in the install", from, n, line)
		default:
			if strings.HasSuffix(line, "/") {
				line += "**"
			}
			b.Files[line] = tree.Digest{}
		}
	}
	if len(b.Files) == 0 && lines.Err() == nil {
		return problem.Usage(nil, "%s names no path: everything in the install would count as extra", from)
	}
	return lines.Err()
}

// globs are the lines of an author's list that are patterns.
func (b *Base) globs() []string {
	var globs []string
	for path, digest := range b.Files {
		if digest.IsZero() && strings.ContainsAny(path, "*?[{\\") {
			globs = append(globs, path)
		}
	}
	return globs
}

// StraysOf finds how the install differs from its clean state. What other folders of the game lie in it, saves and mods, is not looked at.
func StraysOf(ctx context.Context, h *home.Home, in *game.Install, b *Base) (Strays, error) {
	var d Strays
	folders, err := in.Folders(ctx)
	if err != nil {
		return d, err
	}
	all, err := baseFiles(ctx, in, true)
	if err != nil {
		return d, err
	}
	globs := b.globs()
	seen, used := map[string]bool{}, map[string]bool{}
	for _, e := range all {
		seen[e.Path] = true
		want, listed := b.Files[e.Path]
		matched := matchesOf(globs, e.Path, used)
		switch {
		case listed && !want.IsZero():
			sums, err := h.Hasher.File(ctx, in.Root, e, false)
			if err != nil {
				return d, err
			}
			if sums.Blake3 != want {
				d.Changed = append(d.Changed, e.Path)
			}
		case b.Listed && len(in.Game.Install.Base) > 0 && !matches(in.Game.Install.Base, e.Path):
		case listed, matched, matches(in.Game.Install.Allowed, e.Path), inFolders(folders, filepath.Join(in.Root, filepath.FromSlash(e.Path))):
		default:
			d.Extra = append(d.Extra, e.Path)
		}
	}
	for path, digest := range b.Files {
		if !digest.IsZero() && !seen[path] {
			d.Missing = append(d.Missing, path)
		}
	}
	for line, digest := range b.Files {
		if digest.IsZero() && !used[line] && !seen[line] {
			d.Unmatched = append(d.Unmatched, line)
		}
	}
	sort.Strings(d.Missing)
	sort.Strings(d.Unmatched)
	return d, nil
}

func inFolders(folders []game.Located, path string) bool {
	return slices.ContainsFunc(folders, func(f game.Located) bool { return game.Within(path, f.Path) })
}

// base finds how the install differs from its clean state, where one was recorded.
func (g gathering) base() error {
	var b Base
	err := g.h.Read(BaseName(g.Install), &b)
	for _, was := range g.Install.Was { // it may have been recorded before the install was renamed
		if errors.Is(err, fs.ErrNotExist) {
			err = g.h.Read(BaseName(&game.Install{Game: g.Install.Game, Name: was}), &b)
		}
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil && b.Format != baseFormat {
		err = fmt.Errorf("%s is of format %d; this Ostrov reads %d", BaseName(g.Install), b.Format, baseFormat)
	}
	if err != nil {
		g.Problems.Base = err
		return nil
	}
	g.Base = &b
	g.Strays, err = StraysOf(g.ctx, g.h, g.Install, &b)
	return err
}
