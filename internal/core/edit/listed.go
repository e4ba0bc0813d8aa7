package edit

import (
	"regexp"
	"strings"

	"ostrov/internal/core/doc"
	"ostrov/internal/core/field"
)

// lists takes the mods out of the save's own lists.
func (s *stripper) lists() error {
	for i := range s.Save.Kind.Mods {
		l := &s.Save.Kind.Mods[i]
		all, err := s.editors(l.In)
		if err != nil {
			return err
		}
		for _, o := range all {
			if err := s.unlist(o, l); err != nil {
				return s.failed(o.name, err)
			}
		}
		if err := s.finish(); err != nil {
			return err
		}
	}
	return nil
}

func (s *stripper) unlist(o *opened, l *field.List) error {
	if l.At != "" {
		return s.unlistPart(o, l)
	}
	elements, err := o.editor.Find(s.ctx, nil, eachOf(l), true)
	if err != nil {
		return err
	}
	keyed := l.ID.Query() == "@key" && o.file.Form != "ini"
	if keyed { // the elements are the members of what the query names
		var members []doc.Node
		for _, e := range elements {
			in, err := o.editor.Find(s.ctx, &e, "$.*", true)
			if err != nil {
				return err
			}
			members = append(members, in...)
		}
		elements = members
	}
	var gone []doc.Node
	for _, e := range elements {
		id, err := s.idOf(o, l, e, keyed)
		if err != nil {
			return err
		}
		if s.mods[strings.ToLower(id)] {
			gone = append(gone, e)
		}
	}
	s.listed += len(gone)
	if len(gone) == 0 {
		return nil
	}
	return o.editor.Remove(gone...)
}

// eachOf is the query for the elements of a list; of an INI it is of whole keys.
func eachOf(l *field.List) string {
	each := l.Each
	if l.Section == "" {
		return each
	}
	if each == "" {
		each = ".*"
	}
	return regexp.QuoteMeta(l.Section) + `\.(?:` + each + ")"
}

// idOf is the id of an element of a list.
func (s *stripper) idOf(o *opened, l *field.List, e doc.Node, keyed bool) (string, error) {
	if keyed {
		return o.editor.Key(e), nil
	}
	query := l.ID.Query()
	if query == "" {
		switch o.file.Form {
		case "json", "blocks", "xml":
			query = doc.Self(o.file.Form)
		default:
			query = "id"
			if l.Section != "" {
				query = "@key"
			}
		}
	}
	found, err := o.editor.Find(s.ctx, &e, query, false)
	if err != nil || len(found) == 0 {
		return "", err
	}
	text, ok, err := o.editor.Value(found[0])
	if err != nil {
		return "", err
	}
	v, _, err := l.ID.Value(text, ok)
	return v.Raw, err
}

// unlistPart takes the mods out of a value that holds several.
func (s *stripper) unlistPart(o *opened, l *field.List) error {
	at, err := o.editor.Find(s.ctx, nil, l.At, false)
	if err != nil || len(at) != 1 || l.Split == "" {
		return err
	}
	text, _, err := o.editor.Value(at[0])
	if err != nil {
		return err
	}
	var stay []string
	parts := strings.Split(text, l.Split)
	for _, part := range parts {
		id := strings.TrimSpace(part)
		if l.Each != "" {
			if re, err := regexp.Compile(l.Each); err == nil {
				if m, n := re.FindStringSubmatch(id), re.SubexpIndex("id"); m != nil && n > 0 {
					id = m[n]
				}
			}
		}
		if !s.mods[strings.ToLower(id)] {
			stay = append(stay, part)
		}
	}
	if len(stay) == len(parts) {
		return nil
	}
	s.listed += len(parts) - len(stay)
	return o.editor.Set(at[0], strings.TrimLeft(strings.Join(stay, l.Split), " "))
}
