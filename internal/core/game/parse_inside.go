package game

import (
	"fmt"
	"regexp"
	"slices"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/field"
	"ostrov/internal/core/glob"
	"ostrov/internal/core/version"
)

// inside checks what concerns the changing of saves: references, sections, links, members and conversions.
func (v validator) inside() {
	for i := range v.d.References {
		v.reference(fmt.Sprintf("references.%d", i), &v.d.References[i])
	}
	for i := range v.d.Sections {
		v.section(fmt.Sprintf("section.%d", i), &v.d.Sections[i])
	}
	for i := range v.d.Links {
		l := &v.d.Links[i]
		at := fmt.Sprintf("link.%d", i)
		for _, files := range v.kinds(at, l.Save, l.From.In, l.To.In) {
			v.elements(at+".from", l.From.In, l.From.At, files)
			v.elements(at+".to", l.To.In, l.To.At, files)
		}
		if _, err := regexp.Compile(l.None); err != nil {
			v.Errorf(at+".none", "", "not a pattern: %v", err)
		}
	}
	for i := range v.d.Converts {
		v.convert(fmt.Sprintf("convert.%d", i), &v.d.Converts[i])
	}
}

// kinds are the files of the kinds of save that have all of some files; that there is none is a mistake.
func (v validator) kinds(at, kind string, in ...string) (found []map[string]field.File) {
	for i := range v.d.Saves {
		s := &v.d.Saves[i]
		has := func(id string) bool { _, ok := s.Files[id]; return ok }
		if (kind == "" || kind == s.ID) && !slices.ContainsFunc(in, func(id string) bool { return !has(id) }) {
			found = append(found, s.Files)
		}
	}
	if len(found) == 0 {
		v.Errorf(at, "", "no kind of save has a file %q", in[0])
	}
	return found
}

// elements checks a query by which parts of a file are changed.
func (v validator) elements(at, in, query string, files map[string]field.File) {
	if f, ok := files[in]; ok {
		if err := f.Spec().CheckWritable(query); err != nil || query == "" {
			v.Errorf(at, "", "%q cannot lead to what is changed: %v", query, err)
		}
	}
}

// within checks a query that is asked inside an element; of what is there only the form is known.
func (v validator) within(at, in, query string, files map[string]field.File) {
	f := files[in]
	if f.Form != "json" && f.Form != "xml" && f.Form != "blocks" {
		return
	}
	v.elements(at, in, query, files)
}

func (v validator) reference(at string, r *Reference) {
	for _, files := range v.kinds(at, r.Save, r.In) {
		if r.At != "" {
			v.Query(at, r.In, r.At, true, files)
		}
		if r.Removes() && r.At != "" {
			v.elements(at+".at", r.In, r.At, files)
		}
		for i, c := range r.Counts {
			v.count(fmt.Sprintf("%s.count.%d", at, i), &c, r.In, files)
		}
		for i, a := range r.Also {
			where := fmt.Sprintf("%s.also.%d", at, i)
			in := a.In
			if in == "" {
				in = r.In
			}
			v.Defined(where+".in", "[save.file]", in, keys(files))
			v.elements(where+".at", in, a.At, files)
			if (a.Remove == "") == (a.Instead == nil) {
				v.Errorf(where, "", "what names something that goes is either removed or gets another value: one of remove and instead")
			}
		}
	}
	if r.Length != "" {
		if err := doc.CheckQuery("bytes", "0:"+r.Length, false); err != nil || r.Instead == nil {
			v.Errorf(at+".length", "", "length is the type of the number that stands before an identifier, such as u16be, and goes with instead: %v", err)
		}
	}
	if (len(r.Counts) > 0 || len(r.Also) > 0) && !r.Removes() {
		v.Errorf(at, "", "count and also say what follows when something goes: remove or instead says what")
	}
	if r.Form != "" && !slices.Contains(doc.Forms, r.Form) || (r.Form == "") != (r.Each == "") {
		v.Errorf(at+".form", "", "form and each say together what is in a value: the form, and the elements in which identifiers stand")
	}
}

