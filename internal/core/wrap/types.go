package wrap

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math"
	"strconv"
	"strings"
)

// Type is the type of a value in bytes: u8 u16le u16be u32le u32be u64le u64be i32le i32be f32le f32be f64le f64be cstr hexN asciiN.
type Type struct {
	kind string // without the order: u8, u16, u32, u64, i32, f32, f64, cstr, hex or ascii
	// Size is the size of a value, in bytes; for cstr, which ends with a zero, the largest.
	Size  int
	order binary.ByteOrder
}

// maxTypeSize bounds cstr, hexN and asciiN, in bytes.
const maxTypeSize = 64 << 10

var typeSizes = map[string]int{"u8": 1, "u16": 2, "u32": 4, "u64": 8, "i32": 4, "f32": 4, "f64": 8}

// ParseType reads a type as a description spells it.
func ParseType(s string) (Type, error) {
	if s == "cstr" {
		return Type{kind: s, Size: maxTypeSize}, nil
	}
	for _, kind := range []string{"hex", "ascii"} {
		if digits, ok := strings.CutPrefix(s, kind); ok {
			n, err := strconv.Atoi(digits)
			if err != nil || n < 1 || n > maxTypeSize {
				return Type{}, fmt.Errorf("%s takes a number of bytes up to %d", kind, maxTypeSize)
			}
			return Type{kind: kind, Size: n}, nil
		}
	}
	t := Type{kind: s, order: binary.LittleEndian}
	if name, ok := strings.CutSuffix(s, "be"); ok {
		t.kind, t.order = name, binary.BigEndian
	} else if name, ok := strings.CutSuffix(s, "le"); ok {
		t.kind = name
	}
	t.Size = typeSizes[t.kind]
	switch {
	case t.Size == 0 || t.Size == 1 && s != t.kind:
		return Type{}, fmt.Errorf("no type %q; there are u8 u16le u16be u32le u32be u64le u64be i32le i32be f32le f64le cstr hexN asciiN", s)
	case t.Size > 1 && s == t.kind:
		return Type{}, fmt.Errorf("say %sle or %sbe", s, s)
	}
	return t, nil
}

// Text reports whether a value is a text that ends with a zero, and so has no fixed length.
func (t Type) Text() bool { return t.kind == "cstr" }

// Whole reports whether a value is a whole number from 0 on.
func (t Type) Whole() bool { return strings.HasPrefix(t.kind, "u") }

// Span returns the size of the value that data begins with, in bytes, without the zero of cstr; ok is false if data is too short.
func (t Type) Span(data []byte) (n int, ok bool) {
	if t.Text() {
		n = bytes.IndexByte(data[:min(len(data), t.Size)], 0)
		return n, n >= 0
	}
	return t.Size, len(data) >= t.Size
}

// Decode is the value of bytes that Span has measured, as text.
func (t Type) Decode(b []byte) string {
	switch t.kind {
	case "u8", "u16", "u32", "u64":
		return strconv.FormatUint(t.number(b), 10)
	case "i32":
		return strconv.Itoa(int(int32(t.order.Uint32(b))))
	case "f32":
		return strconv.FormatFloat(float64(math.Float32frombits(t.order.Uint32(b))), 'g', -1, 32)
	case "f64":
		return strconv.FormatFloat(math.Float64frombits(t.order.Uint64(b)), 'g', -1, 64)
	case "hex":
		return hex.EncodeToString(b)
	case "ascii":
		return strings.TrimRight(string(b), "\x00 ")
	}
	return string(b)
}

func (t Type) number(b []byte) uint64 {
	switch len(b) {
	case 1:
		return uint64(b[0])
	case 2:
		return uint64(t.order.Uint16(b))
	case 4:
		return uint64(t.order.Uint32(b))
	}
	return t.order.Uint64(b)
}

// Encode is a value as size bytes; texts are filled up with zeros. The error wraps ErrNotWritable.
func (t Type) Encode(value string, size int) ([]byte, error) {
	b := make([]byte, size)
	tooLarge := fmt.Errorf("%q does not fit into %d bytes: %w", value, size, ErrNotWritable)
	switch t.kind {
	case "u8", "u16", "u32", "u64":
		n, err := strconv.ParseUint(value, 10, 8*size)
		if err != nil {
			return nil, tooLarge
		}
		t.put(b, n)
	case "i32":
		n, err := strconv.ParseInt(value, 10, 32)
		if err != nil {
			return nil, tooLarge
		}
		t.put(b, uint64(uint32(n)))
	case "f32", "f64":
		x, err := strconv.ParseFloat(value, 8*size)
		if err != nil || math.IsNaN(x) || math.IsInf(x, 0) {
			return nil, fmt.Errorf("%q is no number: %w", value, ErrNotWritable)
		}
		if size == 4 {
			t.put(b, uint64(math.Float32bits(float32(x))))
		} else {
			t.put(b, math.Float64bits(x))
		}
	case "hex":
		raw, err := hex.DecodeString(value)
		if err != nil || len(raw) > size {
			return nil, tooLarge
		}
		copy(b, raw)
	case "ascii":
		if len(value) > size || strings.IndexFunc(value, func(r rune) bool { return r >= 0x80 }) >= 0 {
			return nil, tooLarge
		}
		copy(b, value)
	case "cstr":
		if len(value) > size || strings.Contains(value, "\x00") {
			return nil, fmt.Errorf("%q is longer than the %d bytes that stand there: %w", value, size, ErrNotWritable)
		}
		copy(b, value)
	}
	return b, nil
}

func (t Type) put(b []byte, n uint64) {
	switch len(b) {
	case 1:
		b[0] = byte(n)
	case 2:
		t.order.PutUint16(b, uint16(n))
	case 4:
		t.order.PutUint32(b, uint32(n))
	default:
		t.order.PutUint64(b, n)
	}
}

// Part is one part of a record: a name and a type. A part called data without a type is the content of a chunk.
type Part struct {
	Name string
	Type Type
}

// ParseParts reads the parts of a record as a description spells them: "tag:4 length:u32be". A number alone is a text of that many bytes.
func ParseParts(s string) ([]Part, error) {
	var parts []Part
	for _, word := range strings.Fields(s) {
		name, kind, has := strings.Cut(word, ":")
		if name == "data" && !has {
			parts = append(parts, Part{Name: name})
			continue
		}
		if _, err := strconv.Atoi(kind); err == nil {
			kind = "ascii" + kind
		}
		t, err := ParseType(kind)
		if err != nil || name == "" {
			return nil, fmt.Errorf("%q is not NAME:TYPE", word)
		}
		parts = append(parts, Part{name, t})
	}
	return parts, nil
}

// ReadParts reads parts one after the other, and returns their values by their names and how many bytes they take.
func ReadParts(data []byte, parts []Part) (values map[string]string, size int, err error) {
	values = map[string]string{}
	for _, p := range parts {
		n, ok := p.Type.Span(data[size:])
		if !ok {
			return nil, 0, fmt.Errorf("%w: ends inside %s", ErrDamaged, p.Name)
		}
		values[p.Name] = p.Type.Decode(data[size : size+n])
		if size += n; p.Type.Text() {
			size++
		}
	}
	return values, size, nil
}
