package cli_test

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"ostrov/internal/longtest"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// screened is a player's home and a screen without a monitor, on which a real game runs.
type screened struct {
	*world
	home    string
	display string
}

// screen starts a screen for the game whose program is given, with the packages that it comes in, and skips the test where one is not there.
func screen(t *testing.T, game, packages string) *screened {
	t.Helper()
	t.Parallel()
	if _, err := os.Stat(game); err != nil {
		t.Skip("needs the Debian packages " + packages)
	}
	xvfb, err := exec.LookPath("Xvfb")
	if err != nil {
		t.Skip("needs the Debian package xvfb")
	}
	read, write, err := os.Pipe()
	require.NoError(t, err)
	cmd := exec.Command(xvfb, "-displayfd", "3", "-screen", "0", "800x600x24", "-nolisten", "tcp")
	cmd.ExtraFiles = []*os.File{write}
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	require.NoError(t, write.Close())
	number, err := bufio.NewReader(read).ReadString('\n')
	require.NoError(t, err)
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	return &screened{&world{t: t, dir: dir, bin: program}, filepath.Join(dir, "player"), ":" + strings.TrimSpace(number)}
}

// write writes a file into the player's home.
func (s *screened) write(text string, parts ...string) {
	path := filepath.Join(append([]string{s.home}, parts...)...)
	require.NoError(s.t, os.MkdirAll(filepath.Dir(path), 0o755))
	require.NoError(s.t, os.WriteFile(path, []byte(text), 0o644))
}

// run runs a game until it says what is waited for, and then a moment more, or until it ends by itself. Then it is asked to end. It returns all
// that the game said.
func (s *screened) play(until string, command ...string) string {
	ctx, cancel := context.WithTimeout(s.t.Context(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, command[0], command[1:]...)
	cmd.Env = append(os.Environ(), "HOME="+s.home, "DISPLAY="+s.display, "SDL_AUDIODRIVER=dummy", "ALSOFT_DRIVERS=null", "XDG_RUNTIME_DIR="+s.dir,
		"XDG_CONFIG_HOME="+filepath.Join(s.home, ".config"), "XDG_DATA_HOME="+filepath.Join(s.home, ".local", "share"))
	var said watched
	cmd.Stdout, cmd.Stderr = &said, &said
	cmd.WaitDelay = time.Second
	require.NoError(s.t, cmd.Start())
	ended := make(chan struct{})
	go func() { _ = cmd.Wait(); close(ended) }() // a game that is told to end may do so with an error
	expected := regexp.MustCompile(until)
	for running := true; running; {
		select {
		case <-ended:
			return said.String()
		case <-time.After(50 * time.Millisecond):
			running = ctx.Err() == nil && !expected.MatchString(said.String())
		}
	}
	time.Sleep(700 * time.Millisecond)
	_ = cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-ended:
	case <-time.After(5 * time.Second):
		_ = cmd.Process.Kill()
		<-ended
	}
	return said.String()
}

// watched is output that can be read while it is written.
type watched struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (w *watched) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.text.Write(p)
}

func (w *watched) String() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.text.String()
}

// judged is what look and needs say of a save.
func (s *screened) judged(game, save string) string {
	return s.ok("look").out + s.ok("needs", game+"/"+save).out
}

