package form

import (
	"bytes"
	"errors"
	"io"

	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"
)

// magics are the first bytes of what compressions make.
var magics = map[string][]byte{"gzip": {0x1f, 0x8b}, "zstd": {0x28, 0xb5, 0x2f, 0xfd}, "xz": {0xfd, '7', 'z', 'X', 'Z', 0}, "bzip2": []byte("BZh")}

// Begin reports whether a file could be in these layers by its beginning, of which head is at most size bytes.
func (l Layers) Begin(head []byte, size int) bool {
	chain := l.Chain
	if l.Tag != nil {
		if l.Tag.To > size {
			return true
		}
		var err error
		if chain, err = l.chainFor(head); err != nil {
			return false
		}
	}
	return len(chain) == 0 || bytes.HasPrefix(head, magics[chain[0].Name])
}

// Window is how much memory, in bytes, unpacking a file that begins with head takes, as far as the compressions go in which that may be much.
func (l Layers) Window(head []byte) int64 {
	switch Compression(head) {
	case "zstd":
		var h zstd.Header
		if h.Decode(head) == nil {
			return int64(h.WindowSize)
		}
	case "xz":
		if n := 12; len(head) > n && len(head) >= n+4*(int(head[n])+1) && head[n] > 0 {
			dict, _, err := xzBlockHeader(head[n : n+4*(int(head[n])+1)])
			if err == nil {
				return dict
			}
		}
	}
	return 0
}

// Compression names the compression that the first bytes of a file show, or is "" where they show none.
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

// trial is how much of a file Compression wants to see, in bytes.
const trial = 512

func unpacksAsZlib(head []byte) bool {
	z, err := zlib.NewReader(bytes.NewReader(head[:min(len(head), trial)]))
	if err == nil {
		_, err = io.Copy(io.Discard, io.LimitReader(z, 1<<20))
	}
	return err == nil || errors.Is(err, io.ErrUnexpectedEOF)
}
