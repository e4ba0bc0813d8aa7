package view

import (
	"maps"
	"slices"
	"strings"

	"ostrov/internal/core/facts"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/problem"
)

// History writes what was kept of one save, each state once.
func (p *Printer) History(st *facts.State, of *keep.History) {
	p.Line("%s: %s kept", p.paint(strong, Text(of.Called)), Count(len(of.States), "state", "states"))
	if len(of.States) == 0 {
		p.Next(problem.Do("keep", st.Called))
		return
	}
	ids := map[string]bool{}
	for _, k := range of.States {
		for id := range k.Columns {
			ids[id] = true
		}
	}
	shown := slices.Sorted(maps.Keys(ids))
	columns := []column{{title: "kept in"}, {title: "title", grow: true}, {title: "saved"}, {title: "version", drop: 1}}
	for _, id := range shown {
		columns = append(columns, column{title: id, right: true, drop: 2})
	}
	columns = append(columns, column{title: "size", right: true, drop: 3}, column{})
	var rows [][]string
	whole := ""
	for _, k := range of.States {
		in := k.First
		if k.Last != k.First {
			in += " to " + k.Last
		}
		var state []string
		if k.Broken != "" {
			state = append(state, p.paint(warn, Text(k.Broken)))
		}
		if k.Present {
			state = append(state, p.paint(strong, "there now"))
		}
		if len(state) == 0 {
			whole = k.Last
		}
		row := []string{in, Text(k.Title), When(k.Modified, p.Now), Text(k.Version)}
		for _, id := range shown {
			row = append(row, Text(k.Columns[id]))
		}
		rows = append(rows, append(row, Size(k.Bytes), strings.Join(state, ", ")))
	}
	p.Line("")
	p.table(columns, rows)
	if whole != "" {
		slot := of.Handle(st)
		p.Next(problem.Do("restore", whole).With("slot", slot))
	}
}

// HistoryDoc is what was kept of one save, in JSON.
type HistoryDoc struct {
	Head
	Save   string         `json:"save"`
	States []HeldStateDoc `json:"states"`
}

// HeldStateDoc is one state of it. First and Last are the snapshots that have it.
type HeldStateDoc struct {
	First    string            `json:"first"`
	Last     string            `json:"last"`
	Digest   string            `json:"digest"`
	Title    string            `json:"title,omitempty"`
	Version  string            `json:"version,omitempty"`
	Bytes    int64             `json:"bytes"`
	Modified string            `json:"modified"`
	Columns  map[string]string `json:"columns,omitempty"`
	Broken   string            `json:"broken,omitempty"`
	Present  bool              `json:"present"`
}

// HistoryDocument makes the document of a save's history.
func HistoryDocument(of *keep.History) HistoryDoc {
	doc := HistoryDoc{Head: NewHead("kept"), Save: of.Called, States: []HeldStateDoc{}}
	for _, k := range of.States {
		doc.States = append(doc.States, HeldStateDoc{k.First, k.Last, k.Digest.String(), k.Title, k.Version, k.Bytes, k.Modified.UTC().Format("2006-01-02T15:04:05Z07:00"), k.Columns, k.Broken, k.Present})
	}
	return doc
}
