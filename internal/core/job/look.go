package job

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/change"
	"ostrov/internal/core/check"
	"ostrov/internal/core/form"
	"ostrov/internal/core/game"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/refer"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// Look is the state of one install at a glance.
type Look struct {
	Install     *game.Install
	Called      string // its shortest address
	Version     string
	Build       string // "" where the description does not say
	Mods        mod.Set
	List        []mod.Listed
	Fingerprint mod.Fingerprint
	Unmet       []mod.Unmet
	Folders     []game.Located
	Saves       []*SaveState
	// Findings are about the install, not about one save.
	Findings []check.Finding
	Running  []Process
	Account  string // the player's own, or ""
	// Recovered tells that an interrupted change was put back first.
	Recovered bool
	Snapshot  *archive.Snapshot // the newest of the current playthrough, or nil
	Since     Since
	// Playthroughs of this install.
	Playthroughs []logbook.Playthrough

	// Log is what the game's log says of the last session, or nil.
	Log *game.LogRead

	logged  time.Time // when the log was written
	rules   []check.Rule
	refs    *referring      // nil where the description does not say where mods occur in saves
	strange []string        // what a clean game does not have, as far as one was recorded
	sharers []*game.Install // that have a folder of saves in common with it
	// orphaned are settings of mods that are gone.
	orphaned []orphan
}

// SaveState is one save with what is known of it.
type SaveState struct {
	*save.Save
	Needs       logbook.Needs
	Findings    []check.Finding
	Verdict     check.Verdict
	Playthrough string // "" where unassigned
	// Kept tells that the newest snapshot has it in just this state.
	Kept bool
	// Refs is how often it refers to each mod; nil where that was not looked for.
	Refs refer.Counts

	refs *referring // by which Refs were counted
}

// Key is what the logbook calls the save's place.
func (s *SaveState) Key() logbook.Key { return keyOf(s.Save) }

// keyPlace is what the save's place is called in notes.
func keyPlace(s *save.Save) string { return filepath.Join(s.Folder.Path, s.Name) }

func keyOf(s *save.Save) logbook.Key {
	folder := s.Folder.ID
	if s.Folder.Account != "" {
		folder += ":" + s.Folder.Account
	}
	return logbook.Key{Folder: folder, Name: s.Name}
}

// Since is what changed since the newest snapshot.
type Since struct {
	New, Changed int // saves
	Version      string
	Mods         []ModChange
}

// ModChange is one difference between two mod lists.
type ModChange struct {
	What string     `json:"what"` // added, dropped, updated, altered, on, off or reordered
	Mod  mod.Listed `json:"mod"`
	Was  string     `json:"was,omitempty"` // the version before
}

// ready opens an install, checks its bounds and puts in order what an interrupted change left.
func (s *Session) ready(ctx context.Context, in *game.Install) (recovered bool, err error) {
	if err := in.Open(); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return false, problem("ostrov games add "+in.Game.ID+" --at DIR", "%s is not where it was: %w", in.Address(), err)
		}
		return false, err
	}
	if err := in.CheckBounds(ctx, s.forbidden()); err != nil {
		return false, err
	}
	roots, listed, err := s.changeable(ctx, in)
	if err != nil {
		return false, err
	}
	if recovered, err = change.Recover(ctx, roots, listed); err != nil {
		return recovered, err
	}
	return recovered, s.catchUp(ctx, in)
}

