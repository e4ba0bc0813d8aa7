package mod

import (
	"bufio"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"

	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
)

var commitPattern = regexp.MustCompile(`^[0-9a-f]{40}([0-9a-f]{24})?$`)

// maxRefs bounds a file that names one commit or branch, in bytes.
const maxRefs = 64 << 10

// commitOf is the commit of the checkout in a folder, "" where there is none. It reads what names it and no object, as every look does so: the
// error wraps wrap.ErrDamaged where it names none, or there are no objects.
func commitOf(dir string) (string, error) {
	git := filepath.Join(dir, ".git")
	info, err := os.Stat(git)
	if err != nil || !info.IsDir() { // a file there leads to a folder elsewhere, which is not looked at
		return "", nil
	}
	broken := func(why string) error { return fmt.Errorf("%w: its checkout is not whole: %s", wrap.ErrDamaged, why) }
	head, err := tree.ReadBounded(filepath.Join(git, "HEAD"), maxRefs)
	if err != nil {
		return "", broken("it has no HEAD")
	}
	commit := strings.TrimSpace(string(head))
	if ref, ok := strings.CutPrefix(commit, "ref: "); ok {
		if !filepath.IsLocal(ref) {
			return "", broken("its HEAD leads elsewhere")
		}
		if commit = refOf(git, ref); commit == "" {
			return "", broken(ref + " names no commit")
		}
	}
	if !commitPattern.MatchString(commit) {
		return "", broken("its HEAD names no commit")
	}
	if list, err := os.ReadDir(filepath.Join(git, "objects")); err != nil || len(list) == 0 {
		return commit, broken("it has no objects")
	}
	return commit, nil
}

// refOf is the commit of a branch, as its file or the list of packed ones says; "" where neither does.
func refOf(git, ref string) string {
	if data, err := tree.ReadBounded(filepath.Join(git, filepath.FromSlash(ref)), maxRefs); err == nil {
		return strings.TrimSpace(string(data))
	}
	packed, err := tree.Open(filepath.Join(git, "packed-refs"))
	if err != nil {
		return ""
	}
	defer packed.Close()
	lines := bufio.NewScanner(packed)
	for lines.Scan() {
		if commit, name, ok := strings.Cut(strings.TrimSpace(lines.Text()), " "); ok && name == ref {
			return commit
		}
	}
	return ""
}
