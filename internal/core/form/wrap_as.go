package form

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/dsnet/compress/bzip2"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zlib"
	"github.com/ulikunitz/xz"
)

// What follows puts content into a container as the original has it: readers of games are often made for what their own writer does.

// gzipAs is a writer with the header of the original (RFC 1952): name, comment, time, system.
func gzipAs(out io.Writer, original []byte) (io.WriteCloser, error) {
	w := gzip.NewWriter(out)
	if r, err := gzip.NewReader(bytes.NewReader(original)); err == nil {
		w.Header = r.Header
	}
	if w.ModTime.IsZero() { // which the library would not write as none
		w.ModTime = time.Unix(0, 0)
	}
	return w, nil
}

// zlibAs is a writer of the level that the original's header tells (RFC 1950, FLEVEL).
func zlibAs(out io.Writer, original []byte) (io.WriteCloser, error) {
	level := zlib.DefaultCompression
	if len(original) > 1 {
		level = []int{zlib.BestSpeed, 4, zlib.DefaultCompression, zlib.BestCompression}[original[1]>>6]
	}
	return zlib.NewWriterLevel(out, level)
}

// xzAs is a writer with the kind of check that the original's stream header tells: small readers know only CRC-32.
func xzAs(out io.Writer, original []byte) (io.WriteCloser, error) {
	config := xz.WriterConfig{}
	if len(original) > 7 {
		if config.CheckSum = original[7] & 0xf; config.CheckSum == 0 {
			config.NoCheckSum = true
		}
	}
	return config.NewWriter(out)
}

// bzip2As is a writer of the size of blocks that the original's header tells.
func bzip2As(out io.Writer, original []byte) (io.WriteCloser, error) {
	config := bzip2.WriterConfig{}
	if len(original) > 3 && original[3] >= '1' && original[3] <= '9' {
		config.Level = int(original[3] - '0')
	}
	return bzip2.NewWriter(out, &config)
}

// zipAs is the original with another content of the entry that a layer names: all other entries are copied as they are.
func (l Layer) zipAs(content, original []byte) ([]byte, error) {
	z, err := zip.NewReader(bytes.NewReader(original), int64(len(original)))
	if err != nil {
		return nil, damaged("zip", err)
	}
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	done := false
	for _, f := range z.File {
		if done || f.Name != l.Arg && !doublestar.MatchUnvalidated(l.Arg, f.Name) {
			if err := w.Copy(f); err != nil {
				return nil, damaged("zip", err)
			}
			continue
		}
		done = true
		head := f.FileHeader
		head.CompressedSize64, head.UncompressedSize64, head.CRC32 = 0, 0, 0
		e, err := w.CreateHeader(&head)
		if err == nil {
			_, err = e.Write(content)
		}
		if err != nil {
			return nil, fmt.Errorf("the entry %s: %w: %w", f.Name, err, ErrNotWritable)
		}
	}
	if !done {
		return nil, fmt.Errorf("%w: has no entry %q inside", ErrDamaged, l.Arg)
	}
	err = errors.Join(w.SetComment(z.Comment), w.Close())
	return out.Bytes(), err
}

// framedAs is the content in pieces of the sizes that the original's have, as far as it reaches, and then of the size of its largest; each behind a head
// like the original's first, with its own length.
func (l Layer) framedAs(content, original []byte) ([]byte, error) {
	f, err := parseFrames(l.Arg)
	if err != nil {
		return nil, err
	}
	var sizes []int
	largest := 1
	for rest := original; len(rest) > 0; {
		parts, _, err := readParts(rest, f.head)
		if err != nil {
			return nil, err
		}
		length, err := strconv.Atoi(parts["length"])
		if err != nil || length > len(rest)-f.size {
			return nil, fmt.Errorf("%w: a piece ends too early", ErrDamaged)
		}
		piece, err := Layers{Chain: []Layer{f.layer}}.Peel(bytes.NewReader(rest[f.size:f.size+length]), Limits{Decoded: maxFrame})
		if err != nil {
			return nil, err
		}
		sizes, largest = append(sizes, len(piece)), max(largest, len(piece))
		rest = rest[f.size+length:]
	}
	var out bytes.Buffer
	for i := 0; i == 0 || len(content) > 0; i++ {
		size := largest
		if i < len(sizes)-1 {
			size = sizes[i]
		}
		size = min(size, len(content))
		packed, err := f.layer.wrap(content[:size], original[f.size:])
		if err != nil {
			return nil, err
		}
		head := bytes.Clone(original[:f.size])
		at := 0
		for _, p := range f.head {
			q, _ := compileBytes("0:" + p.kind)
			n := map[string]int{"length": len(packed), "raw": size}
			if value, known := n[p.name]; known {
				text, err := q.encode(strconv.Itoa(value))
				if err != nil {
					return nil, err
				}
				copy(head[at:], text)
			}
			at += q.size
		}
		out.Write(head)
		out.Write(packed)
		content = content[size:]
	}
	return out.Bytes(), nil
}
