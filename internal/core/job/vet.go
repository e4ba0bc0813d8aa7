package job

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
	"ostrov/internal/core/hazard"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/parcel"
	"ostrov/internal/core/refer"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/unpack"
)

// Vetting is what vetting one download found. Close it.
type Vetting struct {
	File     string
	Download *unpack.Download
	// Findings are about the download as a whole; safety comes first and needs no game.
	Findings []check.Finding
	Saves    []*Vetted  // those found, or picked
	Mods     []*mod.Mod // those found where there is no save
	Judged   []*Judged  // the first save against each install of its game; empty when there are several and none is picked
	Verdict  check.Verdict
	Picked   string // what --pick said, or ""
	// Parcel is what came with the save, where the download is a parcel.
	Parcel *parcel.Found
}

// Vetted is one save in a download.
type Vetted struct {
	save.Candidate
	Game   *game.Description
	Digest tree.Digest
	Needs  logbook.Needs
}

// Judged is the judgement of a save against one install.
type Judged struct {
	Look     *Look
	Save     *Vetted
	Refs     refer.Counts // how often it refers to each mod, or nil
	Findings []check.Finding
	Verdict  check.Verdict
	// Where place would put it; nil where it cannot.
	Target *Target
}

// Target is where a save would go in an install.
type Target struct {
	Folder game.Located
	Name   string
	Slot   string // as the game shows it, or ""
	// Replaces is the save that is there now, or nil.
	Replaces *SaveState
	captures map[string]string
}

// VetRequest says how to vet.
type VetRequest struct {
	For  string // an install; "" is all
	Pick string // one of several saves, by its name or label
	Slot string // for place: a slot as the game shows it
	In   string // for place: an account or folder
}

// Close frees the download.
func (v *Vetting) Close() error { return v.Download.Close() }

// Dangerous reports whether the download may do harm.
func (v *Vetting) Dangerous() bool { return check.IsDangerous(v.Findings) }

// Vet checks a download, touching nothing.
func (s *Session) Vet(ctx context.Context, file string, req VetRequest) (*Vetting, error) {
	d, err := unpack.Open(ctx, file, s.scratch())
	if err != nil {
		return nil, err
	}
	v := &Vetting{File: file, Download: d, Picked: req.Pick}
	if err := v.vet(ctx, s, req); err != nil {
		return nil, errors.Join(err, v.Close())
	}
	check.Sort(v.Findings)
	v.Verdict = check.Sum(v.Findings)
	if len(v.Judged) > 0 { // the best of the installs: with one it is that one's
		best := v.Judged[0].Verdict
		for _, j := range v.Judged[1:] {
			if check.Worse(best, j.Verdict) {
				best = j.Verdict
			}
		}
		if check.Worse(best, v.Verdict) {
			v.Verdict = best
		}
	}
	return v, nil
}

func (v *Vetting) vet(ctx context.Context, s *Session, req VetRequest) error {
	if err := v.Download.Inspect(ctx); err != nil {
		return err
	}
	v.safety()
	if err := v.openParcel(ctx); err != nil {
		return err
	}
	installs, err := s.vetInstalls(req.For)
	if err != nil {
		return err
	}
	v.recognise(ctx, s, installs)
	v.code(ctx, s, installs)
	if err := v.pick(req.Pick); err != nil {
		return err
	}
	if len(v.Saves) == 0 {
		v.Findings = append(v.Findings, check.New(check.NotASave, "", notASave(installs)))
		for _, in := range installs {
			v.Mods = append(v.Mods, mod.InDownload(ctx, in.Game, v.Download.FS, v.Download.Entries)...)
		}
		return nil
	}
	if len(v.Saves) > 1 {
		f := check.New(check.SeveralSaves, "", fmt.Sprintf("%d saves in it", len(v.Saves)))
		f.Remedy = fmt.Sprintf("ostrov vet %s --pick %s", Quoted(v.File), Quoted(v.Saves[0].Pick()))
		v.Findings = append(v.Findings, f)
		return nil
	}
	v.litter()
	return v.judge(ctx, s, installs, req)
}

