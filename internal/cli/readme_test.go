package cli_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// undated makes text of one year comparable with text of another: the demo's saves have fixed dates, which are shown by how long ago they
// are.
func undated(text string) string {
	text = regexp.MustCompile(`\d{1,2} [A-Z][a-z]{2} (\d{4}|\d\d:\d\d)`).ReplaceAllString(text, "DATE")
	return regexp.MustCompile(` +`).ReplaceAllString(text, " ")
}

// TestReadmeShowsWhatTheDemoSays holds each console block of the README against the demo's real output, and each link against the files.
func TestReadmeShowsWhatTheDemoSays(t *testing.T) {
	t.Parallel()
	readme, err := os.ReadFile(filepath.Join("..", "..", "README.md"))
	require.NoError(t, err)
	w := &world{t: t, dir: t.TempDir(), bin: program}
	told := undated(w.ok("demo").out)
	blocks := regexp.MustCompile("(?s)```console\n(.*?)```").FindAllSubmatch(readme, -1)
	require.NotEmpty(t, blocks)
	for _, b := range blocks {
		rest := told
		for _, line := range strings.Split(strings.TrimSpace(undated(string(b[1]))), "\n") {
			_, after, found := strings.Cut(rest, line+"\n")
			assert.True(t, found, line)
			rest = after
		}
	}
	for _, link := range regexp.MustCompile(`\]\(([^)]+)\)`).FindAllSubmatch(readme, -1) {
		assert.FileExists(t, filepath.Join("..", "..", filepath.FromSlash(string(link[1]))))
	}
}
