package job

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/durable"
	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/unpack"
)

// RestoreTo writes a snapshot into a new or empty folder, touching nothing else: it is there whole or not at all. Names that this system cannot hold are
// escaped.
func (s *Session) RestoreTo(ctx context.Context, snap *archive.Snapshot, dir string, req RestoreRequest) (files int, err error) {
	a, err := s.Archive(false)
	if err != nil {
		return 0, err
	}
	progress := s.counting("restore", totalOf(snap))
	err = makeFolder(dir, func(temp string, batch *durable.Batch) error {
		for _, root := range snap.Roots {
			if len(req.Only) > 0 && !slices.Contains(req.Only, root.What) || req.Slot != "" && root.What != archive.Saves {
				continue
			}
			sub := filepath.Join(temp, rootName(root))
			if err := os.Mkdir(sub, 0o755); err != nil {
				return err
			}
			n, err := s.writeRoot(ctx, a, snap, root, sub, req.Slot, progress, batch)
			if err != nil {
				return problem("ostrov archive verify", "%s could not be brought back whole, so nothing has been written: %w", snap.Address(), err)
			}
			files += n
		}
		return nil
	})
	return files, err
}

// makeFolder makes a folder, which must be missing or empty, with what fill writes: beside it first, then it gets its name.
func makeFolder(dir string, fill func(temp string, batch *durable.Batch) error) (err error) {
	if err := checkEmpty(dir); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o755); err != nil {
		return err
	}
	temp, err := os.MkdirTemp(filepath.Dir(dir), partName)
	if err != nil {
		return err
	}
	defer func() {
		if err != nil {
			err = errors.Join(err, os.RemoveAll(temp))
		}
	}()
	var batch durable.Batch
	if err := fill(temp, &batch); err != nil {
		return err
	}
	if err := errors.Join(os.Chmod(temp, 0o755), batch.End(temp)); err != nil {
		return err
	}
	_ = os.Remove(dir) // where it is there, it is empty
	if err := durable.Rename(temp, dir); err != nil {
		return err
	}
	return durable.SyncDir(filepath.Dir(dir))
}

func (s *Session) writeRoot(ctx context.Context, a *archive.Archive, snap *archive.Snapshot, root archive.Root, dir, only string, progress func(int64), batch *durable.Batch) (files int, err error) {
	target, err := os.OpenRoot(dir)
	if err != nil {
		return 0, err
	}
	defer target.Close()
	wanted := map[string]bool{}
	for _, k := range snap.Saves {
		if only == "" || k.Slot == only || k.Name == only {
			for _, f := range k.Files {
				wanted[f.Path] = true
			}
		}
	}
	var dirs []archive.Node
	w := writers{target: target, progress: progress, batch: batch}
	if err := w.start(ctx, a); err != nil {
		return 0, err
	}
	err = a.Nodes(w.ctx, root, func(n archive.Node) error {
		switch {
		case only != "" && !wanted[n.Path]:
			return nil
		case n.Kind == tree.Dir:
			dirs = append(dirs, n)
			return target.MkdirAll(escape(n.Path), 0o755)
		case n.Kind == tree.Link:
			return nil // what it pointed to is there under its own name
		}
		return w.add(n)
	})
	err = w.end(err)
	for _, d := range slices.Backward(dirs) {
		_ = target.Chtimes(escape(d.Path), time.Time{}, d.Time) // a folder's time is a comfort
	}
	return int(w.files.Load()), err
}

// writers write files of a snapshot into a folder, several at once.
type writers struct {
	target   *os.Root
	progress func(int64)
	batch    *durable.Batch
	files    atomic.Int64
	ctx      context.Context
	work     *errgroup.Group
	tasks    chan []archive.Node
	next     []archive.Node
	bytes    int64
}

// Files are handed on so many at a time or so many bytes, and those whose content lies in one entry together, as far as they follow each other: it is unpacked
// once then.
const (
	together      = 32
	togetherMost  = 512
	togetherBytes = 4 << 20
)

func (w *writers) start(ctx context.Context, a *archive.Archive) error {
	w.work, w.ctx = errgroup.WithContext(ctx)
	w.tasks = make(chan []archive.Node)
	for range 2 * runtime.GOMAXPROCS(0) { // while one waits for the drive another unpacks
		own, err := a.Again()
		if err != nil {
			return err
		}
		w.work.Go(func() (err error) {
			in := inFolder{root: w.target}
			defer func() { err = errors.Join(err, in.close(), own.Close()) }()
			for nodes := range w.tasks {
				for _, n := range nodes {
					if err := w.write(own, &in, n); err != nil {
						return err
					}
				}
			}
			return nil
		})
	}
	return nil
}

// add hands a file on.
func (w *writers) add(n archive.Node) error {
	enough := len(w.next) >= together || w.bytes >= togetherBytes
	if enough && (len(w.next) >= togetherMost || beginsIn(n) != beginsIn(w.next[len(w.next)-1])) {
		if err := w.hand(); err != nil {
			return err
		}
	}
	w.next = append(w.next, n)
	w.bytes += n.Size
	return nil
}

// beginsIn is the entry of the archive that the content of a file begins in.
func beginsIn(n archive.Node) (d tree.Digest) {
	if len(n.Parts) > 0 {
		d = n.Parts[0].Entry
	}
	return d
}

