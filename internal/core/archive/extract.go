package archive

import (
	"context"
	"errors"
	"os"
	"path"
	"runtime"
	"slices"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"ostrov/internal/core/durable"
	"ostrov/internal/core/tree"
)

// Out is a new folder that files of a snapshot are written into.
type Out struct {
	Dir string
	// Wanted says which paths to write; nil is all.
	Wanted func(path string) bool
	// Spell spells a path as this system can hold it.
	Spell    func(path string) string
	Progress func(bytes int64)
	Batch    *durable.Batch
}

// Extract writes a root of a snapshot into a folder, which it makes, and returns how many files these are. Links that lead out of the
// root are left out, and all links where making them needs rights.
func (a *Archive) Extract(ctx context.Context, root Root, out Out) (files int, err error) {
	if err := os.MkdirAll(out.Dir, 0o777); err != nil {
		return 0, err
	}
	target, err := os.OpenRoot(out.Dir)
	if err != nil {
		return 0, err
	}
	defer target.Close()
	var dirs, links []Node
	w := writers{target: target, out: out}
	if err := w.start(ctx, a); err != nil {
		return 0, err
	}
	err = a.Nodes(w.ctx, root, func(n Node) error {
		switch {
		case out.Wanted != nil && !out.Wanted(n.Path):
			return nil
		case n.Kind == tree.Dir:
			dirs = append(dirs, n)
			return target.MkdirAll(out.Spell(n.Path), 0o755)
		case n.Kind == tree.Link:
			links = append(links, n)
			return nil // made last: nothing is written through it
		}
		return w.add(n)
	})
	err = w.end(err)
	for _, l := range links {
		if err == nil && l.Entry().LeadsOut("") == "" && runtime.GOOS != "windows" { // links need rights there
			err = target.Symlink(l.Target, out.Spell(l.Path))
		}
	}
	for _, d := range slices.Backward(dirs) {
		if runtime.GOOS != "windows" {
			err = errors.Join(err, target.Chmod(out.Spell(d.Path), d.Entry().Mode))
		}
		_ = target.Chtimes(out.Spell(d.Path), time.Time{}, d.Time) // a folder's time is a comfort
	}
	return int(w.files.Load()), err
}

// writers write files of a snapshot into a folder, several at once.
type writers struct {
	target *os.Root
	out    Out
	files  atomic.Int64
	ctx    context.Context
	work   *errgroup.Group
	tasks  chan []Node
	next   []Node
	bytes  int64
}

// Files are handed on so many at a time or so many bytes, and those whose content lies in one entry together, as far as they follow each
// other: it is unpacked once then.
const (
	batchFiles     = 32
	batchFilesMost = 512
	batchBytes     = 4 << 20
)

func (w *writers) start(ctx context.Context, a *Archive) error {
	w.work, w.ctx = errgroup.WithContext(ctx)
	w.tasks = make(chan []Node)
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
func (w *writers) add(n Node) error {
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
func beginsIn(n Node) (d tree.Digest) {
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

func (w *writers) write(a *Archive, in *inFolder, n Node) error {
	name := w.out.Spell(n.Path)
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
		err = w.out.Batch.Wrote(f)
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	w.files.Add(1)
	w.out.Progress(n.Size)
	return folder.Chtimes(name, time.Time{}, n.Time)
}

// inFolder keeps the folder open that was written into last: files come sorted by path, and finding each anew from the root takes longer
// than writing it.
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
