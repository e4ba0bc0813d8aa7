package view

import (
	"time"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/field"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/plan"
)

// The documents of the commands: what --json prints, by the head's command. Their schemas are in docs/json.

// LooksDoc is a look at several installs.
type LooksDoc struct {
	Head
	Installs []LookDoc `json:"installs"`
}

// Worst makes the verdict of the document that of the worst save so far.
func (d *LooksDoc) Worst(l *assess.Install) {
	for _, s := range l.Saves {
		if check.Worse(s.Verdict, d.Verdict) {
			d.Verdict = s.Verdict
		}
	}
}

// ErrorDoc says why a command could not do what it was asked for.
type ErrorDoc struct {
	Head
	Error ErrorOfDoc `json:"error"`
}

// ErrorOfDoc is an error: what to say, the exit status, and what helps, as commands or advice.
type ErrorOfDoc struct {
	Text   string   `json:"text"`
	Status int      `json:"status"`
	Next   []string `json:"next,omitempty"`
}

// ErrorDocument makes the document of an error.
func ErrorDocument(command, text string, status int, next []string) ErrorDoc {
	return ErrorDoc{NewHead(command), ErrorOfDoc{text, status, next}}
}

// SavesDoc lists saves.
type SavesDoc struct {
	Head
	Saves []SaveDoc `json:"saves"`
}

// AllModsDoc are the mod sets of several installs.
type AllModsDoc struct {
	Head
	Installs []ModsDoc `json:"installs"`
}

// ModsDoc is the mod set of an install.
type ModsDoc struct {
	Head
	Install     string              `json:"install"`
	Fingerprint modlist.Fingerprint `json:"fingerprint"`
	Mods        []modlist.Listed    `json:"mods"`
	Base        []string            `json:"base,omitempty"` // ids of the game's own content
}

// Mods makes the document of an install's mod set.
func Mods(l *assess.Install) ModsDoc {
	d := ModsDoc{Head: NewHead("mods"), Install: l.Install.Address(), Fingerprint: l.Fingerprint, Mods: append([]modlist.Listed{}, l.List...)}
	for _, m := range l.Mods.Mods {
		if m.Kind.Base && m.HiddenBy == "" {
			d.Base = append(d.Base, m.ID)
		}
	}
	d.Findings = findingDocs(l.Findings)
	return d
}

// NeedsOfDoc is what one save needs, with the evidence.
type NeedsOfDoc struct {
	Head
	Save     SaveDoc       `json:"save"`
	Needs    NeedsDoc      `json:"needs"`
	Evidence []EvidenceDoc `json:"evidence"`
}

// EvidenceDoc is one piece of evidence.
type EvidenceDoc struct {
	Kind    check.Evidence `json:"kind"`
	At      time.Time      `json:"at"`
	Version string         `json:"version,omitempty"`
	Mods    int            `json:"mods,omitempty"` // how many it names
	Clean   bool           `json:"clean,omitempty"`
	Note    string         `json:"note,omitempty"`
	Parent  string         `json:"parent,omitempty"` // the state it descends from
}

// NeedsOf makes the document of what a save needs.
func NeedsOf(l *assess.Install, s *assess.Save, evidence []logbook.Evidence) NeedsOfDoc {
	d := NeedsOfDoc{NewHead("needs"), Save(l, s), Needs(s.Needs), []EvidenceDoc{}}
	d.Verdict, d.Findings = s.Verdict, findingDocs(s.Findings)
	for _, e := range evidence {
		d.Evidence = append(d.Evidence, EvidenceDoc{e.Kind, e.At, e.Version, len(e.Mods), e.Clean, e.Note, e.Parent.String()})
	}
	return d
}

// GamesDoc lists the games that are described.
type GamesDoc struct {
	Head
	Games []GameDoc `json:"games"`
}

// GameDoc is a described game with the addresses of its installs.
type GameDoc struct {
	ID       string   `json:"id"`
	Title    string   `json:"title"`
	Installs []string `json:"installs"`
}

// AllFoldersDoc are several installs and their folders.
type AllFoldersDoc struct {
	Head
	Installs []InstallDoc `json:"installs"`
}

// FoldersDoc is one install with its folders.
type FoldersDoc struct {
	Head
	Install InstallDoc `json:"install"`
}

// TestDoc is a description that is sound.
type TestDoc struct {
	Head
	ID    string            `json:"id"`
	Title string            `json:"title"`
	Trees []field.TreeQuery `json:"small_files_only"` // queries that JSON and XML of more than 32 MiB cannot be asked
}

