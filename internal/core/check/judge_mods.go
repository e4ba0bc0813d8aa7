package check

import (
	"fmt"
	"slices"
	"strings"

	"ostrov/internal/core/problem"
	"ostrov/internal/core/version"
)

func (j *judge) mods() {
	if !j.have.HasMods {
		return
	}
	by := j.needs.ModsEvidence
	if by == "" {
		text := "nothing says which mods it was made with"
		for _, need := range j.needs.Mods { // those of one kind
			text = "nothing says which other mods it was made with"
			j.mod(need, by)
		}
		j.add(New(ModsUnknown, "", since(text, j.needs.ModsChanged, "the mods")), Mod{}, by)
		return
	}
	on := 0
	for _, m := range j.have.Mods {
		if !m.Off && !m.Base && !m.Hidden {
			on++
		}
	}
	if j.needs.Clean {
		if on > 0 {
			f := New(NeedsCleanGame, "", fmt.Sprintf("needs a clean game, %s", count(on, "mod is on", "mods are on")))
			f.Remedy = j.command(problem.Do("mods aside", j.have.Called), problem.Advise("put the mods aside first"))
			j.add(f, Mod{}, by)
		}
		for _, name := range j.have.Strange {
			f := New(NeedsCleanGame, name, "is no part of a clean game")
			f.Remedy = problem.Advise("put it aside first")
			j.add(f, Mod{}, by)
		}
		return
	}
	for _, need := range j.needs.Mods {
		j.mod(need, by)
	}
	if j.have.PerSave {
		return
	}
	for _, m := range j.have.Mods {
		if m.Twice != "" && !m.Off && !m.Hidden && !slices.ContainsFunc(j.needs.Mods, func(need Mod) bool { return m.meets(need) }) {
			j.add(New(ModTwice, m.Name(), "it lies in two folders: the other is "+m.Twice), m, by)
		}
		needed := slices.ContainsFunc(j.needs.Mods, func(need Mod) bool { return m.meets(need) || m.is(need.ID) })
		if !needed && !m.Off && !m.Base && !m.Hidden && !j.chosen(m) {
			j.add(New(ModExtra, m.Name(), "on here; the save was made without it"), m, by)
		}
	}
	j.loadOrder(by)
}

// chosen reports whether a mod is of a kind of which the save names those that it uses: then others besides do not matter to it.
func (j *judge) chosen(m Mod) bool {
	return slices.ContainsFunc(j.needs.Mods, func(need Mod) bool { return need.Of != "" && slices.Contains(m.Kind, need.Of) })
}

// known says how it is known that a mod is needed.
func known(need Mod, by Evidence) string {
	how := map[Evidence]string{
		Written: "the save lists it", Parcel: "the parcel lists it", Stated: "you said it needs it", Loaded: "the game loaded it when this was saved",
		Seen: "it lay in place when this was saved, as was seen", Descends: "the state before needed it", Inferred: "it lay in place when this was saved",
	}[by]
	if need.Doubtful {
		how += ", though it may have changed since"
	}
	refers := fmt.Sprintf("refers to it %s", count(need.Refs, "time", "times"))
	switch {
	case by == Referred:
		return "the save " + refers
	case need.Refs > 0 && by == Written:
		return how + " and " + refers
	case need.Refs > 0:
		return how + "; the save " + refers
	case need.Counted:
		return how + ", but nothing of it is in the save"
	}
	return how
}

// command is a remedy as a command, or, where the install has no name, as advice.
func (j *judge) command(do, advice problem.Hints) problem.Hints {
	if j.have.Called == "" {
		return advice
	}
	return do
}

// install is how a mod comes in that is not there, or not in that version.
func (j *judge) install(need Mod) problem.Hints {
	return j.command(problem.Do("mods add", "DOWNLOAD").Note("of "+need.Name()), problem.Advise("install %s", need.Name()))
}