// TestSimutrans has the real game write saves in all its wrappings, spoils them, and compares verdicts with what the game says when it loads them.
func TestSimutrans(t *testing.T) {
	longtest.Only(t)
	const shipped = "/usr/share/games/simutrans/pak/scenario/pharmacy-max/pharmacy-max.sve"
	s := screen(t, shipped, "simutrans and simutrans-pak64")
	saves := filepath.Join(s.home, ".simutrans", "save")
	old, err := os.ReadFile(shipped)
	require.NoError(t, err)
	s.write(string(old), ".simutrans", "save", "old.sve")
	load := func(name string) string {
		return s.play(`loaded savegame|Cannot load file|FATAL ERROR|Fatal Error`, "/usr/games/simutrans", "-objects", "pak/", "-lang", "en", "-nosound", "-nomidi",
			"-screensize", "640x480", "-debug", "3", "-load", name)
	}
	wrappings := []string{"xml", "zipped", "bzip2", "zstd", "binary"}
	for _, how := range wrappings {
		s.write("autosaveformat = "+how+"\nsaveformat = "+how+"\nreload_and_save_on_quit = 1\n", ".simutrans", "simuconf.tab")
		require.Contains(t, load("old"), "loaded savegame")
		require.NoError(t, os.Rename(filepath.Join(s.home, ".simutrans", "autosave-pak.sve"), filepath.Join(saves, how+".sve")))
	}
	s.write("reload_and_save_on_quit = 0\n", ".simutrans", "simuconf.tab")
	s.ok("games", "add", "simutrans", "--at", "/usr", "--player-home", s.home, "--yes")
	said := s.ok("look").out
	for _, name := range append(wrappings, "old") {
		assert.Regexp(t, `(?m)^ +`+name+`\.sve .* fit$`, said)
	}

	data, err := os.ReadFile(filepath.Join(saves, "xml.sve"))
	require.NoError(t, err)
	xml := string(data)
	packed, err := os.ReadFile(filepath.Join(saves, "zipped.sve"))
	require.NoError(t, err)
	for name, c := range map[string]struct{ save, verdict, says string }{
		"newer":  {strings.Replace(xml, `version="0.123.1"`, `version="0.124.0"`, 1), "unfit +save-newer", "Cannot load file"},
		"cut":    {xml[:len(xml)/2], "unfit +damaged", "savegame corrupt"},
		"cutzip": {string(packed[:len(packed)/2]), "unfit +damaged", "savegame corrupt"},
		"empty":  {"", "unfit +damaged", "Cannot load file"},
	} {
		s.write(c.save, ".simutrans", "save", name+".sve")
		assert.Regexp(t, name+`\.sve .*`+c.verdict, s.judged("simutrans", name+".sve"))
		assert.Contains(t, load(name), c.says, name)
	}
	s.write(strings.Replace(xml, `pak="pak"`, `pak="pak-of-moss"`, 1), ".simutrans", "save", "otherpak.sve")
	assert.Regexp(t, `otherpak\.sve .*unfit +mod-missing pak-of-moss`, s.ok("look").out)
	assert.Contains(t, s.play("was not found", "/usr/games/simutrans", "-objects", "pak-of-moss/", "-nosound", "-nomidi", "-debug", "3", "-load", "otherpak"), "'ground.Outside.pak' was not found")

	road, err := os.ReadFile("/usr/share/games/simutrans/pak/way.cobblestone_road.pak")
	require.NoError(t, err)
	s.write(strings.ReplaceAll(string(road), "cobblestone_road", "moss_stone_road_"), ".simutrans", "addons", "pak", "way.moss.pak")
	require.Contains(t, xml, "asphalt_road")
	s.write(strings.ReplaceAll(xml, "asphalt_road", "moss_stone_road_"), ".simutrans", "save", "addon.sve")
	assert.Regexp(t, `addon\.sve .* fit\n`, s.judged("simutrans", "addon.sve"))
	require.NoError(t, os.RemoveAll(filepath.Join(s.home, ".simutrans", "addons")))
	assert.Regexp(t, `addon\.sve .*risky +mod-missing way\.moss`, s.judged("simutrans", "addon.sve"))
	assert.Contains(t, load("addon"), "Unknown street moss_stone_road_ replaced by", "the effect that the verdict names")
}

// pilot is what the space trader writes of a pilot, but for most of its reputations and jobs.
const pilot = `pilot Ada Lamp
date 16 11 3013
system Rutilicus
planet "New Boston"
clearance
"reputation with"
	Independent 10
	Republic 2
ship Shuttle
	name "King of Winds"
	attributes
		category "Transport"
	outfits
		nGVF-BB "Fuel Cell"
		%q
	crew 1
	fuel 300
	system Rutilicus
	planet "New Boston"
account
	credits 10000
	score 400
	history
visited Rutilicus
"visited planet" "New Boston"
`

