// Package mods brings mods in, takes them out, sets them aside and brings them back, and always says first what the saves will say to it.
//
// Each command of it is a Proposal: a plan of steps (package plan), the ledger as it will be, and what is judged before the question: the
// findings about what comes in, and every save's verdict now and then, from package assess. The package promises that what a mod covers is in
// the home's store before it is covered, that dropping in any order returns each path to its former bytes, times and permissions, that what the
// player edited stays or is named, and that a folder which another program owns is never written. It never carries a plan out itself, and
// it never runs anything that a mod brings.
package mods

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/home"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/problem"
)

// Proposal is a change of the mod set that can be shown before it is made.
type Proposal struct {
	*plan.Plan
	// Items are the mods that come, go or move.
	Items []Item
	// Findings are about what comes in and how it goes with the rest.
	Findings []check.Finding
	// Supposed is every save as it would stand, or nil where the change is none of the saves' business.
	Supposed *assess.Supposed
	// Kept are files of the player's that stay, merged or beside, by what was done with them.
	Kept []KeptFile
	// Left are files of the downloads that are left out.
	Left []string

	work *work
}

// Item is one mod of a proposal.
type Item struct {
	Verb    Verb
	Name    string
	ID      string
	Version string
	Was     string // the version before, of one that is updated
	Files   int
	Bytes   int64
	From    []ledger.Source
	// Covers are paths that it lies on top of: those of other mods, and of the game.
	Covers []Covered
	// Needed are the saves that need it, by the evidence; of one that goes.
	Needed []NeededBy
}

// Verb is what happens to a mod.
type Verb string

// What happens to mods.
const (
	Add    Verb = "add"
	Update Verb = "update"
	Drop   Verb = "drop"
	On     Verb = "on"
	Off    Verb = "off"
	Aside  Verb = "aside"
	Back   Verb = "back"
	Adopt  Verb = "adopt"
	Pin    Verb = "pin"
)

// Covered is a path that a mod covers, and whose it was: a mod's name, or "" for the game's or nobody's.
type Covered struct {
	Path string
	Of   string
}

// NeededBy is a save that needs a mod.
type NeededBy struct {
	Save     *facts.Save
	Evidence check.Evidence
	Refers   int // how often it refers to it; 0 where that is not known
}

// KeptFile is a file of the player's and what becomes of it.
type KeptFile struct {
	Path string
	How  string // for people
}

// Dangerous reports whether something that would come in may do harm.
func (p *Proposal) Dangerous() bool { return check.IsDangerous(p.Findings) }

// Stopped are the findings that keep what comes in from being put in place unless the player insists.
func (p *Proposal) Stopped() []check.Finding {
	return slices.DeleteFunc(slices.Clone(p.Findings), func(f check.Finding) bool { return f.Severity != check.Stop })
}

// Worse counts the saves that would stand worse than now.
func (p *Proposal) Worse() int {
	n := 0
	if p.Supposed != nil {
		for i, s := range p.Supposed.Then.Saves {
			if check.Worse(s.Verdict, p.Supposed.Now.Saves[i].Verdict) {
				n++
			}
		}
	}
	return n
}

// begin begins a proposal for an install.
func begin(ctx context.Context, h *home.Home, st *facts.State, title string) (*Proposal, error) {
	if err := h.RequireRecords(); err != nil {
		return nil, err
	}
	if err := plan.MayChange(ctx, st.Install, nil, nil); err != nil {
		return nil, err
	}
	return start(ctx, h, st, title)
}

// start begins a proposal that may be only to be judged.
func start(ctx context.Context, h *home.Home, st *facts.State, title string) (*Proposal, error) {
	if st.Problems.Ledger != nil {
		return nil, problem.New(problem.Advise("move that file away, and adopt the mod anew"), "what is known of the mods of %s cannot be read: %w", st.Called, st.Problems.Ledger)
	}
	now, err := h.Ledger(ctx, st.Install)
	if err != nil {
		return nil, err
	}
	p := &Proposal{Plan: plan.New(ctx, h, st, title, nil)}
	p.work = newWork(ctx, h, st, p, now)
	if current := st.Current(); current != nil {
		p.Keep(current.Name) // players copy their saves before they touch their mods
	}
	return p, nil
}

// suppose judges every save as it would stand after changes.
func (p *Proposal) suppose(now *assess.Install, changes []assess.Change) {
	if len(changes) == 0 {
		return
	}
	p.Supposed = assess.Suppose(now, changes)
	for _, f := range p.Supposed.Findings {
		if !slices.ContainsFunc(p.Findings, f.Same) {
			p.Findings = append(p.Findings, f)
		}
	}
	check.Sort(p.Findings)
}

// finish plans the steps, and returns the proposal.
func (p *Proposal) finish() (*Proposal, error) {
	if err := p.work.arrange(); err != nil {
		return nil, err
	}
	check.Sort(p.Findings)
	return p, p.Err()
}

// found finds the entry, or the mods, that a word means. Of what lies there and is nobody's yet, entry is nil.
func (w *work) found(word string) (*ledger.Entry, []*mod.Mod, error) {
	var entries []*ledger.Entry
	for _, e := range w.now {
		if e.Is(word) || strings.EqualFold(e.Title, word) {
			entries = append(entries, e)
		}
	}
	var mods []*mod.Mod
	for _, m := range w.st.Mods.Mods {
		if !m.Kind.Base && (strings.EqualFold(m.ID, word) || strings.EqualFold(m.Title, word) || strings.EqualFold(m.Path, word)) {
			mods = append(mods, m)
		}
	}
	switch {
	case len(entries) > 1:
		var names []string
		for _, e := range entries {
			names = append(names, e.Kind+" "+e.ID)
		}
		return nil, nil, problem.Usage(problem.Do("mods", w.st.Called), "%s could be %s", word, strings.Join(names, " or "))
	case len(entries) == 1:
		if !strings.EqualFold(entries[0].ID, word) && len(entries[0].Mods) > 1 && !strings.EqualFold(entries[0].Title, word) {
			return nil, nil, problem.Usage(problem.Advise("name the whole: %s", entries[0].ID), "%s came with %s, as one", word, entries[0].Name())
		}
		return entries[0], nil, nil
	case len(mods) > 0:
		return nil, mods, nil
	}
	return nil, nil, problem.Usage(problem.Do("mods", w.st.Called), "%s has no mod %q", w.st.Called, word)
}

// neededBy are the saves that need a mod.
func neededBy(st *facts.State, ids []string) []NeededBy {
	var all []NeededBy
	for _, s := range st.Saves {
		best := NeededBy{Save: s}
		for _, id := range ids {
			if known, n := s.Identifiers(id); known {
				best.Refers += n
			}
			for _, need := range s.Needs.Mods {
				if strings.EqualFold(need.ID, id) && need.On {
					best.Evidence = s.Needs.ModsEvidence
				}
			}
		}
		if best.Evidence == "" && best.Refers > 0 {
			best.Evidence = check.Referred
		}
		if best.Evidence != "" {
			all = append(all, best)
		}
	}
	return all
}

// count is a number of things in words.
func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
