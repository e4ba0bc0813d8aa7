package wrap

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

// checksum is the layer "checksum:ALGORITHM@OFFSET over FROM..TO[,FROM..TO…] [zeroed]": OFFSET is the place of the sum over these ranges. A sum
// inside a range is left out of it, or with zeroed counted as zeros. The layer takes nothing off: use skip for bytes that are no content.
type checksum struct {
	algorithm string
	offset    bound
	ranges    [][2]bound
	zeroed    bool
}

// bound is a place in a file, counted from its beginning, or if negative from its end; or the number at a place.
type bound struct {
	n   int
	end bool  // the end of the file
	of  *Type // if set, the place is the number of this type at n
}

func parseBound(s string) (bound, error) {
	wrong := fmt.Errorf("%q is no place: it is a number of bytes, negative from the end, or @OFFSET:TYPE", s)
	if at, ok := strings.CutPrefix(s, "@"); ok {
		offset, kind, _ := strings.Cut(at, ":")
		n, err := strconv.Atoi(offset)
		t, err2 := ParseType(kind)
		if err != nil || err2 != nil || !t.Whole() {
			return bound{}, wrong
		}
		return bound{n: n, of: &t}, nil
	}
	n, err := strconv.Atoi(s)
	if err != nil {
		return bound{}, wrong
	}
	return bound{n: n}, nil
}

// in is the place in data; ok is false where it is outside.
func (b bound) in(data []byte) (at int, ok bool) {
	at = b.n
	switch {
	case b.end:
		return len(data), true
	case at < 0:
		at += len(data)
	}
	if at < 0 || at > len(data) {
		return 0, false
	}
	if b.of == nil {
		return at, true
	}
	if len(data)-at < b.of.Size {
		return 0, false
	}
	n := b.of.number(data[at : at+b.of.Size])
	return int(n), n <= uint64(len(data))
}

// sums lists the algorithms. CRC-32, Adler-32 and the sum of all bytes are little-endian, or big-endian with the ending be; digests have one order.
// With the ending -hex each is stored in hex.
var sums = map[string]func([]byte) []byte{
	"crc32":     func(b []byte) []byte { return binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE(b)) },
	"crc32be":   func(b []byte) []byte { return binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE(b)) },
	"adler32":   func(b []byte) []byte { return binary.LittleEndian.AppendUint32(nil, adler32.Checksum(b)) },
	"adler32be": func(b []byte) []byte { return binary.BigEndian.AppendUint32(nil, adler32.Checksum(b)) },
	"sum32":     func(b []byte) []byte { return binary.LittleEndian.AppendUint32(nil, sum32(b)) },
	"sum32be":   func(b []byte) []byte { return binary.BigEndian.AppendUint32(nil, sum32(b)) },
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
	wrong := func(err error) (checksum, error) {
		return checksum{}, fmt.Errorf("layer \"checksum:%s\" is not checksum:ALGORITHM@OFFSET over FROM..TO: %v", arg, err)
	}
	algorithm, rest, ok1 := strings.Cut(arg, "@")
	at, over, ok2 := strings.Cut(rest, " over ")
	if !ok1 || !ok2 {
		return wrong(fmt.Errorf("it lacks its offset or its range"))
	}
	if sums[strings.TrimSuffix(algorithm, "-hex")] == nil {
		var names []string
		for name := range sums {
			names = append(names, name)
		}
		slices.Sort(names)
		return checksum{}, fmt.Errorf("no checksum %q; there are %s", algorithm, strings.Join(names, ", "))
	}
	c := checksum{algorithm: algorithm}
	var err error
	if c.offset, err = parseBound(at); err != nil {
		return wrong(err)
	}
	over, c.zeroed = strings.CutSuffix(over, " zeroed")
	if c.ranges, err = parseRanges(over); err != nil {
		return wrong(err)
	}
	return c, nil
}

// parseRanges reads FROM..TO, or several with commas between. TO may be left out: the end of the file.
func parseRanges(s string) (ranges [][2]bound, err error) {
	for one := range strings.SplitSeq(s, ",") {
		from, to, ok := strings.Cut(strings.TrimSpace(one), "..")
		if !ok {
			return nil, fmt.Errorf("%q is not FROM..TO", one)
		}
		var r [2]bound
		if r[0], err = parseBound(from); err != nil {
			return nil, err
		}
		if r[1] = (bound{end: true}); to != "" {
			if r[1], err = parseBound(to); err != nil {
				return nil, err
			}
		}
		if a, b := r[0], r[1]; a.of == nil && b.of == nil && !b.end && a.n >= 0 && b.n >= 0 && b.n < a.n {
			return nil, fmt.Errorf("%q ends before it begins", one)
		}
		ranges = append(ranges, r)
	}
	return ranges, nil
}

// size returns the size of the sum, in bytes.
func (c checksum) size() int {
	name, inHex := strings.CutSuffix(c.algorithm, "-hex")
	n := len(sums[name](nil))
	if inHex {
		n *= 2
	}
	return n
}

