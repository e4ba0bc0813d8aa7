package vet_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/coretest"
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
	root := w.Describe(runs, map[string]string{
		"runs.bin": "x", "runs/#a1.meta": "version = 1.0\ntitle = Mine\n", "runs/#a1.map": "my map", "runs/#a1 2.map": "a map alone",
	})
	download := filepath.Join(t.TempDir(), "some", "folder")
	require.NoError(t, os.MkdirAll(download, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(download, "#a1.meta"), []byte("version = 1.0\ntitle = Theirs\n"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(download, "#a1.map"), []byte("their map"), 0o644))

	v, err := vet.Vet(t.Context(), w.Home, filepath.Dir(download), vet.Request{For: "runs"})
	require.NoError(t, err)
	defer v.Close()
	p, a, err := v.Place(t.Context(), false)
	require.NoError(t, err)
	assert.Equal(t, "#a1 3.map", a.Target.Name)
	_, err = p.Apply(t.Context())
	require.NoError(t, err)
	for name, want := range map[string]string{"#a1.map": "my map", "#a1 2.map": "a map alone", "#a1 3.map": "their map", "#a1 3.meta": "version = 1.0\ntitle = Theirs\n", "#a1.meta": "version = 1.0\ntitle = Mine\n"} {
		got, err := os.ReadFile(filepath.Join(root, "runs", name))
		require.NoError(t, err)
		assert.Equal(t, want, string(got), name)
	}
}
