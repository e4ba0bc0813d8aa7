package vet

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/problem"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/unpack"
)

// Target is where a save would go in an install.
type Target struct {
	Folder game.Located
	Name   string
	Slot   string // as the game shows it, or ""
	// Replaces is the save that is there now, or nil.
	Replaces *facts.Save
	captures map[string]string
}

// free reports whether nothing lies where the parts of a save would come to lie, be it a save or not.
func (t *Target) free(c *facts.Found) bool {
	if t.Replaces != nil {
		return false
	}
	for _, top := range (&placing{c: c, t: t}).tops() {
		if _, err := tree.Stat(t.Folder.Path, top.to); !errors.Is(err, fs.ErrNotExist) {
			return false
		}
	}
	return true
}

// place finds out where the save would go and what stands in the way.
func (a *Assessment) place(req Request, downloadName string) {
	add := func(f check.Finding) { a.Findings = append(a.Findings, f) }
	st, c := a.State, a.Save
	if s := st.SameContent(c.Digest); s != nil {
		add(check.New(check.AlreadyHere, "", "the same as "+s.Called()))
	}
	if len(st.Running) > 0 && c.Kind.WhileRunning != "others" {
		f := check.New(check.GameRunning, "", fmt.Sprintf("%s runs (process %d)", st.Running[0].Name, st.Running[0].PID))
		add(f.Helped(problem.Advise("close the game before you place it")))
	}
	if owner := st.Owner(c.Save); owner != "" && st.Account != "" && owner != st.Account {
		text := fmt.Sprintf("belongs to account %s; place puts it into yours", owner)
		switch {
		case !st.Install.Game.IsAccount(owner):
			text = "belongs to nobody; place makes it yours, " + st.Account + a.elsewhere
		case c.Kind.Owner != nil && c.Kind.Owner.Rewrite:
			text = fmt.Sprintf("belongs to account %s; place rewrites it to yours, %s%s", owner, st.Account, a.elsewhere)
		}
		add(check.New(check.OwnerDiffers, "", text))
	}
	if why := st.Unlisted[c.Kind.ID]; why != "" {
		f := check.New(check.NotListed, "", fmt.Sprintf("%s does not list saves of the kind %s here: %s", st.Install.Game.Title, c.Kind.ID, why))
		add(f.Helped(problem.Do("games show", st.Called).Note("says what decides it")))
	}
	folder, err := st.SavesFolder(cmp.Or(a.folder, c.Kind.Folder), req.In)
	if err != nil {
		f := check.New(check.NeverStarted, "", err.Error()).Helped(problem.HintsOf(err))
		a.Blocked = &f
		add(f)
		return
	}
	t, blocked := target(st, c, folder, req.Slot, downloadName)
	if blocked != nil {
		a.Blocked = blocked
		add(*blocked)
		return
	}
	a.Target = t
	base := c.Candidate.Base(downloadName)
	switch own := ownSlot(st, c, folder); {
	case own != nil && t.Replaces == nil && t.Slot != "":
		add(check.New(check.SlotTaken, "", fmt.Sprintf("%s holds %q; slot %s is free", own.Called(), own.Title(), t.Slot)))
	case own != nil && t.Replaces == nil:
		add(check.New(check.SlotTaken, "", fmt.Sprintf("%q is taken; it becomes %s", own.Name, t.Name)))
	case t.Replaces != nil:
		add(check.New(check.SlotTaken, "", fmt.Sprintf("%s holds %q, which is replaced and kept first", t.Replaces.Called(), t.Replaces.Title())))
	case t.Name != base:
		add(check.New(check.NameDiffers, "", fmt.Sprintf("came as %s; the game looks for %s", base, t.Name)))
	}
}

// ownSlot is the save that now has the name under which the download came, or nil.
func ownSlot(st *facts.State, c *facts.Found, folder game.Located) *facts.Save {
	if c.Captures == nil {
		return nil
	}
	if name, ok := c.Kind.Spell(c.Captures, c.Facts.Named); ok {
		if s := st.At(folder, name); s != nil {
			return s
		}
	}
	for _, n := range c.Kind.Names() {
		if name, ok := n.Spell(c.Captures); ok {
			if s := st.At(folder, name); s != nil {
				return s
			}
		}
	}
	return nil
}

// maxFree bounds the search for a free name.
const maxFree = 1000

