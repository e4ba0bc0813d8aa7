package mods

import (
	"context"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/layout"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
)

// AddRequest says what to bring in.
type AddRequest struct {
	Parts []*facts.Download // opened with facts.OpenMod
	Pick  string            // of variants
	// Update is the mod that is replaced by another version of it; "" replaces one of the same id.
	Update string
	// Replace tells that a mod of the same id is to be replaced.
	Replace bool
	// Sources are what is known of the parts besides, by their place: a checkout's remote and commit.
	Sources map[int]ledger.Source
	Pinned  string // what a copy is made of
	For     string // the playthrough it is for
	// JudgeOnly tells that the proposal is never carried out.
	JudgeOnly bool
}

// Incoming proposes to bring mods in.
func Incoming(ctx context.Context, h *home.Home, now *assess.Install, req AddRequest) (*Proposal, error) {
	var names []string
	for _, d := range req.Parts {
		names = append(names, filepath.Base(d.File))
	}
	first := begin
	if req.JudgeOnly {
		first = start
	}
	p, err := first(ctx, h, now.State, "mods add "+strings.Join(names, " "))
	if err != nil {
		return nil, err
	}
	a := &adding{work: p.work, p: p, req: req}
	if err := a.recognise(); err != nil {
		return nil, err
	}
	var changes []assess.Change
	for _, f := range a.result.Found {
		change, err := a.receive(f)
		if err != nil {
			return nil, err
		}
		changes = append(changes, change...)
	}
	p.suppose(now, changes)
	return p.finish()
}

type adding struct {
	*work
	p      *Proposal
	req    AddRequest
	result *layout.Result
}

// recognise finds out what the downloads are and what there is to say of them before any game is asked.
func (a *adding) recognise() error {
	for _, d := range a.req.Parts {
		a.p.Findings = append(a.p.Findings, assess.Hazards(d)...)
	}
	var err error
	a.result, a.req.Parts, err = recognise(a.ctx, a.st.Install, a.req.Parts, layout.Request{Pick: a.req.Pick, At: a.folderOf})
	if err != nil {
		if len(a.p.Stopped()) > 0 { // that it is dangerous or damaged comes first, whatever else it is
			a.result = &layout.Result{}
			return nil
		}
		return explain(err, a.req.Parts[0].File)
	}
	a.p.Left = a.result.Left
	return nil
}

// folderOf is the folder of a mod that is there already, by kind and id; "" for none.
func (a *adding) folderOf(kind *game.Mod, id string) string {
	want := id
	if a.req.Update != "" {
		want = a.req.Update
	}
	for _, m := range a.st.Mods.Mods {
		if m.Kind == kind && strings.EqualFold(m.ID, want) && m.HiddenBy == "" && !m.Folder.Managed {
			return m.Path
		}
	}
	return ""
}

// receive takes a mod that was recognised into the proposal.
func (a *adding) receive(f *layout.Found) ([]assess.Change, error) {
	if a.req.Update != "" && a.known(a.req.Update) && !strings.EqualFold(f.ID, a.req.Update) && len(f.Mods) == 0 {
		f.ID = a.req.Update // a mod that does not say what it is
	}
	before, err := a.before(f)
	if err != nil {
		return nil, err
	}
	a.judgeParts(f, before)
	after := a.entry(f, before)
	code := a.programs(f)
	item := Item{Verb: Add, Name: f.Name(), ID: f.ID, Version: f.Version, Files: len(after.Files), Bytes: after.Bytes(), From: after.From}
	if a.req.Pinned != "" {
		item.Verb = Pin
		a.p.Title = "mods pin " + f.Name()
	}
	if before != nil {
		item.Verb, item.Was = Update, before.Version
		a.p.Title = strings.TrimSpace("mods update " + f.Name() + " " + f.Version)
	}
	item.Covers = a.covers(after, before)
	a.replace(before, after)
	a.p.Items = append(a.p.Items, item)
	a.p.Findings = append(a.p.Findings, code...)
	return a.changes(f, after), nil
}

