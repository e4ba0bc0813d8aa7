package game

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"ostrov/internal/core/tree"
)

// Located is a folder of a description as it lies on this machine.
type Located struct {
	*Folder
	Path string // absolute; a save folder that is itself a link is resolved
	Link string // where the path was before it was resolved, or ""
	// Real is the path with links resolved at every level. Whatever reaches one Real path reaches the same places.
	Real    string
	Account string // the account it belongs to, or ""
	// Aliases are other accounts whose folders are links to this one.
	Aliases []string
	Exists  bool
	Why     string // which condition chose it, in words; "" where there was no choice
	// Value is the [value] whose text the path stands on, or "".
	Value string
}

// ErrOutOfBounds says that a description leads to a folder that it must not.
var ErrOutOfBounds = errors.New("is out of bounds")

// ErrUnconfirmed says that a path out of a game's own files has not been confirmed by the player, or is not the one that was.
var ErrUnconfirmed = errors.New("has not been confirmed")

// Folders returns all folders of the install, in the order of the description. Of several folders of one id only the first whose
// condition holds is in it, unless each is set. The result is kept: an Install is looked at once.
func (in *Install) Folders(ctx context.Context) ([]Located, error) {
	if in.folders != nil {
		return in.folders, nil
	}
	in.unplaced = map[string]error{}
	var all []Located
	why := map[string]error{}
	done := map[string]bool{}
	for i := range in.Game.Folders {
		f := &in.Game.Folders[i]
		if done[f.ID] {
			continue
		}
		located, ok, err := in.locate(ctx, f, 0)
		if errors.Is(err, ErrNoPlace) {
			why[f.ID] = err
			continue
		}
		if err != nil {
			return nil, err
		}
		if ok {
			if len(located) == 0 {
				why[f.ID] = errors.New("no folder of an account is there yet: start the game once")
			}
			done[f.ID] = !f.Each
			for _, l := range located {
				all = addFolder(all, l)
			}
		}
	}
	for _, f := range in.Game.Folders {
		if slices.ContainsFunc(all, func(l Located) bool { return l.ID == f.ID }) {
			continue
		}
		if in.unplaced[f.ID] = why[f.ID]; why[f.ID] == nil {
			in.unplaced[f.ID] = errors.New("no condition that chooses it holds")
		}
	}
	in.folders = all
	return all, nil
}

// Unplaced are the folders of the description that Folders did not find, by id, each with the reason.
func (in *Install) Unplaced() map[string]error { return in.unplaced }

// addFolder adds a folder, or, where one of the same id leads to the same place, makes the two one: the one that is no link, with the other's
// account as a further name.
func addFolder(all []Located, l Located) []Located {
	for i, other := range all {
		if other.ID != l.ID || other.Real != l.Real {
			continue
		}
		if other.Link != "" && l.Link == "" {
			other, l = l, other
		}
		if other.Aliases = append(other.Aliases, l.Aliases...); l.Account != "" && l.Account != other.Account {
			other.Aliases = append(other.Aliases, l.Account)
		}
		all[i] = other
		return all
	}
	return append(all, l)
}

// Of reports whether the folder is an account's.
func (l Located) Of(account string) bool {
	return l.Account == account || slices.Contains(l.Aliases, account)
}

// Leads tells where links above the folder lead to: its real path, where that is not what links above the player's home and the game make of
// it; else "".
func (in *Install) Leads(l Located) string {
	if l.Real == l.Path {
		return ""
	}
	for _, k := range append(in.known.all(), in.Root) {
		if Within(k, in.known.Home) {
			continue
		}
		if rel, err := filepath.Rel(k, l.Path); err == nil && Within(l.Path, k) && filepath.Join(tree.Real(k), rel) == l.Real {
			return ""
		}
	}
	return l.Real
}