// target finds where a save goes: the slot asked for, else its own when that is free, else the first free one.
func target(st *facts.State, c *facts.Found, folder game.Located, slot, downloadName string) (*Target, *check.Finding) {
	refuse := func(code check.Code, help problem.Hints, format string, args ...any) (*Target, *check.Finding) {
		f := check.New(code, "", fmt.Sprintf(format, args...)).Helped(help)
		return nil, &f
	}
	name := c.Kind.Names()[0]
	captures := map[string]string{}
	for k, v := range c.Captures {
		captures[k] = v
	}
	if c.Kind.Slots != nil && name.HasSlot() {
		first, last := c.Kind.Slots.Range()
		try := func(n int) *Target {
			captures["slot"] = name.SpellSlot(n)
			spelled, ok := c.Kind.Spell(captures, c.Facts.Named)
			if !ok {
				return nil
			}
			return &Target{folder, spelled, c.Kind.Slots.Shown(n), st.At(folder, spelled), captures}
		}
		if slot != "" {
			for n := first; n <= last; n++ {
				if strings.EqualFold(c.Kind.Slots.Shown(n), slot) {
					return try(n), nil
				}
			}
			return refuse(check.NoFreeSlot, nil, "there is no slot %s; they go from %s to %s", slot, c.Kind.Slots.Shown(first), c.Kind.Slots.Shown(last))
		}
		order := []int{}
		if own, ok := c.Kind.Slots.Number(c.Captures["slot"]); ok && own >= first && own <= last {
			order = append(order, own)
		}
		for n := first; n <= last; n++ {
			order = append(order, n)
		}
		for _, n := range order {
			if t := try(n); t != nil && t.free(c) {
				return t, nil
			}
		}
		return refuse(check.NoFreeSlot, problem.Do("place", "FILE").With("slot", "N").Note("replaces one, which is kept first"), "all %d slots are taken", last-first+1)
	}
	if fixed, ok := name.Spell(nil); ok && len(c.Kind.Names()) == 1 { // the game knows one name for it
		return fixedTarget(st, folder, fixed, slot)
	}
	if slot != "" {
		return refuse(check.NoFreeSlot, nil, "%s has no slots for this kind of save", st.Install.Game.Title)
	}
	base := c.Candidate.Base(downloadName)
	if captures, ok := name.Match(base, true); ok {
		spelled, ok := c.Kind.Spell(captures, c.Facts.Named)
		if t := (&Target{folder, spelled, "", st.At(folder, spelled), captures}); ok && t.free(c) {
			return t, nil
		}
	}
	if t := named(st, c, folder, captures, base); t != nil {
		return t, nil
	}
	return refuse(check.NameDiffers, problem.Advise("rename it first"), "the game's name for it, %s, cannot be made out of %s", name, base)
}

// named is the first free place among those that a save which is called base, or after its title, can have; nil where its name cannot be made.
func named(st *facts.State, c *facts.Found, folder game.Located, captures map[string]string, base string) *Target {
	name := c.Kind.Names()[0]
	stem := name.Stem(c.Captures)
	if stem == "" {
		stem = strings.TrimSuffix(base, path.Ext(base))
	}
	if title := c.Facts.Title(); title != "" && c.Captures == nil && unpack.CheckName(title) == "" && !strings.Contains(title, "/") {
		stem = title
	}
	for i := 1; i < maxFree; i++ {
		another, varies := name.Another(captures, stem, i)
		if varies {
			captures = another
		}
		spelled, ok := c.Kind.Spell(captures, c.Facts.Named)
		if !ok {
			break
		}
		if i > 1 && !varies { // a name that is made of fields alone
			ext := path.Ext(spelled)
			spelled = fmt.Sprintf("%s %d%s", strings.TrimSuffix(spelled, ext), i, ext)
		}
		if t := (&Target{folder, spelled, "", st.At(folder, spelled), captures}); t.free(c) {
			return t
		}
	}
	return nil
}

// fixedTarget is the one place that the game has for a save of the kind: free, or what is there is to be replaced.
func fixedTarget(st *facts.State, folder game.Located, fixed, slot string) (*Target, *check.Finding) {
	there := st.At(folder, fixed)
	if there == nil || slot != "" && strings.EqualFold(slot, there.Handle()) {
		return &Target{folder, fixed, "", there, map[string]string{}}, nil
	}
	whose := ""
	if there.Line != "" {
		whose = ", of the playthrough " + there.Line
	}
	hints := problem.Do("place", "FILE").With("slot", there.Handle()).Note("replaces it; it is kept first").Or(problem.Do("saves remove", st.Address(there)).Note("puts it away; undo brings it back"))
	f := check.New(check.NoFreeSlot, "", fmt.Sprintf("%s is the only name that the game has for it, and %q is there%s", fixed, there.Title(), whose))
	f = f.Helped(hints)
	return nil, &f
}
