// Package assess turns facts, needs and rules into findings and verdicts.
//
// Everything here is pure: it opens nothing, asks no clock and changes nothing. A save in a game, one in a download and one in a game as
// it would be are judged by one function (Save), so that look, vet, place, needs and look --if never differ.
package assess

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/wrap"
)

// Install is an install with what there is to say of it and of each save.
type Install struct {
	*facts.State
	// Findings are about the install, not about one save.
	Findings []check.Finding
	Saves    []*Save
}

// Save is a save with its findings.
type Save struct {
	*facts.Save
	Findings []check.Finding
	Verdict  check.Verdict
}

// Of assesses an install and all its saves.
func Of(st *facts.State) *Install {
	a := &Install{State: st, Findings: installFindings(st)}
	for _, s := range st.Saves {
		one := &Save{Save: s, Findings: append(placeFindings(st, s), Findings(st, s)...)}
		for i := range one.Findings {
			one.Findings[i].Remedy = one.Findings[i].Remedy.About("FILE", st.Address(s))
		}
		check.Sort(one.Findings)
		one.Verdict = check.Sum(one.Findings)
		a.Saves = append(a.Saves, one)
	}
	return a
}

// Save is the assessment of one of the install's saves.
func (a *Install) Save(s *facts.Save) *Save {
	i := slices.IndexFunc(a.Saves, func(one *Save) bool { return one.Save == s })
	return a.Saves[i]
}

// placeFindings are about where a save stands, rather than about what it needs.
func placeFindings(st *facts.State, s *facts.Save) []check.Finding {
	if s.Again != "" {
		text := fmt.Sprintf("it is as in %s, of %s; at the last look it was of %s", s.Again, minute(s.Modified), minute(s.Was.Modified))
		switch now := s.Facts.Played(); {
		case now == 0 || s.WasPlayed == 0 || now == s.WasPlayed:
		case now < s.WasPlayed:
			text += fmt.Sprintf("; that one was farther on, played %s and not %s", PlayTime(s.WasPlayed), PlayTime(now))
		default:
			text += fmt.Sprintf("; it is farther on than that one, played %s and not %s", PlayTime(now), PlayTime(s.WasPlayed))
		}
		f := check.New(check.SaveWentBack, "", text)
		return []check.Finding{helpedBy(f, s.Whole, st.Slot(s))}
	}
	if s.Shrank == nil {
		return nil
	}
	f := check.New(check.SaveShrank, "", fmt.Sprintf("from %s to %s since %s", humanize.Bytes(uint64(s.Shrank.Size)), humanize.Bytes(uint64(s.Size)), s.Shrank.Seen.Local().Format("2 January 2006")))
	return []check.Finding{helpedBy(f, s.Whole, st.Slot(s))}
}

// PlayTime is how long something was played, as people say it.
func PlayTime(d time.Duration) string {
	if d < time.Hour {
		return fmt.Sprintf("%d min", int(d.Minutes()))
	}
	return fmt.Sprintf("%d h %d min", int(d.Hours()), int(d.Minutes())%60)
}

func minute(t time.Time) string { return t.Local().Format("2 January 2006 15:04") }

