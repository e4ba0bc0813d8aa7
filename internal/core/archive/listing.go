package archive

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path"
	"strconv"
	"strings"

	"ostrov/internal/core/tree"
)

// A listing is a line that names its format and then a line of JSON for each file, sorted by path.
const listingHead = `{"ostrov_listing":1}`

// maxLine bounds one line of a listing, in bytes: a file of many terabytes fits.
const maxLine = 64 << 20

// Nodes calls visit for every file of a root, in order of their paths. Names that would lead out of the root are an error.
func (a *Archive) Nodes(ctx context.Context, root Root, visit func(Node) error) error {
	pr, pw := io.Pipe()
	go func() { pw.CloseWithError(a.copyParts(ctx, root.Listing, pw)) }()
	defer pr.Close()
	return readListing(pr, visit)
}

func readListing(r io.Reader, visit func(Node) error) error {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), maxLine)
	if !lines.Scan() || lines.Text() != listingHead {
		if err := lines.Err(); err != nil {
			return err
		}
		return fmt.Errorf("%w: a listing begins wrong", ErrDamaged)
	}
	var order inOrder
	for lines.Scan() {
		var n Node
		if err := json.Unmarshal(lines.Bytes(), &n); err != nil {
			return fmt.Errorf("%w: a listing: %v", ErrDamaged, err)
		}
		if err := n.unspell(); err != nil {
			return err
		}
		if err := n.check(); err != nil {
			return err
		}
		if err := order.next(n); err != nil {
			return err
		}
		if err := visit(n); err != nil {
			return err
		}
	}
	return lines.Err()
}

// inOrder refuses listings that no Ostrov writes: out of order, with a name twice, or with something inside of what is no folder.
type inOrder struct {
	last string
	// files are the paths that are no folders and that begin the last one. As listings are sorted, whatever would lie in them follows them.
	files []string
}

func (o *inOrder) next(n Node) error {
	if n.Path <= o.last {
		return fmt.Errorf("%w: %.200q is listed twice or out of order", ErrDamaged, n.Path)
	}
	o.last = n.Path
	for len(o.files) > 0 && !strings.HasPrefix(n.Path, o.files[len(o.files)-1]) {
		o.files = o.files[:len(o.files)-1]
	}
	for _, f := range o.files {
		if n.Path[len(f)] == '/' {
			return fmt.Errorf("%w: %.200q lies in %.200q, which is no folder", ErrDamaged, n.Path, f)
		}
	}
	if n.Kind != tree.Dir {
		o.files = append(o.files, n.Path)
	}
	return nil
}

// check refuses what no Ostrov writes: an archive on a shared drive may come from anyone.
func (n Node) check() error {
	var size int64
	for _, p := range n.Chunks {
		if p.Length <= 0 || p.Offset < 0 || p.Offset+p.Length > maxEntry || p.Blob.IsZero() {
			return fmt.Errorf("%w: %.200q has an impossible part", ErrDamaged, n.Path)
		}
		size += p.Length
	}
	mode, err := strconv.ParseUint(n.Mode, 8, 32)
	switch {
	case n.Path == "" || path.Clean(n.Path) != n.Path || path.IsAbs(n.Path) || n.Path == ".." || strings.HasPrefix(n.Path, "../") ||
		strings.ContainsRune(n.Path, 0):
		return fmt.Errorf("%w: the name %.200q leads out of its folder", ErrDamaged, n.Path)
	case n.Kind != tree.File && n.Kind != tree.Dir && n.Kind != tree.Link:
		return fmt.Errorf("%w: %.200q is neither file nor folder", ErrDamaged, n.Path)
	case n.Kind == tree.File && size != n.Size:
		return fmt.Errorf("%w: the parts of %.200q do not add up", ErrDamaged, n.Path)
	case err != nil && n.Mode != "" || mode > 0o777:
		return fmt.Errorf("%w: %.200q has no permission bits", ErrDamaged, n.Path)
	}
	return nil
}

// spelled is the node as a listing has it: JSON holds no names that are not UTF-8.
func (n Node) spelled() Node {
	n.Path, n.Target = tree.Spell(n.Path), tree.Spell(n.Target)
	return n
}

func (n *Node) unspell() error {
	return unspell(&n.Path, &n.Target)
}

// unspell takes back what was spelled of names.
func unspell(names ...*string) error {
	for _, name := range names {
		plain, err := tree.Unspell(*name)
		if err != nil {
			return fmt.Errorf("%w: %w", ErrDamaged, err)
		}
		*name = plain
	}
	return nil
}

// Entry is the node as package tree and change describe files.
func (n Node) Entry() tree.Entry {
	mode, err := strconv.ParseUint(n.Mode, 8, 32)
	if err != nil {
		mode = 0o644
	}
	return tree.Entry{Path: n.Path, Kind: n.Kind, Size: n.Size, Mode: os.FileMode(mode), ModTime: n.Time, Target: n.Target}
}

// IsLocal reports whether a path of a listing stays in its folder.
func IsLocal(p string) bool {
	return p != "" && path.Clean(p) == p && !path.IsAbs(p) && p != "." && p != ".." && !strings.HasPrefix(p, "../") && !strings.ContainsRune(p, 0)
}
