package wrap

import (
	"archive/zip"
	"bytes"
	"crypto/md5"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"hash/crc32"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rewritten is a file with another content in its layers.
func rewritten(t *testing.T, layers Layers, file []byte, now string) []byte {
	t.Helper()
	written, err := layers.Rewrite(file, DefaultLimits, func([]byte) ([]byte, error) { return []byte(now), nil })
	require.NoError(t, err)
	again, err := layers.Peel(bytes.NewReader(written), DefaultLimits)
	require.NoError(t, err)
	require.Equal(t, now, string(again))
	return written
}

// skippable is a frame of zstd or LZ4 that holds something of its writer's.
func skippable(text string) string {
	return "\x5a\x2a\x4d\x18" + string(binary.LittleEndian.AppendUint32(nil, uint32(len(text)))) + text
}

// TestWhatStandsAroundIsKept has bytes before, between and behind the streams of each layer: they are there again behind a change, or it is refused.
func TestWhatStandsAroundIsKept(t *testing.T) {
	before := []byte("before the change, before the change")
	for about, c := range map[string]struct {
		layers       []string
		file         string
		begins, ends string
		refused      bool
	}{
		"behind zlib":                    {[]string{"zlib"}, string(wrapped(t, "zlib", before)) + "behind", "", "behind", false},
		"behind deflate":                 {[]string{"deflate"}, string(wrapped(t, "deflate", before)) + "\x00\x01behind", "", "\x00\x01behind", false},
		"zeros behind gzip":              {[]string{"gzip"}, string(wrapped(t, "gzip", before)) + strings.Repeat("\x00", 700), "", strings.Repeat("\x00", 700), false},
		"padding behind xz":              {[]string{"xz"}, string(wrapped(t, "xz", before)) + strings.Repeat("\x00", 8), "", "YZ" + strings.Repeat("\x00", 8), false},
		"behind zlib in a head":          {[]string{"skip:4", "zlib"}, "HEAD" + string(wrapped(t, "zlib", before)) + "behind", "HEAD", "behind", false},
		"frames around zstd":             {[]string{"zstd"}, skippable("first") + string(wrapped(t, "zstd", before)) + skippable("last"), skippable("first"), skippable("last"), false},
		"a frame between zstd":           {[]string{"zstd"}, string(wrapped(t, "zstd", before)) + skippable("between") + string(wrapped(t, "zstd", before)), "", "", true},
		"frames around lz4":              {[]string{"lz4"}, skippable("first") + string(wrapped(t, "lz4", before)) + skippable("last"), skippable("first"), skippable("last"), false},
		"before and behind a zip":        {[]string{"zip:b"}, "a program\x00" + zipped(t, "a", "1", "b", string(before), "c", "3") + "", "a program\x00PK", "", false},
		"behind a length":                {[]string{"length:u16le"}, "\x24\x00" + string(before) + "behind", "", "behind", false},
		"members of gzip":                {[]string{"gzip"}, string(wrapped(t, "gzip", before)) + string(wrapped(t, "gzip", before)), "", "", false},
		"behind what lies in something":  {[]string{"gzip", "skip:2", "zlib"}, string(wrapped(t, "gzip", []byte("AB"+string(wrapped(t, "zlib", before))+"behind"))), "", "", false},
		"lines, and what base64 is like": {[]string{"lines:1", "base64"}, "head\r\n" + "YmVmb3JlIHRo\r\nZSBjaGFuZ2U=\r\n", "head\r\n", "\r\n", false},
	} {
		layers := layersOf(t, c.layers...)
		_, err := layers.Peel(strings.NewReader(c.file), DefaultLimits)
		require.NoError(t, err, about)
		if c.refused {
			_, err := layers.Rewrite([]byte(c.file), DefaultLimits, func([]byte) ([]byte, error) { return []byte("x"), nil })
			assert.ErrorIs(t, err, ErrNotWritable, about)
			continue
		}
		for _, now := range []string{"", "after", strings.Repeat("long after ", 3000)} {
			written := rewritten(t, layers, []byte(c.file), now)
			assert.True(t, bytes.HasPrefix(written, []byte(c.begins)), about)
			assert.True(t, bytes.HasSuffix(written, []byte(c.ends)), about)
			if strings.Contains(about, "in something") {
				inner, err := layersOf(t, "gzip").Peel(bytes.NewReader(written), DefaultLimits)
				require.NoError(t, err)
				assert.True(t, bytes.HasSuffix(inner, []byte("behind")) && bytes.HasPrefix(inner, []byte("AB")), about)
			}
		}
	}
}

// TestAZipIsChangedWhereItStands: all but the one entry, and the numbers that follow from it, is there as it was, in each order and way of packing.
func TestAZipIsChangedWhereItStands(t *testing.T) {
	var b bytes.Buffer
	b.WriteString("stub")
	z := zip.NewWriter(&b)
	z.SetOffset(4)
	for _, name := range []string{"a.txt", "dir/world.json", "z.bin"} {
		w, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate, Comment: "about " + name, Modified: time.Unix(1e9, 0), Extra: []byte("\xfe\xca\x02\x00hi")})
		require.NoError(t, err)
		_, err = io.WriteString(w, strings.Repeat("old "+name, 20))
		require.NoError(t, err)
	}
	w, err := z.CreateRaw(&zip.FileHeader{Name: "stored", Method: zip.Store, CRC32: crc32.ChecksumIEEE([]byte("abc")), CompressedSize64: 3, UncompressedSize64: 3})
	require.NoError(t, err)
	_, err = io.WriteString(w, "abc")
	require.NoError(t, err)
	require.NoError(t, z.SetComment("a remark"))
	require.NoError(t, z.Close())
	entries := func(data []byte) map[string]string {
		r, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
		require.NoError(t, err)
		all := map[string]string{"": r.Comment}
		for _, f := range r.File {
			c, err := f.Open()
			require.NoError(t, err)
			text, err := io.ReadAll(c)
			require.NoError(t, err)
			all[f.Name] = string(text)
			f.CRC32, f.CompressedSize64, f.UncompressedSize64, f.CompressedSize, f.UncompressedSize = 0, 0, 0, 0, 0
			all[f.Name+" head"] = string(f.Extra) + f.Comment + f.Modified.String() + hex.EncodeToString([]byte{byte(f.Flags), byte(f.Method)})
		}
		return all
	}
	was := entries(b.Bytes())
	for _, entry := range []string{"a.txt", "dir/world.json", "z.bin", "stored"} {
		for _, now := range []string{"", "new", strings.Repeat("much longer ", 5000)} {
			written := rewritten(t, layersOf(t, "zip:"+entry), b.Bytes(), now)
			want := map[string]string{}
			for k, v := range was {
				want[k] = v
			}
			want[entry] = now
			assert.Equal(t, want, entries(written), entry)
			assert.True(t, bytes.HasPrefix(written, []byte("stub")))
		}
	}
	others, err := layersOf(t, "zip:z.bin").Others(fileIn(b.Bytes()), "f", DefaultLimits)
	require.NoError(t, err)
	assert.Len(t, others, 3)
	paths := []byte(zipped(t, "/abs", "1", `a\b`, "2", "../up", "3"))
	assert.Equal(t, "x", string(must(layersOf(t, "zip:../up").Peel(bytes.NewReader(rewritten(t, layersOf(t, "zip:../up"), paths, "x")), DefaultLimits))), "names inside are no paths")
}

