package view

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/check"
)

// TestFindingsAreDocumented keeps docs/findings.md equal to the table of codes; `go test ./internal/core/view -update` writes it.
func TestFindingsAreDocumented(t *testing.T) {
	var b strings.Builder
	b.WriteString("# Findings\n\nWhat a check can find. This page is generated from the code.\n\n" +
		"A finding has a severity: **stop** (the save does not work here), **unknown** (nothing says whether it does), **risk** (it works, with something lost or\n" +
		"different) or **note** (worth knowing). Any stop makes a save *unfit*; else any unknown *unclear*; else any risk *risky*; else it is *fit*. Named here is the\n" +
		"severity where neither a rule of the game nor the evidence says otherwise: evidence that is only inferred never stops.\n")
	for _, info := range check.Codes() {
		remedy := info.Remedy
		for _, h := range info.Do {
			remedy += " `" + Command(h) + "`"
		}
		fmt.Fprintf(&b, "\n## %s\n\n%s\n\n| | |\n|---|---|\n| severity | %s |\n| effect | %s |\n| remedy | %s |\n| example | `%s` |\n",
			info.Code, info.Meaning, info.Severity, info.Effect, remedy, info.Example)
	}
	path := filepath.Join("..", "..", "docs", "findings.md")
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(b.String()), 0o644))
	}
	got, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, b.String(), string(got), "run: go test ./internal/view -update")
}
