package job

import (
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/game"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/tree"
)

// fileGroup plans to put back the files of a pattern: settings, data of mods, pictures.
func (r *restorer) fileGroup(root archive.Root) error {
	groups, err := r.l.Install.FileGroups(r.ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(groups, func(g game.FileGroup) bool { return g.Name == root.Folder })
	if i < 0 {
		r.p.Warnings = append(r.p.Warnings, "the description has no place for "+root.Folder+" any more: left out")
		return nil
	}
	return r.files(root, groups[i])
}

// files plans to put back single files of a pattern that differ from those that are there. Of a set of settings, those of mods that are not
// installed are left out: without their mods they would only cause errors.
func (r *restorer) files(root archive.Root, g game.FileGroup) error {
	dir := g.Dir
	nodes, err := r.nodes(root)
	if err != nil {
		return err
	}
	for _, n := range nodes {
		if n.Kind != tree.File {
			continue
		}
		if root.What == archive.Settings && r.stays(n.Path) && !r.snap.Set {
			continue
		}
		if id, ofMod := g.ModOf(n.Path); ofMod && r.snap.Set && !r.l.hasMod(id) {
			continue
		}
		step := Step{"put", n.Path, filepath.Join(dir, filepath.FromSlash(n.Path)), ""}
		if e, err := tree.Look(dir, n.Path); err == nil {
			if sums, err := r.s.Hasher.File(r.ctx, dir, e, false); err == nil && sums.Blake3 == n.Digest {
				r.p.spare(dir, n.Path)
				continue
			}
			step.Do = "replace"
		}
		r.p.Steps = append(r.p.Steps, step)
		if err := r.p.put(r.ctx, dir, n.Path, r.fill([]archive.Node{n}, n.Path)); err != nil {
			return err
		}
	}
	return nil
}

// mods plans to put back kept mods that are missing or differ. Mods that were added since stay where they are.
func (r *restorer) mods(root archive.Root) error {
	folder, err := r.folder(root)
	if err != nil {
		return err
	}
	nodes, err := r.nodes(root)
	if err != nil {
		return err
	}
	present := map[string]*mod.Mod{}
	for _, m := range r.l.Mods.Mods {
		if m.Folder.Path == folder.Path {
			present[m.Path] = m
		}
	}
	for _, top := range modTops(nodes) {
		var list []tree.Named
		for _, n := range nodes {
			if rest, ok := strings.CutPrefix(n.Path, top+"/"); ok && n.Kind == tree.File && !strings.HasPrefix(rest, ".git/") {
				list = append(list, tree.Named{Path: rest, Digest: n.Digest})
			} else if n.Path == top && n.Kind == tree.File {
				list = append(list, tree.Named{Path: ".", Digest: n.Digest})
			}
		}
		step := Step{"put", "mod " + path.Base(top), filepath.Join(folder.Path, filepath.FromSlash(top)), ""}
		if m := present[top]; m != nil {
			if m.Digest == tree.ListDigest(list) {
				continue
			}
			step.Do, step.Note = "replace", "now: "+m.Name()+" "+m.Version
		}
		r.p.Steps = append(r.p.Steps, step)
		if err := r.p.put(r.ctx, folder.Path, top, r.fill(nodes, top)); err != nil {
			return err
		}
	}
	return nil
}

// modTops are the paths of the mods in a listing: those that lie in no other path of it.
func modTops(nodes []archive.Node) []string {
	var tops []string
	seen := map[string]bool{}
	for _, n := range nodes { // "a.txt" stands between "a" and "a/b"
		inside := false
		for dir := path.Dir(n.Path); dir != "." && !inside; dir = path.Dir(dir) {
			inside = seen[dir]
		}
		if !inside {
			seen[n.Path] = true
			tops = append(tops, n.Path)
		}
	}
	return tops
}