// TestEndlessSky compares verdicts with what the real game says of a pilot with and without a plug-in.
func TestEndlessSky(t *testing.T) {
	const game = "/usr/games/endless-sky"
	s := screen(t, game, "endless-sky and endless-sky-data")
	at := []string{".local", "share", "endless-sky"}
	file := func(parts ...string) []string { return append(append([]string{}, at...), parts...) }
	s.write(filepath.Join(append([]string{s.home}, file("saves", "Ada Lamp.txt")...)...)+"\n", file("recent.txt")...) // it is loaded at the start
	text := fmt.Sprintf(pilot, "Moss Cannon")
	s.write(text, file("saves", "Ada Lamp.txt")...)
	s.write(text[:strings.Index(text, "account")], file("saves", "Cut.txt")...)
	s.write("", file("saves", "Empty.txt")...)
	plugin := func() {
		s.write("outfit \"Moss Cannon\"\n\tcategory \"Guns\"\n\tcost 100\n", file("plugins", "mosses", "data", "moss.txt")...)
	}
	plugin()
	s.ok("games", "add", "endless-sky", "--at", "/usr", "--player-home", s.home, "--yes")
	assert.Regexp(t, `Ada Lamp\.txt .* fit\n`, s.judged("endless-sky", "Ada Lamp.txt"))
	assert.Regexp(t, `Cut\.txt .*unfit +damaged`, s.ok("look").out)
	assert.Regexp(t, `Empty\.txt .*unfit +damaged`, s.ok("look").out)
	require.NoError(t, os.RemoveAll(filepath.Join(append([]string{s.home}, file("plugins", "mosses")...)...)))
	assert.Regexp(t, `Ada Lamp\.txt .*unfit +mod-missing mosses`, s.judged("endless-sky", "Ada Lamp.txt"))
	began := time.Now()
	assert.Contains(t, s.play(`never defined`, game), `outfit "Moss Cannon" is referred to, but never defined`)
	plugin()
	assert.NotContains(t, s.play(`never defined`, "timeout", fmt.Sprint(2+int(time.Since(began).Seconds())), game), "Moss Cannon", "as long again, and a little more")

	s.write(strings.NewReplacer("Ada", "Bo", "King", "Queen").Replace(fmt.Sprintf(pilot, "Moss Cannon")), file("saves", "Bo Reed.txt")...)
	s.write(text, file("saves", "Ada Lamp.txt")...)
	s.ok("set", "endless-sky/Ada Lamp.txt", "credits=54321", "--yes")
	s.ok("members", "copy", "endless-sky/Bo Reed.txt", "Queen of Winds", "--into", "endless-sky/Ada Lamp.txt", "--yes")
	r := s.ok("strip", "endless-sky/Ada Lamp.txt", "--of", "mosses", "--yes")
	assert.Regexp(t, `2 Moss Cannon`, r.out, "of both ships")
	assert.Contains(t, r.out, "without mosses it is fit")
	require.NoError(t, os.RemoveAll(filepath.Join(append([]string{s.home}, file("plugins", "mosses")...)...)))
	began = time.Now()
	assert.NotContains(t, s.play(`never defined`, "timeout", fmt.Sprint(2+int(time.Since(began).Seconds())+10), game), "Moss Cannon", "it is in no ship any more")
}

// avatar is a character as the role-playing engine writes it.
const avatar = `## flare-engine save file ##
name=Ichijo
permadeath=0
option=male,head_short,images/portraits/male13.png
class=Brute,Exiled
xp=0
build=5,1,1,2
equipped_quantity=1,0,1,0,1,1,1,0,0,1,0,0,0,0,0,0,0,0,0,0
equipped=7,0,8,0,4,5,6,0,0,11,0,0,0,0,0,0,0,0,0,0
active_equipment_set=1
carried_quantity=5,5,0,0,0,0,0,0,0,0,0,0,0,0,0,0,0,0,0,0
carried=2,3,0,0,0,0,0,0,0,0,0,0,0,0,0,0,0,0,0,0
spawn=maps/arrival.txt,20,20
actionbar=162,163,0,0,0,0,0,0,0,0,1,7
transformed=
powers=7,1,42,116
campaign=empyrean_backstory
time_played=0
engine_version=1.14
questlog_dismissed=1
stash_tab=0

`

