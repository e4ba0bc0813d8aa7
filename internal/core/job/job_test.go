package job

import (
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"ostrov/demo"
)

// world is the demo world with a session on it and all three games added.
type world struct {
	*Session
	t   testing.TB
	dir string
}

func newWorld(t testing.TB) *world {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	dir = filepath.Join(dir, "demo")
	built, err := demo.Build(dir)
	require.NoError(t, err)
	s, err := Open(Options{Home: built.Home(), Now: time.Now, Log: slog.New(slog.DiscardHandler)})
	require.NoError(t, err)
	require.NoError(t, s.Unrecorded)
	t.Cleanup(func() { require.NoError(t, s.Close()) })
	w := &world{s, t, dir}
	for _, req := range []AddRequest{
		{Game: "tidewrack", At: w.path("games", "Tidewrack"), Prefix: w.path("prefix")},
		{Game: "brass-orchard", At: w.path("games", "BrassOrchard"), PlayerHome: w.path("player")},
		{Game: "night-tram", At: w.path("games", "NightTram"), PlayerHome: w.path("player")},
	} {
		in, folders, err := s.PlanAdd(t.Context(), req)
		require.NoError(t, err)
		require.NotEmpty(t, folders)
		require.NoError(t, s.ConfirmAdd(in))
	}
	return w
}

func (w *world) path(parts ...string) string {
	return filepath.Join(append([]string{w.dir}, parts...)...)
}

// state is everything that lies in folders: names, sizes and times.
func state(t testing.TB, folders ...string) map[string]string {
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

// found are findings as "code" or, where a subject is asked for, "code subject".
func codes(v *Vetting) []string {
	var all []string
	for _, f := range v.Findings {
		all = append(all, string(f.Code))
	}
	if len(v.Judged) == 1 {
		for _, f := range v.Judged[0].Findings {
			all = append(all, string(f.Code))
		}
	}
	return all
}

// lines makes a text of lines.
func lines(list ...string) string { return strings.Join(list, "\n") + "\n" }
