package assess

import (
	"fmt"
	"slices"
	"strings"

	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/field"
	"ostrov/internal/core/game"
	"ostrov/internal/core/mod"
	"ostrov/internal/core/problem"
)

// installFindings are what there is to say of the install itself.
func installFindings(st *facts.State) []check.Finding {
	var found []check.Finding
	for _, part := range []func(*facts.State) []check.Finding{unread, modFindings, baseFindings, logFindings, sharers, formerFolders, archivesAway, neverStarted, orphans, requirements, gone, updatedSince} {
		found = append(found, part(st)...)
	}
	return found
}

// unread names what of the install cannot be read.
func unread(st *facts.State) []check.Finding {
	var found []check.Finding
	add := func(err error, what string) {
		if err != nil {
			found = append(found, check.New(check.NoRule, "", what+" cannot be read: "+Reading(err)))
		}
	}
	add(st.Problems.Version, "the game's version")
	add(st.Problems.Mods, "which mods are on")
	add(st.Problems.Base, "the clean state")
	add(st.Problems.Archive, "the newest snapshot")
	for _, u := range st.Problems.Saves {
		if u.Name == "" {
			add(u.Err, "the folder of saves "+u.Folder.Path)
			continue
		}
		found = append(found, check.New(check.LinkedSave, u.Name, "it "+u.Err.Error()).Helped(problem.Advise("put the save itself there, if it is to be kept and checked")))
	}
	add(st.Problems.Groups, "where settings and pictures lie")
	return found
}

// modFindings are about mods that do not go with each other or with the game.
func modFindings(st *facts.State) []check.Finding {
	if st.Install.Game.PerSaveMods() {
		return nil // each save says which of the installed mods are on
	}
	found := Compatibility(st)
	for _, id := range st.Mods.Absent {
		found = append(found, check.New(check.ModMissing, id, "the game's list of mods has it on, and it is not there"))
	}
	for _, m := range st.Mods.Mods {
		if m.HiddenBy != "" {
			found = append(found, check.New(check.ModHidden, m.Name(), "in "+m.Dir()+", hidden by "+m.HiddenBy))
		}
	}
	return found
}

// Compatibility is which mods do not go with each other or with the game.
func Compatibility(st *facts.State) []check.Finding {
	var found []check.Finding
	order := st.Install.Game.Order()
	for _, u := range st.Mods.Unmet() {
		f := check.New(check.RequirementMissing, u.Mod.Name(), fmt.Sprintf("needs %s: %s", u.Need.Words(), u.Why))
		if u.Need.Stated {
			f.Evidence = fmt.Sprintf("needs %s, as you said: %s", u.Need.Words(), u.Why)
		}
		found = append(found, f)
	}
	for _, c := range st.Mods.Clashes() {
		f := check.New(check.ModsCollide, c.Mod.Name(), "cannot be on with "+c.With.Name())
		found = append(found, f.Helped(problem.Advise("switch %s or %s off", c.Mod.Name(), c.With.Name())))
	}
	for _, m := range st.Mods.Mods {
		if m.On && st.Version != "" && !m.Supports.IsAny() && !m.Supports.Holds(order, st.Version) {
			found = append(found, check.New(check.ModUnsupported, m.Name(), fmt.Sprintf("is made for %s, you have %s", m.Supports, st.Version)))
		}
	}
	return found
}

// requirements are what the game needs for its saves to load as they are and is not so.
func requirements(st *facts.State) []check.Finding {
	var found []check.Finding
	for _, r := range st.Unmet {
		f := check.New(check.SettingNeeded, "", r.Fix).Helped(problem.Advise("%s", r.Fix))
		f.Effect = r.Effect
		found = append(found, f)
	}
	return found
}

func neverStarted(st *facts.State) []check.Finding {
	var found []check.Finding
	for i := range st.Install.Game.Saves {
		id := st.Install.Game.Saves[i].Folder
		if !slices.ContainsFunc(st.Folders, func(f game.Located) bool { return f.ID == id && (f.Exists || f.Create) }) {
			found = append(found, check.New(check.NeverStarted, "", "the folder "+id+" is not there: "+whyNot(st.Install, id)))
		}
	}
	return found
}

// whyNot says why a folder has no place, or is not there.
func whyNot(in *game.Install, id string) string {
	if err := in.Unplaced()[id]; err != nil {
		return err.Error()
	}
	return "start the game once"
}

func archivesAway(st *facts.State) []check.Finding {
	var found []check.Finding
	for _, dir := range st.Problems.Away {
		found = append(found, check.New(check.ArchiveAway, dir, "is not there now: what was kept into it alone is not known").Helped(problem.Do("archive")))
	}
	return found
}

// maxStrays is how many differences from the clean game are named one by one.
const maxStrays = 20

// baseFindings are how the install differs from its clean state.
func baseFindings(st *facts.State) []check.Finding {
	b := st.Base
	if b == nil {
		return nil
	}
	if b.Version != "" && st.Version != "" && b.Version != st.Version {
		f := check.New(check.BaseAltered, "", fmt.Sprintf("the clean game was recorded at %s, you have %s", b.Version, st.Version))
		f.Severity = check.Note
		return []check.Finding{f.Helped(problem.Do("games base", st.Called))}
	}
	var found []check.Finding
	add := func(paths []string, what string, harmless bool) {
		for i, p := range paths {
			f := check.New(check.BaseAltered, p, what)
			if i == maxStrays {
				f = check.New(check.BaseAltered, "", fmt.Sprintf("and %d more", len(paths)-i))
			}
			if harmless {
				f.Severity = check.Note
			}
			if found = append(found, f); i == maxStrays {
				return
			}
		}
	}
	add(st.Strays.Changed, "is altered", false)
	add(st.Strays.Missing, "is missing", false)
	add(st.Strays.Extra, "is no part of the clean game", true) // it matters to saves that need a clean game
	return found
}

