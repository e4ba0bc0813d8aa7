package form

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"strconv"
	"strings"
)

// bytesDoc is asked "OFFSET:TYPE"; OFFSET counts from zero, or from the end when negative.
type bytesDoc []byte

// maxBytesField bounds cstr, hexN and asciiN, in bytes.
const maxBytesField = 64 << 10

type bytesQuery struct {
	offset int64
	kind   string // u8, u16, u32, u64, i32, f32, f64, cstr, hex or ascii
	size   int    // bytes; for cstr the most
	order  binary.ByteOrder
	grows  bool // a text that may take another length
}

func compileBytes(query string) (bytesQuery, error) {
	at, kind, ok := strings.Cut(query, ":")
	offset, err := strconv.ParseInt(at, 0, 64)
	if !ok || err != nil {
		return bytesQuery{}, fmt.Errorf("%q is not OFFSET:TYPE", query)
	}
	q := bytesQuery{offset: offset, order: binary.LittleEndian}
	if strings.HasSuffix(kind, "be") {
		q.order = binary.BigEndian
	}
	q.kind = strings.TrimSuffix(strings.TrimSuffix(kind, "le"), "be")
	switch q.kind {
	case "u8":
		q.size = 1
	case "u16":
		q.size = 2
	case "u32", "i32", "f32":
		q.size = 4
	case "u64", "f64":
		q.size = 8
	case "cstr":
		q.size = maxBytesField
	default:
		for _, prefix := range []string{"hex", "ascii"} {
			if digits, ok := strings.CutPrefix(kind, prefix); ok {
				n, err := strconv.Atoi(digits)
				if err != nil || n < 1 || n > maxBytesField {
					return q, fmt.Errorf("%q: %s takes a number of bytes up to %d", query, prefix, maxBytesField)
				}
				q.kind, q.size = prefix, n
				return q, nil
			}
		}
		return q, fmt.Errorf("%q: no type %q; there are u8 u16le u16be u32le u32be u64le u64be i32le i32be f32le f64le cstr hexN asciiN", query, kind)
	}
	if q.size > 1 && q.kind != "cstr" && kind == q.kind {
		return q, fmt.Errorf("%q: say %sle or %sbe", query, kind, kind)
	}
	return q, nil
}

func (d bytesDoc) Value(_ context.Context, query string) (string, bool, error) {
	q, err := compileBytes(query)
	if err != nil {
		return "", false, err
	}
	offset := q.offset
	if offset < 0 {
		offset += int64(len(d))
	}
	if offset < 0 || offset > int64(len(d)) {
		return "", false, nil
	}
	rest := d[offset:]
	if q.kind == "cstr" {
		rest = rest[:min(len(rest), q.size)]
		i := bytes.IndexByte(rest, 0)
		if i < 0 {
			return "", false, nil
		}
		return string(rest[:i]), true, nil
	}
	if len(rest) < q.size {
		return "", false, nil
	}
	b := rest[:q.size]
	switch q.kind {
	case "u8":
		return strconv.Itoa(int(b[0])), true, nil
	case "u16":
		return strconv.Itoa(int(q.order.Uint16(b))), true, nil
	case "u32":
		return strconv.FormatUint(uint64(q.order.Uint32(b)), 10), true, nil
	case "i32":
		return strconv.Itoa(int(int32(q.order.Uint32(b)))), true, nil
	case "u64":
		return strconv.FormatUint(q.order.Uint64(b), 10), true, nil
	case "f32":
		return strconv.FormatFloat(float64(math.Float32frombits(q.order.Uint32(b))), 'g', -1, 32), true, nil
	case "f64":
		return strconv.FormatFloat(math.Float64frombits(q.order.Uint64(b)), 'g', -1, 64), true, nil
	case "hex":
		return hex.EncodeToString(b), true, nil
	default:
		return strings.TrimRight(string(b), "\x00 "), true, nil
	}
}

func (d bytesDoc) Each(context.Context, string) ([]Doc, error) {
	return nil, errors.New("the form bytes has no lists")
}

func (d bytesDoc) Close() error { return nil }
