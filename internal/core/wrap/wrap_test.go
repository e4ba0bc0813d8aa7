package wrap

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/dsnet/compress/bzip2"
	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
)

const content = `{"title":"Gannet Rock","version":1.10,"mods":[{"id":"a","v":"1"},{"id":"b"}],"deep":{"on":true,"none":null}}`

func wrapped(t testing.TB, layer string, data []byte) []byte {
	var b bytes.Buffer
	var err error
	switch layer {
	case "gzip":
		w := gzip.NewWriter(&b)
		_, err = w.Write(data)
		require.NoError(t, w.Close())
	case "zlib":
		w := zlib.NewWriter(&b)
		_, err = w.Write(data)
		require.NoError(t, w.Close())
	case "zstd":
		w, _ := zstd.NewWriter(&b)
		_, err = w.Write(data)
		require.NoError(t, w.Close())
	case "lzo":
		return lzo1xOf(data)
	case "bzip2":
		w, _ := bzip2.NewWriter(&b, nil)
		_, err = w.Write(data)
		require.NoError(t, w.Close())
	case "xz":
		w, _ := xz.NewWriter(&b)
		_, err = w.Write(data)
		require.NoError(t, w.Close())
	case "zip:in/save.json":
		w := zip.NewWriter(&b)
		f, _ := w.Create("in/save.json")
		_, err = f.Write(data)
		require.NoError(t, w.Close())
	case "deflate":
		w, _ := flate.NewWriter(&b, 6)
		_, err = w.Write(data)
		require.NoError(t, w.Close())
	case "lz4":
		w := lz4.NewWriter(&b)
		_, err = w.Write(data)
		require.NoError(t, w.Close())
	case "lines:2":
		b.WriteString("one\ntwo\n")
		b.Write(data)
	case "length:u32be":
		b.Write(binary.BigEndian.AppendUint32(nil, uint32(len(data))))
		b.Write(data)
	case "xor:0aff":
		for i, c := range data {
			b.WriteByte(c ^ []byte{0x0a, 0xff}[i%2])
		}
	case "skip:4":
		b.WriteString("HEAD")
		b.Write(data)
	default:
		b.Write(data)
	}
	require.NoError(t, err)
	return b.Bytes()
}

func layersOf(t testing.TB, names ...string) Layers {
	var l Layers
	for _, n := range names {
		layer, err := ParseLayer(n)
		require.NoError(t, err)
		l.Chain = append(l.Chain, layer)
	}
	return l
}

func TestPeel(t *testing.T) {
	for _, layer := range []string{"gzip", "zlib", "zstd", "xz", "zip:in/save.json", "skip:4", "deflate", "lz4", "lines:2", "length:u32be", "xor:0aff"} {
		file := wrapped(t, layer, []byte(content))
		got, err := layersOf(t, layer).Peel(bytes.NewReader(file), DefaultLimits)
		require.NoError(t, err, layer)
		assert.Equal(t, content, string(got), layer)

		_, err = layersOf(t, layer).Peel(bytes.NewReader(file), Limits{Decoded: 10})
		assert.ErrorIs(t, err, ErrTooLarge, layer)
		if layer != "skip:4" && layer != "lines:2" && layer != "xor:0aff" {
			_, err = layersOf(t, layer).Peel(bytes.NewReader(file[:len(file)/2]), DefaultLimits)
			assert.ErrorIs(t, err, ErrDamaged, layer)
		}
		if Compression(file) != "" {
			got, err = layersOf(t, "auto").Peel(bytes.NewReader(file), DefaultLimits)
			require.NoError(t, err, layer)
			assert.Equal(t, content, string(got), "auto "+layer)
		}
	}
	got, err := layersOf(t, "skip:4", "gzip").Peel(bytes.NewReader(wrapped(t, "skip:4", wrapped(t, "gzip", []byte("x")))), DefaultLimits)
	require.NoError(t, err)
	assert.Equal(t, "x", string(got))
	got, err = layersOf(t, "auto").Peel(strings.NewReader("plain"), DefaultLimits)
	require.NoError(t, err)
	assert.Equal(t, "plain", string(got))
}

func TestPeelByTag(t *testing.T) {
	l := Layers{Tag: &Tag{Strict: true, From: 0, To: 4, Chains: map[string][]Layer{
		"GZIP": {{"skip", "4"}, {"gzip", ""}}, "RAW0": {{"skip", "4"}},
	}}}
	for _, c := range []struct{ in, want string }{
		{"RAW0text", "text"},
		{"GZIP" + string(wrapped(t, "gzip", []byte("text"))), "text"},
	} {
		got, err := l.Peel(strings.NewReader(c.in), DefaultLimits)
		require.NoError(t, err)
		assert.Equal(t, c.want, string(got))
	}
	_, err := l.Peel(strings.NewReader("NEW!text"), DefaultLimits)
	assert.EqualError(t, err, `damaged: begins with "NEW!" instead of "GZIP" or "RAW0"`)
	_, err = l.Peel(strings.NewReader("GZ"), DefaultLimits)
	assert.ErrorIs(t, err, ErrDamaged)
}

