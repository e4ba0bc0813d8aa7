package mods

import (
	"ostrov/internal/core/ledger"
	"ostrov/internal/core/mod"
)

// checkoutOf is what a mod that is a checkout came from, or nil.
func checkoutOf(m *mod.Mod) *ledger.Source { return nil }