func (j *judge) mod(need Mod, by Evidence) {
	if need.By != "" {
		by = need.By
	}
	how := known(need, by)
	has, ok := Installed(j.have.Mods, need)
	if !ok {
		f := New(ModMissing, need.Name(), how)
		if other, same := find(j.have.Mods, need.ID); same { // named by a digest, and this one has another
			f.Evidence = fmt.Sprintf("%s by what is in it (%s), and the one you have has other content (%s)", how, need.OwnDigest, other.OwnDigest)
		}
		f.Remedy = j.install(need)
		j.add(f, need, by)
		return
	}
	if need.Title == "" {
		need.Title = has.Title
	}
	need.Affects, need.Kind = has.Affects, has.Kind
	if has.Twice != "" && need.In == "" {
		f := New(ModTwice, need.Name(), "it lies in two folders: the other is "+has.Twice)
		f.Remedy = problem.Advise("remove one of the two")
		j.add(f, need, by)
		return
	}
	order := version.Order{} // mods are numbered by themselves, whatever the game's own versions are
	switch rel := order.Compare(need.Version, has.Version); {
	case has.Base && by == Referred: // the game's own content is always on
	case j.have.PerSave && by == Referred:
		f := New(ModOff, need.Name(), "installed, but this save has it switched off; "+how)
		f.Remedy = problem.Advise("switch %s on for this save", need.Name())
		j.add(f, need, by)
	case has.Off:
		f := New(ModOff, need.Name(), "installed but switched off; "+how)
		f.Remedy = j.command(problem.Do("mods on", j.have.Called+"+"+has.ID), problem.Advise("switch %s on", need.Name()))
		j.add(f, need, by)
	case need.In != "" && has.In != need.In:
		f := New(ModElsewhere, need.Name(), fmt.Sprintf("the save loads it from %s, it lies in %s", need.In, has.In))
		f.Remedy = problem.Advise("install %s into %s", need.Name(), need.In)
		j.add(f, need, by)
	case need.Version != "" && has.Version != "" && rel != version.Same:
		title := need
		title.Version = ""
		f := New(ModDiffers, title.Name(), fmt.Sprintf("saved with %s, you have %s", need.Version, has.Version))
		f.Remedy = j.install(need)
		j.how = map[version.Relation]string{version.Newer: "older", version.Older: "newer"}[rel] // of the installed one
		j.add(f, need, by)
		j.how = ""
	case !need.Range.IsAny() && !need.Range.Holds(order, has.Version):
		f := New(ModDiffers, need.Name(), fmt.Sprintf("the save needs %s, you have %s", need.Range, orNone(has.Version)))
		f.Remedy = problem.Advise("install %s %s", need.Name(), need.Range)
		j.add(f, need, by)
	case need.Digest != "" && has.Digest != "" && need.Digest != has.Digest:
		j.edited(New(ModAltered, need.Name(), "not the same content as when this was saved"), need, by)
	case has.Edited != "" && need.Digest == "":
		j.edited(New(ModAltered, need.Name(), has.Edited), need, by)
	}
}

func (j *judge) edited(f Finding, need Mod, by Evidence) {
	j.how = "edited"
	j.add(f, need, by)
	j.how = ""
}

func orNone(version string) string {
	if version == "" {
		return "one without a version"
	}
	return version
}

// meets reports whether an installed mod is the one that is needed: by the game's own digest, where both have one, else by its ids.
func (m Mod) meets(need Mod) bool {
	if need.OwnDigest != "" && m.OwnDigest != "" {
		return strings.EqualFold(need.OwnDigest, m.OwnDigest)
	}
	return m.is(need.ID)
}

// Installed is the one of the mods of an install that a needed one means: of several, one that lies where it is to be loaded from.
func Installed(mods []Mod, need Mod) (has Mod, ok bool) {
	for _, m := range mods {
		if !m.meets(need) || m.Hidden && need.In != m.In || need.Of != "" && !slices.Contains(m.Kind, need.Of) {
			continue
		}
		if !ok || need.In != "" && m.In == need.In {
			has, ok = m, true
		}
	}
	return has, ok
}

// loadOrder compares the order of the mods that both have.
func (j *judge) loadOrder(by Evidence) {
	if !j.needs.Ordered || !j.have.Ordered {
		return
	}
	place := map[string]int{}
	for i, m := range j.have.Mods {
		if !m.Off && !m.Hidden {
			place[strings.ToLower(m.ID)] = i + 1
		}
	}
	last, lastMod := 0, Mod{}
	for _, need := range j.needs.Mods {
		at := place[strings.ToLower(need.ID)]
		if at == 0 || need.By == Referred || need.Of != "" { // what a save refers to has no place in its order
			continue
		}
		if at < last {
			j.add(New(OrderDiffers, "", fmt.Sprintf("%s was loaded before %s, here it comes after", lastMod.Name(), need.Name())), need, by)
			return
		}
		last, lastMod = at, need
	}
}

// find looks a mod up by id, which players and games spell in either case.
func find(mods []Mod, id string) (Mod, bool) {
	for _, m := range mods {
		if m.is(id) && !m.Hidden {
			return m, true
		}
	}
	return Mod{}, false
}

func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
