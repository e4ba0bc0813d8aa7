package save

import (
	"context"
	"fmt"
	"io/fs"
	"iter"
	"path/filepath"
	"slices"
	"time"

	"ostrov/internal/core/form"
	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
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
		s.Facts = s.In(ctx, s.FS(in.Game, h))
		if s.Facts.Problem == nil && h.Now().Sub(began) > slow {
			s.scope = in.Game.Digest
		}
		return s.Facts.Problem == nil
	})
}

// outlines names the note of where the parts of a file end.
func outlines(dir, file string) string {
	return filepath.Join(dir, filepath.FromSlash(file)) + "\x00outline"
}

// FS is the folder of a save of an install, of whose large files h remembers where their parts end.
func (s *Save) FS(d *game.Description, h *tree.Hasher) fs.FS {
	dir := s.Folder.Path
	noted := func(name string) (place string, file iter.Seq[tree.Entry], ok bool) {
		i := slices.IndexFunc(s.Files, func(e tree.Entry) bool { return e.Path == name })
		if i < 0 {
			return "", nil, false
		}
		return outlines(dir, name), slices.Values(s.Files[i : i+1]), true
	}
	return form.Remembered(tree.DirFS(dir), func(name string) (what []byte) {
		if place, file, ok := noted(name); ok {
			h.Known(place, d.Digest, dir, file, &what)
		}
		return what
	}, func(name string, what []byte) {
		if place, file, ok := noted(name); ok {
			h.Note(place, d.Digest, dir, file, what)
		}
	})
}

// In is what the save says of itself where its files are those of fsys.
func (s *Save) In(ctx context.Context, fsys fs.FS) Facts {
	as := *s
	as.Facts = Read(ctx, s.Kind, fsys, s.Name, paths(s.Files))
	if as.Facts.Problem == nil && len(s.Files) > 0 {
		as.Facts.Problem = as.unlike(fsys)
	}
	return as.Facts
}

// unlike says why something that is called as a save is none: what tells its kind is not in it, or a part is missing.
func (s *Save) unlike(fsys fs.FS) error {
	c := s.candidate()
	if missing := c.Missing(); len(missing) > 0 {
		return fmt.Errorf("%w: %s is missing", form.ErrDamaged, missing[0])
	}
	if !is(s.Kind, fsys, c) {
		return fmt.Errorf("%w: it is called as a save is, and is not made as one", form.ErrDamaged)
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
		if passed, ok := contents[p].(interface{ Learnt() []byte }); ok {
			if learnt := passed.Learnt(); learnt != nil {
				h.Note(outlines(s.Folder.Path, p), in.Game.Digest, s.Folder.Path, slices.Values([]tree.Entry{e}), learnt)
			}
		}
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
