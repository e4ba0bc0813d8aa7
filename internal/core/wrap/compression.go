package wrap

import (
	"bytes"
	"errors"
	"io"

	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"
)

// magics are the first bytes of what compressions make.
var magics = map[string][]byte{"gzip": {0x1f, 0x8b}, "zstd": {0x28, 0xb5, 0x2f, 0xfd}, "xz": {0xfd, '7', 'z', 'X', 'Z', 0}, "bzip2": []byte("BZh")}

// Window returns the memory, in bytes, that unpacking a file with this beginning takes, for the compressions that may take much.
func (l Layers) Window(head []byte) int64 {
	switch Compression(head) {
	case "zstd":
		var h zstd.Header
		if h.Decode(head) == nil {
			return int64(h.WindowSize)
		}
	case "xz":
		return xzDictionary(head)
	}
	return 0
}

// xzDictionary is the size of the dictionary, in bytes, that the first block of an xz asks for: the property of its last filter, LZMA2
// (https://tukaani.org/xz/xz-file-format.txt, 3.1 and 5.3.1). It is 0 where head does not tell.
func xzDictionary(head []byte) int64 {
	const at = 12 // behind the stream header
	if len(head) < at+2 || head[at] == 0 || len(head) < at+4*(int(head[at])+1) {
		return 0
	}
	header := head[at : at+4*(int(head[at])+1)]
	for i := 0; i+2 < len(header)-4; i++ {
		if header[i] == 0x21 && header[i+1] == 1 && header[i+2] <= 40 {
			code := header[i+2]
			return int64(2|code&1) << (code/2 + 11)
		}
	}
	return 0
}

// Compression returns the name of the compression that the first bytes of a file show, or "".
// zlib has only two header bytes (RFC 1950), which texts that begin with x may have too: it must unpack as far as head goes.
func Compression(head []byte) string {
	for _, name := range []string{"gzip", "zstd", "xz"} {
		if bytes.HasPrefix(head, magics[name]) {
			return name
		}
	}
	switch {
	case bytes.HasPrefix(head, []byte{0x04, 0x22, 0x4d, 0x18}):
		return "lz4"
	case len(head) >= 4 && bytes.HasPrefix(head, magics["bzip2"]) && head[3] >= '1' && head[3] <= '9':
		return "bzip2"
	case len(head) >= 2 && head[0] == 0x78 && (uint(head[0])<<8|uint(head[1]))%31 == 0 && unpacksAsZlib(head):
		return "zlib"
	}
	return ""
}

// trial is the most bytes of a file that Compression needs.
const trial = 512

func unpacksAsZlib(head []byte) bool {
	z, err := zlib.NewReader(bytes.NewReader(head[:min(len(head), trial)]))
	if err == nil {
		_, err = io.Copy(io.Discard, io.LimitReader(z, 1<<20))
	}
	return err == nil || errors.Is(err, io.ErrUnexpectedEOF)
}
