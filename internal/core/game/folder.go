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

// Paths are the paths of folders.
func Paths(folders []Located) []string {
	var paths []string
	for _, f := range folders {
		paths = append(paths, f.Path)
	}
	return paths
}
