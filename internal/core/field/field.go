// Package field reads single values and lists out of files that a description declares: of an install, of a save, of a mod.
//
// A File is declared once, with its wrapping and form; fields and lists say only where in it they are. Files opens each file at most once, and
// Checker says what is wrong with declarations before any file is read. Not found is never taken for none: a list that is not there is unknown,
// and a value that a map does not have is Unmapped. The package knows no game, no folder of a platform and no rule; it changes nothing.
package field

import (
	"regexp"
	"strings"

	"ostrov/internal/core/doc"
)

// File declares a file once: where it is, how it is wrapped, what shape it has.
type File struct {
	Path     string   `toml:"path" jsonschema:"required"`
	Layers   Layers   `toml:"layers"`
	Form     string   `toml:"form" jsonschema:"required,enum=blocks,enum=bytes,enum=chunks,enum=ini,enum=json,enum=lines,enum=sqlite,enum=text,enum=xml"`
	Optional bool     `toml:"optional"`
	If       *Present `toml:"if" jsonschema:"description=of a save: it is wanted only where this holds"`
	Encoding string   `toml:"encoding" jsonschema:"description=a name of the WHATWG list; or binary: each byte one character"`
	Open     string   `toml:"open" jsonschema:"description=for blocks: a pattern with the group name for a line that begins one"`
	Close    string   `toml:"close" jsonschema:"description=for blocks: a pattern for a line that ends one"`
	Pair     string   `toml:"pair" jsonschema:"description=for blocks: a pattern with the groups key and value"`
	Indent   bool     `toml:"indent" jsonschema:"description=for blocks: what is indented deeper belongs to the line above"`
	Chunk    string   `toml:"chunk" jsonschema:"description=for chunks: what one is made of, such as tag:4 length:u32be"`
	Record   string   `toml:"record" jsonschema:"description=for chunks: what a record in one is made of, such as id:hex4 name:cstr"`
	Personal bool     `toml:"personal" jsonschema:"description=it tells of the player; a parcel leaves it out where it is optional"`
	Ends     string   `toml:"ends" jsonschema:"description=an RE2 pattern for how a whole file ends; else it was cut short"`

	ends *regexp.Regexp
}

// Many reports whether the path is a glob that can mean several files.
func (f File) Many() bool { return strings.ContainsAny(f.Path, "*?[{") }

// Present is a condition on the files of a save: all keys must hold. Its templates begin with {save}/ and may be globs.
type Present struct {
	Exists string    `toml:"exists"`
	Absent string    `toml:"absent"`
	Any    []Present `toml:"any" jsonschema:"description=one of these must hold"`
}

// EndsWhole reports whether the end of a file's decoded content is how a whole one ends; every end is where the description does not say.
func (f File) EndsWhole(end []byte) bool { return f.ends == nil || f.ends.Match(end) }

// Spec is the file's wrapping and shape as package form takes it.
func (f File) Spec() doc.Spec {
	return doc.Spec{Layers: f.Layers.Layers, Form: f.Form, Encoding: f.Encoding,
		Blocks: doc.BlockPatterns{Open: f.Open, Close: f.Close, Pair: f.Pair, Indent: f.Indent}, Chunks: doc.ChunkSpec{Chunk: f.Chunk, Record: f.Record}}
}

// Field is where one value stands, and what becomes of it.
type Field struct {
	In       string            `toml:"in" jsonschema:"description=a [file] id"`
	At       Strings           `toml:"at" jsonschema:"description=a query of the file's form; or those of several parts"`
	Each     string            `toml:"each" jsonschema:"description=the elements of a list that each have the field; it is then called FIELD[1], FIELD[2] …"`
	Ref      Strings           `toml:"ref" jsonschema:"description=the value names something: a query, or one after the other, in which {} is the value before it, leads to what the field says"`
	Join     string            `toml:"join" jsonschema:"description=what stands between the parts"`
	FromName string            `toml:"from_name" jsonschema:"description=an RE2 pattern on the name of the file or folder; the value is its first group"`
	As       string            `toml:"as"`
	Split    string            `toml:"split" jsonschema:"description=the value is the first part before this text"`
	Default  string            `toml:"default"`
	Map      map[string]string `toml:"map" jsonschema:"description=raw value to the one that is compared and shown; what is not in it is unknown"`
	Show     map[string]string `toml:"show" jsonschema:"description=value to words for people"`
	Layers   Layers            `toml:"layers" jsonschema:"description=around the value"`
	Personal bool              `toml:"personal" jsonschema:"description=it tells of the player; a parcel can blank it"`
	Length   string            `toml:"length" jsonschema:"description=of a pattern in a binary file: where the length of the value stands: TYPE@OFFSET from its first byte"`
	Set      bool              `toml:"set" jsonschema:"description=it may be given another value"`
	Range    string            `toml:"range" jsonschema:"description=FROM..TO, numbers of which either may be left out, that it may be set to"`
	OneOf    []string          `toml:"one_of" jsonschema:"description=what it may be set to"`
	Pattern  string            `toml:"pattern" jsonschema:"description=an RE2 pattern for all of what it may be set to"`

	pattern *regexp.Regexp
	allowed *regexp.Regexp
	as      Conversion
}

