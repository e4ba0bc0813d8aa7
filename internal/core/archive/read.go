package archive

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"sync"

	"github.com/klauspost/compress/zip"
	"github.com/zeebo/blake3"

	"ostrov/internal/core/tree"
)

// load learns which content file holds each entry: from the cache, or from the zips' directories.
func (a *Archive) load() error {
	if a.where != nil {
		return nil
	}
	var err error
	a.where, a.marked, err = a.locate(a.cache)
	return err
}

// locate finds which content file holds each entry, and which files a clearing has marked.
func (a *Archive) locate(cache Cache) (where map[tree.Digest]string, marked map[string]bool, err error) {
	list, err := os.ReadDir(filepath.Join(a.Dir, "content"))
	if err != nil {
		return nil, nil, err
	}
	unused, err := a.readMarks()
	if err != nil {
		return nil, nil, err
	}
	where, marked = map[tree.Digest]string{}, map[string]bool{}
	for _, e := range list {
		if !contentPattern().MatchString(e.Name()) {
			continue
		}
		_, goes := unused[e.Name()] // one day: read from it, but build nothing on it
		info, err := e.Info()
		if err != nil {
			return nil, nil, err
		}
		digests, known := []tree.Digest(nil), false
		if cache != nil {
			digests, known = cache.Contents(a.ID, e.Name(), info.Size())
		}
		if !known {
			if digests, err = listZip(filepath.Join(a.Dir, "content", e.Name())); err != nil {
				continue // Verify names it; for keeping it is as if it were not there
			}
			if cache != nil {
				cache.StoreContents(a.ID, e.Name(), info.Size(), digests)
			}
		}
		for _, d := range digests {
			if goes && where[d] != "" {
				continue
			}
			where[d] = e.Name()
		}
		if goes {
			marked[e.Name()] = true
		}
	}
	return where, marked, nil
}

func listZip(path string) ([]tree.Digest, error) {
	z, err := zip.OpenReader(path)
	if err != nil {
		return nil, err
	}
	defer z.Close()
	var digests []tree.Digest
	for _, f := range z.File {
		d, err := tree.ParseDigest("blake3:" + f.Name)
		if err != nil || d.IsZero() {
			return nil, fmt.Errorf("%w: the entry %.80q", ErrDamaged, f.Name)
		}
		digests = append(digests, d)
	}
	return digests, nil
}

// openZips keeps a few content files open while files are read back.
type openZips struct {
	names []string
	zips  map[string]*openZip
}

type openZip struct {
	*zip.ReadCloser
	entries map[string]*zip.File
}

// maxOpen is how many content files are open at once.
const maxOpen = 16

func (o *openZips) get(dir, name string) (*openZip, error) {
	if z, ok := o.zips[name]; ok {
		return z, nil
	}
	r, err := zip.OpenReader(filepath.Join(dir, "content", name))
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("content/%s is %w", name, ErrMissing)
		}
		return nil, fmt.Errorf("content/%s: %w: %v", name, ErrDamaged, err)
	}
	z := &openZip{r, map[string]*zip.File{}}
	for _, f := range r.File {
		z.entries[f.Name] = f
	}
	if o.zips == nil {
		o.zips = map[string]*openZip{}
	}
	if len(o.names) >= maxOpen {
		o.zips[o.names[0]].Close()
		delete(o.zips, o.names[0])
		o.names = o.names[1:]
	}
	o.zips[name] = z
	o.names = append(o.names, name)
	return z, nil
}

func (o *openZips) close() error {
	var err error
	for _, z := range o.zips {
		err = errors.Join(err, z.Close())
	}
	*o = openZips{}
	return err
}

// find opens the entry with the digest d, and names the content file that it lies in. Whoever calls it holds a.reading.
func (a *Archive) find(d tree.Digest) (*zip.File, string, error) {
	if err := a.load(); err != nil {
		return nil, "", err
	}
	a.mu.Lock()
	name, ok := a.where[d]
	a.mu.Unlock()
	if !ok {
		return a.findAgain(d, fmt.Errorf("the content %.12s… is %w", d.Hex(), ErrMissing))
	}
	z, err := a.open.get(a.Dir, name)
	if err != nil {
		return a.findAgain(d, err)
	}
	f, ok := z.entries[d.Hex()]
	if !ok {
		return a.findAgain(d, fmt.Errorf("content/%s: %.12s… is %w", name, d.Hex(), ErrMissing))
	}
	return f, name, nil
}

// findAgain is find for what the cache is wrong about, or does not know: it looks into the content files themselves. why is what to say if
// that does not help.
func (a *Archive) findAgain(d tree.Digest, why error) (*zip.File, string, error) {
	if a.cache == nil || a.direct {
		return nil, "", why
	}
	a.direct = true
	where, _, err := a.locate(nil)
	if err != nil {
		return nil, "", errors.Join(why, err)
	}
	a.mu.Lock()
	maps.Copy(a.where, where) // what a keep has on its way stays
	a.mu.Unlock()
	return a.find(d)
}

