package cli_test

import (
	"os"
	"os/exec"
	"ostrov/internal/longtest"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// debianMods are the folders of mods in Debian packages that were fetched and not installed, as the server would load installed ones: .ci/run
// fetches them.
func debianMods(t *testing.T, packages ...string) map[string]string {
	found := map[string]string{}
	for _, p := range packages {
		debs, err := filepath.Glob(filepath.Join("/var/cache/ostrov-debs", p+"_*.deb"))
		require.NoError(t, err)
		if len(debs) == 0 {
			t.Skipf("needs the Debian package %s, fetched into /var/cache/ostrov-debs", p)
		}
		dir := t.TempDir()
		out, err := exec.Command("dpkg", "-x", debs[0], dir).CombinedOutput()
		require.NoError(t, err, "%s", out)
		mods, err := filepath.Glob(filepath.Join(dir, "usr", "share", "games", "minetest", "mods", "*"))
		require.NoError(t, err)
		require.Len(t, mods, 1)
		found[p] = mods[0]
	}
	return found
}

// with makes a world with some mods on, and has the server place a block of one.
func (m *minetest) with(world, block string, on ...string) string {
	m.t.Helper()
	name, _, _ := strings.Cut(block, ":")
	m.play(world, name)
	conf := filepath.Join(m.folder(world), "world.mt")
	text := m.read(conf)
	for _, id := range on {
		text = strings.ReplaceAll(text, "load_mod_"+id+" = false", "load_mod_"+id+" = true") // the server has noted that it is there
	}
	require.NoError(m.t, os.WriteFile(conf, []byte(text), 0o644))
	placing := filepath.Join(m.folder(world), "worldmods", "closing", "init.lua")
	require.NoError(m.t, os.WriteFile(placing, []byte(strings.ReplaceAll(m.read(placing), name+":block", block)), 0o644))
	return m.serve(world)
}

// serve runs the server on a world as it is, until the mod in it asks it to stop.
func (m *minetest) serve(world string) string {
	m.t.Helper()
	cmd := exec.Command("timeout", "60", minetestServer, "--config", filepath.Join(m.home, "server.conf"), "--world", m.folder(world), "--port", strconv.Itoa(freePort(m.t)))
	cmd.Env = append(os.Environ(), "HOME="+m.home)
	out, _ := cmd.CombinedOutput() // a server that does not start says why
	return string(out)
}

// TestMinetestMods adds three mods of Debian's to the real voxel game, one a pack and one with a dependency, plays worlds with them, and compares
// the verdicts before each is removed with what the server says afterwards.
func TestMinetestMods(t *testing.T) {
	longtest.Only(t)
	alone(t, "minetest")
	if _, err := os.Stat(minetestServer); err != nil {
		t.Skip("needs the Debian packages minetest-server and minetest-data")
	}
	for _, folder := range []string{"/usr/share/games/minetest/mods/", "/usr/share/minetest/mods/"} {
		for _, mod := range []string{"3d_armor", "throwing", "throwing_arrows"} {
			if _, err := os.Stat(folder + mod); err == nil {
				t.Skip("the server would find " + folder + mod + ", too: this test adds its own")
			}
		}
	}
	deb := debianMods(t, "minetest-mod-3d-armor", "minetest-mod-throwing", "minetest-mod-throwing-arrows")
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	m := &minetest{&world{t: t, dir: dir, bin: program}, filepath.Join(dir, "player")}
	mods := filepath.Join(m.home, ".minetest", "mods")
	require.NoError(t, os.MkdirAll(mods, 0o755))
	m.mod("lampkit")
	m.play("harbour", "lampkit")
	m.ok("games", "add", "minetest", "--at", "/usr", "--player-home", m.home, "--yes")
	before := state(t, mods)

	doc := m.modsJSON("mods", "add", deb["minetest-mod-throwing-arrows"], "--dry-run")
	assert.Equal(t, "throwing_arrows", doc.Mods[0].ID)
	m.ok("mods", "add", deb["minetest-mod-3d-armor"], deb["minetest-mod-throwing"], deb["minetest-mod-throwing-arrows"], "--yes")
	list := m.ok("mods", "minetest").out
	for _, says := range []string{"3d_armor_stand", "throwing_arrows", "throwing "} {
		assert.Contains(t, list, says)
	}
	assert.NotContains(t, m.with("range", "throwing_arrows:arrow", "throwing", "throwing_arrows"), "ERROR", "the server loads them")
	assert.Contains(t, m.with("armoury", "3d_armor_stand:armor_stand", "3d_armor", "3d_armor_stand"), "known: true", "those of the pack too")
	assert.Contains(t, m.ok("look", "minetest").out, "3 of 3 saves fit")

	for _, c := range []struct{ mod, world, verdict, says string }{
		{"3d_armor", "armoury", "unfit", `could not be found:.* "3d_armor"`},
		{"throwing_arrows", "range", "unfit", `could not be found: "throwing_arrows"`},
		{"throwing", "range", "unfit", `could not be found: "throwing"`},
	} {
		doc := m.modsJSON("mods", "drop", "minetest+"+c.mod, "--dry-run")
		for _, s := range doc.Saves {
			want := "fit"
			if strings.HasSuffix(s.Address, c.world) {
				want = c.verdict
			}
			assert.Equal(t, want, s.Then, "%s without %s", s.Address, c.mod)
		}
		m.ok("mods", "drop", "minetest+"+c.mod, "--yes")
		assert.Regexp(t, c.says, m.serve(c.world), "what the server says without %s", c.mod)
		m.ok("undo", "--yes")
	}
	with := state(t, mods)
	m.ok("mods", "aside", "minetest", "--yes")
	left, err := os.ReadDir(mods)
	require.NoError(t, err)
	assert.Empty(t, left)
	assert.Contains(t, m.play("clean", "nothing"), "there is air", "a clean world")
	m.ok("mods", "back", "minetest", "--yes")
	assert.Equal(t, with, state(t, mods), "back to the byte")
	assert.NotContains(t, m.serve("range"), "ERROR")
	m.ok("mods", "drop", "minetest+3d_armor", "minetest+throwing", "minetest+throwing_arrows", "--yes")
	assert.Equal(t, before, state(t, mods))
}
