package mods

import (
	"ostrov/internal/core/checkout"
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/mod"
)

// checkoutOf is what a mod that is a checkout came from, or nil. One that is not whole is one all the same.
func checkoutOf(m *mod.Mod) *ledger.Source {
	if m.Commit == "" {
		return nil
	}
	info, _ := checkout.Read(m.Dir()) // what it says as far as it can be read
	s := sourceOf(checkout.Name(info.URL), info)
	s.Commit = m.Commit
	if s.Name == "" || s.Name == "." {
		s.Name = m.ID
	}
	return &s
}
