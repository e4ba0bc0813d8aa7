// Package modlist is mod lists as such: what a mod set consists of, in which order, how two differ, and the file that holds one.
//
// It knows no game, opens no file and never asks where a mod lies: package mod finds mods, and logbook and archive keep their lists.
package modlist

import (
	"fmt"
	"slices"
	"strings"

	"github.com/zeebo/blake3"

	"ostrov/internal/core/tree"
)

// Listed is one mod as a mod list has it: what the fingerprint is taken over, and what logbook and archive keep.
type Listed struct {
	ID      string      `json:"id"`
	Version string      `json:"version,omitempty"`
	Title   string      `json:"title,omitempty"`
	Digest  tree.Digest `json:"digest,omitzero"`
	On      bool        `json:"on"`
	// Altered tells that it is not what was first seen of this version.
	Altered bool `json:"altered,omitempty"`
	// Needs are requirements that the player has stated, as "ID RANGE"; those that the mod's own files say are not among them.
	Needs []string `json:"needs,omitempty"`
	// Source and Download are where it came from, where that is known: the name of the download and its digest, or a checkout's remote and commit.
	Source   string `json:"source,omitempty"`
	Download string `json:"download,omitempty"`
}

// Name is what to call the mod before people.
func (m Listed) Name() string { return Name(m.Title, m.ID) }

// Name is a title, or the id of what has none.
func Name(title, id string) string {
	if title != "" {
		return title
	}
	return id
}

// Names are the names of a list, for people.
func Names(list []Listed) []string {
	names := make([]string, len(list))
	for i, m := range list {
		names[i] = m.Name()
	}
	return names
}

// Fingerprint names a mod set in six letters.
type Fingerprint string

// letters are those of fingerprints: no vowels, so that they never spell a word.
const letters = "bcdfghjklmnpqrstvwxyz"

// FingerprintOf is the fingerprint of a mod list: over the lines "ID VERSION DIGEST" of the mods that are on, in their order.
func FingerprintOf(list []Listed) Fingerprint {
	h := blake3.New()
	for _, m := range list {
		if m.On {
			fmt.Fprintf(h, "%q %q %s\n", strings.ToLower(m.ID), m.Version, m.Digest.Hex())
		}
	}
	sum := h.Sum(nil)
	var b [6]byte
	for i := range b {
		b[i] = letters[int(sum[i])%len(letters)]
	}
	return Fingerprint(b[:])
}

// Needed is one mod that a state of a save needs.
type Needed struct {
	Listed
	Doubtful bool   `json:"doubtful,omitempty"` // it may have changed since the save was written
	Range    string `json:"range,omitempty"`    // of versions that the save needs, as it says it
	Own      string `json:"own,omitempty"`      // the game's own digest of the mod, as the save says it
	From     string `json:"from,omitempty"`     // the folder that the save wants it to be loaded from
	Kind     string `json:"kind,omitempty"`     // the kind of mod that it is, where the save names only mods of that kind
}

// File is a mod list in a file of its own. Its format is in docs/formats.md.
type File struct {
	Format      int         `json:"ostrov_mods"`
	Game        string      `json:"game"`
	Version     string      `json:"version,omitempty"` // of the game
	Fingerprint Fingerprint `json:"fingerprint"`
	Ordered     bool        `json:"ordered,omitempty"` // in load order
	Mods        []Listed    `json:"mods"`
}

// Format is the number of the format of File.
const Format = 1

// NewFile is the file of a list.
func NewFile(game, version string, ordered bool, list []Listed) File {
	return File{Format, game, version, FingerprintOf(list), ordered, append([]Listed{}, list...)}
}

// Identity is a text that two lists have in common if the same mods are on in the same versions, in whatever order, altered or not. It tells
// whether a save was written under other mods.
func Identity(list []Listed) string {
	var on []string
	for _, m := range list {
		if m.On {
			on = append(on, strings.ToLower(m.ID)+" "+m.Version)
		}
	}
	slices.Sort(on)
	return tree.ListDigest([]tree.Named{{Path: strings.Join(on, "\n")}}).Hex()
}
