// Package unpacktest makes downloads for tests, good and hostile ones, in every kind of archive that package unpack reads.
package unpacktest

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"hash/crc32"
	"io/fs"
	"strings"
	"testing"

	"github.com/klauspost/compress/zip"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
)

// File is one file of a download: its name, and its content; content that begins "-> " makes it a link.
type File [2]string

// Zip packs files into a zip, in order.
func Zip(t testing.TB, files ...File) []byte {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, f := range files {
		h := &zip.FileHeader{Name: f[0], Method: zip.Deflate}
		if strings.HasPrefix(f[1], "-> ") {
			h.SetMode(fs.ModeSymlink | 0o777)
		}
		e, err := w.CreateHeader(h)
		require.NoError(t, err)
		_, err = e.Write([]byte(f[1]))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	return b.Bytes()
}

// Tar packs files into a tar, or a tar.gz.
func Tar(t testing.TB, zipped bool, files ...File) []byte {
	var b, out bytes.Buffer
	w := tar.NewWriter(&b)
	for _, f := range files {
		h := &tar.Header{Name: f[0], Size: int64(len(f[1])), Mode: 0o644, Typeflag: tar.TypeReg, Format: tar.FormatPAX}
		if target, ok := strings.CutPrefix(f[1], "-> "); ok {
			h.Typeflag, h.Linkname, h.Size, f[1] = tar.TypeSymlink, target, 0, ""
		}
		require.NoError(t, w.WriteHeader(h))
		_, err := w.Write([]byte(f[1]))
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	if !zipped {
		return b.Bytes()
	}
	z := gzip.NewWriter(&out)
	_, err := z.Write(b.Bytes())
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return out.Bytes()
}

// Rar4 writes a RAR 4 archive of stored files (RAR technical note, version 4.x).
func Rar4(files ...File) []byte {
	b := []byte("Rar!\x1a\x07\x00")
	block := func(kind byte, flags uint16, fields []byte) {
		head := binary.LittleEndian.AppendUint16([]byte{kind}, flags)
		head = binary.LittleEndian.AppendUint16(head, uint16(7+len(fields)))
		head = append(head, fields...)
		b = binary.LittleEndian.AppendUint16(b, uint16(crc32.ChecksumIEEE(head)))
		b = append(b, head...)
	}
	le := binary.LittleEndian
	block(0x73, 0, make([]byte, 6))
	for _, f := range files {
		fields := le.AppendUint32(nil, uint32(len(f[1])))
		fields = le.AppendUint32(fields, uint32(len(f[1])))
		fields = append(fields, 3) // Unix
		fields = le.AppendUint32(fields, crc32.ChecksumIEEE([]byte(f[1])))
		fields = le.AppendUint32(fields, 0x5a21_9000)
		fields = append(fields, 20, 0x30) // version, stored
		fields = le.AppendUint16(fields, uint16(len(f[0])))
		fields = le.AppendUint32(fields, 0o100644)
		block(0x74, 0x8000, append(fields, f[0]...))
		b = append(b, f[1]...)
	}
	block(0x7b, 0x4000, nil)
	return b
}

// Rar5 writes a RAR 5 archive of stored files (RAR 5.0 archive format).
func Rar5(files ...File) []byte {
	b := []byte("Rar!\x1a\x07\x01\x00")
	block := func(body []byte, data string) {
		head := binary.AppendUvarint(nil, uint64(len(body)))
		head = append(head, body...)
		b = binary.LittleEndian.AppendUint32(b, crc32.ChecksumIEEE(head))
		b = append(append(b, head...), data...)
	}
	block([]byte{1, 0, 0}, "")
	for _, f := range files {
		extra := redirected(f[1])
		body, content := []byte{2, 2}, f[1] // a File, with data
		if extra != nil {
			body[1], content = 3, ""
			body = binary.AppendUvarint(body, uint64(len(extra)))
		}
		body = binary.AppendUvarint(body, uint64(len(content)))
		body = append(body, 4) // has a CRC-32
		body = binary.AppendUvarint(body, uint64(len(content)))
		body = binary.AppendUvarint(body, 0o100644)
		body = binary.LittleEndian.AppendUint32(body, crc32.ChecksumIEEE([]byte(content)))
		body = append(body, 0, 1) // stored, Unix
		body = binary.AppendUvarint(body, uint64(len(f[0])))
		block(append(append(body, f[0]...), extra...), content)
	}
	block([]byte{5, 0, 0}, "")
	return b
}

// Packed compresses data: gz, xz, zst or lz4.
func Packed(t testing.TB, how string, data []byte) []byte {
	var b bytes.Buffer
	var w interface {
		Write([]byte) (int, error)
		Close() error
	}
	var err error
	switch how {
	case "gz":
		w = gzip.NewWriter(&b)
	case "xz":
		w, err = xz.NewWriter(&b)
	case "zst":
		w, err = zstd.NewWriter(&b)
	case "lz4":
		w = lz4.NewWriter(&b)
	}
	require.NoError(t, err)
	_, err = w.Write(data)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

// Program is the beginning of a program: pe, elf.
func Program(kind string) string {
	b := make([]byte, 256)
	copy(b, map[string]string{"pe": "MZ", "elf": "\x7fELF"}[kind])
	binary.LittleEndian.PutUint32(b[0x3c:], 0x80)
	copy(b[0x80:], "PE\x00\x00")
	return string(b)
}
