// Package ledger knows which files in a game's folders belong to which mod, and what lies under them.
//
// An Entry is all of one mod that Ostrov brought in or adopted: where it came from, its files with digests, what of others it covers. Where
// several mods bring one path they form a pile: the one that comes last in the order lies on top, and what lay there before any of them is the
// bottom, which the lowest mod in place holds. Shelf turns any set of entries into what each path must hold (Want), so that dropping mods in
// any order returns each folder to its former bytes.
//
// The package is pure: it opens no file. Entries are stored by package home and written by package plan, together with the change that they
// tell of. An entry that comes from elsewhere (a snapshot on a shared drive) is read through Parse, which bounds and checks it.
package ledger

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/tree"
)

// Format is the number of the format of an Entry in a file. It is described in docs/formats.md.
const Format = 1

// State is where a mod's files are.
type State string

// States of a mod.
const (
	InPlace State = ""      // in the game's folders
	Off     State = "off"   // set aside by itself
	Aside   State = "aside" // set aside with all others, for a clean game
)

// Entry is what is known of one mod.
type Entry struct {
	Format  int      `json:"ostrov_ledger"`
	Game    string   `json:"game"`
	Install string   `json:"install"` // its address
	Kind    string   `json:"kind"`    // of mod, by the description
	ID      string   `json:"id"`
	Version string   `json:"version,omitempty"`
	Title   string   `json:"title,omitempty"`
	Mods    []string `json:"mods,omitempty"` // ids of all mods that came in one, where that is not just ID
	State   State    `json:"state,omitempty"`
	// Order counts what came in, from 1: of two mods with one path the later one lies on top, where no load order says otherwise.
	Order   int64     `json:"order"`
	Came    time.Time `json:"came"`
	Size    int64     `json:"size,omitempty"`    // of all its files, in bytes
	Adopted bool      `json:"adopted,omitempty"` // it lay there before Ostrov knew of it
	From    []Source  `json:"from,omitempty"`
	// Pinned is what a copy was made of that another program may update, and For the playthrough that it is for.
	Pinned string `json:"pinned,omitempty"`
	For    string `json:"for,omitempty"`
	// Edits are files as the player changed them for playthroughs that are not played now, by playthrough.
	Edits map[string][]File `json:"edits,omitempty"`
	// Turn counts what was set aside, from 1, so that what went last comes back first.
	Turn int64 `json:"turn,omitempty"`
	// Listed is how it stood in the game's list of active mods as it was set aside.
	Listed []Listing `json:"listed,omitempty"`
	// Covered are files of the game, or of nobody, that lay where the mod's lie.
	Covered []File `json:"covered,omitempty"`
	Files   []File `json:"files"`
}

// Listing is how a mod stood in the game's list of active mods.
type Listing struct {
	ID   string `json:"id"`
	Text string `json:"text"`
	At   int    `json:"at"` // from 1
	On   bool   `json:"on,omitempty"`
}

// Source is what one part of a mod came from.
type Source struct {
	Name   string      `json:"name"` // of the download, the folder or the checkout
	Part   string      `json:"part,omitempty"`
	Digest tree.Digest `json:"digest,omitzero"` // of the download
	Size   int64       `json:"size,omitempty"`  // in bytes
	URL    string      `json:"url,omitempty"`   // of a checkout's remote
	Commit string      `json:"commit,omitempty"`
	Branch string      `json:"branch,omitempty"`
	Choice string      `json:"choice,omitempty"` // the variant that was picked
}

// Place is where a file lies: a root, as game.Install.PlaceOf calls it, and a path in there.
type Place struct{ Root, Path string }

// File is one file, link or empty folder of a mod.
type File struct {
	Root   string      `json:"root"`
	Path   string      `json:"path"`
	Digest tree.Digest `json:"digest,omitzero"`
	Size   int64       `json:"size,omitempty"`
	Mode   fs.FileMode `json:"mode,omitempty"`
	Time   time.Time   `json:"time,omitzero"`
	Link   string      `json:"link,omitempty"` // what a link points to
	Dir    bool        `json:"dir,omitempty"`  // an empty folder
	// Came is the digest with which a file came, where the player's changes have been merged into it.
	Came tree.Digest `json:"came,omitzero"`
}

// Place is where the file lies.
func (f File) Place() Place { return Place{f.Root, f.Path} }

// Same reports whether two files hold the same.
func (f File) Same(o File) bool { return f.Digest == o.Digest && f.Link == o.Link && f.Dir == o.Dir }

