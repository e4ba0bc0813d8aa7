package save

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"slices"
	"sort"
	"strings"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
)

// Candidate is something in a download that is a save, or would be one if it were whole.
type Candidate struct {
	Kind *game.Save
	// Name is the path in the download: of the file or folder, of a set its first file; "." is the download's root.
	Name  string
	Files []string // paths in the download
	// Captures come from the name where it is spelled as the game does; else nil.
	Captures map[string]string
	Facts    Facts
	// Doubtful tells that it could as well be of another kind: neither its name nor its content says which.
	Doubtful bool
	// Label is the names of the outer folders, which often say which variant of a save it is.
	Label string
}

// Set are the paths of its files.
func (c Candidate) Set() map[string]bool {
	set := make(map[string]bool, len(c.Files))
	for _, f := range c.Files {
		set[f] = true
	}
	return set
}

// Base is the last part of the candidate's name, or fallback where that is the root.
func (c Candidate) Base(fallback string) string {
	if c.Name == "." {
		return fallback
	}
	return path.Base(c.Name)
}

// MaxFound is how many saves a download is read for: nobody chooses among more.
const MaxFound = 1000

// Recognise finds the saves of the game among the entries of a download, whose beginnings begin reads: by name and, where a kind says how, by content. One is of the kind whose
// pattern its name has, if its content allows that; where that leaves several kinds, each is a candidate, and Doubtful. Entries outside the saves
// found are litter.
func Recognise(ctx context.Context, d *game.Description, begin *Beginnings, entries []tree.Entry) []Candidate {
	fsys := begin.fsys
	byRank := map[string][another][]Candidate{}
	read := 0
	for i := range d.Saves {
		kind := &d.Saves[i]
		maybe := func(e tree.Entry) bool {
			return e.Size > 0 && len(byRank[e.Path][named]) == 0 && begin.plausible(kind, e.Path)
		}
		for _, c := range candidates(kind, entries, maybe) {
			if ctx.Err() != nil || read == MaxFound {
				break
			}
			ranks := byRank[c.Name]
			if c.Captures == nil && len(ranks[named]) > 0 {
				continue
			}
			read++
			c.Facts = Read(ctx, kind, fsys, c.Name, c.Files)
			if rank := c.rank(fsys); rank < another {
				ranks[rank] = append(ranks[rank], c)
				byRank[c.Name] = ranks
			}
		}
	}
	var found []Candidate
	for _, name := range slices.Sorted(maps.Keys(byRank)) {
		ranks := byRank[name]
		rank := slices.IndexFunc(ranks[:], func(of []Candidate) bool { return len(of) > 0 })
		best := ranks[rank]
		if rank >= damaged {
			best = best[:1]
		}
		for _, c := range best {
			c.Doubtful = len(best) > 1
			found = append(found, c)
		}
	}
	return found
}

// How well a candidate is of its kind, best first.
const (
	named   = iota // it is called so, and its content is right
	alike          // its content is right, whatever it is called
	damaged        // what tells its kind is in it, and it cannot be read through
	closed         // what would tell its kind cannot be read
	another        // it is none of the kind
)

// rank is how well a candidate, whose Facts have been read, is of its kind.
func (c Candidate) rank(fsys fs.FS) int {
	switch {
	case !c.Is(fsys):
		return another
	case c.Facts.unread:
		return closed
	case c.Facts.Problem != nil:
		return damaged
	case c.Captures == nil:
		return alike
	}
	return named
}

