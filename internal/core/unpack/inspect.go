package unpack

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"runtime"
	"slices"
	"sort"
	"strings"
	"sync"

	"github.com/klauspost/compress/zip"
	"github.com/zeebo/blake3"

	"ostrov/internal/core/hazard"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
)

// inspected is what reading one entry found.
type inspected struct {
	digest  tree.Digest
	found   []hazard.Finding
	damage  error
	archive string // where it was spooled, when it is an archive itself
	closed  bool   // it is an archive that is not looked into
}

// Inspect reads every entry once, whole: it finds programs, code, damage, entries that are not as large as they say, and archives inside,
// and takes the digests. progress is told the bytes read, from several goroutines.
func (d *Download) Inspect(ctx context.Context, progress func(n int64)) error {
	results := make([]inspected, len(d.Entries))
	next := make(chan int)
	var wait sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for i := range next {
				results[i] = d.inspect(ctx, d.Entries[i], progress)
			}
		})
	}
	for i, e := range d.Entries {
		if e.Kind == tree.File && ctx.Err() == nil {
			next <- i
		}
	}
	close(next)
	wait.Wait()
	if err := ctx.Err(); err != nil {
		return err
	}
	for i, e := range d.Entries {
		if err := results[i].damage; err != nil && outside(err) {
			return fmt.Errorf("%s: %w", e.Path, err)
		}
	}
	entries := d.Entries
	d.Entries = nil
	for i, e := range entries {
		if d.take(e, results[i]) {
			d.Entries = append(d.Entries, e)
		}
	}
	for i, e := range entries {
		if results[i].archive != "" {
			if err := d.openInside(ctx, e, results[i].archive); err != nil {
				return err
			}
		}
	}
	sort.SliceStable(d.Entries, func(i, j int) bool { return d.Entries[i].Path < d.Entries[j].Path })
	return nil
}

// take notes what was found of an entry and reports whether it may be read.
func (d *Download) take(e tree.Entry, r inspected) bool {
	if e.Kind != tree.File {
		return true
	}
	if !r.digest.IsZero() {
		d.Digests[e.Path] = r.digest
	}
	if r.damage != nil {
		d.damage(e.Path, plain(r.damage).Error())
		return true
	}
	if r.closed {
		d.Closed = append(d.Closed, e.Path)
	}
	for _, f := range r.found {
		if f.Severity == hazard.Danger && !(d.Programs && f.Format == hazard.Program) {
			if f.Format == hazard.Program {
				d.programs = append(d.programs, program{e, f.Why, d.files[e.Path]})
			}
			d.hazard(e.Path, f.Why)
			delete(d.files, e.Path)
			return false
		}
		d.Code = append(d.Code, Code{e.Path, f.Format, f.Why})
	}
	return true
}

// hashers are for the next use, as they are large.
var hashers = sync.Pool{New: func() any { return blake3.New() }}

// program is a program in a download, which is a hazard in that of a save and may be part of a mod.
type program struct {
	entry tree.Entry
	why   string
	open  opener
}

// AsMod is the download, once inspected, as that of a mod: programs in it are Code, and can be read. It is good until the download is closed.
func (d *Download) AsMod() *Download {
	as := &Download{Path: d.Path, Name: d.Name, Kind: d.Kind, Packed: d.Packed, Size: d.Size, Entries: slices.Clone(d.Entries), Code: slices.Clone(d.Code), Damaged: d.Damaged,
		Encrypted: d.Encrypted, Inside: d.Inside, Closed: d.Closed, Digests: d.Digests, files: maps.Clone(d.files), Programs: true, temp: d.temp, whole: d.whole}
	as.FS = as.files
	is := map[Hazard]bool{}
	for _, p := range d.programs {
		is[Hazard{p.entry.Path, p.why}] = true
		as.Entries, as.files[p.entry.Path] = append(as.Entries, p.entry), p.open
		as.Code = append(as.Code, Code{p.entry.Path, hazard.Program, p.why})
	}
	for _, h := range d.Hazards {
		if !is[h] {
			as.Hazards = append(as.Hazards, h)
		}
	}
	sort.SliceStable(as.Entries, func(i, j int) bool { return as.Entries[i].Path < as.Entries[j].Path })
	return as
}

