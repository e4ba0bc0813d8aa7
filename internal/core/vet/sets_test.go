package vet_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/coretest"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/vet"
)

// runs is a game whose saves are sets of two files, told apart by what stands in both names.
const runs = `ostrov  = 1
id      = "runs"
title   = "Runs"
version = { default = "1.0" }
[install]
marker = ["runs.bin"]
[[folder]]
id   = "runs"
path = "{game}/runs"
[[save]]
id     = "run"
unit   = "set"
folder = "runs"
name   = ["#{id}.map", "#{id}.meta"]
[save.file.meta]
path = "*.meta"
form = "ini"
[save.file.map]
path = "*.map"
form = "text"
[save.is]
has = ["version"]
[save.field]
version = { in = "meta", at = "version" }
title   = { in = "meta", at = "title" }
`

// TestASetIsPlacedBesideTheOneThatIsThere places a set from a download whose files lie in folders of it, and whose name is taken: both parts get
// a name of their own, and nothing that is there is touched; also where only one of the two is there.
func TestASetIsPlacedBesideTheOneThatIsThere(t *testing.T) {
	w := coretest.New(t)
	root, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	download := filepath.Join(root, "download")
	write := func(text string, parts ...string) {
		path := filepath.Join(append([]string{root}, parts...)...)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	write("x", "game", "runs.bin")
	write("version = 1.0\ntitle = Mine\n", "game", "runs", "#a1.meta")
	write("my map", "game", "runs", "#a1.map")
	write("a map alone", "game", "runs", "#a1 2.map")
	write("version = 1.0\ntitle = Theirs\n", "download", "some", "folder", "#a1.meta")
	write("their map", "download", "some", "folder", "#a1.map")
	write(runs, "runs.toml")
	_, _, err = w.Home.TakeDescription(filepath.Join(root, "runs.toml"))
	require.NoError(t, err)
	found, err := facts.FindInstall(t.Context(), w.Home, facts.AddRequest{Game: "runs", At: filepath.Join(root, "game")})
	require.NoError(t, err)
	require.NoError(t, w.Home.Register(found.Install))

	v, err := vet.Vet(t.Context(), w.Home, download, vet.Request{For: "runs"})
	require.NoError(t, err)
	defer v.Close()
	p, a, err := v.Place(t.Context(), false)
	require.NoError(t, err)
	assert.Equal(t, "#a1 3.map", a.Target.Name)
	_, err = p.Apply(t.Context())
	require.NoError(t, err)
	for name, want := range map[string]string{"#a1.map": "my map", "#a1 2.map": "a map alone", "#a1 3.map": "their map", "#a1 3.meta": "version = 1.0\ntitle = Theirs\n", "#a1.meta": "version = 1.0\ntitle = Mine\n"} {
		got, err := os.ReadFile(filepath.Join(root, "game", "runs", name))
		require.NoError(t, err)
		assert.Equal(t, want, string(got), name)
	}
}
