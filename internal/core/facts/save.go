package facts

import (
	"context"
	"errors"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"

	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// Save is what is known of one save: one in a game's folder, or one in a download, which has no folder, no line and no place.
type Save struct {
	*save.Save
	Needs logbook.Needs
	// Refs is how often it refers to each mod; its Counts are nil where that was not looked for.
	Refs referred
	// Unread is why its content could not be read through, or nil.
	Unread error
	// Line is the playthrough that it belongs to; "" where unassigned.
	Line string
	// Label is the player's own words for it, or "".
	Label string
	// Seen tells that an earlier look found a save at its place.
	Seen bool
	// Kept tells that the newest snapshot has it in just this state.
	Kept bool
	// Shrank is what it was at the last look, where it has lost most of its size since; else nil.
	Shrank *logbook.Place
	// Was is what it was at the last look, where its content is another now; else nil.
	Was *logbook.Place
	// Again is the address of the newest snapshot that has it in just this state, where it is not the state of the last look; else "".
	Again string
	// WasPlayed is how long it had been played at the last look, where that state is a kept one and the description reads it; else 0.
	WasPlayed time.Duration
	// Whole is the address of the newest snapshot that has it whole, where it is Broken now, or as it Was, where it is an older state Again; else,
	// or where there is none, "".
	Whole string

	under logbook.Under      // what the install was when this state was first seen here
	refs  *references        // by which Refs were counted
	fresh []logbook.Evidence // what the logbook does not know yet
}

// Broken is how the save is not whole, in a word that a snapshot marks it with; "" where it is.
func (s *Save) Broken() string {
	switch {
	case s.Size == 0:
		return "empty"
	case s.Shrank != nil:
		return "cut"
	case s.Unread != nil && !s.BeingWritten(), s.Facts.Damaged():
		return "damaged"
	}
	return ""
}

// BeingWritten reports whether the save could not be read because it kept changing meanwhile.
func (s *Save) BeingWritten() bool { return errors.Is(s.Unread, tree.ErrBeingWritten) }

// Key is what the logbook calls the save's place.
func (s *Save) Key() logbook.Key { return KeyAt(s.Folder, s.Name) }

// KeyAt is what the logbook calls a place.
func KeyAt(folder game.Located, name string) logbook.Key {
	return logbook.Key{Folder: folder.Real, Name: name}
}

// Stands is what the logbook is to know of where the save stands.
func (s *Save) Stands(seen time.Time) logbook.Place {
	return logbook.Place{Key: s.Key(), Digest: s.Digest, Title: s.Facts.Title(), Slot: s.SlotShown(), Size: s.Size, Modified: s.Modified, Seen: seen, Under: s.under, Label: s.Label}
}

// Place is what a snapshot calls the save's place; see archive.KeptSave.
func (s *Save) Place() string { return s.Folder.ID + "\x00" + s.Folder.Account + "\x00" + s.Name }

// Path is where the save lies.
func (s *Save) Path() string { return filepath.Join(s.Folder.Path, s.Name) }

// Called is what to call the save before people: its slot, else its name.
func (s *Save) Called() string {
	if s.HasSlot {
		return "slot " + s.SlotShown()
	}
	return s.Name
}

// Identifiers reports whether the identifiers of a mod are known, so that the save was searched for them, and how often they occur.
func (s *Save) Identifiers(id string) (known bool, count int) {
	if s.refs == nil {
		return false, 0
	}
	_, known = s.refs.titles[strings.ToLower(id)]
	known = known && s.Refs.Whole && !s.refs.partly[strings.ToLower(id)]
	for other, c := range s.Refs.Counts {
		if strings.EqualFold(other, id) {
			count, known = c.N, true
		}
	}
	return known, count
}

// learn notes what a save of an install says of itself, what it descends from, and, where nothing better is known, what can be inferred
// from what is installed.
func (g gathering) learn(s *Save, before logbook.Place) {
	now := g.h.Now()
	g.Learnt.States = append(g.Learnt.States, logbook.State{Digest: s.Digest, Game: g.Install.Game.ID, Kind: s.Kind.ID, Title: s.Facts.Title(), Size: s.Size})
	s.fresh = append(s.fresh, written(g.Install.Game, s.Facts, now))
	if !before.Digest.IsZero() && before.Digest != s.Digest {
		s.fresh = append(s.fresh, logbook.Evidence{Kind: check.Descends, At: now, Parent: before.Digest, Across: g.across(before, s.under)})
	}
	if e := g.inferred(s, now); e != nil {
		s.fresh = append(s.fresh, *e)
	}
	for _, e := range s.fresh {
		g.Learnt.Evidence = append(g.Learnt.Evidence, OfState{s.Digest, e})
	}
}

// across is what is another now than what the former state of a save was seen under, or is known to need: a state that was brought back may be
// older than the install.
func (g gathering) across(before logbook.Place, now logbook.Under) logbook.Across {
	across := before.Under.Across(now)
	needs, err := g.h.Logbook.Needs(g.ctx, before.Digest)
	if err != nil {
		return logbook.Across{Version: true, Mods: true}
	}
	across.Version = across.Version || needs.Version != "" && needs.Version != now.Version
	if needs.ModsEvidence == "" || needs.ModsEvidence == check.Stated { // statements are about single mods
		return across
	}
	var mods []modlist.Listed
	for _, m := range needs.Mods {
		if m.Kind != "" { // the save names mods of a kind itself, and the install may have others of it
			return across
		}
		mods = append(mods, m.Listed)
	}
	across.Mods = across.Mods || modlist.Identity(mods) != now.Mods
	return across
}

// present is what the install is now, for telling later whether it has changed.
func (g gathering) present() logbook.Under {
	if g.Problems.Mods != nil {
		return logbook.Under{Version: g.Version}
	}
	return logbook.Under{Version: g.Version, Mods: modlist.Identity(g.List)}
}

// Written is what the install was when the newest save of a line was first seen as it is, and when that was written; nothing where that is not
// known.
func (st *State) Written(line string) (u logbook.Under, at time.Time) {
	for _, s := range st.Saves {
		if s.Line == line && s.Modified.After(at) && s.under.Mods != "" {
			u, at = s.under, s.Modified
		}
	}
	return u, at
}

// inferred is what can be told from what is installed of that which nothing else says, or nil. Of what changed since the save's former state
// nothing can be told: it may have been written before the change or after it.
func (g gathering) inferred(s *Save, now time.Time) *logbook.Evidence {
	needs, err := g.h.Logbook.Needs(g.ctx, s.Digest, s.fresh...)
	if err != nil {
		return nil
	}
	e := logbook.Evidence{Kind: check.Inferred, At: now}
	if needs.Elsewhere {
		return nil
	}
	if needs.Version == "" && !needs.Across.Version {
		e.Version = g.Version
	}
	if needs.ModsEvidence == "" && !needs.Across.Mods && len(g.Install.Game.Mods) > 0 && !s.Kind.NoMods && g.Problems.Mods == nil {
		e.Mods = InferMods(g.Mods, s.Kind, s.Modified)
	}
	if e.Version == "" && e.Mods == nil {
		return nil
	}
	return &e
}

// written is what a save says of itself as evidence, perhaps nothing.
func written(d *game.Description, said save.Facts, now time.Time) logbook.Evidence {
	e := logbook.Evidence{Kind: check.Written, At: now, Version: said.Version(), Reading: d.Digest.Hex()[:16]}
	if said.ModsKnown {
		e.Mods = []modlist.Needed{}
		for _, item := range said.Mods {
			need := modlist.Needed{Listed: modlist.Listed{ID: item.ID, Version: item.Version, Title: item.Title, On: true}, Range: item.Range, From: item.Expects, Kind: item.Kind}
			var err error
			if need.Digest, err = tree.ParseDigest(item.Digest); err != nil { // it is the game's own
				need.Own = strings.ToLower(item.Digest)
			}
			e.Mods = append(e.Mods, need)
		}
	}
	return e
}

// InferMods are the mods that were installed when a save of a kind was written, as far as times on disk tell, but for those that such a save lists
// itself: those of which anything is younger than the save are doubtful. Unpacking keeps old times, so the rest is not certain either.
func InferMods(set mod.Set, kind *game.Save, written time.Time) []modlist.Needed {
	needed := []modlist.Needed{}
	for _, m := range set.Mods {
		if m.On && !m.Kind.Base && !kind.Lists(m.Kind.ID) {
			needed = append(needed, modlist.Needed{
				Listed:   modlist.Listed{ID: m.ID, Version: m.Version, Title: m.Title, Digest: m.Digest, On: true},
				Doubtful: m.Latest.After(written),
			})
		}
	}
	return needed
}

// FolderWords are what a folder of that id and account ("" where it belongs to none) may be called in addresses, the shortest first: its account,
// its id, or both.
func FolderWords(id, account string) []string {
	if account == "" {
		return []string{id}
	}
	return []string{account, id, id + ":" + account}
}

// isCalled reports whether a word of an address means a folder.
func isCalled(f game.Located, word string) bool {
	return slices.Contains(FolderWords(f.ID, f.Account), word) || slices.Contains(f.Aliases, word)
}

// Meant are the saves that a slot, as the game shows it, or a name could mean; folder narrows it down (see FolderWords).
func (st *State) Meant(folder, name string) []*Save {
	var found []*Save
	for _, s := range st.Saves {
		if folder != "" && !isCalled(s.Folder, folder) {
			continue
		}
		if s.HasSlot && strings.EqualFold(s.SlotShown(), name) || s.Name == name || st.Install.FoldsCase() && strings.EqualFold(s.Name, name) {
			found = append(found, s)
		}
	}
	return found
}

// Matching are the saves in a folder, "" for all, whose slot or name matches a pattern.
func (st *State) Matching(folder, pattern string) []*Save {
	var found []*Save
	for _, s := range st.Saves {
		if (folder == "" || isCalled(s.Folder, folder)) && (doublestar.MatchUnvalidated(pattern, s.Name) || s.HasSlot && doublestar.MatchUnvalidated(pattern, s.SlotShown())) {
			found = append(found, s)
		}
	}
	return found
}

// Find finds the one save that a slot or a name means; see Meant.
func (st *State) Find(folder, name string) (*Save, error) {
	found := st.Meant(folder, name)
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		var names []string
		for _, s := range st.Saves {
			names = append(names, s.Handle())
		}
		return nil, problem.Usage(problem.Advise("there are: %s", strings.Join(names, ", ")), "%s has no save %q", st.Install.Address(), name)
	}
	var hints problem.Hints
	for _, s := range found {
		hints = hints.Or(problem.Advise("%s", st.Address(s)))
	}
	return nil, problem.Usage(hints, "%q could be several saves: say which", name)
}

