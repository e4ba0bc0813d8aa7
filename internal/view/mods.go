package view

import (
	"fmt"
	"strings"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/mods"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/vet"
)

// maxOfChange is how many of one sort of thing are shown where they are not asked for.
const maxOfChange = 8

// Proposal writes what a change of the mod set is, what speaks against it, and every save that would stand otherwise.
func (p *Printer) Proposal(prop *mods.Proposal) {
	for _, i := range prop.Items[:min(len(prop.Items), p.most(maxOfChange))] {
		p.Line("%s %s", p.paint(strong, string(i.Verb)+" "+Text(strings.TrimSpace(i.Name+" "+i.Version))), p.paint(faint, p.itemAbout(i)))
	}
	if n := len(prop.Items) - p.most(maxOfChange); n > 0 {
		p.Line("  and %d more", n)
	}
	if len(prop.Findings) > 0 {
		p.Line("")
		p.Findings(prop.Findings)
	}
	if prop.Dangerous() {
		return
	}
	p.covers(prop)
	p.neededBy(prop)
	p.outcomes(prop.Supposed)
	for _, k := range prop.Kept {
		p.hang("  "+p.paint(warn, "!"), Text(k.Path+": "+k.How))
	}
	if len(prop.Left) > 0 {
		p.hang("  ·", "left out: "+p.some(prop.Left))
	}
	if len(prop.Items) > 0 {
		p.Line("")
	}
}

// most is how many of something are shown: all where nothing is folded.
func (p *Printer) most(n int) int {
	if p.Whole {
		return 1 << 30
	}
	return n
}

// some are the first of some names.
func (p *Printer) some(names []string) string {
	n := min(len(names), p.most(maxOfChange))
	var shown []string
	for _, name := range names[:n] {
		shown = append(shown, Text(name))
	}
	text := strings.Join(shown, ", ")
	if n < len(names) {
		text += fmt.Sprintf(" and %d more", len(names)-n)
	}
	return text
}

func (p *Printer) itemAbout(i mods.Item) string {
	var parts []string
	if i.Was != "" && i.Was != i.Version {
		parts = append(parts, "instead of "+Text(i.Was))
	}
	if i.Files > 0 {
		parts = append(parts, Count(i.Files, "file", "files")+", "+Size(i.Bytes))
	}
	if from := sources(i.From); from != "" && i.Verb != mods.Drop {
		parts = append(parts, "from "+from)
	}
	return strings.Join(parts, ", ")
}

// sources are what a mod came from, for people.
func sources(from []ledger.Source) string {
	var names []string
	for _, s := range from {
		name := s.Name
		if s.URL != "" {
			name = s.URL
		}
		if s.Commit != "" {
			name += " at " + s.Commit[:min(10, len(s.Commit))]
		}
		if s.Choice != "" {
			name += " (" + s.Choice + ")"
		}
		names = append(names, name)
	}
	return Text(strings.Join(names, " and "))
}

// covers names the paths that come to lie on top of others, with both owners.
func (p *Printer) covers(prop *mods.Proposal) {
	for _, i := range prop.Items {
		of := map[string][]string{}
		var order []string
		for _, c := range i.Covers {
			if of[c.Of] == nil {
				order = append(order, c.Of)
			}
			of[c.Of] = append(of[c.Of], c.Path)
		}
		for _, whose := range order {
			text := fmt.Sprintf("%s covers %s of %s: %s", i.Name, Count(len(of[whose]), "file", "files"), whose, p.some(of[whose]))
			if whose == "" {
				text = fmt.Sprintf("%s covers %s of the game, or of nobody: %s", i.Name, Count(len(of[whose]), "file", "files"), p.some(of[whose]))
			}
			p.hang("  ·", text+"; what lies there is kept, and comes back when it goes")
		}
	}
}

// neededBy names the saves that need what goes.
func (p *Printer) neededBy(prop *mods.Proposal) {
	if len(prop.Items) > maxOfChange { // the saves' verdicts say it
		return
	}
	for _, i := range prop.Items {
		var names []string
		for _, n := range i.Needed {
			name := fmt.Sprintf("%s %q (%s", n.Save.Called(), n.Save.Title(), n.Evidence)
			if n.Refers > 0 {
				name += fmt.Sprintf(", refers to it %s", Count(n.Refers, "time", "times"))
			}
			names = append(names, name+")")
		}
		if len(names) > 0 {
			p.hang("  "+p.paint(warn, "!"), fmt.Sprintf("%s is needed by %s: %s", i.Name, Count(len(names), "save", "saves"), p.some(names)))
		}
	}
}

