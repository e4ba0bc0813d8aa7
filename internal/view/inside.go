package view

import (
	"fmt"

	"ostrov/internal/core/edit"
)

// FieldsDoc is the document of what the description names in a save.
type FieldsDoc struct {
	Head
	Save   string     `json:"save"`
	Fields []FieldDoc `json:"fields"`
	// Unread is why not all of the save was read, "" where it was.
	Unread string `json:"unread,omitempty"`
}

// FieldDoc is one field. Value is for people, Raw as it is compared; both are "" where the save does not say it.
type FieldDoc struct {
	ID      string `json:"id"`
	Value   string `json:"value,omitempty"`
	Raw     string `json:"raw,omitempty"`
	There   bool   `json:"there"`
	Unread  string `json:"unread,omitempty"`
	Set     bool   `json:"set"`
	Allowed string `json:"allowed,omitempty"`
}

// Fields makes the document. unread is why not all of the save was read, or nil.
func Fields(save string, all []edit.Field, unread error) FieldsDoc {
	doc := FieldsDoc{Head: NewHead("fields"), Save: save, Fields: []FieldDoc{}}
	for _, f := range all {
		doc.Fields = append(doc.Fields, FieldDoc(f))
	}
	if unread != nil {
		doc.Unread = unread.Error()
	}
	return doc
}

// Fields writes what the description names in a save.
func (p *Printer) Fields(doc FieldsDoc) {
	p.Line("%s", p.paint(strong, Text(doc.Save)))
	var rows [][]string
	settable := false
	for _, f := range doc.Fields {
		value := Text(f.Value)
		if f.Unread != "" {
			value = p.paint(warn, "cannot be read")
		} else if !f.There {
			value = p.paint(faint, "not in this save")
		} else if f.Value == "" {
			value = p.paint(faint, "empty")
		}
		may := ""
		if f.Set {
			settable = true
			if may = "anything"; f.Allowed != "" {
				may = Text(f.Allowed)
			}
		}
		rows = append(rows, []string{Text(f.ID), value, may})
	}
	p.table([]column{{title: "field"}, {title: "value", grow: true}, {title: "may be set to", grow: true}}, rows)
	if doc.Unread != "" {
		p.Line("")
		p.hang("  "+p.paint(warn, "!"), Text(doc.Unread))
	}
	if !settable {
		p.Line("")
		p.Line("The description of the game says of none of them that it may be set.")
	}
}

// FoundTextDoc is the document of where a text stands in a save.
type FoundTextDoc struct {
	Head
	Save  string `json:"save"`
	Text  string `json:"text"`
	Count int    `json:"count"`
	// Places are the first of them.
	Places []PlaceDoc `json:"places"`
	// Unread are the files that could not be looked into, and why: the text may stand there, too.
	Unread []UnreadDoc `json:"unread,omitempty"`
}

// PlaceDoc is a place in the decoded content of a file: a line from 1, 0 in what is no text, an offset in bytes, a few words around it, and
// the query that leads there, "" where there is none.
type PlaceDoc struct {
	File   string `json:"file"`
	Line   int    `json:"line,omitempty"`
	Offset int    `json:"offset"`
	Around string `json:"around"`
	At     string `json:"at,omitempty"`
	// In leads to the wrapped value that it stands inside of.
	In string `json:"in,omitempty"`
}

// UnreadDoc is a file that could not be looked into.
type UnreadDoc struct {
	File string `json:"file"`
	Why  string `json:"why"`
}

// Found makes the document.
func Found(save, text string, found *edit.Found) FoundTextDoc {
	doc := FoundTextDoc{Head: NewHead("find"), Save: save, Text: text, Count: found.Count, Places: []PlaceDoc{}}
	for _, f := range found.Places {
		doc.Places = append(doc.Places, PlaceDoc{f.File, f.Line, f.Offset, f.Around, f.At(), f.Inside()})
	}
	for _, u := range found.Unread {
		doc.Unread = append(doc.Unread, UnreadDoc{u.File, u.Why.Error()})
	}
	return doc
}

// maxFound is how many places are shown where they are not asked for.
const maxFound = 40

// Found writes where a text stands in a save.
func (p *Printer) Found(doc FoundTextDoc) {
	p.Line("%s stands at %s in %s", p.paint(strong, fmt.Sprintf("%q", Text(doc.Text))), Count(doc.Count, "place", "places"), Text(doc.Save))
	file := ""
	shown := doc.Places[:min(len(doc.Places), p.most(maxFound))]
	for _, f := range shown {
		if f.File != file {
			file = f.File
			p.Line("")
			p.Line("%s", Text(file))
		}
		where := fmt.Sprintf("byte %d", f.Offset)
		if f.Line > 0 {
			where = fmt.Sprintf("line %d", f.Line)
		}
		p.hang("  "+p.paint(faint, where), Text(f.Around))
		if f.At != "" {
			p.Line("    --at %s", Text(quoted(f.At)))
		} else if f.In != "" {
			p.Line("    in %s", Text(quoted(f.In)))
		}
	}
	if n := doc.Count - len(shown); n > 0 && len(shown) > 0 {
		p.Line("")
		p.Line("  and %d more", n)
	}
	for i, u := range doc.Unread {
		if i == 0 {
			p.Line("")
		}
		p.hang("  "+p.paint(warn, "!"), Text(u.File+" was not looked into: "+u.Why))
	}
}
