package coretest_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"ostrov/internal/core/coretest"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/keep"
	"ostrov/internal/core/plan"
)

type planned = plan.Plan

// carryOut is what a command does that changes Tidewrack: it looks, plans, keeps first, and changes.
func carryOut(t *testing.T, w *coretest.World, make func(*facts.State) (*planned, error)) {
	t.Helper()
	p, err := make(w.See("tidewrack"))
	require.NoError(t, err)
	_, err = keep.Before(t.Context(), w.Home, p, keep.PresentList)
	require.NoError(t, err)
	_, err = p.Apply(t.Context())
	require.NoError(t, err)
}