// openParcel reads what a parcel says; one whose manifests do not match is damaged.
func (v *Vetting) openParcel(ctx context.Context) error {
	if v.Dangerous() {
		return nil
	}
	var err error
	if v.Parcel, err = parcel.Find(ctx, v.Download.FS, v.Download.Entries); err != nil || v.Parcel == nil {
		return err
	}
	for _, why := range v.Parcel.Wrong {
		f := check.New(check.Damaged, "parcel", why)
		f.Remedy = "fetch the parcel again"
		v.Findings = append(v.Findings, f)
	}
	return nil
}

// cameWith records what a parcel says of its save, where the digests match.
func (v *Vetting) cameWith(ctx context.Context, s *Session, c *Vetted) error {
	if v.Parcel == nil || len(v.Parcel.Wrong) > 0 || v.Parcel.Needs.Save.Digest != c.Digest || v.Parcel.Needs.Game != c.Game.ID {
		return nil
	}
	n := v.Parcel.Needs
	e := logbook.Evidence{Kind: check.Parcel, At: s.Now(), Version: n.Version, Clean: n.Clean, Note: n.Note}
	if n.Mods != nil {
		e.Mods = []logbook.Needed{}
		for _, m := range n.Mods {
			d, _ := tree.ParseDigest(m.Digest) // another algorithm's is of no use here
			e.Mods = append(e.Mods, logbook.Needed{Listed: mod.Listed{ID: m.ID, Version: m.Version, Title: m.Title, Digest: d, On: true}, Doubtful: m.Doubtful})
		}
	}
	return s.Logbook.Add(ctx, c.Digest, e)
}

func (s *Session) vetInstalls(address string) ([]*game.Install, error) {
	if address == "" {
		return s.Installs, nil
	}
	return s.InstallsOf(address)
}

func notASave(installs []*game.Install) string {
	if len(installs) == 0 {
		return "nothing in it looks like a save of a game that is described"
	}
	var titles []string
	for _, in := range installs {
		if !slices.Contains(titles, in.Game.Title) {
			titles = append(titles, in.Game.Title)
		}
	}
	return "nothing in it looks like a save of " + strings.Join(titles, " or ")
}

// safety turns what unpacking found into findings.
func (v *Vetting) safety() {
	for _, h := range v.Download.Hazards {
		f := check.New(check.Dangerous, h.Path, h.Why)
		f.Remedy = "delete the download"
		v.Findings = append(v.Findings, f)
	}
	for _, d := range v.Download.Damaged {
		f := check.New(check.Damaged, d.Path, d.Why)
		f.Remedy = "fetch the download again"
		v.Findings = append(v.Findings, f)
	}
	for _, e := range v.Download.Encrypted {
		f := check.New(check.Encrypted, e, "needs a password, so it cannot be looked into")
		f.Remedy = "ask for it without a password"
		v.Findings = append(v.Findings, f)
	}
}

// recognise finds the saves in the download: of the games that are installed, else of any game that is described.
func (v *Vetting) recognise(ctx context.Context, s *Session, installs []*game.Install) {
	var games []*game.Description
	for _, in := range installs {
		if !slices.Contains(games, in.Game) {
			games = append(games, in.Game)
		}
	}
	try := func(games []*game.Description) {
		for _, d := range games {
			for _, c := range save.Recognise(ctx, d, v.Download.FS, v.Download.Entries) {
				v.Saves = append(v.Saves, &Vetted{Candidate: c, Game: d, Digest: v.digest(c)})
			}
		}
	}
	try(games)
	if len(v.Saves) > 0 {
		return
	}
	var rest []*game.Description
	for _, id := range s.GameIDs() {
		if !slices.Contains(games, s.Games[id]) {
			rest = append(rest, s.Games[id])
		}
	}
	try(rest)
}

