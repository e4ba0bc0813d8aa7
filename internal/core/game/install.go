package game

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/check"
	"ostrov/internal/core/field"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/version"
)

// Install is one copy of a game on this machine.
type Install struct {
	Game *Description
	// Name tells installs of one game apart in addresses.
	Name string
	Root string // absolute
	// Prefix is the compatibility prefix that a Windows game runs in, or "".
	Prefix string
	// PlayerHome is the home of the player when that is not whoever runs Ostrov, or "".
	PlayerHome string
	// Edition is the named copy that it is, or "".
	Edition string
	// Pins are the paths that came out of values of the game's own files and that the player has confirmed, by value id.
	Pins map[string]string
	// Was are the names that it had before: addresses with them still mean it.
	Was []string
	// With is the name of the install of the game whose lines of play are this one's too, or "".
	With string

	known    Known
	folders  []Located // cached by Folders
	unplaced map[string]error
	values   map[string]field.Value
}

// Address is how commands name the install.
func (in *Install) Address() string { return in.Game.ID + "@" + in.Name }

// Plays is the name of the install whose lines of play are played on this one: its own, unless the player says otherwise.
func (in *Install) Plays() string { return cmp.Or(in.With, in.Name) }

// PlayedAs are the names under which the lines that are played on the install may stand.
func (in *Install) PlayedAs() []string {
	if in.With != "" {
		return []string{in.With}
	}
	return append([]string{in.Name}, in.Was...)
}

// PlaysWith reports whether the same lines of play are played on another install, too.
func (in *Install) PlaysWith(other *Install) bool {
	return in.Game.ID == other.Game.ID && in.Plays() == other.Plays()
}

// Open readies the install: it looks up the known folders that its templates stand on.
// The error is fs.ErrNotExist when the install has been moved away.
func (in *Install) Open() error {
	var err error
	switch {
	case in.Prefix != "":
		in.known, err = prefixKnown(in.Prefix)
	case in.PlayerHome != "":
		in.known = HomeKnown(in.PlayerHome)
	default:
		in.known, err = NativeKnown()
	}
	if err != nil {
		return err
	}
	in.values, in.folders = map[string]field.Value{}, nil
	return in.Game.CheckMarker(in.Root)
}

// FoldsCase reports whether names that differ in case only are one name to the game.
func (in *Install) FoldsCase() bool { return in.known.FoldsCase }

// expansion is one result of a template.
type expansion struct {
	path    string
	account string
	// value is the id of the [value] that the path stands on, or "".
	value string
}

// ErrNoPlace says that a template cannot be resolved here: the platform has no such folder, or a value is missing.
var ErrNoPlace = errors.New("has no place here")

// maxExpand bounds how deep templates may refer to folders that refer to folders.
const maxExpand = 8

func (in *Install) expand(ctx context.Context, template string, depth int) ([]expansion, error) {
	if depth > maxExpand {
		return nil, fmt.Errorf("%s: folders that refer to each other", template)
	}
	parts, err := splitTemplate(template)
	if err != nil {
		return nil, err
	}
	found := []expansion{{}}
	for i, p := range parts {
		if p.name == "account" {
			if found, err = in.accounts(found); err != nil {
				return nil, err
			}
			continue
		}
		text := p.literal
		switch p.name {
		case "", "account":
		case "game":
			text = in.Root
		case "folder":
			f, err := in.folder(ctx, p.id, depth+1)
			if err != nil {
				return nil, err
			}
			text = f.Path
		case "value":
			v, ok, err := in.Value(ctx, p.id)
			if err != nil {
				return nil, err
			}
			if !ok || v.Raw == "" {
				return nil, fmt.Errorf("{value:%s} %w: the game's files do not say", p.id, ErrNoPlace)
			}
			if text = v.Raw; i == 0 {
				if text = in.ownPath(text); !filepath.IsAbs(text) {
					return nil, fmt.Errorf("{value:%s} %w: %q is not a whole path", p.id, ErrNoPlace, v.Raw)
				}
				found[0].value = p.id
			}
		default:
			if text = in.known.place(p.name); text == "" {
				return nil, fmt.Errorf("{%s} %w", p.name, ErrNoPlace)
			}
		}
		for j := range found {
			found[j].path += filepath.FromSlash(text)
		}
	}
	for j := range found {
		found[j].path = filepath.Clean(found[j].path)
		if in.known.FoldsCase {
			found[j].path = spelled(found[j].path)
		}
	}
	return found, nil
}

