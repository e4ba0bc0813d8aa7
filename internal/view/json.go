package view

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf16"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/assess"
	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/refer"
	"ostrov/internal/core/vet"
)

// Head begins every JSON document.
type Head struct {
	Ostrov   int           `json:"ostrov"`
	Command  string        `json:"command"`
	Verdict  check.Verdict `json:"verdict,omitempty"`
	Findings []FindingDoc  `json:"findings,omitempty"`
}

// NewHead is the head of a command's document.
func NewHead(command string) Head { return Head{Ostrov: 1, Command: command} }

// JSON writes a document.
func JSON(w io.Writer, document any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	if err := e.Encode(document); err != nil {
		return err
	}
	_, err := io.WriteString(w, escaped(b.String()))
	return err
}

// escaped spells the letters in JSON by number that a terminal could take for commands; JSON itself does so for some of them only.
func escaped(text string) string {
	var b strings.Builder
	for _, r := range text {
		if r == '\n' || !hidden(r) {
			b.WriteRune(r)
			continue
		}
		for _, half := range utf16.Encode([]rune{r}) {
			fmt.Fprintf(&b, "\\u%04x", half)
		}
	}
	return b.String()
}

// InstallDoc is an install in JSON.
type InstallDoc struct {
	Address string      `json:"address"`
	Game    string      `json:"game"`
	Title   string      `json:"title"`
	Root    string      `json:"root"`
	Prefix  string      `json:"prefix,omitempty"`
	Folders []FolderDoc `json:"folders"`
	// Unplaced are folders of the description that have no place here, each with the reason.
	Unplaced map[string]string `json:"unplaced,omitempty"`
}

// FolderDoc is a folder of an install in JSON.
type FolderDoc struct {
	ID      string `json:"id"`
	Account string `json:"account,omitempty"`
	Path    string `json:"path"`
	Exists  bool   `json:"exists"`
	Why     string `json:"why,omitempty"`
	Managed bool   `json:"managed,omitempty"`
	Real    string `json:"real,omitempty"` // where links on the way lead to, where they do
}

// Install makes the document of an install.
func Install(in *game.Install, folders []game.Located) InstallDoc {
	d := InstallDoc{Address: in.Address(), Game: in.Game.ID, Title: in.Game.Title, Root: in.Root, Prefix: in.Prefix, Folders: []FolderDoc{}}
	for _, f := range folders {
		d.Folders = append(d.Folders, FolderDoc{f.ID, f.Account, f.Path, f.Exists, f.Why, f.Managed, in.Leads(f)})
	}
	for id, why := range in.Unplaced() {
		if d.Unplaced == nil {
			d.Unplaced = map[string]string{}
		}
		d.Unplaced[id] = why.Error()
	}
	return d
}

// LookDoc is the state of an install in JSON.
type LookDoc struct {
	InstallDoc
	Version     string              `json:"version"`
	Fingerprint modlist.Fingerprint `json:"fingerprint"`
	Mods        []modlist.Listed    `json:"mods"`
	Findings    []FindingDoc        `json:"findings"`
	Saves       []SaveDoc           `json:"saves"`
	Snapshot    string              `json:"snapshot,omitempty"` // the newest
	Since       *SinceDoc           `json:"since,omitempty"`
	Others      []OtherLineDoc      `json:"other_playthroughs,omitempty"`
	Recovered   bool                `json:"recovered,omitempty"`
}

// OtherLineDoc is a line that is not active and whose saves have changed since its newest snapshot, in JSON.
type OtherLineDoc struct {
	Playthrough string `json:"playthrough"`
	New         int    `json:"new"`
	Changed     int    `json:"changed"`
}

// SinceDoc is what changed since the newest snapshot, in JSON.
type SinceDoc struct {
	New     int              `json:"new_saves"`
	Changed int              `json:"changed_saves"`
	Mods    []modlist.Change `json:"mods"`
}

