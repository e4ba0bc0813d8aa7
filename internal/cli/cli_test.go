package cli_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"flag"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sync/errgroup"
)

// program is the built program; faulty is one that stops at chosen steps (see internal/core/change/fault_on.go).
var program, faulty string

func TestMain(m *testing.M) {
	flag.Parse()
	_ = flag.Set("test.parallel", "6") // much of it is waiting for the drive
	dir, err := os.MkdirTemp(fastTemp(), "ostrov-test-")
	os.Setenv("TMPDIR", dir)
	_ = os.Chmod(dir, 0o755) // servers of games run as nobody
	if err == nil {
		program, faulty = filepath.Join(dir, "ostrov"), filepath.Join(dir, "ostrov-faulty")
		var both errgroup.Group
		both.Go(func() error { return build(program) })
		both.Go(func() error { return build(faulty, "-tags", "faults") })
		err = both.Wait()
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// fastTemp is a folder in memory, where there is one: the tests make hundreds of worlds. "" is the usual place.
func fastTemp() string {
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() {
		return "/dev/shm"
	}
	return ""
}

func build(to string, flags ...string) error {
	args := append(append([]string{"build", "-ldflags=-s -w", "-o", to}, flags...), "ostrov/cmd/ostrov")
	out, err := exec.Command("go", args...).CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s%w", out, err)
	}
	return nil
}

// world is a demo world of its own, with both games added.
type world struct {
	t   testing.TB
	dir string
	bin string
	env []string
}

func newWorld(t testing.TB) *world {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	w := &world{t: t, dir: filepath.Join(dir, "demo"), bin: program}
	w.ok("demo", "--dir", w.dir, "--quiet")
	w.ok("games", "add", "tidewrack", "--at", w.path("games", "Tidewrack"), "--prefix", w.path("prefix"), "--yes")
	w.ok("games", "add", "brass-orchard", "--at", w.path("games", "BrassOrchard"), "--player-home", w.path("player"), "--yes")
	return w
}

// withTrams adds the third game.
func (w *world) withTrams() *world {
	w.ok("games", "add", "night-tram", "--at", w.path("games", "NightTram"), "--player-home", w.path("player"), "--yes")
	return w
}

// tram is a place among what Night Tram keeps of the player.
func (w *world) tram(parts ...string) string {
	return w.path(append([]string{"player", ".local", "share", "night-tram"}, parts...)...)
}

func (w *world) path(parts ...string) string {
	return filepath.Join(append([]string{w.dir}, parts...)...)
}

func (w *world) voyages(parts ...string) string {
	return w.path(append([]string{"prefix", "drive_c", "users", "keeper", "Documents", "Tidewrack", "lit", "70431"}, parts...)...)
}

type result struct {
	out, err string
	status   int
}

// run runs the program as a player would, without a terminal.
func (w *world) run(args ...string) result {
	w.t.Helper()
	return w.command(context.Background(), args...)
}

func (w *world) command(ctx context.Context, args ...string) result {
	cmd := exec.CommandContext(ctx, w.bin, args...)
	if _, err := os.Stat(w.dir); err == nil {
		cmd.Dir = w.dir
	}
	cmd.Env = append(append(os.Environ(), "OSTROV_HOME="+w.path("ostrov"), "HOME="+w.path("nobody"), "TZ=UTC"), w.env...)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	if err != nil && cmd.ProcessState == nil && ctx.Err() == nil { // a deadline that passed before the start is a kill like any other
		require.NoError(w.t, err)
	}
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

func (w *world) ok(args ...string) result {
	w.t.Helper()
	r := w.run(args...)
	require.Zero(w.t, r.status, "%v\n%s%s", args, r.out, r.err)
	return r
}

// fails runs what must fail with a status and leave every file of the games and the archive as it is.
func (w *world) fails(status int, args ...string) result {
	w.t.Helper()
	before := state(w.t, w.path("games"), w.path("prefix"), w.path("player"), w.path("ostrov", "archive"))
	r := w.run(args...)
	assert.Equal(w.t, status, r.status, "%v\n%s%s", args, r.out, r.err)
	assert.Equal(w.t, before, state(w.t, w.path("games"), w.path("prefix"), w.path("player"), w.path("ostrov", "archive")), "nothing has changed")
	return r
}

// state is every file below dirs with its content, time and mode. What Ostrov itself keeps beside folders is left out, and so are the times
// of folders, which adding and removing a file in them alters.
func state(t testing.TB, dirs ...string) map[string]string {
	files := map[string]string{}
	for _, dir := range dirs {
		err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if os.IsNotExist(err) {
				return nil
			}
			if err != nil {
				return err
			}
			if d.Name() == ".ostrov" {
				return fs.SkipDir
			}
			info, err := d.Info()
			if err != nil {
				return err
			}
			text := info.Mode().String()
			if d.Type().IsRegular() {
				data, err := os.ReadFile(path)
				if err != nil {
					return err
				}
				text += " " + info.ModTime().UTC().Format(time.RFC3339Nano) + fmt.Sprintf(" %d %.8x", len(data), sha256.Sum256(data))
			}
			files[path] = text
			return nil
		})
		require.NoError(t, err)
	}
	return files
}

