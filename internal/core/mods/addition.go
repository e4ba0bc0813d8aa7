package mods

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/checkout"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/layout"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
)

// IsURL reports whether a text names a repository elsewhere.
func IsURL(text string) bool { return checkout.IsURL(text) }

// AdditionRequest says how mods are brought in.
type AdditionRequest struct {
	Pick   string
	Update bool
	Keep   bool // the downloads, in the archive
}

// Addition is mods on their way in: downloads and checkouts that are open. Close it.
type Addition struct {
	// NotThere are mods of a list that no download of a folder is.
	NotThere []string

	h       *home.Home
	req     AdditionRequest
	parts   []*facts.Download
	sources map[int]ledger.Source
	update  string
	temps   []func() error
	// inPlace is the folder of a checkout that the player made, and fetched what it is updated from; "" where there is none.
	inPlace, fetched string
	reason           string // why there is nothing to bring in
}

// NewAddition begins one.
func NewAddition(h *home.Home, req AdditionRequest) *Addition {
	return &Addition{h: h, req: req, sources: map[int]ledger.Source{}}
}

// Close frees the downloads, and removes what was fetched.
func (a *Addition) Close() error {
	var err error
	for _, d := range a.parts {
		err = errors.Join(err, d.Close())
	}
	for _, done := range a.temps {
		err = errors.Join(err, done())
	}
	return err
}

// Open opens a download, a folder or a repository.
func (a *Addition) Open(ctx context.Context, what string) error {
	if IsURL(what) {
		return a.clone(ctx, what)
	}
	if err := a.refuseOwn(ctx, what); err != nil {
		return err
	}
	d, err := facts.OpenMod(ctx, a.h, what)
	if err != nil {
		return err
	}
	a.parts = append(a.parts, d)
	if !checkout.IsCheckout(what) {
		return nil
	}
	info, err := checkout.Read(what)
	if err != nil {
		return problem.New(problem.Advise("clone it anew"), "%s cannot be used: %w; nothing has been changed", what, err)
	}
	if info.URL == "" { // it is where others would fetch it from
		info.URL = "file://" + filepath.ToSlash(absolute(what))
	}
	a.sources[len(a.parts)-1] = sourceOf(filepath.Base(what), info)
	return nil
}

// refuseOwn refuses what lies in a folder of the game already.
func (a *Addition) refuseOwn(ctx context.Context, what string) error {
	real := tree.Real(absolute(what))
	for _, in := range a.h.Installs {
		if in.Open() != nil {
			continue
		}
		folders, err := in.Folders(ctx)
		if err != nil {
			continue
		}
		for _, f := range folders {
			if !f.Managed && (f.Real == real || game.Within(real, f.Real)) {
				return problem.Usage(problem.Do("mods adopt", a.h.Called(in)), "%s lies in a folder of %s already", what, in.Address())
			}
		}
	}
	return nil
}

func absolute(path string) string {
	if full, err := filepath.Abs(path); err == nil {
		return full
	}
	return path
}

func sourceOf(name string, info checkout.Info) ledger.Source {
	return ledger.Source{Name: name, URL: info.URL, Commit: info.Commit, Branch: info.Branch}
}

// temp is an empty folder of Ostrov's own, called like what comes into it.
func (a *Addition) temp(name string) (string, error) {
	dir, err := a.h.ScratchFolder(name)
	if err == nil {
		a.temps = append(a.temps, func() error { return a.h.DropScratch(filepath.Dir(dir)) })
	}
	return dir, err
}

// told is what a remote says, for the progress.
type told struct{ h *home.Home }

// Write shows the last line.
func (t told) Write(p []byte) (int, error) {
	if t.h.Progress != nil {
		t.h.Progress("fetch", 0, 0)
	}
	return len(p), nil
}

func (a *Addition) clone(ctx context.Context, url string) error {
	name := checkout.Name(url)
	if !filepath.IsLocal(name) || name == "." {
		return problem.Usage(problem.Do("mods add", "URL"), "%s names no repository", url)
	}
	dir, err := a.temp(name)
	if err != nil {
		return err
	}
	info, err := checkout.Clone(ctx, url, dir, "", false, told{a.h})
	if err != nil {
		return problem.New(problem.Advise("nothing has been changed"), "%w", err)
	}
	return a.take(ctx, dir, ledger.Source{Name: name, URL: url, Commit: info.Commit, Branch: info.Branch})
}