// KeepPlanDoc is what keeping would take.
type KeepPlanDoc struct {
	Head
	Playthrough string            `json:"playthrough,omitempty"`
	Takes       []keep.Item       `json:"takes"`
	LeftOut     []archive.LeftOut `json:"left_out,omitempty"` // of a copy made by hand
	Also        []string          `json:"also,omitempty"`     // other lines that would be kept, since their saves have changed
}

// KeepDoc is what keeping did; numbers are bytes.
type KeepDoc struct {
	Head
	Snapshot SnapshotDoc `json:"snapshot"`
	Archive  string      `json:"archive"`
	Read     int64       `json:"read"`
	Reused   int64       `json:"reused"` // unchanged, and so not read again
	Stored   int64       `json:"stored"` // by which the archive grew
	// Also are snapshots of other lines, whose saves had changed too.
	Also []SnapshotDoc `json:"also,omitempty"`
}

// KeptDocument makes the document of a keep.
func KeptDocument(k *keep.Kept) KeepDoc {
	doc := KeepDoc{Head: NewHead("keep"), Snapshot: Snapshot(k.Snapshot), Archive: k.Archive, Read: k.Copied, Reused: k.Reused, Stored: k.Stored}
	doc.Findings = findingDocs(k.Findings)
	for _, other := range k.Also {
		doc.Also = append(doc.Also, Snapshot(other.Snapshot))
	}
	return doc
}

// KeptDoc lists snapshots.
type KeptDoc struct {
	Head
	Snapshots []SnapshotDoc `json:"snapshots"`
}

// ArchiveDoc is an archive; Size is bytes on disk.
type ArchiveDoc struct {
	Head
	Dir  string `json:"dir"`
	Size int64  `json:"size"`
	// Archives are all there are, the one that is kept into first.
	Archives []keep.ArchiveState `json:"archives,omitempty"`
	// Aside is what lies beside the folders of each install for undo, by its address.
	Aside map[string][]plan.Beside `json:"aside,omitempty"`
}

// VerifyDoc is the report on an archive.
type VerifyDoc struct {
	Head
	Archives []keep.ArchiveState `json:"archives"`
}

// PlaythroughsDoc lists lines of play.
type PlaythroughsDoc struct {
	Head
	Playthroughs []PlaythroughDoc `json:"playthroughs"`
}

// PlaythroughDoc is a line of play and how many saves it has.
type PlaythroughDoc struct {
	logbook.Playthrough
	Saves int `json:"saves"`
}

// ChangeDoc is a change of game folders, planned or made.
type ChangeDoc struct {
	Head
	Plan       []StepDoc    `json:"plan"`
	Warnings   []string     `json:"warnings"`
	Reason     string       `json:"reason,omitempty"` // why there is nothing to do
	Done       bool         `json:"done"`
	Change     string       `json:"change,omitempty"`
	KeptBefore *SnapshotDoc `json:"safety_snapshot,omitempty"` // what was kept before
	// Of a change of the mod set: the mods, the saves that would stand otherwise, the player's files, what is left out.
	Mods  []ModChangeDoc `json:"mods,omitempty"`
	Saves []OutcomeDoc   `json:"saves,omitempty"`
	Yours []YoursDoc     `json:"yours,omitempty"`
	Left  []string       `json:"left_out,omitempty"`
	// Inside is what becomes of what is in a save.
	Inside *InsideDoc `json:"inside,omitempty"`
}

// StepDoc is one thing that a change does.
type StepDoc struct {
	Do   plan.Verb `json:"do"` // put, replace, remove, leave or set
	What string    `json:"what"`
	Was  string    `json:"was,omitempty"` // what is there now
	Path string    `json:"path"`
	Note string    `json:"note,omitempty"`
	// Older tells that a save is put over one that was written later.
	Older bool `json:"older,omitempty"`
}

// Change makes the document of a planned change.
func Change(command string, pl *plan.Plan) ChangeDoc {
	d := ChangeDoc{Head: NewHead(command), Plan: []StepDoc{}, Warnings: append([]string{}, pl.Warnings...)}
	for _, s := range pl.Steps {
		d.Plan = append(d.Plan, StepDoc{s.Verb, s.What, s.Was, s.Path(), s.Note, s.Older()})
	}
	return d
}

// WrittenDoc is something that was written where the player said.
type WrittenDoc struct {
	Head
	To    string `json:"to"`
	Files int    `json:"files"`
	Done  bool   `json:"done"` // false where it only would be
}
