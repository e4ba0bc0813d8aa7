package game

import (
	"errors"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/zeebo/blake3"

	"ostrov/internal/core/check"
	"ostrov/internal/core/form"
	"ostrov/internal/core/strict"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/version"
)

var idPattern = regexp.MustCompile(`^[a-z0-9-]+$`)

// Parse reads a description. file is its name for messages. Everything wrong with it is reported at once, as strict.Errors.
func Parse(file string, data []byte) (*Description, error) {
	d := &Description{File: file, Digest: tree.Digest(blake3.Sum256(data))}
	decoder, err := strict.Decode(file, data, d, later)
	if err != nil {
		return nil, err
	}
	v := validator{decoder, d}
	v.all()
	if err := decoder.Err(); err != nil {
		return nil, err
	}
	return d, nil
}

// validator checks what types cannot say: names that must be defined, queries that must parse, and what belongs together.
type validator struct {
	*strict.Decoder
	d *Description
}

func (v validator) all() {
	d := v.d
	if d.Ostrov != Language {
		v.Errorf("ostrov", "", "the description language %d is not understood; this Ostrov reads %d: begin with ostrov = %d", d.Ostrov, Language, Language)
	}
	if !idPattern.MatchString(d.ID) {
		v.Errorf("id", "", "the id %q must be of a-z, 0-9 and -", d.ID)
	}
	if d.Title == "" {
		v.Errorf("title", "", "a title is missing")
	}
	if len(d.Install.Marker) == 0 {
		v.Errorf("install", "", "[install] needs a marker: files of which one must exist in an install")
	}
	if (d.Versions.Order == "list") != (len(d.Versions.List) > 0) || d.Versions.Order != "" && d.Versions.Order != "list" && d.Versions.Order != "numeric" {
		v.Errorf("versions", "", "[versions] is order = \"numeric\", or order = \"list\" with a list")
	}
	v.fields("version", d.Version, d.Files)
	v.fields("versions.build", d.Versions.Build, d.Files)
	v.globs("install.base", d.Install.Base)
	v.globs("install.allowed", d.Install.Allowed)
	for id, f := range d.Files {
		v.file("file."+id, f)
		v.template("file."+id+".path", f.Path)
	}
	for id, f := range d.Values {
		v.fields("value."+id, f, d.Files)
	}
	if d.Account != nil {
		re, err := regexp.Compile("^(?:" + d.Account.Pattern + ")$")
		if err != nil || d.Account.Pattern == "" {
			v.Errorf("account.pattern", "", "not a pattern: %v", err)
		}
		d.account = re
		v.fields("account.current", d.Account.Current, d.Files)
	}
	if len(d.Folders) == 0 {
		v.Errorf("", "", "at least one [[folder]] is needed")
	}
	for i := range d.Folders {
		v.folder(fmt.Sprintf("folder.%d", i), &d.Folders[i])
	}
	for i := range d.Saves {
		v.save(fmt.Sprintf("save.%d", i), &d.Saves[i])
	}
	for i := range d.Mods {
		v.mod(fmt.Sprintf("mod.%d", i), &d.Mods[i])
	}
	if a := d.Active; a != nil {
		v.list("active", &List{In: a.In, Each: a.Each, ID: a.ID}, d.Files)
	}
	if d.Settings != nil {
		v.globs("settings.stays", d.Settings.Stays)
		v.globs("settings.personal", d.Settings.Personal)
		v.fileGroups("settings.files", d.Settings.Files, false)
	}
	if d.Pictures != nil {
		v.fileGroups("pictures.files", d.Pictures.Files, false)
	}
	for i, m := range d.Mods {
		if m.Settings != nil {
			v.fileGroups(fmt.Sprintf("mod.%d.settings.files", i), m.Settings.Files, true)
		}
		if m.Data != nil {
			v.fileGroups(fmt.Sprintf("mod.%d.data.files", i), m.Data.Files, true)
		}
	}
	for i := range d.Rules {
		v.rule(fmt.Sprintf("rule.%d", i), &d.Rules[i])
	}
	v.play()
}

// fileGroups checks templates that end in a glob; those of mods have the mod's id in it.
func (v validator) fileGroups(at string, templates []string, ofMods bool) {
	for i, t := range templates {
		base, glob := splitGlob(t)
		v.template(fmt.Sprintf("%s.%d", at, i), base)
		plain := strings.ReplaceAll(glob, modID, "x")
		if glob == "" || !doublestar.ValidatePattern(plain) || strings.Contains(plain, "{") {
			v.Errorf(at, "", "%q is not a folder and a glob below it", t)
		}
		if ofMods && strings.Count(glob, modID) != 1 {
			v.Errorf(at, "", "%q must say once where the mod's {id} stands", t)
		}
	}
}