// SaveDoc is a save in JSON.
type SaveDoc struct {
	Address     string            `json:"address"`
	Name        string            `json:"name"`
	Slot        string            `json:"slot,omitempty"`
	Title       string            `json:"title,omitempty"`
	Modified    time.Time         `json:"modified"`
	Size        int64             `json:"size"`
	Digest      string            `json:"digest"`
	Playthrough string            `json:"playthrough,omitempty"`
	Label       string            `json:"label,omitempty"` // the player's own words for it
	Kept        bool              `json:"kept"`
	Fields      map[string]string `json:"fields"` // as the save has them
	Needs       NeedsDoc          `json:"needs"`
	References  refer.Counts      `json:"references,omitempty"` // how often it refers to each mod
	Verdict     check.Verdict     `json:"verdict"`
	Findings    []FindingDoc      `json:"findings"`
}

// NeedsDoc is what a save needs, in JSON.
type NeedsDoc struct {
	Version         string           `json:"version,omitempty"`
	VersionEvidence check.Evidence   `json:"version_evidence,omitempty"`
	Clean           bool             `json:"clean,omitempty"`
	Mods            []modlist.Needed `json:"mods"`
	ModsEvidence    check.Evidence   `json:"mods_evidence,omitempty"`
}

// Needs makes the document of what a save needs.
func Needs(n logbook.Needs) NeedsDoc {
	d := NeedsDoc{n.Version, n.VersionEvidence, n.Clean, n.Mods, n.ModsEvidence}
	if d.Mods == nil {
		d.Mods = []modlist.Needed{}
	}
	return d
}

// Save makes the document of a save.
func Save(l *assess.Install, s *assess.Save) SaveDoc {
	d := SaveDoc{Label: s.Label, Address: l.Address(s.Save), Name: s.Name, Slot: s.SlotShown(), Title: s.Facts.Title(), Modified: s.Modified.UTC(), Size: s.Size, Digest: s.Digest.String(),
		Playthrough: s.Line, Kept: s.Kept, Fields: map[string]string{}, Needs: Needs(s.Needs), References: s.Refs.Counts, Verdict: s.Verdict, Findings: findingDocs(s.Findings)}
	for id, v := range s.Facts.Fields {
		d.Fields[id] = v.Raw
	}
	return d
}

// Look makes the document of a look.
func Look(l *assess.Install, settled plan.Settled) LookDoc {
	d := LookDoc{InstallDoc: Install(l.Install, l.Folders), Version: l.Version, Fingerprint: l.Fingerprint, Mods: l.List, Findings: findingDocs(l.Findings), Saves: []SaveDoc{}, Recovered: settled.Any()}
	if d.Mods == nil {
		d.Mods = []modlist.Listed{}
	}
	for _, s := range l.Saves {
		d.Saves = append(d.Saves, Save(l, s))
	}
	if l.Since.Snapshot != nil {
		d.Snapshot = l.Since.Snapshot.Address()
		d.Since = &SinceDoc{l.Since.New, l.Since.Changed, l.Since.Mods}
		if d.Since.Mods == nil {
			d.Since.Mods = []modlist.Change{}
		}
	}
	for _, other := range l.Others {
		d.Others = append(d.Others, OtherLineDoc{other.Line, other.New, other.Changed})
	}
	return d
}

// VetDoc is a vetting in JSON.
type VetDoc struct {
	Head
	File      string      `json:"file"`
	Dangerous bool        `json:"dangerous"`
	Kind      string      `json:"kind"` // folder, file, zip, 7z, rar, tar, tar.gz and its like
	Saves     []FoundDoc  `json:"saves"`
	Judged    []JudgedDoc `json:"judged"`
	Mods      []ModFound  `json:"mods,omitempty"`    // where there is no save in it
	Choices   []string    `json:"choices,omitempty"` // variants of a mod, of which one is to be picked
	Would     []WouldDoc  `json:"would,omitempty"`   // what adding a mod would do in each install that takes it
}

// ModFound is a mod in a download, in JSON.
type ModFound struct {
	ID      string `json:"id"`
	Version string `json:"version,omitempty"`
	Title   string `json:"title,omitempty"`
	Path    string `json:"path"`
}

// FoundDoc is a save in a download, in JSON.
type FoundDoc struct {
	Name    string   `json:"name"`
	Label   string   `json:"label,omitempty"`
	Game    string   `json:"game"`
	Title   string   `json:"title,omitempty"`
	Version string   `json:"version,omitempty"`
	Owner   string   `json:"owner,omitempty"`
	Digest  string   `json:"digest,omitempty"`
	Needs   NeedsDoc `json:"needs"`
}

