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

// TestFreecivReadsWhatWasSet sets a player's gold and gives a city a name with a foreign letter: the real server loads the save, saves it again, and
// both are there.
func TestFreecivReadsWhatWasSet(t *testing.T) {
	alone(t, "freeciv")
	needsProgram(t, "setpriv", "util-linux")
	if _, err := os.Stat(freecivServer); err != nil {
		t.Skip("needs the Debian packages freeciv-server and freeciv-data")
	}
	dir, err := os.MkdirTemp("", "ostrov-freeciv-") // where nobody may go
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	f := &freeciv{&world{t: t, dir: dir, bin: program}, filepath.Join(dir, "player"), 31500 + os.Getpid()%200}
	saves := filepath.Join(f.home, ".freeciv", "saves")
	require.NoError(t, os.MkdirAll(saves, 0o755))
	f.serve("rulesetdir classic\nset aifill 3\nset mapsize XYSIZE\nset xsize 24\nset ysize 24\nset gameseed 42\nset mapseed 42\nset compresstype LIBZ\nset savename senate\nset minplayers 0\nset timeout -1\nset endturn 15\nset saveturns 14\nset autosaves TURN\nstart\n")
	all, err := filepath.Glob(filepath.Join(saves, "senate-T0014*"))
	require.NoError(t, err)
	require.NotEmpty(t, all, "the server played fourteen turns")
	require.NoError(t, os.Rename(all[0], filepath.Join(saves, "senate.sav.gz")))
	f.ok("games", "add", "freeciv", "--at", "/usr", "--player-home", f.home, "--yes")
	city := regexp.MustCompile(`(?s)c=\{"y",.*?\n(?:[^\n]*?),"([A-Z][a-z]+)"`)
	text := func(name string) string {
		out, err := exec.Command("gzip", "-dc", filepath.Join(saves, name)).Output()
		require.NoError(t, err)
		return string(out)
	}
	was := text("senate.sav.gz")
	m := city.FindStringSubmatch(was)
	require.NotNil(t, m, "there is a city")
	f.ok("set", "freeciv/senate.sav.gz", "gold=4321", "--at", `save:"(`+m[1]+`)"=Wörms`, "--as", "rich.sav.gz", "--yes")
	assert.Equal(t, was, text("senate.sav.gz"), "it is left as it was")
	now := text("rich.sav.gz")
	assert.Equal(t, strings.Count(was, "\n"), strings.Count(now, "\n"))
	f.serve("save again\nquit\n", "-f", filepath.Join(saves, "rich.sav.gz"))
	again, err := filepath.Glob(filepath.Join(saves, "again*"))
	require.NoError(t, err)
	require.Len(t, again, 1, "the server loaded it and saved it")
	saved, err := exec.Command("sh", "-c", "case $1 in *.gz) gzip -dc $1;; *) cat $1;; esac", "sh", again[0]).Output()
	require.NoError(t, err)
	assert.Contains(t, string(saved), `"Wörms"`)
	assert.Regexp(t, `(?s)\[player0\]\n.*?\ngold=4321\n`, string(saved))
}

