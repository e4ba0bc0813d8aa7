package field

import (
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/glob"
	"ostrov/internal/core/strict"
)

// TreeQuery is a query and the key that it stands at.
type TreeQuery struct {
	At    string `json:"at"`
	Query string `json:"query"`
}

// Checker says what is wrong with declarations and queries before any file is read, and readies them for reading.
type Checker struct {
	*strict.Decoder
	// Trees collects the queries that JSON and XML of more than 32 MiB cannot be asked; see doc.Streams.
	Trees *[]TreeQuery
}

// Defined reports a name that is used but not defined.
func (c Checker) Defined(at, what, name string, names []string) {
	if slices.Contains(names, name) {
		return
	}
	hint := ""
	if near := strict.Nearest(name, names); near != "" {
		hint = fmt.Sprintf("did you mean %q?", near)
	}
	c.Errorf(at, hint, "there is no %s %q", what, name)
}

// File checks a file; id is where it stands.
func (c Checker) File(at string, f File) {
	if f.Path == "" {
		c.Errorf(at, "", "the file needs a path")
	}
	if err := doc.CheckSpec(f.Spec()); err != nil {
		key := ".form"
		if strings.Contains(err.Error(), "encoding") {
			key = ".encoding"
		}
		c.Errorf(at+key, "", "%v", err)
	}
}

// Inner checks files of a save or mod, whose paths are relative to it.
func (c Checker) Inner(at string, files map[string]File) {
	for _, id := range slices.Sorted(maps.Keys(files)) {
		f := files[id]
		where := at + ".file." + id
		c.File(where, f)
		if f.Ends != "" {
			var err error
			if f.ends, err = regexp.Compile(`(?s)(?:` + f.Ends + `)\s*\z`); err != nil {
				c.Errorf(where+".ends", "", "not a pattern: %v", err)
			}
			files[id] = f
		}
		if f.Path != "" && (!relative(f.Path) || !glob.Valid(f.Path)) {
			c.Errorf(where+".path", "", "%q must be a relative path or glob inside the save or mod", f.Path)
		}
		c.present(where+".if", f.If)
	}
}

func (c Checker) present(at string, p *Present) {
	if p == nil {
		return
	}
	if p.Exists == "" && p.Absent == "" && len(p.Any) == 0 {
		c.Errorf(at, "", "a condition on a save's file is one of exists, absent and any")
	}
	for _, t := range []string{p.Exists, p.Absent} {
		inside, ok := strings.CutPrefix(t, inSave)
		if t != "" && (!ok || !relative(inside) || !glob.Valid(inside)) {
			c.Errorf(at, "", "%q must begin with {save}/ and stay inside the save", t)
		}
	}
	for i := range p.Any {
		c.present(fmt.Sprintf("%s.any.%d", at, i), &p.Any[i])
	}
}

// relative reports whether p is a relative path that stays inside, "." included.
func relative(p string) bool {
	return p != "" && !path.IsAbs(p) && !strings.Contains(p, "\\") && path.Clean(p) == p && p != ".." && !strings.HasPrefix(p, "../")
}

// Fields checks a field, or alternatives of one.
func (c Checker) Fields(at string, fields Fields, files map[string]File) {
	for i := range fields {
		f := &fields[i]
		where := at
		if len(fields) > 1 {
			where = fmt.Sprintf("%s.%d", at, i)
		}
		switch {
		case f.In == "" && f.FromName == "" && f.Default == "":
			c.Errorf(where, "", "a field is read `in` a file or `from_name`")
		case f.FromName != "" && len(f.At) > 0:
			c.Errorf(where, "", "a field is read `at` a place in a file or `from_name`, not both")
		case f.FromName != "" && f.In != "": // the name of that file
			c.Defined(where+".in", "[file]", f.In, slices.Sorted(maps.Keys(files)))
		case f.In != "":
			if len(f.At) == 0 {
				c.Errorf(where, "", "a field in a file needs `at`: the query that leads to it")
			}
			c.queries(where, f, files)
		}
		if f.Join != "" && len(f.At) < 2 {
			c.Errorf(where+".join", "", "join stands between several queries: at = [QUERY, QUERY]")
		}
		var err error
		if f.pattern, err = regexp.Compile(f.FromName); err != nil {
			c.Errorf(where+".from_name", "", "not a pattern: %v", err)
		} else if f.FromName != "" && f.pattern.NumSubexp() == 0 {
			c.Errorf(where+".from_name", "", "the pattern needs a group (…) for the value")
		}
		if f.as, err = ParseConversion(f.As); err != nil {
			c.Errorf(where+".as", "", "%v", err)
		}
		c.checkSet(where, f, files)
	}
}

// queries checks the queries of a field.
func (c Checker) queries(where string, f *Field, files map[string]File) {
	if f.Each != "" {
		if len(f.At) != 1 || len(f.Ref) > 0 {
			c.Errorf(where, "", "a field that each element has is at one place in it, and has no ref")
		}
		c.Query(where, f.In, f.Each, true, files)
		if of := files[f.In].Form; of == "json" || of == "xml" || of == "blocks" {
			for _, query := range f.At {
				c.asked(where+".at", of, query, false)
			}
		}
		return
	}
	for _, query := range f.At {
		c.Query(where, f.In, query, false, files)
	}
	for _, ref := range f.Ref {
		if len(f.At) != 1 || !strings.Contains(ref, "{}") {
			c.Errorf(where+".ref", "", "ref follows the value of one place, which {} stands for in its query")
		}
		c.Query(where, f.In, strings.ReplaceAll(ref, "{}", "x"), false, files)
	}
}

