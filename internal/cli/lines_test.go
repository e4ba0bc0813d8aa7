package cli_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// written is what the game does to a save of the first game: it writes it anew, about as large as it was.
func (w *world) written(slot, text string) {
	require.NoError(w.t, os.WriteFile(w.voyages(slot, "chart.bin"), evening(text), 0o644))
}

func evening(text string) []byte { return []byte(strings.Repeat(text+"\n", 1+8000/(len(text)+1))) }

// emptied is what the game does to a slot on a bad night.
func (w *world) emptied(slot string) {
	files, err := filepath.Glob(w.voyages(slot, "*"))
	require.NoError(w.t, err)
	require.NotEmpty(w.t, files)
	for _, f := range files {
		require.NoError(w.t, os.Truncate(f, 0))
	}
}

func TestAKeepLeavesNoChangedSaveBehind(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	w.ok("playthroughs", "start", "Second", "tidewrack")
	assert.Contains(t, w.ok("look", "tidewrack").out, "Nothing has been kept yet")

	w.written("slot_01", "an old slot was gone on with")
	out := w.ok("look", "tidewrack").out
	assert.Contains(t, out, "The playthrough tidewrack went on: 1 changed save (since tidewrack.1")
	assert.Contains(t, out, "ostrov keep tidewrack")
	assert.Contains(t, w.ok("keep", "tidewrack", "--dry-run").out, "tidewrack went on too and would be kept: 1 changed save")
	assert.NotContains(t, w.ok("kept", "tidewrack").out, "tidewrack.2")

	out = w.ok("keep", "tidewrack").out
	assert.Contains(t, out, "kept second.1")
	assert.Contains(t, out, "tidewrack went on too: kept as tidewrack.2, 1 changed save")
	w.written("slot_01", "something else")
	assert.Contains(t, w.ok("look", "tidewrack").out, "1 changed save (since tidewrack.2")
	w.ok("restore", "tidewrack.2", "--slot", "2", "--yes")
	data, err := os.ReadFile(w.voyages("slot_01", "chart.bin"))
	require.NoError(t, err)
	assert.Equal(t, evening("an old slot was gone on with"), data)

	assert.NotContains(t, w.ok("keep", "tidewrack").out, "went on too", "it has just this state")
	w.ok("playthroughs", "close", "second")
	w.written("slot_01", "with none active")
	assert.Contains(t, w.ok("keep", "tidewrack").out, "kept tidewrack.")
}

func TestTheWayBackIsOneSave(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	before := state(t, w.voyages("slot_00"))
	w.emptied("slot_00")
	require.NoError(t, os.RemoveAll(w.voyages("slot_02")))
	out := w.ok("look", "tidewrack").out
	assert.Contains(t, out, "ostrov restore tidewrack.1 --slot 1\n")
	assert.Contains(t, out, "ostrov restore tidewrack.1 --slot 3\n")
	assert.NotContains(t, out, "ostrov restore tidewrack.1\n", "a whole restore takes back what was played in the others")

	w.ok("keep", "tidewrack")
	assert.Regexp(t, `1 .* 0 B +cut|1 .* 0 B +empty`, w.ok("kept", "tidewrack.2").out)
	out = w.ok("look", "tidewrack").out
	assert.Contains(t, out, "damaged")
	assert.Contains(t, out, "ostrov restore tidewrack.1 --slot 1\n", "the newest snapshot has it no better")
	w.ok("restore", "tidewrack.1", "--slot", "1", "--yes")
	assert.Equal(t, before, state(t, w.voyages("slot_00")))
	out = w.ok("restore", "tidewrack.2", "--slot", "1", "--dry-run").out
	assert.Contains(t, out, "slot 1 was empty already when tidewrack.2 was taken")
}