func (a *Addition) take(ctx context.Context, dir string, s ledger.Source) error {
	d, err := facts.OpenMod(ctx, a.h, dir)
	if err != nil {
		return err
	}
	a.parts = append(a.parts, d)
	a.sources[len(a.parts)-1] = s
	return nil
}

// Checkout fetches what the repository of a mod has now.
func (a *Addition) Checkout(ctx context.Context, now *assess.Install, name string) error {
	entries, err := a.h.Ledger(ctx, now.Install)
	if err != nil {
		return err
	}
	w := newWork(ctx, a.h, now.State, &Proposal{}, entries)
	e, lies, err := w.found(name)
	if err != nil {
		return err
	}
	var source ledger.Source
	switch {
	case e != nil && len(e.From) > 0 && e.From[0].Commit != "":
		source = e.From[0]
	case e == nil && checkout.IsCheckout(lies[0].Dir()):
		info, err := checkout.Read(lies[0].Dir())
		if err != nil {
			return problem.New(problem.Advise("clone it anew"), "%s cannot be updated: %w; nothing has been changed", lies[0].Name(), err)
		}
		source = sourceOf(checkout.Name(info.URL), info)
	default:
		return problem.Usage(problem.Do("mods add", "FILE").With("update"), "%s is no checkout: an update of it is a download", name)
	}
	if source.URL == "" {
		return problem.Usage(nil, "the checkout of %s has no remote that it could be updated from", name)
	}
	dir, err := a.temp(source.Name)
	if err != nil {
		return err
	}
	info, same, err := checkout.Forward(ctx, source.URL, dir, source.Branch, source.Commit, told{a.h})
	if err != nil {
		return problem.Declined(problem.Advise("nothing has been changed"), "%s: %v", name, err)
	}
	if same {
		a.reason = fmt.Sprintf("%s is at the last commit of %s already: %s", name, source.URL, info.Short())
	}
	if at := w.inPlace(e, lies); at != "" {
		if why := checkout.Own(at); why != "" {
			return problem.Declined(problem.Advise("pull it with git, or clone it anew"), "%s is a checkout with %s; nothing has been changed", name, why)
		}
		a.inPlace, a.fetched = at, dir
	}
	if e != nil {
		a.update = e.ID
	} else {
		a.update = lies[0].ID
	}
	a.req.Update = true
	source.Commit, source.Branch = info.Commit, info.Branch
	return a.take(ctx, dir, source)
}

// inPlace is the folder of a mod that is a checkout, with its repository in it; "" where it has none.
func (w *work) inPlace(e *ledger.Entry, lies []*mod.Mod) string {
	if e != nil {
		lies = w.modsOf(e)
	}
	for _, m := range lies {
		if checkout.IsCheckout(m.Dir()) {
			return m.Dir()
		}
	}
	return ""
}

// Takers are the installs whose games take what was opened.
func (a *Addition) Takers(ctx context.Context) []*game.Install {
	var takers []*game.Install
	for _, in := range a.h.Installs {
		if facts.Open(ctx, a.h, in) != nil {
			continue
		}
		_, _, err := recognise(ctx, in, a.parts, layout.Request{Pick: a.req.Pick})
		var choice *layout.ChoiceError
		if err == nil || errors.As(err, &choice) {
			takers = append(takers, in)
		}
	}
	return takers
}

// WhyNot says why no install takes what was opened.
func (a *Addition) WhyNot(ctx context.Context) error {
	for _, d := range a.parts {
		if found := assess.Hazards(d); len(found) > 0 {
			return problem.Declined(problem.Do("vet", d.File), "%s: %s; nothing has been changed", d.File, assess.Worst(found...))
		}
	}
	var games []string
	var last error
	for _, in := range a.h.Installs {
		if err := facts.Open(ctx, a.h, in); err != nil {
			last = err
			continue
		}
		games = append(games, in.Game.Title)
		_, _, last = recognise(ctx, in, a.parts, layout.Request{Pick: a.req.Pick})
	}
	if last == nil {
		last = &layout.UnknownError{}
	}
	slices.Sort(games)
	return fmt.Errorf("for %s: %w", strings.Join(slices.Compact(games), " or "), explain(last, a.parts[0].File))
}

