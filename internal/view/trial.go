package view

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/field"
	"ostrov/internal/core/trial"
)

// TriedDoc is what a description reads out of what it was tried on.
type TriedDoc struct {
	Head
	ID     string     `json:"id"`
	Title  string     `json:"title"`
	Things []ThingDoc `json:"things"`
}

// ThingDoc is an install, a save or a mod.
type ThingDoc struct {
	What    string           `json:"what"`
	Kind    string           `json:"kind,omitempty"`
	Name    string           `json:"name"`
	Not     string           `json:"not,omitempty"` // why it is none of its kind
	Problem string           `json:"problem,omitempty"`
	Files   []OpenedDoc      `json:"files"`
	Fields  []TriedFieldDoc  `json:"fields"`
	Lists   []TriedListDoc   `json:"lists"`
	Folders []TriedFolderDoc `json:"folders,omitempty"`
	Rules   []TriedRuleDoc   `json:"rules,omitempty"` // that it can meet
}

// OpenedDoc is a declared file as it was found.
type OpenedDoc struct {
	ID       string   `json:"id"`
	Path     string   `json:"path"`
	Form     string   `json:"form"`
	Layers   []string `json:"layers,omitempty"` // around its content, outermost first
	Size     int64    `json:"size"`
	Micros   int64    `json:"microseconds"`
	Problem  string   `json:"problem,omitempty"`
	Optional bool     `json:"optional"`
	More     int      `json:"more,omitempty"` // files that the same glob means
}

// TriedFieldDoc is a field with its value, and how each alternative was looked for.
type TriedFieldDoc struct {
	ID       string       `json:"id"`
	Found    bool         `json:"found"`
	Value    string       `json:"value,omitempty"` // as it is compared
	Text     string       `json:"text,omitempty"`  // as it is shown
	Unmapped string       `json:"unmapped,omitempty"`
	Inferred string       `json:"inferred,omitempty"`
	Tried    []TriedDocAt `json:"tried"`
}

// TriedDocAt is one alternative.
type TriedDocAt struct {
	In      string `json:"in,omitempty"`
	At      string `json:"at,omitempty"`
	Found   bool   `json:"found"`
	Several int    `json:"several,omitempty"`
	Problem string `json:"problem,omitempty"`
}

// TriedListDoc is a list.
type TriedListDoc struct {
	ID      string    `json:"id"`
	In      string    `json:"in,omitempty"`
	At      string    `json:"at,omitempty"`
	There   bool      `json:"there"`
	Whole   bool      `json:"whole"` // each entry says which it is
	Problem string    `json:"problem,omitempty"`
	Items   []ItemDoc `json:"items"`
}

// ItemDoc is an entry of a list.
type ItemDoc struct {
	ID      string `json:"id"`
	Version string `json:"version,omitempty"`
	Title   string `json:"title,omitempty"`
	Digest  string `json:"digest,omitempty"`
	Range   string `json:"range,omitempty"`
}

// TriedFolderDoc is a folder of an install.
type TriedFolderDoc struct {
	ID     string `json:"id"`
	Path   string `json:"path,omitempty"`
	Why    string `json:"why,omitempty"`
	Exists bool   `json:"exists"`
	Saves  int    `json:"saves"`
	Mods   int    `json:"mods"`
	Cut    bool   `json:"cut,omitempty"` // there is more in it than was tried
}

// TriedRuleDoc is a rule that a save can meet.
type TriedRuleDoc struct {
	Line  int    `json:"line"`
	About string `json:"about"`
}

