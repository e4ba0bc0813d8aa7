package save

import (
	"context"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"time"

	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
)

// slow is from how long on the reading of a save is worth remembering by its content, too: it may be put away and brought back.
const slow = 20 * time.Millisecond

// read fills in what the save says of itself: as it was read before, from the files in just this state or from the same content elsewhere.
func (s *Save) read(ctx context.Context, in *game.Install, h *tree.Hasher) {
	dir := s.Folder.Path
	h.Once(filepath.Join(dir, s.Name)+"\x00"+s.Kind.ID, in.Game.Digest, dir, slices.Values(s.Files), &s.Facts, func() bool {
		if digest, ok := s.recall(h); ok && h.Notes != nil && h.Notes.Recall(s.byContent(digest), in.Game.Digest, &s.Facts) {
			return true
		}
		began := h.Now()
		s.Facts = s.In(ctx, s.FS(), in.Game.Referring(s.Kind)...)
		if s.Facts.Problem == nil && h.Now().Sub(began) > slow {
			s.scope = in.Game.Digest
		}
		return s.Facts.Problem == nil
	})
}

// FS is the folder of a save of an install.
func (s *Save) FS() fs.FS { return tree.DirFS(s.Folder.Path) }

// In is what the save says of itself where its files are those of fsys; see Read.
func (s *Save) In(ctx context.Context, fsys fs.FS, also ...game.Spot) Facts {
	as := *s
	as.Facts = Read(ctx, s.Kind, fsys, s.Name, paths(s.Files), also...)
	if as.Facts.Problem == nil && len(s.Files) > 0 {
		as.Facts.Problem = as.unlike(fsys)
	}
	return as.Facts
}

// unlike says why something that is called as a save is none: what tells its kind is not in it, or a part is missing.
func (s *Save) unlike(fsys fs.FS) error {
	c := s.candidate()
	if missing := c.Missing(); len(missing) > 0 {
		return fmt.Errorf("%w: %s is missing", wrap.ErrDamaged, missing[0])
	}
	if !is(s.Kind, fsys, c) {
		return fmt.Errorf("%w: it is called as a save is, and is not made as one", wrap.ErrDamaged)
	}
	return nil
}

// candidate is the save as one that is still to be recognised.
func (s *Save) candidate() Candidate {
	return Candidate{Kind: s.Kind, Name: s.Name, Files: paths(s.Files), Captures: s.Captures, Facts: s.Facts}
}

// byContent names the note of what a save of that name and content says.
func (s *Save) byContent(digest tree.Digest) string {
	return "content " + digest.Hex() + " " + s.Kind.ID + " " + s.Name
}

// recall is the digest of the save where that is known without reading it.
func (s *Save) recall(h *tree.Hasher) (tree.Digest, bool) {
	var list []tree.Named
	for _, f := range s.Files {
		sums, ok := h.Recall(s.Folder.Path, f, false)
		if !ok {
			return tree.Digest{}, false
		}
		list = append(list, tree.Named{Path: s.relative(f.Path), Digest: sums.Blake3})
	}
	return DigestOf(s.Kind, list), len(list) > 0
}

// Foretell notes what a save says whose files have just been written, so that it is not read again for that. says is what was read of just these files
// before they took their place; files are their paths, and contents those that are other ones than before. It returns them as they are now; ok is false where nothing could be noted.
func (s *Save) Foretell(ctx context.Context, in *game.Install, h *tree.Hasher, says Facts, files []string, contents tree.Contents) (now []tree.Entry, ok bool) {
	if h.Notes == nil {
		return nil, false
	}
	var list []tree.Named
	for _, p := range files {
		e, err := tree.Stat(s.Folder.Path, p)
		if err != nil {
			return nil, false
		}
		sums, err := h.File(ctx, s.Folder.Path, e, false)
		if err != nil {
			return nil, false
		}
		h.Wrote(s.Folder.Path, e, sums)
		list = append(list, tree.Named{Path: s.relative(p), Digest: sums.Blake3})
		now = append(now, e)
	}
	h.Notes.Note(s.byContent(DigestOf(s.Kind, list)), in.Game.Digest, says)
	return now, true
}

// note remembers what the save says by its content, where reading it took long.
func (s *Save) note(h *tree.Hasher) {
	if !s.scope.IsZero() && h.Notes != nil {
		h.Notes.Note(s.byContent(s.Digest), s.scope, s.Facts)
	}
}
