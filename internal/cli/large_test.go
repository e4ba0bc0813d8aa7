package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/longtest"
)

// TestALargeSave has a save that has grown to 40 MB of JSON: it says what it said, and can be placed elsewhere.
func TestALargeSave(t *testing.T) {
	longtest.Only(t)
	w := newWorld(t)
	mods := func(slot string) string { // what a save needs, without where it comes from
		said, _, _ := strings.Cut(w.ok("needs", "tidewrack/"+slot).out, "\n  Evidence")
		_, said, _ = strings.Cut(said, "\n")
		return said
	}
	before := mods("1")
	var islands strings.Builder
	for i := range 400_000 {
		fmt.Fprintf(&islands, `{"name": "rock %x", "lamps": [%d, %d, true], "note": "{[\"quoted\"]}"},`+"\n", i, i%7, i%11)
	}
	require.Greater(t, islands.Len(), 24<<20)
	file := w.voyages("slot_00", "voyage.json.gz")
	rewrite(t, file, `"mods": [`, `"far": [`+islands.String()+`null], "mods": [`)
	assert.Contains(t, before, "Deep Tides")
	assert.Equal(t, before, mods("1"))
	assert.Equal(t, "Gannet Rock", w.titles("tidewrack")["1"])

	out := filepath.Join(t.TempDir(), "rock.zip")
	w.ok("parcel", "tidewrack/1", "-o", out, "--blank")
	r := w.ok("place", out, "--slot", "7", "--yes")
	assert.Contains(t, r.out, "slot 7")
	assert.Equal(t, "Gannet Rock", w.titles("tidewrack")["7"])
	assert.Equal(t, before, mods("7"))

	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, whole[:len(whole)/2], 0o644))
	assert.Contains(t, w.ok("needs", "tidewrack/1").out, "voyage.json.gz: ends too early")
}

// TestQueriesForSmallFilesAreNamed tests a description that asks what a large file cannot be asked.
func TestQueriesForSmallFilesAreNamed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	shipped, err := filepath.Abs(filepath.Join("..", "..", "games", "brass-orchard.toml"))
	require.NoError(t, err)
	assert.NotContains(t, w.ok("games", "test", shipped).out, "32 MB")
	text, err := os.ReadFile(shipped)
	require.NoError(t, err)
	deep := filepath.Join(t.TempDir(), "deep.toml")
	require.NoError(t, os.WriteFile(deep, []byte(strings.Replace(string(text), `"/bay/@release"`, `"//bay/@release"`, 1)), 0o644))
	r := w.ok("games", "test", deep)
	assert.Contains(t, r.out, "Asked of JSON and XML of up to 32 MB only:")
	assert.Contains(t, r.out, "//bay/@release")
	assert.Contains(t, w.ok("games", "test", deep, "--json").out, `"query": "//bay/@release"`)
	require.NoError(t, os.WriteFile(deep, []byte(strings.Replace(string(text), `"/bay/@title"`, `"//bay/@title"`, 1)), 0o644))
	assert.Contains(t, w.fails(1, "games", "test", deep).err, "it cannot be set", "what may be set is asked for by a query that names one place")
}

