package form

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
)

// maxLarge bounds a JSON or XML that is read block by block where it lies, in bytes.
const maxLarge = 8 << 30

// openText opens a JSON or XML. One that is too large to be held in memory is read where it lies, or, where it is wrapped or not in UTF-8, in a file
// of our own.
func openText(fsys fs.FS, name string, spec Spec, limits Limits) (doc Doc, err error) {
	f, err := fsys.Open(name)
	if err != nil {
		return nil, err
	}
	defer func() {
		if f != nil {
			err = errors.Join(err, f.Close())
		}
		if err != nil {
			doc, err = nil, fmt.Errorf("%s: %w", name, err)
		}
	}()
	if text := inPlace(f, spec); text != nil {
		f = nil
		return largeOf(text, spec)
	}
	content, err := spec.Layers.Reader(f, limits)
	if err != nil {
		return nil, err
	}
	defer content.Close()
	held, err := readAtMost(io.LimitReader(content, maxTree+1), maxTree+1)
	if err != nil {
		return nil, damaged("", err)
	}
	if len(held) <= maxTree {
		return Parse(held, spec)
	}
	return spooled(io.MultiReader(bytes.NewReader(held), content), spec)
}

// inPlace is a large file that is neither wrapped nor in another encoding, or nil.
func inPlace(f fs.File, spec Spec) *source {
	info, err := f.Stat()
	at, ok := f.(io.ReaderAt)
	if len(spec.Layers.Chain) > 0 || spec.Layers.Tag != nil || !ok || err != nil || info.Size() <= maxTree || info.Size() > maxLarge {
		return nil
	}
	head := make([]byte, 256)
	if _, err := at.ReadAt(head, 0); err != nil {
		return nil
	}
	if encoding := encodingOf(head, spec); encoding != "" && !strings.EqualFold(encoding, "utf-8") {
		return nil
	}
	text := inFile(at, int(info.Size()))
	text.done = f.Close
	return text
}

// maxSpooledBlocks bounds blocks that are wrapped or packed, unwrapped, in bytes: they take five times as long as JSON, and a few bytes may unwrap to
// very many.
const maxSpooledBlocks = 128 << 20

// spooled writes a content, as UTF-8, into a file that is gone when the document is closed.
func spooled(content io.Reader, spec Spec) (Doc, error) {
	content, err := TextReader(content, spec)
	if err != nil {
		return nil, err
	}
	f, err := os.CreateTemp("", "ostrov-read-")
	if err != nil {
		return nil, err
	}
	gone := func() error { return errors.Join(f.Close(), os.Remove(f.Name())) }
	if spec.Form == "blocks" {
		content = io.LimitReader(content, maxSpooledBlocks+1)
	}
	size, err := io.Copy(f, content)
	if err == nil && spec.Form == "blocks" && size > maxSpooledBlocks {
		err = fmt.Errorf("%w: more than %d bytes of blocks, unwrapped", ErrTooLarge, maxSpooledBlocks)
	}
	if err != nil {
		return nil, errors.Join(err, gone())
	}
	text := inFile(f, int(size))
	text.done = gone
	return largeOf(text, spec)
}

// largeOf passes over a large text; the text is closed if it is not what its form says.
func largeOf(text *source, spec Spec) (doc Doc, err error) {
	switch spec.Form {
	case "xml":
		doc, err = largeXMLOf(text)
	case "json":
		doc, err = largeJSONOf(text)
	default:
		doc, err = largeBlocksOf(text, spec.Blocks)
	}
	if err != nil {
		return nil, errors.Join(err, text.close())
	}
	return doc, nil
}