// TestAStateThatComesBackIsKnown has something else than Ostrov put an older state of a save in its place.
func TestAStateThatComesBackIsKnown(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	first, err := os.ReadFile(w.voyages("slot_00", "chart.bin"))
	require.NoError(t, err)
	w.ok("keep", "tidewrack")
	w.written("slot_00", "the second evening")
	w.ok("keep", "tidewrack")
	w.ok("look", "tidewrack")

	cloud := func() { require.NoError(t, os.WriteFile(w.voyages("slot_00", "chart.bin"), first, 0o644)) }
	cloud()
	for range 2 { // it is said until the player does something about it
		out := w.ok("look", "tidewrack").out
		assert.Contains(t, out, "save-went-back")
		assert.Contains(t, out, "1 save as kept before")
		assert.Contains(t, out, "ostrov restore tidewrack.2 --slot 1\n")
	}
	assert.Contains(t, w.ok("needs", "tidewrack/1").out, "it is as in tidewrack.1, of ")
	w.ok("restore", "tidewrack.2", "--slot", "1", "--yes")
	assert.NotContains(t, w.ok("look", "tidewrack").out, "save-went-back")
	w.ok("undo", "--yes")
	assert.NotContains(t, w.ok("look", "tidewrack").out, "save-went-back", "Ostrov itself brought it")

	w.ok("redo", "--yes")
	cloud()
	w.ok("keep", "tidewrack")
	assert.NotContains(t, w.ok("look", "tidewrack").out, "save-went-back", "it was kept so on purpose")

	// Right after a placing, what was there before comes back.
	w.ok("place", "downloads/quiet-cove.zip", "--slot", "1", "--yes")
	require.NoError(t, os.RemoveAll(w.voyages("slot_00")))
	w.ok("restore", "tidewrack.1", "--to", w.path("cloud"))
	require.NoError(t, os.CopyFS(w.voyages("slot_00"), os.DirFS(w.path("cloud", "Tidewrack", "lit", "70431", "slot_00"))))
	out := w.ok("look", "tidewrack").out
	assert.Contains(t, out, "save-went-back")
	assert.NotContains(t, out, "--slot 1\n", "no snapshot has what was placed")
}

func TestTheHistoryOfASave(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	w.written("slot_00", "the second evening")
	w.ok("keep", "tidewrack")
	w.ok("keep", "tidewrack")
	w.emptied("slot_00")
	w.ok("keep", "tidewrack")
	out := w.ok("kept", "tidewrack/1").out
	assert.Contains(t, out, "slot 1: 3 states kept")
	assert.Regexp(t, `tidewrack\.1 .*Gannet Rock`, out)
	assert.Regexp(t, `tidewrack\.2 to tidewrack\.3 .*Gannet Rock`, out)
	assert.Regexp(t, `tidewrack\.4 .* 0 B +(cut|empty)`, out)
	assert.Contains(t, out, "ostrov restore tidewrack.3 --slot 1\n")
	require.NoError(t, os.RemoveAll(w.voyages("slot_00")))
	assert.Contains(t, w.ok("kept", "tidewrack/1").out, "3 states kept", "it need not be there any more")
	assert.Contains(t, w.fails(2, "kept", "tidewrack/77").err, "no save \"77\"")
	var doc struct {
		States []struct{ First, Last, Broken string }
	}
	w.decode(&doc, "kept", "tidewrack/1")
	require.Len(t, doc.States, 3)
	assert.NotEmpty(t, doc.States[2].Broken)
	w.ok("archive", "clear-old", "--days", "0", "--count", "1", "--yes")
	assert.NotContains(t, w.ok("kept", "tidewrack/1").out, "tidewrack.2 to", "what was cleared away is not offered")
}

// TestEverySaveHasAnAddress has a second account with the same slots.
func TestEverySaveHasAnAddress(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	second := filepath.Join(filepath.Dir(w.voyages()), "80000")
	require.NoError(t, os.CopyFS(second, os.DirFS(w.voyages())))
	require.NoError(t, os.WriteFile(filepath.Join(second, "slot_00", "chart.bin"), []byte("of the other account"), 0o644))
	w.ok("keep", "tidewrack")
	var doc struct {
		Installs []struct {
			Saves []struct{ Address string }
		}
	}
	w.decode(&doc, "look", "tidewrack")
	seen := map[string]bool{}
	for _, s := range doc.Installs[0].Saves {
		assert.False(t, seen[s.Address], s.Address)
		seen[s.Address] = true
		assert.NotEqual(t, 2, w.run("needs", s.Address).status, s.Address)
		assert.Contains(t, w.ok("kept", s.Address).out, "1 state kept", s.Address)
	}
	assert.True(t, seen["tidewrack:80000/1"], "%v", seen)
	assert.Contains(t, w.fails(2, "restore", "tidewrack.1", "--slot", "1").err, "saves:80000/1")
	require.NoError(t, os.RemoveAll(filepath.Join(second, "slot_00")))
	require.NoError(t, os.RemoveAll(w.voyages("slot_00")))
	out := w.ok("look", "tidewrack").out
	assert.Contains(t, out, "save-gone")
	for _, account := range []string{"70431", "80000"} {
		w.ok("restore", "tidewrack.1", "--slot", account+"/1", "--yes")
	}
	assert.Equal(t, []byte("of the other account"), must(os.ReadFile(filepath.Join(second, "slot_00", "chart.bin")))(t))
}