// candidates are the places in a download whose name or make-up could be a save of the kind; a file that is not called as such saves are, if maybe
// says so.
func candidates(kind *game.Save, entries []tree.Entry, maybe func(tree.Entry) bool) []Candidate {
	var files []string
	is := map[string]bool{} // a file; one that is an archive is a folder, too
	var loose []*tree.Entry
	for i := range entries {
		e := &entries[i]
		if e.Kind != tree.File || ignored(kind, e.Path) {
			continue
		}
		switch kind.Unit {
		case game.UnitFile:
			loose = append(loose, e)
		case game.UnitFolder:
			is[e.Path] = true
			files = append(files, e.Path)
		default:
			files = append(files, e.Path)
		}
	}
	var found []Candidate
	add := func(name string, files []string, captures map[string]string) {
		label := strings.ReplaceAll(path.Dir(name), "/", " / ")
		if label == "." {
			label = ""
		}
		found = append(found, Candidate{Kind: kind, Name: name, Files: files, Captures: captures, Label: label})
	}
	match := func(name string) map[string]string {
		for _, g := range group(kind, []string{path.Base(name)}, true) {
			return g.captures
		}
		return nil
	}
	switch kind.Unit {
	case game.UnitFile:
		called := map[string][]string{}
		if len(CompanionNames(kind, "x")) > 0 {
			for _, e := range loose {
				called[lowerBase(e.Path)] = append(called[lowerBase(e.Path)], e.Path)
			}
		}
		for _, e := range loose {
			captures := match(e.Path)
			if captures != nil || kind.Is != nil && maybe(*e) {
				add(e.Path, append([]string{e.Path}, beside(kind, e.Path, called)...), captures)
			}
		}
	case game.UnitFolder:
		sort.Strings(files)
		for _, dir := range declaring(kind, files) {
			add(dir, below(files, dir, is), match(dir))
		}
	case game.UnitSet:
		in := map[string][]string{}
		for _, f := range files {
			in[path.Dir(f)] = append(in[path.Dir(f)], path.Base(f))
		}
		for _, dir := range slices.Sorted(maps.Keys(in)) {
			names := in[dir]
			sort.Strings(names)
			for _, g := range group(kind, names, true) {
				var full []string
				for _, n := range g.names {
					full = append(full, path.Join(dir, n))
				}
				add(full[0], full, g.captures)
			}
		}
	}
	return joinSets(kind, found)
}

// beside finds the companions of a save among the files of a download: beside it, or, in a download that has spread them, the only file of
// that name. called are the files by their names in lower case.
func beside(kind *game.Save, name string, called map[string][]string) []string {
	var found []string
	for _, companion := range CompanionNames(kind, path.Base(name)) {
		elsewhere := called[strings.ToLower(companion)]
		at := ""
		for _, f := range elsewhere {
			if path.Dir(f) == path.Dir(name) {
				at = f
			}
		}
		if at == "" && len(elsewhere) == 1 {
			at = elsewhere[0]
		}
		if at != "" {
			found = append(found, at)
		}
	}
	return found
}

func lowerBase(name string) string { return strings.ToLower(path.Base(name)) }

// joinSets makes one candidate of the parts of a set that a download has spread over several folders.
func joinSets(kind *game.Save, found []Candidate) []Candidate {
	if kind.Unit != game.UnitSet {
		return found
	}
	endings := func(c Candidate) map[string]bool {
		all := map[string]bool{}
		for _, f := range c.Files {
			all[strings.ToLower(path.Ext(f))] = true
		}
		return all
	}
	var kept []Candidate
	alike := map[string][]int{} // of those kept, by their captures
next:
	for _, c := range found {
		captures := fmt.Sprint(c.Captures)
		for _, i := range alike[captures] {
			have, apart := endings(kept[i]), true
			for e := range endings(c) {
				apart = apart && !have[e]
			}
			if apart {
				kept[i].Files = append(kept[i].Files, c.Files...)
				continue next
			}
		}
		alike[captures] = append(alike[captures], len(kept))
		kept = append(kept, c)
	}
	return kept
}

