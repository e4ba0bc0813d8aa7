// Package game knows games from descriptions: where an install keeps its things, which version it is, and how its files are read.
//
// A Description is read from TOML (Parse) and is only data: it names no program to run, and every folder it leads to is checked against the
// bounds in folder.go before anything else uses it. Package game reads and locates; it never changes a file of a game.
// The language is described in docs/descriptions.md, whose JSON Schema is generated from the types here.
package game

import (
	"cmp"
	"context"
	"path"
	"regexp"
	"slices"
	"strings"

	"ostrov/internal/core/check"
	"ostrov/internal/core/field"
	"ostrov/internal/core/strict"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/version"
)

// Language is the number of the description language understood.
const Language = 1

// Description tells about one game.
type Description struct {
	Ostrov   int                     `toml:"ostrov" jsonschema:"required,description=number of the description language: 1"`
	ID       string                  `toml:"id" jsonschema:"required,pattern=^[a-z0-9-]+$,description=what the game is called in commands"`
	Title    string                  `toml:"title" jsonschema:"required"`
	Editions []string                `toml:"editions" jsonschema:"description=named copies: a store's or a platform's"`
	Version  field.Fields            `toml:"version" jsonschema:"description=the version of an install"`
	Versions Versions                `toml:"versions"`
	Install  InstallPart             `toml:"install" jsonschema:"required"`
	Folders  []Folder                `toml:"folder" jsonschema:"required"`
	Files    map[string]field.File   `toml:"file" jsonschema:"description=files of the install that fields are read from"`
	Values   map[string]field.Fields `toml:"value" jsonschema:"description=single values for conditions and templates"`
	Account  *Account                `toml:"account"`
	Saves    []Save                  `toml:"save"`
	Mods     []Mod                   `toml:"mod"`
	Loaders  []Loader                `toml:"loader"`
	Active   *Active                 `toml:"active"`
	Settings *Settings               `toml:"settings"`
	Pictures *Pictures               `toml:"pictures"`
	Rules    []Rule                  `toml:"rule"`

	References References `toml:"references" jsonschema:"description=where identifiers of mods occur in saves"`
	Log        *Log       `toml:"log"`
	Starters   []Starter  `toml:"starter"`
	Requires   []Require  `toml:"require"`
	Converts   []Convert  `toml:"convert"`
	Sections   []Section  `toml:"section" jsonschema:"description=parts of a save that can be taken from another"`
	Links      []Link     `toml:"link" jsonschema:"description=where one place of a save must name what exists at another"`

	// File is the name the description was read from, for messages, and Digest that of its text and of how it is read.
	File   string      `toml:"-" json:"-"`
	Digest tree.Digest `toml:"-" json:"-"`
	// Trees are the queries that JSON and XML of more than 32 MiB cannot be asked; see form.Streams.
	Trees []field.TreeQuery `toml:"-" json:"-"`

	account   *regexp.Regexp
	rules     []check.Rule
	positions strict.Positions
}

// Versions says how the versions of a game sort.
type Versions struct {
	Order string       `toml:"order" jsonschema:"enum=numeric,enum=list"`
	List  []string     `toml:"list" jsonschema:"description=oldest first"`
	Build field.Fields `toml:"build" jsonschema:"description=the build of an install; with the save field build it tells apart what has the same version"`
}

// Order is the order of the game's versions.
func (d *Description) Order() version.Order { return version.Order{List: d.Versions.List} }

// InstallPart is the [install] table.
type InstallPart struct {
	Marker  []string `toml:"marker" jsonschema:"required,description=files of which one must exist in an install"`
	Find    []string `toml:"find" jsonschema:"description=where installs usually are"`
	Process []string `toml:"process" jsonschema:"description=names of the running program"`
	Base    []string `toml:"base" jsonschema:"description=globs of the game's own files in the install"`
	Allowed []string `toml:"allowed" jsonschema:"description=globs of what may be in a clean game besides"`
}

// Folder is one [[folder]]: a place where the game keeps things.
type Folder struct {
	ID      string `toml:"id" jsonschema:"required"`
	Path    string `toml:"path" jsonschema:"required,description=a template"`
	If      *Cond  `toml:"if"`
	Title   string `toml:"title"`
	Each    bool   `toml:"each" jsonschema:"description=several of this id are in use at once"`
	Create  bool   `toml:"create" jsonschema:"description=may be made when it is missing"`
	Managed bool   `toml:"managed" jsonschema:"description=another program owns what is in it; it is never written"`
}

