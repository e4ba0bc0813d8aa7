package keep

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/check"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/home"
	"ostrov/internal/core/modlist"
)

// Which mod list belongs to a line: the one that its saves were last written under, not what the list was edited to since.

// Written is the newest snapshot of a line with the mod list that its saves were last written under, where the present one differs; else, or where no
// snapshot has that list, nil.
func Written(h *home.Home, st *facts.State, line string) (*archive.Snapshot, error) {
	u, _ := st.Written(line)
	if u.Mods == "" || st.Install.Game.PerSaveMods() || st.Problems.Mods != nil || u.Mods == modlist.Identity(st.List) {
		return nil, nil
	}
	a, err := h.Archive()
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return a.NewestReadable(line, func(s *archive.Snapshot) bool {
		return !s.ByHand && !s.Set && modlist.Identity(s.Mods) == u.Mods
	})
}

// ListChanges are what is another in the present mod list than in a snapshot's, in a few words.
func ListChanges(st *facts.State, was *archive.Snapshot) []modlist.Change {
	return modlist.Compare(was.Mods, st.List)
}

// fileList puts the mod list that belongs to the line into its snapshot. Of a line that rests, settings and data of mods are those that it had,
// too: what they are now belongs to the line that is played.
func (kp *keeper) fileList(st *facts.State, snap *archive.Snapshot, kept *Kept) error {
	current := st.Current()
	rests := current != nil && current.Name != snap.Playthrough
	if rests && kp.req.Before == "" && kp.before != nil && !kp.before.ByHand {
		return kp.asItWas(st, snap, kp.before, func(r archive.Root) bool { return r.Kind == archive.Settings || r.Kind == archive.Data })
	}
	was, err := Written(kp.h, st, snap.Playthrough)
	if err != nil || was == nil {
		return err
	}
	if kp.req.List != WrittenList {
		if kp.req.Before == "" {
			text := fmt.Sprintf("since these saves were written: %s; kept with the list as it is now", changesInWords(ListChanges(st, was)))
			kept.Findings = append(kept.Findings, check.New(check.ListChanged, "", text))
		}
		return nil
	}
	active := map[string]bool{}
	for _, g := range st.Groups {
		if g.Active {
			active[g.Pattern] = true
		}
	}
	return kp.asItWas(st, snap, was, func(r archive.Root) bool { return r.Pattern != "" && active[r.Pattern] })
}

// asItWas takes the mod list and some roots over from an earlier snapshot. Where its content is not all there any more, what is now is kept.
func (kp *keeper) asItWas(st *facts.State, snap, was *archive.Snapshot, which func(archive.Root) bool) error {
	if err := kp.k.TakeOver(was); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	}
	snap.Mods, snap.Fingerprint = was.Mods, was.Fingerprint
	snap.Roots = slices.DeleteFunc(snap.Roots, which)
	for _, r := range was.Roots {
		if which(r) {
			snap.Roots = append(snap.Roots, r)
		}
	}
	return nil
}

func changesInWords(changes []modlist.Change) string {
	var words []string
	for _, c := range changes {
		words = append(words, strings.TrimSpace(c.Mod.Name()+" "+c.What))
	}
	if len(words) > 4 {
		words = append(words[:4], fmt.Sprintf("%d more", len(words)-4))
	}
	return strings.Join(words, ", ")
}