// Entry is the file as it is written.
func (f File) Entry() tree.Entry {
	e := tree.Entry{Path: f.Path, Kind: tree.File, Size: f.Size, Mode: f.Mode.Perm(), ModTime: f.Time, Target: f.Link}
	switch {
	case f.Dir:
		e.Kind = tree.Dir
	case f.Link != "":
		e.Kind = tree.Link
	}
	return e
}

// Name is what to call the mod before people.
func (e *Entry) Name() string {
	if e.Title != "" {
		return e.Title
	}
	return e.ID
}

// Is reports whether an id means the mod, or one that came with it.
func (e *Entry) Is(id string) bool {
	if strings.EqualFold(e.ID, id) {
		return true
	}
	for _, m := range e.Mods {
		if strings.EqualFold(m, id) {
			return true
		}
	}
	return false
}

// Key tells the entries of a game apart.
func (e *Entry) Key() Key { return Key{e.Install, e.Kind, strings.ToLower(e.ID)} }

// Key is an install, a kind of mod and an id in lower case.
type Key struct {
	Install string `json:"install"`
	Kind    string `json:"kind"`
	ID      string `json:"id"`
}

// Bytes is how much the mod's files are.
func (e *Entry) Bytes() int64 {
	var n int64
	for _, f := range e.Files {
		n += f.Size
	}
	return n
}

// MaxSize bounds the file of an entry, in bytes, and MaxFiles how many files a mod has.
const (
	MaxSize  = 256 << 20
	MaxFiles = 400_000
)

// ErrDamaged says that an entry is not what Ostrov writes.
var ErrDamaged = errors.New("is no ledger of a mod")

// Parse reads an entry that comes from elsewhere: no path and no link leads out of its root.
func Parse(data []byte) (*Entry, error) {
	e, err := ParseOwn(data)
	if err != nil {
		return nil, err
	}
	for _, f := range slices.Concat(e.Files, e.Covered) {
		if f.Link != "" && leadsOut(f) {
			return nil, fmt.Errorf("%w: the link %.200q leads out of its folder", ErrDamaged, f.Path)
		}
	}
	return e, nil
}

// ParseOwn reads an entry of the player's own home. A mod may be a link to wherever the player keeps it.
func ParseOwn(data []byte) (*Entry, error) {
	if len(data) > MaxSize {
		return nil, fmt.Errorf("%d bytes: %w", len(data), ErrDamaged)
	}
	var e Entry
	if err := json.Unmarshal(data, &e); err != nil {
		return nil, fmt.Errorf("%w: %v", ErrDamaged, err)
	}
	if e.Format != Format {
		return nil, fmt.Errorf("%w of a format that is known: %d", ErrDamaged, e.Format)
	}
	if e.ID == "" || e.Game == "" || len(e.Files) > MaxFiles || len(e.Covered) > MaxFiles {
		return nil, fmt.Errorf("%w: it says not which mod, or has too many files", ErrDamaged)
	}
	for _, list := range [][]File{e.Files, e.Covered} {
		for _, f := range list {
			if !fs.ValidPath(f.Path) || f.Path == "." || strings.ContainsAny(f.Path, "\\\x00") || f.Root == "" {
				return nil, fmt.Errorf("%w: the path %.200q leads out of its folder", ErrDamaged, f.Path)
			}
		}
	}
	return &e, nil
}

// ParseHead reads the beginning of an entry as Encode writes it, without its files; ok is false where they do not begin in there.
func ParseHead(data []byte) (e *Entry, ok bool) {
	end := len(data)
	for _, key := range []string{"\n \"covered\": [", "\n \"files\": "} {
		if i := bytes.Index(data, []byte(key)); i >= 0 && i < end {
			end = i
		}
	}
	if end == len(data) {
		return nil, false
	}
	head := append(bytes.TrimRight(bytes.TrimSpace(data[:end]), ","), '}')
	if json.Unmarshal(head, &e) != nil || e.Format != Format || e.ID == "" {
		return nil, false
	}
	return e, true
}

// leadsOut reports whether a link leads out of its root.
func leadsOut(f File) bool {
	to := path.Join(path.Dir(f.Path), f.Link)
	return path.IsAbs(f.Link) || to == ".." || strings.HasPrefix(to, "../") || strings.Contains(f.Link, "\\")
}

// Encode is the text of an entry.
func (e *Entry) Encode() ([]byte, error) {
	e.Format, e.Size = Format, e.Bytes()
	data, err := json.MarshalIndent(e, "", " ")
	return append(data, '\n'), err
}
