package view

import (
	"time"

	"ostrov/internal/core/assess"
)

// CopiesDoc is the document of saves that are in several places.
type CopiesDoc struct {
	Head
	Copies []CopyDoc `json:"copies"`
}

// CopyDoc is one save that is in several places, the newest first.
type CopyDoc struct {
	Called string          `json:"called"`
	Places []CopyPlacesDoc `json:"places"`
}

// CopyPlacesDoc is one of the places.
type CopyPlacesDoc struct {
	Address  string    `json:"address"`
	Path     string    `json:"path"`
	Modified time.Time `json:"modified"`
	Digest   string    `json:"digest"`
	Newest   bool      `json:"newest"`
}

// Copies makes the document.
func Copies(all []assess.Copies) CopiesDoc {
	doc := CopiesDoc{Head: NewHead("saves"), Copies: []CopyDoc{}}
	for _, c := range all {
		one := CopyDoc{Called: c.Called}
		for i, p := range c.Copies {
			one.Places = append(one.Places, CopyPlacesDoc{p.State.Address(p.Save.Save), p.Save.Path(), p.Save.Modified, p.Save.Digest.String(), i == 0})
		}
		doc.Copies = append(doc.Copies, one)
	}
	return doc
}

// Copies writes saves that are in several places, the newest of each first.
func (p *Printer) Copies(all []assess.Copies) {
	if len(all) == 0 {
		p.Line("No save is in several places.")
		return
	}
	for i, c := range all {
		if i > 0 {
			p.Line("")
		}
		p.Line("%s", p.paint(strong, Text(c.Called)))
		var rows [][]string
		for j, s := range c.Copies {
			note := ""
			switch {
			case j == 0:
				note = p.paint(good, "newest")
			case s.Save.Digest == c.Copies[0].Save.Digest && !s.Save.Digest.IsZero():
				note = "the same"
			}
			rows = append(rows, []string{s.State.Address(s.Save.Save), When(s.Save.Modified, p.Now), Size(s.Save.Size), note, Text(s.Save.Path())})
		}
		p.table([]column{{title: "save"}, {title: "saved"}, {title: "size", right: true, drop: 1}, {title: ""}, {title: "file", grow: true, drop: 2}}, rows)
	}
}