func (a *adding) known(id string) bool {
	return slices.ContainsFunc(a.now, func(e *ledger.Entry) bool { return e.Is(id) })
}

// before is the entry of the mod that one comes in place of; nil for none. What lies there and is nobody's yet is adopted first, so that it can
// come back.
func (a *adding) before(f *layout.Found) (*ledger.Entry, error) {
	id := f.ID
	if a.req.Update != "" {
		id = a.req.Update
	}
	for _, e := range a.then {
		if e.Kind == f.Kind.ID && e.Is(id) && e.Kind != listKind {
			if e.State != ledger.InPlace {
				return nil, problem.Usage(problem.Do("mods on", a.st.Called+"+"+e.ID), "%s is set aside: bring it back first", e.Name())
			}
			if !a.req.Replace {
				return nil, a.isThere(e.Name(), e.Version, f)
			}
			return e, nil
		}
	}
	for _, m := range a.st.Mods.Mods {
		if m.Kind != f.Kind || !strings.EqualFold(m.ID, id) || m.HiddenBy != "" || m.Folder.Managed {
			continue
		}
		if !a.req.Replace {
			return nil, a.isThere(m.Name(), m.Version, f)
		}
		a.p.Warnings = append(a.p.Warnings, m.Name()+" had no ledger, so whether you have changed files of it is not known; undo brings it back as it is")
		return a.work.take(m)
	}
	if a.req.Update != "" {
		return nil, problem.Usage(problem.Do("mods", a.st.Called), "%s has no mod %q to update", a.st.Called, a.req.Update)
	}
	return nil, nil
}

func (a *adding) isThere(name, version string, f *layout.Found) error {
	hint := problem.Do("mods add", a.req.Parts[f.Parts[0]].File).With("update")
	return problem.Usage(hint.Note("replaces it"), "%s is there already; nothing has been changed", strings.TrimSpace(name+" "+version))
}

// entry is what the ledger will say of a mod.
func (a *adding) entry(f *layout.Found, before *ledger.Entry) *ledger.Entry {
	e := &ledger.Entry{Game: a.st.Install.Game.ID, Install: a.st.Install.Address(), Kind: f.Kind.ID, ID: f.ID, Version: f.Version, Title: f.Title,
		Order: a.nextOrder(), Came: a.h.Now().UTC(), Pinned: a.req.Pinned, For: a.req.For}
	if before != nil {
		e.Install, e.ID, e.Order, e.Covered = before.Install, before.ID, before.Order, before.Covered
	}
	for _, m := range f.Mods {
		if len(f.Mods) > 1 || !strings.EqualFold(m.ID, e.ID) {
			e.Mods = append(e.Mods, m.ID)
		}
	}
	for _, i := range f.Parts {
		e.From = append(e.From, a.source(i, f))
	}
	for _, piece := range f.Pieces {
		d := a.req.Parts[piece.Part]
		file := ledger.File{Root: piece.To.Root, Path: piece.To.Path, Size: piece.Entry.Size, Mode: 0o644, Time: piece.Entry.ModTime.UTC()}
		switch piece.Entry.Kind {
		case tree.Dir:
			file.Dir, file.Size, file.Mode = true, 0, 0o755
		case tree.Link:
			file.Link, file.Size = piece.Entry.Target, 0
		default:
			file.Digest = d.Digests[piece.From]
			a.sources[file.Digest] = func() (io.ReadCloser, error) { return d.FS.Open(piece.From) }
			if isText(file) { // what the player may change, to be merged with the next version
				a.hold(&file)
			}
		}
		e.Files = append(e.Files, file)
	}
	if before != nil && len(f.Lacks) > 0 { // the parts that are not among the downloads stay
		e.Files = append(e.Files, rest(before, e)...)
	}
	slices.SortFunc(e.Files, func(x, y ledger.File) int { return comparePlaces(x.Place(), y.Place()) })
	return e
}

