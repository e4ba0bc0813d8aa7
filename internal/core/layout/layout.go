// Package layout tells what a download of a mod is and where each of its files goes.
//
// A kind of mod may say in which layouts its downloads come (game.Unpack): folders that are merged wherever they stand, bare files, parts of
// one mod in several downloads, variants side by side. Else a mod is told by its marker, name and content, as one that lies in the game's
// folder is. Outer folders are passed over, read-mes and what systems leave behind are left out and named.
//
// The package promises that each file of a result goes into a folder of the game that may be written, that no two files of it go to one place,
// and that what matches nothing is an UnknownError which shows what was found and what was looked for. It reads, and writes nothing. Whether a
// download is safe is not its business: it is given only what may be read.
package layout

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"ostrov/internal/core/game"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/tree"
)

// Part is one download.
type Part struct {
	Name    string // without the endings of archives
	FS      fs.FS
	Entries []tree.Entry // sorted by path
}

// Piece is one file, link or empty folder of a mod: where it lies in a part, and where it goes.
type Piece struct {
	Part  int // which
	From  string
	Entry tree.Entry
	To    ledger.Place
}

// Found is one mod that downloads make up.
type Found struct {
	Kind    *game.Mod
	ID      string
	Version string
	Title   string
	// Mods are what it says of itself: one, or several that come as one; none where nothing in it says.
	Mods   []*mod.Mod
	Pieces []Piece
	Parts  []int          // the downloads that it is made of
	Named  map[int]string // the parts as [mod.unpack] calls them
	Choice string         // the variant that was picked, or ""
	// Lacks are parts that none of the downloads is, and After what the description wants there at the end and is not among the pieces.
	Lacks, After []string
	// Differ says how the versions of its parts differ, or is "".
	Differ string
}

// Result is what was recognised.
type Result struct {
	Found []*Found
	Left  []string // files that are left out, by their paths in the downloads
}

// Name is what to call the mod before people.
func (f *Found) Name() string { return cmp.Or(f.Title, f.ID) }

// ChoiceError says that a download holds several mods of which one is to be picked.
type ChoiceError struct {
	Names []string
	// Pick was given, and means none of them; or is "".
	Pick string
}

func (e *ChoiceError) Error() string {
	if e.Pick != "" {
		return fmt.Sprintf("%q is none of what it offers: %s", e.Pick, strings.Join(e.Names, ", "))
	}
	return "it is a choice: " + strings.Join(e.Names, ", ")
}

// UnknownError says that a download matches no layout.
type UnknownError struct {
	Has  []string // what lies at its top
	Want []string // the layouts there are, in words
}

func (e *UnknownError) Error() string {
	return "nothing in it is laid out as a mod of this game"
}

// ErrNoFolder says that the folder into which mods go is not there.
var ErrNoFolder = errors.New("is not there: start the game once")

// Request says how to recognise.
type Request struct {
	Pick string // a variant
	// At says in which folder a mod lies that is to be updated, by kind and id; "" where there is none.
	At func(kind *game.Mod, id string) string
}

// recogniser is at work on one install.
type recogniser struct {
	ctx   context.Context
	in    *game.Install
	parts []Part
	req   Request
	used  map[[2]any]bool // part and path
	real  map[string]string
}

// Recognise finds the mods of an install's game that downloads hold, all together.
func Recognise(ctx context.Context, in *game.Install, parts []Part, req Request) (*Result, error) {
	r := &recogniser{ctx, in, parts, req, map[[2]any]bool{}, map[string]string{}}
	for i := range r.parts {
		r.parts[i].Entries = slices.DeleteFunc(slices.Clone(r.parts[i].Entries), func(e tree.Entry) bool { return isLitter(e.Path) })
	}
	found, err := r.together()
	if err != nil {
		return nil, err
	}
	for i := range r.parts {
		if slices.ContainsFunc(found, func(f *Found) bool { return slices.Contains(f.Parts, i) }) {
			continue
		}
		more, err := r.one(i)
		if err != nil {
			return nil, err
		}
		found = append(found, more...)
	}
	if len(found) == 0 {
		return nil, r.unknown()
	}
	for _, f := range found {
		if err := r.check(f); err != nil {
			return nil, err
		}
	}
	return &Result{found, r.left(found)}, nil
}

