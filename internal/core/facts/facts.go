// Package facts finds out what an install, its mod set, a save and a download are.
//
// It reads and writes nothing, not even the logbook: what looking found and the logbook does not know yet is returned as Learnt, for
// package record to write down. A save in a game's folder and one in a download are gathered by one step (Save), and package assess judges
// both. What cannot be read is part of the facts (Problem fields) and hinders nothing else. The package judges nothing and knows no
// commands.
package facts

import (
	"context"
	"errors"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/line"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// State is what one install is at one moment.
type State struct {
	Install *game.Install
	Called  string // its shortest address
	Version string
	Build   string // "" where the description does not say
	Account string // the player's own, or ""
	Folders []game.Located
	Groups  []game.FileGroup // settings, data and pictures
	Running []Process
	Rules   []check.Rule

	Mods mod.Set
	// Entries are what the ledger says of the mods, without their files.
	Entries     []*ledger.Entry
	List        []modlist.Listed
	Fingerprint modlist.Fingerprint

	Saves []*Save
	// Gone are saves that were there at the last look.
	Gone []Gone

	// Lines are the playthroughs of this install.
	Lines []logbook.Playthrough
	// Sharers are the install's neighbours: others that reach one of its folders of saves, by whatever way.
	Sharers []*game.Install
	// Unlisted are kinds of save that the game does not use as it is now, by id, with the condition that does not hold.
	Unlisted map[string]string
	// Former are folders of saves that a condition chose before.
	Former []Former

	Since  Since   // of the line that is played
	Others []Since // of each other line whose saves have changed since its newest snapshot

	// Log is what the game's log says of the last session, or nil; Logged is when it was written.
	Log     *game.LogRead
	Logged  time.Time
	LogPath string

	Base    *Base // what the clean game was recorded as, or nil
	Strays  Strays
	Orphans []Orphan
	Unmet   []game.Require // requirements of the game that do not hold

	Problems Problems
	Learnt   Learnt

	refs *references // nil where the description does not say where mods occur in saves
}

// Problems are why parts of a state are not known; nil where they are.
type Problems struct {
	Version error
	Mods    error // which of the mods are on
	Base    error
	Archive error    // the newest snapshot
	Away    []string // archives whose drives are not connected: what only they have is not known
	Groups  error
	Ledger  error
	Saves   []save.Unread // folders of saves
}

// Learnt is what looking found and the logbook does not know yet.
type Learnt struct {
	States      []logbook.State
	Evidence    []OfState
	Places      []logbook.Place
	Folders     []logbook.Folder
	Respelled   map[logbook.Key]logbook.Key // names that are spelled in another case now
	Claims      map[string][]logbook.Key    // saves that belong to a line from now on
	Mods        []modlist.Listed            // of versions that were never seen before
	Identifiers map[string]game.Added
}

// OfState is evidence of one state.
type OfState struct {
	Digest   tree.Digest
	Evidence logbook.Evidence
}

// Orphan is a settings file whose mod is gone.
type Orphan struct {
	Dir, Path string // Path is relative to Dir
	Mod       string // its id
}

// Open readies an install to be looked at: it is there, and keeps to its bounds.
func Open(ctx context.Context, h *home.Home, in *game.Install) error {
	if err := in.Open(); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return problem.New(problem.Do("games add", in.Game.ID).With("at", "DIR"), "%s is not where it was: %w", in.Address(), err)
		}
		return err
	}
	err := in.CheckBounds(ctx, h.Forbidden())
	if errors.Is(err, game.ErrUnconfirmed) {
		return problem.New(problem.Do("games add", in.Game.ID).With("at", in.Root).Note("shows it and asks"), "%w", err)
	}
	return err
}

// ModReader takes the digests of a state's mods. Keep reads them while it keeps them.
type ModReader func(ctx context.Context, st *State) error

// Gather finds out what an install is now.
func Gather(ctx context.Context, h *home.Home, in *game.Install) (*State, error) {
	return GatherReading(ctx, h, in, func(ctx context.Context, st *State) error { return ReadMods(ctx, h, st, false) })
}