// Address is how commands name a save: as short as it is unique.
func (st *State) Address(s *Save) string {
	if folder := st.folderWord(s); folder != "" {
		return st.Called + ":" + folder + "/" + s.Handle()
	}
	return st.Called + "/" + s.Handle()
}

// folderWord is the shortest word for the folder of a save that tells it from others of the same slot or name, "" where there are none.
func (st *State) folderWord(s *Save) string {
	same := func(word string) int {
		n := 0
		for _, other := range st.Saves {
			if strings.EqualFold(other.Handle(), s.Handle()) && (word == "" || isCalled(other.Folder, word)) {
				n++
			}
		}
		return n
	}
	words := FolderWords(s.Folder.ID, s.Folder.Account)
	if same("") < 2 {
		return ""
	}
	for _, word := range words {
		if same(word) == 1 {
			return word
		}
	}
	return words[len(words)-1]
}

// Slot is how restore --slot names a save: its slot or name, with its folder before it where that is needed.
func (st *State) Slot(s *Save) string {
	if folder := st.folderWord(s); folder != "" {
		return folder + "/" + s.Handle()
	}
	return s.Handle()
}

// At is the save that has a name in a folder now, or nil.
func (st *State) At(folder game.Located, name string) *Save {
	for _, s := range st.Saves {
		if s.Folder.Path == folder.Path && (s.Name == name || st.Install.FoldsCase() && strings.EqualFold(s.Name, name)) {
			return s
		}
	}
	return nil
}