func (v *Vetting) digest(c save.Candidate) tree.Digest {
	var list []tree.Named
	for _, f := range c.Files {
		d, ok := v.Download.Digests[f]
		if !ok {
			return tree.Digest{}
		}
		list = append(list, tree.Named{Path: save.Inside(c.Kind, c.Name, f), Digest: d})
	}
	return save.DigestOf(c.Kind, list)
}

// Pick is what --pick calls the save.
func (c *Vetted) Pick() string {
	if c.Label != "" {
		return c.Label
	}
	return c.Name
}

func (v *Vetting) pick(pick string) error {
	if pick == "" {
		return nil
	}
	var found []*Vetted
	var names []string
	for _, c := range v.Saves {
		names = append(names, "--pick "+Quoted(c.Pick()))
		if strings.EqualFold(c.Name, pick) || strings.EqualFold(c.Label, pick) || strings.EqualFold(path.Base(c.Name), pick) || strings.EqualFold(c.Facts.Title(), pick) {
			found = append(found, c)
		}
	}
	if len(found) != 1 {
		return usage(strings.Join(names, "\n"), "%q is %d of the %d saves in %s", pick, len(found), len(v.Saves), v.File)
	}
	v.Saves = found
	return nil
}

// litter names what is in the download and not in its one save.
func (v *Vetting) litter() {
	var names []string
	for _, e := range v.Download.Entries {
		own := v.Parcel != nil && v.Parcel.Own(e.Path)
		if e.Kind == tree.File && !slices.Contains(v.Saves[0].Files, e.Path) && !own && !v.around(e.Path) {
			names = append(names, e.Path)
		}
	}
	if len(names) == 0 {
		return
	}
	text := strings.Join(names[:min(3, len(names))], ", ")
	if len(names) > 3 {
		text += fmt.Sprintf(" and %d more", len(names)-3)
	}
	v.Findings = append(v.Findings, check.New(check.Litter, "", text+": left out"))
}

// around reports whether an entry is an archive that the save lies in, or lies in an archive that is the save.
func (v *Vetting) around(path string) bool {
	for _, in := range v.Download.Inside {
		for _, f := range v.Saves[0].Files {
			if path == in && strings.HasPrefix(f, in+"/") || f == in && strings.HasPrefix(path, in+"/") {
				return true
			}
		}
	}
	return false
}

// code turns files that run code when they are loaded into findings: of the saves found, or of all where there is none. What the player's own
// saves of the game show too is a note.
func (v *Vetting) code(ctx context.Context, s *Session, installs []*game.Install) {
	for _, c := range v.Download.Code {
		var of *Vetted
		for _, sv := range v.Saves {
			if slices.Contains(sv.Files, c.Path) {
				of = sv
			}
		}
		if of == nil && len(v.Saves) > 0 {
			continue // litter: it is left out
		}
		f := check.New(check.RunsCode, c.Path, c.Why)
		f.Effect = "whoever made the save can make the game do what you can do"
		f.Remedy = "load it only if you trust who made it"
		if of != nil && s.ownRun(ctx, of, installs, c) {
			f.Severity, f.Effect, f.Remedy = check.Note, "your own saves are made the same way", ""
		}
		v.Findings = append(v.Findings, f)
	}
}

// ownRun reports whether one of the player's own saves of the kind runs the same code when it is loaded.
func (s *Session) ownRun(ctx context.Context, of *Vetted, installs []*game.Install, c unpack.Code) bool {
	for _, in := range installs {
		if in.Game != of.Game {
			continue
		}
		l, err := s.Look(ctx, in)
		if err != nil {
			continue
		}
		for _, st := range l.Saves {
			if st.Kind != of.Kind || !s.ownSave(ctx, st) {
				continue
			}
			for _, own := range s.codeIn(ctx, st) {
				if own.Format == c.Format && sameCode(own.Why, c.Why) {
					return true
				}
			}
		}
	}
	return false
}

// ownSave reports whether a save was not placed from a download.
func (s *Session) ownSave(ctx context.Context, st *SaveState) bool {
	all, err := s.Logbook.Evidence(ctx, st.Digest)
	if err != nil {
		return false
	}
	return !slices.ContainsFunc(all, func(e logbook.Evidence) bool { return e.Note == placedNote })
}

