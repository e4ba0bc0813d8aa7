package unpacktest

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"strings"
)

// Raw is a stored file of a zip, with what its two headers say of it otherwise than it is.
type Raw struct {
	File
	// Local changes the header before the content, and Central that in the directory, before they are written.
	Local, Central func(h *RawHeader)
	// Before are bytes before the local header, and Behind those behind the content.
	Before, Behind string
}

// RawHeader is what a header of a zip says of a file (APPNOTE 4.3.7, 4.3.12).
type RawHeader struct {
	Name          string
	Extra         []byte
	Flags, Method uint16
	CRC           uint32
	Packed, Size  uint32
	Made          uint16 // by which system, in the higher byte
	Attributes    uint32
}

// RawEnd is what the end of a zip says (APPNOTE 4.3.16).
type RawEnd struct {
	Count        uint16
	Size, Offset uint32
	Before       string // behind the directory
}

func (h *RawHeader) common() []byte {
	le := binary.LittleEndian
	b := le.AppendUint16(nil, h.Flags)
	b = le.AppendUint16(b, h.Method)
	b = le.AppendUint32(b, 0x5a21_9000)
	for _, v := range []uint32{h.CRC, h.Packed, h.Size} {
		b = le.AppendUint32(b, v)
	}
	b = le.AppendUint16(b, uint16(len(h.Name)))
	return le.AppendUint16(b, uint16(len(h.Extra)))
}

// LocalFile is a file as it stands in a zip, with the header before it.
func LocalFile(f File) string { return string(RawZip(nil, Raw{File: f}))[:30+len(f[0])+len(f[1])] }

// RawZip packs files, as they say. change, where it is not nil, changes the end.
func RawZip(change func(*RawEnd), files ...Raw) []byte {
	le := binary.LittleEndian
	var b, directory bytes.Buffer
	for _, f := range files {
		h := RawHeader{Name: f.File[0], CRC: crc32.ChecksumIEEE([]byte(f.File[1])), Packed: uint32(len(f.File[1])), Size: uint32(len(f.File[1]))}
		local, central := h, h
		if f.Local != nil {
			f.Local(&local)
		}
		if f.Central != nil {
			f.Central(&central)
		}
		b.WriteString(f.Before)
		at := uint32(b.Len())
		b.WriteString("PK\x03\x04\x14\x00")
		b.Write(local.common())
		b.WriteString(local.Name)
		b.Write(local.Extra)
		b.WriteString(f.File[1] + f.Behind)
		directory.WriteString("PK\x01\x02")
		directory.Write(le.AppendUint16(nil, central.Made|20))
		directory.WriteString("\x14\x00")
		directory.Write(central.common())
		directory.Write(make([]byte, 6)) // comment, disk, internal attributes
		directory.Write(le.AppendUint32(le.AppendUint32(nil, central.Attributes), at))
		directory.WriteString(central.Name)
		directory.Write(central.Extra)
	}
	end := RawEnd{Count: uint16(len(files)), Size: uint32(directory.Len()), Offset: uint32(b.Len())}
	if change != nil {
		change(&end)
	}
	b.Write(directory.Bytes())
	b.WriteString(end.Before)
	b.WriteString("PK\x05\x06\x00\x00\x00\x00")
	b.Write(le.AppendUint16(le.AppendUint16(nil, end.Count), end.Count))
	b.Write(le.AppendUint16(le.AppendUint32(le.AppendUint32(nil, end.Size), end.Offset), 0))
	return b.Bytes()
}

// Extra is an extra field of a zip.
func Extra(id uint16, content []byte) []byte {
	b := binary.LittleEndian.AppendUint16(nil, id)
	return append(binary.LittleEndian.AppendUint16(b, uint16(len(content))), content...)
}

// Zip64 is the extra field with sizes that need more than 32 bits.
func Zip64(values ...uint64) []byte {
	var b []byte
	for _, v := range values {
		b = binary.LittleEndian.AppendUint64(b, v)
	}
	return Extra(1, b)
}

// UnicodePath is the extra field that gives a file, which has another name in the header, its name in UTF-8.
func UnicodePath(header, name string) []byte {
	return Extra(0x7075, append(binary.LittleEndian.AppendUint32([]byte{1}, crc32.ChecksumIEEE([]byte(header))), name...))
}

// Described is the descriptor behind a content (APPNOTE 4.3.9).
func Described(content string) string {
	b := binary.LittleEndian.AppendUint32([]byte("PK\x07\x08"), crc32.ChecksumIEEE([]byte(content)))
	b = binary.LittleEndian.AppendUint32(b, uint32(len(content)))
	return string(binary.LittleEndian.AppendUint32(b, uint32(len(content))))
}

// SevenZip packs files into a 7z, stored, each in a block of its own (7-Zip, DOC/7zFormat.txt).
func SevenZip(files ...File) []byte {
	var content bytes.Buffer
	number := func(b []byte, n int) []byte { // of up to four bytes
		return binary.LittleEndian.AppendUint32(append(b, 0xf0), uint32(n))
	}
	h := []byte{1, 4, 6, 0} // header, streams, where they are packed
	h = append(number(h, len(files)), 9)
	for _, f := range files {
		content.WriteString(f[1])
		h = number(h, len(f[1]))
	}
	h = append(h, 0, 7, 11) // blocks
	h = append(number(h, len(files)), 0)
	for range files {
		h = append(h, 1, 1, 0) // one packer: none
	}
	h = append(h, 12)
	for _, f := range files {
		h = number(h, len(f[1]))
	}
	h = append(h, 0, 8, 10, 1) // of the streams in the blocks the checksums of all
	for _, f := range files {
		h = binary.LittleEndian.AppendUint32(h, crc32.ChecksumIEEE([]byte(f[1])))
	}
	h = append(h, 0, 0, 5) // files
	h = append(number(h, len(files)), 17)
	names := []byte{0}
	for _, f := range files {
		for _, c := range f[0] + "\x00" {
			names = binary.LittleEndian.AppendUint16(names, uint16(c))
		}
	}
	h = append(append(number(h, len(names)), names...), 0, 0)
	start := binary.LittleEndian.AppendUint64(nil, uint64(content.Len()))
	start = binary.LittleEndian.AppendUint64(start, uint64(len(h)))
	start = binary.LittleEndian.AppendUint32(start, crc32.ChecksumIEEE(h))
	b := binary.LittleEndian.AppendUint32([]byte("7z\xbc\xaf\x27\x1c\x00\x04"), crc32.ChecksumIEEE(start))
	return append(append(append(b, start...), content.Bytes()...), h...)
}

// redirections are what a RAR 5 says that a path leads to something else by (its file header's extra area, record 5), by how a File's content
// begins.
var redirections = map[string]uint64{"-> ": 1, "w> ": 2, "j> ": 3, "h> ": 4, "c> ": 5}

// redirected is the extra area of a file of a RAR 5 that is a link, and nil of others.
func redirected(content string) []byte {
	if len(content) < 3 || redirections[content[:3]] == 0 {
		return nil
	}
	target := strings.TrimSpace(content[3:])
	record := binary.AppendUvarint([]byte{5}, redirections[content[:3]])
	record = append(binary.AppendUvarint(append(record, 0), uint64(len(target))), target...)
	return append(binary.AppendUvarint(nil, uint64(len(record))), record...)
}
