package job

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/unpack"
)

// RestoreTo writes a snapshot into a new or empty folder, touching nothing else. Names that this system cannot hold are escaped.
func (s *Session) RestoreTo(ctx context.Context, snap *archive.Snapshot, dir string, req RestoreRequest) (files int, err error) {
	a, err := s.Archive(false)
	if err != nil {
		return 0, err
	}
	list, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return 0, err
	}
	if len(list) > 0 {
		return 0, usage("", "%s is not empty", dir)
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return 0, err
	}
	for _, root := range snap.Roots {
		if len(req.Only) > 0 && !slices.Contains(req.Only, root.What) || req.Slot != "" && root.What != archive.Saves {
			continue
		}
		var names []string
		for _, part := range []string{root.What, root.Folder, root.Account} {
			if part != "" {
				names = append(names, escape(part))
			}
		}
		sub := filepath.Join(dir, strings.Join(names, "-"))
		if err := os.Mkdir(sub, 0o755); err != nil {
			return files, err
		}
		n, err := s.writeRoot(ctx, a, snap, root, sub, req.Slot)
		if err != nil {
			return files, problem("ostrov archive verify", "%s could not be brought back whole: %w", snap.Address(), err)
		}
		files += n
	}
	return files, nil
}

func (s *Session) writeRoot(ctx context.Context, a *archive.Archive, snap *archive.Snapshot, root archive.Root, dir, only string) (files int, err error) {
	target, err := os.OpenRoot(dir)
	if err != nil {
		return 0, err
	}
	defer target.Close()
	wanted := map[string]bool{}
	for _, k := range snap.Saves {
		if only == "" || k.Slot == only || k.Name == only {
			for _, f := range k.Files {
				wanted[f.Path] = true
			}
		}
	}
	var dirs []archive.Node
	err = a.Nodes(ctx, root, func(n archive.Node) error {
		if only != "" && !wanted[n.Path] {
			return nil
		}
		name := escape(n.Path)
		if n.Kind == tree.Dir {
			dirs = append(dirs, n)
			return target.MkdirAll(name, 0o755)
		}
		if n.Kind == tree.Link {
			return nil // what it pointed to is there under its own name
		}
		if parent := path.Dir(name); parent != "." {
			if err := target.MkdirAll(parent, 0o755); err != nil {
				return err
			}
		}
		f, err := target.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return err
		}
		err = a.Copy(ctx, n, f)
		if err == nil && runtime.GOOS != "windows" {
			err = f.Chmod(n.Entry().Mode)
		}
		if err = errors.Join(err, f.Close()); err != nil {
			return err
		}
		files++
		return target.Chtimes(name, time.Time{}, n.Time)
	})
	for _, d := range slices.Backward(dirs) {
		_ = target.Chtimes(escape(d.Path), time.Time{}, d.Time) // a folder's time is a comfort
	}
	return files, err
}

// escape writes a path so that every system can hold it: a part that one of them cannot is spelled with % and hex digits.
func escape(p string) string {
	parts := strings.Split(p, "/")
	for i, part := range parts {
		if unpack.CheckName(part) == "" {
			continue
		}
		var b strings.Builder
		for j := range len(part) {
			c := part[j]
			if c < 0x20 || strings.IndexByte(`:*?"<>|\%`, c) >= 0 || j == len(part)-1 && (c == '.' || c == ' ') || j == 0 && unpack.CheckName(part[:min(3, len(part))]) != "" {
				fmt.Fprintf(&b, "%%%02X", c)
				continue
			}
			b.WriteByte(c)
		}
		parts[i] = b.String()
	}
	return path.Join(parts...)
}
