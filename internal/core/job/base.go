package job

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
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
}

// Strays is how an install differs from its clean state; all are paths in it.
type Strays struct{ Extra, Changed, Missing []string }

// Clean reports whether there is no difference.
func (d Strays) Clean() bool { return len(d.Extra)+len(d.Changed)+len(d.Missing) == 0 }

func baseName(in *game.Install) string {
	return filepath.Join("bases", in.Game.ID+"@"+in.Name+".json")
}

// baseFiles lists the files of the install that are the game's own, as far as its description says; with all, every file.
func (s *Session) baseFiles(ctx context.Context, in *game.Install, all bool) ([]tree.Entry, error) {
	var own []tree.Entry
	globs := in.Game.Install.Base
	err := tree.Walk(ctx, in.Root, func(e tree.Entry) error {
		if strings.HasPrefix(filepath.Base(e.Path), ".ostrov") {
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

// RecordBase records what the install consists of now as its clean state: from is an author's list, one path or glob a line, or "" for the
// install as it is.
func (s *Session) RecordBase(ctx context.Context, in *game.Install, from string) (*Base, error) {
	if err := s.RequireRecords(); err != nil {
		return nil, err
	}
	if err := in.Open(); err != nil {
		return nil, err
	}
	version, _, err := in.Version(ctx)
	if err != nil {
		return nil, err
	}
	b := &Base{Format: 1, Install: in.Address(), Version: version, Taken: s.Now(), Files: map[string]tree.Digest{}}
	if from != "" {
		if err := b.readList(from); err != nil {
			return nil, err
		}
	} else {
		own, err := s.baseFiles(ctx, in, false)
		if err != nil {
			return nil, err
		}
		progress := s.meter("read")
		for _, e := range own {
			progress.more(e.Size)
		}
		for _, e := range own {
			sums, err := s.Hasher.File(ctx, in.Root, e, false)
			if err != nil {
				return nil, err
			}
			progress.did(e.Size)
			b.Files[e.Path] = sums.Blake3
		}
	}
	data, err := json.MarshalIndent(b, "", " ")
	if err != nil {
		return nil, err
	}
	return b, s.writeHome(baseName(in), append(data, '\n'))
}

// maxBaseList bounds an author's list, in lines.
const maxBaseList = 1_000_000

// readList reads an author's list: a path or glob of the install a line; # begins a comment.
func (b *Base) readList(from string) error {
	f, err := os.Open(from)
	if err != nil {
		return err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	for n := 1; lines.Scan(); n++ {
		line := strings.TrimSpace(strings.ReplaceAll(lines.Text(), `\`, "/"))
		line = strings.TrimPrefix(line, "./")
		switch {
		case line == "" || strings.HasPrefix(line, "#"):
		case n > maxBaseList || !doublestar.ValidatePattern(line) || !fs.ValidPath(strings.TrimSuffix(line, "/")):
			return fmt.Errorf("%s:%d: %q is no path in the install", from, n, line)
		default:
			if strings.HasSuffix(line, "/") {
				line += "**"
			}
			b.Files[line] = tree.Digest{}
		}
	}
	return lines.Err()
}

// BaseOf is the recorded clean state of an install, or nil.
func (s *Session) BaseOf(in *game.Install) (*Base, error) {
	var b Base
	err := s.readHome(baseName(in), &b)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err == nil && b.Format != 1 {
		err = fmt.Errorf("%s is of format %d; this Ostrov reads 1", baseName(in), b.Format)
	}
	return &b, err
}

// Strays finds how the install differs from its clean state. What other folders of the game lie in it, saves and mods, is not looked at.
func (s *Session) Strays(ctx context.Context, in *game.Install, b *Base) (Strays, error) {
	var d Strays
	folders, err := in.Folders(ctx)
	if err != nil {
		return d, err
	}
	all, err := s.baseFiles(ctx, in, true)
	if err != nil {
		return d, err
	}
	var globs []string
	for path, digest := range b.Files {
		if digest.IsZero() {
			globs = append(globs, path)
		}
	}
	seen := map[string]bool{}
	for _, e := range all {
		seen[e.Path] = true
		want, listed := b.Files[e.Path]
		switch {
		case listed && !want.IsZero():
			sums, err := s.Hasher.File(ctx, in.Root, e, false)
			if err != nil {
				return d, err
			}
			if sums.Blake3 != want {
				d.Changed = append(d.Changed, e.Path)
			}
		case listed, matches(globs, e.Path), matches(in.Game.Install.Allowed, e.Path), inFolders(folders, filepath.Join(in.Root, filepath.FromSlash(e.Path))):
		default:
			d.Extra = append(d.Extra, e.Path)
		}
	}
	for path, digest := range b.Files {
		if !digest.IsZero() && !seen[path] {
			d.Missing = append(d.Missing, path)
		}
	}
	sort.Strings(d.Missing)
	return d, nil
}

func inFolders(folders []game.Located, path string) bool {
	return slices.ContainsFunc(folders, func(f game.Located) bool { return game.Within(path, f.Path) })
}

// maxStrays is how many differences a look names one by one.
const maxStrays = 20

// lookAtBase notes how the install differs from its clean state, where one was recorded.
func (s *Session) lookAtBase(ctx context.Context, l *Look) error {
	b, err := s.BaseOf(l.Install)
	if b == nil || err != nil {
		return err
	}
	d, err := s.Strays(ctx, l.Install, b)
	if err != nil {
		return err
	}
	l.strange = append(append(append(l.strange, d.Extra...), d.Changed...), d.Missing...)
	add := func(paths []string, what string) {
		for i, p := range paths {
			if i == maxStrays {
				l.Findings = append(l.Findings, check.New(check.BaseAltered, "", fmt.Sprintf("and %d more", len(paths)-i)))
				break
			}
			l.Findings = append(l.Findings, check.New(check.BaseAltered, p, what))
		}
	}
	if b.Version != "" && l.Version != "" && b.Version != l.Version {
		f := check.New(check.BaseAltered, "", fmt.Sprintf("the clean game was recorded at %s, you have %s", b.Version, l.Version))
		f.Severity, f.Remedy = check.Note, "ostrov games base "+l.Called
		l.Findings = append(l.Findings, f)
		return nil
	}
	add(d.Changed, "is altered")
	add(d.Missing, "is missing")
	altered := len(l.Findings)
	add(d.Extra, "is no part of the clean game")
	for i := altered; i < len(l.Findings); i++ { // harmless by itself: it matters to saves that need a clean game
		l.Findings[i].Severity = check.Note
	}
	return nil
}
