package facts

import (
	"context"
	"io/fs"

	"ostrov/internal/core/home"
	"ostrov/internal/core/save"
)

// Altered is a save as it would be with other content, which says this of itself: what it needs is what it says then, and else what it needed. files
// are all its files, relative to fsys.
func (st *State) Altered(ctx context.Context, h *home.Home, s *Save, says save.Facts, fsys fs.FS, files []string) (*Save, error) {
	as, of := *s, *s.Save
	of.Facts = says
	as.Save, as.Unread, as.Shrank, as.Was, as.Again = &of, nil, nil, nil, ""
	var err error
	if as.Needs, err = h.Logbook.Needs(ctx, s.Digest, written(st.Install.Game, says, h.Now())); err != nil {
		return nil, err
	}
	return &as, st.Refer(ctx, &as, fsys, s.Name, files)
}
