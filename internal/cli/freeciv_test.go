package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const freecivServer = "/usr/games/freeciv-server"

// freeciv is a player's home with saves that the real server makes. The server refuses root, so as root it is run as nobody.
type freeciv struct {
	*world
	home string
	port int
}

// serve runs the real server on a script and returns what it said.
func (f *freeciv) serve(script string, args ...string) string {
	f.port++
	command := append([]string{"timeout", "-k", "3", "60"}, freecivServer)
	if os.Getuid() == 0 {
		require.NoError(f.t, exec.Command("chown", "-R", "65534:65534", f.home).Run())
		command = append([]string{"timeout", "-k", "3", "60", "setpriv", "--reuid=65534", "--regid=65534", "--clear-groups"}, freecivServer)
	}
	command = append(append(command, "-p", fmt.Sprint(f.port), "-b", "127.0.0.1", "-s", filepath.Join(f.home, ".freeciv", "saves")), args...)
	cmd := exec.Command(command[0], command[1:]...)
	cmd.Dir = f.home
	cmd.Env = append(os.Environ(), "HOME="+f.home, "LC_ALL=C.UTF-8")
	cmd.Stdin = strings.NewReader(script)
	out, _ := cmd.CombinedOutput() // it may end with an error of its own at quit; what it said is judged
	return string(out)
}

// play makes a small game of rules, packed as how.
func (f *freeciv) play(name, rules, how string) {
	f.serve(fmt.Sprintf("rulesetdir %s\nset aifill 2\nset mapsize XYSIZE\nset xsize 24\nset ysize 24\nset gameseed 42\nset mapseed 42\nset compresstype %s\nset savename %s\nset minplayers 0\ncreate Caesar\nsave %s\nquit\n",
		rules, how, name, name))
}

// load has the server load a save and returns what it said.
func (f *freeciv) load(save string) string {
	return f.serve("quit\n", "-f", filepath.Join(f.home, ".freeciv", "saves", save))
}

// agrees changes a plain save in ways that happen, and compares the verdict with what the real server says.
func (f *freeciv) agrees(path string) {
	data, err := os.ReadFile(path)
	require.NoError(f.t, err)
	plain := string(data)
	other := filepath.Join(filepath.Dir(path), "other.sav")
	line := regexp.MustCompile(`\nrulesetdir="[^"]+"`)
	for name, c := range map[string]struct {
		save    string
		verdict string
		says    string // "" where the server loads it
	}{
		"newer format":            {strings.Replace(plain, "\nversion=40\n", "\nversion=41\n", 1), `unfit +format-differs`, "Unknown savefile format version (41)"},
		"older format":            {strings.Replace(plain, "\nversion=40\n", "\nversion=30\n", 1), `fit$`, ""},
		"other revision":          {strings.Replace(plain, `revision="3.0.6"`, `revision="3.0.9"`, 1), `fit$`, ""},
		"rule set missing":        {line.ReplaceAllString(plain, "\nrulesetdir=\"nowhere\""), `unfit +mod-missing nowhere`, "Could not find a readable"},
		"no rule set line":        {line.ReplaceAllString(plain, ""), `unfit +damaged`, "Hexagonal"}, // these are its default rules; at a game that has begun it crashes
		"cut in the middle":       {plain[:len(plain)/2], `unfit +damaged`, "Failure loading savegame!"},
		"cut shortly before end":  {plain[:strings.LastIndex(plain, "[mapimg]")], `unfit +damaged`, ""},
		"cut behind its headline": {plain[:strings.Index(plain, "\n[game]")], `unfit +damaged`, "Failure loading savegame!"},
		"empty":                   {"", `unfit +damaged`, "Error loading savefile"},
	} {
		require.NotEqual(f.t, plain, c.save, name)
		require.NoError(f.t, os.WriteFile(other, []byte(c.save), 0o644))
		assert.Regexp(f.t, `(?m)other\.sav .*\b`+c.verdict, f.ok("look").out, name)
		said := f.load("other.sav")
		if c.says == "" {
			assert.NotRegexp(f.t, refused, said, name)
		}
		assert.Contains(f.t, said, c.says, name)
	}
	require.NoError(f.t, os.Remove(other))
}

