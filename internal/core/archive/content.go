package archive

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/klauspost/compress/flate"
	"github.com/zeebo/blake3"

	"ostrov/internal/core/tree"
)

const (
	// maxZip is about how large one content file grows, in bytes.
	maxZip = 64 << 20
	// maxEntry bounds one entry when it is read, in bytes; none is written larger.
	maxEntry = 16 << 20
	// sample is how much of an entry is compressed on trial, in bytes, to see whether it is worth it.
	sample = 64 << 10
)

// load learns which content file holds each entry: from the cache, or from the zips' directories.
func (a *Archive) load() error {
	if a.where != nil {
		return nil
	}
	list, err := os.ReadDir(filepath.Join(a.Dir, "content"))
	if err != nil {
		return err
	}
	where := map[tree.Digest]string{}
	for _, e := range list {
		if !contentPattern.MatchString(e.Name()) {
			continue
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		digests, known := []tree.Digest(nil), false
		if a.cache != nil {
			digests, known = a.cache.Contents(a.ID, e.Name(), info.Size())
		}
		if !known {
			if digests, err = listZip(filepath.Join(a.Dir, "content", e.Name())); err != nil {
				continue // Verify names it; for keeping it is as if it were not there
			}
			if a.cache != nil {
				a.cache.StoreContents(a.ID, e.Name(), info.Size(), digests)
			}
		}
		for _, d := range digests {
			where[d] = e.Name()
		}
	}
	a.where = where
	return nil
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

// entry returns the content with the digest d, checked.
func (a *Archive) entry(d tree.Digest) ([]byte, error) {
	if err := a.load(); err != nil {
		return nil, err
	}
	name, ok := a.where[d]
	if !ok {
		return nil, fmt.Errorf("the content %.12s… is %w", d.Hex(), ErrMissing)
	}
	z, err := a.open.get(a.Dir, name)
	if err != nil {
		return nil, err
	}
	f, ok := z.entries[d.Hex()]
	if !ok {
		return nil, fmt.Errorf("content/%s: %.12s… is %w", name, d.Hex(), ErrMissing)
	}
	data, err := readEntry(f, d)
	if err != nil {
		return nil, fmt.Errorf("content/%s: %.12s…: %w", name, d.Hex(), err)
	}
	return data, nil
}

func readEntry(f *zip.File, d tree.Digest) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrDamaged, err)
	}
	defer r.Close()
	var b bytes.Buffer
	n, err := io.Copy(&b, io.LimitReader(r, maxEntry+1))
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

// contentWriter writes entries into new content files. Nothing is visible in the archive before close.
type contentWriter struct {
	a     *Archive
	now   time.Time
	file  *os.File
	zip   *zip.Writer
	size  int64
	fresh []tree.Digest // in the open file
	done  []pending
	bytes int64 // written, compressed

	trial, deflate *flate.Writer
}

// pending is a whole content file that waits to be published.
type pending struct {
	temp, name string
	size       int64
	digests    []tree.Digest
}

// add stores data unless the archive has it, and returns its digest.
func (w *contentWriter) add(data []byte) (tree.Digest, error) {
	d := tree.Digest(blake3.Sum256(data))
	if err := w.a.load(); err != nil {
		return d, err
	}
	if _, ok := w.a.where[d]; ok {
		return d, nil
	}
	if w.zip == nil {
		f, err := os.CreateTemp(filepath.Join(w.a.Dir, "content"), ".part-"+host()+"-*")
		if err != nil {
			return d, err
		}
		w.file, w.zip, w.size = f, zip.NewWriter(f), 0
		w.zip.RegisterCompressor(zip.Deflate, func(out io.Writer) (io.WriteCloser, error) { // one after the other: a compressor is large
			if w.deflate == nil {
				var err error
				w.deflate, err = flate.NewWriter(out, 4)
				return w.deflate, err
			}
			w.deflate.Reset(out)
			return w.deflate, nil
		})
	}
	method := zip.Store
	if w.shrinks(data) {
		method = zip.Deflate
	}
	e, err := w.zip.CreateHeader(&zip.FileHeader{Name: d.Hex(), Method: method})
	if err != nil {
		return d, err
	}
	if _, err := e.Write(data); err != nil {
		return d, err
	}
	w.a.where[d] = "" // to be known when the file has its name
	w.fresh = append(w.fresh, d)
	if err := w.zip.Flush(); err != nil {
		return d, err
	}
	at, err := w.file.Seek(0, io.SeekCurrent)
	if err != nil {
		return d, err
	}
	if w.size = at; w.size >= maxZip {
		return d, w.roll()
	}
	return d, nil
}

