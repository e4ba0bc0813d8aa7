package view

import (
	"cmp"
	"fmt"
	"strings"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/share"
)

// KeepPlan prints what a keep would take.
func (p *Printer) KeepPlan(plan *keep.Preview, in string) {
	of := in
	if plan.Playthrough != "" {
		of = plan.Playthrough
	}
	p.Line("keep would take this of %s", p.paint(strong, of))
	p.Line("")
	for _, t := range plan.Takes {
		count := Count(t.Count, "file", "files")
		switch t.What {
		case string(archive.Saves):
			count = Count(t.Count, "save", "saves")
		case string(archive.Mods):
			count = Count(t.Count, "mod", "mods")
		}
		p.Line("  %-9s %s, %s", t.What, count, Size(t.Bytes))
	}
	p.LeftOut(plan.LeftOut)
	for _, other := range plan.Also {
		p.Line("")
		p.Line("  %s went on too and would be kept: %s", Text(other.Line), strings.Join(newAndChanged(other.New, other.Changed), ", "))
	}
	p.Line("")
	p.Line("Nothing has been kept: --dry-run.")
}

// Kept writes what keeping did.
func (p *Printer) Kept(k *keep.Kept) {
	s := k.Snapshot
	if k.Unchanged {
		p.Line("nothing to keep: %s rests, and %s has its saves as they are", Text(s.Title), p.paint(strong, s.Address()))
		p.Next(problem.Do("kept", s.Address()), problem.Do("swap", s.Playthrough))
		return
	}
	p.Line("%s %s", p.paint(good, "kept"), p.paint(strong, s.Address()))
	p.Line("")
	if s.Set {
		files, bytes := heldBy(s, archive.Settings)
		p.Line("  %-9s %s, %s", "settings", Count(files, "file", "files"), Size(bytes))
		p.Line("  %-9s %s, grown by %s", "archive", k.Archive, Size(k.Stored))
		p.Next(problem.Do("restore", s.Playthrough), problem.Do("fresh", "TITLE", s.Game).With("settings", s.Playthrough))
		return
	}
	var parts []string
	parts = append(parts, Count(len(s.Saves), "save", "saves"))
	if k.Since != nil && !s.ByHand {
		parts = append(parts, fmt.Sprintf("%d new, %d changed since %s", k.New, k.Changed, When(k.Since.Taken, p.Now)))
	}
	p.Line("  %-9s %s", "saves", strings.Join(parts, "; "))
	if k.Since != nil && !s.ByHand && k.Since.Version != s.Version && k.Since.Version != "" {
		p.Line("  %-9s %s", "game", fmt.Sprintf("updated %s → %s", Text(k.Since.Version), Text(s.Version)))
	}
	if !s.ByHand {
		list := fmt.Sprintf("list of %d, mod set %s", len(s.Mods), s.Fingerprint)
		if n := altered(s.Mods); n > 0 {
			list += fmt.Sprintf(", %d altered", n)
		}
		p.Line("  %-9s %s", "mods", list)
	} else {
		if s.Mods != nil {
			p.Line("  %-9s list of %d, the copy's own", "mods", len(s.Mods))
		}
		p.Line("  %-9s %s", "date", s.Taken.Local().Format("2 January 2006 15:04")+", from the copy's own files")
	}
	for _, c := range k.ModChanges {
		p.Line("  %-9s %s", "", Text(ModChange(c)))
	}
	for _, g := range k.Gone {
		p.Line("  %-9s %s", "gone", Text(strings.TrimSpace(fmt.Sprintf("%s %q", cmp.Or(g.Slot, g.Name), g.Title))+", there on "+When(g.Seen, p.Now)))
	}
	p.LeftOut(s.LeftOut)
	for _, what := range besides {
		if files, bytes := heldBy(s, what); files > 0 {
			p.Line("  %-9s %s, %s", what, Count(files, "file", "files"), Size(bytes))
		}
	}
	read := Size(k.Copied) + " read"
	if k.Reused > 0 {
		read += fmt.Sprintf(", %s unchanged and not read again", Size(k.Reused))
	}
	p.Line("  %-9s %s, grown by %s; %s", "archive", k.Archive, Size(k.Stored), read)
	for _, dir := range k.Copies {
		p.Line("  %-9s and in %s", "", dir)
	}
	if len(k.Also) > 0 {
		p.Line("")
		p.also(k)
	}
	if k.Started != "" {
		p.Line("")
		p.Line("  A playthrough %q was started for it.", k.Started)
	}
	if len(k.Findings) > 0 {
		p.Line("")
		p.Findings(k.Findings)
	}
	p.Next(problem.Do("kept", s.Playthrough), problem.Do("restore", s.Address()))
}

