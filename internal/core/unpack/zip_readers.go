package unpack

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
)

// A zip says twice what is in it: in a directory at its end, by which most readers go, and in a header before each content, by which those go that
// read it as a stream. Here the two are held against each other, by PKWARE's APPNOTE.TXT 6.3.10, so that no reader sees what was not judged.

// record is one entry of a zip's directory, with where its local header stands.
type record struct {
	name           []byte
	extra          []byte
	flags, method  uint16
	crc            uint32
	packed, size   uint64
	offset, follow int64 // of the local header, and the end of its content and of what describes it behind
}

// checkZip holds the zip's directory against what stands before each file's content. Contents that share bytes are a way to make a small zip
// unpack to much.
func (d *Download) checkZip(f io.ReaderAt, size int64) error {
	records, begin, err := zipDirectory(f, size)
	if err != nil {
		d.hazard(d.Name, "has a directory that readers understand in different ways: "+err.Error())
		return nil
	}
	for i := range records {
		r := &records[i]
		if why := r.check(f, size); why != "" {
			d.hazard(string(r.name), why)
		}
	}
	slices.SortFunc(records, func(a, b record) int { return int(min(max(a.offset-b.offset, -1), 1)) })
	end := int64(0)
	for i, r := range append(records, record{offset: begin}) {
		if i > 0 && end > r.offset {
			d.hazard(string(r.name), fmt.Sprintf("shares its content with %s", records[i-1].name))
			return nil
		}
		hidden, err := holdsHeader(f, end, r.offset)
		if err != nil {
			return d.unread(d.Name, "the zip cannot be read: ", err)
		}
		if hidden {
			d.hazard(d.Name, "holds files that its directory does not name and that some readers unpack")
			return nil
		}
		end = r.follow
	}
	return nil
}

const (
	localHeader = "PK\x03\x04"
	descriptor  = "PK\x07\x08"
)

// holdsHeader reports whether the header of a file stands anywhere in a part of a zip that no file of its directory takes.
func holdsHeader(f io.ReaderAt, from, to int64) (bool, error) {
	buf := make([]byte, min(64<<10, max(to-from, 0)))
	for to-from >= int64(len(localHeader)) {
		n := min(int64(len(buf)), to-from)
		if _, err := f.ReadAt(buf[:n], from); err != nil {
			return false, err
		}
		if bytes.Contains(buf[:n], []byte(localHeader)) {
			return true, nil
		}
		from += n - int64(len(localHeader)) + 1
	}
	return false, nil
}

var errDirectory = errors.New("it is cut or overlaps the files")

// zipDirectory reads the directory (APPNOTE 4.3.12 to 4.3.16), and returns where it begins.
func zipDirectory(f io.ReaderAt, size int64) (records []record, begin int64, err error) {
	tail := make([]byte, min(size, maxZipTail))
	if _, err := f.ReadAt(tail, size-int64(len(tail))); err != nil && err != io.EOF {
		return nil, 0, err
	}
	le := binary.LittleEndian
	at := bytes.LastIndex(tail, []byte("PK\x05\x06"))
	if at < 0 || at+22 > len(tail) {
		return nil, 0, errDirectory
	}
	if behind := at + 22 + int(le.Uint16(tail[at+20:])); behind > len(tail) || len(bytes.Trim(tail[behind:], "\x00")) > 0 { // packers that write to tapes fill the last block
		return nil, 0, errors.New("something stands behind its end")
	}
	end := size - int64(len(tail)) + int64(at)
	count, length, offset := uint64(le.Uint16(tail[at+10:])), uint64(le.Uint32(tail[at+12:])), uint64(le.Uint32(tail[at+16:]))
	many := uint64(1 << 16) // what the number of files is counted by
	if locator := at - 20; locator >= 0 && bytes.HasPrefix(tail[locator:], []byte("PK\x06\x07")) {
		var big [56]byte
		where := le.Uint64(tail[locator+8:])
		if _, err := f.ReadAt(big[:], int64(where)); err != nil || !bytes.HasPrefix(big[:], []byte("PK\x06\x06")) {
			return nil, 0, errDirectory
		}
		if length != 0xffffffff && length != le.Uint64(big[40:]) || offset != 0xffffffff && offset != le.Uint64(big[48:]) || count != 0xffff && count != le.Uint64(big[32:]) {
			return nil, 0, errors.New("its two ends say different things")
		}
		count, length, offset, many = le.Uint64(big[32:]), le.Uint64(big[40:]), le.Uint64(big[48:]), 0
		end = int64(where)
	}
	if length > maxDirectory || int64(offset) < 0 || int64(offset+length) != end {
		return nil, 0, errDirectory
	}
	directory := make([]byte, length)
	if _, err := f.ReadAt(directory, int64(offset)); err != nil && err != io.EOF {
		return nil, 0, errDirectory
	}
	n := uint64(0)
	for ; len(directory) > 0 && len(records) <= MaxEntries; n++ {
		if len(directory) < 46 || !bytes.HasPrefix(directory, []byte("PK\x01\x02")) {
			return nil, 0, errDirectory
		}
		name, extra, comment := int(le.Uint16(directory[28:])), int(le.Uint16(directory[30:])), int(le.Uint16(directory[32:]))
		if len(directory) < 46+name+extra+comment {
			return nil, 0, errDirectory
		}
		r := record{
			name: directory[46 : 46+name], extra: directory[46+name : 46+name+extra], flags: le.Uint16(directory[8:]), method: le.Uint16(directory[10:]), crc: le.Uint32(directory[16:]),
			packed: uint64(le.Uint32(directory[20:])), size: uint64(le.Uint32(directory[24:])), offset: int64(le.Uint32(directory[42:])),
		}
		if !zip64(r.extra, &r.size, &r.packed, &r.offset) {
			return nil, 0, fmt.Errorf("%q has sizes that do not go together", r.name)
		}
		records = append(records, r)
		directory = directory[46+name+extra+comment:]
	}
	if whole := len(directory) == 0; whole && (many > 0 && n%many != count || many == 0 && n != count) {
		return nil, 0, fmt.Errorf("it has %d files and says that it has %d", n, count)
	}
	return records, int64(offset), nil
}

