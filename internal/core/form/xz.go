package form

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"hash/crc64"
	"io"

	"github.com/ulikunitz/xz/lzma"
)

// xzReader reads the .xz format (https://tukaani.org/xz/xz-file-format.txt, 1.2.1) up to the end of its last stream, and checks all that it says of
// itself: sizes, checksums and its index. The library's own reader makes room for whatever dictionary a file asks for; this one asks first.
type xzReader struct {
	r      *countedBytes
	dict   int64 // bytes that a dictionary may have, at most
	check  byte  // the kind of checksum of the stream
	blocks []xzBlock
	err    error

	content *lzma.Reader2 // of the block that is being read, or nil
	sum     hash.Hash     // of it, or nil
	size    int64         // of it, unpacked, so far
	begin   int64         // where it begins in the file, and where its packed bytes do
	packed  int64
	want    xzBlock // what its header says, -1 where it says nothing
}

// xzBlock is how many bytes a block takes, without its padding, and unpacks to.
type xzBlock struct{ packed, size int64 }

const (
	xzMagic     = "\xfd7zXZ\x00"
	xzLZMA2     = 0x21
	maxXZBlocks = 1 << 20
)

var (
	errXZ      = errors.New("it is damaged")
	xzCheckLen = [16]int{0, 4, 4, 4, 8, 8, 8, 16, 16, 16, 32, 32, 32, 64, 64, 64}
	xzCRC64    = crc64.MakeTable(crc64.ECMA)
)

// countedBytes counts what has been read.
type countedBytes struct {
	*bufio.Reader
	n int64
}

func (c *countedBytes) Read(p []byte) (int, error) {
	n, err := c.Reader.Read(p)
	c.n += int64(n)
	return n, err
}

func (c *countedBytes) ReadByte() (byte, error) {
	b, err := c.Reader.ReadByte()
	if err == nil {
		c.n++
	}
	return b, err
}

func newXZ(r io.Reader, dict int64) (*xzReader, error) {
	x := &xzReader{r: &countedBytes{Reader: bufio.NewReader(r)}, dict: dict}
	return x, x.stream()
}

func (x *xzReader) Read(p []byte) (n int, err error) {
	for x.err == nil && n == 0 && len(p) > 0 {
		if x.content == nil {
			x.err = x.next()
			continue
		}
		n, err = x.content.Read(p)
		if x.size += int64(n); x.sum != nil {
			x.sum.Write(p[:n])
		}
		if err == io.EOF {
			err = x.endBlock()
		}
		if x.err = err; x.want.size >= 0 && x.size > x.want.size {
			x.err = errXZ
		}
	}
	return n, x.err
}

// full reads so many bytes.
func (x *xzReader) full(n int) ([]byte, error) {
	b := make([]byte, n)
	_, err := io.ReadFull(x.r, b)
	if err == io.EOF {
		err = io.ErrUnexpectedEOF
	}
	return b, err
}

// stream reads the header of a stream.
func (x *xzReader) stream() error {
	head, err := x.full(12)
	if err != nil {
		return err
	}
	if string(head[:6]) != xzMagic || head[6] != 0 || head[7] > 15 || crc32.ChecksumIEEE(head[6:8]) != binary.LittleEndian.Uint32(head[8:]) {
		return errXZ
	}
	x.check, x.blocks = head[7], nil
	return nil
}

// next begins the next block, perhaps of another stream; io.EOF is the end of all of them.
func (x *xzReader) next() error {
	x.begin = x.r.n
	size, err := x.r.ReadByte()
	if err != nil {
		return noEnd(err)
	}
	if size == 0 {
		if err := x.index(); err != nil {
			return err
		}
		return x.another()
	}
	rest, err := x.full(4*int(size) + 3)
	if err != nil {
		return err
	}
	dict, want, err := xzBlockHeader(append([]byte{size}, rest...))
	if err != nil {
		return err
	}
	if dict > x.dict {
		return fmt.Errorf("%w: it needs a dictionary of %d MiB", ErrTooLarge, dict>>20)
	}
	if x.want, x.size, x.packed = want, 0, x.r.n; len(x.blocks) == maxXZBlocks {
		return fmt.Errorf("%w: more than %d blocks", ErrTooLarge, maxXZBlocks)
	}
	switch x.check {
	case 1:
		x.sum = crc32.NewIEEE()
	case 4:
		x.sum = crc64.New(xzCRC64)
	case 10:
		x.sum = sha256.New()
	default: // none, or one that is not defined
		x.sum = nil
	}
	x.content, err = lzma.Reader2Config{DictCap: int(max(dict, lzma.MinDictCap))}.NewReader2(x.r)
	return noEnd(err)
}