// spoken are the known folders of templates as people call them.
var spoken = strings.NewReplacer("{game}", "the game's own folder", "{home}", "the player's home", "{documents}", "Documents", "{saved_games}", "Saved Games",
	"{app_data}", "AppData/Roaming", "{local_app_data}", "AppData/Local", "{local_low}", "AppData/LocalLow", "{config}", "the folder of settings",
	"{data}", "the folder of programs' data", "{account}", "the folder of the account")

var spokenID = regexp.MustCompile(`\{(folder|value):([^}]*)\}`)

// InWords is where the folder is on anybody's machine, for people: "voyages with mods (Documents/Tidewrack/lit/the folder of the account)".
func (f *Folder) InWords() string {
	where := spokenID.ReplaceAllString(spoken.Replace(f.Path), "the $1 $2")
	if f.Title == "" {
		return f.ID + " (" + where + ")"
	}
	return f.Title + " (" + where + ")"
}

// Called is what the folder is called among those of its install: its id, and its account where there is one.
func (l Located) Called() string {
	if l.Account == "" {
		return l.ID
	}
	return l.ID + ":" + l.Account
}

// FoldersOf are the folders with one id.
func (in *Install) FoldersOf(ctx context.Context, id string) ([]Located, error) {
	all, err := in.Folders(ctx)
	var some []Located
	for _, l := range all {
		if l.ID == id {
			some = append(some, l)
		}
	}
	return some, err
}

// locate resolves one folder; ok is false where its condition does not hold or it has no place here.
func (in *Install) locate(ctx context.Context, f *Folder, depth int) (found []Located, ok bool, err error) {
	ok, why, err := in.holds(ctx, f.If, depth)
	if err != nil || !ok {
		return nil, false, err
	}
	paths, err := in.expand(ctx, f.Path, depth)
	if errors.Is(err, ErrNoPlace) {
		return nil, false, err
	}
	if err != nil {
		return nil, false, fmt.Errorf("folder %s: %w", f.ID, err)
	}
	for _, p := range paths {
		l := Located{Folder: f, Path: p.path, Account: p.account, Why: why, Value: p.value, Real: tree.Real(p.path)}
		if _, err := os.Stat(p.path); err == nil {
			l.Exists = true
		}
		if info, err := os.Lstat(p.path); err == nil && l.Real != p.path && info.Mode()&os.ModeSymlink != 0 {
			l.Link, l.Path = p.path, l.Real
		}
		found = append(found, l)
	}
	return found, true, nil
}

func (in *Install) folder(ctx context.Context, id string, depth int) (Located, error) {
	for i := range in.Game.Folders {
		if f := &in.Game.Folders[i]; f.ID == id {
			located, ok, err := in.locate(ctx, f, depth)
			if errors.Is(err, ErrNoPlace) {
				continue
			}
			if err != nil {
				return Located{}, err
			}
			if ok && len(located) > 0 {
				return located[0], nil
			}
		}
	}
	return Located{}, fmt.Errorf("{folder:%s} %w", id, ErrNoPlace)
}

// Within reports whether path lies below dir; dir itself does not.
func Within(path, dir string) bool {
	rel, err := filepath.Rel(dir, path)
	return err == nil && rel != "." && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
}

// FileKind is what the files of a FileGroup are.
type FileKind string

// Kinds of files that are neither saves nor mods.
const (
	SettingsFiles FileKind = "settings"
	DataFiles     FileKind = "data"
	PictureFiles  FileKind = "pictures"
)

// FileGroup is what one pattern of a description stands for of the files that are neither saves nor mods: a folder and a glob in it.
type FileGroup struct {
	Kind FileKind
	// Pattern is the description's own text, and Account the account folder that it leads through, or "": together they name the group, on
	// every machine and whatever other folders there are.
	Pattern string
	Account string
	Dir     string
	Glob    string // slash-separated, relative to Dir
	// Active tells that it is the file which says which mods are on.
	Active bool
	// Except is that file, which is no setting, whatever patterns it matches; "" where there is none.
	Except string

	ofMod *regexp.Regexp // for files of mods; the first group is the mod's id
}