// Column readies what an element says that is read by itself.
func (c Checker) Column(at string, column *Column) {
	var err error
	if column.as, err = ParseConversion(column.As); err != nil {
		c.Errorf(at+".as", "", "%v", err)
	}
}

// Query checks a query of a declared file; with each it is to name elements.
func (c Checker) Query(at, in, query string, each bool, files map[string]File) {
	c.Defined(at+".in", "[file]", in, slices.Sorted(maps.Keys(files)))
	f, ok := files[in]
	if !ok || doc.CheckSpec(f.Spec()) != nil {
		return
	}
	key := at + ".at"
	if each {
		key = at + ".each"
	}
	c.asked(key, f.Form, query, each)
}

// asked checks a query for a form.
func (c Checker) asked(key, of, query string, each bool) {
	if err := doc.CheckQuery(of, query, each); err != nil {
		c.Errorf(key, "", "not a query for %s: %v", of, err)
	} else if !doc.Streams(of, query) {
		*c.Trees = append(*c.Trees, TreeQuery{key, query})
	}
}

// Lists checks a list, or several.
func (c Checker) Lists(at string, lists Lists, files map[string]File) {
	for i := range lists {
		where := at
		if len(lists) > 1 {
			where = fmt.Sprintf("%s.%d", at, i)
		}
		c.List(where, &lists[i], files)
	}
}

// List checks one list.
func (c Checker) List(at string, l *List, files map[string]File) {
	of := files[l.In].Form
	if l.Each == "" && l.At == "" && l.Section == "" {
		c.Errorf(at, "", "a list has `each`, or `at`")
		return
	}
	if l.Section != "" && of != "ini" && of != "" {
		c.Errorf(at+".section", "", "section belongs to the form ini, and %s is %s", l.In, of)
	}
	switch {
	case l.Each != "" && l.At != "":
		c.Query(at, l.In, l.At, false, files)
		var err error
		if l.part, err = regexp.Compile(l.Each); err != nil {
			c.Errorf(at+".each", "", "beside `at`, each is a pattern for one part: %v", err)
			return
		}
		of = "text" // what a part is asked
	case l.Each != "":
		c.Query(at, l.In, l.Each, true, files)
	case l.At != "":
		c.Query(at, l.In, l.At, false, files)
	default:
		c.Defined(at+".in", "[file]", l.In, slices.Sorted(maps.Keys(files)))
	}
	if l.Split != "" && l.At == "" {
		c.Errorf(at+".split", "", "split takes a value apart that `at` leads to; `each` names the elements themselves")
	}
	for name, column := range l.columns() {
		c.column(at, name, column, l, of)
	}
	if l.Empty != "" {
		c.Query(at+".empty", l.In, l.Empty, false, files)
	}
	var err error
	if l.on, err = regexp.Compile("^(?:" + l.On + ")$"); err != nil {
		c.Errorf(at+".on", "", "not a pattern: %v", err)
	}
}

// column checks what an element of a list says.
func (c Checker) column(at, name string, column *Column, l *List, of string) {
	where := at + "." + name
	if column.In != "" || column.FromName != "" || len(column.At) > 1 {
		c.Errorf(where, "", "a column of a list is one query inside the element, or a table with at, as, map, show, default")
	}
	var err error
	if column.as, err = ParseConversion(column.As); err != nil {
		c.Errorf(where+".as", "", "%v", err)
	}
	switch q := column.query(); {
	case q == "":
	case l.Each == "" && l.Section == "":
		c.Errorf(where, "", "a list that `at` and split give has no %s inside its elements", name)
	case l.At != "" && (q == atKey || q == atValue):
		c.Errorf(where, "", "beside `at`, a part is asked for the groups of `each`; %s belongs to lists without `at`", q)
	case q[0] == '@' && q != atKey && q != atValue && slices.Contains([]string{"json", "blocks", "ini"}, of):
		c.Errorf(where, "", "%q is neither %s, the key of a member, nor %s, its value", q, atKey, atValue)
	case q == atKey || q == atValue:
		if !slices.Contains([]string{"json", "blocks", "ini", ""}, of) {
			c.Errorf(where, "", "%s belongs to the forms ini, json and blocks", q)
		}
	case of == "json" || of == "xml" || of == "blocks":
		c.asked(where, of, q, false)
	case of == "ini" || of == "text" || of == "lines":
		re, err := regexp.Compile(l.Each)
		if err == nil && q != "." && re.SubexpIndex(q) < 0 {
			c.Errorf(where, "", "the pattern has no group (?P<%s>…)", q)
		}
	}
	if slices.Contains([]string{"text", "lines"}, of) && name == "id" && column.query() == "" && l.Each != "" && column.Default == "" {
		if re, err := regexp.Compile(l.Each); err == nil && re.SubexpIndex("id") < 0 && re.SubexpIndex("digest") < 0 {
			c.Errorf(at+".each", "", "the pattern needs a group (?P<id>…), or (?P<digest>…) where mods are named by the game's own digest")
		}
	}
}
