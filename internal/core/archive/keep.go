package archive

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"ostrov/internal/core/tree"
)

// Keeping is a snapshot under way. Commit publishes it; Abandon, which may be called after Commit too, drops what is left.
type Keeping struct {
	a      *Archive
	hasher *tree.Hasher
	w      contentWriter
	before map[string]map[string]Node // by root key and path: what an earlier snapshot has
	used   map[tree.Digest]bool
	buf    []byte // of split, which runs one file at a time
	// Copied are the bytes of files that had to be read, Reused those of files that had not.
	Copied, Reused int64
}

// Keep begins a snapshot. What before has, an earlier snapshot or nil, is not read again while it is unchanged.
func (a *Archive) Keep(ctx context.Context, hasher *tree.Hasher, before *Snapshot, now time.Time) (*Keeping, error) {
	a.clearTemps(now)
	k := &Keeping{a: a, hasher: hasher, w: contentWriter{a: a, now: now}, before: map[string]map[string]Node{}, used: map[tree.Digest]bool{}}
	if before == nil {
		return k, nil
	}
	for _, root := range before.Roots {
		nodes := map[string]Node{}
		if err := a.Nodes(ctx, root, func(n Node) error { nodes[n.Path] = n; return nil }); err != nil {
			continue // a damaged snapshot only costs reading again
		}
		k.before[root.Key()] = nodes
	}
	return k, nil
}

// tries is how often a file that changes while it is read is read anew, and pause how long to wait before.
const (
	tries = 5
	pause = 200 * time.Millisecond
)

// Group is entries found in one folder that must be read without any change in between: all files of one save.
type Group struct {
	Dir     string
	Entries []tree.Entry
}

// Root keeps groups of entries as one root of the snapshot and returns it with its listing. A group that goes on changing is
// tree.ErrBeingWritten. sha asks for the SHA-256 of every file.
func (k *Keeping) Root(ctx context.Context, root Root, groups []Group, sha bool) (Root, []Node, error) {
	var nodes []Node
	for _, group := range groups {
		kept, err := k.stable(ctx, root, group.Dir, group.Entries, sha)
		if err != nil {
			return root, nil, err
		}
		nodes = append(nodes, kept...)
	}
	slices.SortFunc(nodes, func(a, b Node) int { return strings.Compare(a.Path, b.Path) })
	for _, n := range nodes {
		if n.Kind == tree.File {
			root.Files++
			root.Bytes += n.Size
		}
	}
	var listing bytes.Buffer
	if err := writeListing(&listing, nodes); err != nil {
		return root, nil, err
	}
	parts, err := k.split(&listing)
	root.Listing = parts
	return root, nodes, err
}

// stable keeps the entries of one group, again until none of them changed meanwhile.
func (k *Keeping) stable(ctx context.Context, root Root, dir string, group []tree.Entry, sha bool) ([]Node, error) {
	var err error
	for try := range tries {
		if try > 0 {
			select {
			case <-time.After(pause):
			case <-ctx.Done():
				return nil, ctx.Err()
			}
		}
		var nodes []Node
		if nodes, err = k.group(ctx, root, dir, group, sha); err == nil || !errors.Is(err, tree.ErrBeingWritten) {
			return nodes, err
		}
		for i := range group { // take the new state
			if e, err := tree.Look(dir, group[i].Path); err == nil {
				group[i] = e
			}
		}
	}
	return nil, err
}

func (k *Keeping) group(ctx context.Context, root Root, dir string, group []tree.Entry, sha bool) ([]Node, error) {
	var nodes []Node
	for _, e := range group {
		n, err := k.node(ctx, root, dir, e, sha)
		if err != nil {
			return nil, err
		}
		nodes = append(nodes, n)
	}
	for _, e := range group {
		if now, err := tree.Look(dir, e.Path); e.Kind == tree.File && (err != nil || !tree.SameState(now, e)) {
			return nil, fmt.Errorf("%s %w", filepath.Join(dir, filepath.FromSlash(e.Path)), tree.ErrBeingWritten)
		}
	}
	return nodes, nil
}