// GatherReading is Gather with a way of its own to read the mods.
func GatherReading(ctx context.Context, h *home.Home, in *game.Install, read ModReader) (*State, error) {
	if err := Open(ctx, h, in); err != nil {
		return nil, err
	}
	st := &State{Install: in, Called: h.Called(in)}
	st.Learnt.Respelled = map[logbook.Key]logbook.Key{}
	var err error
	if st.Folders, err = in.Folders(ctx); err != nil {
		return nil, err
	}
	st.install(ctx, h)
	g := gathering{ctx, h, st, map[string]*archive.States{}}
	for _, step := range []func() error{func() error { return g.mods(read) }, g.identifiers, g.base, g.log, g.saves, g.sharers, g.orphans, g.requirements, g.places, g.lines, g.needs, g.since, g.stand} {
		if err := step(); err != nil {
			return nil, err
		}
	}
	return st, nil
}

// install reads what the game's own files say. What they do not say is a problem of what needs it.
func (st *State) install(ctx context.Context, h *home.Home) {
	in := st.Install
	var err error
	st.Version, _, st.Problems.Version = in.Version(ctx)
	st.Unlisted = map[string]string{}
	for i := range in.Game.Saves {
		k := &in.Game.Saves[i]
		if ok, why, err := in.Holds(ctx, k.If); err == nil && !ok {
			st.Unlisted[k.ID] = why
		}
	}
	if st.Build, err = in.Build(ctx); err != nil {
		h.Log.Warn("no build", "error", err)
	}
	if st.Rules, err = in.Rules(ctx); err != nil && st.Problems.Version == nil {
		st.Problems.Version = err
	}
	if st.Account, err = in.OwnAccount(ctx); err != nil && !errors.Is(err, fs.ErrNotExist) {
		h.Log.Warn("no account", "error", err)
	}
	if st.Groups, st.Problems.Groups = in.FileGroups(ctx); st.Problems.Groups != nil {
		h.Log.Warn("settings and pictures", "error", st.Problems.Groups)
	}
	if st.Running, err = Running(ctx, in.Game.Install.Process); err != nil {
		h.Log.Warn("processes cannot be listed", "error", err)
	}
}

// gathering is a state that is being gathered.
type gathering struct {
	ctx context.Context
	h   *home.Home
	*State
	known map[string]*archive.States // of lines, as far as they were asked for
}

func (g gathering) mods(read ModReader) error {
	var err error
	if g.Mods, err = mod.Scan(g.ctx, g.Install, g.h.Hasher); err != nil {
		return err
	}
	g.Problems.Mods = g.Mods.Problem
	if err := g.owned(); err != nil {
		return err
	}
	return read(g.ctx, g.State)
}

// ReadMods takes the digests of mods that have changed since they were last read, of all or of small ones, and lists them.
func ReadMods(ctx context.Context, h *home.Home, st *State, all bool) error {
	var total int64
	for _, m := range st.Mods.Mods {
		total += m.Size
	}
	if err := st.Mods.TakeDigests(ctx, h.Hasher, all, h.Counting("read", total)); err != nil {
		return err
	}
	first, err := h.Logbook.FirstSeen(ctx, st.Install.Game.ID)
	if err != nil {
		return err
	}
	st.Learnt.Mods = nil
	for _, m := range st.Mods.Mods {
		if m.Digest.IsZero() || m.Kind.Base {
			continue
		}
		listed := modlist.Listed{ID: m.ID, Version: m.Version, Digest: m.Digest}
		fresh := false
		if m.Altered, fresh = first.Altered(listed); fresh {
			st.Learnt.Mods = append(st.Learnt.Mods, listed)
		}
	}
	st.List = st.Mods.List()
	st.tellSources()
	st.Fingerprint = modlist.FingerprintOf(st.List)
	return nil
}

func (g gathering) saves() error {
	meter := g.h.Meter("read")
	found, unread, err := save.Scan(g.ctx, g.Install, g.h.Hasher, meter)
	if err != nil {
		return err
	}
	g.Problems.Saves = unread
	for _, sv := range found {
		s := &Save{Save: sv}
		if err := sv.TakeDigest(g.ctx, g.h.Hasher); err != nil {
			if g.ctx.Err() != nil {
				return g.ctx.Err()
			}
			s.Unread = err
		}
		meter.Did(sv.Size)
		g.refer(s)
		g.Saves = append(g.Saves, s)
	}
	return nil
}

func (g gathering) sharers() error {
	g.Sharers = Neighbours(g.ctx, g.h, g.Install, g.Folders)
	return nil
}