// decode runs a command with --json and decodes its document.
func (w *world) decode(into any, args ...string) result {
	w.t.Helper()
	r := w.run(append(args, "--json")...)
	require.NoError(w.t, json.Unmarshal([]byte(r.out), into), "%v\n%s%s", args, r.out, r.err)
	return r
}

type lookDoc struct {
	Verdict  string
	Installs []struct {
		Address  string
		Saves    []struct{ Slot, Title, Verdict, Playthrough, Name string }
		Findings []struct{ Code, Subject string }
	}
}

func (w *world) titles(game string) map[string]string {
	var doc lookDoc
	w.decode(&doc, "look", game)
	titles := map[string]string{}
	for _, s := range doc.Installs[0].Saves {
		titles[s.Slot] = s.Title
	}
	return titles
}

func TestDemoTellsItsStory(t *testing.T) {
	t.Parallel()
	w := &world{t: t, dir: t.TempDir(), bin: program}
	r := w.ok("demo")
	for _, part := range []string{"$ ostrov look", "4 of 7 saves fit", "unfit for tidewrack", "dangerous: downloads/free-lamps.zip", "placed Quiet Cove",
		"save-gone", "save-went-back", "2 states kept", "restored tidewrack.1", "before restore tidewrack.1", "high-terrace.12", "game 2.2 → 2.3", "Honey Dials 1.0.0 dropped", "blue-lamp",
		"laid out Brass Orchard 2.2", "brass-orchard@2-2's saves are in the folder", "swapped to high-terrace", "exported high-terrace.12", "every byte read and checked"} {
		assert.Contains(t, r.out, part)
	}
	assert.Empty(t, r.err)
}

func TestDemoWorldIsTheSameEachTime(t *testing.T) {
	t.Parallel()
	a, b := &world{t: t, dir: filepath.Join(t.TempDir(), "x"), bin: program}, &world{t: t, dir: filepath.Join(t.TempDir(), "x"), bin: program}
	a.ok("demo", "--dir", a.dir, "--quiet")
	b.ok("demo", "--dir", b.dir, "--quiet")
	relative := func(w *world) map[string]string {
		files := map[string]string{}
		for path, text := range state(t, w.dir) {
			if filepath.Base(path) != "wardens.json" { // which names a folder of this very world
				files[strings.TrimPrefix(path, w.dir)] = text
			}
		}
		return files
	}
	assert.Equal(t, relative(a), relative(b))
	r := a.run("demo", "--dir", a.dir)
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.err, "is not empty")
}