// Cond is an `if`: all keys given must hold.
type Cond struct {
	Exists  string     `toml:"exists"`
	Absent  string     `toml:"absent"`
	Version string     `toml:"version" jsonschema:"description=a range"`
	Value   *ValueCond `toml:"value"`
	Edition string     `toml:"edition" jsonschema:"description=the install's edition"`
	Any     []Cond     `toml:"any" jsonschema:"description=one of these must hold"`
}

// ValueCond compares a [value]. A missing value satisfies no comparison.
type ValueCond struct {
	ID      string `toml:"id" jsonschema:"required"`
	Is      string `toml:"is"`
	Not     string `toml:"not"`
	Matches string `toml:"matches" jsonschema:"description=an RE2 pattern for the whole value"`
}

// Account says how account folders are named and which one is the player's.
type Account struct {
	Pattern string       `toml:"pattern" jsonschema:"required"`
	Current field.Fields `toml:"current"`
}

// Units of saves and mods.
const (
	UnitFile   = "file"
	UnitFolder = "folder"
	UnitSet    = "set"
)

// Save is one [[save]]: a kind of save.
type Save struct {
	ID           string                  `toml:"id" jsonschema:"required"`
	Unit         string                  `toml:"unit" jsonschema:"required,enum=file,enum=folder,enum=set"`
	Folder       string                  `toml:"folder" jsonschema:"required"`
	Name         field.Strings           `toml:"name" jsonschema:"required,description=patterns that recognise and spell a save's name"`
	Slots        *Slots                  `toml:"slots"`
	If           *Cond                   `toml:"if"`
	Companions   Companions              `toml:"companions"`
	Ignore       []string                `toml:"ignore" jsonschema:"description=globs of files that are not part of the save"`
	NoMods       bool                    `toml:"no_mods" jsonschema:"description=saves of this kind do not depend on mods"`
	WhileRunning string                  `toml:"while_running" jsonschema:"enum=refuse,enum=others"`
	Columns      []string                `toml:"columns" jsonschema:"description=fields to show in lists"`
	Files        map[string]field.File   `toml:"file"`
	Is           *Is                     `toml:"is"`
	Field        map[string]field.Fields `toml:"field"`
	Mods         field.Lists             `toml:"mods"`
	Owner        *Owner                  `toml:"owner"`
	Members      *Members                `toml:"members" jsonschema:"description=single characters, towns or the like in it"`

	names []*Name
}

// CompanionsOf are the names of the companions of the save called name.
func (s *Save) CompanionsOf(name string) []string {
	stem := strings.TrimSuffix(name, path.Ext(name))
	names := make([]string, len(s.Companions.Files))
	for i, c := range s.Companions.Files {
		names[i] = strings.ReplaceAll(c, "*", stem)
	}
	return names
}

// Spell writes the name of a save with the captures given and the fields that field knows: by the first of the patterns that can be spelled.
func (s *Save) Spell(captures map[string]string, field func(id string) string) (string, bool) {
	for _, n := range s.names {
		if name, ok := n.Spell(n.WithFields(captures, field)); ok {
			return name, true
		}
	}
	return "", false
}

// Names are the parsed patterns of Name.
func (s *Save) Names() []*Name { return s.names }

// Slots are the places a game has for saves.
type Slots struct {
	From      any `toml:"from" jsonschema:"oneof_type=string;integer"`
	To        any `toml:"to" jsonschema:"oneof_type=string;integer"`
	ShownFrom any `toml:"shown_from" jsonschema:"oneof_type=string;integer,description=what the game calls the first slot"`

	first, last, shown int
	letters            bool
}

// Is says how a save is recognised by its content, whatever its name.
type Is struct {
	Magic string   `toml:"magic" jsonschema:"description=HEX@OFFSET; of the file . or the first declared file"`
	Has   []string `toml:"has" jsonschema:"description=fields that must have a value"`
}

// Owner says whose a save is: a field inside it, or the account folder it lies in.
type Owner struct {
	In      string `toml:"in"`
	At      string `toml:"at"`
	As      string `toml:"as"`
	Rewrite bool   `toml:"rewrite" jsonschema:"description=the value may be replaced by the player's own account"`

	fields field.Fields
}

