package mod

import (
	"context"
	"path/filepath"
	"runtime"

	"golang.org/x/sync/errgroup"

	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
)

// small is the size, in bytes, up to which a mod is read as soon as it is seen; larger ones wait until their digest is needed.
const small = 16 << 20

// TakeDigests reads the mods that have changed since the hasher last saw them: all of them, or without all only small ones; the digests of
// larger ones are recalled where they are known. Mods that cannot be read get a Problem. progress is told the bytes of the mods that are
// done, from several goroutines.
func (s Set) TakeDigests(ctx context.Context, h *tree.Hasher, all bool, progress func(n int64)) error {
	var work errgroup.Group
	work.SetLimit(runtime.GOMAXPROCS(0))
	for _, m := range s.Mods {
		if m.Kind.Base && !all {
			continue
		}
		work.Go(func() error {
			if err := m.takeDigest(ctx, h, all || m.Size <= small); err != nil {
				m.Problem = err
			}
			progress(m.Size)
			return ctx.Err()
		})
	}
	return work.Wait()
}

func (m *Mod) takeDigest(ctx context.Context, h *tree.Hasher, read bool) error {
	dir, err := filepath.EvalSymlinks(m.Dir())
	if err != nil {
		return err
	}
	if m.Kind.Unit == game.UnitFile {
		dir = filepath.Dir(dir)
	}
	h.Once(m.Dir()+"\x00digest", tree.Digest{3}, dir, m.Files(), &m.Digest, func() bool {
		if m.Digest.IsZero() { // else it was taken as the mod was kept
			m.Digest, err = m.digest(ctx, h, dir, read)
		}
		return err == nil && !m.Digest.IsZero()
	})
	return err
}

// digest takes the digest of the mod's files, those that are known without reading them; without read it is zero where one is not.
func (m *Mod) digest(ctx context.Context, h *tree.Hasher, dir string, read bool) (tree.Digest, error) {
	if len(m.Unread) > 0 {
		return tree.Digest{}, m.Unread[0].Err
	}
	list := make([]tree.Named, 0, m.Entries.Len())
	for f := range m.Files() {
		sums, ok := h.Recall(dir, f, false)
		if !ok {
			if !read {
				return tree.Digest{}, nil
			}
			var err error
			if sums, err = h.File(ctx, dir, f, false); err != nil {
				return tree.Digest{}, err
			}
		}
		list = append(list, tree.Named{Path: m.inside(f), Digest: sums.Blake3})
	}
	return tree.ListDigest(list), nil
}

// inside is what a file is called in the mod's digest.
func (m *Mod) inside(f tree.Entry) string {
	if m.Kind.Unit == game.UnitFile {
		return "."
	}
	return f.Path
}