func TestLook(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	before := state(t, w.path("games"), w.path("prefix"), w.path("player"))
	r := w.ok("look")
	assert.Contains(t, r.out, "Tidewrack 1.6.2: 4 of 7 saves fit")
	assert.Contains(t, r.out, "Brass Orchard 2.3: 4 of 6 saves fit")
	assert.Equal(t, before, state(t, w.path("games"), w.path("prefix"), w.path("player")), "looking changes nothing")
	assert.Equal(t, 4, w.run("look", "--check").status)

	var doc lookDoc
	w.decode(&doc, "look", "tidewrack")
	verdicts := map[string]string{}
	for _, s := range doc.Installs[0].Saves {
		verdicts[s.Slot] = s.Verdict
	}
	assert.Equal(t, map[string]string{"1": "fit", "2": "fit", "3": "fit", "4": "risky", "5": "unfit", "7": "unfit", "9": "fit"}, verdicts)

	order := w.path("games", "Tidewrack", "mods", "order.txt") // the bridging mod makes the old save load
	data, err := os.ReadFile(order)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(order, bytes.Replace(data, []byte("#old-charts"), []byte("old-charts"), 1), 0o644))
	w.decode(&doc, "look", "tidewrack")
	assert.Equal(t, "risky", doc.Installs[0].Saves[4].Verdict)
}

func TestSavesThatGoOrShrinkAreNamed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("look")
	require.NoError(t, os.RemoveAll(w.voyages("slot_01")))
	for _, f := range []string{"voyage.json.gz", "chart.bin"} {
		require.NoError(t, os.WriteFile(w.voyages("slot_00", f), nil, 0o644))
	}
	for range 2 { // named until something is done about it
		r := w.ok("look", "tidewrack")
		assert.Contains(t, r.out, `save-gone slot 2, "Herring Sound"`)
		assert.Contains(t, w.ok("needs", "tidewrack/1").out, "save-shrank")
	}
	assert.Contains(t, w.ok("keep", "tidewrack").out, "Herring Sound", "a keep says once more what is gone")
	r := w.ok("look", "tidewrack")
	assert.NotContains(t, r.out, "save-gone", "then it is known")
	assert.NotContains(t, w.ok("needs", "tidewrack/1").out, "save-shrank")
}

func TestNeeds(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	r := w.ok("needs", "tidewrack/7")
	assert.Contains(t, r.out, "11 mods")
	assert.Contains(t, r.out, "written: the save says so")
	assert.Contains(t, r.out, "missing")

	w.ok("needs", "brass-orchard/B", "--state", "mod honey-dials 1.0", "--note", "from its author")
	r = w.ok("needs", "brass-orchard/B")
	assert.Contains(t, r.out, "written: the save says so", "what the save says is stronger")
	assert.Contains(t, r.out, `stated    today`)
	assert.Contains(t, r.out, "from its author")
	assert.Contains(t, w.fails(2, "needs", "brass-orchard/B", "--state", "nonsense").err, `--state 'mod`)
	assert.Contains(t, w.fails(2, "needs", "tidewrack/6").err, `no save "6"`)
	assert.Contains(t, w.fails(2, "needs", "7").err, "say which")
}

func TestVet(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for file, c := range map[string]struct {
		status int
		codes  string
	}{
		"quiet-cove.zip":             {0, "litter owner-differs slot-taken"},
		"finished-harbour.zip":       {4, "save-newer mod-missing mod-differs litter owner-differs slot-taken"},
		"sunken-isles.zip":           {4, "mod-missing"},
		"lamp-race.zip":              {5, "several-saves"},
		"free-lamps.zip":             {6, "dangerous"},
		"harbour-fix.zip":            {6, "dangerous"},
		"half-a-voyage.zip":          {4, "damaged slot-taken"},
		"winter apples by Ada.xml":   {0, "mod-extra mod-extra mod-extra name-differs"},
		"north-terrace-finished.zip": {4, "save-newer slot-taken"},
		"glass-grafts.tar.gz":        {4, "mod-missing save-older"},
		"bay_b.orchard":              {4, "damaged slot-taken"},
	} {
		t.Run(file, func(t *testing.T) {
			var doc struct {
				Verdict  string
				Findings []struct{ Code string }
				Judged   []struct{ Findings []struct{ Code string } }
			}
			before := state(t, w.path("games"), w.path("prefix"), w.path("player"), w.path("downloads"))
			r := w.decode(&doc, "vet", filepath.Join("downloads", file))
			assert.Equal(t, c.status, r.status)
			var codes []string
			for _, f := range doc.Findings {
				codes = append(codes, f.Code)
			}
			if c.status == 6 {
				codes = codes[:1]
			}
			assert.Equal(t, c.codes, strings.Join(codes, " "))
			assert.Equal(t, before, state(t, w.path("games"), w.path("prefix"), w.path("player"), w.path("downloads")), "vetting touches nothing")
		})
	}
	assert.NoDirExists(t, w.path("ostrov", "scratch"), "nothing is left of unpacking")
	assert.Equal(t, 0, w.run("vet", "downloads/lamp-race.zip", "--pick", "40 lamps").status)
	assert.Equal(t, 6, w.run("vet", "downloads/quiet-cove.zip", "downloads/free-lamps.zip").status, "the worst counts")

	alone := &world{t: t, dir: w.dir, bin: program, env: []string{"OSTROV_HOME=" + t.TempDir()}}
	assert.Equal(t, 6, alone.run("vet", "downloads/free-lamps.zip").status, "danger needs no game")
	assert.Equal(t, 5, alone.run("vet", "downloads/quiet-cove.zip").status)
}