// entry returns the content with the digest d, checked.
func (a *Archive) entry(d tree.Digest) ([]byte, error) {
	a.reading.Lock()
	defer a.reading.Unlock()
	if a.last.digest == d && a.last.data != nil {
		return a.last.data, nil
	}
	f, name, err := a.find(d)
	if err != nil {
		return nil, err
	}
	data, err := readEntry(f, d)
	if err != nil {
		return nil, fmt.Errorf("content/%s: %.12s…: %w", name, d.Hex(), err)
	}
	a.last.digest, a.last.data = d, data
	return data, nil
}

func readEntry(f *zip.File, d tree.Digest) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrDamaged, err)
	}
	defer r.Close()
	var b bytes.Buffer
	b.Grow(int(min(f.UncompressedSize64, maxEntry)) + bytes.MinRead)
	n, err := b.ReadFrom(io.LimitReader(r, maxEntry+1))
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrDamaged, err)
	}
	if n > maxEntry {
		return nil, fmt.Errorf("%w: larger than %d bytes", ErrDamaged, maxEntry)
	}
	if tree.Digest(blake3.Sum256(b.Bytes())) != d {
		return nil, fmt.Errorf("%w: it is not what its name says", ErrDamaged)
	}
	return b.Bytes(), nil
}

// Copy writes the content of a file to w and fails where that is not what was kept. What w has then is to be thrown away.
func (a *Archive) Copy(ctx context.Context, n Node, w io.Writer) error {
	if len(n.Chunks) == 1 && n.Size <= bundled { // a small file: taking its digest at once costs a fraction of what a Hasher does
		data, err := a.part(n.Chunks[0])
		switch {
		case err != nil:
			return fmt.Errorf("%s: %w", n.Path, err)
		case tree.Digest(blake3.Sum256(data)) != n.Digest:
			return notWhole(n)
		}
		_, err = w.Write(data)
		return err
	}
	sum := blake3.New()
	to := io.MultiWriter(sum, w)
	for _, p := range n.Chunks {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := a.copyPart(p, to); err != nil {
			return fmt.Errorf("%s: %w", n.Path, err)
		}
	}
	if tree.Digest(sum.Sum(nil)) == n.Digest {
		return nil
	}
	if err := a.copyParts(ctx, n.Chunks, io.Discard); err != nil { // it knows which
		return fmt.Errorf("%s: %w", n.Path, err)
	}
	return notWhole(n)
}

func notWhole(n Node) error {
	return fmt.Errorf("%s: %w: its parts do not make up the whole", n.Path, ErrDamaged)
}

// copyPart writes a part. Where that is the whole of a large entry it passes through, and its digest is not checked: that of the file is.
func (a *Archive) copyPart(p Chunk, w io.Writer) error {
	done, err := a.passEntry(p, w)
	if done || err != nil {
		return err
	}
	data, err := a.part(p)
	if err != nil {
		return err
	}
	_, err = w.Write(data)
	return err
}

// passed are for entries that pass through: no copy is made of them in memory.
var passed = sync.Pool{New: func() any { return new([256 << 10]byte) }}

// passEntry writes a part that is the whole of an entry larger than those that small files share, and reports whether it is.
func (a *Archive) passEntry(p Chunk, w io.Writer) (bool, error) {
	if p.Offset != 0 || p.Length <= bundled {
		return false, nil
	}
	a.reading.Lock()
	defer a.reading.Unlock()
	f, name, err := a.find(p.Blob)
	if err != nil || f.UncompressedSize64 != uint64(p.Length) {
		return false, err
	}
	wrong := func(err error) error {
		return fmt.Errorf("content/%s: %.12s…: %w: %v", name, p.Blob.Hex(), ErrDamaged, err)
	}
	r, err := f.Open()
	if err != nil {
		return false, wrong(err)
	}
	defer r.Close()
	buf := passed.Get().(*[256 << 10]byte)
	defer passed.Put(buf)
	for left := p.Length; ; {
		n, err := io.ReadFull(r, buf[:])
		end := err == io.EOF || err == io.ErrUnexpectedEOF
		if left -= int64(n); err == nil && left < 0 || end && left != 0 {
			err, end = errors.New("it is not as long as it says"), false
		}
		if err != nil && !end {
			return false, wrong(err)
		}
		if _, err := w.Write(buf[:n]); err != nil || end {
			return true, err
		}
	}
}

// copyParts writes parts, the entry of each checked.
func (a *Archive) copyParts(ctx context.Context, parts []Chunk, w io.Writer) error {
	for _, p := range parts {
		if err := ctx.Err(); err != nil {
			return err
		}
		data, err := a.part(p)
		if err != nil {
			return err
		}
		if _, err := w.Write(data); err != nil {
			return err
		}
	}
	return nil
}

// part is the bytes of one part, those of its entry checked.
func (a *Archive) part(p Chunk) ([]byte, error) {
	data, err := a.entry(p.Blob)
	if err != nil {
		return nil, err
	}
	if p.Offset < 0 || p.Length < 0 || p.Offset+p.Length > int64(len(data)) {
		return nil, fmt.Errorf("%w: a part reaches beyond its entry", ErrDamaged)
	}
	return data[p.Offset : p.Offset+p.Length], nil
}