// TestHeadersStay: a frame says again what it said.
func TestHeadersStay(t *testing.T) {
	long := bytes.Repeat([]byte("content "), 20000)
	encoder, err := zstd.NewWriter(nil, zstd.WithEncoderCRC(false))
	require.NoError(t, err)
	sized := rewritten(t, layersOf(t, "zstd"), encoder.EncodeAll(long, nil), "new content")
	var h zstd.Header
	require.NoError(t, h.Decode(sized))
	assert.True(t, h.HasFCS && !h.HasCheckSum && h.FrameContentSize == uint64(len("new content")), "%+v %x", h, sized)
	require.NoError(t, h.Decode(rewritten(t, layersOf(t, "zstd"), wrapped(t, "zstd", long), "new")))
	assert.True(t, h.HasCheckSum)
	var b bytes.Buffer
	w := lz4.NewWriter(&b)
	require.NoError(t, w.Apply(lz4.SizeOption(uint64(len(long))), lz4.BlockChecksumOption(true), lz4.BlockSizeOption(lz4.Block64Kb)))
	_, err = w.Write(long)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	framed := rewritten(t, layersOf(t, "lz4"), b.Bytes(), string(long)+"!")
	assert.Equal(t, b.Bytes()[4:6], framed[4:6], "flags and size of blocks")
	assert.Equal(t, uint64(len(long)+1), binary.LittleEndian.Uint64(framed[6:]))
	b.Reset()
	g, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	require.NoError(t, err)
	g.Name, g.Extra, g.OS, g.ModTime = "world", []byte("ab\x01\x00x"), 3, time.Unix(1e9, 0)
	_, err = g.Write(long)
	require.NoError(t, err)
	require.NoError(t, g.Close())
	again := rewritten(t, layersOf(t, "gzip"), b.Bytes(), "new")
	assert.Equal(t, b.Bytes()[:10+2+5+6], again[:10+2+5+6])
}

