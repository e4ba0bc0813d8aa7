package game

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/zeebo/blake3"

	"ostrov/internal/core/field"
	"ostrov/internal/core/glob"
	"ostrov/internal/core/strict"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/version"
)

var idPattern = regexp.MustCompile(`^[a-z0-9-]+$`)

// reading is part of a description's digest: another way of reading makes what was remembered of the former one out of date.
const reading = "reading 4\n"

// Parse reads a description. file is its name for messages. Everything wrong with it is reported at once, as strict.Errors.
func Parse(file string, data []byte) (*Description, error) {
	d := &Description{File: file, Digest: tree.Digest(blake3.Sum256(append([]byte(reading), data...)))}
	decoder, err := strict.Decode(file, data, d, later)
	if err != nil {
		return nil, err
	}
	d.positions = decoder.Positions
	v := validator{field.Checker{Decoder: decoder, Trees: &d.Trees}, d}
	v.all()
	if err := decoder.Err(); err != nil {
		return nil, err
	}
	return d, nil
}

// validator checks what types cannot say: names that must be defined, queries that must parse, and what belongs together.
type validator struct {
	field.Checker
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
	v.Fields("version", d.Version, d.Files)
	v.Fields("versions.build", d.Versions.Build, d.Files)
	v.globs("install.base", d.Install.Base)
	v.globs("install.allowed", d.Install.Allowed)
	for id, f := range d.Files {
		v.File("file."+id, f)
		v.template("file."+id+".path", f.Path)
	}
	for id, f := range d.Values {
		v.Fields("value."+id, f, d.Files)
	}
	if d.Account != nil {
		re, err := regexp.Compile("^(?:" + d.Account.Pattern + ")$")
		if err != nil || d.Account.Pattern == "" {
			v.Errorf("account.pattern", "", "not a pattern: %v", err)
		}
		d.account = re
		v.Fields("account.current", d.Account.Current, d.Files)
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
	v.loaders()
	if a := d.Active; a != nil {
		if a.Entry != "" && !strings.Contains(a.Entry, "{id}") && !strings.Contains(a.Entry, "{folder}") && !strings.Contains(a.Entry, "{field:") || a.EntryOff != "" && a.Entry == "" {
			v.Errorf("active.entry", "", "an entry says with {id}, {folder} or {field:…} which mod it is of, and entry_off stands beside entry")
		}
		v.List("active", &field.List{In: a.In, Each: a.Each, ID: a.ID}, d.Files)
	}
	if d.Settings != nil {
		v.globs("settings.stays", d.Settings.Stays)
		v.globs("settings.personal", d.Settings.Personal)
		v.fileGroups("settings.files", d.Settings.Files)
	}
	if d.Pictures != nil {
		v.fileGroups("pictures.files", d.Pictures.Files)
	}
	for i, m := range d.Mods {
		for _, b := range m.Settings {
			v.modFiles(fmt.Sprintf("mod.%d.settings.files", i), b, m)
		}
		for _, b := range m.Data {
			v.modFiles(fmt.Sprintf("mod.%d.data.files", i), b, m)
		}
	}
	for i := range d.Rules {
		v.rule(fmt.Sprintf("rule.%d", i), &d.Rules[i])
	}
	v.play()
	v.inside()
}

// fileGroups checks templates that end in a glob.
func (v validator) fileGroups(at string, templates []string) {
	for i, t := range templates {
		base, below := splitGlob(t)
		v.template(fmt.Sprintf("%s.%d", at, i), base)
		plain := ofModPlace.ReplaceAllString(below, "x")
		if below == "" || !glob.Valid(plain) || strings.Contains(plain, "{") {
			v.Errorf(at, "", "%q is not a folder and a glob below it", t)
		}
	}
}

// modFiles checks the templates of files that mods of a kind have outside: each says once which mod's they are, or all are one mod's.
func (v validator) modFiles(at string, b Beside, m Mod) {
	v.fileGroups(at, b.Files)
	for _, t := range b.Files {
		_, glob := splitGlob(t)
		places := ofModPlace.FindAllStringSubmatch(glob, -1)
		if (b.Mod == "") == (len(places) == 0) || len(places) > 1 {
			v.Errorf(at, "", "%q must say once where the mod's {id} stands, or a field of it, {field:ID}; or `mod` says whose they all are", t)
		}
		if len(places) == 1 && places[0][1] != "" {
			v.Defined(at, "[mod.field]", places[0][1], keys(m.Field))
		}
	}
}

func (v validator) folder(at string, f *Folder) {
	if !idPattern.MatchString(f.ID) {
		v.Errorf(at, "", "a folder needs an id of a-z, 0-9 and -")
	}
	v.template(at+".path", f.Path)
	if parts, err := splitTemplate(f.Path); err == nil && len(parts) == 1 && slices.Contains(places, parts[0].name) {
		v.Errorf(at+".path", "", "%q is all of a folder that others use, too: name the game's own folder in it", f.Path)
	}
	v.cond(at+".if", f.If)
}

func (v validator) folderID(at, id string) {
	var ids []string
	for _, f := range v.d.Folders {
		ids = append(ids, f.ID)
	}
	v.Defined(at, "folder", id, ids)
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
		v.Defined(at+".edition", "edition", c.Edition, v.d.Editions)
	}
	if c.Value != nil {
		v.Defined(at+".value.id", "[value]", c.Value.ID, keys(v.d.Values))
		if _, err := regexp.Compile(c.Value.Matches); err != nil {
			v.Errorf(at+".value.matches", "", "not a pattern: %v", err)
		}
	}
	for i := range c.Any {
		v.cond(fmt.Sprintf("%s.any.%d", at, i), &c.Any[i])
	}
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
