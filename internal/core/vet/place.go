package vet

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/doc"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/wrap"
)

// Place plans to install the one save of a vetting. An unfit save needs anyway; a dangerous download is never placed.
func (v *Vetting) Place(ctx context.Context, anyway bool) (*plan.Plan, *Assessment, error) {
	if err := v.h.RequireRecords(); err != nil {
		return nil, nil, err
	}
	a, err := v.placeable(anyway)
	if err != nil {
		return nil, a, err
	}
	var existing *save.Save
	if a.Target.Replaces != nil {
		existing = a.Target.Replaces.Save
	}
	guard := func() error { return plan.MayChange(ctx, a.State.Install, a.Save.Kind, existing) }
	if err := guard(); err != nil {
		return nil, a, err
	}
	p := plan.New(ctx, v.h, a.State, "place "+filepath.Base(v.File), guard)
	v.place(ctx, a, p)
	return p, a, p.Err()
}

// placeable is the assessment by which the save can be placed.
func (v *Vetting) placeable(anyway bool) (*Assessment, error) {
	if v.Dangerous() {
		return nil, problem.Declined(problem.Advise("delete it"), "%s is dangerous and is not placed; nothing has been changed", v.File)
	}
	switch {
	case len(v.Saves) > 1:
		return nil, problem.Usage(problem.Do("place", v.File).With("pick", v.Pick(v.Saves[0])), "%s holds %d saves: choose one", v.File, len(v.Saves))
	case len(v.Judged) == 0:
		return nil, problem.Declined(problem.Do("vet", v.File), "%s cannot be placed: %s", v.File, assess.Worst(v.Findings...))
	case len(v.Judged) > 1:
		var hints problem.Hints
		for _, a := range v.Judged {
			hints = hints.Or(problem.Do("place", v.File).With("for", a.State.Install.Address()))
		}
		return nil, problem.Usage(hints, "several installs could take it: say which")
	}
	a := v.Judged[0]
	if a.Verdict == check.Unfit && !anyway {
		hints := problem.Do("vet", v.File).Or(problem.Do("place", v.File).With("anyway"))
		return a, problem.Declined(hints, "unfit for %s: %s; nothing has been changed", a.State.Called, assess.Worst(append(v.Findings, a.Findings...)...))
	}
	if a.Target == nil {
		hints := problem.Do("place", v.File).With("slot", "N")
		if a.Blocked.Remedy != nil {
			hints = a.Blocked.Remedy.About("FILE", v.File)
		}
		return a, problem.Declined(hints, "there is nowhere to put it: %s", a.Blocked.Evidence)
	}
	return a, nil
}

// place plans the steps.
func (v *Vetting) place(ctx context.Context, a *Assessment, p *plan.Plan) {
	c, t, st := a.Save, a.Target, a.State
	owner := ""
	if v.rewrites(a) {
		owner = st.Account
	}
	step := plan.Step{What: fmt.Sprintf("%q", c.Title()), Root: t.Folder.Path, Name: t.Name, Saved: c.Modified}
	effect := &plan.Save{Key: facts.KeyAt(t.Folder, t.Name), After: plan.Stand{There: true}}
	guard := plan.Guard(t.Replaces)
	if old := t.Replaces; old != nil {
		if step.Was, step.WasSaved = plan.Describe(old), old.Modified; c.Facts.Title() == old.Facts.Title() {
			step.Played, step.WasPlayed = c.Facts.Played(), old.Facts.Played()
		}
		effect.Before = plan.Standing(st, old)
		effect.After.Place = &logbook.Place{Key: old.Key(), Seen: v.h.Now()} // what lies there next is another save
	}
	if current := st.Current(); current != nil && len(st.Lines) > 1 {
		effect.After.Line = current.Name
		if t.Replaces != nil && t.Replaces.Line != "" {
			effect.After.Line = t.Replaces.Line // the place stays its line's
		}
	}
	placed := &placing{v, c, t, owner}
	var targets []plan.Target
	var tops []string
	for _, top := range placed.tops() {
		targets = append(targets, plan.Target{Root: t.Folder.Path, Name: top.to, Fill: placed.fill(top.from)})
		tops = append(tops, top.to)
	}
	p.Put(ctx, step, guard, effect, targets...)
	if t.Replaces != nil {
		gone := slices.DeleteFunc(t.Replaces.Tops(), func(top string) bool { return slices.Contains(tops, top) })
		p.Replacing(ctx, t.Folder.Path, guard, gone...)
	}
	if owner != "" {
		p.Say(plan.Step{Verb: plan.Set, What: "owner " + cmp.Or(c.Facts.Owner, "nobody") + " → " + owner + a.elsewhere, Root: t.Folder.Path, Name: t.Name})
	}
}