// also names what was kept of lines that went on although another one is active.
func (p *Printer) also(k *keep.Kept) {
	for _, other := range k.Also {
		s := other.Snapshot
		p.Line("  %s went on too: kept as %s, %s", s.Playthrough, p.paint(strong, s.Address()), strings.Join(newAndChanged(other.New, other.Changed), ", "))
	}
}

// besides are the sorts of files that a snapshot may have besides saves.
var besides = []archive.Kind{archive.Settings, archive.Data, archive.Mods, archive.Game, archive.Pictures}

// heldBy is how many files and bytes of one sort a snapshot has.
func heldBy(s *archive.Snapshot, what archive.Kind) (files int, bytes int64) {
	for _, r := range s.Roots {
		if r.Kind == what {
			files, bytes = files+r.Files, bytes+r.Bytes
		}
	}
	return files, bytes
}

// Exported writes what exporting a snapshot wrote.
func (p *Printer) Exported(e *share.Export, file string) {
	p.Line("%s %s to %s: %s, %s", p.paint(good, "exported"), e.Snapshot.Address(), file, Count(e.Files, "file", "files"), Size(e.Size))
	p.Line("")
	p.Line("  A zip that needs no Ostrov: READ-ME.txt in it says what is where and lists the mods; sha512sum -c checks it.")
}

// Timeline writes the snapshots of one playthrough, newest last.
func (p *Printer) Timeline(name string, all []*archive.Snapshot, broken []archive.Broken) {
	head := p.paint(strong, name)
	if len(all) > 0 && all[0].Title != name {
		head += "  " + Text(all[0].Title)
	}
	p.Line("%s", head)
	machines := map[string]bool{}
	for _, s := range all {
		machines[s.Machine] = true
	}
	var rows [][]string
	branches := archive.BranchesOf(all)
	called := map[string]string{}
	for _, s := range all {
		called[s.ID] = s.Address()
	}
	last := ""
	for i, s := range all {
		var notes []string
		if from := branches.After(s.ID); from != "" && from != last && last != "" {
			notes = append(notes, p.paint(warn, "from "+called[from]))
		}
		if !s.ByHand {
			last = s.ID
		}
		if len(machines) > 1 && s.Machine != "" {
			notes = append(notes, p.paint(faint, "on "+Text(s.Machine)))
		}
		for _, k := range s.Saves {
			if k.Broken != "" {
				notes = append(notes, p.paint(warn, Text(cmp.Or(k.Slot, k.Name)+" "+k.Broken)))
			}
		}
		if s.Note != "" {
			notes = append(notes, Text(s.Note))
		}
		for _, tag := range s.Tags {
			notes = append(notes, p.paint(strong, "."+tag))
		}
		if s.Before != "" {
			notes = append(notes, p.paint(faint, "before "+Text(s.Before)))
		}
		if s.ByHand {
			notes = append(notes, p.paint(faint, "a copy made by hand"))
		}
		if i > 0 && !s.ByHand {
			before := all[i-1]
			if before.Version != s.Version && before.Version != "" && s.Version != "" {
				notes = append(notes, fmt.Sprintf("game %s → %s", Text(before.Version), Text(s.Version)))
			}
			if before.Fingerprint != s.Fingerprint && !before.ByHand {
				notes = append(notes, modsChanged(modlist.Compare(before.Mods, s.Mods))...)
			}
		}
		var with []string
		for _, what := range keep.Optional {
			if files, _ := heldBy(s, what); files > 0 {
				with = append(with, string(what))
			}
		}
		if len(with) > 0 {
			notes = append(notes, p.paint(faint, "with "+strings.Join(with, ", ")))
		}
		if s.Set {
			notes = append(notes, p.paint(faint, "a set of settings"))
		}
		rows = append(rows, []string{s.Address(), When(s.Taken, p.Now), Text(s.Version), string(s.Fingerprint), fmt.Sprint(len(s.Saves)), strings.Join(notes, ", ")})
	}
	p.table([]column{{title: "snapshot"}, {title: "taken"}, {title: "version", drop: 2}, {title: "mod set", drop: 3}, {title: "saves", right: true, drop: 1}, {title: "", grow: true}}, rows)
	p.ends(branches, called)
	for _, b := range broken {
		p.Line("  %s %s: %v", p.paint(bad, "✗"), b.File, b.Err)
	}
}