func TestPlace(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	before := state(t, w.voyages())
	assert.Contains(t, w.fails(7, "place", "downloads/sunken-isles.zip", "--yes").err, "unfit")
	assert.Contains(t, w.fails(7, "place", "downloads/free-lamps.zip", "--yes", "--anyway").err, "dangerous")
	assert.Contains(t, w.fails(7, "place", "downloads/quiet-cove.zip").err, "--yes")
	assert.Contains(t, w.ok("place", "downloads/quiet-cove.zip", "--dry-run").out, "slot_05")
	assert.Equal(t, before, state(t, w.voyages()))

	r := w.ok("place", "downloads/quiet-cove.zip", "--yes")
	assert.Contains(t, r.out, "slot 6")
	assert.Equal(t, "Quiet Cove", w.titles("tidewrack")["6"])
	assert.Contains(t, w.ok("needs", "tidewrack/6").out, "descends", "it is known to come from the download")
	placed := state(t, w.voyages())
	for path, text := range before {
		assert.Equal(t, text, placed[path], "the others are untouched")
	}
	assert.Contains(t, w.decoded("slot_05"), `"captain": 70431`, "the owner is rewritten")

	w.ok("place", "downloads/quiet-cove.zip", "--slot", "1", "--yes")
	assert.Equal(t, "Quiet Cove", w.titles("tidewrack")["1"])
	w.ok("undo", "--yes")
	w.ok("redo", "--yes")
	assert.Equal(t, "Quiet Cove", w.titles("tidewrack")["1"])
	w.ok("undo", "tidewrack", "--yes")
	assert.Equal(t, "Gannet Rock", w.titles("tidewrack")["1"])
	assert.Equal(t, placed, state(t, w.voyages()))

	w.ok("place", "downloads/winter apples by Ada.xml", "--yes")
	assert.FileExists(t, w.path("player", "Orchards", "bay_e.orchard"))
	assert.Contains(t, w.fails(7, "place", "downloads/winter apples by Ada.xml", "--yes").err, "slots are taken")
	w.ok("place", "downloads/sunken-isles.zip", "--anyway", "--yes")
}

