package game

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

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

	ofMod *regexp.Regexp // for files of mods; the first group is what names the mod
	by    string         // what of the mod that is: a field, or "" for its id
	mod   string         // the id of the mod whose all of them are, or ""
}

// Holds reports whether a file, by its path relative to Dir, is one of the group.
func (g FileGroup) Holds(path string) bool { return doublestar.MatchUnvalidated(g.Glob, path) }

// ModOf is what names the mod that the file path, relative to Dir, belongs to: its id, or its field by; ok is false where the group is not one of
// files of mods.
func (g FileGroup) ModOf(path string) (name, by string, ok bool) {
	if g.mod != "" {
		return g.mod, "", true
	}
	if g.ofMod == nil {
		return "", "", false
	}
	m := g.ofMod.FindStringSubmatch(path)
	if m == nil {
		return "", "", false
	}
	return m[1], g.by, true
}

// ofModPlace stands for what names a mod in the templates of its files: {id}, or a field of it.
var ofModPlace = regexp.MustCompile(`\{id\}|\{field:([a-z0-9_-]+)\}`)

// splitGlob takes a template apart into the folder that surely is one and the glob below it. Braces belong to templates, not to globs.
func splitGlob(t string) (base, glob string) {
	end := strings.IndexAny(t, "*?[")
	if m := ofModPlace.FindStringIndex(t); m != nil && (end < 0 || m[0] < end) {
		end = m[0]
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
	resolve := func(kind FileKind, templates []string, mod string) error {
		for _, t := range templates {
			base, glob := splitGlob(t)
			paths, err := in.expand(ctx, base, 0)
			if errors.Is(err, ErrNoPlace) {
				continue
			}
			if err != nil {
				return err
			}
			g := FileGroup{Kind: kind, Pattern: t, Glob: ofModPlace.ReplaceAllString(glob, "*"), Except: active, mod: mod}
			if m := ofModPlace.FindStringSubmatch(glob); m != nil {
				g.ofMod, g.by = modPattern(glob), m[1]
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
		if err := resolve(SettingsFiles, d.Settings.Files, ""); err != nil {
			return nil, err
		}
	}
	if hasActive {
		groups = append(groups, FileGroup{Kind: SettingsFiles, Pattern: d.Files[d.Active.In].Path, Dir: filepath.Dir(active), Glob: filepath.Base(active), Active: true})
	}
	for _, m := range d.Mods {
		for _, b := range []struct {
			kind   FileKind
			beside BesideList
		}{{SettingsFiles, m.Settings}, {DataFiles, m.Data}} {
			for _, one := range b.beside {
				if err := resolve(b.kind, one.Files, one.Mod); err != nil {
					return nil, err
				}
			}
		}
	}
	if d.Pictures != nil {
		if err := resolve(PictureFiles, d.Pictures.Files, ""); err != nil {
			return nil, err
		}
	}
	return groups, nil
}

// modPattern makes a pattern with what names the mod as its group out of a glob with {id} or {field:ID} in it.
func modPattern(glob string) *regexp.Regexp {
	place := ofModPlace.FindStringIndex(glob)
	before, after := glob[:place[0]], glob[place[1]:]
	one := func(glob string) string {
		text := regexp.QuoteMeta(glob)
		text = strings.ReplaceAll(text, `\*\*/`, `(?:[^/]+/)*`)
		text = strings.ReplaceAll(text, `\*\*`, `.*`)
		return strings.NewReplacer(`\*`, `[^/]*`, `\?`, `[^/]`).Replace(text)
	}
	return regexp.MustCompile("^" + one(before) + "([^/]+?)" + one(after) + "$")
}