// Findings judges one save, wherever it is, against an install. Of a save that cannot be read nothing else is said: what it needs is not
// known to be right.
func Findings(st *facts.State, s *facts.Save) []check.Finding {
	switch {
	case s.BeingWritten():
		return []check.Finding{check.New(check.BeingWritten, "", s.Name+" is being written")}
	case s.Unread != nil:
		return []check.Finding{helpedBy(check.New(check.Damaged, "", Reading(s.Unread)), s.Whole, st.Slot(s))}
	case s.Size == 0:
		return []check.Finding{helpedBy(check.New(check.Damaged, "", "it is empty"), s.Whole, st.Slot(s))}
	case s.Facts.Damaged():
		return []check.Finding{helpedBy(Unreadable(s.Facts.Problem), s.Whole, st.Slot(s))}
	case s.Facts.Problem != nil:
		return []check.Finding{Unreadable(s.Facts.Problem)}
	}
	have := check.Have{Called: st.Called, Version: st.Version, Build: st.Build, Mods: st.Mods.ForCheck(writtenHere(s)), Ordered: st.Mods.Ordered,
		HasMods: len(st.Install.Game.Mods) > 0 && !s.Kind.NoMods, PerSave: st.Install.Game.PerSaveMods(),
		Strange: slices.Concat(st.Strays.Extra, st.Strays.Changed, st.Strays.Missing)}
	required := st.Required(s)
	found := check.Judge(required, have, st.Rules, st.Install.Game.Order())
	for _, need := range required.Mods {
		for _, m := range st.Mods.Mods {
			if m.On && m.Unreadable() && strings.EqualFold(m.ID, need.ID) {
				found = append(found, check.New(check.ModsUnknown, m.Name(), "it cannot be read, so nobody knows whether the game can: "+Reading(m.Problem)))
			}
		}
	}
	if have.PerSave {
		found = append(found, ownSet(st, required, have)...)
	}
	found = append(found, requirements(st)...)
	if st.Problems.Mods != nil && have.HasMods {
		found = append(found, check.New(check.ModsUnknown, "", "which mods are on cannot be read: "+Reading(st.Problems.Mods)))
	}
	return found
}

// writtenHere is when a save was written in its game's folder, zero for one that came from elsewhere.
func writtenHere(s *facts.Save) time.Time {
	if s.Folder.Folder == nil || s.Needs.Elsewhere {
		return time.Time{}
	}
	return s.Modified
}

// ownSet is what there is to say of the mods that a save with a set of its own has on: whether they go with each other and with the game.
func ownSet(st *facts.State, required check.Needs, have check.Have) []check.Finding {
	installed := map[string]check.Mod{}
	for _, m := range have.Mods {
		installed[m.ID+"\x00"+m.In] = m
	}
	set := *st
	set.Mods = st.Mods.With(func(m *mod.Mod) bool {
		return slices.ContainsFunc(required.Mods, func(need check.Mod) bool {
			return need.By != check.Referred && m.HiddenBy == "" && (strings.EqualFold(need.ID, m.ID) || slices.Contains(m.Also, need.ID))
		})
	})
	var found []check.Finding
	for _, f := range Compatibility(&set) {
		about := check.Mod{}
		for _, m := range set.Mods.Mods {
			if m.Name() == f.Subject {
				about = installed[m.ID+"\x00"+m.FolderID()]
			}
		}
		f.Evidence = strings.Replace(f.Evidence, ": switched off", ": this save has it switched off", 1)
		found = append(found, check.Ruled(f, about, st.Rules, have.Mods))
	}
	return found
}

// Unreadable is what there is to say of a save of which not everything can be read: it is damaged, or of a kind that is not understood.
func Unreadable(problem error) check.Finding {
	code := check.Damaged
	switch {
	case errors.Is(problem, wrap.ErrUnknown):
		code = check.NotUnderstood
	case errors.Is(problem, wrap.ErrTooLarge):
		code = check.NotRead
	}
	return check.New(code, "", Reading(problem))
}

// OfDownload judges a save that is to come into an install. That the game itself is not as it was recorded is worth knowing then.
func OfDownload(st *facts.State, s *facts.Save) []check.Finding {
	found := Findings(st, s)
	if n := len(st.Strays.Changed) + len(st.Strays.Missing); n > 0 {
		f := check.New(check.BaseAltered, "", fmt.Sprintf("%d of the game's own files are altered or missing", n)).Helped(problem.Do("look", st.Called))
		f.Severity = check.Note
		found = append(found, f)
	}
	return found
}

// Reading says why a file cannot be read, without words from inside.
func Reading(err error) string {
	text := strings.ReplaceAll(err.Error(), wrap.ErrDamaged.Error()+": ", "")
	return strings.Replace(text, "unexpected EOF", "ends too early", 1)
}