func (w *writers) hand() error {
	select {
	case w.tasks <- w.next:
		w.next, w.bytes = nil, 0
		return nil
	case <-w.ctx.Done():
		return w.ctx.Err()
	}
}

// end waits until all is written; err is what went wrong before.
func (w *writers) end(err error) error {
	if err == nil && len(w.next) > 0 {
		err = w.hand()
	}
	close(w.tasks)
	if e := w.work.Wait(); e != nil { // what stopped the others
		return e
	}
	return err
}

func (w *writers) write(a *archive.Archive, in *inFolder, n archive.Node) error {
	name := escape(n.Path)
	folder, err := in.folder(path.Dir(name))
	if err != nil {
		return err
	}
	name = path.Base(name)
	f, err := folder.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	err = a.Copy(w.ctx, n, f)
	if err == nil && runtime.GOOS != "windows" {
		err = f.Chmod(n.Entry().Mode)
	}
	if err == nil {
		err = w.batch.Wrote(f)
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	w.files.Add(1)
	w.progress(n.Size)
	return folder.Chtimes(name, time.Time{}, n.Time)
}

// inFolder keeps the folder open that was written into last: files come sorted by path, and finding each anew from the root takes longer than
// writing it.
type inFolder struct {
	root *os.Root
	name string
	last *os.Root
}

func (in *inFolder) folder(name string) (*os.Root, error) {
	if name == "." {
		return in.root, nil
	}
	if in.last != nil && in.name == name {
		return in.last, nil
	}
	if err := in.close(); err != nil {
		return nil, err
	}
	if err := in.root.MkdirAll(name, 0o755); err != nil {
		return nil, err
	}
	var err error
	in.last, err = in.root.OpenRoot(name)
	in.name = name
	return in.last, err
}

func (in *inFolder) close() error {
	if in.last == nil {
		return nil
	}
	last := in.last
	in.last = nil
	return last.Close()
}

// escape writes a path so that every system can hold it: a part that one of them cannot is spelled with % and hex digits.
func escape(p string) string {
	parts := strings.Split(p, "/")
	for i, part := range parts {
		if unpack.CheckName(part) == "" {
			continue
		}
		var b strings.Builder
		for j := range len(part) {
			c := part[j]
			if c < 0x20 || strings.IndexByte(`:*?"<>|\%`, c) >= 0 || j == len(part)-1 && (c == '.' || c == ' ') || j == 0 && unpack.CheckName(part[:min(3, len(part))]) != "" {
				fmt.Fprintf(&b, "%%%02X", c)
				continue
			}
			b.WriteByte(c)
		}
		parts[i] = b.String()
	}
	return path.Join(parts...)
}

// checkEmpty refuses a folder that has something in it; one that is missing is as good as empty.
func checkEmpty(dir string) error {
	list, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if len(list) > 0 {
		return usage("", "%s is not empty", dir)
	}
	return nil
}

// layOut writes the game of a snapshot into a new folder.
func (s *Session) layOut(ctx context.Context, snap *archive.Snapshot, first *game.Install, dir string, f *Frozen) error {
	a, err := s.Archive(false)
	if err != nil {
		return err
	}
	progress := s.counting("restore", totalOf(snap))
	return makeFolder(dir, func(temp string, batch *durable.Batch) error {
		for _, what := range []string{archive.Game, archive.Mods, archive.Settings} { // the game first: where the rest lies is asked of it
			for _, root := range snap.Roots {
				if root.What != what {
					continue
				}
				into, err := placeIn(ctx, first, temp, root)
				if err != nil {
					return err
				}
				if into == "" {
					if what == archive.Mods {
						f.Warnings = append(f.Warnings, "its mods lie in a folder outside it, which both installs use: they are left out")
					}
					continue
				}
				if err := os.MkdirAll(into, 0o755); err != nil {
					return err
				}
				n, err := s.writeRoot(ctx, a, snap, root, into, "", progress, batch)
				if err != nil {
					return problem("ostrov archive verify", "the game of %s could not be brought back whole, so nothing has been written: %w", snap.Address(), err)
				}
				f.Files += n
			}
		}
		return first.Game.CheckMarker(temp)
	})
}

// placeIn is where a root of a snapshot lies in a copy of the game in dir, or "" where that is elsewhere.
func placeIn(ctx context.Context, first *game.Install, dir string, root archive.Root) (string, error) {
	if root.What == archive.Game {
		return dir, nil
	}
	in := &game.Install{Game: first.Game, Name: first.Name, Root: dir, Prefix: first.Prefix, PlayerHome: first.PlayerHome, Edition: first.Edition, Pins: first.Pins}
	if err := in.Open(); err != nil {
		return "", err
	}
	path := ""
	if root.What == archive.Mods {
		folders, err := in.Folders(ctx)
		if err != nil {
			return "", err
		}
		for _, f := range folders {
			if f.ID == root.Folder && f.Account == root.Account {
				path = f.Path
			}
		}
	} else {
		groups, err := in.FileGroups(ctx)
		if err != nil {
			return "", err
		}
		for _, g := range groups {
			if g.Name == root.Folder {
				path = g.Dir
			}
		}
	}
	if path == dir || path != "" && game.Within(path, dir) {
		return path, nil
	}
	return "", nil
}
