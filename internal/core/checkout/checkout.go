// Package checkout fetches mods that lie in git repositories.
//
// It clones shallowly, moves forward only, and reads which commit a folder is of. It writes only into the folder that it is given, which is one
// of Ostrov's own: the game's folders are not its business. A repository is a stranger's: nothing of it is run (no hooks, no filters, no
// submodules), and its size is bounded.
package checkout

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	git "github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
)

// Info is what a checkout is of.
type Info struct {
	URL    string // of its remote origin; "" where it has none
	Commit string // in full
	Branch string // "" for none
}

// Short is a commit as it is shown.
func (i Info) Short() string { return i.Commit[:min(len(i.Commit), 10)] }

var (
	// ErrBroken says that a folder is no whole checkout.
	ErrBroken = errors.New("is no whole checkout")
	// ErrNotForward says that what the remote has does not go on from what is here.
	ErrNotForward = errors.New("does not go on from what is here: it was rewritten, or you have commits of your own")
	// ErrTooLarge says that a repository is larger than MaxBytes.
	ErrTooLarge = errors.New("is too large")
)

// MaxBytes bounds what a repository may send, and what that may unpack to.
const MaxBytes = 4 << 30

var remote = regexp.MustCompile(`^(?:https?|ssh|git|file)://|^[\w.-]+@[\w.-]+:`)

// IsURL reports whether a text names a repository elsewhere.
func IsURL(text string) bool { return remote.MatchString(text) }

// IsCheckout reports whether a folder has, or is meant to have, a checkout in it.
func IsCheckout(dir string) bool {
	_, err := os.Lstat(filepath.Join(dir, git.GitDirName))
	return err == nil
}

// Name is what a repository is called: the last part of its address.
func Name(url string) string {
	url = strings.TrimSuffix(strings.TrimRight(url, "/\\"), git.GitDirName)
	if i := strings.LastIndexAny(url, "/\\:"); i >= 0 {
		url = url[i+1:]
	}
	return strings.TrimSuffix(url, ".git")
}

// Clone clones what a repository has now into a folder that is empty: the last commit of its branch, or, for whole, all of that branch's
// history. progress gets what the remote says.
func Clone(ctx context.Context, url, dir, branch string, whole bool, progress io.Writer) (Info, error) {
	return clone(ctx, url, dir, branch, whole, progress, MaxBytes)
}

func clone(ctx context.Context, url, dir, branch string, whole bool, progress io.Writer, most int64) (Info, error) {
	o := &git.CloneOptions{URL: url, SingleBranch: true, Tags: git.NoTags, NoCheckout: true, Progress: &bounded{w: progress}}
	if local := servesItself(url); !whole && !local {
		o.Depth = 1
	}
	if branch != "" {
		o.ReferenceName = plumbing.NewBranchReferenceName(branch)
	}
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	objects, files, err := newStorage(dir, most, stop)
	if err != nil {
		return Info{}, err
	}
	defer objects.Close()
	r, err := git.CloneContext(ctx, objects, files, o)
	if err != nil {
		if why := context.Cause(ctx); why != nil {
			err = why
		}
		return Info{}, fmt.Errorf("%s cannot be fetched: %w", url, err)
	}
	info, err := read(r, url, most)
	if err != nil {
		return Info{}, err
	}
	w, err := r.Worktree()
	if err == nil {
		err = w.Reset(&git.ResetOptions{Mode: git.HardReset})
	}
	if err != nil {
		return Info{}, fmt.Errorf("%s cannot be unpacked: %w", url, err)
	}
	return info, nil
}

// bounded passes on what a remote says, as long as that is little.
type bounded struct {
	w io.Writer
	n int
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.n += len(p); b.w != nil && b.n < 1<<20 {
		_, _ = b.w.Write(p) // it is only shown
	}
	return len(p), nil
}

// Read reads what the checkout in a folder is of. The error wraps ErrBroken where it is not whole: its commit, or what the commit consists of,
// is not there.
func Read(dir string) (Info, error) {
	r, err := git.PlainOpenWithOptions(dir, &git.PlainOpenOptions{EnableDotGitCommonDir: true})
	if err != nil {
		return Info{}, fmt.Errorf("%s %w: %v", dir, ErrBroken, err)
	}
	return read(r, dir, MaxBytes)
}

// read reads what a repository, which lies somewhere, is of.
func read(r *git.Repository, at string, most int64) (Info, error) {
	head, err := r.Head()
	if err != nil {
		return Info{}, fmt.Errorf("%s %w: %v", at, ErrBroken, err)
	}
	info := Info{Commit: head.Hash().String()}
	if head.Name().IsBranch() {
		info.Branch = head.Name().Short()
	}
	if origin, err := r.Remote(git.DefaultRemoteName); err == nil && len(origin.Config().URLs) > 0 {
		info.URL = origin.Config().URLs[0]
	}
	err = (&count{r: r, most: most}).commit(head.Hash())
	if err != nil && !errors.Is(err, ErrTooLarge) {
		err = fmt.Errorf("commit %s %w: %v", head.Hash(), ErrBroken, err)
	}
	return info, err
}

// Forward clones a repository whole into an empty folder, and checks that it goes on from a commit. same tells that there is nothing new.
func Forward(ctx context.Context, url, dir, branch, from string, progress io.Writer) (info Info, same bool, err error) {
	if info, err = Clone(ctx, url, dir, branch, true, progress); err != nil {
		return info, false, err
	}
	if info.Commit == from {
		return info, true, nil
	}
	r, err := git.PlainOpen(dir)
	if err != nil {
		return info, false, err
	}
	old, err := r.CommitObject(plumbing.NewHash(from))
	if err != nil {
		return info, false, fmt.Errorf("%s %w", url, ErrNotForward)
	}
	head, err := r.CommitObject(plumbing.NewHash(info.Commit))
	if err != nil {
		return info, false, err
	}
	forward, err := old.IsAncestor(head)
	if err == nil && !forward {
		err = fmt.Errorf("%s %w", url, ErrNotForward)
	}
	return info, false, err
}

// Own says what a checkout has that its remote does not, so that it would be lost with the repository: other branches, or what git has put
// aside; "" for nothing.
func Own(dir string) string {
	r, err := git.PlainOpen(dir)
	if err != nil {
		return "a repository that cannot be read"
	}
	branches, err := r.Branches()
	if err != nil {
		return "a repository that cannot be read"
	}
	n := 0
	_ = branches.ForEach(func(*plumbing.Reference) error { n++; return nil }) // it only counts
	if n > 1 {
		return "branches of your own"
	}
	if _, err := r.Reference("refs/stash", false); err == nil {
		return "changes that git has put aside"
	}
	return ""
}
