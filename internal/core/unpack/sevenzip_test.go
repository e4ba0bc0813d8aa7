package unpack

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sevenz is a 7z with that directory behind the packed streams, and all its checksums right.
func sevenz(streams, directory []byte) []byte {
	start := binary.LittleEndian.AppendUint64(nil, uint64(len(streams)))
	start = binary.LittleEndian.AppendUint64(start, uint64(len(directory)))
	start = binary.LittleEndian.AppendUint32(start, crc32.ChecksumIEEE(directory))
	head := binary.LittleEndian.AppendUint32([]byte("7z\xbc\xaf\x27\x1c\x00\x04"), crc32.ChecksumIEEE(start))
	return bytes.Join([][]byte{head, start, streams, directory}, nil)
}

// many is a number of 7z that nobody has that many of.
const many = "\xf0\x00\x00\x00\x10"

func Test7zThatSaysItHasTooMuch(t *testing.T) {
	files := func(n string) string { return "\x01\x05" + n + "\x00\x00" }
	block := "\x01\x04\x06\x00\x01\x09\x01\x00\x07\x0b\x01\x00" // one packed stream, and one block of:
	for name, directory := range map[string]string{
		"files":            files(many),
		"packed streams":   "\x01\x04\x06\x00" + many,
		"blocks":           "\x01\x04\x06\x00\x01\x09\x01\x00\x07\x0b" + many + "\x00",
		"packers":          block + many,
		"inputs":           block + "\x01\x11\x00" + many + "\x01",
		"outputs":          block + "\x01\x11\x00\x01" + many,
		"files of a block": block + "\x01\x01\x00\x0c\x01\x00\x08\x0d" + many,
	} {
		t.Run(name, func(t *testing.T) {
			d := look(t, sevenz([]byte("x"), []byte(directory)))
			require.NotEmpty(t, d.Hazards)
			assert.Contains(t, d.Hazards[0].Why, "more than 200000")
			n := string(binary.LittleEndian.AppendUint32([]byte{0xe0}, uint32(len(directory)))[:4])
			packed := "\x17\x06\x00\x01\x09" + n + "\x00\x07\x0b\x01\x00\x01\x01\x00\x0c" + n + "\x00\x00" // copied only, as the files may be
			d = look(t, sevenz([]byte(directory), []byte(packed)))
			require.NotEmpty(t, d.Hazards, "when the directory is packed itself")
			assert.Contains(t, d.Hazards[0].Why, "more than 200000")
		})
	}
	for name, directory := range map[string]string{
		"more files than there is room for names": files("\x90\x00"),
		"properties beyond the end":               block + "\x01\x21\x00" + many,
		"more out than in":                        block + "\x01\x11\x00\x01\x02",
		"no kind":                                 "\x09",
		"nothing":                                 "",
	} {
		d := look(t, sevenz([]byte("x"), []byte(directory)))
		require.NotEmpty(t, d.Damaged, name)
		assert.Contains(t, d.Damaged[0].Why, "damaged", name)
	}
}

// Test7zOfTheRealProgram has it pack the same tree in each way that it has; none of them is taken for a hostile one.
func Test7zOfTheRealProgram(t *testing.T) {
	program, err := exec.LookPath("7z")
	if err != nil {
		t.Skip("needs 7z (Debian: p7zip-full)")
	}
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "save", "empty"), 0o755))
	for i := range 300 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "save", fmt.Sprintf("region %d.dat", i)), []byte(strings.Repeat(fmt.Sprintln("row", i), i)), 0o644))
	}
	executable, err := os.Executable() // the filters for programs have something to do
	require.NoError(t, err)
	self, err := os.ReadFile(executable)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "save", "tool"), self[:min(len(self), 1<<20)], 0o755))
	for _, how := range [][]string{{}, {"-ms=off"}, {"-mhc=off"}, {"-m0=LZMA"}, {"-m0=BZip2"}, {"-m0=Deflate"}, {"-m0=BCJ2", "-m1=LZMA"}, {"-m0=BCJ", "-m1=LZMA2"}, {"-m0=Delta:4", "-m1=LZMA"}, {"-mx=0"}} {
		t.Run(strings.Join(how, " "), func(t *testing.T) {
			out := filepath.Join(t.TempDir(), "save.7z")
			pack := exec.Command(program, append(append([]string{"a", "-bd", out}, how...), "save")...)
			pack.Dir = dir
			said, err := pack.CombinedOutput()
			require.NoError(t, err, "%s", said)
			data, err := os.ReadFile(out)
			require.NoError(t, err)
			d := look(t, data)
			assert.Empty(t, d.Damaged)
			require.Len(t, d.Hazards, 1)
			assert.Equal(t, "save/tool", d.Hazards[0].Path, "which is a program, and left out")
			assert.Equal(t, 302, len(d.Entries))
		})
	}
}
