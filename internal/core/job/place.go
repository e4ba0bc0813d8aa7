package job

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ostrov/internal/core/change"
	"ostrov/internal/core/check"
	"ostrov/internal/core/form"
	"ostrov/internal/core/game"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/save"
	"ostrov/internal/core/tree"
)

// PlanPlace plans to install the one save of a vetting. An unfit save needs anyway; a dangerous download is never placed.
func (s *Session) PlanPlace(ctx context.Context, v *Vetting, anyway bool) (*Planned, *Judged, error) {
	if err := s.RequireRecords(); err != nil {
		return nil, nil, err
	}
	if v.Dangerous() {
		return nil, nil, &Error{Text: v.File + " is dangerous and is not placed; nothing has been changed", Hint: "delete it", Err: ErrDeclined}
	}
	switch {
	case len(v.Saves) > 1:
		return nil, nil, usage("ostrov vet "+Quoted(v.File), "%s holds %d saves: choose one with --pick", v.File, len(v.Saves))
	case len(v.Judged) == 0:
		return nil, nil, &Error{Text: v.File + " cannot be placed: " + worst(v.Findings), Hint: "ostrov vet " + Quoted(v.File), Err: ErrDeclined}
	case len(v.Judged) > 1:
		var hints []string
		for _, j := range v.Judged {
			hints = append(hints, "--for "+j.Look.Install.Address())
		}
		return nil, nil, usage(strings.Join(hints, "\n"), "several installs could take it: say which")
	}
	j := v.Judged[0]
	if j.Verdict == check.Unfit && !anyway {
		return nil, j, &Error{Text: fmt.Sprintf("unfit for %s: %s; nothing has been changed", j.Look.Called, worst(append(v.Findings, j.Findings...))),
			Hint: "ostrov vet " + Quoted(v.File) + "\nostrov place " + Quoted(v.File) + " --anyway", Err: ErrDeclined}
	}
	if j.Target == nil {
		return nil, j, &Error{Text: "there is nowhere to put it: " + worst(j.Findings), Hint: "ostrov place " + Quoted(v.File) + " --slot N", Err: ErrDeclined}
	}
	var existing *save.Save
	if j.Target.Replaces != nil {
		existing = j.Target.Replaces.Save
	}
	kind := j.Save.Kind
	guard := func() error { return mayChange(ctx, j.Look.Install, kind, existing) }
	if err := guard(); err != nil {
		return nil, j, err
	}
	p := s.newPlan(ctx, j.Look, "place "+filepath.Base(v.File), guard)
	return p, j, s.planPlace(ctx, v, j, p)
}

// worst is the gravest finding in words.
func worst(findings []check.Finding) string {
	all := append([]check.Finding(nil), findings...)
	check.Sort(all)
	if len(all) == 0 {
		return "nothing known of it"
	}
	text := all[0].Evidence
	if all[0].Subject != "" {
		text = all[0].Subject + ": " + text
	}
	return text
}

func (s *Session) planPlace(ctx context.Context, v *Vetting, j *Judged, p *Planned) error {
	c, t := j.Save, j.Target
	owner := ""
	if o := c.Kind.Owner; o != nil && o.Rewrite && j.Look.Account != "" && c.Facts.Owner != "" && c.Facts.Owner != j.Look.Account {
		owner = j.Look.Account
	}
	step := Step{"put", fmt.Sprintf("%q", titleOf(c)), filepath.Join(t.Folder.Path, t.Name), ""}
	if t.Replaces != nil {
		step.Do, step.Note = "replace", "now: "+describe(t.Replaces)
		for _, top := range t.Replaces.Tops() {
			p.remove(ctx, t.Folder.Path, top)
		}
	}
	p.Steps = append(p.Steps, step)
	if owner != "" {
		p.Steps = append(p.Steps, Step{"set", "owner " + c.Facts.Owner + " → " + owner, step.Path, ""})
	}
	placed := &placing{v, c, t, owner}
	for _, top := range placed.tops() {
		p.plan.Items = dropItem(p.plan.Items, t.Folder.Path, top.to)
		if err := p.put(ctx, t.Folder.Path, top.to, placed.fill(top.from)); err != nil {
			return err
		}
	}
	p.records = append(p.records, func(ctx context.Context) error { return s.recordPlaced(ctx, j) })
	return nil
}

// dropItem takes back the removal of a name that is to be replaced.
func dropItem(items []change.Item, root, name string) []change.Item {
	kept := items[:0]
	for _, i := range items {
		if i.Root != root || i.Name != name {
			kept = append(kept, i)
		}
	}
	return kept
}