func TestWrapIsTheReverseOfPeel(t *testing.T) {
	crc := func(b []byte) string { return string(binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE(b))) }
	for _, c := range []struct {
		names    []string
		original string
		keeps    string // how the result begins
	}{
		{nil, "before", ""},
		{[]string{"gzip"}, string(wrapped(t, "gzip", []byte("before"))), ""},
		{[]string{"zlib", "gzip"}, string(wrapped(t, "zlib", wrapped(t, "gzip", []byte("before")))), ""},
		{[]string{"auto"}, string(wrapped(t, "zlib", []byte("before"))), "\x78"},
		{[]string{"auto"}, "before", "{"},
		{[]string{"zstd"}, string(wrapped(t, "zstd", []byte("before"))), ""},
		{[]string{"xz"}, string(wrapped(t, "xz", []byte("before"))), ""},
		{[]string{"lz4"}, string(wrapped(t, "lz4", []byte("before"))), ""},
		{[]string{"bzip2"}, string(wrapped(t, "bzip2", []byte("before"))), "BZh6"},
		{[]string{"lzo"}, string(wrapped(t, "lzo", []byte("before"))), ""},
		{[]string{"skip:4", "deflate"}, "HEAD" + string(wrapped(t, "deflate", []byte("before"))), "HEAD"},
		{[]string{"lines:2"}, "one\ntwo\nbefore", "one\ntwo\n"},
		{[]string{"length:u32be"}, "\x00\x00\x00\x06beforeafter", ""},
		{[]string{"xor:0aff", "base64"}, string(wrapped(t, "xor:0aff", []byte("YmVmb3Jl"))), ""},
		{[]string{"checksum:crc32@0 over 4..", "skip:4", "gzip"}, crc(wrapped(t, "gzip", []byte("before"))) + string(wrapped(t, "gzip", []byte("before"))), ""},
		{[]string{"checksum:md5-hex@0 over 33..", "lines:1"}, strings.Repeat("0", 32) + "\nbefore", ""},
		{[]string{"zip:in/*.json"}, zipped(t, "in/save.json", "before", "other.txt", "kept"), "PK"},
		{[]string{"zip:in/save.json", "gzip"}, zipped(t, "first", "x", "in/save.json", string(wrapped(t, "gzip", []byte("before")))), "PK"},
		{[]string{"framed:length:u32le raw:u32le,zlib"}, string(framed(t, []byte("before"), 4)), ""},
	} {
		l := layersOf(t, c.names...)
		file, err := l.Wrap(strings.NewReader(content), strings.NewReader(c.original), DefaultLimits)
		require.NoError(t, err, c.names)
		assert.True(t, strings.HasPrefix(string(file), c.keeps), c.names)
		got, err := l.Peel(bytes.NewReader(file), DefaultLimits)
		require.NoError(t, err, c.names)
		assert.Equal(t, content, string(got), c.names)
	}
	tagged := Layers{Tag: &Tag{To: 4, Chains: map[string][]Layer{"GZIP": {{"skip", "4"}, {"gzip", ""}}, "RAW0": {{"skip", "4"}}}}}
	file, err := tagged.Wrap(strings.NewReader("new"), strings.NewReader("RAW0before"), DefaultLimits)
	require.NoError(t, err)
	assert.Equal(t, "RAW0new", string(file))
}