// maxDirectory bounds a zip's directory, in bytes.
const maxDirectory = 64 << 20

// zip64 takes the values that do not fit 32 bits from the extra field (APPNOTE 4.5.3): in this order those that are all ones. It reports whether
// there is only one way to understand the field: some readers take the first numbers in it, whatever the others say.
func zip64(extra []byte, size, packed *uint64, offset *int64) bool {
	le := binary.LittleEndian
	field, there := extraField(extra, 1)
	if !there {
		return true
	}
	var values []uint64
	for ; len(field) >= 8; field = field[8:] {
		values = append(values, le.Uint64(field))
	}
	at := uint64(*offset)
	all := []*uint64{size, packed, &at}
	next, missing := 0, false
	for _, v := range all {
		if *v != 0xffffffff {
			continue
		}
		if missing = missing || next == len(values); !missing {
			*v = values[next]
		}
		next++
	}
	*offset = int64(at)
	if next == len(values) || len(values) == 0 {
		return !missing
	}
	for i, v := range values[:min(len(values), len(all))] { // all of them, though not all are wanted
		if v != *all[i] {
			return false
		}
	}
	return !missing
}

// extraField is the content of the first field of an id.
func extraField(extra []byte, id uint16) ([]byte, bool) {
	le := binary.LittleEndian
	for len(extra) >= 4 {
		n := int(le.Uint16(extra[2:]))
		if n > len(extra)-4 {
			break
		}
		if le.Uint16(extra) == id {
			return extra[4 : 4+n], true
		}
		extra = extra[4+n:]
	}
	return nil, false
}

// check says how the header before the content, or what describes it behind, differs from the directory, or is "" where nothing does.
func (r *record) check(f io.ReaderAt, size int64) string {
	if r.offset < 0 || r.offset > size-30 {
		return "begins outside the download"
	}
	head := make([]byte, min(int64(30+len(r.name)+64), size-r.offset))
	if _, err := f.ReadAt(head, r.offset); err != nil || !bytes.HasPrefix(head, []byte(localHeader)) {
		return "has no header before its content"
	}
	le := binary.LittleEndian
	name, extra := int(le.Uint16(head[26:])), int(le.Uint16(head[28:]))
	begin := 30 + name + extra
	r.follow = r.offset + int64(begin) + int64(r.packed)
	if r.follow < r.offset || r.follow > size {
		return "reaches beyond the end of the download"
	}
	if begin > len(head) {
		head = make([]byte, begin)
		if _, err := f.ReadAt(head, r.offset); err != nil {
			return "has no header before its content"
		}
	}
	if name != len(r.name) || !bytes.Equal(head[30:30+name], r.name) {
		return "is called something else in the header before its content"
	}
	there, _ := extraField(head[30+name:begin], unicodePath)
	here, _ := extraField(r.extra, unicodePath)
	if there != nil && !bytes.Equal(there, here) {
		return "is called something else in the header before its content"
	}
	if le.Uint16(head[8:]) != r.method || le.Uint16(head[6:])&1 != r.flags&1 {
		return "is packed in another way in the header before its content"
	}
	crc, packed, unpacked, none := le.Uint32(head[14:]), uint64(le.Uint32(head[18:])), uint64(le.Uint32(head[22:])), int64(0)
	later := le.Uint16(head[6:])&8 != 0 // they come behind the content; some packers put them here, too
	if !zip64(head[30+name:begin], &unpacked, &packed, &none) && !later {
		return "has another size in the header before its content"
	}
	same := func(says, is uint64) bool { return says == is || later && (says == 0 || says == 0xffffffff) }
	if !same(packed, r.packed) || !same(unpacked, r.size) || !same(uint64(crc), uint64(r.crc)) {
		return "has another size or checksum in the header before its content"
	}
	if later {
		return r.checkDescriptor(f, size)
	}
	return ""
}

// checkDescriptor passes over what describes a content behind it (APPNOTE 4.3.9): with or without its mark, and with sizes of four or eight bytes.
func (r *record) checkDescriptor(f io.ReaderAt, size int64) string {
	behind := make([]byte, min(24, size-r.follow))
	if _, err := f.ReadAt(behind, r.follow); err != nil && err != io.EOF {
		return "reaches beyond the end of the download"
	}
	le := binary.LittleEndian
	rest, marked := bytes.CutPrefix(behind, []byte(descriptor))
	mark := int64(len(behind) - len(rest))
	switch {
	case len(rest) >= 20 && le.Uint32(rest) == r.crc && le.Uint64(rest[4:]) == r.packed && le.Uint64(rest[12:]) == r.size:
		r.follow += mark + 20
	case len(rest) >= 12 && le.Uint32(rest) == r.crc && uint64(le.Uint32(rest[4:])) == r.packed&0xffffffff && uint64(le.Uint32(rest[8:])) == r.size&0xffffffff:
		r.follow += mark + 12
	case marked:
		return "has another size or checksum behind its content"
	}
	return ""
}