// node keeps one entry. A file that an earlier snapshot has and that has not changed is not opened.
func (k *Keeping) node(ctx context.Context, root Root, dir string, e tree.Entry, sha bool) (Node, error) {
	if !utf8.ValidString(e.Path) {
		return Node{}, fmt.Errorf("%q in %s: a name that is not valid UTF-8 cannot be kept", e.Path, dir)
	}
	n := Node{Path: e.Path, Kind: e.Kind, Time: e.ModTime.UTC(), Mode: strconv.FormatUint(uint64(e.Mode.Perm()), 8), Target: e.Target}
	if e.Kind != tree.File {
		return n, nil
	}
	n.Size = e.Size
	if sums, ok := k.hasher.Recall(dir, e, sha); ok {
		n.Digest, n.SHA256 = sums.Blake3, sums.SHA256
		if old, ok := k.before[root.Key()][e.Path]; ok && old.Digest == n.Digest && old.Size == n.Size {
			n.Parts = old.Parts
		} else if n.Size <= whole && k.has(n.Digest) && n.Size > 0 {
			n.Parts = []Part{{Entry: n.Digest, Length: n.Size}}
		}
		if (n.Parts != nil && k.hasAll(n.Parts)) || n.Size == 0 {
			k.use(n.Parts)
			k.Reused += n.Size
			return n, nil
		}
	}
	pr, pw := io.Pipe()
	type result struct {
		parts []Part
		err   error
	}
	split := make(chan result, 1)
	go func() {
		parts, err := k.split(pr)
		pr.CloseWithError(err)
		split <- result{parts, err}
	}()
	sums, err := k.hasher.Read(ctx, dir, e, sha, pw)
	pw.CloseWithError(err) // nil ends the stream
	r := <-split
	if err == nil {
		err = r.err
	}
	if err != nil {
		return Node{}, err
	}
	n.Digest, n.SHA256, n.Parts = sums.Blake3, sums.SHA256, r.parts
	k.Copied += n.Size
	return n, nil
}

func (k *Keeping) has(d tree.Digest) bool {
	if err := k.a.load(); err != nil {
		return false
	}
	_, ok := k.a.where[d]
	return ok
}

func (k *Keeping) hasAll(parts []Part) bool {
	for _, p := range parts {
		if !k.has(p.Entry) {
			return false
		}
	}
	return true
}

func (k *Keeping) use(parts []Part) {
	for _, p := range parts {
		k.used[p.Entry] = true
	}
}

// split stores what r gives as parts, holding no more than the largest part in memory.
func (k *Keeping) split(r io.Reader) ([]Part, error) {
	var parts []Part
	if k.buf == nil {
		k.buf = make([]byte, 0, maxPart)
	}
	buf := k.buf[:0]
	for {
		n, err := io.ReadFull(r, buf[len(buf):cap(buf)])
		buf = buf[:len(buf)+n]
		end := err == io.EOF || err == io.ErrUnexpectedEOF
		if err != nil && !end {
			return nil, err
		}
		for len(buf) > 0 && (end || len(buf) == cap(buf)) {
			length := len(buf)
			if !end || len(parts) > 0 { // a file of at most one buffer stays whole
				length = cut(buf)
			}
			d, err := k.w.add(buf[:length])
			if err != nil {
				return nil, err
			}
			k.used[d] = true
			parts = append(parts, Part{Entry: d, Length: int64(length)})
			buf = append(buf[:0], buf[length:]...)
		}
		if end {
			return parts, nil
		}
	}
}