// noEnd is an error that the file ends too early in place of io.EOF.
func noEnd(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

// xzBlockHeader reads the header of a block: the dictionary that it needs, and what it says of its sizes.
func xzBlockHeader(head []byte) (dict int64, want xzBlock, err error) {
	end := len(head) - 4
	if crc32.ChecksumIEEE(head[:end]) != binary.LittleEndian.Uint32(head[end:]) {
		return 0, want, errXZ
	}
	flags := head[1]
	b := bytes.NewReader(head[2:end])
	want = xzBlock{-1, -1}
	if flags&0x40 != 0 {
		want.packed = xzNumber(b)
	}
	if flags&0x80 != 0 {
		want.size = xzNumber(b)
	}
	if flags&0x3f != 0 || xzNumber(b) != xzLZMA2 {
		return 0, want, fmt.Errorf("%w: a filter other than LZMA2", ErrUnknown)
	}
	one := xzNumber(b)
	code, _ := b.ReadByte()
	if one != 1 || code > 40 || flags&0x40 != 0 && want.packed <= 0 || flags&0x80 != 0 && want.size < 0 {
		return 0, want, errXZ
	}
	return lzma2Dict(code), want, xzZeros(b, b.Len())
}

// lzma2Dict is the size of a dictionary that is coded in a byte up to 40: 2 or 3 times a power of two, from 4 KiB on (5.3.1).
func lzma2Dict(code byte) int64 { return int64(2|code&1) << (code/2 + 11) }

// xzNumber reads a number of up to 63 bits (1.2); -1 is none.
func xzNumber(r io.ByteReader) int64 {
	var n int64
	for i := range 9 {
		b, err := r.ReadByte()
		if err != nil || b == 0 && i > 0 {
			return -1
		}
		if n |= int64(b&0x7f) << (7 * i); b < 0x80 {
			return n
		}
	}
	return -1
}

// xzZeros passes over padding.
func xzZeros(r io.ByteReader, n int) error {
	for range n {
		if b, err := r.ReadByte(); err != nil {
			return noEnd(err)
		} else if b != 0 {
			return errXZ
		}
	}
	return nil
}

// endBlock checks a block that has been unpacked.
func (x *xzReader) endBlock() error {
	x.content = nil
	packed := x.r.n - x.packed
	if x.want.packed >= 0 && packed != x.want.packed || x.want.size >= 0 && x.size != x.want.size {
		return errXZ
	}
	if err := xzZeros(x.r, int(-packed&3)); err != nil {
		return err
	}
	sum, err := x.full(xzCheckLen[x.check])
	if err != nil {
		return err
	}
	if x.sum != nil {
		is := x.sum.Sum(nil)
		if x.check != 10 { // these are written the other way round
			for i, j := 0, len(is)-1; i < j; i, j = i+1, j-1 {
				is[i], is[j] = is[j], is[i]
			}
		}
		if !bytes.Equal(is, sum) {
			return fmt.Errorf("%w: it does not match its checksum", ErrDamaged)
		}
	}
	x.blocks = append(x.blocks, xzBlock{x.packed - x.begin + packed + int64(len(sum)), x.size})
	return nil
}

// index checks the index, whose first byte is read, against the blocks, and the footer behind it.
func (x *xzReader) index() error {
	sum := crc32.NewIEEE()
	r := &summed{x.r, sum}
	sum.Write([]byte{0})
	if xzNumber(r) != int64(len(x.blocks)) {
		return errXZ
	}
	for _, b := range x.blocks {
		if xzNumber(r) != b.packed || xzNumber(r) != b.size {
			return errXZ
		}
	}
	if err := xzZeros(r, int(-(x.r.n-x.begin)&3)); err != nil {
		return err
	}
	size := x.r.n - x.begin + 4
	tail, err := x.full(4 + 12)
	if err != nil {
		return err
	}
	le := binary.LittleEndian
	if le.Uint32(tail) != sum.Sum32() || le.Uint32(tail[4:]) != crc32.ChecksumIEEE(tail[8:14]) || 4*(int64(le.Uint32(tail[8:]))+1) != size ||
		tail[12] != 0 || tail[13] != x.check || string(tail[14:]) != "YZ" {
		return errXZ
	}
	return nil
}

// summed is bytes of which a checksum is taken.
type summed struct {
	r   io.ByteReader
	sum hash.Hash
}

func (s *summed) ReadByte() (byte, error) {
	b, err := s.r.ReadByte()
	if err == nil {
		s.sum.Write([]byte{b})
	}
	return b, err
}

// another begins the stream that follows, behind zeros; io.EOF is none.
func (x *xzReader) another() error {
	for {
		next, err := x.r.Peek(4)
		switch {
		case len(next) == 0:
			return err
		case bytes.Equal(next, []byte{0, 0, 0, 0}):
			if err := xzZeros(x.r, 4); err != nil {
				return err
			}
		default:
			return x.stream()
		}
	}
}
