package cli_test

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const minetestServer = "/usr/lib/minetest/minetestserver"

// freePort is a UDP port that nobody listens on.
func freePort(t testing.TB) int {
	conn, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer conn.Close()
	return conn.LocalAddr().(*net.UDPAddr).Port
}

// running are the real games that are installed once for all tests: while one test has its server run, no other may change what is its game's.
var running = map[string]*sync.Mutex{"minetest": {}, "freeciv": {}}

// alone lets a test run beside others, but for those of the same real game.
func alone(t *testing.T, game string) {
	t.Parallel()
	only(t, game)
}

// only has a test wait for those of the same real game.
func only(t *testing.T, game string) {
	running[game].Lock()
	t.Cleanup(running[game].Unlock)
}

// minetest is a player's home with worlds that the real server makes.
type minetest struct {
	*world
	home string
}

// mod installs a small mod of the player's own that adds one block; it depends on the base game's and on those given.
func (m *minetest) mod(name string, depends ...string) {
	dir := filepath.Join(m.home, ".minetest", "mods", name)
	require.NoError(m.t, os.MkdirAll(dir, 0o755))
	require.NoError(m.t, os.WriteFile(filepath.Join(dir, "mod.conf"), []byte("name = "+name+"\ndepends = "+strings.Join(append(depends, "default"), ", ")+"\n"), 0o644))
	code := fmt.Sprintf("minetest.register_node(%q, {description = 'Block', tiles = {'default_stone.png'}})\n", name+":block")
	require.NoError(m.t, os.WriteFile(filepath.Join(dir, "init.lua"), []byte(code), 0o644))
}

func (m *minetest) folder(world string) string {
	return filepath.Join(m.home, ".minetest", "worlds", world)
}

// play makes a world, if it is not there, and runs the real server on it until a mod inside the world, which sets a block of the mod, asks
// it to stop. It returns what the server said.
func (m *minetest) play(world, mod string) string {
	out, err := m.start(world, mod)
	require.NoError(m.t, err, out)
	return out
}