// Commit publishes the snapshot: first its content, then its JSON. It looks again whether what it builds on is still there.
func (k *Keeping) Commit(s *Snapshot) error {
	if err := CheckName(s.Playthrough); err != nil {
		return err
	}
	if err := k.w.publish(); err != nil {
		return err
	}
	files := map[string]bool{}
	for d := range k.used {
		files[k.a.where[d]] = true
	}
	s.Content = s.Content[:0]
	for name := range files {
		if _, err := os.Stat(filepath.Join(k.a.Dir, "content", name)); err != nil {
			return fmt.Errorf("content/%s went away while it was being used: %w", name, err)
		}
		s.Content = append(s.Content, name)
	}
	slices.Sort(s.Content)
	s.Format, s.ID = Format, newID(s.Taken)
	data, err := json.MarshalIndent(s, "", " ")
	if err != nil {
		return err
	}
	dir := filepath.Join(k.a.Dir, "playthroughs", s.Playthrough)
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	return publish(filepath.Join(dir, s.ID+".json"), append(data, '\n'))
}

// Stored is how many bytes of content files the snapshot added.
func (k *Keeping) Stored() int64 { return k.w.bytes }

// Abandon drops what has not been published.
func (k *Keeping) Abandon() {
	if k.w.file != nil || len(k.w.done) > 0 {
		k.w.abandon()
	}
}

// A listing is a line that names its format and then a line of JSON for each file, sorted by path.
const listingHead = `{"ostrov_listing":1}`

func writeListing(w io.Writer, nodes []Node) error {
	if _, err := io.WriteString(w, listingHead+"\n"); err != nil {
		return err
	}
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	for i := range nodes {
		if err := e.Encode(&nodes[i]); err != nil {
			return err
		}
	}
	return nil
}

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
	for lines.Scan() {
		var n Node
		if err := json.Unmarshal(lines.Bytes(), &n); err != nil {
			return fmt.Errorf("%w: a listing: %v", ErrDamaged, err)
		}
		if err := n.check(); err != nil {
			return err
		}
		if err := visit(n); err != nil {
			return err
		}
	}
	return lines.Err()
}

// check refuses what no Ostrov writes: an archive on a shared drive may come from anyone.
func (n Node) check() error {
	var size int64
	for _, p := range n.Parts {
		if p.Length <= 0 || p.Offset < 0 || p.Offset+p.Length > maxEntry || p.Entry.IsZero() {
			return fmt.Errorf("%w: %.200q has an impossible part", ErrDamaged, n.Path)
		}
		size += p.Length
	}
	mode, err := strconv.ParseUint(n.Mode, 8, 32)
	switch {
	case n.Path == "" || path.Clean(n.Path) != n.Path || path.IsAbs(n.Path) || n.Path == ".." || strings.HasPrefix(n.Path, "../") ||
		strings.ContainsAny(n.Path, "\x00\\") || !utf8.ValidString(n.Path):
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

// Entry is the node as package tree and change describe files.
func (n Node) Entry() tree.Entry {
	mode, err := strconv.ParseUint(n.Mode, 8, 32)
	if err != nil {
		mode = 0o644
	}
	return tree.Entry{Path: n.Path, Kind: n.Kind, Size: n.Size, Mode: os.FileMode(mode), ModTime: n.Time, Target: n.Target}
}

// Copy writes the content of a file to w, every part checked, and the whole too.
func (a *Archive) Copy(ctx context.Context, n Node, w io.Writer) error {
	pr, pw := io.Pipe()
	go func() { pw.CloseWithError(a.copyParts(ctx, n.Parts, pw)) }()
	defer pr.Close()
	sums, _, err := tree.SumReader(ctx, pr, false, w)
	if err != nil {
		return fmt.Errorf("%s: %w", n.Path, err)
	}
	if sums.Blake3 != n.Digest {
		return fmt.Errorf("%s: %w: its parts do not make up the whole", n.Path, ErrDamaged)
	}
	return nil
}

func (a *Archive) copyParts(ctx context.Context, parts []Part, w io.Writer) error {
	for _, p := range parts {
		if err := ctx.Err(); err != nil {
			return err
		}
		data, err := a.entry(p.Entry)
		if err != nil {
			return err
		}
		if p.Offset < 0 || p.Length < 0 || p.Offset+p.Length > int64(len(data)) {
			return fmt.Errorf("%w: a part reaches beyond its entry", ErrDamaged)
		}
		if _, err := w.Write(data[p.Offset : p.Offset+p.Length]); err != nil {
			return err
		}
	}
	return nil
}
