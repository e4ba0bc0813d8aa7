package doc

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"io/fs"

	"ostrov/internal/core/wrap"
)

// Check reports a file that is not what its spec says, as far as that can be told without a question. Of a database it compares the size with the one
// that its head names (https://sqlite.org/fileformat.html, 1.3).
func (spec Spec) Check(ctx context.Context, fsys fs.FS, name string) error {
	switch spec.Form {
	case "sqlite":
		for _, ending := range SQLiteCompanions { // their content counts, too
			if f, err := fsys.Open(name + ending); err == nil {
				return f.Close()
			}
		}
		f, err := fsys.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		size := int64(-1)
		if info, err := f.Stat(); err == nil && spec.Layers.None() {
			size = info.Size()
		}
		content, err := spec.Layers.Reader(f, wrap.Limits{Decoded: 1 << 40})
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		defer content.Close()
		if err := wholeDatabase(ctx, content, size); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		return nil
	}
	d, err := Open(ctx, fsys, name, spec, wrap.DefaultLimits)
	if err != nil {
		return err
	}
	return d.Close()
}

// wholeDatabase checks a database of a size in bytes; for -1 it measures the size.
func wholeDatabase(ctx context.Context, content io.Reader, size int64) error {
	head := make([]byte, 100)
	if n, err := io.ReadFull(content, head); n == 0 || err != nil || !bytes.HasPrefix(head, []byte("SQLite format 3\x00")) {
		return fmt.Errorf("%w: not a SQLite database", wrap.ErrDamaged)
	}
	page := int64(binary.BigEndian.Uint16(head[16:]))
	if page == 1 {
		page = 64 << 10
	}
	pages := int64(binary.BigEndian.Uint32(head[28:]))
	if !bytes.Equal(head[24:28], head[92:96]) { // the number of pages is of an older library's
		return nil
	}
	if size < 0 {
		rest, err := io.Copy(io.Discard, content)
		if err != nil {
			return err
		}
		size = int64(len(head)) + rest
	}
	if size < page*pages {
		return fmt.Errorf("%w: the database ends too early: it has %d of %d bytes", wrap.ErrDamaged, size, page*pages)
	}
	return ctx.Err()
}
