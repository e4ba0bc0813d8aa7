package game

import (
	"ostrov/internal/core/field"
)

// Count is a number in a file that counts elements of a list: it follows when one of them is taken out or put in.
type Count struct {
	In   string `toml:"in" jsonschema:"description=a file of the save; that of the reference where it is left out"`
	Each string `toml:"each" jsonschema:"description=the elements that each have such a number; all of the file where it is left out"`
	At   string `toml:"at" jsonschema:"required,description=where the number stands, in such an element"`
	Of   string `toml:"of" jsonschema:"required,description=what it counts, in such an element"`
}

// Also is a place that names what is removed: it goes, too, or gets another value.
type Also struct {
	In      string  `toml:"in" jsonschema:"description=a file of the save; that of the reference where it is left out"`
	Key     string  `toml:"key" jsonschema:"required,description=what is removed is named by this value in it"`
	At      string  `toml:"at" jsonschema:"required,description=where such names stand"`
	Remove  string  `toml:"remove" jsonschema:"description=what goes with such a name; see references.remove"`
	Instead *string `toml:"instead" jsonschema:"description=what stands in the place of the name"`
}

// Section is a part of a save that can be taken from another one.
type Section struct {
	ID     string        `toml:"id" jsonschema:"required"`
	Title  string        `toml:"title"`
	Save   string        `toml:"save" jsonschema:"description=the kind of save; all that have the file where it is left out"`
	In     string        `toml:"in" jsonschema:"required,description=a file of the save"`
	At     field.Strings `toml:"at" jsonschema:"required,description=the queries that make it up, in order"`
	Into   string        `toml:"into" jsonschema:"description=where it goes in a save that does not have it"`
	Remove field.Strings `toml:"remove" jsonschema:"description=what goes from the save that gets it"`
	Sets   []SectionSet  `toml:"set" jsonschema:"description=values that are set with it, or taken along"`
	Unique []Unique      `toml:"unique" jsonschema:"description=ids that must not occur twice: they are given anew"`
	From   string        `toml:"from" jsonschema:"enum=mod,description=it is a piece that mods bring"`
	Piece  string        `toml:"piece" jsonschema:"description=with from = mod: a glob for the files of the mod that are such pieces"`
}

// SectionSet is a value that is set with a section: a fixed one, or without that the one of the save that the section comes from.
type SectionSet struct {
	At    string  `toml:"at" jsonschema:"required"`
	Value *string `toml:"value" jsonschema:"description=without it the value comes along"`
}

// Unique are ids of a section, and the places in it that name them.
type Unique struct {
	At    string        `toml:"at" jsonschema:"required,description=all places of the file where such ids stand"`
	Named field.Strings `toml:"named" jsonschema:"description=places of the section that name them"`
}

// Spot is a place in a file of a save.
type Spot struct {
	In string `toml:"in" jsonschema:"required"`
	At string `toml:"at" jsonschema:"required"`
}

// Link says that each value at one place of a save must exist at another.
type Link struct {
	Title string `toml:"title" jsonschema:"required"`
	Save  string `toml:"save" jsonschema:"description=the kind of save; all that have the files where it is left out"`
	From  Spot   `toml:"from" jsonschema:"required"`
	To    Spot   `toml:"to" jsonschema:"required"`
	None  string `toml:"none" jsonschema:"description=an RE2 pattern for the whole of a value that names nothing"`
}

// Members are the characters, towns or the like of a save that can be taken out and put in.
type Members struct {
	Called   string       `toml:"called" jsonschema:"description=what one is: a driver"`
	In       string       `toml:"in" jsonschema:"required,description=a file of the save; where its path is a glob and each is left out, each file is one"`
	Each     string       `toml:"each" jsonschema:"description=the elements that they are"`
	Into     string       `toml:"into" jsonschema:"description=what one is put into where there is no other"`
	ID       field.Column `toml:"id" jsonschema:"required"`
	Title    field.Column `toml:"title"`
	Owner    field.Column `toml:"owner" jsonschema:"description=whose it is: it becomes that of the save it is put into"`
	Capacity int          `toml:"capacity" jsonschema:"description=how many there may be; 0 for any number"`
	Counts   []Count      `toml:"count"`
}

// Convert is a conversion of saves to another version of the game.
type Convert struct {
	ID       string `toml:"id" jsonschema:"required"`
	Title    string `toml:"title"`
	Save     string `toml:"save" jsonschema:"description=the kind of save; all where it is left out"`
	From     string `toml:"from" jsonschema:"required,description=a range of versions"`
	To       string `toml:"to" jsonschema:"required,description=a version"`
	Needs    string `toml:"needs" jsonschema:"description=the id of a mod that must be on"`
	NewTitle string `toml:"new_title" jsonschema:"description=the title of what is made; {title} is the former one"`
	MoveTo   string `toml:"move_to" jsonschema:"description=the folder that saves of the other version are in"`
	Steps    []Step `toml:"steps" jsonschema:"description=what is changed, in order; without it Ostrov cannot convert and only says what helps"`
}

// Step is one thing that a conversion does, to all that its query names.
type Step struct {
	In       string            `toml:"in" jsonschema:"required,description=a file of the save"`
	ID       string            `toml:"id" jsonschema:"description=what an optional step is called in commands"`
	Title    string            `toml:"title" jsonschema:"description=what it does, for people"`
	Optional bool              `toml:"optional" jsonschema:"description=it may be left out"`
	Set      string            `toml:"set" jsonschema:"description=a query: what it names gets the value"`
	Value    *string           `toml:"value"`
	Remove   string            `toml:"remove" jsonschema:"description=a query: what it names goes"`
	Rename   string            `toml:"rename" jsonschema:"description=a query: what it names is called as to says"`
	Map      string            `toml:"map" jsonschema:"description=a query: what it names gets another value by the table values"`
	Values   map[string]string `toml:"values"`
	CopyFrom string            `toml:"copy_from" jsonschema:"description=a query: its value is written at the place that to names"`
	To       string            `toml:"to"`
	Insert   string            `toml:"insert" jsonschema:"description=a query: the piece is put into what it names"`
	Piece    string            `toml:"piece" jsonschema:"description=what is put in, as it stands in a file"`
}

// Sections are the sections of a kind of save.
func (d *Description) SectionsOf(kind *Save) []*Section {
	var all []*Section
	for i := range d.Sections {
		s := &d.Sections[i]
		if _, has := kind.Files[s.In]; has && (s.Save == "" || s.Save == kind.ID) {
			all = append(all, s)
		}
	}
	return all
}

// LinksOf are the links of a kind of save.
func (d *Description) LinksOf(kind *Save) []*Link {
	var all []*Link
	for i := range d.Links {
		l := &d.Links[i]
		_, from := kind.Files[l.From.In]
		_, to := kind.Files[l.To.In]
		if from && to && (l.Save == "" || l.Save == kind.ID) {
			all = append(all, l)
		}
	}
	return all
}
