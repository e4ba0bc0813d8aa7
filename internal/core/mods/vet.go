package mods

import (
	"context"
	"errors"

	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/home"
	"ostrov/internal/core/layout"
	"ostrov/internal/core/plan"
)

// Vetted is what there is to say of a download as a mod: what adding it would do in each install whose game takes it.
type Vetted struct {
	Proposals []*Proposal
	Findings  []check.Finding // of the download itself, where no install takes it
	// Choices are variants of which one is to be picked, and Of the game that takes them.
	Choices []string
	Of      string
}

// Verdict is the verdict of a mod in an install: of what speaks against it, and of what it does to the saves.
func (p *Proposal) Verdict() check.Verdict {
	verdict := check.Sum(p.Findings)
	if p.Worse() > 0 && check.Worse(check.Risky, verdict) {
		return check.Risky
	}
	return verdict
}

// Vetting judges a download as a mod against each install that a word means, "" being all, touching nothing.
func Vetting(ctx context.Context, h *home.Home, d *facts.Download, only, pick string) (*Vetted, error) {
	installs := h.Installs
	if only != "" {
		var err error
		if installs, err = h.InstallsOf(only); err != nil {
			return nil, err
		}
	}
	v := &Vetted{Findings: assess.Hazards(d)}
	for _, in := range installs {
		if plan.Unfinished(ctx, h, in) != nil {
			continue // no half state is judged
		}
		st, err := facts.Gather(ctx, h, in)
		if err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			continue
		}
		p, err := Incoming(ctx, h, assess.Of(st), AddRequest{Parts: []*facts.Download{d}, Pick: pick, Replace: true, JudgeOnly: true})
		var choice *layout.ChoiceError
		switch {
		case errors.As(err, &choice):
			v.Choices, v.Of = choice.Names, in.Game.Title
		case err == nil && len(p.Items) > 0:
			v.Proposals = append(v.Proposals, p)
		}
	}
	return v, nil
}

// Dangerous reports whether the download may do harm as a mod of every game that takes it.
func (v *Vetted) Dangerous() bool {
	for _, p := range v.Proposals {
		if !p.Dangerous() {
			return false
		}
	}
	return len(v.Proposals) > 0 || check.IsDangerous(v.Findings)
}

// Verdict is the best of the installs'.
func (v *Vetted) Verdict() check.Verdict {
	best := check.Sum(v.Findings)
	if len(v.Choices) > 0 && len(v.Proposals) == 0 {
		return check.Unclear
	}
	for i, p := range v.Proposals {
		if verdict := p.Verdict(); i == 0 || check.Worse(best, verdict) {
			best = verdict
		}
	}
	return best
}