// refused is how the server says that it does not play a save.
var refused = regexp.MustCompile(`Could not find a readable|Failure loading savegame|Error loading savefile`)

// TestFreeciv compares verdicts with what the real server says when it loads the same saves.
func TestFreeciv(t *testing.T) {
	alone(t, "freeciv")
	needsProgram(t, "setpriv", "util-linux")
	if _, err := os.Stat(freecivServer); err != nil {
		t.Skip("needs the Debian packages freeciv-server and freeciv-data")
	}
	dir, err := os.MkdirTemp("", "ostrov-freeciv-") // where nobody may go
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	f := &freeciv{&world{t: t, dir: dir, bin: program}, filepath.Join(dir, "player"), 31200 + os.Getpid()%200}
	saves := filepath.Join(f.home, ".freeciv", "saves")
	own := filepath.Join(f.home, ".freeciv", "3.0", "ourciv")
	require.NoError(t, os.MkdirAll(saves, 0o755))
	require.NoError(t, os.MkdirAll(filepath.Dir(own), 0o755))
	require.NoError(t, os.CopyFS(own, os.DirFS("/usr/share/games/freeciv/civ2civ3")))
	rules, err := os.ReadFile(filepath.Join(own, "game.ruleset"))
	require.NoError(t, err)
	rules = regexp.MustCompile(`(?m)^;version = ""`).ReplaceAll(rules, []byte(`version = "1.2"`))
	require.NoError(t, os.WriteFile(filepath.Join(own, "game.ruleset"), rules, 0o644))

	f.play("senate", "classic", "PLAIN")
	f.play("forum", "ourciv", "LIBZ")
	f.play("arena", "classic", "XZ")
	f.ok("games", "add", "freeciv", "--at", "/usr", "--player-home", f.home, "--yes")
	r := f.ok("look")
	assert.Contains(t, r.out, "3 of 3 saves fit", "plain, gzip and xz")
	assert.Regexp(t, `ourciv +here`, f.ok("needs", "freeciv/forum.sav.gz").out)
	assert.Regexp(t, `1\.2 +ourciv`, f.ok("mods", "freeciv").out)
	f.ok("keep", "freeciv", "--with", "mods")
	for _, save := range []string{"senate.sav", "forum.sav.gz", "arena.sav.xz"} {
		assert.NotRegexp(t, refused, f.load(save), save)
	}

	f.agrees(filepath.Join(saves, "senate.sav"))

	require.NoError(t, os.RemoveAll(own))
	r = f.ok("look")
	assert.Regexp(t, `forum\.sav\.gz .*unfit +mod-missing ourciv`, r.out)
	assert.Contains(t, f.ok("look", "--if", "drop:classic").out, "would get worse")
	said := f.load("forum.sav.gz")
	assert.Contains(t, said, "Could not find a readable", "the effect that the verdict names is what the server does")
	assert.NotContains(t, said, "ourciv\" ", "and it does not name the rule set")

	f.ok("restore", "freeciv.1", "--yes")
	assert.NotRegexp(t, refused, f.load("forum.sav.gz"))

	// the same through the mod set: dropped, added from its folder, dropped again
	before := state(t, filepath.Dir(own))
	copied := filepath.Join(dir, "shared", "ourciv")
	require.NoError(t, os.MkdirAll(filepath.Dir(copied), 0o755))
	require.NoError(t, os.CopyFS(copied, os.DirFS(own)))
	doc := f.modsJSON("mods", "drop", "freeciv+ourciv", "--dry-run")
	for _, s := range doc.Saves {
		assert.Equal(t, strings.Contains(s.Address, "forum"), s.Then == "unfit", s.Address)
	}
	f.ok("mods", "drop", "freeciv+ourciv", "--yes")
	assert.NoDirExists(t, own)
	assert.Regexp(t, refused, f.load("forum.sav.gz"))
	f.ok("mods", "add", copied, "--yes")
	assert.NotRegexp(t, refused, f.load("forum.sav.gz"))
	f.ok("mods", "drop", "freeciv+ourciv", "--yes")
	f.ok("undo", "--yes")
	f.ok("undo", "--yes")
	f.ok("undo", "--yes")
	assert.Equal(t, before, state(t, filepath.Dir(own)), "taken back to the byte")
}