func must[T any](value T, err error) func(t *testing.T) T {
	return func(t *testing.T) T {
		t.Helper()
		require.NoError(t, err)
		return value
	}
}

// TestASecondInstallHasALineOfItsOwn has two installs, whichever is kept first and however they are called.
func TestASecondInstallHasALineOfItsOwn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("games", "forget", "tidewrack@main", "--yes")
	require.NoError(t, os.CopyFS(w.path("games", "T2"), os.DirFS(w.path("games", "Tidewrack"))))
	require.NoError(t, os.CopyFS(w.path("prefix2"), os.DirFS(w.path("prefix"))))
	w.ok("games", "add", "tidewrack", "--at", w.path("games", "T2"), "--prefix", w.path("prefix2"), "--name", "shop", "--yes")
	assert.Contains(t, w.ok("keep", "tidewrack").out, "kept tidewrack.1")
	w.ok("games", "add", "tidewrack", "--at", w.path("games", "Tidewrack"), "--prefix", w.path("prefix"), "--name", "main", "--yes")
	w.written("slot_00", "on the second install")
	assert.Contains(t, w.ok("keep", "tidewrack@main").out, "kept tidewrack-main.1")
	w.ok("place", "downloads/quiet-cove.zip", "--for", "tidewrack@main", "--slot", "6", "--yes")
	w.ok("fresh", "Night", "tidewrack@main", "--yes")
	w.ok("swap", "tidewrack-main", "--yes")
	r := w.fails(2, "keep", "tidewrack@main", "--as", "tidewrack")
	assert.Contains(t, r.err, "ostrov ", "it says what helps")
}

func TestAnInstallIsNotReplacedInSilence(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	require.NoError(t, os.CopyFS(w.path("games", "T2"), os.DirFS(w.path("games", "Tidewrack"))))
	r := w.fails(2, "games", "add", "tidewrack", "--at", w.path("games", "T2"), "--prefix", w.path("prefix"), "--name", "main", "--yes")
	assert.Contains(t, r.err, "which is still there")
	assert.Contains(t, r.err, "ostrov games forget tidewrack@main")
	require.NoError(t, os.RemoveAll(w.path("games", "Tidewrack")))
	out := w.ok("games", "add", "tidewrack", "--at", w.path("games", "T2"), "--prefix", w.path("prefix"), "--yes").out
	assert.Contains(t, out, "tidewrack@main was at "+w.path("games", "Tidewrack")+", where it is no more")
	assert.Contains(t, w.ok("look", "tidewrack").out, "Nothing has changed since tidewrack.1")
}

// TestAKeepLeavesNothingOutInSilence has what was left out without a word: a save that is older than the line, and mods of a folder that a
// store manages.
func TestAKeepLeavesNothingOutInSilence(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	w.ok("playthroughs", "start", "Second", "tidewrack")
	require.NoError(t, os.CopyFS(w.voyages("slot_07"), os.DirFS(w.voyages("slot_00"))))
	long := time.Date(2024, 1, 2, 3, 4, 5, 0, time.UTC)
	for _, name := range []string{"chart.bin", "voyage.json.gz", ""} {
		require.NoError(t, os.Chtimes(w.voyages("slot_07", name), long, long))
	}
	assert.Regexp(t, `saves +1 save\b`, w.ok("keep", "tidewrack").out)

	// One of two accounts is gone: the other's saves come back all the same.
	second := filepath.Join(filepath.Dir(w.voyages()), "80000")
	require.NoError(t, os.CopyFS(second, os.DirFS(w.voyages())))
	w.ok("keep", "tidewrack")
	require.NoError(t, os.RemoveAll(second))
	before := state(t, w.voyages("slot_07"))
	w.emptied("slot_07")
	out := w.ok("restore", "second.2", "--only", "saves", "--yes").out
	assert.Contains(t, out, "has no folder saves of account 80000 now: left out")
	assert.Equal(t, before, state(t, w.voyages("slot_07")))
}

