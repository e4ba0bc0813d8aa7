package layout

import (
	"cmp"
	"fmt"
	"io/fs"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/game"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/tree"
)

func matches(glob, name string) bool {
	return doublestar.MatchUnvalidated(strings.ToLower(glob), strings.ToLower(name))
}

// marked finds the mods in a part that are told by their markers, names and content.
func (r *recogniser) marked(i int) ([]*Found, error) {
	part := r.parts[i]
	all := mod.OnePerPlace(r.in.Game, mod.InDownload(r.ctx, r.in.Game, part.FS, part.Entries))
	all = slices.DeleteFunc(all, func(m *mod.Mod) bool { return r.inOther(all, m) })
	all, choice, err := r.choose(all)
	if err != nil {
		return nil, err
	}
	if len(all) == 0 {
		all = r.anyFolder(i)
	}
	var found []*Found
	packs := map[string]*Found{}
	for _, m := range all {
		pack := r.packOf(i, m)
		if f := packs[pack]; pack != "" && f != nil {
			f.Mods = append(f.Mods, m)
			continue
		}
		f := &Found{Kind: m.Kind, ID: m.ID, Version: m.Version, Title: m.Title, Mods: []*mod.Mod{m}, Parts: []int{i}, Choice: choice}
		at := m.Path
		if pack != "" {
			packs[pack], at = f, pack
			f.ID, f.Version, f.Title = path.Base(pack), "", ""
		}
		if err := r.lay(f, i, at); err != nil {
			return nil, err
		}
		found = append(found, f)
	}
	return found, nil
}

// anyFolder are the mods that a part is where any folder is a mod: the description tells them by nothing but where they lie. A part that has files
// at its top is one mod, else each of its folders is.
func (r *recogniser) anyFolder(i int) []*mod.Mod {
	k := slices.IndexFunc(r.in.Game.Mods, func(m game.Mod) bool {
		return m.Unit == game.UnitFolder && !m.Base && len(m.Marker) == 0 && len(m.Files) == 0 && m.Is == nil
	})
	if k < 0 {
		return nil
	}
	kind := &r.in.Game.Mods[k]
	if _, err := r.folder(kind); err != nil {
		return nil
	}
	var tops []string
	seen := map[string]bool{}
	for _, e := range filesOf(r.parts[i].Entries) {
		top, _, deep := strings.Cut(e.Path, "/")
		if !deep {
			return []*mod.Mod{{Kind: kind, Path: ".", ID: r.parts[i].Name, On: true}}
		}
		if !seen[top] {
			seen[top] = true
			tops = append(tops, top)
		}
	}
	var all []*mod.Mod
	for _, top := range tops {
		all = append(all, &mod.Mod{Kind: kind, Path: top, ID: top, On: true})
	}
	return all
}

// inOther reports whether a mod lies in another one: it is a part of that.
func (r *recogniser) inOther(all []*mod.Mod, m *mod.Mod) bool {
	return slices.ContainsFunc(all, func(o *mod.Mod) bool {
		return o != m && (o.Path == "." && m.Path != "." || strings.HasPrefix(m.Path, o.Path+"/"))
	})
}

// choose leaves one of several mods of one id: they are variants.
func (r *recogniser) choose(all []*mod.Mod) (left []*mod.Mod, choice string, err error) {
	byID := map[string][]*mod.Mod{}
	for _, m := range all {
		key := m.Kind.ID + "\x00" + strings.ToLower(m.ID)
		byID[key] = append(byID[key], m)
	}
	for _, same := range byID {
		if len(same) < 2 {
			continue
		}
		names := variantNames(same)
		at := slices.IndexFunc(names, func(n string) bool { return strings.EqualFold(n, r.req.Pick) })
		if at < 0 {
			return nil, "", &ChoiceError{names, r.req.Pick}
		}
		choice = names[at]
		all = slices.DeleteFunc(all, func(m *mod.Mod) bool { return m != same[at] && slices.Contains(same, m) })
	}
	return all, choice, nil
}

// variantNames are what tells the folders of several mods apart: the first parts of their paths in which they differ.
func variantNames(mods []*mod.Mod) []string {
	var paths [][]string
	for _, m := range mods {
		paths = append(paths, strings.Split(m.Path, "/"))
	}
	at := 0
	for ; ; at++ {
		if slices.ContainsFunc(paths, func(p []string) bool { return at >= len(p)-1 || p[at] != paths[0][at] }) {
			break
		}
	}
	var names []string
	for _, p := range paths {
		names = append(names, p[min(at, len(p)-1)])
	}
	if slices.Sort(names); len(slices.Compact(slices.Clone(names))) < len(mods) {
		names = names[:0]
		for _, m := range mods {
			names = append(names, m.Path)
		}
		return names
	}
	names = names[:0]
	for _, p := range paths {
		names = append(names, p[min(at, len(p)-1)])
	}
	return names
}

