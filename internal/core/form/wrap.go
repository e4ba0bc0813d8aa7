package form

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strconv"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
)

// Wrap is the reverse of Peel: it puts content into the layers of a file, whose original supplies what the layers hold besides content
// (bytes and lines that are skipped, what follows a length). Checksums and lengths are computed anew.
func (l Layers) Wrap(content, original []byte) ([]byte, error) {
	chain, err := l.chainFor(original)
	if err != nil {
		return nil, err
	}
	return wrap(chain, content, original)
}

// Words are the layers of a file that begins with head, outermost first, as a description spells them; for auto, what was found.
func (l Layers) Words(head []byte) []string {
	chain, err := l.chainFor(head)
	if err != nil {
		return nil
	}
	var words []string
	for i, layer := range chain {
		if layer.Name == "auto" {
			if i > 0 { // what is inside is not known without peeling
				return append(words, "auto")
			}
			if layer.Name = Compression(head); layer.Name == "" {
				continue
			}
		}
		word := layer.Name
		if layer.Arg != "" {
			word += ":" + layer.Arg
		}
		words = append(words, word)
	}
	return words
}

// Rewrite returns the file original with what edit makes of its unwrapped content, in the same layers. What it returns has been unwrapped
// again: it holds exactly what edit made, within the same limits. Errors wrap ErrNotWritable where that cannot be.
func Rewrite(original []byte, layers Layers, limits Limits, edit func(content []byte) ([]byte, error)) ([]byte, error) {
	content, err := layers.Peel(bytes.NewReader(original), limits)
	if err != nil {
		return nil, err
	}
	if content, err = edit(content); err != nil {
		return nil, err
	}
	written, err := layers.Wrap(content, original)
	if err != nil {
		return nil, err
	}
	again, err := layers.Peel(bytes.NewReader(written), limits)
	if err != nil {
		return nil, fmt.Errorf("what was written does not unwrap again: %w: %w", err, ErrNotWritable)
	}
	if !bytes.Equal(again, content) {
		return nil, fmt.Errorf("what was written unwraps to something else: %w", ErrNotWritable)
	}
	return written, nil
}

func wrap(chain []Layer, content, original []byte) ([]byte, error) {
	if len(chain) == 0 {
		return content, nil
	}
	layer := chain[0]
	if layer.Name == "auto" {
		if layer.Name = Compression(original); layer.Name == "" {
			return wrap(chain[1:], content, original)
		}
	}
	inside, closer, err := layer.peel(bytes.NewReader(original), DefaultLimits)
	if layer.Name == "checksum" { // the original's own may be wrong, as the content is being replaced
		inside, err = bytes.NewReader(original), nil
	}
	if err != nil {
		return nil, damaged(layer.Name, err)
	}
	if closer != nil {
		defer closer()
	}
	was, err := readAtMost(inside, DefaultLimits.Decoded)
	if err != nil {
		return nil, damaged(layer.Name, err)
	}
	if content, err = wrap(chain[1:], content, was); err != nil {
		return nil, err
	}
	return layer.wrap(content, original)
}

// wrap puts content into one layer.
func (l Layer) wrap(content, original []byte) ([]byte, error) {
	switch l.Name {
	case "skip":
		n, _ := strconv.Atoi(l.Arg)
		return append(bytes.Clone(original[:n]), content...), nil
	case "lines":
		n, _ := strconv.Atoi(l.Arg)
		end := 0
		for range n {
			end += bytes.IndexByte(original[end:], '\n') + 1
		}
		return append(bytes.Clone(original[:end]), content...), nil
	case "xor":
		key, _ := hex.DecodeString(l.Arg)
		return io.ReadAll(&xored{r: bytes.NewReader(content), key: key})
	case "length":
		t, _ := lengthType(l.Arg)
		_, _, after, err := t.cut(original)
		return append(append(t.encode(len(content)), content...), after...), err
	case "checksum":
		c, _ := parseChecksum(l.Arg)
		return c.put(content)
	case "zip":
		return l.zipAs(content, original)
	case "framed":
		return l.framedAs(content, original)
	case "lzo":
		return lzo1xOf(content), nil
	case "base64":
		return []byte(base64.StdEncoding.EncodeToString(content)), nil
	}
	var b bytes.Buffer
	var w io.WriteCloser
	var err error
	switch l.Name {
	case "gzip":
		w, err = gzipAs(&b, original)
	case "zlib":
		w, err = zlibAs(&b, original)
	case "deflate":
		w, err = flate.NewWriter(&b, flate.DefaultCompression)
	case "zstd":
		w, err = zstd.NewWriter(&b)
	case "bzip2":
		w, err = bzip2As(&b, original)
	case "xz":
		w, err = xzAs(&b, original)
	case "lz4":
		if Compression(original) != "lz4" {
			return lz4OneBlock(content)
		}
		w = lz4.NewWriter(&b)
	default:
		return nil, fmt.Errorf("a layer %q cannot be written", l.Name)
	}
	if err == nil {
		_, err = w.Write(content)
		err = errors.Join(err, w.Close())
	}
	return b.Bytes(), err
}

func lz4OneBlock(content []byte) ([]byte, error) {
	out := make([]byte, lz4.CompressBlockBound(len(content)))
	n, err := lz4.CompressBlock(content, out, nil)
	if err == nil && n == 0 && len(content) > 0 {
		err = errors.New("cannot be made smaller, and a bare LZ4 block has no other way to hold it")
	}
	return out[:n], err
}