// TestFlare compares verdicts with what the real engine says when it loads a character.
func TestFlare(t *testing.T) {
	longtest.Only(t)
	const game = "/usr/games/flare"
	first := screen(t, game, "flare-engine and flare-game")
	none := func(*screened) {}
	listing := func(more string) func(*screened) {
		return func(s *screened) { s.write("fantasycore\nempyrean_campaign\n"+more, ".config", "flare", "mods.txt") }
	}
	moss := func(settings string) func(*screened) {
		return func(s *screened) {
			s.write(settings, ".local", "share", "flare", "mods", "moss", "settings.txt")
			s.write("APPEND\n[item]\nid=98765\nname=Moss Ring\nitem_type=ring\n", ".local", "share", "flare", "mods", "moss", "items", "items.txt")
			listing("moss\n")(s)
		}
	}
	ring := strings.Replace(avatar, "carried=2,", "carried=98765,", 1)
	gone := func(s *screened) {
		require.NoError(s.t, os.RemoveAll(filepath.Join(s.home, ".local", "share", "flare", "mods", "moss")))
	}
	for name, c := range map[string]struct {
		save          string
		before, after func(*screened) // what is done before Ostrov sees it first, and then
		verdict       string
		says, never   string
	}{
		"as it was":           {avatar, none, none, "Ichijo .* fit\n", "Map: Loading map 'maps/arrival", "ERROR: Mod"},
		"newer":               {strings.Replace(avatar, "=1.14", "=1.99", 1), none, none, "Ichijo .*risky +save-newer", "Engine version of save file .1.99. does not match", "ERROR: Mod"},
		"older":               {strings.Replace(avatar, "=1.14", "=0.80", 1), none, none, "Ichijo .*risky +save-older", "Engine version of save file .0.80. does not match", "ERROR: Mod"},
		"cut":                 {avatar[:300], none, none, "unfit +damaged", "Engine version of save file .0.0. does not match", "ERROR: Mod"},
		"empty":               {"", none, none, "unfit +damaged", "Engine version of save file .0.0. does not match", "ERROR: Mod"},
		"with a mod":          {ring, moss("game=flare-game\nversion=1.0\n"), none, "Ichijo .* fit\n", "Map: Loading map 'maps/arrival", "has no name, marking as unknown"},
		"without the mod":     {ring, moss("game=flare-game\nversion=1.0\n"), gone, "Ichijo .*risky +mod-missing moss", "Item id .98765. has no name, marking as unknown", "no such thing"},
		"campaign off":        {avatar, none, func(s *screened) { s.write("fantasycore\n", ".config", "flare", "mods.txt") }, "unfit +mod-off empyrean_campaign", "Could not open text file: engine/xp_table.txt", "Map: Loading map"},
		"requirement missing": {avatar, moss("game=flare-game\nversion=1.0\nrequires=nowhere\n"), none, "requirement-missing moss: needs nowhere: not installed", `Could not find mod "nowhere", which is required by mod "moss"`, "no such thing"},
		"requirement too old": {avatar, moss("game=flare-game\nversion=1.0\nrequires=fantasycore:9.0\n"), none, "requirement-missing moss: needs fantasycore >= 9.0: you have 1.14", `Version "9.0 or newer" is required`, "no such thing"},
		"requirement met":     {avatar, moss("game=flare-game\nversion=1.0\nrequires=fantasycore:1.0:2.0\n"), none, "Ichijo .* fit\n", `Active mods: .*moss`, "ERROR: Mod"},
		"for a later engine":  {avatar, moss("game=flare-game\nversion=1.0\nengine_version_min=9.0\n"), none, "mod-unsupported moss: is made for >= 9.0", "Not compatible with engine version", "no such thing"},
	} {
		dir := filepath.Join(first.dir, name)
		require.NoError(t, os.Mkdir(dir, 0o700))
		s := &screened{&world{t: t, dir: dir, bin: program}, filepath.Join(dir, "player"), first.display}
		s.write(c.save, ".local", "share", "flare", "saves", "empyrean", "1", "avatar.txt")
		s.write("move_type_dimissed=1\nfullscreen=0\nresolution_w=640\nresolution_h=480\n", ".config", "flare", "settings.txt")
		c.before(s)
		s.ok("games", "add", "flare", "--at", "/usr", "--player-home", s.home, "--yes")
		s.ok("look")
		c.after(s)
		assert.Regexp(t, c.verdict, s.judged("flare", "1"), name)
		said := s.play(`Map: Loading map 'maps/|xp_table`, game, "--no-audio", "--renderer=sdl", "--load-slot=1")
		assert.Regexp(t, c.says, said, name)
		assert.NotContains(t, said, c.never, name)
	}
}
