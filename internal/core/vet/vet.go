// Package vet is a download: opened, judged, shown against each install, and planned into one.
//
// It touches nothing. Safety is judged first and needs no game; then the saves that are found are judged by the function that judges saves
// in a game. What it plans package plan carries out. It never places what is dangerous.
package vet

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// Vetting is what vetting one download found. Close it.
type Vetting struct {
	File     string
	Download *facts.Download
	// Findings are about the download as a whole; safety comes first and needs no game.
	Findings []check.Finding
	Saves    []*facts.Found // those found, or picked
	Mods     []*mod.Mod     // those found where there is no save
	Judged   []*Assessment  // the first save against each install of its game; empty when there are several and none is picked
	Verdict  check.Verdict
	Picked   string // what the player picked, or ""

	h      *home.Home
	states map[*game.Install]stateOf // looked at so far
	become *Content                  // what is placed instead of what the download has, or nil
}

type stateOf struct {
	*facts.State
	err error
}

// Assessment is the judgement of a save of a download against one install.
type Assessment struct {
	State    *facts.State
	Save     *facts.Found
	Findings []check.Finding
	Verdict  check.Verdict
	// Target is where place would put it; nil where it cannot.
	Target *Target
	// Blocked is why there is nowhere to put it, or nil.
	Blocked *check.Finding

	elsewhere string // where the owner's account stays, in words, or ""

	folder string // the id of the folder that it goes into, or "" for that of its kind
}

