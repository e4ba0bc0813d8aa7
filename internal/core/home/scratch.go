package home

import (
	"context"
	"errors"
	"os"
	"path/filepath"

	"ostrov/internal/core/tree"
)

// ScratchFolder makes an empty folder of that name for something that is fetched; its parent is for DropScratch.
func (h *Home) ScratchFolder(name string) (string, error) {
	dir, err := os.MkdirTemp(h.Scratch(), "fetched-")
	if err != nil {
		return "", err
	}
	full := filepath.Join(dir, filepath.Base(filepath.Clean("/"+name)))
	if err := os.Mkdir(full, 0o700); err != nil {
		return "", errors.Join(err, os.Remove(dir))
	}
	return full, nil
}

// DropScratch removes a folder of Scratch's.
func (h *Home) DropScratch(dir string) error { return os.RemoveAll(dir) }

// KeepDownload has the archive take a download, and returns its digest.
func (h *Home) KeepDownload(ctx context.Context, file string) (tree.Digest, error) {
	a, _, err := h.ArchiveToKeep()
	if err != nil {
		return tree.Digest{}, err
	}
	info, err := os.Stat(file)
	if err != nil {
		return tree.Digest{}, err
	}
	return a.KeepDownload(ctx, file, h.Counting("keep", info.Size()))
}
