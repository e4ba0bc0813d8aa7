package wrap

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io/fs"

	"github.com/klauspost/compress/flate"
)

// A zip is changed where it stands (APPNOTE.TXT 6.3.10): the packed bytes of one entry are replaced, and the numbers that follow from them are
// set. All other bytes stay: before the first entry, between entries, in extra fields and remarks, and behind the end.

const (
	localHead   = 30 // bytes of the head before an entry, without its name and extra field
	centralHead = 46 // bytes of its record in the directory at the end
	endRecord   = 22 // bytes of the record behind the directory, without its remark
	maxZip32    = 1<<32 - 2
)

var errZip64 = fmt.Errorf("a zip in the format for very large files %w", ErrNotWritable)

// zipRecord is the record of one entry in the directory: the places of the record and of the entry in the file.
type zipRecord struct{ at, entry int }

// zipPlaces finds the records of a zip's directory, and the record behind it.
func zipPlaces(data []byte) (records []zipRecord, end int, err error) {
	le := binary.LittleEndian
	broken := fmt.Errorf("%w: its directory is not where it should be", ErrDamaged)
	for end = len(data) - endRecord; ; end-- {
		if end < 0 {
			return nil, 0, broken
		}
		if string(data[end:end+4]) == "PK\x05\x06" && end+endRecord+int(le.Uint16(data[end+20:])) <= len(data) {
			break
		}
	}
	count, size, offset := int(le.Uint16(data[end+10:])), int(le.Uint32(data[end+12:])), int(le.Uint32(data[end+16:]))
	if count == 0xffff || offset == 1<<32-1 {
		return nil, 0, errZip64
	}
	at := end - size
	if at < 0 || at < offset {
		return nil, 0, broken
	}
	before := at - offset // bytes in front of the zip that its offsets do not count
	for range count {
		if at+centralHead > end || string(data[at:at+4]) != "PK\x01\x02" {
			return nil, 0, broken
		}
		entry := before + int(le.Uint32(data[at+42:]))
		if entry+localHead > len(data) || string(data[entry:entry+4]) != "PK\x03\x04" {
			return nil, 0, broken
		}
		records = append(records, zipRecord{at, entry})
		at += centralHead + int(le.Uint16(data[at+28:])) + int(le.Uint16(data[at+30:])) + int(le.Uint16(data[at+32:]))
	}
	return records, end, nil
}

// deflated is content as the flags of an entry say how hard it was packed (APPNOTE 4.4.4).
func deflated(content []byte, flags uint16) ([]byte, error) {
	var b bytes.Buffer
	w, err := flate.NewWriter(&b, []int{flate.DefaultCompression, flate.BestCompression, 2, flate.BestSpeed}[flags>>1&3])
	if err == nil {
		if _, err = w.Write(content); err == nil {
			err = w.Close()
		}
	}
	return b.Bytes(), err
}

// putZip is the original with another content of the entry that the layer names.
func (l Layer) putZip(content, original []byte) ([]byte, error) {
	f, err := l.zipEntry(original)
	if err != nil {
		return nil, err
	}
	records, end, err := zipPlaces(original)
	if err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	dataAt, err := f.DataOffset()
	if err != nil {
		return nil, err
	}
	if dataAt < 0 || dataAt+int64(f.CompressedSize64) > int64(end) {
		return nil, fmt.Errorf("%w: the entry %s does not end before the directory", ErrDamaged, f.Name)
	}
	if f.Flags&1 != 0 || f.CompressedSize64 > maxZip32 || f.UncompressedSize64 > maxZip32 {
		return nil, fmt.Errorf("the entry %s %w", f.Name, ErrNotWritable)
	}
	packed := content
	switch f.Method {
	case zip.Store:
	case zip.Deflate:
		if packed, err = deflated(content, f.Flags); err != nil {
			return nil, err
		}
	default:
		return nil, fmt.Errorf("the entry %s is packed in a way (%d) that %w", f.Name, f.Method, ErrNotWritable)
	}
	from, to := int(dataAt), int(dataAt)+int(f.CompressedSize64)
	out := append(append(bytes.Clone(original[:from]), packed...), original[to:]...)
	grown := len(packed) - (to - from)
	numbers := func(b []byte) {
		le.PutUint32(b, crc32.ChecksumIEEE(content))
		le.PutUint32(b[4:], uint32(len(packed)))
		le.PutUint32(b[8:], uint32(len(content)))
	}
	moved := func(at int) int {
		if at >= to {
			return at + grown
		}
		return at
	}
	for _, r := range records {
		at := moved(r.at)
		if r.entry >= to {
			le.PutUint32(out[at+42:], uint32(int(le.Uint32(out[at+42:]))+grown))
			continue
		}
		if head := r.entry + localHead + int(le.Uint16(out[r.entry+26:])) + int(le.Uint16(out[r.entry+28:])); head != from {
			continue
		}
		numbers(out[at+16:])
		if f.Flags&8 == 0 {
			numbers(out[r.entry+14:])
			continue
		}
		behind := to + grown // a descriptor holds the numbers, perhaps with a signature
		if string(out[behind:behind+4]) == "PK\x07\x08" {
			behind += 4
		}
		numbers(out[behind:])
		if le.Uint32(out[r.entry+18:]) != 0 { // and so does the head of some writers
			numbers(out[r.entry+14:])
		}
	}
	at := moved(end)
	le.PutUint32(out[at+16:], uint32(int(le.Uint32(out[at+16:]))+grown))
	return out, nil
}

// Entry is an entry of a zip that a layer does not name.
type Entry struct {
	Name    string
	Content []byte
}

// Others returns the entries of the file name of fsys beside the one that its outermost layer, a zip, names; for other layers it returns nil.
func (l Layers) Others(fsys fs.FS, name string, limits Limits) (others []Entry, err error) {
	if len(l.Chain) == 0 || l.Chain[0].Name != "zip" {
		return nil, nil
	}
	data, err := Layers{}.ReadFile(fsys, name, Limits{Decoded: MaxHeld})
	if err != nil {
		return nil, err
	}
	own, err := l.Chain[0].zipEntry(data)
	if err != nil {
		return nil, err
	}
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return nil, asDamage("zip", err)
	}
	left := min(limits.Decoded, MaxHeld)
	for _, f := range z.File {
		if f.Name == own.Name || f.FileInfo().IsDir() {
			continue
		}
		r, err := f.Open()
		if err != nil {
			return nil, asDamage("zip", err)
		}
		content, err := ReadAtMost(r, left)
		if err = errors.Join(err, r.Close()); err != nil {
			return nil, asDamage("zip", err)
		}
		left -= int64(len(content))
		others = append(others, Entry{f.Name, content})
	}
	return others, nil
}