// shrinks reports whether compressing data is worth it, judged by its beginning.
func (w *contentWriter) shrinks(data []byte) bool {
	data = data[:min(len(data), sample)]
	if len(data) < 64 {
		return false
	}
	var out countWriter
	if w.trial == nil {
		w.trial, _ = flate.NewWriter(&out, 1)
	} else {
		w.trial.Reset(&out)
	}
	_, _ = w.trial.Write(data)
	_ = w.trial.Close()
	return int64(out) < int64(len(data))*95/100
}

type countWriter int64

func (c *countWriter) Write(p []byte) (int, error) { *c += countWriter(len(p)); return len(p), nil }

// roll ends the open content file.
func (w *contentWriter) roll() error {
	if w.zip == nil {
		return nil
	}
	err := w.zip.Close()
	if err == nil {
		err = w.file.Sync()
	}
	size, seekErr := w.file.Seek(0, io.SeekEnd)
	if err = errors.Join(err, seekErr, w.file.Close()); err != nil {
		return err
	}
	w.done = append(w.done, pending{w.file.Name(), newID(w.now) + ".zip", size, w.fresh})
	w.bytes += size
	w.file, w.zip, w.fresh = nil, nil, nil
	return nil
}

// publish gives the content files their names.
func (w *contentWriter) publish() error {
	if err := w.roll(); err != nil {
		return err
	}
	for len(w.done) > 0 {
		p := w.done[0]
		f, err := os.OpenFile(p.temp, os.O_RDWR, 0)
		if err != nil {
			return err
		}
		if err := finish(f, filepath.Join(w.a.Dir, "content", p.name), nil); err != nil {
			return err
		}
		for _, d := range p.digests {
			w.a.where[d] = p.name
		}
		if w.a.cache != nil {
			w.a.cache.StoreContents(w.a.ID, p.name, p.size, p.digests)
		}
		w.done = w.done[1:]
	}
	return nil
}

// abandon removes what has not been published.
func (w *contentWriter) abandon() {
	if w.file != nil {
		w.file.Close()
		_ = os.Remove(w.file.Name())
		w.file, w.zip = nil, nil
	}
	for _, p := range w.done {
		_ = os.Remove(p.temp)
	}
	w.a.where = nil // it names what is not there
}

// expiry is how old a temporary file is when nobody can still be writing it.
const expiry = 7 * 24 * time.Hour

// clearTemps removes what interrupted keeps of this machine left long ago.
func (a *Archive) clearTemps(now time.Time) {
	for _, dir := range []string{"content", "playthroughs"} {
		list, _ := os.ReadDir(filepath.Join(a.Dir, dir))
		for _, e := range list {
			if info, err := e.Info(); err == nil && strings.HasPrefix(e.Name(), ".part-"+host()+"-") && now.Sub(info.ModTime()) > expiry {
				_ = os.Remove(filepath.Join(a.Dir, dir, e.Name()))
			}
		}
	}
}

// Splitting of large files into parts at borders that their content defines, so that an insertion moves only the parts around it. The gear
// hash and the two masks are those of FastCDC (Xia et al., USENIX ATC 2016), with normalised chunk sizes.
const (
	minPart  = 256 << 10
	meanPart = 1 << 20
	maxPart  = 4 << 20
	// whole is the size up to which a file is one part.
	whole = maxPart
)

var gear = func() (t [256]uint64) {
	r := rand.New(rand.NewPCG(0x6f7374726f76, 1)) // fixed for ever: other numbers would split every file anew
	for i := range t {
		t[i] = r.Uint64()
	}
	return t
}()

// cut returns the length of the first part of data, which is the rest of the file or at least maxPart of it.
func cut(data []byte) int {
	if len(data) <= minPart {
		return len(data)
	}
	const strict, loose = 1<<22 - 1, 1<<18 - 1 // harder to meet before the mean, easier after
	end := min(len(data), maxPart)
	var h uint64
	for i := minPart; i < end; i++ {
		h = h<<1 + gear[data[i]]
		mask := uint64(strict)
		if i >= meanPart {
			mask = loose
		}
		if h>>40&mask == 0 {
			return i + 1
		}
	}
	return end
}
