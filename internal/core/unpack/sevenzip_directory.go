package unpack

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"
)

// The directory of a 7z says how many files, blocks and streams there are before it tells of them, and the library makes room for as many
// as it says. So it is walked here first, with bounds, by the format as DOC/7zFormat.txt of 7-Zip describes it.
const (
	max7zDirectory = 32 << 20       // bytes, packed or not
	max7zStreams   = 8 * MaxEntries // blocks, packers and streams together: a file packed on its own has six
	max7zOfBlock   = 64             // packers of one block, and streams of them; 7-Zip itself makes at most a handful
	max7zSearch    = 2 << 30        // files times blocks: the library looks through all blocks for each file
	start7z        = 32             // where the blocks begin, behind the signature and where the directory is
)

const (
	sevenEnd            = 0x00
	sevenHeader         = 0x01
	sevenMainStreams    = 0x04
	sevenFiles          = 0x05
	sevenPackInfo       = 0x06
	sevenUnpackInfo     = 0x07
	sevenSubStreams     = 0x08
	sevenSize           = 0x09
	sevenCRC            = 0x0a
	sevenFolder         = 0x0b
	sevenUnpackSize     = 0x0c
	sevenNumStreams     = 0x0d
	sevenEncodedHeader  = 0x17
	sevenOwnInAndOut    = 0x10
	sevenWithProperties = 0x20
)

var (
	errDirectory7z = errors.New("its directory is damaged")
	errSealed      = errors.New("its directory is encrypted")
	errCrowded     = fmt.Errorf("has more than %d files or blocks", MaxEntries)
	aes7z          = []byte{6, 0xf1, 7, 1}
)

// check7z walks the directory of a 7z of that many bytes and reports whether the library may read it: errSealed, errCrowded, or what is
// wrong.
func check7z(f io.ReaderAt, size int64) error {
	var start [start7z]byte
	if _, err := f.ReadAt(start[:], 0); err != nil {
		return errDirectory7z
	}
	offset, length := binary.LittleEndian.Uint64(start[12:]), binary.LittleEndian.Uint64(start[20:])
	if length > max7zDirectory || offset > uint64(size) || length > uint64(size) || start7z+offset+length > uint64(size) {
		return errDirectory7z
	}
	d := directory7z{rest: make([]byte, length)}
	if _, err := f.ReadAt(d.rest, int64(start7z+offset)); err != nil {
		return errDirectory7z
	}
	kind := d.byte()
	if kind == sevenEncodedHeader {
		unpacked, err := d.unpack(f, size)
		if err != nil {
			return err
		}
		d = directory7z{rest: unpacked}
		kind = d.byte()
	}
	if kind != sevenHeader {
		return errDirectory7z
	}
	id, blocks := d.byte(), 0
	if id == sevenMainStreams {
		blocks = len(d.streams().blocks)
		id = d.byte()
	}
	if id == sevenFiles {
		files := d.number()
		if d.err == nil && files <= MaxEntries && files > uint64(len(d.rest)) { // each has a name
			return errDirectory7z
		}
		if files > MaxEntries || files*uint64(blocks) > max7zSearch {
			d.fail(errCrowded)
		}
	}
	return d.err
}

// unpack reads a directory that is packed itself.
func (d *directory7z) unpack(f io.ReaderAt, size int64) ([]byte, error) {
	s := d.streams()
	if d.err != nil {
		return nil, d.err
	}
	for _, b := range s.blocks {
		for _, p := range b.packers {
			if bytes.Equal(p.id, aes7z) {
				return nil, errSealed
			}
		}
	}
	if len(s.blocks) != 1 || len(s.blocks[0].packers) != 1 || len(s.sizes) != 1 || s.blocks[0].in != 1 || s.blocks[0].out != 1 {
		return nil, errDirectory7z
	}
	b := s.blocks[0]
	if s.at > uint64(size) || s.sizes[0] > uint64(size) || start7z+s.at+s.sizes[0] > uint64(size) || b.size > max7zDirectory {
		return nil, errDirectory7z
	}
	var r io.Reader = io.NewSectionReader(f, int64(start7z+s.at), int64(s.sizes[0]))
	var err error
	switch p := b.packers[0]; string(p.id) {
	case "\x00":
	case "\x03\x01\x01":
		r, err = newLZMA(p.properties, int64(b.size), r)
	case "\x21":
		r, err = newLZMA2(p.properties, r)
	default:
		return nil, errDirectory7z
	}
	if err != nil {
		return nil, err
	}
	data, err := io.ReadAll(io.LimitReader(r, int64(b.size)))
	if err != nil || uint64(len(data)) != b.size {
		return nil, errDirectory7z
	}
	return data, nil
}

// directory7z is what has not been walked yet. After the first error everything in it is zero.
type directory7z struct {
	rest    []byte
	counted uint64 // of max7zStreams
	err     error
}

// streams7z is how the blocks lie in the file and are packed.
type streams7z struct {
	at     uint64   // of the first one, behind the start
	sizes  []uint64 // packed
	blocks []block7z
}

type block7z struct {
	packers []packer7z
	in, out uint64
	size    uint64 // of its last output
}

