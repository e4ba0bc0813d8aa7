package job

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"time"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/tree"
)

// KeepRequest says what to keep.
type KeepRequest struct {
	As   string // playthrough; "" is the current one
	Note string
	Tags []string
	// With names what is kept besides saves, mod list, settings and data of mods: mods, game (with its mods), pictures. nil is what the playthrough
	// is always kept with.
	With   []string
	Always bool   // keep it with these from now on
	From   string // a copy made by hand earlier, instead of what the game has now
	Reread bool   // read all files, changed or not
	// safety names the command before which this is kept.
	safety string
}

// KeepWith are the words that KeepRequest.With takes.
var KeepWith = []string{archive.Mods, archive.Game, archive.Pictures}

// Kept is what keeping did.
type Kept struct {
	Snapshot       *archive.Snapshot
	Since          *archive.Snapshot // the one before, or nil
	New, Changed   int               // saves, compared with the one before
	ModChanges     []ModChange
	Copied, Reused int64 // bytes of files read and not read
	Stored         int64 // bytes the archive grew
	Archive        string
	Spread         []string // other archives that it was copied into
	// Started is the playthrough that was made for it, or "".
	Started string
	// Unchanged tells that nothing was kept before a change, since all of it is in Snapshot already.
	Unchanged bool
	Findings  []check.Finding
}

// Keep takes a snapshot of a playthrough of the install.
func (s *Session) Keep(ctx context.Context, in *game.Install, req KeepRequest) (*Kept, error) {
	kept, err := s.keep(ctx, in, req)
	if said := (*Error)(nil); isFull(err) && !errors.As(err, &said) {
		return nil, &Error{Text: fmt.Sprintf("the drive of the archive %s is full; nothing has been kept", s.ArchiveDir()), Hint: "ostrov archive clear-old\nostrov archive add DIR, on a drive that has room", Err: err}
	}
	return kept, err
}

func (s *Session) keep(ctx context.Context, in *game.Install, req KeepRequest) (*Kept, error) {
	if err := s.RequireRecords(); err != nil {
		return nil, err
	}
	for _, tag := range req.Tags {
		if err := checkTag(tag); err != nil {
			return nil, err
		}
	}
	p, err := s.presumed(ctx, in, req.As)
	if err != nil {
		return nil, err
	}
	if req.With == nil && req.From == "" {
		req.With = p.Keeps
	}
	a, err := s.Archive(true)
	if err != nil {
		return nil, err
	}
	s.Hasher.Reread = req.Reread
	keeping := &keeper{s: s, a: a, in: in, req: req, progress: s.meter("keep")}
	defer keeping.abandon()
	if err := keeping.begin(ctx, p.Name); err != nil {
		return nil, err
	}
	l, looked := s.looks[in]
	if !looked { // what the look would read of mods is kept as it is read
		l, err = s.look(ctx, in, keeping.heavy)
	} else {
		err = keeping.heavy(ctx, l)
	}
	if err != nil {
		return nil, err
	}
	if err := s.archiveApart(l); err != nil {
		return nil, err
	}
	kept := &Kept{Archive: a.Dir}
	if p, err = s.playthroughFor(ctx, l, req.As, kept); err != nil {
		return nil, err
	}
	if kept.Since, err = a.Newest(p.Name, archive.Any); err != nil {
		return nil, err
	}
	if kept.Since != nil && kept.Since.Set {
		return nil, usage("ostrov kept "+p.Name, "%s is a set of settings, not a playthrough", p.Name)
	}
	snap := &archive.Snapshot{Playthrough: p.Name, Title: p.Title, Game: in.Game.ID, GameTitle: in.Game.Title, Taken: s.Now().UTC().Truncate(time.Millisecond),
		Version: l.Version, Note: req.Note, Safety: req.safety, Tags: req.Tags, Mods: l.List, Fingerprint: l.Fingerprint}
	if req.From != "" {
		err = s.keepFrom(ctx, keeping.k, l, snap, req.From)
	} else {
		err = keeping.present(ctx, l, snap)
	}
	if err != nil {
		return nil, err
	}
	if req.safety != "" && sameAs(snap, kept.Since) {
		kept.Snapshot, kept.Unchanged = kept.Since, true
		return kept, nil
	}
	if err := keeping.k.Commit(snap); err != nil {
		return nil, fmt.Errorf("nothing has been kept: %w", err)
	}
	if len(s.config.Archives) > 0 && a.Dir == s.ownArchive() {
		s.config.StoodIn = append(s.config.StoodIn, stoodIn{snap.Playthrough, snap.ID})
		if err := s.writeConfig(); err != nil {
			return nil, err
		}
	}
	kept.compare(snap)
	kept.Snapshot, kept.Copied, kept.Reused, kept.Stored = snap, keeping.k.Copied(), keeping.k.Reused(), keeping.k.Stored()
	if req.Always {
		p.Keeps = req.With
		if err := s.Logbook.Update(ctx, p.Name, p); err != nil {
			return nil, err
		}
	}
	if err := s.spread(ctx, a, snap, kept); err != nil {
		return nil, err
	}
	if sameDrive(kept.Archive, in.Root) && kept.Since == nil {
		kept.Findings = append(kept.Findings, check.New(check.SameDrive, "", "the archive is on the game's own drive"))
	}
	delete(s.looks, in)
	return kept, nil
}