// Fields is where the owner stands.
func (o *Owner) Fields() field.Fields { return o.fields }

// Mod is one [[mod]]: a kind of mod.
type Mod struct {
	ID       string                  `toml:"id" jsonschema:"required"`
	Unit     string                  `toml:"unit" jsonschema:"required,enum=file,enum=folder"`
	Folder   string                  `toml:"folder" jsonschema:"required"`
	Name     string                  `toml:"name" jsonschema:"description=a glob for the names of mods; * is all"`
	Files    map[string]field.File   `toml:"file"`
	Field    map[string]field.Fields `toml:"field"`
	Needs    field.Lists             `toml:"needs"`
	Optional field.Lists             `toml:"optional" jsonschema:"description=mods that it works with and can do without"`
	Clashes  field.Lists             `toml:"clashes" jsonschema:"description=mods that it cannot be on with; the id * is all others"`
	Provides field.Lists             `toml:"provides" jsonschema:"description=other ids that it stands for"`
	Was      field.Lists             `toml:"was" jsonschema:"description=ids that it had before"`
	Is       *Is                     `toml:"is" jsonschema:"description=how it is recognised by its content; of the file . or the first declared file"`
	Title    string                  `toml:"title" jsonschema:"description=what one is called: a campaign or a map"`
	Twice    string                  `toml:"twice" jsonschema:"enum=stops,description=the same id in two folders keeps the game from starting; else the first folder decides"`
	Digest   *OwnDigest              `toml:"digest" jsonschema:"description=the game's own digest of a mod that is one file"`
	Adds     AddsList                `toml:"adds" jsonschema:"description=identifiers that it brings into saves"`
	Affects  string                  `toml:"affects" jsonschema:"enum=nothing,enum=look,enum=content"`
	Base     bool                    `toml:"base" jsonschema:"description=the game's own content, listed like mods"`
	Nested   bool                    `toml:"nested" jsonschema:"description=a folder without the mod's files may be a pack of mods"`
	Marker   []string                `toml:"marker" jsonschema:"description=files of which one must be in a folder for it to be a mod"`
	Pack     []string                `toml:"pack" jsonschema:"description=with nested: files of which one in a folder makes it a pack"`
	Settings BesideList              `toml:"settings" jsonschema:"description=settings files of mods; those whose mod is gone are named"`
	Data     BesideList              `toml:"data" jsonschema:"description=what mods store beside saves; it belongs to the playthrough"`
	Unpack   Unpacks                 `toml:"unpack" jsonschema:"description=the layouts that its downloads come in"`
	Loader   string                  `toml:"loader" jsonschema:"description=the [[loader]] without which it is not loaded"`
}

// Adds is where identifiers stand that a mod brings into saves: in its files, as a list, or all that begin with a prefix.
type Adds struct {
	In     string       `toml:"in" jsonschema:"description=a file of the mod"`
	Each   string       `toml:"each"`
	At     string       `toml:"at"`
	Split  string       `toml:"split"`
	ID     field.Column `toml:"id"`
	Prefix string       `toml:"prefix" jsonschema:"description=how all its identifiers begin; {id} is the mod's id and {field:ID} a field of it"`
	Suffix string       `toml:"suffix" jsonschema:"description=how all its identifiers end; templates as in prefix"`
}

// list is the part of it that reads a file.
func (a Adds) list() field.List {
	return field.List{In: a.In, Each: a.Each, At: a.At, Split: a.Split, ID: a.ID}
}

// Added are the identifiers that a mod brings into saves: exact ones, and beginnings and endings of all that begin or end so.
type Added struct{ Exact, Prefixes, Suffixes []string }

// ReadAdds reads the identifiers that a mod brings into saves; {id} and {field:ID} are left for whoever knows what the mod says of itself.
func ReadAdds(ctx context.Context, files *field.Files, adds []Adds) (Added, error) {
	var all Added
	for _, a := range adds {
		if a.Prefix != "" {
			all.Prefixes = append(all.Prefixes, a.Prefix)
		}
		if a.Suffix != "" {
			all.Suffixes = append(all.Suffixes, a.Suffix)
		}
		if a.In == "" {
			continue
		}
		items, _, err := files.List(ctx, field.Lists{a.list()})
		if err != nil {
			return all, err
		}
		for _, item := range items {
			all.Exact = append(all.Exact, item.ID)
		}
	}
	return all, nil
}

