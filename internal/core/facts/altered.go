package facts

import (
	"context"
	"io/fs"
	"slices"

	"ostrov/internal/core/check"
	"ostrov/internal/core/home"
	"ostrov/internal/core/logbook"
	"ostrov/internal/core/modlist"
	"ostrov/internal/core/save"
)

// Altered is a save as it would be with other content, which says this of itself: what it needs is what it says then, and else what it needed,
// but for the mods whose things have been taken out. files are all its files, relative to fsys.
func (st *State) Altered(ctx context.Context, h *home.Home, s *Save, says save.Facts, out []string, fsys fs.FS, files []string) (*Save, error) {
	as, of := *s, *s.Save
	of.Facts = says
	as.Save, as.Unread, as.Shrank, as.Was, as.Again = &of, nil, nil, nil, ""
	var err error
	fresh := slices.DeleteFunc(slices.Clone(s.fresh), func(e logbook.Evidence) bool { return e.Kind == check.Written })
	if as.Needs, err = h.Logbook.Needs(ctx, s.Digest, append(fresh, written(st.Install.Game, says, h.Now()))...); err != nil {
		return nil, err
	}
	as.Needs.Mods = modlist.Without(as.Needs.Mods, out)
	return &as, st.Refer(ctx, &as, fsys, s.Name, files)
}