// Tried makes the document of a trial.
func Tried(id, title string, things []trial.Thing) TriedDoc {
	d := TriedDoc{Head: NewHead("games test"), ID: id, Title: title, Things: []ThingDoc{}}
	for _, t := range things {
		one := ThingDoc{What: t.What, Kind: t.Kind, Name: t.Name, Not: t.Not, Problem: reading(t.Problem), Files: []OpenedDoc{}, Fields: []TriedFieldDoc{}, Lists: []TriedListDoc{}}
		for _, f := range t.Files {
			one.Files = append(one.Files, OpenedDoc{f.ID, f.Path, f.Form, f.Layers, f.Size, f.Took.Microseconds(), reading(f.Err), f.Optional, f.More})
		}
		for _, f := range t.Fields {
			doc := TriedFieldDoc{ID: f.ID, Inferred: f.Inferred, Tried: []TriedDocAt{}}
			if found := f.Found(); found != nil {
				doc.Found, doc.Value, doc.Text, doc.Unmapped = true, found.Value.Raw, found.Value.Text, found.Value.Unmapped
			}
			for _, at := range f.Tried {
				doc.Tried = append(doc.Tried, TriedDocAt{at.In, at.Query, at.Found, at.Several, reading(at.Err)})
			}
			one.Fields = append(one.Fields, doc)
		}
		for _, l := range t.Lists {
			doc := TriedListDoc{ID: l.ID, In: l.In, At: l.Query, There: l.There, Whole: l.Whole, Problem: reading(l.Err), Items: []ItemDoc{}}
			for _, i := range l.Items {
				doc.Items = append(doc.Items, ItemDoc{i.ID, i.Version, i.Title, i.Digest, i.Range})
			}
			one.Lists = append(one.Lists, doc)
		}
		for _, f := range t.Folders {
			one.Folders = append(one.Folders, TriedFolderDoc(f))
		}
		for _, r := range t.Rules {
			one.Rules = append(one.Rules, TriedRuleDoc{r.Line, r.Words})
		}
		d.Things = append(d.Things, one)
	}
	return d
}

func reading(err error) string {
	switch {
	case err == nil:
		return ""
	case errors.Is(err, fs.ErrNotExist):
		return "not there"
	}
	return assess.Reading(err)
}

// Tried writes what a description reads: each thing by itself, then what saves of one kind have in common.
func (p *Printer) Tried(things []trial.Thing) {
	for i, t := range things {
		if i > 0 {
			p.Line("")
		}
		p.thing(t)
	}
	p.sideBySide(things)
}

func (p *Printer) thing(t trial.Thing) {
	kind := ""
	if t.Kind != "" {
		kind = " (" + t.Kind + ")"
	}
	p.Line("%s %s%s", t.What, p.paint(strong, Text(t.Name)), kind)
	if t.Not != "" {
		p.Line("  %s", p.paint(bad, "not recognised: "+Text(t.Not)))
	}
	if t.Problem != nil {
		p.Line("  %s", p.paint(bad, "cannot be read whole: "+Text(reading(t.Problem))))
	}
	four := []column{{title: ""}, {title: ""}, {title: "", grow: true}, {title: "", grow: true}}
	var rows [][]string
	for _, f := range t.Files {
		rows = append(rows, []string{"file", Text(f.ID), Text(f.Path), p.openedState(f)})
	}
	for _, f := range t.Folders {
		state := fmt.Sprintf("%s, %s", Count(f.Saves, "save", "saves"), Count(f.Mods, "mod", "mods"))
		if f.Cut {
			state += p.paint(warn, ", and more that are not tried")
		}
		if !f.Exists {
			state = p.paint(warn, "not there")
		}
		if f.Why != "" {
			state += ": " + Text(f.Why)
		}
		rows = append(rows, []string{"folder", Text(f.ID), Text(f.Path), state})
	}
	if len(rows) > 0 {
		p.table(four, rows)
	}
	rows = nil
	for _, f := range t.Fields {
		value, where := p.fieldState(f)
		rows = append(rows, []string{"field", Text(f.ID), value, p.paint(faint, where)})
	}
	p.table(four, rows)
	for _, l := range t.Lists {
		value, where := p.listState(l)
		p.Line("  list   %s", strings.TrimSpace(Text(l.ID)+"  "+p.paint(faint, where)))
		p.Line("    %s", value)
	}
	for _, r := range t.Rules {
		p.Line("  can meet the rule in line %d: %s", r.Line, Text(r.Words))
	}
}

func (p *Printer) openedState(f field.Opened) string {
	switch {
	case errors.Is(f.Err, fs.ErrNotExist) && f.Optional:
		return p.paint(faint, "not there, and need not be")
	case f.Err != nil:
		return p.paint(bad, Text(reading(f.Err)))
	}
	state := fmt.Sprintf("%s, %s, read in %s", strings.Join(append(slices.Clone(f.Layers), f.Form), ", "), Size(f.Size), max(f.Took.Round(100*time.Microsecond), 100*time.Microsecond))
	if f.More > 0 {
		state += fmt.Sprintf(", and %d more", f.More)
	}
	return state
}

