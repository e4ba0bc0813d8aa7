package keep

import (
	"context"
	"path/filepath"
	"runtime"
	"unicode/utf8"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/durable"
	"ostrov/internal/core/home"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/unpack"
)

// RestoreTo writes a snapshot into a new or empty folder, touching nothing else: it is there whole or not at all. Names that this system
// cannot hold are spelled portably.
func RestoreTo(ctx context.Context, h *home.Home, snap *archive.Snapshot, dir string, req RestoreRequest) (files int, err error) {
	a, err := h.Existing()
	if err != nil {
		return 0, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return 0, err
	}
	progress := h.Counting("restore", snap.Bytes())
	err = h.NewFolder(dir, func(temp string, batch *durable.Batch) error {
		for i, root := range snap.Roots {
			if !req.wants(root.Kind) {
				continue
			}
			out := archive.Out{Dir: filepath.Join(temp, snap.RootName(i)), Spell: spelled, Progress: progress, Batch: batch}
			if req.Slot != "" {
				wanted := filesOf(snap, req.Slot)
				out.Wanted = func(path string) bool { return wanted[path] }
			}
			n, err := a.Extract(ctx, root, out)
			if err != nil {
				return problem.New(problem.Do("archive verify"), "%s could not be brought back whole, so nothing has been written: %w", snap.Address(), err)
			}
			files += n
		}
		return nil
	})
	return files, err
}

// spelled is a path as this system can hold it.
func spelled(p string) string {
	if runtime.GOOS == "windows" || runtime.GOOS == "darwin" && !utf8.ValidString(p) {
		return unpack.PortableName(p)
	}
	return p
}

// CheckRestoreTo says how many files RestoreTo would write, and what stands in its way.
func CheckRestoreTo(ctx context.Context, h *home.Home, snap *archive.Snapshot, dir string, req RestoreRequest) (files int, err error) {
	a, err := h.Existing()
	if err != nil {
		return 0, err
	}
	if err := home.CheckEmpty(dir); err != nil {
		return 0, err
	}
	wanted := map[string]bool{}
	for _, k := range snap.Saves {
		for _, f := range k.Files {
			wanted[k.Folder+"\x00"+k.Account+"\x00"+f.Path] = isCalled(k, req.Slot)
		}
	}
	for _, root := range snap.Roots {
		if !req.wants(root.Kind) {
			continue
		}
		err := a.Nodes(ctx, root, func(n archive.Node) error {
			if n.Kind == tree.File && (req.Slot == "" || wanted[root.Folder+"\x00"+root.Account+"\x00"+n.Path]) {
				files++
			}
			return nil
		})
		if err != nil {
			return 0, err
		}
	}
	return files, nil
}

// filesOf are the paths of the files of one kept save.
func filesOf(snap *archive.Snapshot, name string) map[string]bool {
	wanted := map[string]bool{}
	for _, k := range snap.Saves {
		if isCalled(k, name) {
			for _, f := range k.Files {
				wanted[f.Path] = true
			}
		}
	}
	return wanted
}