// isLitter reports whether systems leave a file behind in archives.
func isLitter(p string) bool {
	for _, part := range strings.Split(p, "/") {
		if slices.Contains([]string{"__MACOSX", ".DS_Store", "Thumbs.db", "desktop.ini", ".git"}, part) || strings.HasPrefix(part, "._") {
			return true
		}
	}
	return false
}

// one finds the mods in one part.
func (r *recogniser) one(i int) ([]*Found, error) {
	for k := range r.in.Game.Mods {
		kind := &r.in.Game.Mods[k]
		if kind.Base {
			continue
		}
		for u := range kind.Unpack {
			found, err := r.unpacked(kind, &kind.Unpack[u], i)
			if err != nil || found != nil {
				return found, err
			}
		}
	}
	return r.marked(i)
}

// unpacked is the mod that a part is by a layout; nil where it does not match.
func (r *recogniser) unpacked(kind *game.Mod, u *game.Unpack, i int) ([]*Found, error) {
	files := filesOf(r.parts[i].Entries)
	base := wrapper(files, u)
	if u.Variants {
		if choices := r.variants(u, files, base); len(choices) > 1 {
			dir, err := r.pick(choices, base)
			if err != nil {
				return nil, err
			}
			f, err := r.merged(kind, u, i, dir)
			if f != nil {
				f.Choice = path.Base(dir)
			}
			return list(f), err
		}
	}
	f, err := r.merged(kind, u, i, base)
	return list(f), err
}

func list(f *Found) []*Found {
	if f == nil {
		return nil
	}
	return []*Found{f}
}

// variants are the folders side by side that match a layout each by itself.
func (r *recogniser) variants(u *game.Unpack, files []tree.Entry, base string) []string {
	var dirs []string
	seen := map[string]bool{}
	for _, e := range files {
		rest, ok := below(e.Path, base)
		if !ok {
			continue
		}
		top, inner, deep := strings.Cut(rest, "/")
		if !deep {
			if target(u, rest) != nil {
				return nil // a file of its own lies beside them
			}
			continue
		}
		if dest := target(u, inner); dest != nil && dest.folder != strings.ToLower(top) && mergeKey(u, top) == "" {
			if dir := path.Join(base, top); !seen[dir] {
				seen[dir] = true
				dirs = append(dirs, dir)
			}
		} else if mergeKey(u, top) != "" {
			return nil
		}
	}
	return dirs
}

// pick is the folder that the player means.
func (r *recogniser) pick(dirs []string, base string) (string, error) {
	var names []string
	for _, d := range dirs {
		name, _ := below(d, base)
		names = append(names, name)
		if strings.EqualFold(name, r.req.Pick) || strings.EqualFold(path.Base(name), r.req.Pick) {
			return d, nil
		}
	}
	return "", &ChoiceError{names, r.req.Pick}
}

// dest is where a layout puts a file: a template, and the path behind it.
type dest struct{ template, rest, folder string }

// target is where a layout puts a file, by its path; nil where it says nothing of it.
func target(u *game.Unpack, p string) *dest {
	if u.Leaves(p) {
		return nil
	}
	for part, rest, deep := strings.Cut(p, "/"); deep && len(u.Merge) > 0; part, rest, deep = strings.Cut(rest, "/") {
		if key := mergeKey(u, part); key != "" {
			return &dest{u.Merge[key], rest, strings.ToLower(part)}
		}
	}
	best := ""
	for glob := range u.Files {
		if len(glob) > len(best) && matches(glob, path.Base(p)) {
			best = glob
		}
	}
	if best == "" {
		return nil
	}
	return &dest{u.Files[best], path.Base(p), ""}
}

func mergeKey(u *game.Unpack, folder string) string {
	for key := range u.Merge {
		if strings.EqualFold(key, folder) {
			return key
		}
	}
	return ""
}

// merged is the mod that the files below a folder of a part make up by a layout, or nil.
func (r *recogniser) merged(kind *game.Mod, u *game.Unpack, i int, base string) (*Found, error) {
	f := &Found{Kind: kind, Parts: []int{i}}
	for _, e := range r.parts[i].Entries {
		rest, ok := below(e.Path, base)
		if !ok || e.Kind == tree.Dir && !r.empty(i, e.Path) {
			continue
		}
		d := target(u, rest)
		if d == nil || d.rest == "" || r.isPacked(i, e.Path) {
			continue
		}
		if e.Kind == tree.Dir && d.folder == "" {
			continue
		}
		to, err := r.place(d.template, d.rest)
		if err != nil {
			return nil, err
		}
		f.Pieces = append(f.Pieces, Piece{i, e.Path, e, to})
	}
	if len(f.Pieces) == 0 {
		return nil, nil
	}
	return f, r.identify(f)
}

