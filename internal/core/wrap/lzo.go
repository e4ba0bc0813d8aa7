package wrap

import (
	"encoding/binary"
	"fmt"
)

// lzo1x unpacks one LZO1X block, at most limit bytes. Source of the format: "LZO stream format as understood by Linux's LZO decompressor" in the
// kernel's documentation (Documentation/staging/lzo.rst). It checks every copy against the bytes unpacked so far.
func lzo1x(in []byte, limit int64) ([]byte, error) {
	d := lzoReader{in: in, limit: limit}
	if err := d.run(); err != nil {
		return nil, err
	}
	return d.out, nil
}

type lzoReader struct {
	in    []byte
	at    int
	out   []byte
	limit int64
	// state is the number of literals that the last instruction copied: 0 to 3, or 4 for more.
	state int
}

var errLZO = fmt.Errorf("%w: not an LZO block", ErrDamaged)

func (d *lzoReader) byte() (int, error) {
	if d.at >= len(d.in) {
		return 0, errLZO
	}
	d.at++
	return int(d.in[d.at-1]), nil
}

// long reads a length that did not fit its bits: zero bytes of 255 each, then the rest.
func (d *lzoReader) long(base int) (int, error) {
	for {
		b, err := d.byte()
		if err != nil {
			return 0, err
		}
		if b != 0 {
			return base + b, nil
		}
		if base += 255; int64(base) > d.limit {
			return 0, ErrTooLarge
		}
	}
}

func (d *lzoReader) literals(n int) error {
	switch {
	case d.at+n > len(d.in):
		return errLZO
	case int64(len(d.out)+n) > d.limit:
		return ErrTooLarge
	}
	d.out = append(d.out, d.in[d.at:d.at+n]...)
	d.at += n
	return nil
}

func (d *lzoReader) match(distance, length int) error {
	switch {
	case distance > len(d.out):
		return errLZO
	case int64(len(d.out)+length) > d.limit:
		return ErrTooLarge
	}
	for range length { // may overlap what it writes
		d.out = append(d.out, d.out[len(d.out)-distance])
	}
	return nil
}

func (d *lzoReader) run() error {
	if len(d.in) > 0 && d.in[0] > 17 { // the first byte may be a number of literals
		d.at = 1
		n := int(d.in[0]) - 17
		if err := d.literals(n); err != nil {
			return err
		}
		d.state = min(n, 4)
	}
	for {
		op, err := d.byte()
		if err != nil {
			return err
		}
		if op < 16 && d.state == 0 {
			n := op + 3
			if op == 0 {
				if n, err = d.long(18); err != nil {
					return err
				}
			}
			if err := d.literals(n); err != nil {
				return err
			}
			d.state = 4
			continue
		}
		end, err := d.reference(op)
		if end || err != nil {
			return err
		}
	}
}

// reference copies from before, and then up to three literals. It reports the end of the block.
func (d *lzoReader) reference(op int) (end bool, err error) {
	var length, distance, low int
	switch {
	case op >= 64:
		h, err := d.byte()
		if err != nil {
			return false, err
		}
		length, distance, low = op>>5+1, h<<3+op>>2&7+1, op
	case op >= 16:
		mask, base := 31, 1
		if op < 32 {
			mask, base = 7, 0x4000
		}
		if length = op&mask + 2; length == 2 {
			if length, err = d.long(mask + 2); err != nil {
				return false, err
			}
		}
		if d.at+2 > len(d.in) {
			return false, errLZO
		}
		low = int(d.in[d.at]) | int(d.in[d.at+1])<<8
		d.at += 2
		distance = base + low>>2
		if op < 32 {
			if distance += op & 8 << 11; distance == 0x4000 {
				return true, nil
			}
		}
	default: // op < 16 after literals
		h, err := d.byte()
		if err != nil {
			return false, err
		}
		length, distance, low = 2, h<<2+op>>2+1, op
		if d.state == 4 {
			length, distance = 3, distance+0x800
		}
	}
	if err := d.match(distance, length); err != nil {
		return false, err
	}
	d.state = low & 3
	return false, d.literals(d.state)
}

const (
	// lzoFar is the largest distance of a copy, and lzoNear that of one with more room for its length, in bytes.
	lzoFar  = 0xbfff
	lzoNear = 0x4000
	// lzoLeast is the shortest copy that is looked for.
	lzoLeast = 4
	lzoHash  = 14 // bits
)

// lzo1xOf packs a content into one LZO1X block, of literals and of copies from the last place where the same four bytes stood.
func lzo1xOf(content []byte) []byte {
	w := lzoWriter{out: make([]byte, 0, len(content)/2+16)}
	var last [1 << lzoHash]int32 // places, from 1
	from := 0                    // of the literals that are still to be written
	for at := 0; at+lzoLeast <= len(content); {
		h := binary.LittleEndian.Uint32(content[at:]) * 2654435761 >> (32 - lzoHash)
		before := int(last[h]) - 1
		last[h] = int32(at + 1)
		length := 0
		if before >= 0 && at-before <= lzoFar {
			for at+length < len(content) && content[before+length] == content[at+length] {
				length++
			}
		}
		if length < lzoLeast {
			at++
			continue
		}
		w.literals(content[from:at])
		w.copy(at-before, length)
		at += length
		from = at
	}
	w.literals(content[from:])
	return append(w.out, 17, 0, 0)
}

type lzoWriter struct {
	out  []byte
	low  int // place of the number of literals after the last copy, if they are fewer than four
	some bool
}

// long writes what a length has more than fits its bits.
func (w *lzoWriter) long(n int) {
	for ; n > 255; n -= 255 {
		w.out = append(w.out, 0)
	}
	w.out = append(w.out, byte(n))
}

func (w *lzoWriter) literals(text []byte) {
	n := len(text)
	switch {
	case n == 0:
	case !w.some && n <= 238:
		w.out = append(w.out, byte(17+n))
	case n < 4:
		w.out[w.low] |= byte(n)
	case n <= 18:
		w.out = append(w.out, byte(n-3))
	default:
		w.out = append(w.out, 0)
		w.long(n - 18)
	}
	w.some = w.some || n > 0
	w.out = append(w.out, text...)
}

func (w *lzoWriter) copy(distance, length int) {
	op, mask := 32, 31
	if distance > lzoNear {
		distance -= lzoNear
		op, mask = 16|distance>>11&8, 7
	} else {
		distance--
	}
	if length-2 <= mask {
		w.out = append(w.out, byte(op|(length-2)))
	} else {
		w.out = append(w.out, byte(op))
		w.long(length - 2 - mask)
	}
	w.low, w.some = len(w.out), true
	w.out = binary.LittleEndian.AppendUint16(w.out, uint16(distance&0x3fff<<2))
}
