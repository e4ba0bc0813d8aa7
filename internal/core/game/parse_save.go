package game

import (
	"fmt"
	"slices"
	"strings"

	"ostrov/internal/core/field"
	"ostrov/internal/core/glob"
)

func (v validator) saveMods(at string, s *Save) {
	v.Lists(at+".mods", s.Mods, s.Files)
	for _, l := range s.Mods {
		if l.Expects != "" {
			v.folderID(at+".mods.expects", l.Expects)
		}
		if l.Kind != "" {
			v.Defined(at+".mods.kind", "[[mod]]", l.Kind, v.d.modIDs())
		}
		if l.Kind != "" && l.Own {
			v.Errorf(at+".mods.own", "", "a list of one kind of mod is always of the save's own: leave own out")
		}
	}
	if s.NoMods && len(s.Mods) > 0 {
		v.Errorf(at, "", "a save with no_mods lists no mods")
	}
}

func (v validator) save(at string, s *Save) {
	if !idPattern.MatchString(s.ID) {
		v.Errorf(at, "", "a save needs an id of a-z, 0-9 and -")
	}
	if s.Unit != UnitFile && s.Unit != UnitFolder && s.Unit != UnitSet {
		v.Errorf(at+".unit", "", "the unit %q is not file, folder or set", s.Unit)
	}
	v.folderID(at+".folder", s.Folder)
	if len(s.Name) == 0 {
		v.Errorf(at, "", "a save needs a name")
	}
	slot := false
	for _, text := range s.Name {
		name, err := ParseName(text)
		if err != nil {
			v.Errorf(at+".name", "", "%v", err)
			continue
		}
		slot = slot || name.HasSlot()
		for _, id := range name.fields() {
			v.Defined(at+".name", "[save.field]", id, keys(s.Field))
		}
		s.names = append(s.names, name)
	}
	if len(s.names) > 0 && !slices.ContainsFunc(s.names, func(n *Name) bool { return !n.hasAny }) {
		v.Errorf(at+".name", fmt.Sprintf("did you mean %q?", strings.ReplaceAll(s.Name[0], "*", "{name}")), "%q says how a name is recognised and not how it is spelled, so that nothing can be placed: give what stands for * a name", s.Name[0])
	}
	if s.Slots != nil {
		if err := s.Slots.check(); err != nil {
			v.Errorf(at+".slots", "", "%v", err)
		} else if !slot {
			v.Errorf(at+".slots", "", "slots need a {slot} in the name")
		}
	}
	v.cond(at+".if", s.If)
	v.globs(at+".ignore", s.Ignore)
	for _, c := range s.Companions.Files {
		if s.Unit != UnitFile || strings.ContainsAny(c, "/\\?[{") || strings.Count(c, "*") > 1 {
			v.Errorf(at+".companions", "", "%q: companions are files beside a save of the unit file, * standing for its name without the ending", c)
		}
	}
	if s.WhileRunning != "" && s.WhileRunning != "refuse" && s.WhileRunning != "others" {
		v.Errorf(at+".while_running", "", "%q is not refuse or others", s.WhileRunning)
	}
	v.Inner(at, s.Files)
	for id, f := range s.Field {
		v.Fields(at+".field."+id, f, s.Files)
	}
	for id, fields := range s.Field {
		used := slices.Contains(s.Columns, id) || s.Is != nil && slices.Contains(s.Is.Has, id)
		if used && slices.ContainsFunc(fields, func(f field.Field) bool { return f.Each != "" }) {
			v.Errorf(at+".field."+id, "", "a field that each element of a list has is no column, and tells no kind")
		}
	}
	for _, c := range s.Columns {
		v.Defined(at+".columns", "[save.field]", c, append(keys(s.Field), "mods"))
	}
	v.saveMods(at, s)
	v.members(at+".members", s)
	if s.Is != nil {
		if _, _, err := s.Is.magic(); err != nil {
			v.Errorf(at+".is.magic", "", "%v", err)
		}
		for _, f := range s.Is.Has {
			v.Defined(at+".is.has", "[save.field]", f, keys(s.Field))
		}
	}
	if o := s.Owner; o != nil {
		if o.In != "" {
			o.fields = field.Fields{{In: o.In, At: field.Strings{o.At}, As: o.As}}
			v.Fields(at+".owner", o.fields, s.Files)
		}
		if v.d.Account == nil {
			v.Errorf(at+".owner", "", "an owner needs [account], to know which is the player's own")
		}
	}
}

func (v validator) globs(at string, globs []string) {
	for _, g := range globs {
		if !glob.Valid(g) {
			v.Errorf(at, "", "%q is not a glob", g)
		}
	}
}

func (v validator) mod(at string, m *Mod) {
	if !idPattern.MatchString(m.ID) {
		v.Errorf(at, "", "a mod needs an id of a-z, 0-9 and -")
	}
	if m.Unit != UnitFile && m.Unit != UnitFolder {
		v.Errorf(at+".unit", "", "the unit %q is not file or folder", m.Unit)
	}
	v.folderID(at+".folder", m.Folder)
	v.globs(at+".name", []string{m.Name})
	if strings.Contains(m.Name, "{id}") || strings.Contains(m.Name, "{name}") {
		v.Errorf(at+".name", "did you mean \"*\"?", "%q: the name of a mod is a glob, and what is in braces is a choice there; its id is the field id", m.Name)
	}
	v.globs(at+".marker", append(m.Marker, m.Pack...))
	v.Inner(at, m.Files)
	for id, f := range m.Field {
		v.Fields(at+".field."+id, f, m.Files)
	}
	v.Lists(at+".needs", m.Needs, m.Files)
	v.Lists(at+".optional", m.Optional, m.Files)
	v.Lists(at+".clashes", m.Clashes, m.Files)
	v.Lists(at+".provides", m.Provides, m.Files)
	v.Lists(at+".was", m.Was, m.Files)
	for i, a := range m.Adds {
		where := fmt.Sprintf("%s.adds.%d", at, i)
		if (a.In == "") == (a.Prefix == "" && a.Suffix == "") {
			v.Errorf(where, "", "identifiers are read either `in` a file or told by their `prefix` or `suffix`")
		}
		if a.In != "" {
			l := a.list()
			v.List(where, &l, m.Files)
		}
		for _, t := range []string{a.Prefix, a.Suffix} {
			for _, place := range ofModPlace.FindAllStringSubmatch(t, -1) {
				if place[1] != "" {
					v.Defined(where, "[mod.field]", place[1], keys(m.Field))
				}
			}
		}
	}
	if m.Is != nil {
		if _, _, err := m.Is.magic(); err != nil {
			v.Errorf(at+".is.magic", "", "%v", err)
		}
		for _, f := range m.Is.Has {
			v.Defined(at+".is.has", "[mod.field]", f, keys(m.Field))
		}
	}
	if m.Twice != "" && m.Twice != "stops" {
		v.Errorf(at+".twice", "", "%q is not stops", m.Twice)
	}
	if d := m.Digest; d != nil {
		if err := d.parse(); err != nil || m.Unit != UnitFile {
			v.Errorf(at+".digest", "", "digest is { md5 = \"FROM..TO\" } of a mod that is one file: %v", err)
		}
	}
	v.affects(at+".affects", m.Affects)
	v.unpack(at, m)
}

func (v validator) affects(at, affects string) {
	if !slices.Contains([]string{"", "nothing", "look", "content"}, affects) {
		v.Errorf(at, "", "%q is not nothing, look or content", affects)
	}
}
