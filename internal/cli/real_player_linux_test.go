package cli_test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const minetestClient = "/usr/games/minetest"

// TestMinetestPlayerHasWhatWasSet lets a player join a world of the real server with the real game, counts up what that player has in the server's
// database, and lets the player join again: the server then says the new count.
func TestMinetestPlayerHasWhatWasSet(t *testing.T) {
	if _, err := os.Stat(minetestServer); err != nil {
		t.Skip("needs the Debian packages minetest-server and minetest-data")
	}
	s := screen(t, minetestClient, "minetest, minetest-server and minetest-data")
	only(t, "minetest")
	s.write("gameid = minetest_game\nbackend = sqlite3\nplayer_backend = sqlite3\nauth_backend = sqlite3\nmod_storage_backend = sqlite3\n", ".minetest", "worlds", "harbour", "world.mt")
	s.write("name = scripted\ndepends = default\n", ".minetest", "worlds", "harbour", "worldmods", "scripted", "mod.conf")
	s.write(`minetest.register_on_newplayer(function(player)
  player:get_inventory():set_stack("main", 1, "default:stone 5")
  player:get_inventory():set_stack("main", 2, "default:dirt 3")
end)
minetest.register_on_joinplayer(function(player)
  minetest.after(0.3, function()
    local inv = player:get_inventory()
    minetest.log("action", "has " .. inv:get_stack("main", 1):to_string() .. " and " .. inv:get_stack("main", 2):to_string())
    minetest.request_shutdown("done", false, 0)
  end)
end)
`, ".minetest", "worlds", "harbour", "worldmods", "scripted", "init.lua")
	s.write("bind_address = 127.0.0.1\nserver_announce = false\nmapgen_limit = 200\nmg_name = flat\nfixed_map_seed = 4242\n", "server.conf")
	s.write("video_driver = opengl\nscreen_w = 320\nscreen_h = 240\nenable_sound = false\nenable_shaders = false\nfps_max = 10\n", "client.conf")
	world := filepath.Join(s.home, ".minetest", "worlds", "harbour")
	join := func() string {
		port := fmt.Sprint(freePort(t))
		server := exec.Command("timeout", "60", minetestServer, "--config", filepath.Join(s.home, "server.conf"), "--world", world, "--port", port)
		server.Env = append(os.Environ(), "HOME="+s.home)
		var said watched
		server.Stdout, server.Stderr = &said, &said
		require.NoError(t, server.Start())
		s.play("Access denied", minetestClient, "--config", filepath.Join(s.home, "client.conf"), "--go", "--address", "127.0.0.1", "--port", port, "--name", "ada", "--password", "secret")
		_ = server.Wait() // it ends when the player has joined; else what it said tells why
		return said.String()
	}
	require.Contains(t, join(), "has default:stone 5 and default:dirt 3")
	s.ok("games", "add", "minetest", "--at", "/usr", "--player-home", s.home, "--yes")
	place := "players:SELECT item FROM player_inventory_items WHERE player = 'ada' AND inv_id = 0 AND slot_id = 0"
	assert.Contains(t, s.ok("find", "minetest/harbour", "default:stone").out, "player_inventory_items")
	s.ok("set", "minetest/harbour", "--at", place+"=default:stone 77", "--yes")
	assert.Contains(t, join(), "has default:stone 77 and default:dirt 3")
	assert.Contains(t, s.ok("undo", "--yes").out, "its present state is kept first", "the server has written since")
	assert.Contains(t, join(), "has default:stone 5 and default:dirt 3")
}