// codeIn finds the code in a save of the player's own.
func (s *Session) codeIn(ctx context.Context, st *SaveState) []hazard.Finding {
	var found []hazard.Finding
	s.Hasher.Once(keyPlace(st.Save)+"\x00code", tree.Digest{1}, st.Folder.Path, st.Files, &found, func() bool {
		for _, e := range st.Files {
			f, err := os.Open(filepath.Join(st.Folder.Path, filepath.FromSlash(e.Path)))
			if err != nil {
				return false
			}
			result, err := hazard.Scan(e.Path, f)
			f.Close()
			if err != nil {
				return false
			}
			found = append(found, result.Findings...)
			if result.SQLite {
				more, _ := hazard.Database(ctx, os.DirFS(st.Folder.Path), e.Path, result.Layers) // a damaged one is named elsewhere
				found = append(found, more...)
			}
		}
		return true
	})
	return found
}

// sameCode compares what two files run, wherever in them it stands.
func sameCode(a, b string) bool {
	a, _, _ = strings.Cut(a, " in line ")
	b, _, _ = strings.Cut(b, " in line ")
	return a == b
}

func (v *Vetting) judge(ctx context.Context, s *Session, installs []*game.Install, req VetRequest) error {
	c := v.Saves[0]
	if err := v.remember(ctx, s, c); err != nil {
		return err
	}
	file := v.fileFindings(c)
	any := false
	for _, in := range installs {
		if in.Game != c.Game {
			continue
		}
		l, err := s.Look(ctx, in)
		if err != nil {
			f := check.New(check.NoRule, in.Address(), err.Error())
			v.Findings = append(v.Findings, f)
			continue
		}
		any = true
		j := &Judged{Look: l, Save: c, Findings: slices.Clone(file)}
		if c.Facts.Problem == nil {
			var by *referring
			if l.refs != nil {
				by = l.refs.with(c.Facts.Mods)
				if j.Refs, err = by.count(ctx, c.Kind, v.Download.FS, c.Name, c.Files); err != nil {
					s.Log.Warn("references not counted", "save", c.Name, "error", err)
				}
			}
			j.Findings = append(j.Findings, l.judge(c.Kind, c.Facts, c.Needs, by, j.Refs)...)
		}
		j.place(req, v.Download.Name)
		check.Sort(j.Findings)
		j.Verdict = check.Sum(append(slices.Clone(v.Findings), j.Findings...))
		v.Judged = append(v.Judged, j)
	}
	if !any && req.For != "" {
		v.Findings = append(v.Findings, file...)
		v.Findings = append(v.Findings, check.New(check.OtherGame, "", fmt.Sprintf("a save of %s, not of %s", c.Game.Title, installs[0].Game.Title)))
		return nil
	}
	if !any {
		v.Findings = append(v.Findings, file...)
		f := check.New(check.NoRule, "", fmt.Sprintf("a save of %s, of which no install is known", c.Game.Title))
		f.Remedy = "ostrov games add " + c.Game.ID
		v.Findings = append(v.Findings, f)
	}
	return nil
}

// remember records the save as foreign, with what it says of itself.
func (v *Vetting) remember(ctx context.Context, s *Session, c *Vetted) error {
	if c.Digest.IsZero() {
		return nil
	}
	state := logbook.State{Digest: c.Digest, Game: c.Game.ID, Kind: c.Kind.ID, Title: c.Facts.Title(), Foreign: true}
	if err := s.Logbook.See(ctx, state, s.Now()); err != nil {
		return err
	}
	if err := s.written(ctx, c.Digest, c.Facts, ""); err != nil {
		return err
	}
	if err := v.cameWith(ctx, s, c); err != nil {
		return err
	}
	var err error
	c.Needs, err = s.Logbook.Needs(ctx, c.Digest)
	return err
}