// rewrites reports whether place writes the receiver's account into the save: in the place of another one, or where a parcel was blanked.
func (v *Vetting) rewrites(a *Assessment) bool {
	c, account := a.Save, a.State.Account
	if o := c.Kind.Owner; o == nil || !o.Rewrite || account == "" || c.Facts.Owner == account {
		return false
	}
	if c.Facts.Owner != "" {
		return true
	}
	_, err := (&placing{v: v, c: c, owner: account}).rewritten(v.ownerFile(c)) // there may be no place for it
	return err == nil
}

// ownerFile returns the file of the download with the owner, by its description.
func (v *Vetting) ownerFile(c *facts.Found) string {
	i := slices.IndexFunc(c.Candidate.Files, (&placing{c: c}).holdsOwner)
	if i < 0 {
		return ""
	}
	return c.Candidate.Files[i]
}

// ownerElsewhere lists the files in which the owner's account remains after place, and how often, or returns "".
func (v *Vetting) ownerElsewhere(ctx context.Context, a *Assessment) string {
	c := a.Save
	if len(c.Facts.Owner) < minOwner || !v.rewrites(a) {
		return ""
	}
	placed := &placing{v: v, c: c, owner: a.State.Account}
	var said []string
	for _, name := range c.Candidate.Files {
		n, err := placed.ownerIn(name)
		switch {
		case ctx.Err() != nil:
			return ""
		case err != nil:
			said = append(said, "perhaps "+path.Base(name)+", which was not read")
		case n > 0:
			said = append(said, fmt.Sprintf("%d times in %s", n, path.Base(name)))
		}
	}
	if len(said) == 0 {
		return ""
	}
	return "; other places keep the old account: " + strings.Join(said, ", ")
}

// minOwner is how long an account must be to be looked for, in bytes: shorter ones occur by chance.
const minOwner = 4

// ownerIn counts how often the owner's account will still be in a file after it has been placed.
func (p *placing) ownerIn(name string) (n int, err error) {
	layers := wrap.Layers{Chain: []wrap.Layer{{Name: "auto"}}}
	for _, declared := range p.c.Kind.Files {
		if declared.Path == "." || len(declared.In([]string{strings.TrimPrefix(name, p.c.Candidate.Name+"/")})) > 0 {
			layers = declared.Layers.Layers
		}
	}
	limits := wrap.Limits{Decoded: maxRewritten}
	var content []byte
	if p.holdsOwner(name) {
		if content, err = p.rewritten(name); err == nil {
			content, err = layers.Peel(bytes.NewReader(content), limits)
		}
	} else {
		content, err = layers.ReadFile(p.v.Download.FS, name, limits)
	}
	if err != nil {
		return 0, err
	}
	part := func(i int) bool {
		return i >= 0 && i < len(content) && (content[i] >= '0' && content[i] <= '9' || content[i] >= 'a' && content[i] <= 'z' || content[i] >= 'A' && content[i] <= 'Z')
	}
	for at := 0; ; {
		i := bytes.Index(content[at:], []byte(p.c.Facts.Owner))
		if i < 0 {
			return n, nil
		}
		from := at + i
		if at = from + len(p.c.Facts.Owner); !part(from-1) && !part(at) {
			n++
		}
	}
}

// Placed is what the logbook is to know of a save that has been placed: what is known of it, and that it descends from the download. st is
// the install as it is now.
func (v *Vetting) Placed(a *Assessment, st *facts.State) (facts.Learnt, error) {
	learnt := a.Save.Learnt()
	s := st.At(a.Target.Folder, a.Target.Name)
	if s == nil {
		return learnt, fmt.Errorf("the placed save is not among the saves of %s", st.Called)
	}
	e := logbook.Evidence{Kind: check.Descends, At: v.h.Now(), Note: logbook.Placed}
	if s.Digest != a.Save.Digest {
		e.Parent = a.Save.Digest
	}
	learnt.Evidence = append(learnt.Evidence, facts.OfState{Digest: s.Digest, Evidence: e})
	return learnt, nil
}

// placing writes the save of a download under its new name.
type placing struct {
	v     *Vetting
	c     *facts.Found
	t     *Target
	owner string // to write into it, or ""
}

type topName struct {
	from string // path in the download
	to   string // name in the folder
}