// ownPath is where a path lies that the game's files name.
func (in *Install) ownPath(path string) string {
	if in.Prefix != "" {
		return PrefixPath(in.Prefix, path)
	}
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		return filepath.Join(in.known.Home, rest)
	}
	return filepath.FromSlash(path)
}

// accounts replaces each expansion, so far a folder, by one for every account folder in it.
func (in *Install) accounts(so []expansion) ([]expansion, error) {
	var found []expansion
	for _, e := range so {
		dir := spelled(filepath.Clean(e.path))
		list, err := os.ReadDir(dir) // a missing folder has no accounts
		if link, target := tree.Dangling(dir); link != "" {
			return nil, fmt.Errorf("{account} %w: %s is a link to %s, which is not there", ErrNoPlace, link, target)
		}
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("{account} %w: %w", ErrNoPlace, err)
		}
		for _, item := range list {
			info, err := os.Stat(filepath.Join(e.path, item.Name())) // an account's folder may be a link, also to what is not there now
			if (err != nil && item.Type()&fs.ModeSymlink != 0 || err == nil && info.IsDir()) && in.Game.account.MatchString(item.Name()) {
				found = append(found, expansion{path: e.path + item.Name(), account: item.Name(), value: e.value})
			}
		}
	}
	return found, nil
}

// Value is the [value] id of the install.
func (in *Install) Value(ctx context.Context, id string) (field.Value, bool, error) {
	if v, ok := in.values[id]; ok {
		return v, v.Raw != "", nil
	}
	v, ok, err := in.field(ctx, in.Game.Values[id])
	if err == nil {
		in.values[id] = v
	}
	return v, ok && v.Raw != "", err
}

// Version is the install's version and how it is known. It is "" where the game's files do not say.
func (in *Install) Version(ctx context.Context) (string, check.Evidence, error) {
	v, ok, err := in.field(ctx, in.Game.Version)
	if err != nil || !ok {
		return "", "", err
	}
	return v.Raw, check.Written, nil
}

// Build is the install's build, or "" where the description does not say where it stands.
func (in *Install) Build(ctx context.Context) (string, error) {
	v, _, err := in.field(ctx, in.Game.Versions.Build)
	return v.Raw, err
}

// Rules are the game's rules that hold for this install.
func (in *Install) Rules(ctx context.Context) ([]check.Rule, error) {
	var rules []check.Rule
	for i := range in.Game.Rules {
		r := &in.Game.Rules[i]
		if r.Edition != "" && r.Edition != in.Edition {
			continue
		}
		ok, _, err := in.Holds(ctx, r.If)
		if err != nil {
			return nil, err
		}
		if ok {
			rules = append(rules, in.Game.rules[i])
		}
	}
	return rules, nil
}

// Unmet are the requirements of the game that do not hold; saves are the names of those that are there, and mods tells whether any is on.
func (in *Install) Unmet(ctx context.Context, saves []string, mods bool) ([]Require, error) {
	var unmet []Require
	for _, r := range in.Game.Requires {
		holds := true
		switch {
		case r.Value != "":
			v, ok, err := in.Value(ctx, r.Value)
			if err != nil {
				return nil, err
			}
			holds = ok && v.Raw == r.Is
		case r.Exists != "":
			var err error
			if holds, _, err = in.Holds(ctx, &Cond{Exists: r.Exists}); err != nil {
				return nil, err
			}
		case r.SaveExists != "":
			holds = slices.Contains(saves, r.SaveExists)
		default:
			holds = !mods
		}
		if !holds {
			unmet = append(unmet, r)
		}
	}
	return unmet, nil
}

// OwnAccount is the player's account, or "" where nothing says which it is.
func (in *Install) OwnAccount(ctx context.Context) (string, error) {
	if in.Game.Account == nil {
		return "", nil
	}
	v, _, err := in.field(ctx, in.Game.Account.Current)
	return v.Raw, err
}

// field reads a field of the install's own files.
func (in *Install) field(ctx context.Context, fields field.Fields) (field.Value, bool, error) {
	files := in.Files(ctx)
	defer files.Close()
	return files.Field(ctx, fields)
}

// Files are the install's own files, as [file] declares them.
func (in *Install) Files(ctx context.Context) *field.Files {
	return field.NewFiles(in.Root, in.Game.Files, func(f field.File) ([]field.Place, error) {
		places, err := in.filePlaces(ctx, f.Path)
		if errors.Is(err, ErrNoPlace) {
			err = fmt.Errorf("%w: %w", fs.ErrNotExist, err)
		}
		return places, err
	})
}