// packOf is the outermost folder of a part that is a pack which a mod belongs to, or "".
func (r *recogniser) packOf(i int, m *mod.Mod) string {
	if !m.Kind.Nested || len(m.Kind.Pack) == 0 {
		return ""
	}
	pack := ""
	for dir := path.Dir(m.Path); ; dir = path.Dir(dir) {
		for _, e := range r.parts[i].Entries {
			if rest, ok := below(e.Path, dir); ok && e.Kind == tree.File && slices.ContainsFunc(m.Kind.Pack, func(g string) bool { return doublestar.MatchUnvalidated(g, rest) }) {
				pack = dir
			}
		}
		if dir == "." {
			return pack
		}
	}
}

// lay says where all of a mod goes that lies at a path of a part.
func (r *recogniser) lay(f *Found, i int, at string) error {
	dir, err := r.folder(f.Kind)
	if err != nil {
		return err
	}
	name, err := r.folderName(f, i, at)
	if err != nil {
		return err
	}
	for _, e := range r.parts[i].Entries {
		rest, ok := below(e.Path, at)
		ok = ok && f.Kind.Unit == game.UnitFolder // a mod that is an archive is that file, not what is in it
		to := path.Join(name, rest)
		if e.Path == at && e.Kind != tree.Dir {
			to, ok = name, true
		}
		if !ok || e.Kind == tree.Dir && !r.empty(i, e.Path) || r.isPacked(i, e.Path) && e.Path != at {
			continue
		}
		place, err := r.placeAt(dir, to)
		if err != nil {
			return err
		}
		f.Pieces = append(f.Pieces, Piece{i, e.Path, e, place})
	}
	return nil
}

// folder is the folder into which mods of a kind go: the first that no other program owns.
func (r *recogniser) folder(kind *game.Mod) (string, error) {
	folders, err := r.in.FoldersOf(r.ctx, kind.Folder)
	if err != nil {
		return "", err
	}
	missing := ""
	for _, f := range folders {
		switch {
		case f.Managed:
		case f.Exists || f.Create:
			return f.Path, nil
		default:
			missing = f.Path
		}
	}
	if missing != "" {
		return "", fmt.Errorf("the folder of mods %s %w", missing, ErrNoFolder)
	}
	if why := r.in.Unplaced()[kind.Folder]; why != nil {
		return "", why
	}
	return "", fmt.Errorf("the folder %s of mods: %w", kind.Folder, game.ErrElsewhere)
}

// folderName is what a mod is to be called in the folder of its kind.
func (r *recogniser) folderName(f *Found, i int, at string) (string, error) {
	if r.req.At != nil {
		if name := r.req.At(f.Kind, f.ID); name != "" && f.Kind.Unit == game.UnitFolder {
			return name, nil
		}
	}
	names := []string{path.Base(at), f.ID, r.parts[i].Name}
	if at == "." {
		names = names[1:]
	}
	for _, name := range names {
		if name != "" && fs.ValidPath(name) && !strings.ContainsAny(name, "/\\:*?\"<>|") && !strings.HasPrefix(name, ".") && (f.Kind.Name == "" || matches(f.Kind.Name, name)) {
			return name, nil
		}
	}
	return "", fmt.Errorf("%s: there is no name for it that the game takes: %s are called %s", at, f.Kind.ID, f.Kind.Name)
}

// identify finds out which mod the pieces of a found one make up: by the mods that lie in the folders of mods then, else by the download's name.
func (r *recogniser) identify(f *Found) error {
	for k := range r.in.Game.Mods {
		kind := &r.in.Game.Mods[k]
		if kind.Base {
			continue
		}
		dir, err := r.folder(kind)
		if err != nil {
			continue
		}
		placed := placedFS{r.parts, map[string]Piece{}}
		var entries []tree.Entry
		for _, p := range f.Pieces {
			full, err := r.in.RootOf(r.ctx, p.To.Root)
			if err != nil {
				return err
			}
			rel, ok := strings.CutPrefix(path.Join(toSlash(full), p.To.Path), toSlash(tree.Real(dir))+"/")
			if !ok || p.Entry.Kind == tree.Dir {
				continue
			}
			e := p.Entry
			e.Path, placed.at[rel] = rel, p
			entries = append(entries, e)
		}
		slices.SortFunc(entries, func(a, b tree.Entry) int { return strings.Compare(a.Path, b.Path) })
		for _, m := range mod.OfKind(r.ctx, kind, placed, entries) {
			if !strings.Contains(m.Path, "/") && m.Path != "." {
				f.Mods = append(f.Mods, m)
			}
		}
	}
	if i := slices.IndexFunc(f.Mods, func(m *mod.Mod) bool { return m.Kind == f.Kind }); i > 0 {
		f.Mods[0], f.Mods[i] = f.Mods[i], f.Mods[0]
	}
	if len(f.Mods) > 0 {
		f.ID, f.Version, f.Title, f.Kind = f.Mods[0].ID, f.Mods[0].Version, f.Mods[0].Title, f.Mods[0].Kind
		return nil
	}
	f.ID, f.Version = splitVersion(r.parts[f.Parts[0]].Name)
	return nil
}

