package cli_test

import (
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// edit changes a text file.
func edit(t *testing.T, path, old, new string) {
	t.Helper()
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Contains(t, string(text), old)
	require.NoError(t, os.WriteFile(path, []byte(strings.ReplaceAll(string(text), old, new)), 0o644))
}

// TestMinetestAgrees does to a world and its mods what players do, and compares the verdict with what the real server says and does.
func TestMinetestAgrees(t *testing.T) {
	alone(t, "minetest")
	if _, err := os.Stat(minetestServer); err != nil {
		t.Skip("needs the Debian packages minetest-server and minetest-data")
	}
	for name, c := range map[string]struct {
		change  func(t *testing.T, world, mods string)
		verdict string
		says    string // "" where the server has nothing to say
		stops   bool   // the server does not run
	}{
		"as it was": {func(*testing.T, string, string) {}, "fit", "", false},
		"base game missing": {func(t *testing.T, world, _ string) {
			edit(t, filepath.Join(world, "world.mt"), "minetest_game", "harbour_game")
		}, "unfit +mod-missing harbour_game", `Game [] could not be found`, true},
		"mod missing": {func(t *testing.T, _, mods string) {
			require.NoError(t, os.RemoveAll(filepath.Join(mods, "lampkit")))
		}, "unfit +mod-missing lampkit", `The following mods could not be found: "lampkit"`, false},
		"mod elsewhere": {func(t *testing.T, world, _ string) {
			edit(t, filepath.Join(world, "world.mt"), "load_mod_lampkit = true", "load_mod_lampkit = share/lampkit")
		}, "(unfit|risky) +mod-elsewhere lampkit", `Unable to load lampkit as the specified path share/lampkit could not be found. However, it is available`, false},
		"mod in two folders": {func(t *testing.T, _, mods string) {
			require.NoError(t, os.CopyFS(filepath.Join(mods, "lampkit-old"), os.DirFS(filepath.Join(mods, "lampkit"))))
		}, "unfit +mod-twice lampkit", `Unresolved name conflicts for mods "lampkit"`, true},
		"dependency off": {func(t *testing.T, world, _ string) {
			edit(t, filepath.Join(world, "world.mt"), "load_mod_ropekit = false", "load_mod_ropekit = true")
			edit(t, filepath.Join(world, "world.mt"), "load_mod_lampkit = true", "load_mod_lampkit = false")
		}, "requirement-missing ropekit: needs lampkit: this save has it switched off", `mod "ropekit" has unsatisfied dependencies:  "lampkit"`, false},
		"newer map block": {func(t *testing.T, world, _ string) {
			db, err := sql.Open("sqlite", filepath.Join(world, "map.sqlite"))
			require.NoError(t, err)
			_, err = db.Exec("UPDATE blocks SET data = CAST(x'1E' || substr(data, 2) AS BLOB)")
			require.NoError(t, err)
			require.NoError(t, db.Close())
		}, "unfit +damaged", "World probably saved by a newer version", true},
		"database cut": {func(t *testing.T, world, _ string) {
			require.NoError(t, os.Truncate(filepath.Join(world, "map.sqlite"), 20<<10))
		}, "unfit +damaged", "database disk image is malformed", true},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir, err := filepath.EvalSymlinks(t.TempDir())
			require.NoError(t, err)
			m := &minetest{&world{t: t, dir: dir, bin: program}, filepath.Join(dir, "player")}
			m.mod("lampkit")
			m.mod("ropekit", "lampkit")
			m.play("harbour", "lampkit")
			m.ok("games", "add", "minetest", "--at", "/usr", "--player-home", m.home, "--yes")
			c.change(t, m.folder("harbour"), filepath.Join(m.home, ".minetest", "mods"))
			assert.Regexp(t, c.verdict, m.ok("look").out+m.ok("needs", "minetest/harbour").out)
			said, err := m.start("harbour", "lampkit")
			assert.Equal(t, c.stops, err != nil, said)
			if c.says == "" {
				assert.NotContains(t, said, "ERROR")
			}
			assert.Contains(t, said, c.says)
		})
	}
}
