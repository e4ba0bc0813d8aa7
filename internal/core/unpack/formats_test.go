package unpack

import (
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"hash/crc32"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zip"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
)

// rar4Of writes a RAR 4 archive of stored files (RAR technical note, version 4.x).
func rar4Of(files ...file) []byte {
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
		fields := le.AppendUint32(nil, uint32(len(f.body)))
		fields = le.AppendUint32(fields, uint32(len(f.body)))
		fields = append(fields, 3) // Unix
		fields = le.AppendUint32(fields, crc32.ChecksumIEEE([]byte(f.body)))
		fields = le.AppendUint32(fields, 0x5a21_9000)
		fields = append(fields, 20, 0x30) // version, stored
		fields = le.AppendUint16(fields, uint16(len(f.name)))
		fields = le.AppendUint32(fields, 0o100644)
		block(0x74, 0x8000, append(fields, f.name...))
		b = append(b, f.body...)
	}
	block(0x7b, 0x4000, nil)
	return b
}

// rar5Of writes a RAR 5 archive of stored files (RAR 5.0 archive format).
func rar5Of(files ...file) []byte {
	b := []byte("Rar!\x1a\x07\x01\x00")
	block := func(body []byte, data string) {
		head := binary.AppendUvarint(nil, uint64(len(body)))
		head = append(head, body...)
		b = binary.LittleEndian.AppendUint32(b, crc32.ChecksumIEEE(head))
		b = append(append(b, head...), data...)
	}
	block([]byte{1, 0, 0}, "")
	for _, f := range files {
		body := []byte{2, 2} // a file, with data
		body = binary.AppendUvarint(body, uint64(len(f.body)))
		body = append(body, 4) // has a CRC-32
		body = binary.AppendUvarint(body, uint64(len(f.body)))
		body = binary.AppendUvarint(body, 0o100644)
		body = binary.LittleEndian.AppendUint32(body, crc32.ChecksumIEEE([]byte(f.body)))
		body = append(body, 0, 1) // stored, Unix
		body = binary.AppendUvarint(body, uint64(len(f.name)))
		block(append(body, f.name...), f.body)
	}
	block([]byte{5, 0, 0}, "")
	return b
}

