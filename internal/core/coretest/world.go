// Package coretest is the demo world for tests of the core: a home with all three games added, and the steps that a command takes.
package coretest

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ostrov/demo"
	"ostrov/internal/core/facts"
	"ostrov/internal/core/game"
	"ostrov/internal/core/home"
	"ostrov/internal/core/plan"
	"ostrov/internal/core/record"
)

// World is a demo world with a home on it and all three games added.
type World struct {
	*home.Home
	T    testing.TB
	Root string
	Now  func() time.Time
}

// New lays out a world.
func New(t testing.TB) *World {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	built, err := demo.Build(filepath.Join(dir, "demo"))
	require.NoError(t, err)
	w := &World{T: t, Root: filepath.Join(dir, "demo"), Now: time.Now}
	w.open(built.Home(), false)
	t.Cleanup(func() { require.NoError(t, w.Close()) })
	for _, req := range []facts.AddRequest{
		{Game: "tidewrack", At: w.Path("games", "Tidewrack"), Prefix: w.Path("prefix")},
		{Game: "brass-orchard", At: w.Path("games", "BrassOrchard"), PlayerHome: w.Path("player")},
		{Game: "night-tram", At: w.Path("games", "NightTram"), PlayerHome: w.Path("player")},
	} {
		found, err := facts.FindInstall(t.Context(), w.Home, req)
		require.NoError(t, err)
		require.NotEmpty(t, found.Folders)
		require.NoError(t, w.Register(found.Install))
	}
	return w
}

// Bare is a world with a home and no game: see Describe.
func Bare(t testing.TB) *World {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	w := &World{T: t, Root: dir, Now: time.Now}
	w.open(filepath.Join(dir, "home"), false)
	t.Cleanup(func() { require.NoError(t, w.Close()) })
	return w
}

func (w *World) open(dir string, readOnly bool) {
	h, err := home.Open(home.Options{Dir: dir, Now: func() time.Time { return w.Now() }, Log: slog.New(slog.DiscardHandler), ReadOnly: readOnly})
	require.NoError(w.T, err)
	require.NoError(w.T, h.Unrecorded)
	w.Home = h
}

// Again is the next command: what the last one had in memory is gone.
func (w *World) Again() {
	w.T.Helper()
	dir := w.Dir
	require.NoError(w.T, w.Close())
	w.open(dir, false)
}

// Switch goes on with another home, which is made if it is not there.
func (w *World) Switch(dir string) {
	w.T.Helper()
	require.NoError(w.T, w.Close())
	w.open(dir, false)
}

// AddLinked adds a second install of Tidewrack, called second, whose folder of documents is a link to the first one's.
func (w *World) AddLinked() {
	w.T.Helper()
	copied := w.Path("second")
	require.NoError(w.T, os.CopyFS(filepath.Join(copied, "game"), os.DirFS(w.Path("games", "Tidewrack"))))
	users := filepath.Join(copied, "prefix", "drive_c", "users", "keeper")
	require.NoError(w.T, os.MkdirAll(users, 0o755))
	require.NoError(w.T, os.Symlink(w.Path("prefix", "drive_c", "users", "keeper", "Documents"), filepath.Join(users, "Documents")))
	found, err := facts.FindInstall(w.T.Context(), w.Home, facts.AddRequest{Game: "tidewrack", At: filepath.Join(copied, "game"), Prefix: filepath.Join(copied, "prefix"), Name: "second"})
	require.NoError(w.T, err)
	require.NoError(w.T, w.Register(found.Install))
}

// Path is a path in the world.
func (w *World) Path(parts ...string) string {
	return filepath.Join(append([]string{w.Root}, parts...)...)
}

// Voyages is a path in Tidewrack's folder of saves.
func (w *World) Voyages(parts ...string) string {
	return w.Path(append([]string{"prefix", "drive_c", "users", "keeper", "Documents", "Tidewrack", "lit", "70431"}, parts...)...)
}

// Describe adds a game that is only described for a test, with these files, and returns the folder that it lies in.
func (w *World) Describe(description string, files map[string]string) (root string) {
	root, err := filepath.EvalSymlinks(w.T.TempDir())
	require.NoError(w.T, err)
	for name, text := range files {
		at := filepath.Join(root, filepath.FromSlash(name))
		require.NoError(w.T, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(w.T, os.WriteFile(at, []byte(text), 0o644))
	}
	file := filepath.Join(w.T.TempDir(), "described.toml")
	require.NoError(w.T, os.WriteFile(file, []byte(description), 0o644))
	d, _, err := w.Home.TakeDescription(file)
	require.NoError(w.T, err)
	found, err := facts.FindInstall(w.T.Context(), w.Home, facts.AddRequest{Game: d.ID, At: root})
	require.NoError(w.T, err)
	require.NoError(w.T, w.Home.Register(found.Install))
	return root
}

// In is an install.
func (w *World) In(address string) *game.Install {
	w.T.Helper()
	in, err := w.Install(address)
	require.NoError(w.T, err)
	return in
}

// See is what a command does first: it settles, looks and records.
func (w *World) See(address string) *facts.State {
	w.T.Helper()
	in := w.In(address)
	_, err := plan.Settle(w.T.Context(), w.Home, in)
	require.NoError(w.T, err)
	st, err := facts.Gather(w.T.Context(), w.Home, in)
	require.NoError(w.T, err)
	require.NoError(w.T, record.Seen(w.T.Context(), w.Home, st))
	return st
}

// Find looks at the install that an address means, and finds the save there with that slot or name.
func (w *World) Find(address, name string) (*facts.State, *facts.Save) {
	w.T.Helper()
	st := w.See(address)
	s, err := st.Find("", name)
	require.NoError(w.T, err)
	return st, s
}

// State is everything that lies in folders: names, sizes and times.
func State(t testing.TB, folders ...string) map[string]string {
	all := map[string]string{}
	for _, folder := range folders {
		require.NoError(t, filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
			if err != nil {
				return err
			}
			info, err := os.Lstat(path)
			if err == nil {
				all[path] = fmt.Sprint(info.Mode(), info.Size(), info.ModTime())
			}
			return err
		}))
	}
	return all
}

// Lines makes a text of lines.
func Lines(list ...string) string { return strings.Join(list, "\n") + "\n" }

// Unpacked is what gzip has packed; other data stays as it is.
func Unpacked(data []byte) []byte {
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return data
	}
	text, err := io.ReadAll(z)
	if err != nil {
		return data
	}
	return text
}

// Cut takes the second half of a file away.
func Cut(t testing.TB, path string) {
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.NoError(t, os.Truncate(path, info.Size()/2))
}
