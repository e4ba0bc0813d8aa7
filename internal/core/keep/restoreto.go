package keep

import (
	"cmp"
	"context"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"unicode/utf8"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/durable"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
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
	if err := oneSave(snap, req.Slot); err != nil {
		return 0, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return 0, err
	}
	progress := h.Counting("restore", snap.Bytes())
	names := folderNames(h, snap)
	err = h.NewFolder(dir, func(temp string, batch *durable.Batch) error {
		for i, root := range snap.Roots {
			if !req.wants(root.Kind) {
				continue
			}
			out := archive.Out{Dir: filepath.Join(temp, filepath.FromSlash(names[i])), Spell: spelled, Progress: progress, Batch: batch}
			if req.Slot != "" {
				out.Wanted = filesOf(snap, root, req.Slot)
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

// folderNames are what the folders of a snapshot's roots are called when it is written elsewhere: as the game calls them, below the known folder
// that they lie in, "Tidewrack/lit/70431". Where that is not known, or two would be one, they are called after what they hold.
func folderNames(h *home.Home, snap *archive.Snapshot) []string {
	names := make([]string, len(snap.Roots))
	taken := map[string]int{}
	for i, root := range snap.Roots {
		if names[i] = realName(h.Game(snap.Game), root); names[i] != "" {
			taken[strings.ToLower(names[i])]++
		}
	}
	for i := range names {
		if key := strings.ToLower(names[i]); names[i] == "" || taken[key] > 1 && (snap.Roots[i].Kind == archive.Saves || snap.Roots[i].Kind == archive.Mods) {
			names[i] = snap.RootName(i)
		}
	}
	return names
}

// realName is what a description calls the folder of a root, or "". Of a pattern of files it is the folder above the first part that is none.
func realName(d *game.Description, root archive.Root) string {
	if d == nil {
		return ""
	}
	template := root.Pattern
	for i := range d.Folders {
		if f := &d.Folders[i]; template == "" && f.ID == root.Folder {
			template = f.Path
		}
	}
	if root.Pattern != "" {
		template = path.Dir(template)
	}
	var parts []string
	for _, part := range strings.Split(template, "/") {
		part = strings.ReplaceAll(part, "{account}", root.Account)
		if strings.ContainsAny(part, "{*?[") {
			if len(parts) == 0 {
				continue // the known folder
			}
			break
		}
		parts = append(parts, strings.TrimLeft(part, ".")) // nobody would find what is hidden
	}
	name := path.Join(parts...)
	if unpack.CheckName(name) != "" || !archive.IsLocal(name) {
		return ""
	}
	return name
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
	if err := oneSave(snap, req.Slot); err != nil {
		return 0, err
	}
	for _, root := range snap.Roots {
		if !req.wants(root.Kind) {
			continue
		}
		wanted := filesOf(snap, root, req.Slot)
		err := a.Nodes(ctx, root, func(n archive.Node) error {
			if n.Kind == tree.File && wanted(n.Path) {
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

// filesOf tells which files of a root are of the save that a slot names; all are where slot is "".
func filesOf(snap *archive.Snapshot, root archive.Root, slot string) func(path string) bool {
	if slot == "" {
		return func(string) bool { return true }
	}
	wanted := map[string]bool{}
	for _, k := range snap.Saves {
		if k.Folder == root.Folder && k.Account == root.Account && isCalled(k, slot) {
			for _, f := range k.Files {
				wanted[f.Path] = true
			}
		}
	}
	return func(path string) bool { return wanted[path] }
}

// oneSave is an error where a slot does not name just one save of a snapshot; "" asks for all.
func oneSave(snap *archive.Snapshot, slot string) error {
	if slot == "" {
		return nil
	}
	var hints problem.Hints
	var found []archive.KeptSave
	for _, k := range snap.Saves {
		if isCalled(k, slot) {
			words := facts.FolderWords(k.Folder, k.Account)
			found = append(found, k)
			hints = hints.Or(problem.Advise("%s/%s", words[len(words)-1], cmp.Or(k.Slot, k.Name)))
		}
	}
	switch len(found) {
	case 1:
		return nil
	case 0:
		return problem.Usage(problem.Do("kept", snap.Address()), "%s has no save %q", snap.Address(), slot)
	}
	return problem.Usage(hints, "%s has %d saves %q: say which", snap.Address(), len(found), slot)
}

// isCalled reports whether a kept save is what [FOLDER/]SLOT names; the folder is an account, an id, or both.
func isCalled(k archive.KeptSave, slot string) bool {
	if k.Slot == slot || k.Name == slot {
		return true
	}
	folder, name, ok := strings.Cut(slot, "/")
	return ok && (k.Slot == name || k.Name == name) && slices.Contains(facts.FolderWords(k.Folder, k.Account), folder)
}