type packer7z struct {
	id, properties []byte
}

func (d *directory7z) fail(err error) {
	if d.err == nil {
		d.err = err
	}
	d.rest = nil
}

func (d *directory7z) bytes(n uint64) []byte {
	if n > uint64(len(d.rest)) {
		d.fail(errDirectory7z)
		return nil
	}
	taken := d.rest[:n]
	d.rest = d.rest[n:]
	return taken
}

func (d *directory7z) byte() byte {
	if b := d.bytes(1); len(b) == 1 {
		return b[0]
	}
	return 0
}

// expect takes one byte that must be this one.
func (d *directory7z) expect(id byte) {
	if d.byte() != id {
		d.fail(errDirectory7z)
	}
}

// number is of one to nine bytes: as many follow the first as it has leading ones, and its other bits are the highest.
func (d *directory7z) number() uint64 {
	first := d.byte()
	more := bits.LeadingZeros8(^first)
	var little [8]byte
	copy(little[:], d.bytes(uint64(more)))
	n := binary.LittleEndian.Uint64(little[:])
	if more < 7 {
		n |= uint64(first&(1<<(7-more)-1)) << (8 * more)
	}
	return n
}

// count is a number of things of which the library makes that many at once.
func (d *directory7z) count(n, most uint64) uint64 {
	if n > most || d.counted+n > max7zStreams {
		d.fail(errCrowded)
		return 0
	}
	d.counted += n
	return n
}

// digests walks n checksums, not all of which must be there.
func (d *directory7z) digests(n uint64) {
	present := n
	if d.byte() == 0 {
		present = 0
		for i, b := range d.bytes((n + 7) / 8) {
			if over := 8*(uint64(i)+1) - min(n, 8*(uint64(i)+1)); over > 0 {
				b &^= 1<<over - 1
			}
			present += uint64(bits.OnesCount8(b))
		}
	}
	d.bytes(4 * present)
}

func (d *directory7z) streams() (s streams7z) {
	id := d.byte()
	if id == sevenPackInfo {
		s.at = d.number()
		n := d.count(d.number(), MaxEntries)
		if id = d.byte(); id == sevenSize {
			for range n {
				s.sizes = append(s.sizes, d.number())
			}
			id = d.byte()
		}
		if id == sevenCRC {
			d.digests(n)
			id = d.byte()
		}
		if id != sevenEnd {
			d.fail(errDirectory7z)
		}
		id = d.byte()
	}
	if id == sevenUnpackInfo {
		d.unpackInfo(&s)
		id = d.byte()
	}
	if id == sevenSubStreams {
		d.subStreams(s.blocks)
		id = d.byte()
	}
	if id != sevenEnd {
		d.fail(errDirectory7z)
	}
	return s
}

func (d *directory7z) unpackInfo(s *streams7z) {
	d.expect(sevenFolder)
	n := d.count(d.number(), MaxEntries)
	d.expect(0) // not elsewhere
	for range n {
		if d.err != nil {
			return
		}
		s.blocks = append(s.blocks, d.block())
	}
	d.expect(sevenUnpackSize)
	for i := range s.blocks {
		for range s.blocks[i].out {
			s.blocks[i].size = d.number()
		}
	}
	id := d.byte()
	if id == sevenCRC {
		d.digests(n)
		id = d.byte()
	}
	if id != sevenEnd {
		d.fail(errDirectory7z)
	}
}

func (d *directory7z) block() (b block7z) {
	for range d.count(d.number(), max7zOfBlock) {
		flags := d.byte()
		p := packer7z{id: d.bytes(uint64(flags & 0xf))}
		in, out := uint64(1), uint64(1)
		if flags&sevenOwnInAndOut != 0 {
			in, out = d.number(), d.number()
		}
		b.in += d.count(in, max7zOfBlock)
		b.out += d.count(out, max7zOfBlock)
		if flags&sevenWithProperties != 0 {
			p.properties = d.bytes(d.number())
		}
		b.packers = append(b.packers, p)
	}
	if b.out == 0 || b.in < b.out || b.in > max7zOfBlock {
		d.fail(errDirectory7z)
		return block7z{}
	}
	for range 2 * (b.out - 1) { // which output goes into which input
		d.number()
	}
	if packed := b.in - (b.out - 1); packed > 1 {
		for range packed {
			d.number()
		}
	}
	return b
}

func (d *directory7z) subStreams(blocks []block7z) {
	id := d.byte()
	own := id == sevenNumStreams
	of := make([]uint64, len(blocks))
	all := uint64(0)
	for i := range of {
		of[i] = 1
		if own {
			of[i] = d.number()
		}
		all += d.count(of[i], MaxEntries)
	}
	if d.err != nil {
		return
	}
	if own {
		id = d.byte()
	}
	if id == sevenSize {
		for _, n := range of {
			for range max(n, 1) - 1 { // that of the last is what the others leave
				d.number()
			}
		}
		id = d.byte()
	}
	if id == sevenCRC {
		d.digests(all)
		id = d.byte()
	}
	if id != sevenEnd {
		d.fail(errDirectory7z)
	}
}