// ModOf is the id of the mod that the file path, relative to Dir, belongs to; ok is false where the group is not one of files of mods.
func (g FileGroup) ModOf(path string) (id string, ok bool) {
	if g.ofMod == nil {
		return "", false
	}
	m := g.ofMod.FindStringSubmatch(path)
	if m == nil {
		return "", false
	}
	return m[1], true
}

// modID stands for the id of a mod in the templates of its files.
const modID = "{id}"

// splitGlob takes a template apart into the folder that surely is one and the glob below it. Braces belong to templates, not to globs.
func splitGlob(t string) (base, glob string) {
	end := strings.IndexAny(t, "*?[")
	if i := strings.Index(t, modID); i >= 0 && (end < 0 || i < end) {
		end = i
	}
	if end < 0 {
		end = len(t)
	}
	i := strings.LastIndexByte(t[:end], '/')
	if i < 0 {
		return t, ""
	}
	return t[:i], t[i+1:]
}

// FileGroups resolves the patterns of [settings], of what mods have beside their folders, and of [pictures]; the file that says which mods
// are on counts as a setting. Patterns that have no place here are left out.
func (in *Install) FileGroups(ctx context.Context) ([]FileGroup, error) {
	var groups []FileGroup
	active, hasActive, err := in.ActiveFile(ctx)
	if err != nil {
		return nil, err
	}
	resolve := func(kind FileKind, templates []string) error {
		for _, t := range templates {
			base, glob := splitGlob(t)
			paths, err := in.expand(ctx, base, 0)
			if errors.Is(err, ErrNoPlace) {
				continue
			}
			if err != nil {
				return err
			}
			g := FileGroup{Kind: kind, Pattern: t, Glob: strings.ReplaceAll(glob, modID, "*"), Except: active}
			if strings.Contains(glob, modID) {
				g.ofMod = modPattern(glob)
			}
			for _, p := range paths {
				if why := in.outside(p.path, false); why != "" {
					return fmt.Errorf("%s %s: %s %w: %s", kind, t, p.path, ErrOutOfBounds, why)
				}
				g.Dir, g.Account = p.path, p.account
				if !slices.ContainsFunc(groups, func(o FileGroup) bool { return o.Kind == kind && o.Pattern == t && o.Dir == g.Dir }) { // two kinds of mod may share one
					groups = append(groups, g)
				}
			}
		}
		return nil
	}
	d := in.Game
	if d.Settings != nil {
		if err := resolve(SettingsFiles, d.Settings.Files); err != nil {
			return nil, err
		}
	}
	if hasActive {
		groups = append(groups, FileGroup{Kind: SettingsFiles, Pattern: d.Files[d.Active.In].Path, Dir: filepath.Dir(active), Glob: filepath.Base(active), Active: true})
	}
	for _, m := range d.Mods {
		for _, b := range []struct {
			kind   FileKind
			beside *Beside
		}{{SettingsFiles, m.Settings}, {DataFiles, m.Data}} {
			if b.beside == nil {
				continue
			}
			if err := resolve(b.kind, b.beside.Files); err != nil {
				return nil, err
			}
		}
	}
	if d.Pictures != nil {
		if err := resolve(PictureFiles, d.Pictures.Files); err != nil {
			return nil, err
		}
	}
	return groups, nil
}

// modPattern makes a pattern with the mod's id as its group out of a glob with {id} in it.
func modPattern(glob string) *regexp.Regexp {
	before, after, _ := strings.Cut(glob, modID)
	one := func(glob string) string {
		text := regexp.QuoteMeta(glob)
		text = strings.ReplaceAll(text, `\*\*/`, `(?:[^/]+/)*`)
		text = strings.ReplaceAll(text, `\*\*`, `.*`)
		return strings.NewReplacer(`\*`, `[^/]*`, `\?`, `[^/]`).Replace(text)
	}
	return regexp.MustCompile("^" + one(before) + "([^/]+?)" + one(after) + "$")
}