func (d *Download) inspect(ctx context.Context, e tree.Entry, progress func(n int64)) (r inspected) {
	if d.large[e.Path] {
		d.one.Lock()
		defer d.one.Unlock()
	}
	f, err := d.FS.Open(e.Path)
	if err != nil {
		r.damage = err
		return r
	}
	defer f.Close()
	sum := hashers.Get().(*blake3.Hasher)
	sum.Reset()
	defer hashers.Put(sum)
	count := &counting{progress: progress}
	content := io.TeeReader(io.LimitReader(f, e.Size+1), io.MultiWriter(sum, count))
	result, err := d.scan(ctx, e, content, &r)
	switch {
	case ctx.Err() != nil:
		return r
	case err != nil:
		r.damage = err
		return r
	case count.n != e.Size:
		r.damage = fmt.Errorf("is not the %d bytes that the download says", e.Size)
		return r
	}
	r.closed = r.closed || result.Deeper
	if d.Kind == "file" && result.Broken != nil && len(result.Findings) == 0 { // there is nothing else that would say so
		r.damage = result.Broken
		return r
	}
	r.digest, r.found = tree.Digest(sum.Sum(nil)), result.Findings
	if result.SQLite {
		found, err := hazard.Database(ctx, d.FS, e.Path, result.Layers)
		r.found = append(r.found, found...)
		if err != nil && ctx.Err() == nil {
			r.damage = err
		}
	}
	return r
}

const (
	// MaxInside is how many archives, one in the other, are opened inside a download.
	MaxInside = 3
	// smallestArchive is the fewest bytes that an archive has: the end of an empty zip.
	smallestArchive = 22
	// smallWindow is how much memory, in bytes, unpacking a file may take for others to be unpacked beside it.
	smallWindow = 8 << 20
)

// scan reads content for what it could do. An archive in a download is spooled meanwhile, as reading it needs every place at once.
func (d *Download) scan(ctx context.Context, e tree.Entry, content io.Reader, r *inspected) (hazard.Result, error) {
	content = contextReader{ctx, content}
	if d.Kind == "file" || e.Size < smallestArchive {
		return hazard.Scan(e.Path, content)
	}
	head := &headReader{r: content}
	kind := kindOf(head)
	if !d.large[e.Path] && wrap.Auto.Window(head.seen) > smallWindow {
		d.one.Lock()
		defer d.one.Unlock()
	}
	if kind == "file" {
		return hazard.Scan(e.Path, head.again())
	}
	if d.depth == MaxInside {
		r.closed = true
		return hazard.Scan(e.Path, head.again())
	}
	dir, err := os.MkdirTemp(d.temp, "inside-")
	if err != nil {
		return hazard.Result{}, err
	}
	spooled, err := os.CreateTemp(dir, "archive-")
	if err != nil {
		return hazard.Result{}, errors.Join(err, os.RemoveAll(dir))
	}
	d.mu.Lock()
	d.closers = append(d.closers, func() error { return os.RemoveAll(dir) })
	d.mu.Unlock()
	result, err := hazard.Scan(e.Path, io.TeeReader(head.again(), spooled))
	r.archive = spooled.Name()
	return result, errors.Join(err, spooled.Close())
}

// headReader remembers what was read of its source, to be read again.
type headReader struct {
	r    io.Reader
	seen []byte
}

func (h *headReader) Read(p []byte) (int, error) {
	n, err := h.r.Read(p)
	h.seen = append(h.seen, p[:n]...)
	return n, err
}

// again is the source from its beginning.
func (h *headReader) again() io.Reader { return io.MultiReader(bytes.NewReader(h.seen), h.r) }

type counting struct {
	n        int64
	progress func(n int64)
}

func (c *counting) Write(p []byte) (int, error) {
	c.n += int64(len(p))
	c.progress(int64(len(p)))
	return len(p), nil
}

// contextReader ends a long reading soon after its context does.
type contextReader struct {
	ctx context.Context
	r   io.Reader
}

func (c contextReader) Read(p []byte) (int, error) {
	if err := c.ctx.Err(); err != nil {
		return 0, err
	}
	return c.r.Read(p)
}

// plain says what is wrong without words from inside.
func plain(err error) error {
	switch {
	case errors.Is(err, zip.ErrChecksum):
		return errors.New("does not match its checksum")
	case errors.Is(err, zip.ErrAlgorithm):
		return errors.New("is packed in a way that is not understood yet")
	case errors.Is(err, io.ErrUnexpectedEOF):
		return errors.New("ends too early")
	}
	if pe := (*fs.PathError)(nil); errors.As(err, &pe) {
		return pe.Err
	}
	if errors.Is(err, wrap.ErrDamaged) {
		return errors.New(strings.ReplaceAll(err.Error(), wrap.ErrDamaged.Error()+": ", ""))
	}
	return err
}
