package job

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
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

// reading tells how far a download has been read.
func (s *Session) reading(d *unpack.Download) func(n int64) {
	var total int64
	for _, e := range d.Entries {
		total += e.Size
	}
	return s.counting("read", total)
}

func (v *Vetting) vet(ctx context.Context, s *Session, req VetRequest) error {
	if err := v.Download.Inspect(ctx, s.reading(v.Download)); err != nil {
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