// Names are the id and the title of the kind, by which rules name it.
func (m *Mod) Names() []string {
	if m.Title == "" {
		return []string{m.ID}
	}
	return []string{m.ID, m.Title}
}

// OwnDigest is a digest that the game itself takes of a part of a mod's file, and by which saves may name the mod.
type OwnDigest struct {
	MD5 string `toml:"md5" jsonschema:"required,description=FROM..TO in bytes; either may be left out"`

	from, to int64
}

// Reference is where identifiers of mods occur in saves: in the whole of a file of the save, or in each value that a query names.
type Reference struct {
	Save   string       `toml:"save" jsonschema:"description=the kind of save; all that have the file where it is left out"`
	In     string       `toml:"in" jsonschema:"required"`
	At     string       `toml:"at" jsonschema:"description=a query; of SQLite each row's first column"`
	Layers field.Layers `toml:"layers" jsonschema:"description=around each value"`
	// What follows is for taking a mod's things out.
	Form    string  `toml:"form" jsonschema:"description=of each value, where it is a file of its own"`
	Each    string  `toml:"each" jsonschema:"description=with form: the elements in such a value in which identifiers stand"`
	Remove  string  `toml:"remove" jsonschema:"description=what goes with an identifier: . or $ for the element or row that it stands in, .. for what that stands in, a query, or of text a pattern"`
	Instead *string `toml:"instead" jsonschema:"description=what stands in the place of what would go, or, without remove, of the identifier"`
	Length  string  `toml:"length" jsonschema:"description=the type of the number before an identifier that says how long it is"`
	Counts  []Count `toml:"count" jsonschema:"description=numbers that count what goes"`
	Also    []Also  `toml:"also" jsonschema:"description=places that name what goes"`
}

// Referring are the places of a kind of save where mods' identifiers stand in values of their own.
func (d *Description) Referring(kind *Save) (spots []Spot) {
	for _, r := range d.References {
		if _, has := kind.Files[r.In]; has && r.At != "" && r.Layers.None() && (r.Save == "" || r.Save == kind.ID) {
			spots = append(spots, Spot{r.In, r.At})
		}
	}
	return spots
}

// Removes reports whether the description says how a mod's things are taken out there.
func (r *Reference) Removes() bool { return r.Remove != "" || r.Instead != nil }

// Log is the game's or the loader's log of the last session.
type Log struct {
	In     string `toml:"in" jsonschema:"required,description=a [file] id; its lines are read whatever its form"`
	Loaded string `toml:"loaded" jsonschema:"description=a pattern with the group id, and version where it says that, for a mod that was loaded"`
	Failed string `toml:"failed" jsonschema:"description=a pattern with the group id for a mod that was not"`
	Error  string `toml:"error" jsonschema:"description=a pattern for a line worth showing"`
	Save   string `toml:"save" jsonschema:"description=a pattern with the group save for a save that was loaded"`
	Begins string `toml:"begins" jsonschema:"description=a pattern for a line with which a session begins, where the log holds several"`

	loaded, failed, errors, save, begins *regexp.Regexp
}

// Starter is a way to start the game.
type Starter struct {
	Title string   `toml:"title" jsonschema:"required"`
	File  string   `toml:"file" jsonschema:"required,description=the program's file name"`
	Saves []string `toml:"saves" jsonschema:"description=the kinds of save that it is for"`
	Mods  *bool    `toml:"mods" jsonschema:"description=whether it starts the game with its mods"`
}

// Require is something that must be so for the game to load its saves as they are.
type Require struct {
	Value      string `toml:"value" jsonschema:"description=a [value] id"`
	Is         string `toml:"is"`
	Exists     string `toml:"exists" jsonschema:"description=a template"`
	SaveExists string `toml:"save_exists" jsonschema:"description=the name of a save"`
	Mods       string `toml:"mods" jsonschema:"enum=none"`
	Effect     string `toml:"effect" jsonschema:"required,description=what the game does otherwise, observed"`
	Fix        string `toml:"fix" jsonschema:"required"`
}