func (v validator) folder(at string, f *Folder) {
	if !idPattern.MatchString(f.ID) {
		v.Errorf(at, "", "a folder needs an id of a-z, 0-9 and -")
	}
	v.template(at+".path", f.Path)
	v.cond(at+".if", f.If)
}

func (v validator) folderID(at, id string) {
	var ids []string
	for _, f := range v.d.Folders {
		ids = append(ids, f.ID)
	}
	v.defined(at, "folder", id, ids)
}

// defined reports a name that is used but not defined.
func (v validator) defined(at, what, name string, names []string) {
	if slices.Contains(names, name) {
		return
	}
	hint := ""
	if near := strict.Nearest(name, names); near != "" {
		hint = fmt.Sprintf("did you mean %q?", near)
	}
	v.Errorf(at, hint, "there is no %s %q", what, name)
}

func (v validator) cond(at string, c *Cond) {
	if c == nil {
		return
	}
	for _, t := range []string{c.Exists, c.Absent} {
		if t != "" {
			v.template(at, t)
		}
	}
	if _, err := version.ParseRange(c.Version); err != nil {
		v.Errorf(at+".version", "", "%v", err)
	}
	if c.Edition != "" {
		v.defined(at+".edition", "edition", c.Edition, v.d.Editions)
	}
	if c.Value != nil {
		v.defined(at+".value.id", "[value]", c.Value.ID, keys(v.d.Values))
		if _, err := regexp.Compile(c.Value.Matches); err != nil {
			v.Errorf(at+".value.matches", "", "not a pattern: %v", err)
		}
	}
	for i := range c.Any {
		v.cond(fmt.Sprintf("%s.any.%d", at, i), &c.Any[i])
	}
}

func (v validator) file(at string, f File) {
	if f.Path == "" {
		v.Errorf(at, "", "the file needs a path")
	}
	if err := form.CheckSpec(f.Spec()); err != nil {
		v.Errorf(at+".form", "", "%v", err)
	}
}

// inner checks files of a save or mod, whose paths are relative to it.
func (v validator) inner(at string, files map[string]File) {
	for id, f := range files {
		v.file(at+".file."+id, f)
		if f.Ends != "" {
			var err error
			if f.ends, err = regexp.Compile(`(?s)(?:` + f.Ends + `)\s*\z`); err != nil {
				v.Errorf(at+".file."+id+".ends", "", "not a pattern: %v", err)
			}
			files[id] = f
		}
		if f.Path != "" && (!fsValid(f.Path) || !doublestar.ValidatePattern(f.Path)) {
			v.Errorf(at+".file."+id+".path", "", "%q must be a relative path or glob inside the save or mod", f.Path)
		}
	}
}

func (v validator) fields(at string, fields Fields, files map[string]File) {
	for i := range fields {
		f := &fields[i]
		where := at
		if len(fields) > 1 {
			where = fmt.Sprintf("%s.%d", at, i)
		}
		if (f.In == "") == (f.FromName == "") && f.Default == "" {
			v.Errorf(where, "", "a field is read either `in` a file or `from_name`")
		}
		if f.In != "" {
			v.query(where, f.In, f.At, false, files)
		}
		var err error
		if f.pattern, err = regexp.Compile(f.FromName); err != nil {
			v.Errorf(where+".from_name", "", "not a pattern: %v", err)
		} else if f.FromName != "" && f.pattern.NumSubexp() == 0 {
			v.Errorf(where+".from_name", "", "the pattern needs a group (…) for the value")
		}
		if f.as, err = form.ParseConversion(f.As); err != nil {
			v.Errorf(where+".as", "", "%v", err)
		}
	}
}

func (v validator) query(at, in, query string, each bool, files map[string]File) {
	v.defined(at+".in", "[file]", in, keys(files))
	f, ok := files[in]
	if !ok || form.CheckSpec(f.Spec()) != nil {
		return
	}
	key := at + ".at"
	if each {
		key = at + ".each"
	}
	v.asked(key, f.Form, query, each)
}

// asked checks a query for a form.
func (v validator) asked(key, of, query string, each bool) {
	if err := form.CheckQuery(of, query, each); err != nil {
		v.Errorf(key, "", "not a query for %s: %v", of, err)
	} else if !form.Streams(of, query) {
		v.d.Trees = append(v.d.Trees, TreeQuery{key, query})
	}
}

