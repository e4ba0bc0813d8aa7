package unpack

import (
	"bytes"
	"compress/bzip2"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"slices"
	"strings"

	"github.com/klauspost/compress/zip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz/lzma"

	"ostrov/internal/core/hazard"
	"ostrov/internal/core/tree"
)

// Methods of packing in zips beyond those of every reader (APPNOTE 4.4.5).
const (
	zipBzip2    = 12
	zipLZMA     = 14
	zipOldZstd  = 20
	zipZstd     = zstd.ZipMethodWinZip
	maxZipTail  = 22 + 1<<16 // the end record with the longest comment
	maxLZMADict = 64 << 20   // bytes of memory that a packed file may ask for
)

func (d *Download) openZip(f *os.File) error {
	info, err := f.Stat()
	if err != nil {
		return err
	}
	z, err := zip.NewReader(f, info.Size())
	if err != nil {
		d.damage(d.Name, "the zip cannot be read: "+plain(err).Error())
		return nil
	}
	z.RegisterDecompressor(zipBzip2, func(r io.Reader) io.ReadCloser { return io.NopCloser(bzip2.NewReader(r)) })
	unzstd := zstd.ZipDecompressor(zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxWindow(maxLZMADict), zstd.WithDecoderMaxMemory(MaxBytes))
	z.RegisterDecompressor(zipZstd, unzstd)
	z.RegisterDecompressor(zipOldZstd, unzstd)
	decode := codePage(z.File)
	for _, file := range z.File {
		name := decode(file)
		e := tree.Entry{Path: strings.TrimSuffix(name, "/"), Kind: tree.File, Size: int64(file.UncompressedSize64), Mode: 0o644, ModTime: file.Modified}
		switch mode := file.Mode(); {
		case strings.HasSuffix(name, "/"):
			e.Kind, e.Size = tree.Dir, 0
		case mode&fs.ModeSymlink != 0:
			e.Kind, e.Target = tree.Link, "somewhere else"
		case !mode.IsRegular():
			e.Kind = tree.Special
		}
		if file.Flags&1 != 0 {
			d.Encrypted = append(d.Encrypted, e.Path)
			continue
		}
		d.add(e, func() (io.ReadCloser, error) { return openZipped(file) })
		if d.full {
			break
		}
	}
	return d.checkZip(f, info.Size())
}

// openZipped opens one file of a zip. What is packed with LZMA does not say its length inside, so the directory's is given to it.
func openZipped(f *zip.File) (io.ReadCloser, error) {
	if f.Method != zipLZMA {
		return f.Open()
	}
	raw, err := f.OpenRaw()
	if err != nil {
		return nil, err
	}
	var head [9]byte // version, length of the properties, the properties (APPNOTE 5.8.8)
	if _, err := io.ReadFull(raw, head[:]); err != nil {
		return nil, err
	}
	if binary.LittleEndian.Uint16(head[2:]) != 5 {
		return nil, errors.New("has LZMA properties of an unknown kind")
	}
	r, err := newLZMA(head[4:], int64(f.UncompressedSize64), raw)
	if err != nil {
		return nil, err
	}
	return io.NopCloser(&checked{r: io.LimitReader(r, int64(f.UncompressedSize64)), want: f.CRC32, sum: crc32.NewIEEE()}), nil
}

// newLZMA reads a bare LZMA stream with its five bytes of properties; what asks for more memory than maxLZMADict is refused.
func newLZMA(properties []byte, size int64, r io.Reader) (io.Reader, error) {
	if len(properties) < 5 || binary.LittleEndian.Uint32(properties[1:]) > maxLZMADict {
		return nil, errMemory
	}
	head := binary.LittleEndian.AppendUint64(bytes.Clone(properties[:5]), uint64(size))
	return lzma.NewReader(io.MultiReader(bytes.NewReader(head), r))
}

var errMemory = fmt.Errorf("needs more than %d MiB of memory to unpack", maxLZMADict>>20)

// checked is a stream whose CRC-32 is held against the one that the directory says.
type checked struct {
	r    io.Reader
	want uint32
	sum  hash.Hash32
}

func (c *checked) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.sum.Write(p[:n])
	if err == io.EOF && c.sum.Sum32() != c.want {
		return n, zip.ErrChecksum
	}
	return n, err
}

// record is one entry of a zip's directory, with where its local header stands.
type record struct {
	name           []byte
	flags, method  uint16
	crc            uint32
	packed, size   uint64
	offset, follow int64 // of the local header, and the end of its content
}

// checkZip holds the zip's directory against what stands before each file's content. A reader that goes by the one and a reader that goes
// by the other must see the same; contents that share bytes are a way to make a small zip unpack to much.
func (d *Download) checkZip(f io.ReaderAt, size int64) error {
	records, err := zipDirectory(f, size)
	if err != nil {
		d.hazard(d.Name, "has a directory that readers understand in different ways: "+err.Error())
		return nil
	}
	for i := range records {
		r := &records[i]
		if why := r.checkLocal(f, size); why != "" {
			d.hazard(string(r.name), why)
		}
	}
	slices.SortFunc(records, func(a, b record) int { return int(min(max(a.offset-b.offset, -1), 1)) })
	for i := 1; i < len(records); i++ {
		if before := records[i-1]; before.follow > records[i].offset {
			d.hazard(string(records[i].name), fmt.Sprintf("shares its content with %s", before.name))
			break
		}
	}
	return nil
}