// Worst is the gravest finding in words.
func Worst(findings ...check.Finding) string {
	all := slices.Clone(findings)
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

// Change is something that would be done to an install.
type Change struct {
	Words   string // for people: "without Rope & Tar"
	Drop    *mod.Mod
	Add     *mod.Mod
	On, Off *mod.Mod // it is switched
	Order   []string // ids in lower case, in the load order that would be
	Version string
	// Unsafe are findings about what would be added.
	Unsafe []check.Finding
}

// Supposed is an install as it would be after changes that are not made.
type Supposed struct {
	Now     *Install
	Changes []string // in words
	// Then is the same with every save judged as it would stand.
	Then *Install
	// Findings are those about the install that would be there then and are not now.
	Findings []check.Finding
}

// Suppose judges every save of an install as it would be after changes, all together. What is unsafe makes nothing better: then no verdict
// rises.
func Suppose(now *Install, changes []Change) *Supposed {
	st := *now.State
	st.Mods.Mods = slices.Clone(now.Mods.Mods)
	var unsafe []check.Finding
	for _, c := range changes {
		switch {
		case c.Drop != nil:
			st.Mods.Mods = slices.DeleteFunc(st.Mods.Mods, func(m *mod.Mod) bool { return m == c.Drop })
		case c.Add != nil:
			add(&st, c.Add)
		case c.Order != nil:
			reorder(&st, c.Order)
		case c.On != nil:
			turn(&st, c.On, true)
		case c.Off != nil:
			turn(&st, c.Off, false)
		case c.Version != "":
			st.Version = c.Version
		}
		unsafe = append(unsafe, c.Unsafe...)
	}
	st.List = st.Mods.List()
	sup := &Supposed{Now: now, Then: Of(&st)}
	for _, c := range changes {
		sup.Changes = append(sup.Changes, c.Words)
	}
	for _, f := range sup.Then.Findings {
		if !slices.ContainsFunc(now.Findings, f.Same) && aboutMods(f.Code) {
			sup.Findings = append(sup.Findings, f)
		}
	}
	if len(unsafe) > 0 {
		for i, s := range sup.Then.Saves {
			s.Findings = append(slices.Clone(unsafe), s.Findings...)
			check.Sort(s.Findings)
			s.Verdict = check.Sum(s.Findings)
			if check.Worse(now.Saves[i].Verdict, s.Verdict) {
				s.Verdict = now.Saves[i].Verdict
			}
		}
	}
	return sup
}

func aboutMods(c check.Code) bool {
	return slices.Contains([]check.Code{check.RequirementMissing, check.ModsCollide, check.ModUnsupported, check.ModHidden}, c)
}

// reorder puts the mods into another load order.
func reorder(st *facts.State, order []string) {
	for i, old := range st.Mods.Mods {
		if at := slices.Index(order, strings.ToLower(old.ID)); at >= 0 {
			moved := *old
			moved.Order = at + 1
			st.Mods.Mods[i] = &moved
		}
	}
	slices.SortStableFunc(st.Mods.Mods, func(a, b *mod.Mod) int {
		if a.Order == 0 || b.Order == 0 {
			return b.Order - a.Order
		}
		return a.Order - b.Order
	})
}

// beside puts a mod beside one of the same id that another program owns: the folder that the description names first decides which counts, and some
// games do not start with both.
func beside(st *facts.State, i int, m *mod.Mod) {
	old := *st.Mods.Mods[i]
	dir := old.Dir()
	if old.Kind.Twice == "stops" || m.Kind.Twice == "stops" {
		m.Twice, old.Twice = dir, "the mods of your own"
	}
	old.HiddenBy, old.On = "what comes in", false
	st.Mods.Mods[i] = &old
	st.Mods.Mods = append(st.Mods.Mods, m)
}

// turn switches a mod.
func turn(st *facts.State, m *mod.Mod, on bool) {
	for i, old := range st.Mods.Mods {
		if old == m {
			turned := *m
			turned.On = on
			st.Mods.Mods[i] = &turned
		}
	}
}

// add puts a mod into the set in place of one of the same id, or else where its load order says.
func add(st *facts.State, m *mod.Mod) {
	for i, old := range st.Mods.Mods {
		if strings.EqualFold(old.ID, m.ID) && !old.Kind.Base {
			if old.Folder.Folder != nil && old.Folder.Managed && old.HiddenBy == "" { // that one stays, since another program owns it
				beside(st, i, m)
				return
			}
			m.Order = old.Order
			st.Mods.Mods[i] = m
			return
		}
	}
	st.Mods.Mods = append(st.Mods.Mods, m)
}
