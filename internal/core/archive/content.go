package archive

import (
	"bufio"
	"bytes"
	"errors"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zip"
	"github.com/shirou/gopsutil/v4/process"
	"github.com/zeebo/blake3"

	"ostrov/internal/core/durable"
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

// packer compresses entries. Each worker has one of its own, as a compressor is large.
type packer struct {
	trial, deflate *flate.Writer
	out            bytes.Buffer
	buf            []byte // of the file that is being split
}

// packed is an entry ready to be written.
type packed struct {
	digest tree.Digest
	method uint16
	crc    uint32
	size   int    // of what it unpacks to
	data   []byte // good until the packer's next entry
}

func (p *packer) pack(d tree.Digest, data []byte) packed {
	e := packed{digest: d, method: zip.Store, crc: crc32.ChecksumIEEE(data), size: len(data), data: data}
	if !p.shrinks(data) {
		return e
	}
	p.out.Reset()
	if p.deflate == nil {
		p.deflate, _ = flate.NewWriter(&p.out, level) // a level that there is: cannot fail
	} else {
		p.deflate.Reset(&p.out)
	}
	_, _ = p.deflate.Write(data) // into memory: cannot fail
	_ = p.deflate.Close()
	if p.out.Len() < len(data) {
		e.method, e.data = zip.Deflate, p.out.Bytes()
	}
	return e
}

// level is how hard entries are compressed: the least that still halves what players write, as a keep runs before every change.
const level = 1

// shrinks reports whether compressing data is worth a try: of what is large, judged by its beginning.
func (p *packer) shrinks(data []byte) bool {
	if len(data) < 64 {
		return false
	}
	if len(data) <= 4*sample { // trying it whole takes no longer
		return true
	}
	data = data[:sample]
	var out countWriter
	if p.trial == nil {
		p.trial, _ = flate.NewWriter(&out, 1)
	} else {
		p.trial.Reset(&out)
	}
	_, _ = p.trial.Write(data)
	_ = p.trial.Close()
	return int64(out) < int64(len(data))*95/100
}

type countWriter int64

func (c *countWriter) Write(p []byte) (int, error) { *c += countWriter(len(p)); return len(p), nil }

// contentWriter writes entries into new content files. Nothing is visible in the archive before publish. It is safe for concurrent use.
type contentWriter struct {
	a   *Archive
	now time.Time

	mu      sync.Mutex
	file    *os.File
	buffer  *bufio.Writer // before the file
	sealer  *sealer       // before the buffer
	zip     *zip.Writer   // before the sealer
	size    int64
	fresh   []tree.Digest // in the open file
	done    []*pending
	bytes   int64 // written, compressed
	syncing sync.WaitGroup
}

// pending is a whole content file that waits to be published.
type pending struct {
	temp, name string
	size       int64
	digests    []tree.Digest
	err        error // of syncing it, which goes on meanwhile
}

// add stores data unless the archive has it, and returns its digest.
func (w *contentWriter) add(p *packer, data []byte) (tree.Digest, error) {
	d := tree.Digest(blake3.Sum256(data))
	return d, w.put(p, d, data)
}

// put stores data, whose digest is d, unless the archive has it.
func (w *contentWriter) put(p *packer, d tree.Digest, data []byte) error {
	if !w.claim(d) {
		return nil
	}
	return w.append(p.pack(d, data))
}

// claim reports whether the entry is neither in the archive nor on its way there; then it is whoever asked who brings it.
func (w *contentWriter) claim(d tree.Digest) bool {
	w.a.mu.Lock()
	defer w.a.mu.Unlock()
	if name, ok := w.a.where[d]; ok && !w.a.marked[name] {
		return false
	}
	w.a.where[d] = "" // to be known when the file has its name
	return true
}

// holds reports whether the archive has an entry, or will have it when this is published.
func (w *contentWriter) holds(d tree.Digest) bool {
	w.a.mu.Lock()
	defer w.a.mu.Unlock()
	name, ok := w.a.where[d]
	return ok && !w.a.marked[name]
}

func (w *contentWriter) append(e packed) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.zip == nil {
		f, err := os.CreateTemp(filepath.Join(w.a.Dir, "content"), partName())
		if err != nil {
			return err
		}
		w.file, w.size = f, 0
		w.buffer = bufio.NewWriterSize(f, 1<<20)
		w.sealer = newSealer(w.buffer)
		w.zip = zip.NewWriter(w.sealer)
		if err := w.zip.SetComment(placeholder); err != nil {
			return err
		}
	}
	out, err := w.zip.CreateRaw(&zip.FileHeader{Name: e.digest.Hex(), Method: e.method, CRC32: e.crc, CompressedSize64: uint64(len(e.data)), UncompressedSize64: uint64(e.size)})
	if err == nil {
		_, err = out.Write(e.data)
	}
	if err != nil {
		return err
	}
	w.fresh = append(w.fresh, e.digest)
	if w.size += int64(len(e.data)) + 200; w.size >= maxZip { // 200: about what the zip adds for each
		return w.roll()
	}
	return nil
}

