// Package trial tries a description on what it is for: installs, saves, mods and downloads, and says what it reads out of each, what it does not
// find, and why something is not recognised.
//
// It promises to write nothing, not even into Ostrov's home. It judges nothing: whether a save goes with an install is assess's business.
package trial

import (
	"cmp"
	"context"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// Thing is an install, a save or a mod that a description was tried on.
type Thing struct {
	What string // install, save or mod; or more, for what is left out of many
	Kind string // the id of the kind of save or mod
	Name string
	// Not says why it is not recognised as one of its kind; "" where it is.
	Not     string
	Problem error // why not everything of it can be read, or nil
	Files   []field.Opened
	Fields  []Field
	Lists   []List
	Folders []Folder // of an install
	// Rules are the rules about versions that a save can meet, by what it says of itself; each as a line number of the description and in words.
	Rules []Rule
}

// Field is a field and how its alternatives were looked for, in their order.
type Field struct {
	ID    string
	Tried []field.Tried
	// Inferred says what stands in for a value that is not there, or "".
	Inferred string
}

// Found is the alternative that has a value, or nil.
func (f Field) Found() *field.Tried {
	for i := range f.Tried {
		if f.Tried[i].Found {
			return &f.Tried[i]
		}
	}
	return nil
}

// List is a list and how it was looked for.
type List struct {
	ID string
	field.TriedList
}

// Folder is a folder of an install, and why it is the one.
type Folder struct {
	ID, Path, Why string
	Exists        bool
	Saves, Mods   int  // recognised in it
	Cut           bool // there is more in it than is tried
}

// Rule is a rule of the description.
type Rule struct {
	Line  int
	Words string
}

// maxThings bounds what one path holds.
const maxThings = 200

// On tries a description on what lies at a path.
func On(ctx context.Context, h *home.Home, d *game.Description, at string) ([]Thing, error) {
	at, err := filepath.Abs(at)
	if err != nil {
		return nil, err
	}
	info, err := os.Stat(at)
	if err != nil {
		return nil, err
	}
	t := trier{ctx, h, d}
	if info.IsDir() && d.CheckMarker(at) == nil {
		return t.install(at)
	}
	if info.IsDir() {
		things, err := t.inside(tree.DirFS(at), ".", filepath.Base(at))
		if err != nil || len(things) > 0 {
			return things, err
		}
		return t.unlike(tree.DirFS(at), filepath.Base(at), true)
	}
	fsys, name := tree.DirFS(filepath.Dir(at)), filepath.Base(at)
	things, err := t.inside(fsys, name, name)
	if err != nil || len(things) > 0 {
		return things, err
	}
	if things, err = t.download(at); err != nil || len(things) > 0 {
		return things, err
	}
	return t.unlike(fsys, name, false)
}

type trier struct {
	ctx context.Context
	h   *home.Home
	d   *game.Description
}

// download tries what is in an archive.
func (t trier) download(file string) ([]Thing, error) {
	down, err := facts.OpenDownload(t.ctx, t.h, file)
	if err != nil {
		return nil, err
	}
	defer down.Close()
	things, err := t.of(down.FS, down.Entries, filepath.Base(file))
	if err == nil && len(things) == 0 && len(down.Damaged) > 0 {
		err = fmt.Errorf("%s is damaged: %s", file, down.Damaged[0].Why)
	}
	return things, err
}

// inside tries a file, with what lies beside it, or all that is in a folder.
func (t trier) inside(fsys fs.FS, name, called string) ([]Thing, error) {
	if name == "." {
		entries, err := tree.ListFS(fsys, ".")
		if err != nil {
			return nil, err
		}
		return t.of(fsys, entries, called)
	}
	entries := []tree.Entry{{Path: name, Kind: tree.File}}
	var kinds []*game.Save // the kinds of which it has the name
	for i := range t.d.Saves {
		kind := &t.d.Saves[i]
		others, err := save.Beside(kind, fsys, name)
		if err != nil {
			return nil, err
		}
		for _, other := range others {
			entries = append(entries, tree.Entry{Path: other, Kind: tree.File})
		}
		if kind.Unit == game.UnitFile && slices.ContainsFunc(kind.Names(), func(n *game.Name) bool { _, ok := n.Match(name, true); return ok }) {
			kinds = append(kinds, kind)
		}
	}
	if len(kinds) == 1 { // a large one is read once
		var files []string
		for _, e := range entries {
			files = append(files, e.Path)
		}
		captures, _ := kinds[0].Names()[0].Match(name, true)
		if captures == nil {
			captures = map[string]string{}
		}
		thing, err := t.save(save.Candidate{Kind: kinds[0], Name: name, Files: files, Captures: captures}, fsys, called)
		if err != nil || thing.Not == "" {
			return []Thing{thing}, err
		}
	}
	return t.of(fsys, entries, called)
}

// of tries the saves and mods among entries, and says how many are left out.
func (t trier) of(fsys fs.FS, entries []tree.Entry, called string) ([]Thing, error) {
	var things []Thing
	left := 0
	add := func(try func() (Thing, error)) error {
		if len(things) >= maxThings {
			left++
			return nil
		}
		thing, err := try()
		things = append(things, thing)
		return err
	}
	for _, c := range save.Recognise(t.ctx, t.d, save.Begin(fsys, t.d), entries) {
		if err := add(func() (Thing, error) { return t.save(c, fsys, c.Base(called)) }); err != nil {
			return nil, err
		}
	}
	for _, m := range mod.InDownload(t.ctx, t.d, fsys, entries) {
		if err := add(func() (Thing, error) { return t.mod(m.Kind, fsys, m.Path, entries, called) }); err != nil {
			return nil, err
		}
	}
	if left > 0 {
		things = append(things, Thing{What: "more", Name: fmt.Sprintf("%d saves and mods that are not tried", left)})
	}
	return things, t.ctx.Err()
}

// save reads a save, whether it is one or not.
func (t trier) save(c save.Candidate, fsys fs.FS, called string) (Thing, error) {
	kind := c.Kind
	thing := Thing{What: "save", Kind: kind.ID, Name: called}
	name := c.Name
	if name == "." {
		name = called
	}
	in, err := save.ContentOf(kind, fsys, c.Name, c.Files)
	if err != nil {
		return thing, err
	}
	defer in.Close()
	at := t.keyOf("save", kind.ID)
	thing.Files = t.files(in.Files, at+".file", kind.Files)
	for _, id := range t.d.Sorted(at+".field", slices.Collect(maps.Keys(kind.Field))) {
		thing.Fields = append(thing.Fields, t.field(in.Files, id, kind.Field[id]))
	}
	if o := kind.Owner; o != nil && o.In != "" {
		thing.Fields = append(thing.Fields, t.field(in.Files, "owner (save.owner)", o.Fields()))
	}
	for i := range kind.Mods {
		thing.Lists = append(thing.Lists, List{"mods", in.TryList(t.ctx, &kind.Mods[i])})
	}
	c.Facts = in.Facts(t.ctx)
	thing.Problem = c.Facts.Problem
	thing.infer(kind, c.Facts)
	thing.Rules = t.rules(c.Facts)
	if !c.Is(fsys) {
		thing.Not = whyNot(kind, name, thing)
	}
	return thing, t.ctx.Err()
}

// infer says what stands in for what a save does not say.
func (thing *Thing) infer(kind *game.Save, said save.Facts) {
	for i := range thing.Fields {
		if f := &thing.Fields[i]; f.ID == "version" && f.Found() == nil {
			f.Inferred = "of a save that is written here, the version of the install is taken"
		}
	}
	if _, declared := kind.Field["version"]; !declared {
		thing.Fields = append(thing.Fields, Field{ID: "version", Inferred: "the description reads none: of a save that is written here, the version of the install is taken"})
	}
	if len(kind.Mods) == 0 && !kind.NoMods && said.Problem == nil {
		thing.Lists = append(thing.Lists, List{ID: "mods"})
	}
}

// mod reads a mod; called is what the folder is called that entries are relative to.
func (t trier) mod(kind *game.Mod, fsys fs.FS, at string, entries []tree.Entry, called string) (Thing, error) {
	thing := Thing{What: "mod", Kind: kind.ID, Name: path.Base(at)}
	if at == "." {
		thing.Name = called
	}
	dir := at
	if kind.Unit == game.UnitFile {
		dir = path.Dir(at)
	}
	sub, err := fs.Sub(fsys, dir)
	if err != nil {
		return thing, err
	}
	var files []string
	for _, e := range entries {
		inside, ok := strings.CutPrefix(e.Path, dir+"/")
		if dir == "." {
			inside, ok = e.Path, true
		}
		if ok && e.Kind == tree.File && (kind.Unit != game.UnitFile || e.Path == at) {
			files = append(files, inside)
		}
	}
	in := field.InFS(sub, thing.Name, files, kind.Files)
	defer in.Close()
	key := t.keyOf("mod", kind.ID)
	thing.Files = t.files(in, key+".file", kind.Files)
	for _, id := range t.d.Sorted(key+".field", slices.Collect(maps.Keys(kind.Field))) {
		thing.Fields = append(thing.Fields, t.field(in, id, kind.Field[id]))
	}
	for _, l := range []struct {
		id    string
		lists field.Lists
	}{{"needs", kind.Needs}, {"optional", kind.Optional}, {"clashes", kind.Clashes}, {"provides", kind.Provides}, {"was", kind.Was}} {
		for i := range l.lists {
			thing.Lists = append(thing.Lists, List{l.id, in.TryList(t.ctx, &l.lists[i])})
		}
	}
	if added, err := game.ReadAdds(t.ctx, in, kind.Adds); len(kind.Adds) > 0 {
		brings := List{"adds", field.TriedList{In: "identifiers that it brings into saves", There: true, Whole: true, Err: err}}
		for _, id := range added.Exact {
			brings.Items = append(brings.Items, field.Item{ID: id})
		}
		said := map[string]string{}
		for _, f := range thing.Fields {
			if found := f.Found(); found != nil {
				said[f.ID] = found.Value.Raw
			}
		}
		id := cmp.Or(said["id"], thing.Name)
		for _, template := range added.Prefixes {
			for _, prefix := range mod.Spelled(template, id, said) {
				brings.Items = append(brings.Items, field.Item{ID: prefix + "…"})
			}
		}
		for _, template := range added.Suffixes {
			for _, suffix := range mod.Spelled(template, id, said) {
				brings.Items = append(brings.Items, field.Item{ID: "…" + suffix})
			}
		}
		thing.Lists = append(thing.Lists, brings)
	}
	return thing, nil
}

// unlike reads what was not recognised as every kind of save and mod that it could be, to show why it is none.
func (t trier) unlike(fsys fs.FS, name string, folder bool) ([]Thing, error) {
	entries := []tree.Entry{{Path: name, Kind: tree.File}}
	if folder {
		var err error
		if entries, err = tree.ListFS(fsys, "."); err != nil {
			return nil, err
		}
	}
	var files []string
	for _, e := range entries {
		if e.Kind == tree.File {
			files = append(files, e.Path)
		}
	}
	var things []Thing
	for i := range t.d.Saves {
		kind := &t.d.Saves[i]
		if (kind.Unit == game.UnitFolder) != folder || len(files) == 0 {
			continue
		}
		at := name
		if folder {
			at = "."
		}
		thing, err := t.save(save.Candidate{Kind: kind, Name: at, Files: files}, fsys, name)
		if err != nil {
			return nil, err
		}
		if thing.Not == "" {
			thing.Not = "it is not recognised as one"
		}
		things = append(things, thing)
	}
	return things, nil
}

// whyNot says why something is no save of a kind.
func whyNot(kind *game.Save, name string, thing Thing) string {
	var why []string
	matches := slices.ContainsFunc(kind.Names(), func(n *game.Name) bool { _, ok := n.Match(name, true); return ok })
	if !matches {
		why = append(why, fmt.Sprintf("its name is not as %s", strings.Join(kind.Name, " or ")))
	}
	if kind.Is != nil {
		for _, id := range kind.Is.Has {
			if i := slices.IndexFunc(thing.Fields, func(f Field) bool { return f.ID == id }); i >= 0 && thing.Fields[i].Found() == nil {
				why = append(why, "the field "+id+", which [save.is] wants, is not found")
			}
		}
		if kind.Is.Magic != "" {
			why = append(why, "it may not begin as the magic says")
		}
	}
	return strings.Join(why, "; ")
}

func (t trier) files(in *field.Files, at string, declared map[string]field.File) []field.Opened {
	var all []field.Opened
	for _, id := range t.d.Sorted(at, slices.Collect(maps.Keys(declared))) {
		all = append(all, in.Opened(t.ctx, id, t.h.Now))
	}
	return all
}

func (t trier) field(in *field.Files, id string, fields field.Fields) Field {
	f := Field{ID: id}
	for i := range fields {
		f.Tried = append(f.Tried, in.Try(t.ctx, &fields[i]))
		if f.Tried[i].Found {
			break
		}
	}
	return f
}

// keyOf is where a kind of save or mod stands in the description.
func (t trier) keyOf(what, id string) string {
	if what == "save" {
		return fmt.Sprintf("save.%d", slices.IndexFunc(t.d.Saves, func(s game.Save) bool { return s.ID == id }))
	}
	return fmt.Sprintf("mod.%d", slices.IndexFunc(t.d.Mods, func(m game.Mod) bool { return m.ID == id }))
}

// rules are those about versions that a save with these facts can meet in some install.
func (t trier) rules(said save.Facts) []Rule {
	needs := check.Needs{Version: said.Version(), Format: said.Fields["format"].Raw, Build: said.Fields["build"].Raw, Fields: map[string]string{}}
	for id, v := range said.Fields {
		needs.Fields[id] = v.Raw
	}
	var met []Rule
	for i, r := range t.d.CheckRules() {
		if r.CanMeet(needs, t.d.Order()) {
			met = append(met, Rule{t.d.Line(fmt.Sprintf("rule.%d", i)), t.d.Rules[i].Words()})
		}
	}
	return met
}