func (v *Vetting) fileFindings(c *Vetted) []check.Finding {
	var found []check.Finding
	damaged := slices.ContainsFunc(v.Findings, func(f check.Finding) bool { return f.Code == check.Damaged })
	for _, m := range c.Missing() {
		f := check.New(check.Incomplete, m, "belongs to the save and is not in the download")
		f.Remedy = "ask for the missing file"
		found = append(found, f)
	}
	if c.Facts.Problem != nil && len(found) == 0 && !damaged {
		f := check.New(check.Damaged, "", reading(c.Facts.Problem))
		f.Remedy = "fetch the download again"
		found = append(found, f)
	}
	return found
}

// place finds out where the save would go and what stands in the way.
func (j *Judged) place(req VetRequest, downloadName string) {
	add := func(f check.Finding) { j.Findings = append(j.Findings, f) }
	l, c := j.Look, j.Save
	if st := l.sameContent(c.Digest); st != nil {
		add(check.New(check.AlreadyHere, "", "the same as "+slotOrName(st)))
	}
	if err := mayChangeLook(l, c.Kind); err != "" {
		f := check.New(check.GameRunning, "", err)
		f.Remedy = "close the game before you place it"
		add(f)
	}
	if owner := c.owner(l); owner != "" && l.Account != "" && owner != l.Account {
		text := fmt.Sprintf("belongs to account %s; place puts it into yours", owner)
		switch {
		case !l.Install.Game.IsAccount(owner):
			text = "belongs to nobody; place makes it yours, " + l.Account
		case c.Kind.Owner != nil && c.Kind.Owner.Rewrite:
			text = fmt.Sprintf("belongs to account %s; place rewrites it to yours, %s", owner, l.Account)
		}
		add(check.New(check.OwnerDiffers, "", text))
	}
	folder, err := l.ownFolder(c.Kind, req.In)
	if err != nil {
		f := check.New(check.NeverStarted, "", err.Error())
		add(f)
		return
	}
	t, problem := l.target(c, folder, req.Slot, downloadName)
	if problem != nil {
		add(*problem)
		return
	}
	j.Target = t
	base := c.Base(downloadName)
	switch own := l.ownSlot(c, folder); {
	case own != nil && t.Replaces == nil && t.Slot != "":
		add(check.New(check.SlotTaken, "", fmt.Sprintf("%s holds %q; slot %s is free", slotOrName(own), own.Title(), t.Slot)))
	case own != nil && t.Replaces == nil:
		add(check.New(check.SlotTaken, "", fmt.Sprintf("%q is taken; it becomes %s", own.Name, t.Name)))
	case t.Replaces != nil:
		add(check.New(check.SlotTaken, "", fmt.Sprintf("%s holds %q, which is replaced and kept first", slotOrName(t.Replaces), t.Replaces.Title())))
	case t.Name != base:
		add(check.New(check.NameDiffers, "", fmt.Sprintf("came as %s; the game looks for %s", base, t.Name)))
	}
}

func slotOrName(st *SaveState) string {
	if st.HasSlot {
		return "slot " + st.SlotShown()
	}
	return st.Name
}

func mayChangeLook(l *Look, kind *game.Save) string {
	if len(l.Running) == 0 || kind.WhileRunning == "others" {
		return ""
	}
	return fmt.Sprintf("%s runs (process %d)", l.Running[0].Name, l.Running[0].PID)
}

// owner is whose the save is: by what it says, or by the account folder it lay in.
func (c *Vetted) owner(l *Look) string {
	if c.Facts.Owner != "" {
		return c.Facts.Owner
	}
	if c.Kind.Owner == nil {
		return ""
	}
	for _, part := range strings.Split(path.Dir(c.Name), "/") {
		if l.Install.Game.IsAccount(part) {
			return part
		}
	}
	return ""
}

func (l *Look) sameContent(d tree.Digest) *SaveState {
	for _, st := range l.Saves {
		if !d.IsZero() && st.Digest == d {
			return st
		}
	}
	return nil
}