// start is play where the server may refuse to.
func (m *minetest) start(world, mod string) (string, error) {
	dir := m.folder(world)
	write := func(text string, parts ...string) {
		path := filepath.Join(append([]string{dir}, parts...)...)
		require.NoError(m.t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(m.t, os.WriteFile(path, []byte(text), 0o644))
	}
	if _, err := os.Stat(dir); err != nil {
		write("gameid = minetest_game\nbackend = sqlite3\nplayer_backend = sqlite3\nauth_backend = sqlite3\nmod_storage_backend = sqlite3\nworld_name = World of "+world+"\nload_mod_"+mod+" = true\n", "world.mt")
	}
	write("name = closing\n", "worldmods", "closing", "mod.conf")
	write(fmt.Sprintf(`minetest.after(1, function()
  minetest.emerge_area({x=-8,y=0,z=-8}, {x=8,y=12,z=8}, function(pos, action, left)
    if left > 0 then return end
    if minetest.registered_nodes[%[1]q] then minetest.set_node({x=0,y=10,z=0}, {name=%[1]q}) end
    minetest.log("action", "there is " .. minetest.get_node({x=0,y=10,z=0}).name .. ", known: " .. tostring(minetest.registered_nodes[%[1]q] ~= nil))
    minetest.after(0.3, function() minetest.request_shutdown("done", false, 0) end)
  end)
end)
`, mod+":block"), "worldmods", "closing", "init.lua")
	conf := filepath.Join(m.home, "server.conf")
	require.NoError(m.t, os.WriteFile(conf, []byte("bind_address = 127.0.0.1\nserver_announce = false\nmapgen_limit = 200\nmg_name = flat\nfixed_map_seed = 4242\n"), 0o644))
	cmd := exec.Command("timeout", "60", minetestServer, "--config", conf, "--world", dir, "--port", fmt.Sprint(freePort(m.t)))
	cmd.Env = append(os.Environ(), "HOME="+m.home)
	out, err := cmd.CombinedOutput()
	return string(out), err
}

// TestMinetest goes the whole way with the real server: two worlds with different mods, looked at, kept, one mod removed, judged, started
// all the same, restored, started again.
func TestMinetest(t *testing.T) {
	alone(t, "minetest")
	if _, err := os.Stat(minetestServer); err != nil {
		t.Skip("needs the Debian packages minetest-server and minetest-data")
	}
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	m := &minetest{&world{t: t, dir: dir, bin: program}, filepath.Join(dir, "player")}
	m.mod("lampkit")
	m.mod("ropekit")
	assert.Contains(t, m.play("harbour", "lampkit"), "there is lampkit:block, known: true")
	m.play("quarry", "ropekit")

	r := m.ok("games", "add", "minetest", "--at", "/usr", "--player-home", m.home, "--yes")
	assert.Contains(t, r.out, "never written")
	r = m.ok("look")
	assert.Contains(t, r.out, "2 of 2 saves fit")
	assert.Contains(t, r.out, "World of harbour")
	r = m.ok("needs", "minetest/harbour")
	assert.Contains(t, r.out, "2 mods", "the mod and the base game")
	assert.Regexp(t, `lampkit +lampkit +[1-9]\d* +here`, r.out, "and how often the map, in packed blocks of a database, names its things")
	m.ok("keep", "minetest", "--with", "mods", "-m", "both worlds")
	before := state(t, m.folder("harbour"), m.folder("quarry"))

	lampkit := filepath.Join(m.home, ".minetest", "mods", "lampkit")
	require.NoError(t, os.RemoveAll(lampkit))
	r = m.ok("look")
	assert.Contains(t, r.out, "1 of 2 saves fit")
	assert.Contains(t, r.out, "mod-missing lampkit")
	assert.Regexp(t, `the save lists it and refers to it \d+ times?: the world starts all the same`, strings.Join(strings.Fields(m.ok("needs", "minetest/harbour").out), " "))
	assert.Equal(t, 4, m.run("look", "--check").status)
	said := m.play("harbour", "lampkit")
	assert.Contains(t, said, `The following mods could not be found: "lampkit"`, "the effect that the verdict names is what the server does")
	assert.Contains(t, said, "there is lampkit:block, known: false", "what the mod put there stays as an unknown block")

	r = m.ok("restore", "minetest.1", "--yes")
	assert.Contains(t, r.out, "mod lampkit")
	assert.Equal(t, before, state(t, m.folder("harbour"), m.folder("quarry")))
	assert.Contains(t, m.ok("look").out, "2 of 2 saves fit")
	said = m.play("harbour", "lampkit")
	assert.NotContains(t, said, "could not be found")
	assert.Contains(t, said, "there is lampkit:block, known: true")
	m.ok("archive", "verify")

	conf := filepath.Join(m.folder("harbour"), "world.mt") // the line of the mod is lost: the server says nothing, but the map still needs it
	text, err := os.ReadFile(conf)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(conf, []byte(strings.Replace(string(text), "load_mod_lampkit = true\n", "", 1)), 0o644))
	assert.Contains(t, m.ok("needs", "minetest/harbour").out, "mod-off lampkit: installed, but this save has it switched off; the save refers to it")
	said = m.play("harbour", "lampkit")
	assert.NotContains(t, said, "could not be found")
	assert.Contains(t, said, "there is lampkit:block, known: false")
	m.ok("restore", "minetest.1", "--yes")

	worlds := filepath.Join(dir, "worlds.zip") // a world vetted as a download, on a player's home without its mod
	m.ok("restore", "minetest.1", "--to", filepath.Join(dir, "out"), "--only", "saves")
	require.NoError(t, os.RemoveAll(lampkit))
	cmd := exec.Command("python3", "-m", "zipfile", "-c", worlds, "worlds/harbour/")
	cmd.Dir = filepath.Join(dir, "out", "minetest")
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Skipf("the rest needs the Debian package python3: %s", out)
	}
	r = m.run("vet", worlds)
	assert.Equal(t, 4, r.status, r.out)
	assert.Regexp(t, `mod-missing +lampkit: the save lists it and refers to it`, r.out)
}