// filePlaces are where the files lie that a template means: one, or all that the glob at its end matches, sorted.
func (in *Install) filePlaces(ctx context.Context, template string) ([]field.Place, error) {
	base, glob := template, ""
	if strings.ContainsAny(template, "*?[") {
		base, glob = splitGlob(template)
	}
	paths, err := in.expand(ctx, base, 0)
	if err != nil {
		return nil, err
	}
	var places []field.Place
	for _, p := range paths {
		if glob == "" {
			dir, name := filepath.Split(p.path)
			places = append(places, field.Place{FS: tree.DirFS(dir), Name: name})
			continue
		}
		fsys := tree.DirFS(p.path)
		names, err := doublestar.Glob(fsys, glob, doublestar.WithFilesOnly())
		if err != nil {
			return nil, err
		}
		slices.Sort(names)
		for _, name := range names {
			places = append(places, field.Place{FS: fsys, Name: name})
		}
	}
	if len(paths) > 1 && glob == "" || len(places) == 0 {
		return nil, fmt.Errorf("%s: %w", template, fs.ErrNotExist)
	}
	return places, nil
}

// holds reports whether a condition holds, and says it in words.
func (in *Install) holds(ctx context.Context, c *Cond, depth int) (bool, string, error) {
	if c == nil {
		return true, "", nil
	}
	ok, why := true, []string{}
	note := func(holds bool, yes, no string) {
		if ok = ok && holds; holds {
			why = append(why, yes)
		} else {
			why = append(why, no)
		}
	}
	for _, t := range []struct {
		template string
		want     bool
	}{{c.Exists, true}, {c.Absent, false}} {
		if t.template == "" {
			continue
		}
		paths, err := in.expand(ctx, t.template, depth)
		if err != nil && !errors.Is(err, ErrNoPlace) {
			return false, "", err
		}
		exists := false
		for _, p := range paths {
			_, err := os.Stat(p.path)
			exists = exists || err == nil
		}
		name := t.template[strings.LastIndexByte(t.template, '/')+1:]
		yes, no := name+" is there", name+" is not there"
		if !t.want {
			yes, no = no, yes
		}
		note(exists == t.want, yes, no)
	}
	if c.Version != "" {
		r, _ := version.ParseRange(c.Version)
		v, _, err := in.Version(ctx)
		if err != nil {
			return false, "", err
		}
		note(r.Holds(in.Game.Order(), v), "version "+v+" is "+c.Version, "version "+v+" is not "+c.Version)
	}
	if c.Edition != "" {
		note(in.Edition == c.Edition, "it is the edition "+c.Edition, "it is not the edition "+c.Edition)
	}
	if c.Value != nil {
		v, has, err := in.Value(ctx, c.Value.ID)
		if err != nil {
			return false, "", err
		}
		holds := has && (c.Value.Is == "" || v.Raw == c.Value.Is) && (c.Value.Not == "" || v.Raw != c.Value.Not)
		if holds && c.Value.Matches != "" {
			holds = regexp.MustCompile("^(?:" + c.Value.Matches + ")$").MatchString(v.Raw)
		}
		note(holds, fmt.Sprintf("%s is %q", c.Value.ID, v.Raw), fmt.Sprintf("%s is %q", c.Value.ID, v.Raw))
	}
	if len(c.Any) > 0 {
		any := false
		for i := range c.Any {
			holds, _, err := in.holds(ctx, &c.Any[i], depth)
			if err != nil {
				return false, "", err
			}
			any = any || holds
		}
		note(any, "one of several holds", "none of several holds")
	}
	return ok, strings.Join(why, ", "), nil
}

// Holds reports whether the condition of something else than a folder holds.
func (in *Install) Holds(ctx context.Context, c *Cond) (ok bool, why string, err error) {
	return in.holds(ctx, c, 0)
}

// ActiveFile is where the file lies that says which mods are on; ok is false for a game without one.
func (in *Install) ActiveFile(ctx context.Context) (path string, ok bool, err error) {
	if in.Game.Active == nil {
		return "", false, nil
	}
	return in.FilePath(ctx, in.Game.Active.In)
}

// FilePath is where the [file] id lies; ok is false where it has no place here. It need not be there.
func (in *Install) FilePath(ctx context.Context, id string) (path string, ok bool, err error) {
	paths, err := in.expand(ctx, in.Game.Files[id].Path, 0)
	if errors.Is(err, ErrNoPlace) {
		return "", false, nil
	}
	if err != nil || len(paths) != 1 {
		return "", false, err
	}
	return paths[0].path, true, nil
}