// ends says where a line ends that went on in several places.
func (p *Printer) ends(branches archive.Branches, called map[string]string) {
	ends := branches.Ends()
	if len(ends) < 2 {
		return
	}
	var names []string
	for _, id := range ends {
		names = append(names, called[id])
	}
	p.Line("")
	p.hang(" ", "It went on in "+Count(len(ends), "branch", "branches")+", which end in "+strings.Join(names, " and ")+".")
}

// modsChanged says in few words how mod lists differ.
func modsChanged(changes []modlist.Change) []string {
	var notes []string
	n := 0
	for _, c := range changes {
		if c.What == "reordered" {
			notes = append(notes, "load order changed")
		} else {
			n++
		}
	}
	if n == 1 && len(changes) == 1 {
		return []string{Text(ModChange(changes[0]))}
	}
	if n > 0 {
		notes = append([]string{Count(n, "mod changed", "mods changed")}, notes...)
	}
	return notes
}

// Contents lists the files of a set of settings.
func (p *Printer) Contents(files []string, s *archive.Snapshot) {
	all := 0
	for _, r := range s.Roots {
		all += r.Files
	}
	p.Line("")
	for _, f := range files {
		p.Line("  %s", Text(f))
	}
	if more := all - len(files); more > 0 {
		p.Line("  and %s", Count(more, "more file", "more files"))
	}
}

// Snapshot writes one snapshot in full.
func (p *Printer) Snapshot(s *archive.Snapshot) {
	p.Line("%s  %s", p.paint(strong, s.Address()), When(s.Taken, p.Now))
	if s.Note != "" {
		p.Line("  %s", Text(s.Note))
	}
	if len(s.Tags) > 0 {
		p.Line("  tags: %s", strings.Join(s.Tags, ", "))
	}
	if s.Set {
		p.Line("  a set of settings of %s %s", Text(s.GameTitle), Text(s.Version))
	} else {
		p.Line("  %s %s, %s", Text(s.GameTitle), Text(s.Version), Count(len(s.Mods), "mod", "mods"))
	}
	for _, what := range besides {
		if files, bytes := heldBy(s, what); files > 0 {
			p.Line("  %-9s %s, %s", what, Count(files, "file", "files"), Size(bytes))
		}
	}
	for _, m := range s.Mods {
		if m.Altered {
			p.Line("  %s %s", p.paint(warn, "altered"), Text(strings.TrimSpace(m.Name()+" "+m.Version)))
		}
	}
	p.LeftOut(s.LeftOut)
	if len(s.Saves) == 0 {
		return
	}
	p.Line("")
	var rows [][]string
	for _, k := range s.Saves {
		slot := k.Slot
		if slot == "" {
			slot = k.Name
		}
		state := k.Broken
		if state != "" {
			state = p.paint(warn, Text(state))
		}
		rows = append(rows, []string{Text(slot), Text(k.Title), When(k.Modified, p.Now), Text(k.Version), Size(k.Bytes), state})
	}
	p.table([]column{{title: "save", grow: true}, {title: "title", grow: true}, {title: "saved", drop: 1}, {title: "version", drop: 2}, {title: "size", right: true, drop: 3}, {grow: true}}, rows)
}