func (p *placing) tops() []topName {
	switch p.c.Kind.Unit {
	case game.UnitFolder:
		return []topName{{p.c.Candidate.Name, p.t.Name}}
	case game.UnitFile:
		return p.withCompanions()
	}
	var tops []topName
	for _, f := range p.c.Candidate.Files {
		to := path.Base(f)
		for _, n := range p.c.Kind.Names() {
			if _, ok := n.Match(to, true); ok {
				if spelled, ok := n.Spell(p.t.captures); ok {
					to = spelled
				} else { // the ending is not captured: keep it
					stem := strings.TrimSuffix(p.t.Name, path.Ext(p.t.Name))
					to = stem + path.Ext(to)
				}
				break
			}
		}
		tops = append(tops, topName{f, to})
	}
	return tops
}

// withCompanions are a save of one file and what lies beside it, all under the new name.
func (p *placing) withCompanions() []topName {
	tops := []topName{{p.c.Candidate.Name, p.t.Name}}
	old, new := save.CompanionNames(p.c.Kind, path.Base(p.c.Candidate.Name)), save.CompanionNames(p.c.Kind, p.t.Name)
	for _, f := range p.c.Candidate.Files[1:] {
		for i, name := range old {
			if strings.EqualFold(path.Base(f), name) {
				tops = append(tops, topName{f, new[i]})
				break
			}
		}
	}
	return tops
}

func (p *placing) fill(from string) plan.Fill {
	return func(ctx context.Context, stage *plan.Stage) error {
		files := p.c.Candidate.Set()
		for _, e := range p.v.Download.Entries {
			name := "."
			if e.Path != from {
				rest, below := strings.CutPrefix(e.Path, from+"/")
				if from == "." {
					rest, below = e.Path, true
				}
				if !below {
					continue
				}
				name = rest
			}
			e.Mode = placedMode(e)
			if e.Kind == tree.Dir {
				if err := stage.Mkdir(name, e); err != nil {
					return err
				}
				continue
			}
			if name != "." && !files[e.Path] {
				continue // ignored files of the description are litter
			}
			if err := stage.Write(name, e, func(w io.Writer) error { return p.copy(ctx, e.Path, w) }); err != nil {
				return err
			}
		}
		return nil
	}
}

// copy copies one file of the download, checked against what was vetted, with the owner rewritten where it stands.
func (p *placing) copy(ctx context.Context, name string, w io.Writer) error {
	if p.owner != "" && p.holdsOwner(name) {
		data, err := p.rewritten(name)
		if err != nil {
			return err
		}
		_, err = w.Write(data)
		return err
	}
	if p.v.become != nil {
		if data, ok := p.v.become.Files[name]; ok {
			_, err := io.Copy(w, io.NewSectionReader(data, 0, data.Size()))
			return err
		}
	}
	f, err := p.v.Download.FS.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	sums, _, err := tree.SumReader(ctx, f, false, w)
	if err == nil && sums.Blake3 != p.v.Download.Digests[name] {
		return fmt.Errorf("%s has changed since it was vetted", name)
	}
	return err
}

func (p *placing) holdsOwner(name string) bool {
	file := p.c.Kind.Files[p.c.Kind.Owner.In].Path
	return file == "." || strings.EqualFold(path.Join(p.c.Candidate.Name, file), name)
}

func (p *placing) rewritten(name string) ([]byte, error) {
	declared := p.c.Kind.Files[p.c.Kind.Owner.In]
	content := p.v.Download.FS
	if p.v.become != nil {
		content = p.v.become.FS
	}
	original, err := fs.ReadFile(content, name)
	if err != nil {
		return nil, err
	}
	limits := wrap.DefaultLimits
	if layers := declared.Layers.Layers; len(layers.Chain) > 0 || layers.Tag != nil {
		limits.Decoded = maxRewritten
	}
	written, err := declared.Layers.Rewrite(original, limits, func(content []byte) ([]byte, error) {
		return doc.SpliceAll(declared.Spec(), content, p.c.Kind.Owner.At, p.c.Kind.Owner.Fields()[0].Encode(p.owner))
	})
	if err != nil {
		return nil, fmt.Errorf("%s: the owner: %w", name, err)
	}
	return written, nil
}

// maxRewritten bounds the content of a stranger's file that is unwrapped and rewritten, in bytes: it is held in memory more than once.
const maxRewritten = 32 << 20

// placedMode are the permission bits of a placed file: a download's own must neither lock the player out nor make anything a program.
func placedMode(e tree.Entry) fs.FileMode {
	if e.Kind == tree.Dir {
		return 0o755
	}
	return 0o644
}