// TestLargeSavesAreChangedWhereTheyLie changes saves that have grown beyond what is held in memory, an XML and one of blocks: what is asked for is there at
// once and in every list, every other byte is as it was, the way to a place is the same when it is asked again, and undo brings all back.
func TestLargeSavesAreChangedWhereTheyLie(t *testing.T) {
	t.Parallel()
	w := newWorld(t).withTrams()
	grow := func(file, before string, row func(i int) string, n int) string {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		var rows strings.Builder
		for i := range n {
			rows.WriteString(row(i))
		}
		head, tail, ok := strings.Cut(string(data), before)
		require.True(t, ok)
		grown := head + rows.String() + before + tail
		require.Greater(t, len(grown), 5<<20)
		require.NoError(t, os.WriteFile(file, []byte(grown), 0o644))
		return grown
	}
	read := func(file string) string {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		return string(data)
	}
	bay := w.path("player", "Orchards", "bay_a.orchard")
	orchard := grow(bay, " </trees>\n", func(i int) string {
		return fmt.Sprintf("  <tree row=\"%d\" wound=\"0.5\" fruit=\"%d\"/>\n", 60+i, i%40)
	}, 800_000) // more than is held in memory to be read, too
	lines := w.path("player", ".local", "share", "night-tram", "timetables", "winter.timetable")
	table := grow(lines, "[/timetable]\n", func(i int) string { return fmt.Sprintf("[stop]\nname = \"quay %d\"\nat = %d\n[/stop]\n", i, i) }, 150_000)

	r := w.ok("set", "brass-orchard/A", "coins=777", "--yes")
	assert.Contains(t, r.out, "4120 → 777")
	assert.Equal(t, strings.Replace(orchard, `coins="4120"`, `coins="777"`, 1), read(bay))
	assert.Regexp(t, `coins\s+777`, w.ok("fields", "brass-orchard/A").out)
	assert.Contains(t, w.ok("saves", "brass-orchard").out, "777")
	w.ok("strip", "brass-orchard/A", "--of", "copper-wasps", "--yes")
	now := read(bay)
	assert.NotContains(t, now, "copper-wasps:hive")
	assert.Equal(t, strings.Count(orchard, "\n")-2, strings.Count(now, "\n"), "two lines less: the cog and its hive")
	assert.Contains(t, now, `<hives count="7">`)
	assert.NotContains(t, w.ok("needs", "brass-orchard/A").out, "copper-wasps:hive")

	place := `140060" wound`
	first := w.ok("find", "brass-orchard/A", place).out
	assert.Contains(t, first, "bay:/bay[1]/trees[1]/tree[140061]/@row")
	assert.Equal(t, first, w.ok("find", "brass-orchard/A", place).out, "the way is remembered")
	assert.Contains(t, w.ok("find", "brass-orchard/A", `Odile" hat`).out, "bay:/bay[1]/wardens[1]/warden[2]/@name", "behind what is remembered")
	w.ok("set", "brass-orchard/A", "--at", "bay:/bay[1]/trees[1]/tree[140061]/@fruit=99", "--yes")
	assert.Contains(t, read(bay), "<tree row=\"140060\" wound=\"0.5\" fruit=\"99\"/>")

	was := read(bay) // the game writes it: of the same size, and all of its parts elsewhere
	written := strings.Replace(was, "<hives ", "<!-- waxy --> <hives ", 1)
	written = strings.Replace(written, "  <tree row=\"140061\" wound=\"0.5\" ", "<tree row=\"140061\" ", 1)
	require.Equal(t, len(was), len(written))
	require.NoError(t, os.WriteFile(bay, []byte(written), 0o644))
	w.ok("set", "brass-orchard/A", "coins=778", "--yes")
	assert.Equal(t, strings.Replace(written, `coins="777"`, `coins="778"`, 1), read(bay))
	w.ok("undo", "--yes")
	require.Equal(t, written, read(bay))
	require.NoError(t, os.WriteFile(bay, []byte(was), 0o644))

	w.ok("set", "night-tram/winter.timetable", "title=Spring nights", "--yes")
	assert.Equal(t, strings.Replace(table, `"Winter nights"`, `"Spring nights"`, 1), read(lines))
	w.ok("set", "night-tram/winter.timetable", "--at", "timetable:$.timetable[0].stop[149999].at=7", "--yes")
	assert.True(t, strings.HasSuffix(read(lines), "name = \"quay 149999\"\nat = 7\n[/stop]\n[/timetable]\n"))
	for range 5 {
		w.ok("undo", "--yes")
	}
	assert.True(t, orchard == read(bay) && table == read(lines), "all is as it was")

	half := table[:len(table)/2]
	require.NoError(t, os.WriteFile(lines, []byte(half), 0o644))
	assert.Contains(t, w.fails(1, "set", "night-tram/winter.timetable", "title=x", "--yes").err, "nothing has been changed")
	assert.Equal(t, half, read(lines))
}
