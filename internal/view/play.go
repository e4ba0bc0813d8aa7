package view

import (
	"fmt"
	"strings"
	"time"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/play"
	"ostrov/internal/core/problem"
)

// Supposed writes how every save would stand after changes that are not made: those first whose verdict would change.
func (p *Printer) Supposed(s *assess.Supposed) {
	l := s.Now
	worse, better := 0, 0
	for i, then := range s.Then.Saves {
		switch now := l.Saves[i].Verdict; {
		case check.Worse(then.Verdict, now):
			worse++
		case check.Worse(now, then.Verdict):
			better++
		}
	}
	head := "nothing would change"
	switch {
	case worse > 0 && better > 0:
		head = fmt.Sprintf("%s would get worse, %d better", Count(worse, "save", "saves"), better)
	case worse > 0:
		head = Count(worse, "save", "saves") + " would get worse"
	case better > 0:
		head = Count(better, "save", "saves") + " would get better"
	}
	p.Line("%s %s: %s", p.paint(strong, l.Install.Game.Title), strings.Join(s.Changes, " and "), head)
	if len(l.Saves) > 0 {
		p.Line("")
	}
	var rows [][]string
	var effects []check.Finding
	seen := map[string]bool{}
	for i, then := range s.Then.Saves {
		now := l.Saves[i]
		verdict := p.verdict(then.Verdict)
		if then.Verdict != now.Verdict {
			verdict = p.verdict(now.Verdict) + " → " + verdict
		}
		rows = append(rows, []string{handle(l, now), Text(title(now)), When(now.Modified, p.Now), verdict, p.gravest(then.Findings, now)})
		for _, f := range then.Findings {
			key := string(f.Code) + f.Subject + f.Effect
			if then.Verdict != now.Verdict && f.Severity != check.Note && !seen[key] {
				seen[key] = true
				effects = append(effects, f)
			}
		}
	}
	p.table([]column{{title: "save", grow: true}, {title: "title", grow: true}, {title: "saved"}, {title: "verdict"}, {title: "", grow: true}}, rows)
	check.Sort(effects)
	if all := append(effects, s.Findings...); len(all) > 0 {
		p.Line("")
		p.Findings(all)
	}
	p.Line("")
	p.Line("  Nothing has been changed.")
	if worse > 0 {
		p.Next(problem.Do("keep", l.Called))
	}
}

// SupposedDoc is how saves would stand, in JSON; verdict is the worst then.
type SupposedDoc struct {
	Head
	Install string       `json:"install"`
	Changes []string     `json:"changes"`
	Version string       `json:"version"`
	Saves   []OutcomeDoc `json:"saves"`
}

// OutcomeDoc is how one save would stand.
type OutcomeDoc struct {
	Address  string        `json:"address"`
	Now      check.Verdict `json:"verdict_now"`
	Then     check.Verdict `json:"verdict_then"`
	Findings []FindingDoc  `json:"findings_then"`
}

// Supposed makes the document of what is supposed.
func Supposed(s *assess.Supposed) SupposedDoc {
	d := SupposedDoc{Head: NewHead("look"), Install: s.Now.Install.Address(), Changes: s.Changes, Version: s.Then.Version, Saves: []OutcomeDoc{}}
	d.Verdict, d.Findings = check.Fit, findingDocs(s.Findings)
	for i, then := range s.Then.Saves {
		now := s.Now.Saves[i]
		d.Saves = append(d.Saves, OutcomeDoc{s.Now.Address(now.Save), now.Verdict, then.Verdict, findingDocs(then.Findings)})
		if check.Worse(then.Verdict, d.Verdict) {
			d.Verdict = then.Verdict
		}
	}
	return d
}

// Base writes what was recorded of a clean game and how the install differs from it now.
func (p *Printer) Base(title string, b *facts.Base, d facts.Strays, done bool) {
	did := p.paint(good, "recorded")
	if !done {
		did = "would be recorded, and is not (--dry-run):"
	}
	p.Line("%s %s: %s", did, Text(title), Count(len(b.Files), "path", "paths"))
	for _, group := range []struct {
		what  string
		paths []string
	}{{"extra", d.Extra}, {"altered", d.Changed}, {"missing", d.Missing}, {"no match", d.Unmatched}} {
		for i, path := range group.paths {
			if i == 0 {
				p.Line("")
			}
			p.Line("  %-9s %s", p.paint(warn, group.what), Text(path))
		}
	}
	if d.Clean() {
		p.Line("")
		p.Line("  The install has nothing else.")
	}
}

// BaseDoc is a recorded clean game, in JSON.
type BaseDoc struct {
	Head
	Install string    `json:"install"`
	Version string    `json:"version,omitempty"`
	Taken   time.Time `json:"taken"`
	Paths   int       `json:"paths"`
	Extra   []string  `json:"extra"`
	Altered []string  `json:"altered"`
	Missing []string  `json:"missing"`
	// Unmatched are lines of an author's list that nothing matches.
	Unmatched []string `json:"unmatched,omitempty"`
}