func (v validator) count(at string, c *Count, in string, files map[string]field.File) {
	if c.In != "" {
		in = c.In
	}
	v.Defined(at+".in", "[save.file]", in, keys(files))
	if c.Each != "" {
		v.elements(at+".each", in, c.Each, files)
	}
	v.within(at+".at", in, c.At, files)
	v.within(at+".of", in, c.Of, files)
}

func (v validator) section(at string, s *Section) {
	if !idPattern.MatchString(s.ID) {
		v.Errorf(at, "", "a section needs an id of a-z, 0-9 and -")
	}
	if len(s.At) == 0 {
		v.Errorf(at, "", "a section needs `at`: the queries that make it up")
	}
	for _, files := range v.kinds(at, s.Save, s.In) {
		queries := slices.Concat(s.At, s.Remove)
		for _, one := range s.Sets {
			queries = append(queries, one.At)
		}
		for _, u := range s.Unique {
			queries = append(queries, u.At)
			queries = append(queries, u.Named...)
		}
		if s.Into != "" {
			queries = append(queries, s.Into)
		}
		for _, q := range queries {
			v.elements(at, s.In, q, files)
		}
	}
	switch {
	case s.From != "" && s.From != "mod":
		v.Errorf(at+".from", "", "%q is not mod", s.From)
	case (s.From == "mod") != (s.Piece != ""):
		v.Errorf(at+".piece", "", "a section with from = \"mod\" says with piece which files of the mod it is")
	case s.Piece != "" && !glob.Valid(s.Piece):
		v.Errorf(at+".piece", "", "%q is not a glob", s.Piece)
	}
}

func (v validator) convert(at string, c *Convert) {
	if _, err := version.ParseRange(c.From); err != nil || c.ID == "" || c.To == "" {
		v.Errorf(at, "", "a conversion has an id, a range of versions `from` and a version `to`")
	}
	if c.MoveTo != "" {
		v.folderID(at+".move_to", c.MoveTo)
	}
	for i := range c.Steps {
		v.step(fmt.Sprintf("%s.steps.%d", at, i), c.Save, &c.Steps[i])
	}
}

func (v validator) step(at, kind string, s *Step) {
	var queries []string
	does := 0
	for _, q := range []string{s.Set, s.Remove, s.Rename, s.Map, s.CopyFrom, s.Insert} {
		if q != "" {
			does++
			queries = append(queries, q)
		}
	}
	if s.CopyFrom != "" {
		queries = append(queries, s.To)
	}
	complete := (s.Set != "") == (s.Value != nil) && (s.Map != "") == (len(s.Values) > 0) && (s.Insert != "") == (s.Piece != "") && (s.Rename != "" || s.CopyFrom != "") == (s.To != "")
	if does != 1 || !complete {
		v.Errorf(at, "", "a step is one of set with value, remove, rename with to, map with values, copy_from with to, and insert with piece")
	}
	if s.Optional && (s.Title == "" || s.ID == "") {
		v.Errorf(at, "", "a step that may be left out has an id and a title")
	}
	for _, files := range v.kinds(at, kind, s.In) {
		for _, q := range queries {
			v.elements(at, s.In, q, files)
		}
	}
}

func (v validator) members(at string, s *Save) {
	m := s.Members
	if m == nil {
		return
	}
	v.Defined(at+".in", "[save.file]", m.In, keys(s.Files))
	f, ok := s.Files[m.In]
	switch {
	case !ok:
		return
	case m.Each != "":
		v.elements(at+".each", m.In, m.Each, s.Files)
	case !f.Many():
		v.Errorf(at, "", "members are the elements that `each` names, or the files of a glob")
	}
	if m.Into != "" {
		v.elements(at+".into", m.In, m.Into, s.Files)
	}
	for name, c := range map[string]*field.Column{"id": &m.ID, "title": &m.Title, "owner": &m.Owner} {
		v.Column(at+"."+name, c)
		switch {
		case len(c.At) > 1:
			v.Errorf(at+"."+name, "", "%s is one value", name)
		case len(c.At) == 1:
			v.within(at+"."+name, m.In, c.At[0], s.Files)
		case name == "id" && m.Each != "":
			v.Errorf(at, "", "members need an id")
		}
	}
	for i := range m.Counts {
		v.count(fmt.Sprintf("%s.count.%d", at, i), &m.Counts[i], m.In, s.Files)
	}
}
