package view

import (
	"fmt"
	"time"

	"ostrov/internal/core/plan"
)

// Change writes which change is meant, before what is done with it.
func (p *Printer) Change(c *plan.Change, doing string) {
	p.Line("%s: %s", doing, p.paint(strong, fmt.Sprintf("%s (%s, %s)", Text(c.Title), c.Install, When(c.Time, p.Now))))
	p.Line("")
}

// Changes writes what can be taken back and made again, newest last.
func (p *Printer) Changes(all []*plan.Change) {
	if len(all) == 0 {
		p.Line("no change has been made")
		return
	}
	var rows [][]string
	for _, c := range all {
		state := ""
		if c.Undone {
			state = p.paint(faint, "taken back")
		}
		rows = append(rows, []string{When(c.Time, p.Now), c.Install, Text(c.Title), state})
	}
	p.table([]column{{title: "made"}, {title: "on"}, {title: "change", grow: true}, {title: ""}}, rows)
}

// ChangesDoc lists changes.
type ChangesDoc struct {
	Head
	Changes []MadeDoc `json:"changes"`
}

// MadeDoc is a change that was made.
type MadeDoc struct {
	ID      string    `json:"id"`
	Title   string    `json:"title"`
	Install string    `json:"install"`
	Time    time.Time `json:"time"`
	Undone  bool      `json:"undone"`
}

// Changes makes the document of changes.
func Changes(all []*plan.Change) ChangesDoc {
	d := ChangesDoc{Head: NewHead("undo"), Changes: []MadeDoc{}}
	for _, c := range all {
		d.Changes = append(d.Changes, MadeDoc{c.ID, c.Title, c.Install, c.Time.UTC(), c.Undone})
	}
	return d
}