// JudgedDoc is the judgement of a download against one install, in JSON.
type JudgedDoc struct {
	Install    string        `json:"install"`
	Verdict    check.Verdict `json:"verdict"`
	Findings   []FindingDoc  `json:"findings"`
	References refer.Counts  `json:"references,omitempty"`
	Target     string        `json:"target,omitempty"` // where place would put it
	Slot       string        `json:"slot,omitempty"`
}

// Vet makes the document of a vetting.
func Vet(v *vet.Vetting) VetDoc {
	d := VetDoc{Head: NewHead("vet"), File: v.File, Dangerous: v.Dangerous(), Kind: v.Download.Kind, Saves: []FoundDoc{}, Judged: []JudgedDoc{}}
	d.Verdict, d.Findings = v.Verdict, findingDocs(v.Findings)
	for _, s := range v.Saves {
		d.Saves = append(d.Saves, FoundDoc{s.Candidate.Name, s.Candidate.Label, s.Game.ID, s.Facts.Title(), s.Facts.Version(), s.Facts.Owner, s.Digest.String(), Needs(s.Needs)})
	}
	for _, j := range v.Judged {
		jd := JudgedDoc{Install: j.State.Install.Address(), Verdict: j.Verdict, Findings: findingDocs(j.Findings), References: j.Save.Refs.Counts}
		if j.Target != nil {
			jd.Target, jd.Slot = j.Target.Name, j.Target.Slot
		}
		d.Judged = append(d.Judged, jd)
	}
	for _, m := range v.Mods {
		d.Mods = append(d.Mods, ModFound{m.ID, m.Version, m.Title, m.Path})
	}
	if len(v.Judged) == 1 {
		d.Findings = findingDocs(sorted(v.Findings, v.Judged[0].Findings))
	}
	return d
}

// SnapshotDoc is a snapshot in JSON.
type SnapshotDoc struct {
	Address     string              `json:"address"`
	ID          string              `json:"id"`
	Playthrough string              `json:"playthrough"`
	Game        string              `json:"game"`
	Taken       time.Time           `json:"taken"`
	Version     string              `json:"version,omitempty"`
	Note        string              `json:"note,omitempty"`
	Before      string              `json:"safety,omitempty"`
	ByHand      bool                `json:"by_hand,omitempty"`
	Tags        []string            `json:"tags,omitempty"`
	Set         bool                `json:"set,omitempty"` // a set of settings, no playthrough
	With        []HeldDoc           `json:"with"`
	Fingerprint modlist.Fingerprint `json:"fingerprint,omitempty"`
	Mods        []modlist.Listed    `json:"mods"`
	Saves       []archive.KeptSave  `json:"saves"`
	LeftOut     []archive.LeftOut   `json:"left_out,omitempty"` // what could not be read and is not in it
}

// LabelledDoc is the document of giving a save words of the player's own.
type LabelledDoc struct {
	Head
	Save  string `json:"save"`
	Label string `json:"label"`
	Done  bool   `json:"done"`
}

// RenamedDoc is the document of giving an install another name.
type RenamedDoc struct {
	Head
	Install string `json:"install"`
	Was     string `json:"was"`
	Done    bool   `json:"done"`
}

// ForgottenDoc is the document of forgetting an install.
type ForgottenDoc struct {
	Head
	Install string `json:"install"`
	Done    bool   `json:"done"`
}

// HeldDoc is how much a snapshot has of one sort of files besides saves; sizes in bytes.
type HeldDoc struct {
	What  archive.Kind `json:"what"` // settings, data, mods, game or pictures
	Files int          `json:"files"`
	Bytes int64        `json:"bytes"`
}

// Snapshot makes the document of a snapshot.
func Snapshot(s *archive.Snapshot) SnapshotDoc {
	d := SnapshotDoc{s.Address(), s.ID, s.Playthrough, s.Game, s.Taken, s.Version, s.Note, s.Before, s.ByHand, s.Tags, s.Set, []HeldDoc{}, s.Fingerprint, s.Mods, s.Saves, s.LeftOut}
	for _, what := range besides {
		if files, bytes := heldBy(s, what); files > 0 {
			d.With = append(d.With, HeldDoc{what, files, bytes})
		}
	}
	if d.Mods == nil {
		d.Mods = []modlist.Listed{}
	}
	if d.Saves == nil {
		d.Saves = []archive.KeptSave{}
	}
	return d
}