// rest are the files of an entry that another does not have.
func rest(before, after *ledger.Entry) []ledger.File {
	there := map[ledger.Place]bool{}
	for _, f := range after.Files {
		there[f.Place()] = true
	}
	return slices.DeleteFunc(slices.Clone(before.Files), func(f ledger.File) bool { return there[f.Place()] })
}

// source is what the ledger says of a part.
func (a *adding) source(i int, f *layout.Found) ledger.Source {
	d := a.req.Parts[i]
	s := a.req.Sources[i]
	if s.Name == "" {
		s.Name = filepath.Base(d.File)
	}
	s.Part, s.Choice = f.Named[i], f.Choice
	if d.Kind != "folder" {
		s.Size, s.Digest = d.Packed, d.Whole
	}
	return s
}

// judgeParts judges whether a mod is whole: all parts of one version, and all there that must be there.
func (a *adding) judgeParts(f *layout.Found, before *ledger.Entry) {
	if f.Differ != "" {
		one := check.New(check.PartsDiffer, f.Name(), f.Differ)
		a.p.Findings = append(a.p.Findings, one.Helped(problem.Advise("fetch all parts of one version")))
	}
	for _, part := range f.Lacks {
		if before != nil && slices.ContainsFunc(before.From, func(s ledger.Source) bool { return s.Part == part }) {
			if before.Version != "" && f.Version != "" && before.Version != f.Version {
				one := check.New(check.PartsDiffer, f.Name(), fmt.Sprintf("%s is %s, and what comes is %s", part, before.Version, f.Version))
				a.p.Findings = append(a.p.Findings, one.Helped(problem.Advise("fetch all parts of one version")))
			}
			continue
		}
		one := check.New(check.Incomplete, f.Name(), fmt.Sprintf("the part %s is not among what was given", part))
		if len(f.Mods) > 0 { // it may be one that comes alone
			one.Severity, one.Evidence = check.Note, fmt.Sprintf("such mods may have a part %s, which is not among what was given", part)
		}
		a.p.Findings = append(a.p.Findings, one.Helped(problem.Advise("give all parts in one command")))
	}
	for _, want := range f.After {
		one := check.New(check.Incomplete, f.Name(), want+" must be there at the end, and is not in the download")
		a.p.Findings = append(a.p.Findings, one.Helped(problem.Advise("fetch the download again")))
	}
}

// programs judges what of a mod the computer could run: what its kind is made of is named, all else is dangerous.
func (a *adding) programs(f *layout.Found) []check.Finding {
	var found []check.Finding
	var scripts []string // mods of such games are made of them
	placed := map[string]bool{}
	for _, p := range f.Pieces {
		placed[a.req.Parts[p.Part].File+"\x00"+p.From] = true
	}
	for _, i := range f.Parts {
		d := a.req.Parts[i]
		for _, c := range d.Code {
			switch {
			case !placed[d.File+"\x00"+c.Path] && c.Format != programFormat:
				continue // it is left out
			case c.Format == programFormat && !allows(f.Kind, c.Path, c.Why):
				one := check.New(check.Dangerous, c.Path, c.Why)
				found = append(found, one.Helped(problem.Advise("delete the download")))
			case c.Format != programFormat:
				scripts = append(scripts, c.Path)
			default:
				one := check.New(check.RunsCode, c.Path, c.Why)
				one.Effect = "whoever made the mod can make the game do what you can do"
				one.Remedy = problem.Advise("use it only if you trust who made it")
				found = append(found, one)
			}
		}
	}
	if len(scripts) > 0 {
		one := check.New(check.RunsCode, f.Name(), fmt.Sprintf("%s more than data: %s", count(len(scripts), "file of it is", "files of it are"), scripts[0]))
		if len(scripts) > 1 {
			one.Evidence += " and others"
		}
		one.Severity, one.Effect = check.Note, "whoever made the mod can make the game do what you can do"
		found = append(found, one)
	}
	return found
}

// programFormat is the format that package hazard gives programs, libraries and scripts.
const programFormat = "program"