// declaring are the folders that directly hold at least one of the files that every save of the kind has, sorted.
func declaring(kind *game.Save, files []string) []string {
	dirs := map[string]bool{}
	for _, f := range kind.Files {
		if f.Optional || f.If != nil {
			continue
		}
		depth := strings.Count(f.Path, "/") + 1
		for _, p := range files {
			if strings.Contains(f.Path, "**") { // which may be any number of folders
				for dir, up := path.Dir(p), true; up; dir = path.Dir(dir) {
					up = dir != "."
					dirs[dir] = dirs[dir] || doublestar.MatchUnvalidated(path.Join(dir, f.Path), p)
				}
			} else if dir, rest := cutEnd(p, depth); rest != "" && (strings.EqualFold(rest, f.Path) || doublestar.MatchUnvalidated(f.Path, rest)) {
				dirs[dir] = true
			}
		}
	}
	maps.DeleteFunc(dirs, func(_ string, is bool) bool { return !is })
	return slices.Sorted(maps.Keys(dirs))
}

// cutEnd takes the last parts of a path off; rest is "" where it has fewer.
func cutEnd(p string, parts int) (dir, rest string) {
	at := len(p)
	for range parts {
		if at <= 0 {
			return "", ""
		}
		at = strings.LastIndexByte(p[:at], '/')
	}
	if at < 0 {
		return ".", p
	}
	return p[:at], p[at+1:]
}

// below are those of sorted files that lie in a folder, but not in an archive, that is a file, in it.
func below(files []string, dir string, is map[string]bool) []string {
	if dir != "." {
		from, _ := slices.BinarySearch(files, dir+"/")
		to, _ := slices.BinarySearch(files, dir+"0") // behind /
		files = files[from:to]
	}
	return slices.DeleteFunc(slices.Clone(files), func(f string) bool {
		for up := path.Dir(f); up != dir && up != "."; up = path.Dir(up) {
			if is[up] {
				return true
			}
		}
		return false
	})
}

// Is reports whether a candidate, whose Facts have been read, is a save of its kind.
func (c Candidate) Is(fsys fs.FS) bool { return is(c.Kind, fsys, c) }

// is reports whether a candidate is a save of its kind: by [save.is], or, without that, by its name. One whose name is right counts even
// when its content cannot be read: it is a damaged save rather than none.
func is(kind *game.Save, fsys fs.FS, c Candidate) bool {
	if kind.Is == nil {
		return c.Captures != nil
	}
	broken := c.Facts.unread && (c.Captures != nil || kind.Unit == game.UnitFolder)
	if magic, offset := kind.Is.MagicBytes(); magic != nil {
		f, err := fsys.Open(c.Files[0])
		if err != nil {
			return false
		}
		defer f.Close()
		head := make([]byte, int(offset)+len(magic))
		if _, err := io.ReadFull(f, head); err != nil || !bytes.Equal(head[offset:], magic) {
			return broken
		}
		broken = broken || c.Facts.Problem != nil // it begins as one
	}
	for _, id := range kind.Is.Has {
		if _, ok := c.Facts.Fields[id]; !ok {
			return broken
		}
	}
	return true
}

// Missing are the files that a candidate lacks: declared ones of a folder, companions of a file that the game needs.
func (c Candidate) Missing() []string {
	if !c.Kind.Companions.Needed() {
		return nil
	}
	return c.lacks()
}

// Without are the companions that a candidate lacks and that the game does not need.
func (c Candidate) Without() []string {
	if c.Kind.Companions.Needed() {
		return nil
	}
	return c.lacks()
}

func (c Candidate) lacks() []string {
	var missing []string
	for _, companion := range c.Kind.CompanionsOf(path.Base(c.Name)) {
		if !slices.ContainsFunc(c.Files, func(p string) bool { return strings.EqualFold(path.Base(p), companion) }) {
			missing = append(missing, companion)
		}
	}
	if c.Kind.Unit != game.UnitFolder {
		return missing
	}
	for _, f := range c.Kind.Files {
		if f.Wanted(within(c.Kind, c.Name, c.Files)) && len(FilesOf(c.Kind, f, c.Name, c.Files)) == 0 {
			missing = append(missing, f.Path)
		}
	}
	sort.Strings(missing)
	return slices.Compact(missing)
}
