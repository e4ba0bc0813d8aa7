package job

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"
	"strings"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/bag"
	"ostrov/internal/core/tree"
)

// Exported is what exporting a snapshot wrote.
type Exported struct {
	Snapshot *archive.Snapshot
	Files    int
	Size     int64 // of the zip, bytes
}

// Export writes a snapshot as a zip of a BagIt bag for people who may not have Ostrov: the files of each of its folders, its mod list, and a read-me.
// An existing file is only replaced with replace.
func (s *Session) Export(ctx context.Context, address, file string, replace bool) (*Exported, error) {
	snap, err := s.Snapshot(address)
	if err != nil {
		return nil, err
	}
	a, err := s.Archive(false)
	if err != nil {
		return nil, err
	}
	done := &Exported{Snapshot: snap}
	progress := s.counting("export", totalOf(snap))
	done.Size, err = WriteFile(file, replace, func(out io.Writer) error {
		w := bag.NewWriter(out, strings.TrimSuffix(filepath.Base(file), filepath.Ext(file)), snap.Taken)
		for _, root := range snap.Roots {
			err := a.Nodes(ctx, root, func(n archive.Node) error {
				if n.Kind != tree.File {
					return nil
				}
				done.Files++
				progress(n.Size)
				return w.File("data/"+rootName(root)+"/"+n.Path, n.Time, func(to io.Writer) error { return a.Copy(ctx, n, to) })
			})
			if err != nil {
				return problem("ostrov archive verify", "%s could not be written whole, so %s has not been written: %w", snap.Address(), file, err)
			}
		}
		mods, err := json.MarshalIndent(listOf(snap), "", "  ")
		if err != nil {
			return err
		}
		if err := w.Text("data/mods.json", append(mods, '\n')); err != nil {
			return err
		}
		if err := w.Text("data/READ-ME.txt", []byte(readMe(snap))); err != nil {
			return err
		}
		return w.Close(fmt.Sprintf("%s %s, snapshot %s", snap.GameTitle, snap.Version, snap.Address()))
	})
	if err != nil {
		return nil, err
	}
	return done, nil
}

// totalOf is how many bytes of files a snapshot has.
func totalOf(snap *archive.Snapshot) int64 {
	var total int64
	for _, r := range snap.Roots {
		total += r.Bytes
	}
	return total
}

// rootName is what to call a root's folder outside the archive.
func rootName(root archive.Root) string {
	parts := []string{root.What, escape(root.Folder)}
	if root.What != archive.Saves && root.What != archive.Mods { // settings-1 says both
		parts = parts[1:]
	}
	if root.Account != "" {
		parts = append(parts, escape(root.Account))
	}
	return strings.Join(parts, "-")
}

// listOf is the mod list of a snapshot.
func listOf(snap *archive.Snapshot) ModList {
	return ModList{Format: 1, Game: snap.Game, Version: snap.Version, Fingerprint: snap.Fingerprint, Mods: snap.Mods}
}

// readMe says for someone without Ostrov what an export holds.
func readMe(snap *archive.Snapshot) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%s %s, %s, kept %s\n", snap.GameTitle, snap.Version, snap.Title, snap.Taken.UTC().Format("2 January 2006 15:04 UTC"))
	if snap.Note != "" {
		fmt.Fprintf(&b, "%s\n", snap.Note)
	}
	b.WriteString("\nWhat is in the folders beside this file\n")
	for _, r := range snap.Roots {
		fmt.Fprintf(&b, "  %-28s %s of the game's folder %q, %d files\n", rootName(r)+"/", r.What, r.Folder, r.Files)
	}
	b.WriteString("\nSaves\n")
	for _, k := range snap.Saves {
		fmt.Fprintf(&b, "  %s, made with %s: %s\n", k.Called(), k.Version, k.Name)
	}
	b.WriteString("\nMods, in load order where the game has one\n")
	for _, m := range snap.Mods {
		state := ""
		if !m.On {
			state = " (off)"
		}
		if m.Altered {
			state += " (altered: not what was first seen of this version)"
		}
		name := m.Title
		if name == "" {
			name = m.ID
		}
		fmt.Fprintf(&b, "  %s %s [%s]%s\n", name, m.Version, m.ID, state)
	}
	if len(snap.Mods) == 0 {
		b.WriteString("  none, or nobody knows\n")
	}
	b.WriteString("\nTo check that nothing is damaged: sha512sum -c manifest-sha512.txt, in the folder above this one.\n")
	return b.String()
}