// empty reports whether a folder of a part holds nothing.
func (r *recogniser) empty(i int, dir string) bool {
	at, _ := slices.BinarySearchFunc(r.parts[i].Entries, dir+"/", func(e tree.Entry, p string) int { return strings.Compare(e.Path, p) })
	return at >= len(r.parts[i].Entries) || !strings.HasPrefix(r.parts[i].Entries[at].Path, dir+"/")
}

// isPacked reports whether a file is an archive whose content is listed below it.
func (r *recogniser) isPacked(i int, file string) bool { return !r.empty(i, file) }

func filesOf(entries []tree.Entry) []tree.Entry {
	return slices.DeleteFunc(slices.Clone(entries), func(e tree.Entry) bool { return e.Kind == tree.Dir })
}

// below is a path relative to a folder, "." being all.
func below(p, dir string) (string, bool) {
	if dir == "." {
		return p, true
	}
	return strings.CutPrefix(p, dir+"/")
}

// wrapper is the innermost of the outer folders with nothing else in them; those that a layout names are none.
func wrapper(files []tree.Entry, u *game.Unpack) string {
	base := "."
	for {
		next := ""
		for _, e := range files {
			rest, ok := below(e.Path, base)
			if !ok || u.Leaves(rest) && !strings.Contains(rest, "/") {
				continue
			}
			top, _, deep := strings.Cut(rest, "/")
			if !deep || next != "" && next != top {
				return base
			}
			next = top
		}
		if next == "" || mergeKey(u, next) != "" {
			return base
		}
		base = path.Join(base, next)
	}
}

// left are the files that belong to no mod.
func (r *recogniser) left(found []*Found) []string {
	for _, f := range found {
		for _, p := range f.Pieces {
			r.used[[2]any{p.Part, p.From}] = true
		}
	}
	var names []string
	for i, part := range r.parts {
		for _, e := range part.Entries {
			if e.Kind != tree.Dir && !r.used[[2]any{i, e.Path}] && !r.isPacked(i, e.Path) && !r.inUsed(i, e.Path) {
				names = append(names, e.Path)
			}
		}
	}
	return names
}

// inUsed reports whether a file lies in an archive that is a mod itself.
func (r *recogniser) inUsed(i int, file string) bool {
	for dir := path.Dir(file); dir != "."; dir = path.Dir(dir) {
		if r.used[[2]any{i, dir}] {
			return true
		}
	}
	return false
}

// unknown says what was found where nothing matches.
func (r *recogniser) unknown() error {
	e := &UnknownError{}
	seen := map[string]bool{}
	for _, part := range r.parts {
		for _, f := range filesOf(part.Entries) {
			top := f.Path
			if p := strings.SplitN(f.Path, "/", 3); len(p) == 3 {
				top = p[0] + "/" + p[1] + "/"
			}
			if !seen[top] {
				seen[top] = true
				e.Has = append(e.Has, top)
			}
		}
	}
	for k := range r.in.Game.Mods {
		if kind := &r.in.Game.Mods[k]; !kind.Base {
			e.Want = append(e.Want, wants(kind)...)
		}
	}
	slices.Sort(e.Want)
	e.Want = slices.Compact(e.Want)
	return e
}

// wants are the layouts of a kind in words.
func wants(kind *game.Mod) []string {
	var all []string
	for _, u := range kind.Unpack {
		for name := range u.Merge {
			all = append(all, "a folder "+name)
		}
		for glob := range u.Files {
			all = append(all, "files "+glob)
		}
		for name, glob := range u.Together {
			all = append(all, fmt.Sprintf("%s of the part %s", glob, name))
		}
	}
	switch {
	case kind.Unit == game.UnitFile && kind.Name != "":
		all = append(all, "files "+kind.Name)
	case kind.Unit == game.UnitFile:
		all = append(all, "files that are made as a "+kind.Names()[len(kind.Names())-1])
	case len(kind.Marker) > 0:
		all = append(all, "a folder with "+strings.Join(kind.Marker, " or "))
	default:
		for _, f := range kind.Files {
			if !f.Optional {
				all = append(all, "a folder with "+f.Path)
			}
		}
	}
	return all
}