// logFindings are mods that are on and that the game's log says were not loaded.
func logFindings(st *facts.State) []check.Finding {
	if st.Log == nil {
		return nil
	}
	var found []check.Finding
	for _, m := range st.Mods.Mods {
		if !m.On || m.Kind.Base || m.Latest.After(st.Logged) { // a mod that changed since the session is another one now
			continue
		}
		if slices.ContainsFunc(st.Log.Failed, func(i field.Item) bool { return strings.EqualFold(i.ID, m.ID) }) {
			f := check.New(check.NotLoaded, m.Name(), "the game's log says that it was not loaded in the last session")
			found = append(found, f.Helped(problem.Advise("read %s", st.LogPath)))
		}
	}
	return found
}

func sharers(st *facts.State) []check.Finding {
	var found []check.Finding
	for _, other := range st.Sharers {
		text := other.Address() + " keeps its saves there too"
		if other.PlaysWith(st.Install) {
			text += ", and the same playthroughs are played on both"
		}
		found = append(found, check.New(check.SharedFolder, "", text))
	}
	return found
}

// formerFolders are folders of saves that a condition chose before.
func formerFolders(st *facts.State) []check.Finding {
	var found []check.Finding
	for _, f := range st.Former {
		text := "no folder of saves is chosen now: " + whyNot(st.Install, f.ID())
		if f.Now.Folder != nil {
			text = fmt.Sprintf("saves are in %s", f.Now.Path)
		}
		for _, now := range st.Learnt.Folders {
			if now.Path == f.Now.Real {
				text += " since " + now.Since.Local().Format("2 January 2006 15:04")
			}
		}
		if f.Now.Why != "" {
			text += ", because " + f.Now.Why
		}
		saves := "saves lie"
		if f.Saves == 1 {
			saves = "save lies"
		}
		text += fmt.Sprintf("; %d %s in %s", f.Saves, saves, f.Path)
		found = append(found, check.New(check.FolderChanged, "", text).Helped(problem.Do("games show", st.Called).Note("says what decides it")))
	}
	return found
}

func orphans(st *facts.State) []check.Finding {
	var found []check.Finding
	for _, o := range st.Orphans {
		f := check.New(check.SettingsOrphaned, o.Mod, o.Path+" is a setting of it, and it is not installed")
		found = append(found, f.Helped(problem.Do("look", st.Called).With("put-aside")))
	}
	return found
}

// helpedBy has the remedy for a save that is gone or broken: that save alone, as the last snapshot has it that has it whole. A whole restore
// would take others' evening back.
func helpedBy(f check.Finding, whole, handle string) check.Finding {
	if whole == "" {
		return f
	}
	return f.Helped(problem.Do("restore", whole).With("slot", handle))
}

// gone are saves that were there at the last look.
func gone(st *facts.State) []check.Finding {
	var found []check.Finding
	for _, p := range st.Gone {
		name := p.Called()
		if p.Title != "" {
			name += fmt.Sprintf(", %q", p.Title)
		}
		f := check.New(check.SaveGone, name, "was there on "+p.Seen.Local().Format("2 January 2006 15:04"))
		found = append(found, helpedBy(f, p.Whole, p.Handle(st)))
	}
	return found
}

// updatedSince tells that the game is of another version than at the newest snapshot, which saves that concerns, and the way back.
func updatedSince(st *facts.State) []check.Finding {
	snap := st.Since.Snapshot
	if snap == nil || st.Since.Version == "" {
		return nil
	}
	var saves []string
	for _, s := range st.Saves {
		if s.Line == snap.Playthrough && s.Needs.Version != "" && s.Needs.Version != st.Version {
			saves = append(saves, s.Handle())
		}
	}
	text := fmt.Sprintf("%s in %s, %s now", snap.Version, snap.Address(), st.Version)
	if len(saves) == 0 {
		text += "; no save is of the former version"
	} else {
		text += fmt.Sprintf("; not saved with %s yet: %s", st.Version, strings.Join(saves, ", "))
	}
	remedy := problem.Do("keep", st.Called).With("with", "game")
	if froze := st.Since.Froze; froze != nil {
		remedy = problem.Do("restore", froze.Address()).With("only", "game").With("to", "DIR")
	} else {
		text += ". " + snap.Version + " was not kept: it is to be had where the game came from, if anywhere, where a choice of versions is offered"
	}
	f := check.New(check.UpdatedSince, "", text).Helped(remedy)
	if len(saves) == 0 {
		f.Severity = check.Note
	}
	return []check.Finding{f}
}

// Unmet are the mods of an install of which a requirement is not met.
func Unmet(st *facts.State) map[*mod.Mod]bool {
	unmet := map[*mod.Mod]bool{}
	if st.Install.Game.PerSaveMods() {
		return unmet
	}
	for _, u := range st.Mods.Unmet() {
		unmet[u.Mod] = true
	}
	return unmet
}