// sameAs reports whether a snapshot would have nothing that the one before has not.
func sameAs(snap, before *archive.Snapshot) bool {
	if before == nil || before.ByHand || before.Version != snap.Version || len(before.Saves) != len(snap.Saves) || len(CompareMods(before.Mods, snap.Mods)) > 0 {
		return false
	}
	for _, root := range snap.Roots {
		i := slices.IndexFunc(before.Roots, func(r archive.Root) bool { return r.Key() == root.Key() })
		if i < 0 && root.Files > 0 || i >= 0 && !slices.Equal(before.Roots[i].Listing, root.Listing) {
			return false
		}
	}
	return true
}

// presumed is the playthrough that will be kept, as far as it is known before looking; its name is "" where one must be started first.
func (s *Session) presumed(ctx context.Context, in *game.Install, as string) (logbook.Playthrough, error) {
	all, err := s.Logbook.Playthroughs(ctx)
	if err != nil {
		return logbook.Playthrough{}, err
	}
	own := slices.DeleteFunc(all, func(p logbook.Playthrough) bool { return p.Game != in.Game.ID || p.Install != in.Name })
	for _, p := range own {
		if p.Name == as || as == "" && (p.Active || len(own) == 1) {
			return p, nil
		}
	}
	return logbook.Playthrough{}, nil
}

// checkTag refuses tags that could not be told from numbers, or not be typed.
func checkTag(tag string) error {
	if _, err := strconv.Atoi(tag); err == nil || !tagPattern.MatchString(tag) {
		return usage("", "%.80q cannot be a tag: use a-z, 0-9, . and -, and more than a number", tag)
	}
	return nil
}

var tagPattern = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]{0,39}$`)

func (s *Session) archiveApart(l *Look) error {
	for _, f := range append(folderPaths(l.Folders), l.Install.Root) {
		if dir := s.ArchiveDir(); dir == f || game.Within(dir, f) {
			return usage("ostrov archive add DIR, elsewhere", "the archive %s lies inside %s: the game would find the snapshots there", dir, f)
		}
	}
	return nil
}

func (k *Kept) compare(snap *archive.Snapshot) {
	if k.Since == nil || snap.ByHand {
		k.New = len(snap.Saves)
		return
	}
	old := map[string]tree.Digest{}
	for _, sv := range k.Since.Saves {
		old[sv.Folder+"\x00"+sv.Account+"\x00"+sv.Name] = sv.Digest
	}
	for _, sv := range snap.Saves {
		switch d, ok := old[sv.Folder+"\x00"+sv.Account+"\x00"+sv.Name]; {
		case !ok:
			k.New++
		case d != sv.Digest:
			k.Changed++
		}
	}
	k.ModChanges = CompareMods(k.Since.Mods, snap.Mods)
}

// playthroughFor finds the playthrough to keep, starting one where the install has none.
func (s *Session) playthroughFor(ctx context.Context, l *Look, as string, kept *Kept) (logbook.Playthrough, error) {
	for _, p := range l.Playthroughs {
		if p.Name == as {
			return p, nil
		}
	}
	if as == "" {
		if p := l.Current(); p != nil {
			return *p, nil
		}
		if len(l.Playthroughs) > 0 {
			return logbook.Playthrough{}, usage("ostrov keep "+l.Called+" --as PLAYTHROUGH", "none of the playthroughs of %s is active: say which to keep", l.Called)
		}
		as = l.Install.Game.ID
	} else if len(l.Playthroughs) > 0 {
		return logbook.Playthrough{}, usage("ostrov playthroughs start "+as, "%s has no playthrough %q", l.Called, as)
	}
	p, err := s.startPlaythrough(ctx, l, as)
	if err == nil {
		kept.Started = p.Name
	}
	return p, err
}