// TestALineThatRestsKeepsItsModList asks for a keep of a line while another one is played with other mods.
func TestALineThatRestsKeepsItsModList(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	w.ok("playthroughs", "start", "Second", "tidewrack")
	require.NoError(t, os.WriteFile(w.path("games", "Tidewrack", "mods", "order.txt"), []byte("deep-tides\n"), 0o644))
	out := w.ok("keep", "tidewrack", "--as", "tidewrack").out
	assert.Contains(t, out, "nothing to keep: Tidewrack rests, and tidewrack.1 has its saves as they are")
	assert.NotContains(t, w.ok("kept", "tidewrack").out, "tidewrack.2")
	w.written("slot_01", "played on with the list of now")
	assert.Contains(t, w.ok("keep", "tidewrack", "--as", "tidewrack").out, "kept tidewrack.2")
}

// TestOlderOverNewerIsSaid looks at what is said of a step that puts an older save over a newer one.
func TestOlderOverNewerIsSaid(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	w.written("slot_01", "another evening")
	assert.Regexp(t, `→ slot 2 "Herring Sound", \d+ \w+\s+20\d\d \d\d:\d\d, slot_01\s+\(the older one; kept first\)`, w.ok("restore", "tidewrack.1", "--dry-run").out)
	assert.Contains(t, w.ok("place", "downloads/quiet-cove.zip", "--slot", "2", "--dry-run").out, "the older one")
	var doc struct{ Plan []struct{ Older bool } }
	w.decode(&doc, "restore", "tidewrack.1", "--slot", "2", "--dry-run")
	assert.True(t, doc.Plan[0].Older)

	w.ok("restore", "tidewrack.1", "--slot", "2", "--yes") // keeps the other evening as tidewrack.2
	assert.NotContains(t, w.ok("restore", "tidewrack.2", "--dry-run").out, "the older one")
}

// TestAKeepWhileTheGameWrites has one world that is being written all the time: the others are kept, and this one is named.
func TestAKeepWhileTheGameWrites(t *testing.T) { // alone: beside others the game would hardly come to write
	var w *world
	var r result
	var stop, done chan struct{}
	for range 5 { // on a busy machine the game may come to write only before and after
		w = newWorld(t)
		stop, done = make(chan struct{}), make(chan struct{})
		go func(w *world, stop, done chan struct{}) {
			defer close(done)
			for i := 0; ; i++ {
				select {
				case <-stop:
					return
				case <-time.After(50 * time.Microsecond): // on a busy machine it is long enough
					assert.NoError(t, os.WriteFile(w.voyages("slot_01", "chart.bin"), evening(fmt.Sprint("evening ", i)), 0o644))
				}
			}
		}(w, stop, done)
		if r = w.run("keep", "tidewrack"); r.status != 0 {
			break
		}
		close(stop)
		<-done
	}
	require.Equal(t, 7, r.status, r.err)
	assert.Contains(t, r.out, "kept tidewrack.1")
	assert.Regexp(t, `left out .*slot_01: is being written`, r.out)
	assert.Contains(t, r.out, "6 saves")
	close(stop)
	<-done
	assert.Contains(t, w.ok("keep", "tidewrack").out, "7 saves")
	w.ok("archive", "verify")
}

// TestAnOptionWithoutEffectIsAnError tries each rule of what goes with what, and that the rules name options that there are.
func TestAnOptionWithoutEffectIsAnError(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for _, args := range [][]string{
		{"games", "add", "tidewrack", "--at", "x", "--under", "y"}, {"keep", "--always"}, {"keep", "--settings", "x", "--with", "mods"}, {"keep", "--from", "x", "--with", "mods"},
		{"kept", "tidewrack.1", "--export", "x.zip", "-m", "x"}, {"kept", "--blank"}, {"look", "tidewrack", "--put-aside", "--if", "version:2"},
		{"needs", "tidewrack/1", "--note", "x"}, {"restore", "tidewrack.1", "--slot", "1", "--only", "saves"}, {"restore", "tidewrack.1", "--to", "x", "--older"},
		{"archive", "verify", "--fast", "--repair", "x"}, {"undo", "--list", "--unfinished"}, {"demo", "--quiet"},
	} {
		assert.Regexp(t, "has no effect without|does not go with", w.fails(2, args...).err, "%v", args)
	}
	assert.Contains(t, w.fails(7, "place", "downloads/quiet-cove.zip", "--in", "99999").err, "there are: 70431")
	assert.Contains(t, w.fails(2, "games", "add", "tidewrack", "--edition", "x", "--at", "games/Tidewrack").err, "it has no editions")
}

