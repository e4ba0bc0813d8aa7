package facts

import (
	"slices"
	"strings"

	"ostrov/internal/core/ledger"
	"ostrov/internal/core/mod"
)

// owned finds what the ledger says of the install's mods: those that are set aside, where they came from, what the player stated of them.
func (g gathering) owned() error {
	var err error
	if g.Entries, err = g.h.LedgerHeads(g.ctx, g.Install); err != nil {
		g.h.Log.Warn("the ledger of mods cannot be read", "error", err)
		g.Problems.Ledger = err
	}
	for _, e := range g.Entries {
		if e.State != ledger.InPlace {
			g.Mods.Away = append(g.Mods.Away, g.setAside(e)...)
		}
	}
	stated, err := g.h.StatedNeeds(g.Install.Game.ID)
	if err != nil {
		return err
	}
	for _, m := range slices.Concat(g.Mods.Mods, g.Mods.Away) {
		for _, text := range stated[strings.ToLower(m.ID)] {
			if n, err := mod.ParseNeed(text); err == nil {
				m.Needs = append(m.Needs, n)
			}
		}
	}
	return nil
}

// setAside are the mods of an entry that is set aside.
func (g gathering) setAside(e *ledger.Entry) []*mod.Mod {
	kind := g.Install.Game.ModKind(e.Kind)
	if kind == nil {
		return nil
	}
	ids := e.Mods
	if len(ids) == 0 {
		ids = []string{e.ID}
	}
	var all []*mod.Mod
	for _, id := range ids {
		m := &mod.Mod{Kind: kind, ID: id, Size: e.Size}
		if strings.EqualFold(id, e.ID) {
			m.Version, m.Title = e.Version, e.Title
		}
		all = append(all, m)
	}
	return all
}

// Entry is what the ledger says of a mod, or nil where it is nobody's yet.
func (st *State) Entry(m *mod.Mod) *ledger.Entry {
	for _, e := range st.Entries {
		if e.Kind == m.Kind.ID && e.Is(m.ID) {
			return e
		}
	}
	return nil
}

// tellSources adds to the mod list where each mod came from, as the ledger says.
func (st *State) tellSources() {
	for i := range st.List {
		for _, m := range st.Mods.Mods {
			if m.Commit != "" && m.ID == st.List[i].ID && m.HiddenBy == "" {
				st.List[i].Source = "commit " + m.Commit
			}
		}
		for _, e := range st.Entries {
			if !e.Is(st.List[i].ID) || len(e.From) == 0 {
				continue
			}
			from := e.From[0]
			if st.List[i].Source = from.Name; from.URL != "" {
				st.List[i].Source = strings.TrimSpace(from.URL + " " + from.Commit)
			}
			if !from.Digest.IsZero() {
				st.List[i].Download = from.Digest.String()
			}
		}
	}
}