// at returns the stored sum, as a part of data, and what it should be.
func (c checksum) at(data []byte) (stored, want []byte, err error) {
	short := fmt.Errorf("%w: too short for its checksum", ErrDamaged)
	name, inHex := strings.CutSuffix(c.algorithm, "-hex")
	at, ok := c.offset.in(data)
	end := at + c.size()
	if !ok || end > len(data) {
		return nil, nil, short
	}
	var covered []byte
	for _, r := range c.ranges {
		from, ok1 := r[0].in(data)
		to, ok2 := r[1].in(data)
		if !ok1 || !ok2 || from > to {
			return nil, nil, short
		}
		piece := data[from:to]
		if from < end && at < to { // the range contains the sum
			own := make([]byte, 0, len(piece))
			own = append(own, data[from:max(from, at)]...)
			if c.zeroed {
				own = append(own, make([]byte, min(end, to)-max(from, at))...)
			}
			piece = append(own, data[min(end, to):to]...)
		}
		if len(c.ranges) == 1 {
			covered = piece
		} else {
			covered = append(covered, piece...)
		}
	}
	if want = sums[name](covered); inHex {
		want = []byte(hex.EncodeToString(want))
	}
	return data[at:end], want, nil
}

func (c checksum) check(data []byte) error {
	stored, want, err := c.at(data)
	if err != nil {
		return err
	}
	same := bytes.Equal(stored, want)
	if strings.HasSuffix(c.algorithm, "-hex") {
		same = bytes.EqualFold(stored, want)
	}
	if !same {
		return fmt.Errorf("%w: does not match its checksum", ErrDamaged)
	}
	return nil
}

// put returns data with the sum made right; in hex the letters keep the case that the original has.
func (c checksum) put(data, original []byte) ([]byte, error) {
	data = bytes.Clone(data)
	stored, want, err := c.at(data)
	if err != nil {
		return nil, err
	}
	if was, _, err := c.at(original); err == nil && strings.HasSuffix(c.algorithm, "-hex") && bytes.ContainsAny(was, "ABCDEF") {
		want = bytes.ToUpper(want)
	}
	copy(stored, want)
	return data, nil
}

// length is the layer "length:TYPE": a number before the content gives its size, and the bytes after the content are kept. Or it is
// "length:TYPE@OFFSET over FROM..TO" or "length:TYPE@OFFSET unpacked": a number anywhere that gives the size of a range, or of the content when it is
// unwrapped. Like checksum, these take nothing off.
type length struct {
	kind     Type
	placed   bool
	offset   bound
	span     [2]bound
	unpacked bool
}

func parseLength(arg string) (l length, err error) {
	kind, at, placed := strings.Cut(arg, "@")
	if l.kind, err = ParseType(kind); err != nil || !l.kind.Whole() {
		return l, fmt.Errorf("layer \"length:%s\": length takes one of u8 u16le u16be u32le u32be u64le u64be", arg)
	}
	if l.placed = placed; !placed {
		return l, nil
	}
	at, over, ranged := strings.Cut(at, " over ")
	if !ranged {
		at, l.unpacked = strings.CutSuffix(at, " unpacked")
	}
	if l.offset, err = parseBound(at); err == nil && ranged {
		var spans [][2]bound
		if spans, err = parseRanges(over); err == nil && len(spans) == 1 {
			l.span = spans[0]
			return l, nil
		}
	}
	if err != nil || !l.unpacked {
		return l, fmt.Errorf("layer \"length:%s\" is not length:TYPE@OFFSET over FROM..TO, nor length:TYPE@OFFSET unpacked", arg)
	}
	return l, nil
}

// cut takes data apart behind the number that it begins with: the content, and what follows that.
func (l length) cut(data []byte) (content, after []byte, err error) {
	if len(data) < l.kind.Size {
		return nil, nil, fmt.Errorf("%w: ends before its length", ErrDamaged)
	}
	n, rest := l.kind.number(data[:l.kind.Size]), data[l.kind.Size:]
	if n > uint64(len(rest)) {
		return nil, nil, fmt.Errorf("%w: %d bytes are there of the %d that it says", ErrDamaged, len(rest), n)
	}
	return rest[:n], rest[n:], nil
}

// at returns the bytes of a number that stands anywhere, and what it should say of a range.
func (l length) at(data []byte) (number []byte, want int64, err error) {
	short := fmt.Errorf("%w: too short for its length", ErrDamaged)
	at, ok := l.offset.in(data)
	if !ok || at+l.kind.Size > len(data) {
		return nil, 0, short
	}
	if !l.unpacked {
		from, ok1 := l.span[0].in(data)
		to, ok2 := l.span[1].in(data)
		if !ok1 || !ok2 || from > to {
			return nil, 0, short
		}
		want = int64(to - from)
	}
	return data[at : at+l.kind.Size], want, nil
}

// put returns data with the number made right; total is the size of the content once it is unwrapped.
func (l length) put(data []byte, total int64) ([]byte, error) {
	data = bytes.Clone(data)
	number, want, err := l.at(data)
	if err != nil {
		return nil, err
	}
	if l.unpacked {
		want = total
	}
	text, err := l.kind.Encode(strconv.FormatInt(want, 10), l.kind.Size)
	copy(number, text)
	return data, err
}
