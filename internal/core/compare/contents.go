package compare

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// contents are the files of something, by what they are called in it: "." is the one file that it is.
type contents map[string]content

// content is one file.
type content struct {
	size   int64
	digest func(ctx context.Context) (tree.Digest, error)
	open   func() (io.ReadCloser, error)
	spec   *doc.Spec // how it is wrapped and made, where a description says so
}

// maxContents bounds how many files of a folder are compared.
const maxContents = 200_000

// ofSave are the files of a save in a game's folder.
func ofSave(h *home.Home, s *facts.Save) contents {
	c := contents{}
	for _, e := range s.Files {
		c[save.Inside(s.Kind, s.Name, e.Path)] = onDisk(h, s.Folder.Path, e, specOf(s.Kind, s.Name, e.Path))
	}
	return c
}

// onDisk is a file in a folder.
func onDisk(h *home.Home, dir string, e tree.Entry, spec *doc.Spec) content {
	return content{e.Size, func(ctx context.Context) (tree.Digest, error) {
		sums, err := h.Hasher.File(ctx, dir, e, false)
		return sums.Blake3, err
	}, func() (io.ReadCloser, error) { return tree.Open(filepath.Join(dir, filepath.FromSlash(e.Path))) }, spec}
}

// specOf is how the description says that a file of a save is made, or nil.
func specOf(kind *game.Save, name, file string) *doc.Spec {
	for _, declared := range kind.Files {
		if found := save.FilesOf(kind, declared, name, []string{file}); len(found) > 0 {
			spec := declared.Spec()
			return &spec
		}
	}
	return nil
}

// pathSide is what a path on disk is: a mod list or a parcel, a download or a folder with a save in it, or any file or folder.
func pathSide(ctx context.Context, h *home.Home, path string) (*Side, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.IsDir() {
		if side := listSide(path); side != nil {
			return side, nil
		}
	}
	if side, err := downloadSide(ctx, h, path); side != nil || err != nil {
		return side, err
	}
	if side, err := parcelSide(ctx, h, path); side != nil || err != nil {
		return side, err
	}
	return filesSide(ctx, h, path, info.IsDir())
}

// downloadSide is the one save in a download or folder, or nil where there is none, or several.
func downloadSide(ctx context.Context, h *home.Home, path string) (*Side, error) {
	d, err := facts.OpenDownload(ctx, h, path)
	if err != nil {
		return nil, err
	}
	if len(d.Hazards) > 0 {
		return nil, errors.Join(problem.Usage(problem.Do("vet", path), "%s is dangerous: it is not looked into", path), d.Close())
	}
	var games []*game.Description
	for _, in := range h.Installs {
		games = append(games, in.Game)
	}
	found, err := d.Saves(ctx, h, games)
	if err != nil || len(found) != 1 {
		return nil, errors.Join(err, d.Close())
	}
	f := found[0]
	side := &Side{Name: fmt.Sprintf("%s in %s", filepath.Base(f.Candidate.Name), filepath.Base(path)), Version: f.Needs.Version, Save: f.Save, close: d.Close, inside: contents{}}
	if f.Needs.ModsEvidence != "" {
		side.Mods = listed(f.Needs)
	}
	for _, e := range f.Files {
		side.inside[save.Inside(f.Kind, f.Candidate.Name, e.Path)] = content{e.Size, func(context.Context) (tree.Digest, error) { return d.Digests[e.Path], nil },
			func() (io.ReadCloser, error) { return d.FS.Open(e.Path) }, specOf(f.Kind, f.Candidate.Name, e.Path)}
	}
	return side, nil
}

// filesSide is a file, or a folder with all in it. Links are not followed.
func filesSide(ctx context.Context, h *home.Home, path string, folder bool) (*Side, error) {
	side := &Side{Name: path, inside: contents{}}
	if !folder {
		dir, name := filepath.Split(path)
		e, err := tree.Stat(dir, name)
		if err == nil && e.Kind != tree.File {
			err = &fs.PathError{Op: "compare", Path: path, Err: errors.New("is no file")}
		}
		side.inside["."] = onDisk(h, dir, e, nil)
		return side, err
	}
	err := tree.Walk(ctx, path, func(e tree.Entry) error {
		if len(side.inside) >= maxContents {
			return fmt.Errorf("%s has more than %d files", path, maxContents)
		}
		if e.Kind == tree.File {
			side.inside[e.Path] = onDisk(h, path, e, nil)
		}
		return e.Err
	})
	return side, err
}
