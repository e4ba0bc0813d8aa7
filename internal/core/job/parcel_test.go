package job

import (
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/mod"
)

// TestWhatASaveTellsOfThePlayer puts private things into a save and its neighbours.
func TestWhatASaveTellsOfThePlayer(t *testing.T) {
	w := newWorld(t)
	in, err := w.Install("night-tram")
	require.NoError(t, err)
	timetable := filepath.Join(in.PlayerHome, ".local", "share", "night-tram", "timetables", "mine.timetable")
	text := lines("[timetable]", "title = Mine", "version = 3.1", `note = "by Marta Lampwick, marta@example.org"`, `from = "C:\Users\marta\saves"`, "other = /home/marta/x", "same = marta@example.org", "[/timetable]")
	require.NoError(t, os.WriteFile(timetable, []byte(text), 0o644))
	planned, err := w.PlanParcel(t.Context(), "night-tram/mine.timetable", ParcelRequest{})
	require.NoError(t, err)
	var found []string
	for _, f := range planned.Private {
		assert.Equal(t, "mine.timetable", f.Subject)
		found = append(found, f.Evidence)
	}
	assert.ElementsMatch(t, []string{"name in options.ini: Marta Lampwick", "an e-mail address: marta@example.org", `a folder of the computer: C:\Users\marta`, "a folder of the computer: /home/marta"}, found)

	clear(w.looks)
	require.NoError(t, os.WriteFile(timetable, []byte(lines("[timetable]", "title = Mine", "version = 3.1", "[/timetable]")), 0o644))
	planned, err = w.PlanParcel(t.Context(), "night-tram/mine.timetable", ParcelRequest{})
	require.NoError(t, err)
	assert.Empty(t, planned.Private)
	planned.Out = filepath.Join(t.TempDir(), "mine.zip")
	require.NoError(t, os.WriteFile(timetable, []byte(lines("[timetable]", "title = Mine, played on", "version = 3.1", "[/timetable]")), 0o644))
	require.Error(t, w.WriteParcel(t.Context(), planned, false), "it is being written")
	left, err := os.ReadDir(filepath.Dir(planned.Out))
	require.NoError(t, err)
	assert.Empty(t, left, "whole or not at all")

	_, err = w.PlanParcel(t.Context(), "night-tram/1", ParcelRequest{Blank: true})
	require.NoError(t, err, "an owner inside a container with a checksum is emptied")
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
		for _, p := range patterns {
			want, got := map[string]bool{}, map[string]bool{}
			for _, m := range p.re.FindAll(text, -1) {
				want[string(m)] = true
			}
			for _, mark := range p.marks {
				findAround(p.re, text, mark, func(m []byte) { got[string(m)] = true })
			}
			assert.Equal(t, want, got, "%s in %q", p.re, text)
		}
	}
}

func TestMovedModsAreAsFewAsCanBe(t *testing.T) {
	w := newWorld(t)
	in, err := w.Install("tidewrack")
	require.NoError(t, err)
	l, err := w.Look(t.Context(), in)
	require.NoError(t, err)
	list := ModListOf(l).Mods
	assert.Empty(t, moved(list, list))
	one := append(append([]mod.Listed{}, list[1:]...), list[0])
	got := moved(list, one)
	require.Len(t, got, 1, "one that goes to the end moved, and no other")
	assert.Equal(t, list[0].ID, got[0].ID)
}
