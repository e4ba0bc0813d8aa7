package job

import (
	"fmt"
	"path"
	"strings"

	"ostrov/internal/core/check"
	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
	"ostrov/internal/core/unpack"
)

// Target is where a save would go in an install.
type Target struct {
	Folder game.Located
	Name   string
	Slot   string // as the game shows it, or ""
	// Replaces is the save that is there now, or nil.
	Replaces *SaveState
	captures map[string]string
}

// place finds out where the save would go and what stands in the way.
func (j *Judged) place(req VetRequest, downloadName string) {
	add := func(f check.Finding) { j.Findings = append(j.Findings, f) }
	l, c := j.Look, j.Save
	if st := l.sameContent(c.Digest); st != nil {
		add(check.New(check.AlreadyHere, "", "the same as "+slotOrName(st)))
	}
	if err := mayChangeLook(l, c.Kind); err != "" {
		f := check.New(check.GameRunning, "", err)
		f.Remedy = "close the game before you place it"
		add(f)
	}
	if owner := c.owner(l); owner != "" && l.Account != "" && owner != l.Account {
		text := fmt.Sprintf("belongs to account %s; place puts it into yours", owner)
		switch {
		case !l.Install.Game.IsAccount(owner):
			text = "belongs to nobody; place makes it yours, " + l.Account
		case c.Kind.Owner != nil && c.Kind.Owner.Rewrite:
			text = fmt.Sprintf("belongs to account %s; place rewrites it to yours, %s", owner, l.Account)
		}
		add(check.New(check.OwnerDiffers, "", text))
	}
	folder, err := l.ownFolder(c.Kind, req.In)
	if err != nil {
		f := check.New(check.NeverStarted, "", err.Error())
		add(f)
		return
	}
	t, problem := l.target(c, folder, req.Slot, downloadName)
	if problem != nil {
		add(*problem)
		return
	}
	j.Target = t
	base := c.Base(downloadName)
	switch own := l.ownSlot(c, folder); {
	case own != nil && t.Replaces == nil && t.Slot != "":
		add(check.New(check.SlotTaken, "", fmt.Sprintf("%s holds %q; slot %s is free", slotOrName(own), own.Title(), t.Slot)))
	case own != nil && t.Replaces == nil:
		add(check.New(check.SlotTaken, "", fmt.Sprintf("%q is taken; it becomes %s", own.Name, t.Name)))
	case t.Replaces != nil:
		add(check.New(check.SlotTaken, "", fmt.Sprintf("%s holds %q, which is replaced and kept first", slotOrName(t.Replaces), t.Replaces.Title())))
	case t.Name != base:
		add(check.New(check.NameDiffers, "", fmt.Sprintf("came as %s; the game looks for %s", base, t.Name)))
	}
}

func slotOrName(st *SaveState) string {
	if st.HasSlot {
		return "slot " + st.SlotShown()
	}
	return st.Name
}

func mayChangeLook(l *Look, kind *game.Save) string {
	if len(l.Running) == 0 || kind.WhileRunning == "others" {
		return ""
	}
	return fmt.Sprintf("%s runs (process %d)", l.Running[0].Name, l.Running[0].PID)
}

// owner is whose the save is: by what it says, or by the account folder it lay in.
func (c *Vetted) owner(l *Look) string {
	if c.Facts.Owner != "" {
		return c.Facts.Owner
	}
	if c.Kind.Owner == nil {
		return ""
	}
	for _, part := range strings.Split(path.Dir(c.Name), "/") {
		if l.Install.Game.IsAccount(part) {
			return part
		}
	}
	return ""
}

func (l *Look) sameContent(d tree.Digest) *SaveState {
	for _, st := range l.Saves {
		if !d.IsZero() && st.Digest == d {
			return st
		}
	}
	return nil
}

// ownSlot is the save that now has the name under which the download came, or nil.
func (l *Look) ownSlot(c *Vetted, folder game.Located) *SaveState {
	if c.Captures == nil {
		return nil
	}
	for _, n := range c.Kind.Names() {
		if name, ok := n.Spell(c.Captures); ok {
			if st := l.at(folder, name); st != nil {
				return st
			}
		}
	}
	return nil
}

// maxFree bounds the search for a free name.
const maxFree = 1000

// target finds where a save goes: the slot asked for, else its own when that is free, else the first free one.
func (l *Look) target(c *Vetted, folder game.Located, slot, downloadName string) (*Target, *check.Finding) {
	refuse := func(code check.Code, format string, args ...any) (*Target, *check.Finding) {
		f := check.New(code, "", fmt.Sprintf(format, args...))
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
			spelled, ok := name.Spell(captures)
			if !ok {
				return nil
			}
			return &Target{folder, spelled, c.Kind.Slots.Shown(n), l.at(folder, spelled), captures}
		}
		if slot != "" {
			for n := first; n <= last; n++ {
				if strings.EqualFold(c.Kind.Slots.Shown(n), slot) {
					return try(n), nil
				}
			}
			return refuse(check.NoFreeSlot, "there is no slot %s; they go from %s to %s", slot, c.Kind.Slots.Shown(first), c.Kind.Slots.Shown(last))
		}
		order := []int{}
		if own, ok := c.Kind.Slots.Number(c.Captures["slot"]); ok && own >= first && own <= last {
			order = append(order, own)
		}
		for n := first; n <= last; n++ {
			order = append(order, n)
		}
		for _, n := range order {
			if t := try(n); t != nil && t.Replaces == nil {
				return t, nil
			}
		}
		return refuse(check.NoFreeSlot, "all %d slots are taken; --slot N replaces one, which is kept first", last-first+1)
	}
	if slot != "" {
		return refuse(check.NoFreeSlot, "%s has no slots for this kind of save", l.Install.Game.Title)
	}
	base := c.Base(downloadName)
	if captures, ok := name.Match(base, true); ok {
		spelled, _ := name.Spell(captures)
		if l.at(folder, spelled) == nil {
			return &Target{folder, spelled, "", nil, captures}, nil
		}
	}
	stem := c.Captures["name"]
	if stem == "" {
		stem = strings.TrimSuffix(base, path.Ext(base))
	}
	if title := c.Facts.Title(); title != "" && c.Captures == nil && unpack.CheckName(title) == "" && !strings.Contains(title, "/") {
		stem = title
	}
	for i := 1; i < maxFree; i++ {
		if captures["name"] = stem; i > 1 {
			captures["name"] = fmt.Sprintf("%s %d", stem, i)
		}
		spelled, ok := name.Spell(captures)
		if !ok {
			break
		}
		if l.at(folder, spelled) == nil {
			return &Target{folder, spelled, "", nil, captures}, nil
		}
	}
	return refuse(check.NameDiffers, "the game's name for it, %s, cannot be made out of %s: rename it first", name, base)
}