// Follow goes from the value of the field on to what it names, which ask looks up: query is the one that leads to what the field says. Values that
// would be more than a name in a query lead nowhere.
func (f *Field) Follow(value string, ask func(query string) (string, bool, error)) (query, text string, ok bool, err error) {
	query, text, ok = f.At[0], value, true
	for _, ref := range f.Ref {
		if strings.ContainsAny(text, "'\"\\\n[]") {
			return query, "", false, nil
		}
		query = strings.ReplaceAll(ref, "{}", text)
		if text, ok, err = ask(query); err != nil || !ok {
			return query, "", false, err
		}
	}
	return query, text, ok, nil
}

// Fields are alternatives, of which the first that has a value counts.
type Fields []Field

// Column is what an element of a list says: where in the element it stands, and what becomes of it.
type Column Field

// query is where in an element the column stands, or "".
func (c *Column) query() string {
	if len(c.At) == 0 {
		return ""
	}
	return c.At[0]
}

// Query is where in an element the column stands, or "".
func (c *Column) Query() string { return c.query() }

// Value makes of a text what the column says.
func (c *Column) Value(raw string, ok bool) (Value, bool, error) {
	return (*Field)(c).value(raw, ok)
}

// Encode is what a file has for a value of the column.
func (c *Column) Encode(value string) string { return (*Field)(c).Encode(value) }

// What stands in place of a query for a column: the key of an INI line or of a member of an object, and its value.
const (
	atKey   = "@key"
	atValue = "@value"
)

// List is where several values stand: the elements that each names in the file, and inside an element the parts of it.
type List struct {
	In      string `toml:"in" jsonschema:"required"`
	Each    string `toml:"each"`
	At      string `toml:"at" jsonschema:"description=one value that split takes apart; each is then a pattern for a part"`
	Split   string `toml:"split"`
	Section string `toml:"section" jsonschema:"description=of an INI: only this section"`
	ID      Column `toml:"id"`
	Version Column `toml:"version"`
	Title   Column `toml:"title"`
	Digest  Column `toml:"digest"`
	Range   Column `toml:"range" jsonschema:"description=where the range of versions stands that is needed"`
	On      string `toml:"on" jsonschema:"description=an RE2 pattern for the whole value of an element that counts as present"`
	Empty   string `toml:"empty" jsonschema:"description=a query for what is there when the list is there and empty"`
	// Required tells that a file without the list is damaged.
	Required bool `toml:"required" jsonschema:"description=a file without the list is damaged"`
	// Own tells, of a save's list, that each save has its own mod set.
	Own bool `toml:"own" jsonschema:"description=each save has its own mod set"`
	// Expects is the id of the folder that a save wants the mods of the list to be loaded from, or "".
	Expects string `toml:"expects" jsonschema:"description=the folder that the mods of the list are loaded from"`
	// Kind is the kind of mod that a save's list names, where it is silent about others, or "".
	Kind string `toml:"kind" jsonschema:"description=the one kind of mod that the list names; of others it says nothing"`
	// Whole tells that the file itself is the list: without an entry it is an empty one.
	Whole bool `toml:"-" json:"-"`

	on   *regexp.Regexp
	part *regexp.Regexp // of at: what each part is
}

// Lists are lists of which all are read, one after the other.
type Lists []List

// Item is one element of a list.
type Item struct {
	ID, Version, Title, Digest, Range string
	// Expects is the folder that it is to be loaded from, or "".
	Expects string
	// Kind is the kind of mod that it is, where the list names only that, or "".
	Kind string
}

// FromWhole is a list of which the file itself is the container.
func (l List) FromWhole() List {
	l.Whole = true
	return l
}