func (p *Printer) fieldState(f trial.Field) (value, where string) {
	found := f.Found()
	if found == nil {
		var tried []string
		problem, empty := "", false
		for _, t := range f.Tried {
			tried = append(tried, strings.TrimSpace(t.In+" "+t.Query))
			if t.Err != nil && !errors.Is(t.Err, fs.ErrNotExist) {
				problem = reading(t.Err)
			}
			empty = empty || t.Value.Empty
		}
		value = p.paint(warn, "not found")
		if empty {
			value = "there, and empty"
		}
		if problem != "" {
			value = p.paint(bad, Text(problem))
		}
		if f.Inferred != "" {
			value += ": " + Text(f.Inferred)
		}
		return value, Text(strings.Join(tried, " or "))
	}
	v := found.Value
	value = Text(v.Text)
	switch {
	case v.Unmapped != "":
		value = p.paint(warn, fmt.Sprintf("%s, which the map does not have", Text(v.Unmapped)))
	case v.Raw != v.Text:
		value += fmt.Sprintf(" (compared as %s)", Text(v.Raw))
	}
	where = strings.TrimSpace(found.In + " " + found.Query)
	if found.In == "" {
		where = "its name, or fixed"
	}
	if n := len(f.Tried); n > 1 {
		where += fmt.Sprintf(" (alternative %d)", n)
	}
	if found.Several > 1 {
		where += p.paint(warn, fmt.Sprintf(" (the first of %d)", found.Several))
	}
	return value, where
}

// fewItems is how many entries of a list are shown.
const fewItems = 6

func (p *Printer) listState(l trial.List) (value, where string) {
	var names []string
	for _, i := range l.Items[:min(len(l.Items), fewItems)] {
		names = append(names, strings.TrimSpace(i.ID+" "+i.Version+i.Range))
	}
	if more := len(l.Items) - fewItems; more > 0 {
		names = append(names, fmt.Sprintf("and %d more", more))
	}
	where = Text(strings.TrimSpace(l.In + " " + l.Query))
	switch {
	case l.In == "":
		return p.paint(warn, "none described: of a save that is written here, the mods that are installed are taken"), ""
	case l.Err != nil:
		return p.paint(bad, Text(reading(l.Err))), where
	case !l.There:
		return p.paint(warn, "not found, so that it is not known"), where
	case !l.Whole:
		return p.paint(warn, fmt.Sprintf("an entry does not say which it is, so that the list is not known; others: %s", Text(strings.Join(names, ", ")))), where
	case len(l.Items) == 0:
		return "there, and empty", where
	}
	return fmt.Sprintf("%d: %s", len(l.Items), Text(strings.Join(names, ", "))), where
}

// sideBySide tells of each field of several saves of one kind whether it says anything: one that is the same in all of them may be read from the
// wrong place.
func (p *Printer) sideBySide(things []trial.Thing) {
	byKind := map[string][]trial.Thing{}
	var kinds []string
	for _, t := range things {
		if t.What == "save" && t.Not == "" {
			if byKind[t.Kind] == nil {
				kinds = append(kinds, t.Kind)
			}
			byKind[t.Kind] = append(byKind[t.Kind], t)
		}
	}
	for _, kind := range kinds {
		saves := byKind[kind]
		if len(saves) < 2 {
			continue
		}
		p.Line("")
		p.Line("%d saves of the kind %s side by side", len(saves), kind)
		var rows [][]string
		for _, f := range saves[0].Fields {
			var values []string
			missing := 0
			for _, s := range saves {
				i := slices.IndexFunc(s.Fields, func(o trial.Field) bool { return o.ID == f.ID })
				if found := s.Fields[i].Found(); found == nil {
					missing++
				} else if !slices.Contains(values, found.Value.Text) {
					values = append(values, found.Value.Text)
				}
			}
			state := fmt.Sprintf("%d values", len(values))
			switch {
			case missing == len(saves):
				state = p.paint(warn, "missing in all of them")
			case missing > 0:
				state = p.paint(warn, fmt.Sprintf("missing in %d of them", missing))
			case len(values) == 1:
				state = p.paint(warn, "the same in all of them: "+Text(values[0]))
			}
			rows = append(rows, []string{Text(f.ID), state})
		}
		p.table([]column{{title: ""}, {title: "", grow: true}}, rows)
	}
}