// outcomes are the saves whose verdict would be another.
func (p *Printer) outcomes(s *assess.Supposed) {
	if s == nil {
		return
	}
	var rows [][]string
	for i, then := range s.Then.Saves {
		now := s.Now.Saves[i]
		if then.Verdict != now.Verdict {
			rows = append(rows, []string{handle(s.Now, now), Text(title(now)), p.verdict(now.Verdict) + " → " + p.verdict(then.Verdict), p.gravest(then.Findings, now)})
		}
	}
	p.Line("")
	if len(rows) == 0 {
		more := 0
		for i, then := range s.Then.Saves {
			if against(then.Findings) > against(s.Now.Saves[i].Findings) {
				more++
			}
		}
		text := Count(len(s.Then.Saves), "save", "saves") + " judged"
		if more > 0 {
			text += "; " + Count(more, "has", "have") + " more against it than now"
			text = strings.Replace(text, "have more against it", "have more against them", 1)
		}
		if len(s.Then.Saves) > 0 {
			p.Line("  no save's verdict would be another (%s)", text)
		}
		return
	}
	p.table([]column{{title: "save", grow: true}, {title: "title", grow: true}, {title: "verdict"}, {title: "", grow: true}}, rows)
}

// against counts the findings that are no mere notes.
func against(found []check.Finding) int {
	n := 0
	for _, f := range found {
		if f.Severity != check.Note {
			n++
		}
	}
	return n
}

// ProposalDone is what a change of the mod set did, in words.
func ProposalDone(prop *mods.Proposal) string {
	done := map[mods.Verb]string{mods.Add: "added", mods.Update: "updated", mods.Drop: "dropped", mods.On: "switched on", mods.Off: "switched off", mods.Aside: "set aside",
		mods.Back: "brought back", mods.Adopt: "taken over", mods.Pin: "copied"}
	if len(prop.Items) == 0 {
		return "done"
	}
	if n := len(prop.Items); n > 3 {
		return Count(n, "mod", "mods") + " " + done[prop.Items[0].Verb]
	}
	var names []string
	for _, i := range prop.Items {
		names = append(names, strings.TrimSpace(i.Name+" "+i.Version))
	}
	return done[prop.Items[0].Verb] + " " + Text(strings.Join(names, ", "))
}

// ModChangeDoc is one mod of a change, in JSON.
type ModChangeDoc struct {
	Do      mods.Verb       `json:"do"` // add, update, drop, on, off, aside, back, adopt or pin
	ID      string          `json:"id"`
	Name    string          `json:"name"`
	Version string          `json:"version,omitempty"`
	Was     string          `json:"was,omitempty"` // the version before
	Files   int             `json:"files,omitempty"`
	Bytes   int64           `json:"bytes,omitempty"`
	From    []ledger.Source `json:"from,omitempty"`
	Covers  []CoversDoc     `json:"covers,omitempty"`
	Needed  []NeededDoc     `json:"needed_by,omitempty"`
}

// CoversDoc is a path that a mod comes to lie on top of; of is the mod whose it is, "" the game's or nobody's.
type CoversDoc struct {
	Path string `json:"path"`
	Of   string `json:"of"`
}

// NeededDoc is a save that needs a mod.
type NeededDoc struct {
	Address  string         `json:"address"`
	Evidence check.Evidence `json:"evidence"`
	Refers   int            `json:"refers,omitempty"` // how often
}

// YoursDoc is a file of the player's, and what becomes of it.
type YoursDoc struct {
	Path string `json:"path"`
	How  string `json:"how"`
}

// Judged adds what a change of the mod set means. The verdict is the worst that a save would have.
func (d *ChangeDoc) Judged(prop *mods.Proposal) {
	for _, i := range prop.Items {
		m := ModChangeDoc{Do: i.Verb, ID: i.ID, Name: i.Name, Version: i.Version, Was: i.Was, Files: i.Files, Bytes: i.Bytes, From: i.From}
		for _, c := range i.Covers {
			m.Covers = append(m.Covers, CoversDoc(c))
		}
		for _, n := range i.Needed {
			m.Needed = append(m.Needed, NeededDoc{prop.State.Address(n.Save), n.Evidence, n.Refers})
		}
		d.Mods = append(d.Mods, m)
	}
	if prop.Supposed != nil {
		doc := Supposed(prop.Supposed)
		d.Saves, d.Verdict = doc.Saves, doc.Verdict
	}
	d.Findings = findingDocs(prop.Findings)
	for _, k := range prop.Kept {
		d.Yours = append(d.Yours, YoursDoc(k))
	}
	d.Left = prop.Left
}

// VerifiedMods writes what verifying the mods of an install found.
func (p *Printer) VerifiedMods(v *mods.Verified) {
	head := fmt.Sprintf("%s of %s read, %s", Count(v.Files, "file", "files"), Count(v.Mods, "mod", "mods"), Size(v.Bytes))
	switch {
	case v.Mods == 0:
		head = "no mod has a ledger yet, so there is nothing to compare with"
	case len(v.Broken) == 0:
		head += ": all as they came"
	default:
		head += ": " + Count(len(v.Broken), "is", "are") + " not as it came"
		if len(v.Broken) > 1 {
			head = strings.TrimSuffix(head, "it came") + "they came"
		}
	}
	p.Line("%s: %s", p.paint(strong, v.Install.Install.Game.Title), head)
	if len(v.Findings) > 0 {
		p.Line("")
		p.Findings(v.Findings)
	}
	var next problem.Hints
	for _, b := range v.Broken {
		if b.Gone || !b.Text {
			next = problem.Do("mods verify", v.Install.Called).With("fix")
		}
	}
	if v.Mods == 0 && len(v.Install.Mods.Mods) > 0 {
		next = problem.Do("mods adopt", v.Install.Called)
	}
	p.Next(next)
}