// Propose proposes to bring in what was opened.
func (a *Addition) Propose(ctx context.Context, now *assess.Install) (*Proposal, error) {
	if len(a.parts) == 0 || a.reason != "" {
		p, err := begin(ctx, a.h, now.State, "mods add")
		if err == nil {
			p.Reason = a.reason
			if a.reason == "" {
				p.Reason = "none of it is there"
			}
		}
		return p, err
	}
	p, err := Incoming(ctx, a.h, now, AddRequest{Parts: a.parts, Pick: a.req.Pick, Replace: a.req.Update, Update: a.update, Sources: a.sources})
	if err != nil {
		return nil, err
	}
	if a.inPlace != "" {
		if err := p.work.putRepository(a.inPlace, a.fetched); err != nil {
			return nil, err
		}
	}
	p.Before(func(ctx context.Context) error { return a.keep(ctx, p) })
	return p, nil
}

// keep has the archive take the downloads, and notes their digests in the ledger.
func (a *Addition) keep(ctx context.Context, p *Proposal) error {
	for _, d := range a.parts {
		if d.Kind == "folder" {
			continue
		}
		var digest tree.Digest
		var err error
		if a.req.Keep {
			digest, err = a.h.KeepDownload(ctx, d.File)
		} else {
			digest, err = fileDigest(ctx, d.File)
		}
		if err != nil {
			return fmt.Errorf("%s cannot be kept, so nothing has been changed: %w", d.File, err)
		}
		for _, e := range p.Entering() {
			for i := range e.From {
				if e.From[i].Name == filepath.Base(d.File) && e.From[i].Size == d.Packed {
					e.From[i].Digest = digest
				}
			}
		}
	}
	return nil
}

func fileDigest(ctx context.Context, file string) (tree.Digest, error) {
	f, err := os.Open(file)
	if err != nil {
		return tree.Digest{}, err
	}
	defer f.Close()
	sums, _, err := tree.SumReader(ctx, f, false, discard{})
	return sums.Blake3, err
}

type discard struct{}

func (discard) Write(p []byte) (int, error) { return len(p), nil }

// Like opens, of the downloads in a folder, those that are the mods which a list wants and the install lacks, or has in another version.
func (a *Addition) Like(ctx context.Context, now *assess.Install, list []modlist.Listed, name, dir string) error {
	wanted := lacking(now.State, list)
	if len(wanted) == 0 {
		a.reason = now.Called + " has all that " + name + " wants"
		return nil
	}
	files, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	a.req.Update = true
	for _, f := range files {
		if err := ctx.Err(); err != nil {
			return err
		}
		d, err := facts.OpenMod(ctx, a.h, filepath.Join(dir, f.Name()))
		if err != nil {
			continue // it is no download
		}
		if !a.takes(ctx, now.Install, d, wanted) {
			if err := d.Close(); err != nil {
				return err
			}
		}
	}
	for _, m := range wanted {
		if !m.there {
			a.NotThere = append(a.NotThere, strings.TrimSpace(m.Name()+" "+m.Version)+where(m.Listed))
		}
	}
	if len(a.parts) == 0 {
		a.reason = "no download in " + dir + " is what " + name + " wants and " + now.Called + " lacks"
	}
	return nil
}

// where says where a mod of a list was to be had.
func where(m modlist.Listed) string {
	if m.Source == "" {
		return ""
	}
	return ", from " + m.Source
}

// lack is a mod of a list that an install lacks.
type lack struct {
	modlist.Listed
	there bool
}

// lacking are the mods of a list that are on in it, and that an install lacks or has in another version.
func lacking(st *facts.State, list []modlist.Listed) []*lack {
	var all []*lack
	for _, m := range list {
		have := slices.IndexFunc(st.List, func(o modlist.Listed) bool { return strings.EqualFold(o.ID, m.ID) })
		if m.On && (have < 0 || m.Version != "" && st.List[have].Version != m.Version) {
			all = append(all, &lack{Listed: m})
		}
	}
	return all
}

// takes takes a download that is a mod which a list wants: told by what the mod says of itself, or by the digest of the download.
func (a *Addition) takes(ctx context.Context, in *game.Install, d *facts.Download, wanted []*lack) bool {
	if len(d.Hazards) > 0 || len(d.Damaged) > 0 {
		return false
	}
	found, _, err := recognise(ctx, in, []*facts.Download{d}, layout.Request{})
	if err != nil {
		return false
	}
	taken := false
	for _, f := range found.Found {
		for _, m := range wanted {
			if !m.there && strings.EqualFold(f.ID, m.ID) && (m.Version == "" || f.Version == m.Version) {
				m.there, taken = true, true
			}
		}
	}
	if taken {
		a.parts = append(a.parts, d)
	}
	return taken
}
