package keep

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/hazard"
	"ostrov/internal/core/home"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
)

// groupOf finds the place of a root of files: by its pattern and account. The first archives only counted the patterns of a description,
// each account for itself: such a number is understood where it can mean one place only. ok is false where the place is not there any
// more.
func groupOf(st *facts.State, snap *archive.Snapshot, root archive.Root) (g game.FileGroup, ok bool, err error) {
	if root.Pattern != "" {
		i := slices.IndexFunc(st.Groups, func(g game.FileGroup) bool {
			return archive.Kind(g.Kind) == root.Kind && g.Pattern == root.Pattern && g.Account == root.Account
		})
		if i < 0 {
			return g, false, nil
		}
		return st.Groups[i], true, nil
	}
	var same []game.FileGroup
	for _, g := range st.Groups {
		if archive.Kind(g.Kind) == root.Kind {
			same = append(same, g)
		}
	}
	n, err := strconv.Atoi(strings.TrimPrefix(root.Folder, string(root.Kind)+"-"))
	if err != nil || n < 1 {
		return g, false, nil
	}
	perAccount := slices.ContainsFunc(same, func(g game.FileGroup) bool { return g.Account != "" })
	kept := 0 // how many places the snapshot has of the kind
	for _, r := range snap.Roots {
		if r.Kind == root.Kind {
			kept++
		}
	}
	if n > len(same) {
		return g, false, nil
	}
	if perAccount && len(same) > 1 || kept != len(same) {
		return g, false, problem.Usage(problem.Do("restore", snap.Address()).With("to", "DIR"), "%s of %s could be one of several places now; it is not put back by itself", root.Folder, snap.Address())
	}
	return same[n-1], true, nil
}

// fileGroup plans to put back the files of a pattern: settings, data of mods, pictures.
func (r *restorer) fileGroup(root archive.Root) error {
	if root.Files == 0 {
		return nil
	}
	g, ok, err := groupOf(r.st, r.snap, root)
	if err != nil {
		return err
	}
	if !ok {
		r.p.Warnings = append(r.p.Warnings, fmt.Sprintf("%s has no place for %s now: left out", r.st.Called, rootTitle(root)))
		return nil
	}
	return r.files(root, g)
}

// rootTitle is what to call a root of files before people.
func rootTitle(root archive.Root) string {
	if root.Pattern == "" {
		return root.Folder
	}
	if root.Account != "" {
		return fmt.Sprintf("%s (%s of account %s)", root.Kind, root.Pattern, root.Account)
	}
	return fmt.Sprintf("%s (%s)", root.Kind, root.Pattern)
}

// harm says what harm a kept file could do that no setting does, or is "": an archive may lie where others write, too.
func (r *restorer) harm(n archive.Node, g game.FileGroup) (string, error) {
	if !g.Holds(n.Path) {
		return "is none of the files that the description names there", nil
	}
	in, out := io.Pipe()
	defer in.Close()
	go func() { out.CloseWithError(r.a.Copy(r.ctx, n, out)) }()
	result, err := hazard.Scan(n.Path, in)
	if err != nil {
		return "", problem.New(problem.Do("archive verify"), "%s cannot be brought back: %s: %w; nothing has been changed", r.snap.Address(), n.Path, err)
	}
	for _, f := range result.Findings {
		if f.Severity == hazard.Danger {
			return f.Why, nil
		}
	}
	return "", nil
}

// files plans to put back single files of a pattern that differ from those that are there. Of a set of settings, those of mods that are not
// installed are left out: without their mods they would only cause errors.
func (r *restorer) files(root archive.Root, g game.FileGroup) error {
	nodes, err := r.nodes(root)
	if err != nil {
		return err
	}
	for _, n := range nodes {
		if n.Kind != tree.File || g.Except != "" && filepath.Join(g.Dir, filepath.FromSlash(n.Path)) == g.Except {
			continue
		}
		if id, by, ofMod := g.ModOf(n.Path); ofMod && r.snap.Set && !r.st.HasMod(id, by) {
			continue
		}
		if e, err := tree.Stat(g.Dir, n.Path); err == nil && e.Kind == tree.File {
			if sums, err := r.h.Hasher.File(r.ctx, g.Dir, e, false); err == nil && sums.Blake3 == n.Digest {
				r.p.Spare(g.Dir, n.Path)
				continue
			}
		}
		if root.Kind == archive.Settings && !g.Active && r.stays(n.Path) && !r.snap.Set && !r.all {
			r.stayed = append(r.stayed, n.Path)
			continue
		}
		why, err := r.harm(n, g)
		if err != nil {
			return err
		}
		if why != "" {
			r.p.Warnings = append(r.p.Warnings, fmt.Sprintf("%s %s: left out", n.Path, why))
			continue
		}
		r.p.Put(r.ctx, plan.Step{What: n.Path}, filesGuard(r.st), nil, r.target(g.Dir, []archive.Node{n}, n.Path))
	}
	return nil
}