func TestKeepAndRestore(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	time.Sleep(2100 * time.Millisecond) // files as young as that are read again, since file systems round their times
	w.ok("keep", "tidewrack", "-m", "first", "--with", "mods")
	before := state(t, w.voyages())
	r := w.ok("keep", "tidewrack")
	assert.Contains(t, r.out, "0 new, 0 changed")
	assert.Contains(t, r.out, "; 0 B read")

	require.NoError(t, os.RemoveAll(w.voyages("slot_01")))
	require.NoError(t, os.WriteFile(w.voyages("slot_00", "chart.bin"), []byte("other"), 0o644))
	require.NoError(t, os.Mkdir(w.voyages("slot_09"), 0o755))
	require.NoError(t, os.CopyFS(w.voyages("slot_09"), os.DirFS(w.voyages("slot_02"))))
	require.NoError(t, os.RemoveAll(w.path("games", "Tidewrack", "mods", "kelp-farms")))
	messed := state(t, w.voyages())
	assert.Contains(t, w.ok("look", "tidewrack").out, "Kelp Farms 0.4.0 dropped")

	assert.Contains(t, w.ok("restore", "tidewrack.1", "--dry-run").out, "take away")
	assert.Equal(t, messed, state(t, w.voyages()))
	w.ok("restore", "tidewrack.1", "--slot", "2", "--yes")
	assert.Contains(t, w.titles("tidewrack"), "10", "one slot only")
	r = w.ok("restore", "tidewrack.1", "--yes")
	assert.Contains(t, r.out, "kept as tidewrack.")
	assert.Equal(t, before, state(t, w.voyages()), "bytes, times and modes")
	assert.DirExists(t, w.path("games", "Tidewrack", "mods", "kelp-farms"))
	assert.Contains(t, w.ok("restore", "tidewrack.1", "--yes").out, "nothing to do")

	to := filepath.Join(t.TempDir(), "out")
	w.ok("restore", "tidewrack.1", "--to", to, "--only", "saves")
	brought := filepath.Join(to, "Tidewrack", "lit", "70431", "slot_01", "chart.bin")
	assert.Equal(t, before[w.voyages("slot_01", "chart.bin")], state(t, to)[brought], "bytes, times and modes")
	assert.Contains(t, w.fails(2, "restore", "tidewrack.1", "--to", to).err, "not empty")
	assert.Contains(t, w.fails(2, "restore", "tidewrak").err, "did you mean tidewrack?")
	assert.Contains(t, w.ok("archive", "verify").out, "whole")
}

func TestRestoreSetsSettingsBack(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	ini := w.path("prefix", "drive_c", "users", "keeper", "Documents", "Tidewrack", "config", "display.ini")
	w.ok("keep", "tidewrack")
	before := state(t, filepath.Dir(ini))
	require.NoError(t, os.WriteFile(ini, []byte("[display]\n"), 0o644))
	w.ok("restore", "tidewrack", "--only", "settings", "--yes")
	assert.Equal(t, before, state(t, filepath.Dir(ini)))
}