func titleOf(c *Vetted) string {
	if t := c.Facts.Title(); t != "" {
		return t
	}
	return path.Base(c.Name)
}

// placing writes the save of a download under its new name.
type placing struct {
	v     *Vetting
	c     *Vetted
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
		return []topName{{p.c.Name, p.t.Name}}
	case game.UnitFile:
		return p.withCompanions()
	}
	var tops []topName
	for _, f := range p.c.Files {
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
	tops := []topName{{p.c.Name, p.t.Name}}
	old, new := save.CompanionNames(p.c.Kind, path.Base(p.c.Name)), save.CompanionNames(p.c.Kind, p.t.Name)
	for _, f := range p.c.Files[1:] {
		for i, name := range old {
			if strings.EqualFold(path.Base(f), name) {
				tops = append(tops, topName{f, new[i]})
				break
			}
		}
	}
	return tops
}

func (p *placing) fill(from string) func(context.Context, *change.Stage) error {
	return func(ctx context.Context, stage *change.Stage) error {
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
			e.Mode |= 0o600 // a download's own bits must not lock the player out
			if e.Kind == tree.Dir {
				e.Mode |= 0o700
				if err := stage.Mkdir(name, e); err != nil {
					return err
				}
				continue
			}
			if name != "." && !slices.Contains(p.c.Files, e.Path) {
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
	f, err := p.v.Download.FS.Open(name)
	if err != nil {
		return err
	}
	defer f.Close()
	sums, _, err := tree.SumReader(ctx, f, false, w)
	if err == nil && sums.Blake3 != p.v.Download.Digests[name] {
		return fmt.Errorf("%s %w since it was vetted", name, change.ErrChanged)
	}
	return err
}

func (p *placing) holdsOwner(name string) bool {
	file := p.c.Kind.Files[p.c.Kind.Owner.In].Path
	return file == "." || strings.EqualFold(path.Join(p.c.Name, file), name)
}

func (p *placing) rewritten(name string) ([]byte, error) {
	declared := p.c.Kind.Files[p.c.Kind.Owner.In]
	original, err := fs.ReadFile(p.v.Download.FS, name)
	if err != nil {
		return nil, err
	}
	content, err := form.Read(p.v.Download.FS, name, declared.Layers.Layers, form.DefaultLimits)
	if err != nil {
		return nil, err
	}
	if content, err = form.Splice(declared.Spec(), content, p.c.Kind.Owner.At, p.owner); err != nil {
		return nil, fmt.Errorf("%s: the owner: %w", name, err)
	}
	return declared.Layers.Wrap(content, original)
}

// placedNote marks the evidence of a save that came from a download.
const placedNote = "placed"

// recordPlaced records what was placed as descending from the download, with what is known of that.
func (s *Session) recordPlaced(ctx context.Context, j *Judged) error {
	in := j.Look.Install
	delete(s.looks, in)
	sv, err := s.readPlaced(ctx, j)
	if err != nil {
		return err
	}
	e := logbook.Evidence{Kind: check.Descends, At: s.Now(), Note: placedNote}
	if sv.Digest != j.Save.Digest {
		e.Parent = j.Save.Digest
	}
	if err := s.Logbook.Add(ctx, sv.Digest, e); err != nil {
		return err
	}
	state := logbook.State{Digest: sv.Digest, Game: in.Game.ID, Kind: sv.Kind.ID, Title: sv.Facts.Title(), Size: sv.Size}
	if err := s.Logbook.See(ctx, state, s.Now()); err != nil {
		return err
	}
	if err := s.written(ctx, sv.Digest, sv.Facts, ""); err != nil {
		return err
	}
	key := keyOf(sv)
	if err := s.Logbook.SetPlaces(ctx, in.Address(), []logbook.Place{{Key: key, Digest: sv.Digest, Title: sv.Facts.Title(), Slot: sv.SlotShown(), Size: sv.Size, Modified: sv.Modified, Seen: s.Now()}}); err != nil {
		return err
	}
	if p := j.Look.Current(); p != nil && len(j.Look.Playthroughs) > 1 {
		return s.Logbook.Assign(ctx, in.Address(), []logbook.Key{key}, p.Name)
	}
	return nil
}

func (s *Session) readPlaced(ctx context.Context, j *Judged) (*save.Save, error) {
	saves, err := save.Scan(ctx, j.Look.Install, s.Hasher)
	if err != nil {
		return nil, err
	}
	for _, sv := range saves {
		if sv.Folder.Path == j.Target.Folder.Path && sv.Name == j.Target.Name {
			return sv, sv.TakeDigest(ctx, s.Hasher)
		}
	}
	return nil, errors.New("the placed save is not among the game's saves")
}