// allows reports whether mods of a kind are made of such programs: the description names them by their endings, or the kind has a loader and it
// is a library. A script that no system runs by its ending is a mod's own business, as the game's is.
func allows(kind *game.Mod, file, why string) bool {
	ext := strings.ToLower(path.Ext(file))
	names := []string{}
	for _, u := range kind.Unpack {
		for glob := range u.Files {
			names = append(names, path.Ext(glob))
		}
	}
	if kind.Unit == game.UnitFile {
		names = append(names, path.Ext(kind.Name))
	}
	if ext != "" && slices.Contains(names, ext) {
		return true
	}
	library := slices.Contains([]string{".dll", ".so", ".dylib", ".jar"}, ext)
	if library {
		return kind.Loader != ""
	}
	return why == "is a script" && slices.Contains([]string{".sh", ".py", ".js", ".lua", ".pl", ""}, ext)
}

// covers are the paths that a mod lies on top of, with whose they are.
func (a *adding) covers(after, before *ledger.Entry) []Covered {
	shelf := ledger.NewShelf(a.now, rank(a.presentOrder()))
	var all []Covered
	for _, f := range after.Files {
		owners := shelf.Owners(f.Place())
		owners = slices.DeleteFunc(owners, func(e *ledger.Entry) bool { return before != nil && e.Key() == before.Key() })
		switch {
		case len(owners) > 0:
			all = append(all, Covered{f.Path, owners[len(owners)-1].Name()})
		case before == nil || !slices.ContainsFunc(before.Files, func(o ledger.File) bool { return o.Place() == f.Place() }):
			if lies, err := a.lies(f.Place(), nil); err == nil && lies != nil && !lies.Dir {
				all = append(all, Covered{f.Path, a.nobody(f.Place())})
			}
		}
	}
	return all
}

// nobody is whose a file is that no mod of the ledger has: a mod's that nobody owns yet, or the game's.
func (a *adding) nobody(p ledger.Place) string {
	full, err := a.path(p)
	if err != nil {
		return ""
	}
	for _, m := range a.st.Mods.Mods {
		if dir := tree.Real(m.Dir()); full == dir || game.Within(full, dir) {
			return m.Name()
		}
	}
	return ""
}

// changes are what a mod that comes means for the saves, and for the game's list.
func (a *adding) changes(f *layout.Found, after *ledger.Entry) []assess.Change {
	active := a.st.Install.Game.Active
	listed := a.isListed()
	var changes []assess.Change
	mods := f.Mods
	if len(mods) == 0 {
		mods = []*mod.Mod{{Kind: f.Kind, ID: after.ID, Version: after.Version, Title: after.Title, On: true}}
	}
	last := len(a.order)
	for _, m := range mods {
		m.On = true
		one := assess.Change{Words: strings.TrimSpace("with " + m.Name() + " " + m.Version), Add: m}
		there := slices.ContainsFunc(a.st.Mods.Mods, func(o *mod.Mod) bool { return strings.EqualFold(o.ID, m.ID) && o.HiddenBy == "" && !o.Kind.Base })
		if listed && !there {
			if active.Entry == "" || m.Kind.Base {
				m.On = false
				a.p.Warnings = append(a.p.Warnings, fmt.Sprintf("%s comes in switched off: the description does not say how the game's list of mods is written; switch it on in the game", m.Name()))
			} else {
				a.edit().add = append(a.edit().add, listedMod{id: m.ID, m: m})
				if last++; a.st.Mods.Ordered {
					m.Order, a.order = last, append(a.order, strings.ToLower(m.ID))
				}
			}
		} else if there {
			for _, o := range a.st.Mods.Mods {
				if strings.EqualFold(o.ID, m.ID) && o.HiddenBy == "" {
					m.On, m.Order = o.On, o.Order
				}
			}
		}
		changes = append(changes, one)
	}
	for _, finding := range a.p.Findings {
		if finding.Severity == check.Note {
			continue
		}
		if finding.Code == check.Dangerous || finding.Code == check.Damaged || finding.Code == check.Incomplete || finding.Code == check.PartsDiffer {
			changes[0].Unsafe = append(changes[0].Unsafe, finding)
		}
	}
	return changes
}
