package cli_test

import (
	"flag"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var update = flag.Bool("update", false, "write what the commands of the walk-through say into it")

// fenced is a block of the walk-through: its kind and what follows that, and what is in it.
var fenced = regexp.MustCompile("(?ms)^```(text|toml|diff|console)(?: ([^\n]+))?\n(.*?)^```$")

// took is how long reading took, which is another time each time.
var took = regexp.MustCompile(`read in [\d.]+(?:µs|ms|s)`)

// TestWalkThrough does what docs/describe-a-game.md says, on the files that it shows, and compares what it prints. A diff changes the description for the
// next commands only.
func TestWalkThrough(t *testing.T) {
	path := filepath.Join("..", "..", "docs", "describe-a-game.md")
	doc, err := os.ReadFile(path)
	require.NoError(t, err)
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	w := &world{t: t, dir: dir, bin: program}
	description := ""
	put := func(name, text string) {
		at := filepath.Join(dir, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(text), 0o644))
	}
	run := 0
	fresh := fenced.ReplaceAllStringFunc(string(doc), func(block string) string {
		m := fenced.FindStringSubmatch(block)
		kind, name, text := m[1], m[2], m[3]
		switch kind {
		case "text":
			put(name, text)
		case "toml":
			description += "\n" + text
			put(name, description)
		case "diff":
			put("kelp-mill.toml", changed(t, description, text))
		case "console":
			said := ""
			for _, line := range strings.Split(text, "\n") {
				if command, ok := strings.CutPrefix(line, "$ ostrov "); ok {
					r := w.run(strings.Fields(command)...)
					said += line + "\n" + took.ReplaceAllString(atHome(r.out+r.err, dir), "read in 100µs")
					run++
				}
			}
			block = "```console\n" + strings.TrimRight(dateless(said), "\n") + "\n```"
			put("kelp-mill.toml", description)
		}
		return block
	})
	require.Greater(t, run, 15)
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(fresh), 0o644))
		return
	}
	assert.Equal(t, string(doc), fresh, "run: go test ./internal/cli -run TestWalkThrough -update")
}

// atHome calls the folder of the test ~, and takes back what its longer name pushed aside in the lines of the same table.
func atHome(said, dir string) string {
	pushed := strings.Repeat(" ", len(dir)-1)
	paragraphs := strings.Split(said, "\n\n")
	for i, p := range paragraphs {
		if strings.Contains(p, dir) {
			paragraphs[i] = strings.ReplaceAll(strings.ReplaceAll(p, dir, "~"), pushed, "")
		}
	}
	return strings.Join(paragraphs, "\n\n")
}

// dateless leaves out when a save was written.
func dateless(said string) string {
	return regexp.MustCompile(`today \d\d:\d\d`).ReplaceAllString(said, "today 12:00")
}

// changed is a description in which the lines that a diff takes away are replaced by those that it adds.
func changed(t *testing.T, description, diff string) string {
	var old, new string
	for _, line := range strings.SplitAfter(diff, "\n") {
		if text, ok := strings.CutPrefix(line, "-"); ok {
			old += text
		} else if text, ok := strings.CutPrefix(line, "+"); ok {
			new += text
		}
	}
	require.Contains(t, description, old)
	return strings.Replace(description, old, new, 1)
}
