package cli

import (
	"time"

	"ostrov/internal/core/check"
	"ostrov/internal/core/job"
	"ostrov/internal/view"
)

// evidenceDoc is one piece of evidence in JSON.
type evidenceDoc struct {
	Kind    check.Evidence `json:"kind"`
	At      time.Time      `json:"at"`
	Version string         `json:"version,omitempty"`
	Mods    int            `json:"mods,omitempty"`
	Clean   bool           `json:"clean,omitempty"`
	Note    string         `json:"note,omitempty"`
	Parent  string         `json:"parent,omitempty"`
}

// changeDoc is a change, planned or made, in JSON.
type changeDoc struct {
	view.Head
	Plan     []job.Step        `json:"plan"`
	Warnings []string          `json:"warnings"`
	Done     bool              `json:"done"`
	Change   string            `json:"change,omitempty"`
	Safety   *view.SnapshotDoc `json:"safety_snapshot,omitempty"`
}

// lookDoc is a look at several installs in JSON.
type lookDoc struct {
	view.Head
	Installs []view.LookDoc `json:"installs"`
}

// worst makes the verdict of the document that of the worst save so far.
func (d *lookDoc) worst(l *job.Look) {
	for _, s := range l.Saves {
		if check.Worse(s.Verdict, d.Verdict) {
			d.Verdict = s.Verdict
		}
	}
}