func TestKeepFromACopyMadeByHand(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	copied := filepath.Join(t.TempDir(), "backup old")
	require.NoError(t, os.CopyFS(filepath.Join(copied, "slot_04"), os.DirFS(w.voyages("slot_04"))))
	old := time.Date(2025, 2, 3, 20, 0, 0, 0, time.UTC)
	for _, f := range []string{"voyage.json.gz", "chart.bin"} {
		require.NoError(t, os.Chtimes(filepath.Join(copied, "slot_04", f), old, old))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(copied, "config"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(copied, "config", "lamps.ini"), []byte("[lamps]\nbright=1\n"), 0o644))
	require.NoError(t, os.MkdirAll(filepath.Join(copied, "mods"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(copied, "mods", "order.txt"), []byte("deep-tides\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(copied, "what is this.doc"), []byte("from then"), 0o644))
	w.ok("keep", "tidewrack")
	for _, args := range [][]string{{"--dry-run"}, {"-m", "found on the old drive"}} { // the plan and the result list the same
		r := w.ok(append([]string{"keep", "tidewrack", "--from", copied}, args...)...)
		assert.Regexp(t, `saves +1 save\b`, r.out)
		assert.Regexp(t, `settings +(1|2) files?`, r.out)
		assert.Contains(t, r.out, "what is this.doc: no save of the game under a name that it uses")
	}
	assert.Contains(t, w.ok("kept", "tidewrack.2").out, "what is this.doc")
	w.ok("restore", "tidewrack.2", "--to", w.path("from-then"))
	assert.FileExists(t, w.path("from-then", "Tidewrack", "config", "lamps.ini"))
	var doc struct {
		Snapshots []struct{ Mods []struct{ ID string } }
	}
	w.decode(&doc, "kept", "tidewrack.2")
	require.Len(t, doc.Snapshots[0].Mods, 1, "the copy's own list")
	assert.Equal(t, "deep-tides", doc.Snapshots[0].Mods[0].ID)
	r := w.ok("keep", "tidewrack", "--from", copied, "-m", "found on the old drive")
	assert.Contains(t, r.out, "kept tidewrack.3", "a number is never another's later")
	assert.Contains(t, r.out, "3 February 2025")
	assert.Contains(t, w.ok("kept").out, "found on the old drive")
	assert.NotContains(t, w.ok("restore", "tidewrack", "--dry-run").out, "First Light", "the line alone is what was kept last on purpose, not an old copy")
	assert.Contains(t, w.fails(2, "keep", "tidewrack", "--from", w.path("downloads", "nothing")).err, "not a folder")
	assert.Contains(t, w.fails(2, "keep", "tidewrack", "--from", t.TempDir()).err, "holds no save")
}

func TestTwoPlaythroughsInOneFolder(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack", "--as", "gannet")
	w.ok("playthroughs", "start", "Herring Run", "tidewrack")
	w.ok("playthroughs", "assign", "herring-run", "tidewrack/2", "tidewrack/9")
	w.ok("keep", "tidewrack")
	r := w.ok("kept", "herring-run.1")
	assert.Contains(t, r.out, "Herring Sound")
	assert.NotContains(t, r.out, "Gannet Rock")
	others := state(t, w.voyages("slot_00"), w.voyages("slot_02"))
	for _, slot := range []string{"slot_01", "slot_00"} {
		require.NoError(t, os.WriteFile(w.voyages(slot, "chart.bin"), []byte("other "+slot), 0o644))
	}
	changed := state(t, w.voyages("slot_00"), w.voyages("slot_02"))
	w.ok("restore", "herring-run.1", "--yes")
	assert.Equal(t, changed, state(t, w.voyages("slot_00"), w.voyages("slot_02")), "only one's saves are touched")
	data, err := os.ReadFile(w.voyages("slot_01", "chart.bin"))
	require.NoError(t, err)
	assert.True(t, bytes.HasPrefix(data, []byte("CHART")))
	assert.NotEqual(t, others, changed)
	assert.Contains(t, w.ok("playthroughs").out, "herring-run")
	assert.Contains(t, w.fails(2, "playthroughs", "assign", "nobody", "tidewrack/1").err, "no playthrough")
}

func TestArchiveInsideAGameIsRefused(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for _, dir := range []string{w.voyages("archive"), w.path("games", "Tidewrack"), w.path("prefix", "drive_c", "users", "keeper", "Documents", "Tidewrack")} {
		assert.NotZero(t, w.run("archive", "add", dir).status, dir)
	}
	other := filepath.Join(t.TempDir(), "archive")
	w.ok("archive", "add", other)
	w.ok("keep", "tidewrack")
	assert.FileExists(t, filepath.Join(other, "README.txt"))
	require.NoError(t, os.RemoveAll(other))
	r := w.ok("keep", "tidewrack") // its drive is absent: one in Ostrov's home stands in
	assert.Contains(t, r.out, "archive-away")
	assert.Contains(t, r.out, w.path("ostrov", "archive"))
}

func TestWrongUse(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	for _, c := range []struct {
		args []string
		err  string
	}{
		{[]string{"loook"}, "did you mean look?"},
		{[]string{"vet"}, "FILE... is missing"},
		{[]string{"place"}, "FILE is missing"},
		{[]string{"look", "a", "b"}, "one argument too many"},
		{[]string{"look", "--nonsense"}, "nonsense"},
		{[]string{"look", "tidewreck"}, "did you mean tidewrack?"},
		{[]string{"look", "minetest"}, "ostrov games add minetest"},
		{[]string{"keep", "--with", "everything", "tidewrack"}, "--with everything"},
		{[]string{"restore", "tidewrack.0"}, "no archive"},
		{[]string{"games", "wipe"}, "there are add, forget, rename, show, test, base"},
		{[]string{"undo"}, "no change to take back"},
	} {
		r := w.run(c.args...)
		assert.NotZero(t, r.status, c.args)
		assert.Contains(t, r.err, c.err)
		assert.Empty(t, r.out, "%v: on error stdout is empty", c.args)
	}
	r := w.run("vet", "downloads/none.zip")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.err, "none.zip is not there")
	assert.Contains(t, w.ok("--help").out, "see")
	assert.Contains(t, w.ok("--version").out, "commit")
}

func TestBrokenInputs(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	bad := filepath.Join(t.TempDir(), "bad.toml")
	for text, want := range map[string]string{
		"ostrov = 1\ntitel = 'x'": `bad.toml:2:1: unknown key "titel" at the top level (did you mean "title"?)`,
		"ostrov = 1\n[[folder]":   "bad.toml:2:",
		"ostrov = 2":              "the description language 2 is not understood",
		"ostrov = 1\n[file.a]\npath='{game}/a'\nform='json'\n[value.v]\nin='a'\nat='a.b'": "not a query for json",
		"ostrov = 1\n[cloud]\n": `"cloud" is not understood by this Ostrov yet`,
	} {
		require.NoError(t, os.WriteFile(bad, []byte(text), 0o644))
		r := w.fails(1, "games", "test", bad)
		assert.Contains(t, r.err, want)
	}
	assert.Contains(t, w.fails(1, "games", "test", "none.toml").err, "none.toml is not there")

	w.ok("keep", "tidewrack")
	require.NoError(t, os.Rename(w.path("games", "Tidewrack"), w.path("games", "Moved")))
	r := w.run("look", "tidewrack")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.err, "is not where it was")
	require.NoError(t, os.Rename(w.path("games", "Moved"), w.path("games", "Tidewrack")))

	short := w.voyages("slot_00", "voyage.json.gz")
	require.NoError(t, os.Truncate(short, 100))
	assert.Contains(t, w.ok("needs", "tidewrack/1").out, "voyage.json.gz: ends too early")

	content, err := filepath.Glob(w.path("ostrov", "archive", "content", "*.zip"))
	require.NoError(t, err)
	data, err := os.ReadFile(content[0])
	require.NoError(t, err)
	data[len(data)/2] ^= 1
	require.NoError(t, os.WriteFile(content[0], data, 0o644))
	r = w.run("archive", "verify")
	assert.Equal(t, 1, r.status)
	assert.Contains(t, r.out, "touches tidewrack.1: slot ")
	require.NoError(t, os.Remove(content[0]))
	r = w.fails(1, "restore", "tidewrack.1", "--yes")
	assert.Contains(t, r.err, "missing from the archive")
}

// needsProgram skips a test that needs a program which is not there, and says in which Debian package it is.
func needsProgram(t testing.TB, program, in string) {
	if _, err := exec.LookPath(program); err != nil {
		t.Skipf("needs the Debian package %s", in)
	}
}

func TestHomeThatCannotBeUsed(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	db := w.path("ostrov", "logbook.sqlite")
	out, err := exec.Command("sqlite3", db, "PRAGMA user_version = 99").CombinedOutput()
	if err != nil {
		t.Skipf("needs the Debian package sqlite3: %v %s", err, out)
	}
	for _, args := range [][]string{{"look", "tidewrack"}, {"vet", "downloads/quiet-cove.zip"}, {"kept"}, {"restore", "tidewrack.1", "--to", filepath.Join(t.TempDir(), "x")}} {
		r := w.run(args...)
		assert.Zero(t, r.status, args)
		assert.Contains(t, r.err, "written by a newer Ostrov", args)
	}
	for _, args := range [][]string{{"keep", "tidewrack"}, {"place", "downloads/quiet-cove.zip", "--yes"}, {"restore", "tidewrack.1", "--yes"}} {
		assert.Contains(t, w.fails(1, args...).err, "cannot be recorded", args)
	}
}

func TestJSONIsOneDocumentWithTheSameHead(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	for _, args := range [][]string{
		{"look"}, {"saves", "tidewrack"}, {"mods", "tidewrack"}, {"needs", "tidewrack/1"}, {"games"}, {"games", "show", "tidewrack"}, {"keep", "tidewrack"}, {"kept"},
		{"archive"}, {"archive", "verify"}, {"playthroughs"}, {"vet", "downloads/quiet-cove.zip"}, {"place", "downloads/quiet-cove.zip", "--yes"}, {"undo", "--yes"},
		{"restore", "tidewrack.1", "--yes"}, {"games", "test", filepath.Join("..", "..", "games", "tidewrack.toml")},
		{"parcel", "tidewrack/1", "-o", filepath.Join(t.TempDir(), "rock.zip"), "--blank"}, {"games", "base", "tidewrack"}, {"compare", "tidewrack.1", "tidewrack@main"}, {"archive", "verify", "--fast"}, {"archive", "clear-old"},
		{"fresh", "Night Run", "tidewrack", "--yes"}, {"swap", "tidewrack", "--yes"},
		{"archive", "add", filepath.Join(t.TempDir(), "other")},
		{"look", "--if", "version:2.0", "tidewrack"},
	} {
		var head struct {
			Ostrov  int
			Command string
		}
		if args[0] == "games" && len(args) == 3 && args[1] == "test" {
			path, err := filepath.Abs(args[2])
			require.NoError(t, err)
			args[2] = path
		}
		r := w.decode(&head, args...)
		assert.Zero(t, r.status, "%v %s", args, r.err)
		assert.Equal(t, 1, head.Ostrov)
		assert.True(t, strings.HasPrefix(strings.Join(args, " "), head.Command), "%v says %q", args, head.Command)
		schema, err := jsonschema.NewCompiler().Compile(filepath.Join("..", "..", "docs", "json", strings.ReplaceAll(head.Command, " ", "-")+".schema.json"))
		require.NoError(t, err)
		document, err := jsonschema.UnmarshalJSON(strings.NewReader(r.out))
		require.NoError(t, err)
		if slices.Contains(args, "--if") {
			schema, err = jsonschema.NewCompiler().Compile(filepath.Join("..", "..", "docs", "json", "look-if.schema.json"))
			require.NoError(t, err)
		}
		assert.NoError(t, schema.Validate(document), "%v keeps to its schema", args)
	}
}

func TestForeignTextIsMadeVisible(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	text := `<bay title="evil&#x202e;title &#x9b;2J" release="2.3"><cogs/></bay>`
	require.NoError(t, os.WriteFile(w.path("downloads", "x.xml"), []byte(text), 0o644))
	r := w.run("vet", "downloads/x.xml")
	assert.Contains(t, r.out, "evil‹U+202E›title ‹U+009B›2J")
}

func TestCompletion(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("keep", "tidewrack")
	for line, want := range map[string]string{
		"look ": "tidewrack\tTidewrack", "needs ": "tidewrack/1\tGannet Rock", "restore ": "tidewrack.1", "swap ": "tidewrack\tTidewrack", "games ": "add\t", "restore --only ": "settings",
		"look --if ": "drop:deep-tides\tDeep Tides", "needs tidewrack/1 --state ": "clean\t", "compare ": "brass-orchard@main", "keep --as ": "tidewrack", "swap --kind ": "season",
		"completion ": "fish", "games add ": "night-tram\tNight Tram", "look --": "--check\t", "playthroughs assign tidewrack ": "tidewrack@main\t",
	} {
		assert.Contains(t, w.ok(append([]string{"complete", "zsh", "--"}, strings.Split(line, " ")...)...).out, "\n"+want, line)
	}
	for line, first := range map[string]string{"vet ": "files", "archive add ": "folders", "look ": "words", "play tidewrack -- ": "files", "keep -m ": "words", "nothing ": "words", "games add x --at ": "folders"} {
		assert.Equal(t, first, strings.SplitN(w.ok(append([]string{"complete", "zsh", "--"}, strings.Split(line, " ")...)...).out, "\n", 2)[0], line)
	}
	for _, shell := range []string{"zsh", "fish", "pwsh"} {
		assert.Contains(t, w.ok("completion", shell).out, "ostrov complete "+shell)
	}
	assert.Contains(t, w.ok("completion", "bash").out, "ostrov")
}