func TestTwoSavesAreComparedInside(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	out := w.ok("compare", "tidewrack/1", "tidewrack/2").out
	assert.Regexp(t, `title +Gannet Rock +→ +Herring Sound`, out)
	assert.Regexp(t, `chart.bin +\S+ k?B +→`, out)
	assert.Contains(t, w.ok("compare", "brass-orchard/A", "brass-orchard/B").out, "the file")
	assert.Contains(t, w.ok("compare", "tidewrack/1", "tidewrack/1").out, "no difference")
	require.NoError(t, os.CopyFS(w.voyages("slot_07"), os.DirFS(w.voyages("slot_00"))))
	data := must(os.ReadFile(w.voyages("slot_07", "chart.bin")))(t)
	data[100]++
	require.NoError(t, os.WriteFile(w.voyages("slot_07", "chart.bin"), data, 0o644))
	var doc struct {
		Inside struct {
			Files []struct{ Path string }
			Same  int
		}
	}
	w.decode(&doc, "compare", "tidewrack/1", "tidewrack/8")
	require.Len(t, doc.Inside.Files, 1, "one byte of as many")
	assert.Equal(t, "chart.bin", doc.Inside.Files[0].Path)
	assert.Equal(t, 1, doc.Inside.Same)
}

func TestALineThatRestsFromTheStart(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	w.ok("playthroughs", "start", "Years Ago", "tidewrack", "--resting")
	assert.Regexp(t, `tidewrack .* 7 .*active`, w.ok("playthroughs").out, "what is played goes on")
	copied := filepath.Join(t.TempDir(), "old")
	require.NoError(t, os.CopyFS(filepath.Join(copied, "slot_04"), os.DirFS(w.voyages("slot_04"))))
	assert.Contains(t, w.ok("keep", "tidewrack", "--from", copied, "--as", "years ago").out, "kept years-ago.1", "by its title")
	require.NoError(t, os.CopyFS(w.voyages("slot_07"), os.DirFS(w.voyages("slot_00"))))
	assert.Contains(t, w.ok("keep", "tidewrack").out, "8 saves", "what is new belongs to the one that is played")
	w.ok("playthroughs", "note", "Years Ago", "from the old drive")
	assert.Contains(t, w.ok("playthroughs").out, "from the old drive")
}

// TestTheFirstKeepKeepsAllLines has two lines before anything was kept, and a save of the one that rests goes away.
func TestTheFirstKeepKeepsAllLines(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("playthroughs", "start", "First", "tidewrack")
	w.ok("playthroughs", "start", "Second", "tidewrack")
	assert.Contains(t, w.ok("look", "tidewrack").out, "The playthrough first went on: 7 new saves (nothing of it has been kept yet)")
	assert.Contains(t, w.ok("keep", "tidewrack").out, "first went on too: kept as first.1")

	require.NoError(t, os.RemoveAll(w.voyages("slot_02")))
	for range 2 {
		w.ok("keep", "tidewrack")
		out := w.ok("look", "tidewrack").out
		assert.Contains(t, out, "save-gone", "a keep of the other line does not end it")
		assert.Contains(t, out, "ostrov restore first.1 --slot 3\n")
	}
	assert.Contains(t, w.ok("keep", "tidewrack", "--as", "first").out, "kept first.2")
	assert.NotContains(t, w.ok("look", "tidewrack").out, "save-gone")
}

// TestALinesModListIsTheOneItWasWrittenUnder edits the mod list after an evening, and then keeps, starts afresh and swaps.
func TestALinesModListIsTheOneItWasWrittenUnder(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	order := w.path("games", "Tidewrack", "mods", "order.txt")
	former, err := os.ReadFile(order)
	require.NoError(t, err)
	edited := strings.Replace(string(former), "deep-tides\n", "", 1)
	require.NotEqual(t, string(former), edited)
	edit := func() { require.NoError(t, os.WriteFile(order, []byte(edited), 0o644)) }
	on := func(snapshot string) bool {
		return !strings.Contains(w.ok("compare", snapshot, "tidewrack.1").out, "Deep Tides")
	}
	w.ok("keep", "tidewrack")
	edit()
	out := w.ok("keep", "tidewrack").out
	assert.Contains(t, out, "list-changed")
	assert.False(t, on("tidewrack.2"), "a keep has what is there, and says so")
	assert.NotContains(t, w.ok("keep", "tidewrack", "--mods", "as-written").out, "list-changed")
	assert.True(t, on("tidewrack.3"))
	w.fails(2, "keep", "tidewrack", "--mods", "mine")

	r := w.ok("fresh", "Second", "tidewrack", "--yes")
	assert.Contains(t, r.err, "The mod list has changed since the saves of tidewrack were written")
	w.ok("swap", "tidewrack", "--yes")
	now, err := os.ReadFile(order)
	require.NoError(t, err)
	assert.Equal(t, string(former), string(now), "what belongs to the saves comes back with them")

	edit()
	w.ok("fresh", "Third", "tidewrack", "--mods", "as-now", "--yes")
	w.ok("swap", "tidewrack", "--yes")
	now, err = os.ReadFile(order)
	require.NoError(t, err)
	assert.Equal(t, edited, string(now))
}