func zipped(t *testing.T, entries ...string) string {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for i := 0; i < len(entries); i += 2 {
		w, err := z.Create(entries[i])
		require.NoError(t, err)
		_, err = w.Write([]byte(entries[i+1]))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.String()
}

func TestContainersStayAsTheyAre(t *testing.T) {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	z.Name, z.Comment, z.OS, z.ModTime = "world.json", "by hand", 11, time.Unix(0, 0)
	require.NoError(t, z.Close())
	file, err := layersOf(t, "gzip").Wrap(strings.NewReader("after"), bytes.NewReader(b.Bytes()), DefaultLimits)
	require.NoError(t, err)
	r, err := gzip.NewReader(bytes.NewReader(file))
	require.NoError(t, err)
	r.ModTime = z.ModTime
	assert.Equal(t, z.Header, r.Header)
	assert.Zero(t, binary.LittleEndian.Uint32(file[4:]), "no time")
	for _, level := range []byte{0x01, 0x5e, 0x9c, 0xda} {
		file, err := layersOf(t, "zlib").Wrap(strings.NewReader("after"), bytes.NewReader(append([]byte{0x78, level}, wrapped(t, "zlib", []byte("x"))[2:]...)), DefaultLimits)
		require.NoError(t, err)
		assert.Equal(t, level>>6, file[1]>>6)
	}
	file, err = layersOf(t, "zip:b").Wrap(strings.NewReader("after"), strings.NewReader(zipped(t, "a", "first", "b", "before", "c", "last")), DefaultLimits)
	require.NoError(t, err)
	got, err := zip.NewReader(bytes.NewReader(file), int64(len(file)))
	require.NoError(t, err)
	var names []string
	for _, f := range got.File {
		names = append(names, f.Name)
	}
	assert.Equal(t, []string{"a", "b", "c"}, names)
	_, err = layersOf(t, "zip:none").Wrap(strings.NewReader("after"), strings.NewReader(zipped(t, "a", "first")), DefaultLimits)
	assert.ErrorIs(t, err, ErrDamaged)
}

func TestChecksum(t *testing.T) {
	l := layersOf(t, "checksum:crc32be@0 over 4..")
	file, err := l.Wrap(strings.NewReader("0000content"), strings.NewReader("0000before"), DefaultLimits)
	require.NoError(t, err)
	_, err = l.Peel(bytes.NewReader(file), DefaultLimits)
	require.NoError(t, err)
	file[6] ^= 1
	_, err = l.Peel(bytes.NewReader(file), DefaultLimits)
	assert.EqualError(t, err, "damaged: does not match its checksum")
	_, err = l.Peel(strings.NewReader("abc"), DefaultLimits)
	assert.ErrorIs(t, err, ErrDamaged)
}

func TestLZO(t *testing.T) {
	block, err := os.ReadFile(filepath.Join("testdata", "lzo1x.block"))
	require.NoError(t, err)
	want := strings.Repeat("the lamps of the newer islands stay dark; the lamps of the older islands stay lit. ", 40)
	for range 3 {
		for c := range 256 {
			want += string([]byte{byte(c)})
		}
	}
	want += strings.Repeat("x", 700)
	l := layersOf(t, "lzo")
	got, err := l.Peel(bytes.NewReader(block), DefaultLimits)
	require.NoError(t, err)
	assert.True(t, want == string(got))
	_, err = l.Peel(bytes.NewReader(block), Limits{Decoded: 1000})
	assert.ErrorIs(t, err, ErrTooLarge)
	for cut := range len(block) {
		_, err := l.Peel(bytes.NewReader(block[:cut]), DefaultLimits)
		assert.ErrorIs(t, err, ErrDamaged)
	}
}

func TestLZOIsWritten(t *testing.T) {
	random := rand.New(rand.NewPCG(3, 4))
	texts := []string{"", "a", "abc", "abcd", strings.Repeat("x", 5000), strings.Repeat("the lamps of the older islands ", 3000)}
	for range 300 {
		var text []byte
		for range random.IntN(60) {
			switch n := random.IntN(1 << (1 + random.IntN(12))); {
			case random.IntN(2) == 0 || len(text) == 0:
				for range n {
					text = append(text, byte(random.IntN(1+random.IntN(256))))
				}
			default:
				from := random.IntN(len(text))
				text = append(text, text[from:min(from+n, len(text))]...)
			}
		}
		texts = append(texts, string(text))
	}
	far := make([]byte, 60_000)
	for i := range far {
		far[i] = byte(random.IntN(256))
	}
	texts = append(texts, string(far)+string(far[20_000:20_300])+string(far[40_000:50_000])+string(far[:9]))
	smaller := 0
	for _, text := range texts {
		block := lzo1xOf([]byte(text))
		got, err := lzo1x(block, int64(len(text)))
		require.NoError(t, err)
		require.True(t, text == string(got), "%.60q", text)
		if len(block) < len(text) {
			smaller++
		}
	}
	assert.Greater(t, smaller, 100)
}

func TestWhatIsBehindAGzip(t *testing.T) {
	one, two, none := string(wrapped(t, "gzip", []byte("one "))), string(wrapped(t, "gzip", []byte("two"))), string(wrapped(t, "gzip", nil))
	for about, c := range map[string]struct {
		data string
		bad  bool
	}{
		"nothing":             {one + two, false},
		"empty members":       {none + one + none + none + two + none, false},
		"a zero":              {one + two + "\x00", false},
		"a block of zeros":    {one + two + strings.Repeat("\x00", 5000), false},
		"zeros and more":      {one + two + strings.Repeat("\x00", 5000) + "x", true},
		"zeros and a member":  {one + two + "\x00" + one, true},
		"text":                {one + two + "text", true},
		"half of a member":    {one + two + one[:len(one)-3], true},
		"a mark alone":        {one + two + "\x1f", true},
		"an altered checksum": {one + two[:len(two)-6] + "\x00" + two[len(two)-5:], true},
	} {
		got, err := layersOf(t, "gzip").Peel(strings.NewReader(c.data), DefaultLimits)
		if c.bad {
			assert.ErrorIs(t, err, ErrDamaged, about)
			continue
		}
		require.NoError(t, err, about)
		assert.Equal(t, "one two", string(got), about)
	}
}

func FuzzLayers(f *testing.F) {
	names := []string{"auto", "gzip", "zlib", "zstd", "xz", "bzip2", "zip:in/save.json", "skip:4", "deflate", "lz4", "lzo", "base64", "lines:2",
		"length:u32be", "xor:0aff", "checksum:crc32@0 over 4..", "framed:length:u32le raw:u32le,zlib", "framed:length:u16be,deflate"}
	for i, name := range names {
		f.Add(byte(i), wrapped(f, name, []byte(content)))
	}
	f.Add(byte(len(names)-2), framed(f, []byte(content), 40))
	f.Fuzz(func(t *testing.T, which byte, data []byte) {
		l := layersOf(t, names[int(which)%len(names)])
		got, err := l.Peel(bytes.NewReader(data), Limits{Decoded: 1 << 20})
		if err != nil {
			assert.Nil(t, got)
		}
		assert.LessOrEqual(t, len(got), 1<<20)
	})
}

func framed(t testing.TB, data []byte, size int) []byte {
	var b bytes.Buffer
	for len(data) > 0 {
		piece := data[:min(size, len(data))]
		data = data[len(piece):]
		packed := wrapped(t, "zlib", piece)
		b.Write(binary.LittleEndian.AppendUint32(nil, uint32(len(packed))))
		b.Write(binary.LittleEndian.AppendUint32(nil, uint32(len(piece))))
		b.Write(packed)
	}
	return b.Bytes()
}

func TestFramed(t *testing.T) {
	layer := layersOf(t, "framed:length:u32le raw:u32le,zlib")
	for _, size := range []int{7, 64, len(content), 4096} {
		whole := framed(t, []byte(content), size)
		got, err := layer.Peel(bytes.NewReader(whole), DefaultLimits)
		require.NoError(t, err, size)
		assert.Equal(t, content, string(got), size)
		for _, cut := range []int{1, 5, len(whole) - 1} {
			_, err := layer.Peel(bytes.NewReader(whole[:cut]), DefaultLimits)
			assert.ErrorIs(t, err, ErrDamaged, "%d of %d", cut, len(whole))
		}
		lies := bytes.Clone(whole)
		lies[4]++
		_, err = layer.Peel(bytes.NewReader(lies), DefaultLimits)
		assert.ErrorIs(t, err, ErrDamaged, "a piece of another size than its head says")
		huge := append([]byte{0xff, 0xff, 0xff, 0x7f}, whole[4:]...)
		_, err = layer.Peel(bytes.NewReader(huge), DefaultLimits)
		assert.ErrorIs(t, err, ErrDamaged)
	}
	for _, wrong := range []string{"framed:", "framed:length:u32le", "framed:size:u32le,zlib", "framed:length:cstr,zlib", "framed:length:u32le,nothing"} {
		_, err := ParseLayer(wrong)
		assert.Error(t, err, wrong)
	}
}

func TestLayersInWords(t *testing.T) {
	zipped := wrapped(t, "gzip", []byte(content))
	assert.Equal(t, []string{"gzip"}, layersOf(t, "auto").Words(zipped))
	assert.Empty(t, layersOf(t, "auto").Words([]byte(content)))
	assert.Equal(t, []string{"skip:4", "zlib"}, layersOf(t, "skip:4", "zlib").Words(nil))
}

func TestADictionaryIsBounded(t *testing.T) {
	far := append(append([]byte("some bytes that come again"), make([]byte, 3<<20)...), "some bytes that come again"...)
	for _, layer := range []string{"zstd", "xz"} {
		data := wrapped(t, layer, far)
		r, err := layersOf(t, layer).Reader(bytes.NewReader(data), Limits{Decoded: 1 << 30, Dictionary: 64 << 10})
		if err == nil {
			_, err = ReadAtMost(r, 1<<30)
			require.NoError(t, r.Close())
		}
		assert.ErrorIs(t, asDamage("", err), ErrTooLarge, layer)
	}
}

func fileIn(data []byte) fs.FS { return fstest.MapFS{"f": {Data: data}} }