// TestMinetestStartsOnAStrippedWorld takes a mod's things out of a world of many map blocks, drops the mod, and has the real server look at every block
// through its own interface: without strip there are unknown nodes, with it there are none. A player's item that was counted up is read, too.
func TestMinetestStartsOnAStrippedWorld(t *testing.T) {
	alone(t, "minetest")
	if _, err := os.Stat(minetestServer); err != nil {
		t.Skip("needs the Debian packages minetest-server and minetest-data")
	}
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	m := &minetest{&world{t: t, dir: dir, bin: program}, filepath.Join(dir, "player")}
	m.mod("lampkit")
	m.mod("ropekit")
	require.NoError(t, os.MkdirAll(m.folder("harbour"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(m.folder("harbour"), "world.mt"), []byte("gameid = minetest_game\nbackend = sqlite3\nplayer_backend = sqlite3\nauth_backend = sqlite3\nmod_storage_backend = sqlite3\nload_mod_lampkit = true\nload_mod_ropekit = true\n"), 0o644))
	build := `
      for x = -64, 64, 16 do for z = -64, 64, 16 do
        minetest.set_node({x=x,y=10,z=z}, {name="lampkit:block"})
        minetest.set_node({x=x+1,y=10,z=z}, {name="ropekit:block"})
      end end
      minetest.set_node({x=3,y=10,z=3}, {name="default:chest"})
      local inv = minetest.get_meta({x=3,y=10,z=3}):get_inventory()
      inv:set_size("main", 32)
      inv:set_stack("main", 1, "lampkit:block 7")
      inv:set_stack("main", 2, "default:stone 5")`
	said := m.script("harbour", build)
	require.Contains(t, said, "script done", said)
	look := `
      local unknown, kept, blocks = {}, 0, 0
      for x = -64, 64, 16 do for z = -64, 64, 16 do
        for d = 0, 1 do
          local name = minetest.get_node({x=x+d,y=10,z=z}).name
          if name ~= "ignore" and not minetest.registered_nodes[name] then unknown[name] = (unknown[name] or 0) + 1 end
          if name == "ropekit:block" then kept = kept + 1 end
        end
        blocks = blocks + 1
      end end
      local inv = minetest.get_meta({x=3,y=10,z=3}):get_inventory()
      minetest.log("action", "unknown: " .. (unknown["lampkit:block"] or 0) .. ", kept: " .. kept .. " of " .. blocks .. ", chest: " .. inv:get_stack("main", 1):to_string() .. "/" .. inv:get_stack("main", 2):to_string())`

	m.ok("games", "add", "minetest", "--at", "/usr", "--player-home", m.home, "--yes")
	r := m.ok("strip", "minetest/harbour", "--of", "lampkit", "--dry-run")
	assert.Regexp(t, `\d+ lampkit:block`, r.out)
	assert.Contains(t, r.out, "without lampkit it will be fit")
	m.ok("strip", "minetest/harbour", "--of", "lampkit", "--as", "pure", "--yes")
	m.ok("mods", "adopt", "minetest", "--yes")
	m.ok("mods", "drop", "minetest+lampkit", "--yes")
	assert.NoDirExists(t, filepath.Join(m.home, ".minetest", "mods", "lampkit"))
	assert.Regexp(t, `unknown: 81, kept: 81 of 81, chest: lampkit:block 7/default:stone 5`, m.script("harbour", look), "as it is without strip")
	said = m.script("pure", look)
	assert.Regexp(t, `unknown: 0, kept: 81 of 81, chest: /default:stone 5`, said, "what is not the mod's is all there")
	assert.NotContains(t, said, "could not be found")
	assert.NotContains(t, strings.ToLower(said), "unknown block")
	assert.NotRegexp(t, `ERROR`, said)
}

// script runs the real server on a world until a mod inside the world has run code once all around is there, and returns what the server said.
func (m *minetest) script(world, code string) string {
	dir := m.folder(world)
	inside := filepath.Join(dir, "worldmods", "scripted")
	require.NoError(m.t, os.MkdirAll(inside, 0o755))
	require.NoError(m.t, os.WriteFile(filepath.Join(inside, "mod.conf"), []byte("name = scripted\ndepends = default\noptional_depends = lampkit, ropekit\n"), 0o644))
	require.NoError(m.t, os.WriteFile(filepath.Join(inside, "init.lua"), []byte(fmt.Sprintf(`minetest.after(0.5, function()
  minetest.emerge_area({x=-80,y=0,z=-80}, {x=80,y=12,z=80}, function(pos, action, left)
    if left > 0 then return end
    %s
    minetest.log("action", "script done")
    minetest.after(0.3, function() minetest.request_shutdown("done", false, 0) end)
  end)
end)
`, code)), 0o644))
	conf := filepath.Join(m.home, "server.conf")
	require.NoError(m.t, os.WriteFile(conf, []byte("bind_address = 127.0.0.1\nserver_announce = false\nmapgen_limit = 200\nmg_name = flat\nfixed_map_seed = 4242\n"), 0o644))
	cmd := exec.Command("timeout", "90", minetestServer, "--config", conf, "--world", dir, "--port", fmt.Sprint(freePort(m.t)))
	cmd.Env = append(os.Environ(), "HOME="+m.home)
	out, err := cmd.CombinedOutput()
	require.NoError(m.t, err, string(out))
	return string(out)
}