// maxLeftOut is how many things that were left out are named one by one.
const maxLeftOut = 20

// LeftOut names what could not be read and is not in a snapshot.
func (p *Printer) LeftOut(list []archive.LeftOut) {
	for i, l := range list {
		if i == maxLeftOut {
			p.Line("  %s %d more", p.paint(warn, "left out"), len(list)-i)
			return
		}
		p.Line("  %s %s: %s", p.paint(warn, "left out"), Text(l.Path), Text(l.Why))
	}
}

// Playthroughs writes all lines of play.
func (p *Printer) Playthroughs(all []logbook.Playthrough, saves map[string]int) {
	p.Line("%s", Count(len(all), "playthrough", "playthroughs"))
	if len(all) == 0 {
		return
	}
	p.Line("")
	var rows [][]string
	for _, pt := range all {
		state := p.paint(faint, "resting")
		switch {
		case pt.Closed:
			state = p.paint(faint, "closed")
		case pt.Active:
			state = p.paint(good, "active")
		}
		rows = append(rows, []string{pt.Name, Text(pt.Title), pt.Game + "@" + pt.Install, fmt.Sprint(saves[pt.Name]), When(pt.Started, p.Now), state, strings.Join(pt.Keeps, ", ")})
	}
	p.table([]column{{title: "playthrough"}, {title: "title", grow: true}, {title: "on"}, {title: "saves", right: true}, {title: "started"}, {title: "status"}, {title: "kept with"}}, rows)
	for _, pt := range all {
		if pt.Note != "" {
			p.Line("")
			p.hang("  "+p.paint(strong, pt.Name), Text(pt.Note))
		}
	}
}

// Clearing writes what clearing the archive removes.
func (p *Printer) Clearing(c *archive.Clearing) {
	if len(c.Go) == 0 {
		p.Line("no snapshot goes; %d stay", c.Stay)
	} else {
		p.Line("%s, %d stay", Count(len(c.Go), "snapshot goes", "snapshots go"), c.Stay)
		p.Line("")
		var rows [][]string
		for _, s := range c.Go {
			rows = append(rows, []string{s.Address(), When(s.Taken, p.Now), Text(s.Version), fmt.Sprint(len(s.Saves))})
		}
		p.table([]column{{title: "snapshot"}, {title: "taken"}, {title: "version"}, {title: "saves", right: true}}, rows)
	}
	if c.Freed > 0 {
		p.Line("")
		p.Line("  %s of content are removed that nothing uses", Size(c.Freed))
	}
	if c.Marked > 0 || len(c.Go) > 0 {
		p.Line("")
		p.Line("  Content that nothing uses is marked now and removed by clear-old from tomorrow on, when no keep can be building on it.")
	}
}

// ClearingDoc is a clearing in JSON; sizes in bytes.
type ClearingDoc struct {
	Head
	Done      bool     `json:"done"`
	Snapshots []string `json:"snapshots"` // that go
	Stay      int      `json:"stay"`
	Freed     int64    `json:"freed"`
	Marked    int64    `json:"marked"`
}

// Clearing makes the document of a clearing.
func Clearing(c *archive.Clearing, done bool) ClearingDoc {
	d := ClearingDoc{Head: NewHead("archive clear-old"), Done: done, Snapshots: []string{}, Stay: c.Stay, Freed: c.Freed, Marked: c.Marked}
	for _, s := range c.Go {
		d.Snapshots = append(d.Snapshots, s.Address())
	}
	return d
}

// CopiedDoc is what copying an archive did, in JSON.
type CopiedDoc struct {
	Head
	From string `json:"from"`
	To   string `json:"to"`
	archive.Copied
}