func (v validator) lists(at string, lists Lists, files map[string]File) {
	for i := range lists {
		where := at
		if len(lists) > 1 {
			where = fmt.Sprintf("%s.%d", at, i)
		}
		v.list(where, &lists[i], files)
	}
}

func (v validator) list(at string, l *List, files map[string]File) {
	if (l.Each == "") == (l.At == "") {
		v.Errorf(at, "", "a list has either `each` or `at`")
		return
	}
	if l.Each != "" {
		v.query(at, l.In, l.Each, true, files)
		f := files[l.In]
		for key, q := range map[string]string{"id": l.ID, "version": l.Version, "title": l.Title, "digest": l.Digest, "range": l.Range} {
			if q != "" && (f.Form == "json" || f.Form == "xml") {
				v.asked(at+"."+key, f.Form, q, false)
			}
		}
	} else {
		v.query(at, l.In, l.At, false, files)
	}
	if l.Empty != "" {
		v.query(at+".empty", l.In, l.Empty, false, files)
	}
	var err error
	if l.on, err = regexp.Compile("^(?:" + l.On + ")$"); err != nil {
		v.Errorf(at+".on", "", "not a pattern: %v", err)
	}
}

func (v validator) rule(at string, r *Rule) {
	c := check.Rule{On: check.Code(r.On), Mod: r.Mod, Affects: r.Affects, Effect: r.Effect, Instead: r.Instead, Says: check.Verdict(r.Says)}
	var err1, err2 error
	switch r.Save {
	case "newer":
		c.Relation = version.Newer
	case "older":
		c.Relation = version.Older
	case "same":
		c.Relation = version.Same
	default:
		c.Save, err1 = version.ParseRange(r.Save)
	}
	c.Game, err2 = version.ParseRange(r.Game)
	if err := errors.Join(err1, err2); err != nil {
		v.Errorf(at, "", "%v", err)
	}
	if r.On != "" && !check.Known(c.On) {
		var names []string
		for _, info := range check.Codes() {
			names = append(names, string(info.Code))
		}
		v.defined(at+".on", "finding", r.On, names)
	}
	if (r.On == "") == (r.Save == "" && r.Game == "") {
		v.Errorf(at, "", "a rule is either on a finding or about versions of save and game")
	}
	if !slices.Contains([]string{"fit", "risky", "unfit"}, r.Says) {
		v.Errorf(at+".says", "", "%q is not fit, risky or unfit", r.Says)
	}
	if r.Says != "fit" && r.Effect == "" {
		v.Errorf(at, "", "a rule that does not say fit needs an effect: what the game does")
	}
	v.affects(at+".affects", r.Affects)
	if r.Unless != nil {
		c.UnlessMod = r.Unless.Mod
	}
	if r.Edition != "" {
		v.defined(at+".edition", "edition", r.Edition, v.d.Editions)
	}
	v.cond(at+".if", r.If)
	if r.Convert != "" {
		var ids []string
		for i := range v.d.Converts {
			ids = append(ids, v.d.Converts[i].ID)
			if v.d.Converts[i].ID == r.Convert {
				c.ConvertTo = v.d.Converts[i].To
			}
		}
		v.defined(at+".convert", "[[convert]]", r.Convert, ids)
	}
	v.d.rules = append(v.d.rules, c)
}

func (s *Slots) check() error {
	var fromLetter, toLetter, ok1, ok2 bool
	s.first, fromLetter, ok1 = decodeSlot(s.From)
	s.last, toLetter, ok2 = decodeSlot(s.To)
	if !ok1 || !ok2 || fromLetter != toLetter || s.last < s.first {
		return errors.New("slots go from a number or letter to a later one")
	}
	s.letters, s.shown = fromLetter, s.first
	if s.ShownFrom != nil {
		shown, letter, ok := decodeSlot(s.ShownFrom)
		if !ok || letter != fromLetter {
			return errors.New("shown_from must be a number or letter as from is")
		}
		s.shown = shown
	}
	return nil
}

func keys[T any](m map[string]T) []string {
	names := make([]string, 0, len(m))
	for name := range m {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// fsValid reports whether p is a relative path that stays inside, "." included.
func fsValid(p string) bool {
	return p != "" && !path.IsAbs(p) && !strings.Contains(p, "\\") && path.Clean(p) == p && p != ".." && !strings.HasPrefix(p, "../")
}
