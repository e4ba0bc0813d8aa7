package wrap

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/ulikunitz/xz"
)

// xzFile packs a text, in blocks of some bytes.
func xzFile(t testing.TB, text []byte, config xz.WriterConfig) []byte {
	var b bytes.Buffer
	config.DictCap = 1 << 16 // which each reader makes room for
	w, err := config.NewWriter(&b)
	require.NoError(t, err)
	_, err = w.Write(text)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

func readXZ(data []byte) ([]byte, error) {
	r, err := layersOf(nil, "xz").Reader(bytes.NewReader(data), Limits{Decoded: 1 << 30})
	if err != nil {
		return nil, err
	}
	return io.ReadAll(r)
}

func TestXZ(t *testing.T) {
	text := bytes.Repeat([]byte("a row of the chart; "), 300)
	for _, check := range []byte{xz.None, xz.CRC32, xz.CRC64, xz.SHA256} {
		one := xzFile(t, text, xz.WriterConfig{CheckSum: check, NoCheckSum: check == xz.None, BlockSize: 3000})
		for what, data := range map[string][]byte{"one stream": one, "two": append(bytes.Clone(one), one...), "zeros between": append(append(bytes.Clone(one), 0, 0, 0, 0), one...)} {
			got, err := readXZ(data)
			require.NoError(t, err, what)
			assert.Equal(t, len(data)/len(one), len(got)/len(text), what)
			assert.True(t, bytes.HasPrefix(got, text))
		}
		for n := range len(one) {
			_, err := readXZ(one[:n])
			require.Error(t, err, "cut to %d bytes", n)
		}
	}
	empty, err := readXZ(xzFile(t, nil, xz.WriterConfig{}))
	require.NoError(t, err)
	assert.Empty(t, empty)
}

// TestEveryFlippedBitOfAnXZIsNoticed flips each, one after the other.
func TestEveryFlippedBitOfAnXZIsNoticed(t *testing.T) {
	text := make([]byte, 300)
	random := rand.New(rand.NewPCG(1, 2))
	for i := range text {
		text[i] = byte(random.IntN(9)) + 'a'
	}
	whole := xzFile(t, text, xz.WriterConfig{})
	for i := range 8 * len(whole) {
		data := bytes.Clone(whole)
		data[i/8] ^= 1 << (i % 8)
		if got, err := readXZ(data); err == nil {
			assert.Equal(t, text, got, "bit %d", i) // the packer's last bits say nothing
		}
	}
}

func TestAnXZThatAsksForMuchMemoryIsRefused(t *testing.T) {
	data := xzFile(t, []byte("small"), xz.WriterConfig{})
	size := 4 * (int(data[12]) + 1)
	at := bytes.IndexByte(data[12:12+size], 0x21) + 12 + 2
	data[at] = 37 // 1.5 GiB
	binary.LittleEndian.PutUint32(data[12+size-4:], crc32.ChecksumIEEE(data[12:12+size-4]))
	_, err := readXZ(data)
	assert.ErrorIs(t, err, ErrTooLarge)
	assert.Equal(t, int64(3<<29), Auto.Window(data))
}

func FuzzXZ(f *testing.F) {
	f.Add(xzFile(f, []byte("some text, some text"), xz.WriterConfig{}))
	f.Add(xzFile(f, bytes.Repeat([]byte("x"), 5000), xz.WriterConfig{BlockSize: 1000, CheckSum: xz.SHA256}))
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := layersOf(nil, "xz").Reader(bytes.NewReader(data), Limits{Decoded: 1 << 30, Dictionary: 1 << 20})
		if err != nil {
			return
		}
		got, err := io.ReadAll(io.LimitReader(r, 1<<20))
		if err != nil || len(got) == 1<<20 {
			return
		}
		library, err := xz.NewReader(bytes.NewReader(data))
		require.NoError(t, err)
		want, err := io.ReadAll(library)
		require.NoError(t, err, "what is accepted here the library accepts")
		require.Equal(t, want, got)
	})
}
