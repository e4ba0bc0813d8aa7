package view

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"ostrov/internal/core/archive"
)

// TestTheTimelineTellsMachinesAndBrokenSaves shows on which machine a snapshot was taken as soon as there are two, and which saves were not
// whole.
func TestTheTimelineTellsMachinesAndBrokenSaves(t *testing.T) {
	taken := time.Date(2026, 3, 1, 21, 0, 0, 0, time.UTC)
	all := []*archive.Snapshot{
		{Playthrough: "a", Title: "A", Number: 1, Taken: taken, Machine: "desk"},
		{Playthrough: "a", Title: "A", Number: 2, Taken: taken, Machine: "desk", Saves: []archive.KeptSave{{Slot: "3", Broken: "empty"}, {Name: "auto", Broken: "cut"}, {Slot: "4"}}},
	}
	shown := func() string {
		var out strings.Builder
		(&Printer{Out: &out, Width: 100, Now: taken}).Timeline("a", all, nil)
		return out.String()
	}
	one := shown()
	assert.Contains(t, one, "3 empty, auto cut")
	assert.NotContains(t, one, "on desk")
	all[1].Machine = "lap\x1btop"
	two := shown()
	assert.Contains(t, two, "on desk")
	assert.NotContains(t, two, "\x1b", "a name from elsewhere is made visible")
}