var errDirectory = errors.New("it is cut or overlaps the files")

// zipDirectory reads the directory (APPNOTE 4.3.12 to 4.3.16).
func zipDirectory(f io.ReaderAt, size int64) ([]record, error) {
	tail := make([]byte, min(size, maxZipTail))
	if _, err := f.ReadAt(tail, size-int64(len(tail))); err != nil && err != io.EOF {
		return nil, err
	}
	at := bytes.LastIndex(tail, []byte("PK\x05\x06"))
	if at < 0 || at+22 > len(tail) {
		return nil, errDirectory
	}
	if !hazard.EndsAsZip(tail) {
		return nil, errors.New("something stands behind its end")
	}
	end := size - int64(len(tail)) + int64(at)
	length, offset := uint64(binary.LittleEndian.Uint32(tail[at+12:])), uint64(binary.LittleEndian.Uint32(tail[at+16:]))
	if locator := at - 20; locator >= 0 && bytes.HasPrefix(tail[locator:], []byte("PK\x06\x07")) {
		var big [56]byte
		if _, err := f.ReadAt(big[:], int64(binary.LittleEndian.Uint64(tail[locator+8:]))); err != nil || !bytes.HasPrefix(big[:], []byte("PK\x06\x06")) {
			return nil, errDirectory
		}
		length, offset = binary.LittleEndian.Uint64(big[40:]), binary.LittleEndian.Uint64(big[48:])
		end = int64(binary.LittleEndian.Uint64(tail[locator+8:]))
	}
	if length > maxDirectory || int64(offset) < 0 || int64(offset+length) != end {
		return nil, errDirectory
	}
	directory := make([]byte, length)
	if _, err := f.ReadAt(directory, int64(offset)); err != nil {
		return nil, errDirectory
	}
	var records []record
	for len(directory) > 0 && len(records) < MaxEntries {
		if len(directory) < 46 || !bytes.HasPrefix(directory, []byte("PK\x01\x02")) {
			return nil, errDirectory
		}
		le := binary.LittleEndian
		name, extra, comment := int(le.Uint16(directory[28:])), int(le.Uint16(directory[30:])), int(le.Uint16(directory[32:]))
		if len(directory) < 46+name+extra+comment {
			return nil, errDirectory
		}
		r := record{
			name: directory[46 : 46+name], flags: le.Uint16(directory[8:]), method: le.Uint16(directory[10:]), crc: le.Uint32(directory[16:]),
			packed: uint64(le.Uint32(directory[20:])), size: uint64(le.Uint32(directory[24:])), offset: int64(le.Uint32(directory[42:])),
		}
		r.zip64(directory[46+name : 46+name+extra])
		records = append(records, r)
		directory = directory[46+name+extra+comment:]
	}
	return records, nil
}

// maxDirectory bounds a zip's directory, in bytes.
const maxDirectory = 64 << 20

// zip64 takes the values that do not fit 32 bits from the extra field (APPNOTE 4.5.3).
func (r *record) zip64(extra []byte) {
	le := binary.LittleEndian
	for len(extra) >= 4 {
		id, n := le.Uint16(extra), int(le.Uint16(extra[2:]))
		if n > len(extra)-4 {
			return
		}
		field := extra[4 : 4+n]
		extra = extra[4+n:]
		if id != 1 {
			continue
		}
		take := func(is bool) (uint64, bool) {
			if !is || len(field) < 8 {
				return 0, false
			}
			v := le.Uint64(field)
			field = field[8:]
			return v, true
		}
		if v, ok := take(r.size == 0xffffffff); ok {
			r.size = v
		}
		if v, ok := take(r.packed == 0xffffffff); ok {
			r.packed = v
		}
		if v, ok := take(r.offset == 0xffffffff); ok {
			r.offset = int64(v)
		}
	}
}

// checkLocal says how the header before the content differs from the directory, or "" where it does not.
func (r *record) checkLocal(f io.ReaderAt, size int64) string {
	head := make([]byte, 30+len(r.name))
	if r.offset < 0 || r.offset > size {
		return "begins outside the download"
	}
	if _, err := f.ReadAt(head, r.offset); err != nil || !bytes.HasPrefix(head, []byte("PK\x03\x04")) {
		return "has no header before its content"
	}
	le := binary.LittleEndian
	name, extra := int(le.Uint16(head[26:])), int64(le.Uint16(head[28:]))
	r.follow = r.offset + 30 + int64(name) + extra + int64(r.packed)
	switch {
	case name != len(r.name) || !bytes.Equal(head[30:], r.name):
		return "is called something else in the header before its content"
	case le.Uint16(head[8:]) != r.method, le.Uint16(head[6:])&1 != r.flags&1:
		return "is packed in another way in the header before its content"
	case r.flags&8 == 0 && le.Uint32(head[22:]) != 0xffffffff && uint64(le.Uint32(head[22:])) != r.size&0xffffffff:
		return "has another size in the header before its content"
	case r.follow < 0 || r.follow > size:
		return "reaches beyond the end of the download"
	}
	return ""
}