// Active is the file that says which mods are on, and in which order.
type Active struct {
	In    string       `toml:"in" jsonschema:"required"`
	Each  string       `toml:"each" jsonschema:"required"`
	ID    field.Column `toml:"id"`
	Off   field.Column `toml:"off" jsonschema:"description=where an element says that it is off; any value but false and 0 means off"`
	Order bool         `toml:"order" jsonschema:"description=the order of the elements is the load order"`
	// Entry and EntryOff are how an element is written.
	Entry    string `toml:"entry" jsonschema:"description=how the element of a mod that is on is written: {id}, {title}, {version}, {folder} and {field:ID} stand for what it says"`
	EntryOff string `toml:"entry_off" jsonschema:"description=how one that is off is written; without it such a mod is not in the list"`
}

// Pictures are where the game puts the pictures that the player takes.
type Pictures struct {
	Files []string `toml:"files" jsonschema:"required,description=templates; the last parts may be a glob"`
}

// Beside are files that a mod has outside its own folder.
type Beside struct {
	Files []string `toml:"files" jsonschema:"required,description=templates in whose last parts {id} is the id of the mod and {field:ID} a field of it; the rest may be a glob"`
	Mod   string   `toml:"mod" jsonschema:"description=the id of the mod whose they are where their names do not tell"`
}

// Settings are the game's settings files.
type Settings struct {
	Files    []string `toml:"files" jsonschema:"required,description=templates; the last parts may be a glob"`
	Stays    []string `toml:"stays" jsonschema:"description=globs of those that stay through swaps and fresh starts"`
	Personal []string `toml:"personal" jsonschema:"description=globs of file names among them that tell of the player"`
}

// later are the words of the language that a later Ostrov will understand.
var later = map[string]bool{
	"cloud": true, "install.layouts": true, "folder.cloud": true, "folder.if.layout": true, "folder.if.mod": true, "save.if.layout": true,
	"save.if.mod": true, "rule.if.layout": true, "rule.if.mod": true, "file.newest": true, "save.file.newest": true, "mod.file.newest": true,
	"save.label": true, "save.roles": true, "account.edition": true, "account.adopt": true,
	"mod.loads_after": true,
	"version.exe":     true, "version.by_digest": true, "version.newest_save": true, "version.ref": true,
}

func (d *Description) modIDs() []string {
	var ids []string
	for _, m := range d.Mods {
		ids = append(ids, m.ID)
	}
	return ids
}

// Lists reports whether a list of the save is of one kind of mod only, and of this one.
func (s *Save) Lists(kind string) bool {
	return slices.ContainsFunc(s.Mods, func(l field.List) bool { return l.Kind == kind })
}

// PerSaveMods reports whether each save says for itself which of the installed mods are on, so that the install has no mod set of its own: where a
// list says so, or tells those that are on from those that are off while the game has no list of its own.
func (d *Description) PerSaveMods() bool {
	for i := range d.Saves {
		for _, l := range d.Saves[i].Mods {
			if l.Own || l.On != "" && d.Active == nil {
				return true
			}
		}
	}
	return false
}

// MayBe are the kinds of mod that one which a save of a kind lists may be: the one that its list is of, those of the folder it is to be loaded from,
// or all, but the game's own content where a list of its own names that.
func (d *Description) MayBe(kind *Save, expects, of string) []*Mod {
	var kinds []*Mod
	for i := range d.Mods {
		m := &d.Mods[i]
		if of != "" && m.ID != of {
			continue
		}
		listed := slices.ContainsFunc(kind.Mods, func(l field.List) bool { return l.Expects == m.Folder })
		if expects != "" && m.Folder != expects || expects == "" && m.Base && listed {
			continue
		}
		kinds = append(kinds, m)
	}
	return kinds
}

// Sorted are ids of what stands below a key, in the order of the description.
func (d *Description) Sorted(key string, ids []string) []string {
	slices.SortFunc(ids, func(a, b string) int {
		return cmp.Or(cmp.Compare(d.Line(key+"."+a), d.Line(key+"."+b)), cmp.Compare(a, b))
	})
	return ids
}

// Line is the line of the description that a key stands in, from 1; 0 where it does not.
func (d *Description) Line(key string) int { return d.positions.Of(key).Line }

// CheckRules are the rules as package check takes them, one for each of Rules.
func (d *Description) CheckRules() []check.Rule { return d.rules }

// IsAccount reports whether a folder's name is that of an account.
func (d *Description) IsAccount(name string) bool {
	return d.account != nil && d.account.MatchString(name)
}
