package save

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/wrap"
)

// tail is how much of a file's end is compared with how a whole one ends, in bytes.
const tail = 4 << 10

// whole reads through the files that the description declares, whether a field needs them or not: what was not read is not known. It is an error
// where layers or checksums do not hold, or where a file does not end as a whole one does.
func whole(ctx context.Context, kind *game.Save, fsys fs.FS, files []string) error {
	asked := asked(kind)
	for _, id := range slices.Sorted(maps.Keys(kind.Files)) {
		declared := kind.Files[id]
		for _, file := range declared.In(files) {
			if err := wholeFile(ctx, declared, fsys, file); err != nil {
				return fmt.Errorf("%s: %w", file, err)
			}
			if asked[id] {
				continue
			}
			if err := declared.Spec().Check(ctx, fsys, file); err != nil {
				return err
			}
		}
	}
	return nil
}

// asked are the files that fields and lists are read from: whether these are what they should be has shown by then.
func asked(kind *game.Save) map[string]bool {
	ids := map[string]bool{}
	for _, fields := range kind.Field {
		for _, f := range fields {
			ids[f.In] = kind.Files[f.In].Form != "sqlite" && !strings.ContainsAny(kind.Files[f.In].Path, "*?[{")
		}
	}
	return ids
}

func wholeFile(ctx context.Context, declared field.File, fsys fs.FS, file string) error {
	if len(declared.Layers.Chain) == 0 && declared.Layers.Tag == nil && declared.Ends == "" {
		return nil
	}
	f, err := fsys.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	content, err := declared.Layers.Reader(f, wrap.DefaultLimits)
	if err != nil {
		return err
	}
	defer content.Close()
	end := make([]byte, 0, 2*tail)
	buf := make([]byte, 64<<10)
	for {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		n, err := content.Read(buf)
		end = append(end, buf[max(0, n-tail):n]...)
		end = append(end[:0], end[max(0, len(end)-tail):]...)
		if err == io.EOF {
			break
		}
		if err != nil {
			return err
		}
	}
	if !declared.EndsWhole(end) {
		return fmt.Errorf("%w: it does not end as a whole one does", wrap.ErrDamaged)
	}
	return nil
}