// Neighbours finds the other installs that reach a folder of saves of an install, whose folders are given.
func Neighbours(ctx context.Context, h *home.Home, in *game.Install, folders []game.Located) []*game.Install {
	var found []*game.Install
	mine := map[string]bool{}
	for _, f := range folders {
		if isSaves(in.Game, f.ID) {
			mine[f.Real] = true
		}
	}
	for _, other := range h.Installs {
		if other == in || other.Open() != nil {
			continue // one that has been moved away shares nothing now
		}
		theirs, err := other.Folders(ctx)
		if err != nil {
			h.Log.Warn("the folders of an install cannot be found", "install", other.Address(), "error", err)
			continue
		}
		if slices.ContainsFunc(theirs, func(f game.Located) bool { return mine[f.Real] && isSaves(other.Game, f.ID) }) {
			found = append(found, other)
		}
	}
	return found
}

func isSaves(d *game.Description, folder string) bool {
	return slices.ContainsFunc(d.Saves, func(k game.Save) bool { return k.Folder == folder })
}

// orphans finds settings of mods that are not installed.
func (g gathering) orphans() error {
	for _, group := range g.Groups {
		if group.Kind != game.SettingsFiles {
			continue
		}
		files, err := GroupFiles(g.ctx, group)
		if err != nil {
			return err
		}
		for _, e := range files {
			if id, by, ofMod := group.ModOf(e.Path); ofMod && !g.HasMod(id, by) {
				g.Orphans = append(g.Orphans, Orphan{group.Dir, e.Path, id})
			}
		}
	}
	return nil
}

// HasMod reports whether a mod of that id is installed, on or off; or, where by is a field, one of which that field says it.
func (st *State) HasMod(id, by string) bool {
	return slices.ContainsFunc(slices.Concat(st.Mods.Mods, st.Mods.Away), func(m *mod.Mod) bool {
		if by != "" {
			return strings.EqualFold(m.Fields[by], id)
		}
		return strings.EqualFold(m.ID, id)
	})
}

func (g gathering) requirements() error {
	var names []string
	for _, s := range g.Saves {
		names = append(names, s.Name)
	}
	on := slices.ContainsFunc(g.List, func(m modlist.Listed) bool { return m.On })
	var err error
	g.Unmet, err = g.Install.Unmet(g.ctx, names, on)
	return err
}

// SeveralLines reports whether the saves that are there may be of more than one line, so that it is worth saying whose each is.
func (st *State) SeveralLines() bool {
	if len(st.Lines) > 1 {
		return true
	}
	return slices.ContainsFunc(st.Saves, func(s *Save) bool { return s.Line != "" && (len(st.Lines) == 0 || s.Line != st.Lines[0].Name) })
}

// Current is the playthrough that new saves belong to, or nil.
func (st *State) Current() *logbook.Playthrough { return line.Active(st.Lines) }

// needs finds out what each save needs.
func (g gathering) needs() error {
	for _, s := range g.Saves {
		if s.Digest.IsZero() {
			continue
		}
		var err error
		if s.Needs, err = g.h.Logbook.Needs(g.ctx, s.Digest, s.fresh...); err != nil {
			return err
		}
	}
	return nil
}

// log reads the game's log of the last session.
func (g gathering) log() error {
	d := g.Install.Game
	if d.Log == nil {
		return nil
	}
	path, ok, err := g.Install.FilePath(g.ctx, d.Log.In)
	if err != nil || !ok {
		return err
	}
	e, err := tree.Stat(filepath.Dir(path), filepath.Base(path))
	if errors.Is(err, fs.ErrNotExist) || err == nil && e.Kind != tree.File {
		return nil
	}
	var read game.LogRead
	if err == nil {
		g.h.Hasher.Once(path+"\x00log", d.Digest, filepath.Dir(path), slices.Values([]tree.Entry{e}), &read, func() bool {
			read, err = readLog(d, path)
			return err == nil
		})
	}
	if err != nil {
		g.h.Log.Warn("the game's log cannot be read", "file", path, "error", err)
		return nil
	}
	g.Log, g.Logged, g.LogPath = &read, e.ModTime, path
	return nil
}

// Pin opens an install that is not known yet and finds its folders. Those that come out of values of the game's own files are pinned as
// they are now: registering the install confirms them.
func Pin(ctx context.Context, h *home.Home, in *game.Install) ([]game.Located, error) {
	if err := in.Open(); err != nil {
		return nil, problem.New(problem.Do("games add", in.Game.ID).With("at", "DIR"), "%w", err)
	}
	folders, err := in.Folders(ctx)
	if err != nil {
		return nil, err
	}
	for _, f := range folders {
		if f.Value != "" {
			in.Pins[f.Value] = f.Path
		}
	}
	return folders, in.CheckBounds(ctx, h.Forbidden())
}
