package view

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/archive"
	"ostrov/internal/core/problem"
)

func TestHintsAreWrittenAsTheyAreTyped(t *testing.T) {
	for want, h := range map[string]problem.Hints{
		"ostrov look":                                         problem.Do("look"),
		"ostrov restore gannet-rock.3 --to DIR":               problem.Do("restore", "gannet-rock.3").With("to", "DIR"),
		"ostrov place 'my save.zip' --anyway":                 problem.Do("place", "my save.zip").With("anyway"),
		"ostrov keep tidewrack -m 'it'\\''s done' --tag a":    problem.Do("keep", "tidewrack").With("m", "it's done").With("tag", "a"),
		"ostrov archive clear-old   (makes room)":             problem.Do("archive clear-old").Note("makes room"),
		"close the game, then try again":                      problem.Advise("close the game, then try again"),
		"ostrov vet '' '$(x)'":                                problem.Do("vet", "", "$(x)"),
		"ostrov place 'a;b' 'c|d' 'e&f' 'g<h' 'i>j' 'k*' l-m": problem.Do("place", "a;b", "c|d", "e&f", "g<h", "i>j", "k*", "l-m"),
	} {
		require.Len(t, h, 1)
		assert.Equal(t, want, Command(h[0]))
	}
}

// TestAQuotedWordIsOneWordToAShell asks a real one.
func TestAQuotedWordIsOneWordToAShell(t *testing.T) {
	shell, err := exec.LookPath("sh")
	if err != nil {
		t.Skip("needs a shell")
	}
	for _, word := range []string{"plain", "two words", "it's", `"quoted"`, "$HOME", "`ls`", "a;b", "a\\b", "*", "~", "#x", "", "new\nline", "!x", "{a,b}", "[a]"} {
		out, err := exec.Command(shell, "-c", "printf %s "+quoted(word)).Output()
		require.NoError(t, err, word)
		assert.Equal(t, word, string(out))
	}
}

func TestWhatWasLeftOutIsNamed(t *testing.T) {
	var list []archive.LeftOut
	for range maxLeftOut + 3 {
		list = append(list, archive.LeftOut{Path: "/games/a\x1b[2Jb", Why: "permission denied"})
	}
	out := printed(80, func(p *Printer) { p.LeftOut(list) })
	assert.Equal(t, maxLeftOut+1, strings.Count(out, "left out"))
	assert.Contains(t, out, "3 more")
	assert.NotContains(t, out, "\x1b[2J")
}