// Base makes the document of a recorded clean game.
func Base(b *facts.Base, d facts.Strays) BaseDoc {
	list := func(paths []string) []string { return append([]string{}, paths...) }
	return BaseDoc{NewHead("games base"), b.Install, b.Version, b.Taken.UTC(), len(b.Files), list(d.Extra), list(d.Changed), list(d.Missing), d.Unmatched}
}

// Ready writes what is known before the game starts.
func (p *Printer) Ready(r *play.Ready) {
	if r.Newest == nil {
		p.Line("%s: no save yet", r.Install.Install.Game.Title)
	} else {
		p.Line("%s for %s: \"%s\", saved %s", p.verdict(r.Verdict), r.Install.Called, Text(r.Newest.Title()), When(r.Newest.Modified, p.Now))
	}
	if len(r.Findings) > 0 {
		p.Line("")
		p.Findings(r.Findings)
		p.Line("")
	}
}

// Written writes one line for a save that was just written.
func (p *Printer) Written(w play.Written) {
	name := w.Save.Name
	if w.Save.HasSlot {
		name = "slot " + w.Save.SlotShown()
	}
	text := fmt.Sprintf("%s  written: %s \"%s\"", w.At.Local().Format("15:04:05"), Text(name), Text(w.Save.Title()))
	if w.Mods > 0 {
		text += ", " + Count(w.Mods, "mod", "mods") + " on"
	}
	p.Line("  %s", text)
}

// Watched writes what a session of play left.
func (p *Printer) Watched(w *play.Watched, kept *keep.Kept, ended error) {
	if ended != nil {
		p.Line("%s: %s", p.paint(warn, "The game ended badly"), Text(ended.Error()))
	}
	if len(w.Written) == 0 {
		p.Line("%s: nothing was written", p.paint(strong, w.State.Install.Game.Title))
	} else {
		p.Line("%s: %s written", p.paint(strong, w.State.Install.Game.Title), Count(len(w.Written), "save", "saves"))
		p.Line("")
		var rows [][]string
		for _, one := range w.Written {
			rows = append(rows, []string{one.At.Local().Format("15:04:05"), handleOf(w.State, one.Save), Text(titleOf(one.Save))})
		}
		p.table([]column{{title: "at"}, {title: "save"}, {title: "title", grow: true}}, rows)
	}
	if w.Log != nil {
		p.Line("")
		p.Line("  The game's log: %s loaded", Count(len(w.Log.Loaded), "mod", "mods"))
		for _, line := range w.Log.Errors[:min(len(w.Log.Errors), 5)] {
			p.hang("  "+p.paint(warn, "!"), Text(line))
		}
	}
	if len(w.Findings) > 0 {
		p.Line("")
		p.Findings(w.Findings)
	}
	if kept != nil {
		p.Line("")
		p.Line("  kept as %s", kept.Snapshot.Address())
		p.also(kept)
		p.Next(problem.Do("look", w.State.Called), problem.Do("restore", kept.Snapshot.Address()))
	}
}

// WatchedDoc is what a session of play left, in JSON.
type WatchedDoc struct {
	Head
	Install  string       `json:"install"`
	Written  []WrittenOne `json:"written"`
	Loaded   []string     `json:"loaded"` // ids of mods, by the game's log
	Failed   []string     `json:"failed"`
	Errors   []string     `json:"errors"` // lines of the log
	Snapshot string       `json:"snapshot,omitempty"`
}

// WrittenOne is one save that was written.
type WrittenOne struct {
	At      time.Time `json:"at"`
	Address string    `json:"address"`
	Digest  string    `json:"digest"`
	Mods    int       `json:"mods"`
}

// Watched makes the document of a session of play.
func Watched(command string, w *play.Watched, kept *keep.Kept) WatchedDoc {
	d := WatchedDoc{Head: NewHead(command), Install: w.State.Install.Address(), Written: []WrittenOne{}, Loaded: []string{}, Failed: []string{}, Errors: []string{}}
	d.Findings = findingDocs(w.Findings)
	for _, one := range w.Written {
		d.Written = append(d.Written, WrittenOne{one.At.UTC(), w.State.Address(one.Save), one.Save.Digest.String(), one.Mods})
	}
	if w.Log != nil {
		for _, i := range w.Log.Loaded {
			d.Loaded = append(d.Loaded, i.ID)
		}
		for _, i := range w.Log.Failed {
			d.Failed = append(d.Failed, i.ID)
		}
		d.Errors = append(d.Errors, w.Log.Errors...)
	}
	if kept != nil {
		d.Snapshot = kept.Snapshot.Address()
	}
	return d
}