// changeable are the folders of an install that Ostrov changes, and those in or directly beside which nothing may be staged: the game
// lists what is in them, and account folders by their parent.
func (s *Session) changeable(ctx context.Context, in *game.Install) (roots, listed []string, err error) {
	folders, err := in.Folders(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, f := range folders {
		listed = append(listed, f.Path)
		if f.Account != "" {
			listed = append(listed, filepath.Dir(f.Path))
		}
		if !f.Managed {
			roots = append(roots, f.Path)
		}
	}
	groups, err := in.FileGroups(ctx)
	for _, g := range groups {
		roots = append(roots, g.Dir)
	}
	return roots, listed, err
}

// Look looks at an install and records what it sees. Within a session it looks once.
func (s *Session) Look(ctx context.Context, in *game.Install) (*Look, error) {
	if l, ok := s.looks[in]; ok {
		return l, nil
	}
	return s.look(ctx, in, func(ctx context.Context, l *Look) error { return s.readMods(ctx, l, false) })
}

// look looks anew; read is what takes the digests of the mods.
func (s *Session) look(ctx context.Context, in *game.Install, read func(context.Context, *Look) error) (*Look, error) {
	recovered, err := s.ready(ctx, in)
	if err != nil {
		return nil, err
	}
	l := &Look{Install: in, Called: s.called(in), Recovered: recovered}
	if l.Folders, err = in.Folders(ctx); err != nil {
		return nil, err
	}
	if l.Version, _, err = in.Version(ctx); err != nil {
		l.Findings = append(l.Findings, check.New(check.NoRule, "", "the game's version cannot be read: "+err.Error()))
	}
	if l.Build, err = in.Build(ctx); err != nil {
		s.Log.Warn("no build", "error", err)
	}
	if l.rules, err = in.Rules(ctx); err != nil {
		return nil, err
	}
	if l.Account, err = in.OwnAccount(ctx); err != nil && !errors.Is(err, fs.ErrNotExist) {
		s.Log.Warn("no account", "error", err)
	}
	if err := s.lookAtMods(ctx, l, read); err != nil {
		return nil, err
	}
	if err := s.identify(ctx, l); err != nil {
		return nil, err
	}
	if err := s.lookAtBase(ctx, l); err != nil {
		return nil, err
	}
	if err := s.lookAtLog(ctx, l); err != nil {
		return nil, err
	}
	if l.Running, err = Running(ctx, in.Game.Install.Process); err != nil {
		s.Log.Warn("processes cannot be listed", "error", err)
	}
	saves, err := save.Scan(ctx, in, s.Hasher)
	if err != nil {
		return nil, err
	}
	for _, sv := range saves {
		st := &SaveState{Save: sv}
		if err := sv.TakeDigest(ctx, s.Hasher); err != nil {
			if !errors.Is(err, tree.ErrBeingWritten) {
				return nil, err
			}
			st.Findings = append(st.Findings, check.New(check.BeingWritten, "", sv.Name+" is being written"))
		}
		s.refer(ctx, l, st)
		l.Saves = append(l.Saves, st)
	}
	if l.sharers, err = s.sharers(ctx, l); err != nil {
		return nil, err
	}
	l.noteSharers()
	l.neverStarted()
	if err := l.orphans(ctx); err != nil {
		return nil, err
	}
	if err := l.requirements(ctx); err != nil {
		return nil, err
	}
	if err := s.record(ctx, l); err != nil {
		return nil, err
	}
	if err := s.belongings(ctx, l); err != nil {
		return nil, err
	}
	for _, st := range l.Saves {
		if st.Needs, err = s.Logbook.Needs(ctx, st.Digest); err != nil {
			return nil, err
		}
		st.Findings = append(st.Findings, l.judge(st.Kind, st.Facts, st.Needs, st.refs, st.Refs)...)
		check.Sort(st.Findings)
		st.Verdict = check.Sum(st.Findings)
	}
	if err := s.sinceSnapshot(ctx, l); err != nil {
		return nil, err
	}
	s.looks[in] = l
	return l, nil
}

func (s *Session) lookAtMods(ctx context.Context, l *Look, read func(context.Context, *Look) error) error {
	var err error
	if l.Mods, err = mod.Scan(ctx, l.Install, s.Hasher); err != nil {
		return err
	}
	if err := read(ctx, l); err != nil {
		return err
	}
	if err := s.markAltered(ctx, l); err != nil {
		return err
	}
	l.List = l.Mods.List()
	l.Fingerprint = mod.FingerprintOf(l.List)
	if l.Install.Game.PerSaveMods() {
		return nil // each save says which of the installed mods are on
	}
	l.togetherness()
	for _, m := range l.Mods.Mods {
		if m.HiddenBy != "" {
			l.Findings = append(l.Findings, check.New(check.ModHidden, m.Name(), "in "+m.Dir()+", hidden by "+m.HiddenBy))
		}
	}
	return nil
}

// readMods takes the digests of mods that have changed since they were last read.
func (s *Session) readMods(ctx context.Context, l *Look, all bool) error {
	var total int64
	for _, m := range l.Mods.Mods {
		total += m.Size
	}
	return l.Mods.TakeDigests(ctx, s.Hasher, all, s.counting("read", total))
}

// markAltered marks the mods whose content is not that which was first seen of their version.
func (s *Session) markAltered(ctx context.Context, l *Look) error {
	var seen []mod.Listed
	for _, m := range l.Mods.Mods {
		if !m.Digest.IsZero() && !m.Kind.Base {
			seen = append(seen, mod.Listed{ID: m.ID, Version: m.Version, Digest: m.Digest})
		}
	}
	altered, err := s.Logbook.Altered(ctx, l.Install.Game.ID, seen, s.Now())
	for _, m := range l.Mods.Mods {
		m.Altered = altered[m.Digest]
	}
	return err
}

// togetherness notes which mods do not go with each other or with the game.
func (l *Look) togetherness() {
	order := l.Install.Game.Order()
	l.Unmet = l.Mods.Unmet(order)
	for _, u := range l.Unmet {
		need := u.Need.ID
		if !u.Need.Range.IsAny() {
			need += " " + u.Need.Range.String()
		}
		l.Findings = append(l.Findings, check.New(check.RequirementMissing, u.Mod.Name(), fmt.Sprintf("needs %s: %s", need, u.Why)))
	}
	for _, c := range l.Mods.Clashes() {
		f := check.New(check.ModsCollide, c.Mod.Name(), "cannot be on with "+c.With.Name())
		f.Remedy = "switch " + c.Mod.Name() + " or " + c.With.Name() + " off"
		l.Findings = append(l.Findings, f)
	}
	for _, m := range l.Mods.Mods {
		if m.On && l.Version != "" && !m.Supports.IsAny() && !m.Supports.Holds(order, l.Version) {
			l.Findings = append(l.Findings, check.New(check.ModUnsupported, m.Name(), fmt.Sprintf("is made for %s, you have %s", m.Supports, l.Version)))
		}
	}
}

// requirements notes what the game needs for its saves to load as they are and is not so.
func (l *Look) requirements(ctx context.Context) error {
	var names []string
	for _, st := range l.Saves {
		names = append(names, st.Name)
	}
	on := false
	for _, m := range l.List {
		on = on || m.On
	}
	unmet, err := l.Install.Unmet(ctx, names, on)
	for _, r := range unmet {
		f := check.New(check.SettingNeeded, "", r.Fix)
		f.Effect = r.Effect
		f.Remedy = r.Fix
		l.Findings = append(l.Findings, f)
	}
	return err
}

// hasMod reports whether a mod of that id is installed, on or off.
func (l *Look) hasMod(id string) bool {
	return slices.ContainsFunc(l.Mods.Mods, func(m *mod.Mod) bool { return strings.EqualFold(m.ID, id) })
}

func (l *Look) neverStarted() {
	for i := range l.Install.Game.Saves {
		id := l.Install.Game.Saves[i].Folder
		found := false
		for _, f := range l.Folders {
			found = found || f.ID == id && (f.Exists || f.Create)
		}
		if !found {
			l.Findings = append(l.Findings, check.New(check.NeverStarted, "", "the folder "+id+" is not there yet: start the game once"))
		}
	}
}

// have is what the install has, for a check of a save of the kind.
func (l *Look) have(kind *game.Save) check.Have {
	return check.Have{Version: l.Version, Build: l.Build, Strange: l.strange, Mods: l.Mods.ForCheck(), Ordered: l.Mods.Ordered, HasMods: len(l.Install.Game.Mods) > 0 && !kind.NoMods, PerSave: l.Install.Game.PerSaveMods()}
}

// judge checks one save against the install. Of a save that cannot be read nothing else is said: what it needs is not known to be right.
func (l *Look) judge(kind *game.Save, facts save.Facts, needs logbook.Needs, by *referring, refs refer.Counts) []check.Finding {
	if facts.Problem != nil {
		return []check.Finding{check.New(check.Damaged, "", reading(facts.Problem))}
	}
	return check.Judge(l.needsFor(facts, needs, by, refs), l.have(kind), l.rules, l.Install.Game.Order())
}

// reading says why a file cannot be read, without words from inside.
func reading(err error) string {
	text := strings.ReplaceAll(err.Error(), form.ErrDamaged.Error()+": ", "")
	return strings.Replace(text, "unexpected EOF", "ends too early", 1)
}

// Current is the playthrough that new saves belong to, or nil.
func (l *Look) Current() *logbook.Playthrough {
	for i := range l.Playthroughs {
		if l.Playthroughs[i].Active || len(l.Playthroughs) == 1 {
			return &l.Playthroughs[i]
		}
	}
	return nil
}

func (s *Session) sinceSnapshot(ctx context.Context, l *Look) error {
	p := l.Current()
	if p == nil {
		return nil
	}
	a, err := s.Archive(false)
	if err != nil {
		return nil // no archive yet, or its drive is away: then nothing is said of snapshots
	}
	// what was kept on purpose says more than what was kept before a change
	l.Snapshot, err = a.Newest(p.Name, func(s *archive.Snapshot) bool { return s.Safety == "" && !s.ByHand })
	if err == nil && l.Snapshot == nil {
		l.Snapshot, err = a.Newest(p.Name, archive.Any)
	}
	if err != nil || l.Snapshot == nil {
		return err
	}
	kept := map[string]tree.Digest{}
	for _, k := range l.Snapshot.Saves {
		kept[k.Folder+"\x00"+k.Account+"\x00"+k.Name] = k.Digest
	}
	for _, st := range l.Saves {
		if st.Playthrough != p.Name {
			continue
		}
		switch d, ok := kept[st.Folder.ID+"\x00"+st.Folder.Account+"\x00"+st.Name]; {
		case !ok:
			l.Since.New++
		case d != st.Digest:
			l.Since.Changed++
		default:
			st.Kept = true
		}
	}
	if l.Snapshot.Version != l.Version && l.Snapshot.Version != "" && l.Version != "" {
		l.Since.Version = l.Snapshot.Version
		froze, err := a.Newest(p.Name, func(s *archive.Snapshot) bool { return s.Version == l.Since.Version && s.Holds(archive.Game) })
		if err != nil {
			return err
		}
		l.updatedSince(froze)
	}
	l.Since.Mods = CompareMods(l.Snapshot.Mods, l.List)
	return nil
}

// updatedSince notes that the game is of another version than at the newest snapshot, which saves that concerns, and the way back: froze is the
// newest snapshot that has the former game, or nil.
func (l *Look) updatedSince(froze *archive.Snapshot) {
	var saves []string
	for _, st := range l.Saves {
		if st.Playthrough == l.Snapshot.Playthrough && st.Needs.Version != "" && st.Needs.Version != l.Version {
			saves = append(saves, st.Handle())
		}
	}
	text := fmt.Sprintf("%s in %s, %s now", l.Snapshot.Version, l.Snapshot.Address(), l.Version)
	switch {
	case len(saves) == 0:
		text += "; no save is of the former version"
	default:
		text += fmt.Sprintf("; not saved with %s yet: %s", l.Version, strings.Join(saves, ", "))
	}
	remedy := "ostrov keep " + l.Called + " --with game"
	if froze != nil {
		remedy = "ostrov restore " + froze.Address() + " --only game --to DIR"
	} else {
		text += ". " + l.Snapshot.Version + " was not kept: it is to be had where the game came from, if anywhere, where a choice of versions is offered"
	}
	f := check.New(check.UpdatedSince, "", text)
	f.Remedy = remedy
	if len(saves) == 0 {
		f.Severity = check.Note
	}
	l.Findings = append(l.Findings, f)
}

// CompareMods says how the mod list now differs from the one before. Lists of games without a load order are sorted by id, so never reordered.
func CompareMods(before, now []mod.Listed) []ModChange {
	old := map[string]mod.Listed{}
	for _, m := range before {
		old[strings.ToLower(m.ID)] = m
	}
	var changes []ModChange
	for _, m := range now {
		was, ok := old[strings.ToLower(m.ID)]
		delete(old, strings.ToLower(m.ID))
		switch {
		case !ok:
			changes = append(changes, ModChange{"added", m, ""})
		case was.Version != m.Version:
			changes = append(changes, ModChange{"updated", m, was.Version})
		case !was.Digest.IsZero() && !m.Digest.IsZero() && was.Digest != m.Digest:
			changes = append(changes, ModChange{"altered", m, was.Version})
		case was.On != m.On && m.On:
			changes = append(changes, ModChange{"on", m, ""})
		case was.On != m.On:
			changes = append(changes, ModChange{"off", m, ""})
		}
	}
	for _, m := range before {
		if was, gone := old[strings.ToLower(m.ID)]; gone {
			changes = append(changes, ModChange{"dropped", was, was.Version})
		}
	}
	if m := moved(before, now); len(m) > 0 {
		changes = append(changes, ModChange{"reordered", m[0], ""})
	}
	return changes
}
