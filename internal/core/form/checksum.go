package form

import (
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"hash/adler32"
	"hash/crc32"
	"slices"
	"strconv"
	"strings"
)

// checksum is the layer "checksum:ALGORITHM@OFFSET over FROM..TO": the sum over the bytes FROM up to TO (to the end where TO is left out)
// stands at OFFSET. It takes nothing off: skip what is no content after it.
type checksum struct {
	algorithm        string
	offset, from, to int // to is -1 for the end
}

// sums are the algorithms. CRC-32 and Adler-32 are stored little-endian, or big-endian with the ending be; digests as they are, or in hex
// with the ending -hex.
var sums = map[string]func([]byte) []byte{
	"crc32":     func(b []byte) []byte { return binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE(b)) },
	"crc32be":   func(b []byte) []byte { return binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE(b)) },
	"adler32":   func(b []byte) []byte { return binary.LittleEndian.AppendUint32(nil, adler32.Checksum(b)) },
	"adler32be": func(b []byte) []byte { return binary.BigEndian.AppendUint32(nil, adler32.Checksum(b)) },
	"sum32":     func(b []byte) []byte { return binary.LittleEndian.AppendUint32(nil, sum32(b)) },
	"md5":       func(b []byte) []byte { s := md5.Sum(b); return s[:] },
	"sha1":      func(b []byte) []byte { s := sha1.Sum(b); return s[:] },
	"sha256":    func(b []byte) []byte { s := sha256.Sum256(b); return s[:] },
}

func sum32(b []byte) (n uint32) {
	for _, c := range b {
		n += uint32(c)
	}
	return n
}

func parseChecksum(arg string) (checksum, error) {
	wrong := fmt.Errorf("layer \"checksum:%s\" is not checksum:ALGORITHM@OFFSET over FROM..TO", arg)
	algorithm, rest, ok1 := strings.Cut(arg, "@")
	at, span, ok2 := strings.Cut(rest, " over ")
	from, to, ok3 := strings.Cut(span, "..")
	if !ok1 || !ok2 || !ok3 {
		return checksum{}, wrong
	}
	if sums[strings.TrimSuffix(algorithm, "-hex")] == nil {
		var names []string
		for name := range sums {
			names = append(names, name)
		}
		slices.Sort(names)
		return checksum{}, fmt.Errorf("no checksum %q; there are %s", algorithm, strings.Join(names, ", "))
	}
	c := checksum{algorithm: algorithm, to: -1}
	var err1, err2, err3 error
	c.offset, err1 = strconv.Atoi(at)
	c.from, err2 = strconv.Atoi(from)
	if to != "" {
		c.to, err3 = strconv.Atoi(to)
	}
	if err1 != nil || err2 != nil || err3 != nil || c.offset < 0 || c.from < 0 || c.to >= 0 && c.to < c.from {
		return checksum{}, wrong
	}
	return c, nil
}

// at returns the stored sum and what it should be.
func (c checksum) at(data []byte) (stored, want []byte, err error) {
	to := c.to
	if to < 0 {
		to = len(data)
	}
	if c.from > to || to > len(data) {
		return nil, nil, fmt.Errorf("%w: too short for its checksum", ErrDamaged)
	}
	name, inHex := strings.CutSuffix(c.algorithm, "-hex")
	if want = sums[name](data[c.from:to]); inHex {
		want = []byte(hex.EncodeToString(want))
	}
	if c.offset+len(want) > len(data) {
		return nil, nil, fmt.Errorf("%w: too short for its checksum", ErrDamaged)
	}
	return data[c.offset : c.offset+len(want)], want, nil
}

func (c checksum) check(data []byte) error {
	stored, want, err := c.at(data)
	if err == nil && !bytes.EqualFold(stored, want) {
		err = fmt.Errorf("%w: does not match its checksum", ErrDamaged)
	}
	return err
}

// put returns data with the sum made right.
func (c checksum) put(data []byte) ([]byte, error) {
	data = bytes.Clone(data)
	stored, want, err := c.at(data)
	copy(stored, want)
	return data, err
}

// lengthPrefix is the layer "length:TYPE": a number says how long the content is that follows it.
type lengthPrefix struct {
	size int
	big  bool
}

func lengthType(name string) (lengthPrefix, error) {
	t, ok := map[string]lengthPrefix{"u8": {1, false}, "u16le": {2, false}, "u16be": {2, true}, "u32le": {4, false}, "u32be": {4, true}, "u64le": {8, false}, "u64be": {8, true}}[name]
	if !ok {
		return t, fmt.Errorf("layer \"length:%s\": length takes one of u8 u16le u16be u32le u32be u64le u64be", name)
	}
	return t, nil
}

// cut takes data apart: the number, the content, and what follows it.
func (t lengthPrefix) cut(data []byte) (n uint64, content, after []byte, err error) {
	if len(data) < t.size {
		return 0, nil, nil, fmt.Errorf("%w: ends before its length", ErrDamaged)
	}
	for i, c := range data[:t.size] {
		if t.big {
			n = n<<8 | uint64(c)
		} else {
			n |= uint64(c) << (8 * i)
		}
	}
	rest := data[t.size:]
	if n > uint64(len(rest)) {
		return 0, nil, nil, fmt.Errorf("%w: %d bytes are there of the %d that it says", ErrDamaged, len(rest), n)
	}
	return n, rest[:n], rest[n:], nil
}

func (t lengthPrefix) encode(n int) []byte {
	b := make([]byte, t.size)
	for i := range b {
		shift := 8 * i
		if t.big {
			shift = 8 * (t.size - 1 - i)
		}
		b[i] = byte(n >> shift)
	}
	return b
}