// SavesFolder is the folder of an id that a save goes into: that of account, else the player's own, else the only one there is.
func (st *State) SavesFolder(id, account string) (game.Located, error) {
	var found []game.Located
	for _, f := range st.Folders {
		if f.ID == id && !f.Managed {
			found = append(found, f)
		}
	}
	var names []string
	for _, f := range found {
		if account != "" && isCalled(f, account) || account == "" && st.Account != "" && f.Of(st.Account) {
			return f, nil
		}
		names = append(names, FolderWords(f.ID, f.Account)[0])
	}
	if account != "" && len(found) > 0 {
		return game.Located{}, problem.Usage(problem.Advise("there are: %s", strings.Join(names, ", ")), "%s has no folder of account %s", st.Called, account)
	}
	switch len(found) {
	case 0:
		return game.Located{}, problem.New(problem.Advise("start the game once"), "%s has no folder for saves yet", st.Called)
	case 1:
		return found[0], nil
	}
	var hints problem.Hints
	for _, name := range names {
		hints = hints.Or(problem.Do("place", "FILE").With("in", name))
	}
	return game.Located{}, problem.Usage(hints, "%s has several folders for saves: say into which", st.Called)
}

// Owner is whose a save is: by what it says, or by the account folder that it lies in.
func (st *State) Owner(s *Save) string {
	if s.Facts.Owner != "" || s.Kind.Owner == nil {
		return s.Facts.Owner
	}
	for _, part := range strings.Split(path.Dir(s.Name), "/") {
		if st.Install.Game.IsAccount(part) {
			return part
		}
	}
	return ""
}

// SameContent is the save that has this content now, or nil.
func (st *State) SameContent(d tree.Digest) *Save {
	for _, s := range st.Saves {
		if !d.IsZero() && s.Digest == d {
			return s
		}
	}
	return nil
}

// FindSave gathers the install that an address names, and finds the save in it.
func FindSave(ctx context.Context, h *home.Home, address string) (*State, *Save, error) {
	in, folder, name, err := h.SaveAddress(address)
	if err != nil {
		return nil, nil, err
	}
	st, err := Gather(ctx, h, in)
	if err != nil {
		return nil, nil, err
	}
	s, err := st.Find(folder, name)
	return st, s, err
}

// WithoutSaves is the state with some of its saves away.
func (st *State) WithoutSaves(away func(*Save) bool) *State {
	then := *st
	then.Saves = slices.DeleteFunc(slices.Clone(st.Saves), away)
	return &then
}