// Request says how to vet.
type Request struct {
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
func Vet(ctx context.Context, h *home.Home, file string, req Request) (*Vetting, error) {
	if err := own(ctx, h, file); err != nil {
		return nil, err
	}
	d, err := facts.OpenDownload(ctx, h, file)
	if err != nil {
		return nil, err
	}
	v := &Vetting{File: file, Download: d, Picked: req.Pick, h: h, states: map[*game.Install]stateOf{}}
	err = v.vet(ctx, req)
	if err == nil {
		err = v.stopped(ctx)
	}
	if err != nil {
		return nil, errors.Join(err, v.Close())
	}
	check.Sort(v.Findings)
	v.Verdict = check.Sum(v.Findings)
	if len(v.Judged) > 0 { // the best of the installs: with one it is that one's
		best := v.Judged[0].Verdict
		for _, a := range v.Judged[1:] {
			if check.Worse(best, a.Verdict) {
				best = a.Verdict
			}
		}
		if check.Worse(best, v.Verdict) {
			v.Verdict = best
		}
	}
	return v, nil
}

// stopped is an error where reading did not come to its end, so that there is no verdict.
func (v *Vetting) stopped(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	for _, f := range v.Saves {
		if f.Facts.Stopped() {
			return fmt.Errorf("%s: %w", f.Name, f.Facts.Problem)
		}
	}
	return nil
}

func (v *Vetting) vet(ctx context.Context, req Request) error {
	v.Findings = assess.Hazards(v.Download)
	installs := v.h.Installs
	if req.For != "" {
		var err error
		if installs, err = v.h.InstallsOf(req.For); err != nil {
			return err
		}
	}
	var games []*game.Description
	for _, in := range installs {
		if !slices.Contains(games, in.Game) {
			games = append(games, in.Game)
		}
	}
	var err error
	if v.Saves, err = v.Download.Saves(ctx, v.h, games); err != nil {
		return err
	}
	v.code(ctx, installs)
	if err := v.pick(req.Pick); err != nil {
		return err
	}
	switch {
	case len(v.Saves) == 0 && v.strange():
		n := v.Download.Parcel.Needs
		text := fmt.Sprintf("it is a parcel with a save of %s (%s), of which there is no description here", cmp.Or(n.GameTitle, n.Game), n.Game)
		v.Findings = append(v.Findings, check.New(check.NoRule, "", text).Helped(problem.Advise("get or write a description of the game %s", n.Game)))
		return nil
	case len(v.Saves) == 0 && v.member(games):
		return nil
	case len(v.Saves) == 0:
		v.Findings = append(v.Findings, check.New(check.NotASave, "", notASave(installs)))
		for _, g := range games {
			v.Mods = append(v.Mods, v.Download.Mods(ctx, g)...)
		}
		return nil
	case len(v.Saves) > 1:
		text := fmt.Sprintf("%d saves in it", len(v.Saves))
		if len(v.Saves) >= save.MaxFound {
			text += ", or more"
		}
		if v.oneOfSeveralKinds() {
			text = fmt.Sprintf("it could be of %d kinds of save, and neither its name nor its content says of which", len(v.Saves))
		}
		v.Findings = append(v.Findings, check.New(check.SeveralSaves, "", text).Helped(problem.Do("vet", v.File).With("pick", v.Pick(v.Saves[0]))))
		return nil
	}
	v.litter()
	return v.judge(ctx, installs, req)
}

// strange reports whether the download is a parcel of a game without a description.
func (v *Vetting) strange() bool {
	return v.Download.Parcel != nil && v.Download.Parcel.Needs.Game != "" && v.h.Game(v.Download.Parcel.Needs.Game) == nil
}

// own refuses what is no download: an install, known or not, or one of its folders of saves.
func own(ctx context.Context, h *home.Home, file string) error {
	info, err := os.Stat(file)
	if err != nil || !info.IsDir() {
		return nil // what is not there is said by whoever opens it
	}
	path := tree.Real(file)
	for _, in := range h.Installs {
		if in.Open() != nil {
			continue
		}
		folders, err := in.Folders(ctx)
		if err != nil {
			continue
		}
		mine := tree.Real(in.Root) == path
		for _, f := range folders {
			mine = mine || f.Real == path || game.Within(f.Real, path)
		}
		if mine {
			return problem.Usage(problem.Do("look", h.Called(in)), "%s is no download: it is the install %s, or holds its saves", file, in.Address())
		}
	}
	for _, id := range h.GameIDs() {
		if h.Game(id).CheckMarker(path) == nil {
			return problem.Usage(problem.Do("games add", id).With("at", path), "%s is no download: it is an install of %s that is not known yet", file, h.Game(id).Title)
		}
	}
	return nil
}

// state looks at an install, once.
func (v *Vetting) state(ctx context.Context, in *game.Install) (*facts.State, error) {
	if s, ok := v.states[in]; ok {
		return s.State, s.err
	}
	err := plan.Unfinished(ctx, v.h, in) // no half state is judged
	var st *facts.State
	if err == nil {
		st, err = facts.Gather(ctx, v.h, in)
	}
	v.states[in] = stateOf{st, err}
	return st, err
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

// oneOfSeveralKinds reports whether all that was found is one thing, which could be of several kinds.
func (v *Vetting) oneOfSeveralKinds() bool {
	return !slices.ContainsFunc(v.Saves, func(f *facts.Found) bool {
		return !f.Candidate.Doubtful || f.Candidate.Name != v.Saves[0].Candidate.Name
	})
}

// called are the saves of the download that a word means.
func (v *Vetting) called(word string) []*facts.Found {
	var found []*facts.Found
	for _, f := range v.Saves {
		if slices.ContainsFunc(f.Words(), func(w string) bool { return strings.EqualFold(w, word) }) {
			found = append(found, f)
		}
	}
	return found
}

// Pick is a word that means this save of the download and no other.
func (v *Vetting) Pick(f *facts.Found) string {
	words := f.Words()
	for _, word := range words {
		if len(v.called(word)) == 1 {
			return word
		}
	}
	return words[0]
}

func (v *Vetting) pick(pick string) error {
	if pick == "" {
		return nil
	}
	found := v.called(pick)
	var hints problem.Hints
	for _, f := range v.Saves {
		hints = hints.Or(problem.Do("vet", v.File).With("pick", v.Pick(f)))
	}
	if len(found) != 1 {
		return problem.Usage(hints, "%q is %d of the %d saves in %s", pick, len(found), len(v.Saves), v.File)
	}
	v.Saves = found
	return nil
}

// litter names what is in the download and not in its one save.
func (v *Vetting) litter() {
	var names []string
	files, around := v.Saves[0].Candidate.Set(), v.Download.Around(v.Saves[0])
	for _, e := range v.Download.Entries {
		own := v.Download.Parcel != nil && v.Download.Parcel.Own(e.Path)
		if e.Kind == tree.File && !files[e.Path] && !own && !around(e.Path) {
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

// judge judges the one save against each install of its game.
func (v *Vetting) judge(ctx context.Context, installs []*game.Install, req Request) error {
	found := v.Saves[0]
	file := v.fileFindings(ctx, found)
	any, away := false, false
	for _, in := range installs {
		if in.Game != found.Game {
			continue
		}
		st, err := v.state(ctx, in)
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			away = true
			v.Findings = append(v.Findings, cannotJudge(in, err))
			continue
		}
		any = true
		a := &Assessment{State: st, Save: found, Findings: slices.Clone(file)}
		if v.become != nil {
			altered, err := st.Altered(ctx, v.h, found.Save, v.become.Says, nil, v.become.FS, found.Candidate.Files)
			if err != nil {
				return err
			}
			as := *found
			as.Save, a.Save, a.folder = altered, &as, v.become.Folder
			a.Findings = append(a.Findings, assess.OfDownload(st, altered)...)
		} else if found.Facts.Problem == nil {
			if err := st.Refer(ctx, found.Save, v.Download.FS, found.Candidate.Name, found.Candidate.Files); err != nil {
				v.h.Log.Warn("references not counted", "save", found.Name, "error", err)
			}
			a.Findings = append(a.Findings, assess.OfDownload(st, found.Save)...)
		}
		a.elsewhere = v.ownerElsewhere(ctx, a)
		a.place(req, v.Download.Name)
		for i := range a.Findings {
			a.Findings[i].Remedy = a.Findings[i].Remedy.About("FILE", v.File)
		}
		check.Sort(a.Findings)
		a.Verdict = check.Sum(append(slices.Clone(v.Findings), a.Findings...))
		v.Judged = append(v.Judged, a)
	}
	if any {
		return nil
	}
	v.Findings = append(v.Findings, file...)
	switch {
	case away:
	case req.For != "":
		v.Findings = append(v.Findings, check.New(check.OtherGame, "", fmt.Sprintf("a save of %s, not of %s", found.Game.Title, installs[0].Game.Title)))
	default:
		f := check.New(check.NoRule, "", fmt.Sprintf("a save of %s, of which no install is known", found.Game.Title))
		v.Findings = append(v.Findings, f.Helped(problem.Do("games add", found.Game.ID)))
	}
	return nil
}

// cannotJudge says why a save is not judged against an install.
func cannotJudge(in *game.Install, err error) check.Finding {
	f := check.New(check.NoRule, in.Address(), err.Error())
	if said := (*problem.Error)(nil); errors.As(err, &said) {
		f.Remedy = said.Hints
	}
	return f
}

func (v *Vetting) fileFindings(ctx context.Context, f *facts.Found) []check.Finding {
	var found []check.Finding
	damaged := slices.ContainsFunc(v.Findings, func(f check.Finding) bool { return f.Code == check.Damaged })
	for _, m := range f.Candidate.Missing() {
		one := check.New(check.Incomplete, m, "belongs to the save and is not in the download")
		found = append(found, one.Helped(problem.Advise("ask for the missing file")))
	}
	for _, m := range f.Candidate.Without() {
		one := check.New(check.Incomplete, m, "lies beside such saves, and is not in the download; the game does not need it")
		one.Severity = check.Note
		found = append(found, one)
	}
	found = append(found, v.links(ctx, f)...)
	if p := v.Download.Parcel; p != nil && len(p.Wrong) == 0 && !p.Needs.Save.Digest.IsZero() && p.Needs.Save.Digest != f.Digest {
		one := check.New(check.Damaged, "parcel", "what it says of versions and mods is of another save than the one in it")
		found = append(found, one.Helped(problem.Advise("fetch the parcel again")))
	}
	said := damaged || len(found) > 0 && errors.Is(f.Facts.Problem, fs.ErrNotExist) // that a file is missing has been said
	if f.Facts.Problem != nil && !said {
		one := assess.Unreadable(f.Facts.Problem)
		if f.Facts.Damaged() {
			one = one.Helped(problem.Advise("fetch the download again"))
		}
		found = append(found, one)
	}
	return found
}
