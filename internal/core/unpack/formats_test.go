package unpack

import (
	"bytes"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/klauspost/compress/zip"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"

	"ostrov/internal/core/unpack/unpacktest"
)

func fixture(t testing.TB, name string) []byte {
	data, err := os.ReadFile(filepath.Join("testdata", name))
	require.NoError(t, err)
	return data
}

func TestEveryKindIsReadByItsContent(t *testing.T) {
	voyage := strings.Repeat("the lamps stay lit\n", 50)
	files := []unpacktest.File{{"save/voyage.txt", voyage}, {"save/chart.bin", "second\n"}}
	zstdZip := func() []byte {
		var b bytes.Buffer
		w := zip.NewWriter(&b)
		w.RegisterCompressor(zstd.ZipMethodWinZip, zstd.ZipCompressor())
		for _, f := range files {
			e, err := w.CreateHeader(&zip.FileHeader{Name: f[0], Method: zstd.ZipMethodWinZip})
			require.NoError(t, err)
			_, err = e.Write([]byte(f[1]))
			require.NoError(t, err)
		}
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	for _, c := range []struct {
		about, kind string
		data        []byte
	}{
		{"zip", "zip", unpacktest.Zip(t, files...)}, {"zip with zstd", "zip", zstdZip()}, {"zip with lzma", "zip", fixture(t, "lzma.zip")},
		{"tar", "tar", unpacktest.Tar(t, false, files...)}, {"tar.gz", "tar.gz", unpacktest.Packed(t, "gz", unpacktest.Tar(t, false, files...))},
		{"tar.xz", "tar.xz", unpacktest.Packed(t, "xz", unpacktest.Tar(t, false, files...))}, {"tar.zst", "tar.zst", unpacktest.Packed(t, "zst", unpacktest.Tar(t, false, files...))},
		{"tar.lz4", "tar.lz4", unpacktest.Packed(t, "lz4", unpacktest.Tar(t, false, files...))},
		{"rar 4", "rar", unpacktest.Rar4(files...)}, {"rar 5", "rar", unpacktest.Rar5(files...)},
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
		var files []unpacktest.File
		for _, n := range c.names {
			raw, err := c.page.NewEncoder().String(n)
			require.NoError(t, err)
			files = append(files, unpacktest.File{raw, "x"})
		}
		d := look(t, unpacktest.Zip(t, files...))
		assert.Empty(t, d.Hazards)
		var got []string
		for _, e := range d.Entries {
			got = append(got, e.Path)
		}
		assert.ElementsMatch(t, c.names, got)
	}
}

func TestArchivesInsideAreOpenedToADepth(t *testing.T) {
	text := unpacktest.File{"slot_01/voyage", "x"}
	in := func(name string, content []byte) []byte {
		return unpacktest.Zip(t, text, unpacktest.File{name, string(content)})
	}
	d := look(t, in("a.zip", unpacktest.Tar(t, true, text, unpacktest.File{"b", string(in("c", unpacktest.Rar5(text)))})))
	assert.Equal(t, []string{"a.zip", "a.zip/b", "a.zip/b/c"}, d.Inside)
	assert.Empty(t, d.Hazards)
	assert.Empty(t, d.Closed)
	got, err := fs.ReadFile(d.FS, "a.zip/b/c/slot_01/voyage")
	require.NoError(t, err)
	assert.Equal(t, "x", string(got))
	hostile := unpacktest.Zip(t, unpacktest.File{"../a", "x"})
	for depth := range MaxInside {
		hostile = in("z", hostile)
		assert.Len(t, look(t, hostile).Hazards, 1, "%d archives around it", depth+1)
	}
	d = look(t, in("z", hostile))
	assert.Equal(t, []string{"z/z/z/z"}, d.Closed, "what lies deeper is not unpacked, and is named")
	assert.Empty(t, d.Hazards)
	assert.Len(t, look(t, in("a", unpacktest.Rar5(unpacktest.File{"b", unpacktest.Program("elf")}))).Hazards, 1)
}

func TestZipsThatReadersUnderstandDifferently(t *testing.T) {
	good := unpacktest.Zip(t, unpacktest.File{"aaaa", strings.Repeat("x", 100)}, unpacktest.File{"bbbb", strings.Repeat("y", 100)})
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