// versioned is a name that ends in a version.
var versioned = regexp.MustCompile(`^(.*?)[-_ ]+v?(\d+(?:[._]\d+)*[a-z]?)$`)

// splitVersion takes the version from the end of a download's name.
func splitVersion(name string) (id, version string) {
	if m := versioned.FindStringSubmatch(name); m != nil && m[1] != "" {
		return strings.ToLower(strings.ReplaceAll(m[1], " ", "-")), strings.ReplaceAll(m[2], "_", ".")
	}
	return strings.ToLower(strings.ReplaceAll(name, " ", "-")), ""
}

// placedFS are pieces by where they will lie in one folder.
type placedFS struct {
	parts []Part
	at    map[string]Piece
}

// Open opens one.
func (f placedFS) Open(name string) (fs.File, error) {
	p, ok := f.at[name]
	if !ok {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return f.parts[p.Part].FS.Open(p.From)
}

// check looks for two files of a mod in one place, and for what must be there at the end.
func (r *recogniser) check(f *Found) error {
	seen := map[ledger.Place]string{}
	var pieces []Piece
	for _, p := range f.Pieces {
		if other, ok := seen[p.To]; ok {
			return fmt.Errorf("%s and %s both belong at %s", other, p.From, p.To.Path)
		}
		seen[p.To] = p.From
		pieces = append(pieces, p)
	}
	slices.SortFunc(pieces, func(a, b Piece) int {
		return cmp.Or(cmp.Compare(a.To.Root, b.To.Root), cmp.Compare(a.To.Path, b.To.Path))
	})
	for i, p := range pieces[1:] {
		if before := pieces[i]; before.To.Root == p.To.Root && strings.HasPrefix(p.To.Path, before.To.Path+"/") && before.Entry.Kind != tree.Dir {
			return fmt.Errorf("%s is a file and a folder", before.To.Path)
		}
	}
	f.Pieces = pieces
	for _, u := range f.Kind.Unpack {
		for _, want := range u.After {
			if there, err := r.after(f, want); err != nil {
				return err
			} else if !there && !slices.Contains(f.After, want) {
				f.After = append(f.After, want)
			}
		}
	}
	return nil
}

// after reports whether something is there at the end that the description wants there.
func (r *recogniser) after(f *Found, want string) (bool, error) {
	if strings.HasPrefix(want, "{") {
		full, err := r.in.Place(r.ctx, want)
		if err != nil {
			return false, err
		}
		root, rel, err := r.in.PlaceOf(r.ctx, tree.Real(full))
		if err != nil {
			return false, err
		}
		there := slices.ContainsFunc(f.Pieces, func(p Piece) bool {
			return p.To.Root == root && (p.To.Path == rel || strings.HasPrefix(p.To.Path, rel+"/"))
		})
		if _, err := tree.Stat(full, "."); err == nil {
			there = true
		}
		return there, nil
	}
	return slices.ContainsFunc(f.Pieces, func(p Piece) bool {
		return p.To.Path == want || strings.HasSuffix(p.To.Path, "/"+want) || strings.Contains("/"+p.To.Path, "/"+want+"/")
	}), nil
}

// place is where a template and a path behind it lead to.
func (r *recogniser) place(template, rest string) (ledger.Place, error) {
	dir, err := r.in.Place(r.ctx, template)
	if err != nil {
		return ledger.Place{}, err
	}
	return r.placeAt(dir, rest)
}

func (r *recogniser) placeAt(dir, rest string) (ledger.Place, error) {
	real, ok := r.real[dir]
	if !ok {
		real = tree.Real(dir)
		r.real[dir] = real
	}
	full := filepath.Join(real, filepath.FromSlash(rest))
	if r.in.FoldsCase() {
		full = game.Spelled(full)
	}
	root, rel, err := r.in.PlaceOf(r.ctx, full)
	return ledger.Place{Root: root, Path: rel}, err
}