// stays reports whether a settings file stays as it is, by the description.
func (r *restorer) stays(path string) bool {
	d := r.st.Install.Game
	return d.Settings != nil && slices.ContainsFunc(d.Settings.Stays, func(g string) bool { return doublestar.MatchUnvalidated(g, path) })
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
	var others []string // mods of a folder that another program owns: it is never written
	present := map[string]*mod.Mod{}
	for _, m := range r.st.Mods.Mods {
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
		step := plan.Step{What: "mod " + path.Base(top)}
		if m := present[top]; m != nil {
			if m.Digest == tree.ListDigest(list) {
				continue
			}
			step.Was = strings.TrimSpace(m.Name() + " " + m.Version)
		}
		if folder.Managed {
			others = append(others, path.Base(top))
			continue
		}
		r.p.Put(r.ctx, step, plan.LeaveAside(), nil, r.target(folder.Path, nodes, top))
	}
	if len(others) > 0 {
		r.p.Warnings = append(r.p.Warnings, fmt.Sprintf("%s: another program owns %s, which is never written; %s has them, and can be restored into a folder of your own",
			strings.Join(others, ", "), folder.Path, r.snap.Address()))
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

// clearFiles plans to take away settings and data of mods that the playthrough which is brought does not have: settings of mods that it
// lacks would cause errors. They are kept with the one that is put away. What the description marks stays, and so does all where the
// snapshot says nothing of settings.
func (r *restorer) clearFiles() error {
	if !r.snap.Holds(archive.Settings) {
		return nil
	}
	for _, g := range r.st.Groups {
		if g.Active || g.Kind == game.PictureFiles {
			continue
		}
		kept := map[string]bool{}
		for _, root := range r.snap.Roots {
			if there, ok, err := groupOf(r.st, r.snap, root); err != nil || !ok || there.Dir != g.Dir || there.Pattern != g.Pattern {
				continue
			}
			nodes, err := r.nodes(root)
			if err != nil {
				return err
			}
			for _, n := range nodes {
				kept[n.Path] = true
			}
		}
		note := fmt.Sprintf("%s that %s does not have", fileOf[g.Kind], r.snap.Playthrough)
		if err := r.clearGroup(g, note, func(path string) bool { return kept[path] }); err != nil {
			return err
		}
	}
	return nil
}

// clearBehind plans to take away what a playthrough leaves behind besides saves: what its mods stored, and where the description says
// which settings stay, the others.
func (r *restorer) clearBehind(from string) error {
	d := r.st.Install.Game
	for _, g := range r.st.Groups {
		if g.Active || g.Kind == game.PictureFiles || g.Kind == game.SettingsFiles && (d.Settings == nil || len(d.Settings.Stays) == 0) {
			continue
		}
		if err := r.clearGroup(g, fmt.Sprintf("%s of %s", fileOf[g.Kind], from), func(string) bool { return false }); err != nil {
			return err
		}
	}
	return nil
}

// fileOf is what to call one file of a group.
var fileOf = map[game.FileKind]string{game.SettingsFiles: "a setting", game.DataFiles: "what a mod stored"}

// clearGroup plans to take away the files of a pattern, but what stays.
func (r *restorer) clearGroup(g game.FileGroup, note string, stays func(path string) bool) error {
	entries, err := facts.GroupFiles(r.ctx, g)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if stays(e.Path) || g.Kind == game.SettingsFiles && r.stays(e.Path) {
			continue
		}
		r.p.Remove(r.ctx, plan.Step{What: e.Path, Root: g.Dir, Name: e.Path, Note: note}, filesGuard(r.st), nil, e.Path)
	}
	return nil
}

// PutAside plans to put settings aside whose mods are gone. They are kept first, and undo brings them back.
func PutAside(ctx context.Context, h *home.Home, st *facts.State) (*plan.Plan, error) {
	if err := plan.MayChange(ctx, st.Install, nil, nil); err != nil {
		return nil, err
	}
	p := plan.New(ctx, h, st, "put aside settings of "+st.Called, nil)
	for _, o := range st.Orphans {
		p.Remove(ctx, plan.Step{What: o.Path, Root: o.Dir, Name: o.Path, Note: "a setting of a mod that is gone"}, filesGuard(st), nil, o.Path)
	}
	p.Reason = "no settings of mods that are gone are there"
	return p, p.Err()
}

// ledger keeps what is known of the mods.
func (kp *keeper) ledger(ctx context.Context, st *facts.State, snap *archive.Snapshot) error {
	dir := kp.h.LedgerDir(st.Install)
	var each []archive.Group
	err := tree.Walk(ctx, dir, func(e tree.Entry) error {
		if e.Kind == tree.File {
			each = append(each, archive.Group{Dir: dir, Entries: []tree.Entry{e}})
		}
		return nil
	})
	if len(each) == 0 || errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	root, _, err := kp.k.Root(ctx, archive.Root{Folder: string(archive.Ledger), Kind: archive.Ledger}, each, false)
	snap.Roots = append(snap.Roots, root)
	return err
}
