package share

import (
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/coretest"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/tree"
)

// TestWhatASaveTellsOfThePlayer puts private things into a save and its neighbours.
func TestWhatASaveTellsOfThePlayer(t *testing.T) {
	w := coretest.New(t)
	own := w.See("night-tram")
	folder := slices.IndexFunc(own.Folders, func(f game.Located) bool { return f.ID == "timetables" })
	timetable := filepath.Join(own.Folders[folder].Path, "mine.timetable")
	text := coretest.Lines("[timetable]", "title = Mine", "version = 3.1", `note = "by Marta Lampwick, marta@example.org"`, `from = "C:\Users\marta\saves"`, "other = /home/marta/x", "same = marta@example.org", "[/timetable]")
	require.NoError(t, os.WriteFile(timetable, []byte(text), 0o644))
	wrap := func(address string, req Request) (*Wrapped, error) {
		st, sv, err := facts.FindSave(t.Context(), w.Home, address)
		require.NoError(t, err)
		return Wrap(t.Context(), w.Home, st, sv, req)
	}
	planned, err := wrap("night-tram/mine.timetable", Request{})
	require.NoError(t, err)
	var found []string
	for _, f := range planned.Private {
		assert.Equal(t, "mine.timetable", f.Subject)
		found = append(found, f.Evidence)
	}
	assert.ElementsMatch(t, []string{"name in options.ini: Marta Lampwick", "an e-mail address: marta@example.org", `a folder of the computer: C:\Users\marta`, "a folder of the computer: /home/marta"}, found)

	require.NoError(t, os.WriteFile(timetable, []byte(coretest.Lines("[timetable]", "title = Mine", "version = 3.1", "[/timetable]")), 0o644))
	planned, err = wrap("night-tram/mine.timetable", Request{})
	require.NoError(t, err)
	assert.Empty(t, planned.Private)
	planned.Out = filepath.Join(t.TempDir(), "mine.zip")
	require.NoError(t, os.WriteFile(timetable, []byte(coretest.Lines("[timetable]", "title = Mine, played on", "version = 3.1", "[/timetable]")), 0o644))
	require.Error(t, planned.Write(t.Context(), w.Home, false), "it is being written")
	left, err := os.ReadDir(filepath.Dir(planned.Out))
	require.NoError(t, err)
	assert.Empty(t, left, "whole or not at all")

	_, err = wrap("night-tram/1", Request{Blank: true})
	require.NoError(t, err, "an owner inside a container with a checksum is emptied")

	options := filepath.Join(filepath.Dir(own.Folders[folder].Path), "options.ini")
	st, sv, err := facts.FindSave(t.Context(), w.Home, "night-tram/mine.timetable")
	require.NoError(t, err)
	require.NoError(t, os.Truncate(options, maxSettings+1))
	_, err = Wrap(t.Context(), w.Home, st, sv, Request{})
	require.ErrorIs(t, err, tree.ErrLarge, "nobody knows what else is in it that tells of the player")
}

func TestPiecesOverlap(t *testing.T) {
	secret := "marta@example.org"
	for _, at := range []int{0, 1<<20 - 5, 1<<20 - len(secret), 1 << 20, 2<<20 - 4096 - 3, 3 << 20} {
		text := strings.Repeat(".", at) + secret + strings.Repeat(".", 1<<20)
		found := false
		require.NoError(t, pieces(strings.NewReader(text), func(p []byte) { found = found || strings.Contains(string(p), secret) }))
		assert.True(t, found, at)
	}
	assert.ErrorIs(t, pieces(iotest.ErrReader(io.ErrClosedPipe), func([]byte) {}), io.ErrClosedPipe)
}

// TestAroundMarksAsMuchIsFoundAsInAll strews private things, alone and in heaps, over a text.
func TestAroundMarksAsMuchIsFoundAsInAll(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	private := []string{"marta@example.org", `C:\Users\marta`, `d:\\Documents and Settings\\Marta L\\`, "/home/marta/x", "/Users/marta", "c:/users/m", "@", ":/", "https://example.org/home/x"}
	for range 50 {
		var b strings.Builder
		for range r.IntN(40) {
			b.WriteString(strings.Repeat([]string{"rope ", ".", "lamp=7\n", " "}[r.IntN(4)], r.IntN(3)*r.IntN(100)))
			b.WriteString(private[r.IntN(len(private))])
		}
		text := []byte(b.String())
		for _, p := range patterns() {
			want, got := map[string]bool{}, map[string]bool{}
			for _, m := range p.re.FindAll(text, -1) {
				want[strings.TrimSuffix(string(m), "/")] = true
			}
			for _, mark := range p.marks {
				findAround(p.re, text, mark, func(m []byte) { got[string(m)] = true })
			}
			assert.Equal(t, want, got, "%s in %q", p.re, text)
		}
	}
}