func packed(t testing.TB, how string, data []byte) []byte {
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

func fixture(t testing.TB, name string) []byte {
	data, err := os.ReadFile(filepath.Join("testdata", name))
	require.NoError(t, err)
	return data
}

func TestEveryKindIsReadByItsContent(t *testing.T) {
	voyage := strings.Repeat("the lamps stay lit\n", 50)
	files := []file{{"save/voyage.txt", voyage}, {"save/chart.bin", "second\n"}}
	zstdZip := func() []byte {
		var b bytes.Buffer
		w := zip.NewWriter(&b)
		w.RegisterCompressor(zstd.ZipMethodWinZip, zstd.ZipCompressor())
		for _, f := range files {
			e, err := w.CreateHeader(&zip.FileHeader{Name: f.name, Method: zstd.ZipMethodWinZip})
			require.NoError(t, err)
			_, err = e.Write([]byte(f.body))
			require.NoError(t, err)
		}
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	for _, c := range []struct {
		about, kind string
		data        []byte
	}{
		{"zip", "zip", zipOf(t, files...)}, {"zip with zstd", "zip", zstdZip()}, {"zip with lzma", "zip", fixture(t, "lzma.zip")},
		{"tar", "tar", tarOf(t, false, files...)}, {"tar.gz", "tar.gz", packed(t, "gz", tarOf(t, false, files...))},
		{"tar.xz", "tar.xz", packed(t, "xz", tarOf(t, false, files...))}, {"tar.zst", "tar.zst", packed(t, "zst", tarOf(t, false, files...))},
		{"tar.lz4", "tar.lz4", packed(t, "lz4", tarOf(t, false, files...))},
		{"rar 4", "rar", rar4Of(files...)}, {"rar 5", "rar", rar5Of(files...)},
		{"7z, lzma2", "7z", fixture(t, "lzma2.7z")}, {"7z, lzma", "7z", fixture(t, "lzma.7z")}, {"7z, bzip2", "7z", fixture(t, "bzip2.7z")},
		{"7z, deflate", "7z", fixture(t, "deflate.7z")}, {"7z, stored", "7z", fixture(t, "copy.7z")},
	} {
		d := look(t, c.data)
		assert.Equal(t, c.kind, d.Kind, c.about)
		assert.Empty(t, d.Damaged, c.about)
		assert.Empty(t, d.Hazards, c.about)
		got, err := fs.ReadFile(d.FS, "save/voyage.txt")
		require.NoError(t, err, c.about)
		assert.True(t, voyage == string(got), c.about)
		assert.False(t, d.Digests["save/chart.bin"].IsZero(), c.about)
		if !strings.HasPrefix(c.kind, "tar") { // a tar has no end that could be missing
			assert.NotEmpty(t, look(t, c.data[:len(c.data)*2/3]).Damaged, c.about+", cut")
		}
	}
}

func TestWhatCannotBeReadIsSaid(t *testing.T) {
	for name, why := range map[string]string{"ppmd.7z": "PPMd", "greedy.7z": "MiB of memory", "deflate64.zip": "not understood yet"} {
		d := look(t, fixture(t, name))
		require.NotEmpty(t, d.Damaged, name)
		assert.Contains(t, d.Damaged[0].Why, why)
	}
	for name, entries := range map[string]int{"locked.7z": 2, "sealed.7z": 1, "locked.zip": 2} {
		assert.Len(t, look(t, fixture(t, name)).Encrypted, entries, name)
	}
}

func TestNamesInOldCodePages(t *testing.T) {
	for _, c := range []struct {
		page  encoding.Encoding
		names []string
	}{
		{charmap.CodePage437, []string{"Übung/Größe.sav", "Café.sav"}},
		{charmap.Windows1251, []string{"Ночной трамвай/сохранение.sav"}},
		{japanese.ShiftJIS, []string{"灯台/セーブ.sav"}},
	} {
		var files []file
		for _, n := range c.names {
			raw, err := c.page.NewEncoder().String(n)
			require.NoError(t, err)
			files = append(files, file{raw, "x"})
		}
		d := look(t, zipOf(t, files...))
		assert.Empty(t, d.Hazards)
		var got []string
		for _, e := range d.Entries {
			got = append(got, e.Path)
		}
		assert.ElementsMatch(t, c.names, got)
	}
}

func TestOneArchiveInsideIsOpened(t *testing.T) {
	inner := zipOf(t, file{"slot_01/voyage", "x"}, file{"deeper.zip", string(zipOf(t, file{"../a", "x"}))})
	d := look(t, zipOf(t, file{"readme.txt", "x"}, file{"variant.zip", string(inner)}))
	assert.Equal(t, []string{"variant.zip"}, d.Inside)
	got, err := fs.ReadFile(d.FS, "variant.zip/slot_01/voyage")
	require.NoError(t, err)
	assert.Equal(t, "x", string(got))
	assert.Empty(t, d.Hazards, "what lies deeper is not unpacked")
	assert.Len(t, look(t, zipOf(t, file{"a", string(zipOf(t, file{"../a", "x"}))})).Hazards, 1)
	assert.Len(t, look(t, zipOf(t, file{"a", string(rar5Of(file{"b", program("elf")}))})).Hazards, 1)
}

func TestZipsThatReadersUnderstandDifferently(t *testing.T) {
	good := zipOf(t, file{"aaaa", strings.Repeat("x", 100)}, file{"bbbb", strings.Repeat("y", 100)})
	local := func(b []byte) { copy(b[30:], "cccc") }
	method := func(b []byte) { b[8] = 0 }
	shared := func(b []byte) { // the second entry's content is the first's
		first := bytes.Index(b, []byte("PK\x01\x02"))
		second := bytes.LastIndex(b, []byte("PK\x01\x02"))
		copy(b[second+42:second+46], b[first+42:first+46])
		copy(b[second+46:second+50], "aaaa")
	}
	for why, damage := range map[string]func([]byte){"called something else": local, "packed in another way": method, "shares its content": shared} {
		b := bytes.Clone(good)
		damage(b)
		d := look(t, b)
		var all []string
		for _, h := range d.Hazards {
			all = append(all, h.Why)
		}
		assert.Contains(t, strings.Join(all, "; "), why)
	}
	assert.Empty(t, look(t, good).Hazards)
	assert.NotEmpty(t, look(t, append(bytes.Clone(good), "more"...)).Hazards)
}