// VerifiedModsDoc is what verifying the mods of an install found, in JSON.
type VerifiedModsDoc struct {
	Head
	Install string      `json:"install"`
	Mods    int         `json:"mods"`
	Files   int         `json:"files"`
	Bytes   int64       `json:"bytes"`
	Broken  []BrokenDoc `json:"broken"`
}

// BrokenDoc is a file of a mod that is not as it came.
type BrokenDoc struct {
	Mod  string `json:"mod"`
	Path string `json:"path"`
	Gone bool   `json:"gone,omitempty"`
}

// VerifiedMods makes the document of a verification.
func VerifiedMods(v *mods.Verified) VerifiedModsDoc {
	d := VerifiedModsDoc{Head: NewHead("mods verify"), Install: v.Install.Install.Address(), Mods: v.Mods, Files: v.Files, Bytes: v.Bytes, Broken: []BrokenDoc{}}
	for _, b := range v.Broken {
		d.Broken = append(d.Broken, BrokenDoc{b.Of.ID, b.Path, b.Gone})
	}
	d.Findings = findingDocs(v.Findings)
	return d
}

// StatedNeed writes that a requirement of a mod is remembered, and whether it is met.
func (p *Printer) StatedNeed(l *assess.Install, id, need string, forgotten, dry bool) {
	verb := map[bool]string{true: "forgotten", false: "remembered"}[forgotten]
	if dry {
		verb = "would be " + verb
	}
	p.Line("%s needs %s: %s", Text(id), Text(need), verb)
	for _, f := range l.Findings {
		if f.Code == check.RequirementMissing && strings.Contains(f.Evidence, need) {
			p.Findings([]check.Finding{f})
		}
	}
}

// VetMod writes what there is to say of a download as a mod.
func (p *Printer) VetMod(file string, v *mods.Vetted) {
	if v.Dangerous() {
		p.Line("%s: %s", p.paint(bad, "dangerous"), Text(file))
		p.Line("")
		p.Line("  Do not unpack it. Nothing of it has been written anywhere.")
	}
	if len(v.Choices) > 0 && len(v.Proposals) == 0 {
		p.Line("%s: %s", p.verdict(v.Verdict()), Text(file))
		p.Line("")
		p.Line("  a mod of %s in %s: %s", v.Of, Count(len(v.Choices), "variant", "variants"), p.some(v.Choices))
		p.Next(problem.Do("vet", file).With("pick", v.Choices[0]), problem.Do("mods add", file).With("pick", v.Choices[0]))
	}
	for i, prop := range v.Proposals {
		if i > 0 || v.Dangerous() {
			p.Line("")
		}
		if !v.Dangerous() {
			p.Line("%s for %s (%s): a mod", p.verdict(prop.Verdict()), prop.State.Called, hasState(prop.State))
			p.Line("")
		}
		p.Proposal(prop)
		p.Next(p.adding(file, prop, len(v.Proposals) > 1))
	}
}

// adding is the command that adds what was vetted.
func (p *Printer) adding(file string, prop *mods.Proposal, several bool) problem.Hints {
	if prop.Dangerous() {
		return problem.Advise("delete it")
	}
	hint := problem.Do("mods add", file)
	for _, i := range prop.Items {
		if i.Verb == mods.Update {
			hint = hint.With("update")
			break
		}
	}
	if several {
		hint = hint.With("for", prop.State.Install.Address())
	}
	return hint
}

// WouldDoc is what adding a mod would do in one install.
type WouldDoc struct {
	Install  string         `json:"install"`
	Verdict  check.Verdict  `json:"verdict"`
	Findings []FindingDoc   `json:"findings"`
	Mods     []ModChangeDoc `json:"mods"`
	Plan     []StepDoc      `json:"plan"`
	Saves    []OutcomeDoc   `json:"saves"`
	Left     []string       `json:"left_out,omitempty"`
}

// VetMod makes the document of a download that was vetted as a mod.
func VetMod(v *vet.Vetting, m *mods.Vetted) VetDoc {
	d := Vet(v)
	d.Verdict, d.Dangerous, d.Mods = m.Verdict(), m.Dangerous(), nil
	d.Findings, d.Choices = findingDocs(m.Findings), m.Choices
	for _, prop := range m.Proposals {
		c := Change("mods add", prop.Plan)
		c.Judged(prop)
		d.Would = append(d.Would, WouldDoc{prop.State.Install.Address(), prop.Verdict(), c.Findings, c.Mods, c.Plan, append([]OutcomeDoc{}, c.Saves...), c.Left})
		for _, i := range prop.Items {
			d.Mods = append(d.Mods, ModFound{ID: i.ID, Version: i.Version, Title: i.Name, Path: ""})
		}
	}
	if len(m.Proposals) == 1 {
		d.Findings = d.Would[0].Findings
	}
	return d
}