// TestSettingsThatStayAreSaid restores where the description has some settings stay, and where a pattern of settings takes in the mod list.
func TestSettingsThatStayAreSaid(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	description := strings.Replace(pebbles, "[[rule]]", "[settings]\nfiles = [\"{game}/config/*\"]\nstays = [\"screen.ini\"]\n[active]\nin = \"list\"\neach = \"(?P<id>.+)\"\n[file.list]\npath = \"{game}/config/mods.txt\"\nform = \"lines\"\noptional = true\n[[rule]]", 1)
	write := w.small(description, "pebbles", map[string]string{"release.txt": "1", "saves/a.run": "x", "config/screen.ini": "one", "config/keys.ini": "one", "config/mods.txt": "moss\n", "mods/moss/m": "x", "mods/fern/m": "x"})
	read := func(name string) string {
		data, err := os.ReadFile(w.path("games", "pebbles", "config", name))
		require.NoError(t, err)
		return string(data)
	}
	w.ok("keep", "pebbles")
	write("config/screen.ini", "two")
	assert.Contains(t, w.ok("restore", "pebbles.1", "--yes").out, "--all takes them, too")
	write("config/keys.ini", "two")
	assert.Contains(t, w.ok("restore", "pebbles.1", "--yes").out, "1 setting stays as they are")
	assert.Equal(t, "two", read("screen.ini"))
	assert.Equal(t, "one", read("keys.ini"))
	w.ok("restore", "pebbles.1", "--all", "--yes")
	assert.Equal(t, "one", read("screen.ini"))
	// the mod list is no setting: a fresh start leaves it, though a pattern of settings has it
	write("config/keys.ini", "two")
	w.ok("fresh", "New", "pebbles", "--yes")
	assert.NoFileExists(t, w.path("games", "pebbles", "config", "keys.ini"))
	assert.Equal(t, "moss\n", read("mods.txt"))
	w.fails(2, "restore", "pebbles.1", "--all", "--slot", "a.run")
}

// TestWhichStateIsFartherOn has saves that say how long they were played, whatever their dates are.
func TestWhichStateIsFartherOn(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	description := strings.Replace(pebbles, "[[mod]]", "[save.file.run]\npath = \".\"\nform = \"text\"\n[save.field]\nplayed = { in = \"run\", at = \"played ([0-9]+)\", as = \"seconds\" }\n[[mod]]", 1)
	long, short := "played 162000 "+strings.Repeat("x", 100), "played 144000 "+strings.Repeat("x", 100)
	write := w.small(description, "pebbles", map[string]string{"release.txt": "1", "saves/a.run": short})
	w.ok("keep", "pebbles")
	write("saves/a.run", long)
	w.ok("keep", "pebbles")
	write("saves/a.run", short) // a cloud, with a date of today
	look := strings.Join(strings.Fields(w.ok("look", "pebbles").out), " ")
	assert.Contains(t, w.evidence("pebbles", "no-rule")+look, "save-went-back")
	needs := strings.Join(strings.Fields(w.ok("needs", "pebbles/a.run").out), " ")
	assert.Contains(t, needs, "that one was farther on, played 45 h 0 min and not 40 h 0 min")
	w.ok("restore", "pebbles.2", "--slot", "a.run", "--yes")
	plan := strings.Join(strings.Fields(w.ok("restore", "pebbles.1", "--slot", "a.run", "--dry-run").out), " ")
	assert.Contains(t, plan, "played 40 h 0 min instead of 45 h 0 min (the older one")
}
