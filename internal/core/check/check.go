// Package check compares what a save needs with what an install has, and says what it finds.
//
// Everything here is a pure function of facts and rules: it opens no file, knows no folder and never asks the clock. Each finding it can
// make stands in one table (Codes), from which docs/findings.md is generated.
package check

import (
	"sort"

	"ostrov/internal/core/problem"
)

// Severity is what one finding means for the verdict.
type Severity string

// Severities, gravest first.
const (
	Stop    Severity = "stop"    // the save does not work here
	Unknown Severity = "unknown" // nothing says whether it does
	Risk    Severity = "risk"    // it works, with something lost or different
	Note    Severity = "note"    // worth knowing
)

func (s Severity) rank() int {
	switch s {
	case Stop:
		return 0
	case Unknown:
		return 1
	case Risk:
		return 2
	default:
		return 3
	}
}

// Verdict is the sum of findings.
type Verdict string

// Verdicts.
const (
	Fit     Verdict = "fit"
	Risky   Verdict = "risky"
	Unfit   Verdict = "unfit"
	Unclear Verdict = "unclear"
)

// Finding is one thing a check has found.
type Finding struct {
	Code     Code
	Severity Severity
	Subject  string        // what it is about: a mod, a path in the download; "" is the save itself
	Evidence string        // what was found, as half a sentence
	Effect   string        // what the game does then, observed; "" where nobody has said
	Remedy   problem.Hints // what helps
}

// Same reports whether two findings say the same, whatever their remedy.
func (f Finding) Same(g Finding) bool {
	return f.Code == g.Code && f.Severity == g.Severity && f.Subject == g.Subject && f.Evidence == g.Evidence && f.Effect == g.Effect
}

// Helped is the finding with a remedy.
func (f Finding) Helped(by problem.Hints) Finding {
	f.Remedy = by
	return f
}

// New is a finding with the severity of its code.
func New(code Code, subject, evidence string) Finding {
	info := codes[code]
	return Finding{Code: code, Severity: info.Severity, Subject: subject, Evidence: evidence}
}

// Sum is the verdict that findings add up to.
func Sum(findings []Finding) Verdict {
	worst := Note
	for _, f := range findings {
		if f.Severity.rank() < worst.rank() {
			worst = f.Severity
		}
	}
	switch worst {
	case Stop:
		return Unfit
	case Unknown:
		return Unclear
	case Risk:
		return Risky
	default:
		return Fit
	}
}

// Worse reports whether verdict a is worse than b, for the worst of several.
func Worse(a, b Verdict) bool {
	rank := map[Verdict]int{Fit: 0, Risky: 1, Unclear: 2, Unfit: 3}
	return rank[a] > rank[b]
}

// IsDangerous reports whether any of the findings says so; it beats every verdict.
func IsDangerous(findings []Finding) bool {
	for _, f := range findings {
		if f.Code == Dangerous {
			return true
		}
	}
	return false
}

// Sort puts findings into the order in which they are shown: gravest first, then by the order of the table of codes, then as found.
func Sort(findings []Finding) {
	sort.SliceStable(findings, func(i, j int) bool {
		a, b := findings[i], findings[j]
		if a.Severity.rank() != b.Severity.rank() {
			return a.Severity.rank() < b.Severity.rank()
		}
		return codes[a.Code].place < codes[b.Code].place
	})
}
