package keep

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"golang.org/x/sync/errgroup"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/durable"
	"ostrov/internal/core/home"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/unpack"
)

// RestoreTo writes a snapshot into a new or empty folder, touching nothing else: it is there whole or not at all. Names that this system cannot hold are
// spelled portably.
func RestoreTo(ctx context.Context, h *home.Home, snap *archive.Snapshot, dir string, req RestoreRequest) (files int, err error) {
	a, err := h.Existing()
	if err != nil {
		return 0, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return 0, err
	}
	progress := h.Counting("restore", snap.Bytes())
	err = makeFolder(h, dir, func(temp string, batch *durable.Batch) error {
		for i, root := range snap.Roots {
			if !req.wants(root.Kind) {
				continue
			}
			sub := filepath.Join(temp, snap.RootName(i))
			if err := os.Mkdir(sub, 0o777); err != nil {
				return err
			}
			w := rootWriter{a: a, snap: snap, root: root, only: req.Slot, progress: progress, batch: batch}
			n, err := w.write(ctx, sub)
			if err != nil {
				return problem.New(problem.Do("archive verify"), "%s could not be brought back whole, so nothing has been written: %w", snap.Address(), err)
			}
			files += n
		}
		return nil
	})
	return files, err
}

// makeFolder makes a folder, which must be missing or empty, with what fill writes: beside it first, then it gets its name.
func makeFolder(h *home.Home, dir string, fill func(temp string, batch *durable.Batch) error) (err error) {
	if err := checkEmpty(dir); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(dir), 0o777); err != nil {
		return err
	}
	temp, done, err := h.TempFolder(filepath.Dir(dir))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, done()) }()
	var batch durable.Batch
	if err := fill(temp, &batch); err != nil {
		return err
	}
	if err := errors.Join(durable.Chmod(temp, 0o777), batch.End(temp)); err != nil {
		return err
	}
	_ = os.Remove(dir) // where it is there, it is empty
	if err := durable.Rename(temp, dir); err != nil {
		return err
	}
	return durable.SyncDir(filepath.Dir(dir))
}

// rootWriter writes a root of a snapshot, or one save of it, into a folder.
type rootWriter struct {
	a        *archive.Archive
	snap     *archive.Snapshot
	root     archive.Root
	only     string // a slot or name
	progress func(int64)
	batch    *durable.Batch
}

func (r rootWriter) write(ctx context.Context, dir string) (files int, err error) {
	target, err := os.OpenRoot(dir)
	if err != nil {
		return 0, err
	}
	defer target.Close()
	wanted := map[string]bool{}
	for _, k := range r.snap.Saves {
		if r.only == "" || isCalled(k, r.only) {
			for _, f := range k.Files {
				wanted[f.Path] = true
			}
		}
	}
	var dirs, links []archive.Node
	w := writers{target: target, progress: r.progress, batch: r.batch}
	if err := w.start(ctx, r.a); err != nil {
		return 0, err
	}
	err = r.a.Nodes(w.ctx, r.root, func(n archive.Node) error {
		switch {
		case r.only != "" && !wanted[n.Path]:
			return nil
		case n.Kind == tree.Dir:
			dirs = append(dirs, n)
			return target.MkdirAll(spelled(n.Path), 0o755)
		case n.Kind == tree.Link:
			links = append(links, n)
			return nil // made last: nothing is written through it
		}
		return w.add(n)
	})
	err = w.end(err)
	for _, l := range links {
		if top, _, _ := strings.Cut(l.Path, "/"); err == nil && leadsOut(l, top) == "" && runtime.GOOS != "windows" { // links need rights there
			err = target.Symlink(l.Target, spelled(l.Path))
		}
	}
	for _, d := range slices.Backward(dirs) {
		if runtime.GOOS != "windows" {
			err = errors.Join(err, target.Chmod(spelled(d.Path), d.Entry().Mode))
		}
		_ = target.Chtimes(spelled(d.Path), time.Time{}, d.Time) // a folder's time is a comfort
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
	batchFiles     = 32
	batchFilesMost = 512
	batchBytes     = 4 << 20
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
	enough := len(w.next) >= batchFiles || w.bytes >= batchBytes
	if enough && (len(w.next) >= batchFilesMost || beginsIn(n) != beginsIn(w.next[len(w.next)-1])) {
		if err := w.hand(); err != nil {
			return err
		}
	}
	w.next = append(w.next, n)
	w.bytes += n.Size
	return nil
}

// beginsIn is the blob of the archive that the content of a file begins in.
func beginsIn(n archive.Node) (d tree.Digest) {
	if len(n.Chunks) > 0 {
		d = n.Chunks[0].Blob
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
	name := spelled(n.Path)
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

// checkEmpty refuses a folder that has something in it; one that is missing is as good as empty.
func checkEmpty(dir string) error {
	list, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if len(list) > 0 {
		return problem.Usage(problem.Advise("choose a new folder"), "%s is not empty", dir)
	}
	return nil
}

// spelled is a path as this system can hold it.
func spelled(p string) string {
	if runtime.GOOS == "windows" || runtime.GOOS == "darwin" && !utf8.ValidString(p) {
		return unpack.PortableName(p)
	}
	return p
}

// CheckRestoreTo says how many files RestoreTo would write, and what stands in its way.
func CheckRestoreTo(ctx context.Context, h *home.Home, snap *archive.Snapshot, dir string, req RestoreRequest) (files int, err error) {
	a, err := h.Existing()
	if err != nil {
		return 0, err
	}
	if err := checkEmpty(dir); err != nil {
		return 0, err
	}
	wanted := map[string]bool{}
	for _, k := range snap.Saves {
		for _, f := range k.Files {
			wanted[k.Folder+"\x00"+k.Account+"\x00"+f.Path] = isCalled(k, req.Slot)
		}
	}
	for _, root := range snap.Roots {
		if !req.wants(root.Kind) {
			continue
		}
		err := a.Nodes(ctx, root, func(n archive.Node) error {
			if n.Kind == tree.File && (req.Slot == "" || wanted[root.Folder+"\x00"+root.Account+"\x00"+n.Path]) {
				files++
			}
			return nil
		})
		if err != nil {
			return 0, err
		}
	}
	return files, nil
}