// roll ends the open content file, which is synced while the next one is written.
func (w *contentWriter) roll() error {
	if w.zip == nil {
		return nil
	}
	err := w.zip.Close()
	if err == nil {
		err = errors.Join(w.sealer.seal(), w.buffer.Flush())
	}
	size, seekErr := w.file.Seek(0, io.SeekEnd)
	if err = errors.Join(err, seekErr); err != nil {
		return errors.Join(err, w.file.Close())
	}
	p := &pending{temp: w.file.Name(), name: newID(w.now) + ".zip", size: size, digests: w.fresh}
	w.done = append(w.done, p)
	w.bytes += size
	file := w.file
	w.file, w.zip, w.fresh = nil, nil, nil
	w.syncing.Go(func() { p.err = errors.Join(file.Sync(), file.Close()) })
	return nil
}

// publish gives the content files their names.
func (w *contentWriter) publish() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	if err := w.roll(); err != nil {
		return err
	}
	return w.publishDone()
}

func (w *contentWriter) publishDone() error {
	w.syncing.Wait()
	for len(w.done) > 0 {
		p := w.done[0]
		if p.err != nil {
			return p.err
		}
		f, err := os.OpenFile(p.temp, os.O_RDWR, 0)
		if err != nil {
			return err
		}
		if err := durable.Publish(f, filepath.Join(w.a.Dir, "content", p.name), fileMode, nil); err != nil {
			return err
		}
		w.a.mu.Lock()
		for _, d := range p.digests {
			w.a.where[d] = p.name
		}
		w.a.mu.Unlock()
		if w.a.cache != nil {
			w.a.cache.StoreContents(w.a.ID, p.name, p.size, p.digests)
		}
		w.done = w.done[1:]
	}
	return nil
}

// abandon removes the content file that is not full. Those that are full are published: a keep that is begun again finds in them what it
// would write anew, and what no snapshot comes to use clear-old removes.
func (w *contentWriter) abandon() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.file != nil {
		w.file.Close()
		_ = os.Remove(w.file.Name())
		w.file, w.zip = nil, nil
	}
	if w.publishDone() != nil {
		for _, p := range w.done {
			_ = os.Remove(p.temp)
		}
	}
	w.a.where = nil // it names what is not there
}

// expiry is how old a temporary file is when nobody can still be writing it.
const expiry = 7 * 24 * time.Hour

// clearTemps removes what interrupted keeps of this machine left: at once where the process that wrote it is no more, else after long.
func (a *Archive) clearTemps(now time.Time) {
	dirs := []string{".", "content", machines}
	names, _ := a.Playthroughs()
	for _, name := range names {
		dirs = append(dirs, filepath.Join("playthroughs", name))
	}
	for _, dir := range dirs {
		list, _ := os.ReadDir(filepath.Join(a.Dir, dir))
		for _, e := range list {
			rest, own := strings.CutPrefix(e.Name(), partOf+host()+"-")
			if !own {
				continue
			}
			pid, _, numbered := strings.Cut(rest, "-")
			info, err := e.Info()
			if err == nil && (numbered && ended(pid) || now.Sub(info.ModTime()) > expiry) {
				_ = os.Remove(filepath.Join(a.Dir, dir, e.Name()))
			}
		}
	}
}

// ended reports whether the process of a number, of this machine, is no more.
func ended(pid string) bool {
	n, err := strconv.ParseInt(pid, 10, 32)
	if err != nil {
		return false
	}
	there, err := process.PidExists(int32(n))
	return err == nil && !there
}