// ownSlot is the save that now has the name under which the download came, or nil.
func (l *Look) ownSlot(c *Vetted, folder game.Located) *SaveState {
	if c.Captures == nil {
		return nil
	}
	for _, n := range c.Kind.Names() {
		if name, ok := n.Spell(c.Captures); ok {
			if st := l.at(folder, name); st != nil {
				return st
			}
		}
	}
	return nil
}

// maxFree bounds the search for a free name.
const maxFree = 1000

// target finds where a save goes: the slot asked for, else its own when that is free, else the first free one.
func (l *Look) target(c *Vetted, folder game.Located, slot, downloadName string) (*Target, *check.Finding) {
	refuse := func(code check.Code, format string, args ...any) (*Target, *check.Finding) {
		f := check.New(code, "", fmt.Sprintf(format, args...))
		return nil, &f
	}
	name := c.Kind.Names()[0]
	captures := map[string]string{}
	for k, v := range c.Captures {
		captures[k] = v
	}
	if c.Kind.Slots != nil && name.HasSlot() {
		first, last := c.Kind.Slots.Range()
		try := func(n int) *Target {
			captures["slot"] = name.SpellSlot(n)
			spelled, ok := name.Spell(captures)
			if !ok {
				return nil
			}
			return &Target{folder, spelled, c.Kind.Slots.Shown(n), l.at(folder, spelled), captures}
		}
		if slot != "" {
			for n := first; n <= last; n++ {
				if strings.EqualFold(c.Kind.Slots.Shown(n), slot) {
					return try(n), nil
				}
			}
			return refuse(check.NoFreeSlot, "there is no slot %s; they go from %s to %s", slot, c.Kind.Slots.Shown(first), c.Kind.Slots.Shown(last))
		}
		order := []int{}
		if own, ok := c.Kind.Slots.Number(c.Captures["slot"]); ok && own >= first && own <= last {
			order = append(order, own)
		}
		for n := first; n <= last; n++ {
			order = append(order, n)
		}
		for _, n := range order {
			if t := try(n); t != nil && t.Replaces == nil {
				return t, nil
			}
		}
		return refuse(check.NoFreeSlot, "all %d slots are taken; --slot N replaces one, which is kept first", last-first+1)
	}
	if slot != "" {
		return refuse(check.NoFreeSlot, "%s has no slots for this kind of save", l.Install.Game.Title)
	}
	base := c.Base(downloadName)
	if captures, ok := name.Match(base, true); ok {
		spelled, _ := name.Spell(captures)
		if l.at(folder, spelled) == nil {
			return &Target{folder, spelled, "", nil, captures}, nil
		}
	}
	stem := c.Captures["name"]
	if stem == "" {
		stem = strings.TrimSuffix(base, path.Ext(base))
	}
	if title := c.Facts.Title(); title != "" && c.Captures == nil && unpack.CheckName(title) == "" && !strings.Contains(title, "/") {
		stem = title
	}
	for i := 1; i < maxFree; i++ {
		if captures["name"] = stem; i > 1 {
			captures["name"] = fmt.Sprintf("%s %d", stem, i)
		}
		spelled, ok := name.Spell(captures)
		if !ok {
			break
		}
		if l.at(folder, spelled) == nil {
			return &Target{folder, spelled, "", nil, captures}, nil
		}
	}
	return refuse(check.NameDiffers, "the game's name for it, %s, cannot be made out of %s: rename it first", name, base)
}

// Quoted is text as an argument on a command line, quoted where it needs that.
func Quoted(text string) string {
	if text != "" && !strings.ContainsAny(text, " \t\n'\"\\$&;|<>()*?[]#~`!{}") {
		return text
	}
	return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'"
}

// ModNames are the titles or ids of a mod list, for people.
func ModNames(list []mod.Listed) []string {
	var names []string
	for _, m := range list {
		name := m.Title
		if name == "" {
			name = m.ID
		}
		names = append(names, name)
	}
	return names
}

// Bytes is a size for people.
func Bytes(n int64) string { return humanize.Bytes(uint64(max(n, 0))) }