// TestChecksumsOfAllKinds has sums inside of what they cover, at the end, in hex of either case, over several ranges, with places read from the file.
func TestChecksumsOfAllKinds(t *testing.T) {
	le := binary.LittleEndian
	crc := func(parts ...string) string {
		return string(le.AppendUint32(nil, crc32.ChecksumIEEE([]byte(strings.Join(parts, "")))))
	}
	digest := func(text string) string { s := md5.Sum([]byte(text)); return hex.EncodeToString(s[:]) }
	upper := strings.ToUpper(digest("\nbody"))
	require.NotEqual(t, upper, digest("\nbody"))
	for about, c := range map[string]struct{ layer, file, now string }{
		"inside, left out":    {"checksum:crc32@4 over 0..", "HEAD" + crc("HEAD", "body") + "body", "HEAD0000other body"},
		"inside, as zeros":    {"checksum:crc32@4 over 0.. zeroed", "HEAD" + crc("HEAD\x00\x00\x00\x00body") + "body", "HEAD0000other body"},
		"at the end":          {"checksum:crc32@-4 over 0..-4", "body" + crc("body"), "other body0000"},
		"upper case":          {"checksum:md5-hex@0 over 32..", upper + "\nbody", strings.Repeat("0", 32) + "\nother"},
		"two ranges":          {"checksum:crc32@4 over 0..4, 8..", "HEAD" + crc("HEAD", "body") + "body", "HEAD0000other"},
		"up to a place":       {"checksum:crc32@4 over 8..@0:u32le", string(le.AppendUint32(nil, 12)) + crc("body") + "bodytail", string(le.AppendUint32(nil, 12)) + "0000BODYtail!"},
		"an unpacked size":    {"length:u32le@0 over 4..", "\x04\x00\x00\x00body", "0000longer body"},
		"a length at the end": {"length:u16be@-2 over 0..-2", "body\x00\x04", "longer body00"},
	} {
		layers := layersOf(t, c.layer)
		_, err := layers.Peel(strings.NewReader(c.file), DefaultLimits)
		require.NoError(t, err, about)
		bad := []byte(c.file)
		bad[len(bad)/2] ^= 1
		if !strings.HasPrefix(c.layer, "length") {
			_, err = layers.Peel(bytes.NewReader(bad), DefaultLimits)
			assert.ErrorIs(t, err, ErrDamaged, about)
		}
		written, err := layers.Rewrite([]byte(c.file), DefaultLimits, func([]byte) ([]byte, error) { return []byte(c.now), nil })
		require.NoError(t, err, about)
		_, err = layers.Peel(bytes.NewReader(written), DefaultLimits)
		require.NoError(t, err, about)
		assert.Len(t, written, len(c.now), about)
		if about == "upper case" {
			assert.Equal(t, strings.ToUpper(digest("\nother")), string(written[:32]))
		}
	}
	packed := wrapped(t, "zlib", []byte("content"))
	file := append(le.AppendUint32([]byte("SAVE"), 7), packed...)
	layers := layersOf(t, "length:u32le@4 unpacked", "skip:8", "zlib")
	written := rewritten(t, layers, file, "content that is longer")
	assert.Equal(t, uint32(len("content that is longer")), le.Uint32(written[4:]), "a header that says the unpacked size")
	file[4]++
	_, err := layers.Peel(bytes.NewReader(file), DefaultLimits)
	assert.ErrorIs(t, err, ErrDamaged)
	inner := base64.StdEncoding.EncodeToString(wrapped(t, "zlib", []byte("text")))
	assert.NotEqual(t, inner, string(rewritten(t, layersOf(t, "base64", "zlib"), []byte(inner), "other text")), "what is packed in a value")
	for _, wrong := range []string{"checksum:crc32@4", "checksum:crc32@x over 0..", "checksum:crc32@0 over 9..4", "checksum:crc32@0 over @4:cstr..", "length:u32le@", "length:u32le@4 over", "length:f32le"} {
		_, err := ParseLayer(wrong)
		assert.Error(t, err, wrong)
	}
}

func must(data []byte, err error) []byte {
	if err != nil {
		return []byte(err.Error())
	}
	return data
}
