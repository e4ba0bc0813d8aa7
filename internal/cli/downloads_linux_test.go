package cli_test

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/unpack/unpacktest"
	"ostrov/internal/core/vet/vettest"
	"ostrov/internal/longtest"
)

const (
	// memory is what a command may take, in KiB.
	memory = 250 << 10
	// patience is how long a command may take.
	patience = 10 * time.Second
)

// limited makes a control group of the system whose programs have no more than memory together, and are killed if they want more; "" where that may not
// be made.
func limited(t *testing.T) (group string) {
	for _, c := range []struct{ dir, limit string }{{"/sys/fs/cgroup/memory", "memory.limit_in_bytes"}, {"/sys/fs/cgroup", "memory.max"}} {
		group, err := os.MkdirTemp(c.dir, "ostrov-test-")
		if err != nil {
			continue
		}
		t.Cleanup(func() { assert.NoError(t, os.Remove(group)) })
		if err := os.WriteFile(filepath.Join(group, c.limit), []byte(strconv.Itoa(memory<<10)), 0o644); err == nil {
			return group
		}
	}
	return ""
}

// bounded runs a command within the limits in which a download is looked at, and returns what it said and how it ended. group is where it runs.
func (w *world) bounded(group string, args ...string) (out string, status int) {
	w.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	temp, taken := w.t.TempDir(), filepath.Join(w.t.TempDir(), "taken")
	// what the system says of a child of this process counts what this process itself takes
	cmd := exec.CommandContext(ctx, "time", append([]string{"-q", "-f", "%M", "-o", taken, w.bin}, args...)...)
	cmd.Dir = w.dir
	cmd.Env = append(os.Environ(), "OSTROV_HOME="+w.path("ostrov"), "HOME="+w.path("nobody"), "TZ=UTC", "TMPDIR="+temp)
	data, err := cmd.Output()
	require.NoError(w.t, ctx.Err(), "%v takes longer than %v", args, patience)
	require.NotNil(w.t, cmd.ProcessState, "%v", err)
	text, err := os.ReadFile(taken)
	require.NoError(w.t, err)
	size, err := strconv.Atoi(strings.TrimSpace(string(text)))
	require.NoError(w.t, err)
	assert.LessOrEqual(w.t, size, memory, "%v takes %d KiB", args, size)
	left, err := os.ReadDir(temp)
	require.NoError(w.t, err)
	assert.Empty(w.t, left, "nothing is left of %v", args)
	return string(data), cmd.ProcessState.ExitCode()
}

// TestDownloadsWithinLimits vets and places each download with the built program, which takes no more time and memory than it may. Nothing outside its
// folder for temporary files is written, and nothing is left there.
func TestDownloadsWithinLimits(t *testing.T) {
	t.Parallel()
	if _, err := exec.LookPath("time"); err != nil {
		t.Skip("needs the Debian package time")
	}
	group := limited(t)
	w := newWorld(t).withTrams()
	all := vettest.All(vettest.NewMaker(t, w.path))
	before := state(t, w.path("games"), w.path("prefix"), w.path("player"), w.path("downloads"))
	first, stride := longtest.Share(24, 5)
	for i := first - 1; i < len(all); i += stride {
		c := all[i]
		t.Run(c.About, func(t *testing.T) {
			w := &world{t, w.dir, w.bin, w.env}
			file := filepath.Join(t.TempDir(), c.File)
			require.NoError(t, os.WriteFile(file, c.Data, 0o600))
			out, status := w.bounded(group, "vet", "--json", file)
			var said struct {
				Verdict  string
				Findings []struct{ Code string }
				Installs []struct{ Findings []struct{ Code string } }
			}
			require.NoError(t, json.Unmarshal([]byte(out), &said), "%s", out)
			var codes []string
			for _, f := range said.Findings {
				codes = append(codes, f.Code)
			}
			for _, in := range said.Installs {
				for _, f := range in.Findings {
					codes = append(codes, f.Code)
				}
			}
			sort.Strings(codes)
			assert.Equal(t, c.Want, strings.Join(codes, " "))
			if strings.Contains(c.Want, "dangerous") {
				assert.Equal(t, 6, status)
			}
			if c.Harmless {
				assert.Equal(t, 0, status)
			}
			_, status = w.bounded(group, "place", file, "--anyway", "--dry-run")
			assert.Equal(t, c.Harmless, status == 0 && c.Harmless, "what is harmless can be placed")
			assert.False(t, strings.Contains(c.Want, "dangerous") && status == 0, "what is dangerous is never placed")
			assert.Equal(t, before, state(t, w.path("games"), w.path("prefix"), w.path("player"), w.path("downloads")))
		})
	}
}

// TestAStoppedVetIsNoVerdict stops vet while it reads what takes long.
func TestAStoppedVetIsNoVerdict(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	file := filepath.Join(t.TempDir(), "a.zip")
	out, err := os.Create(file)
	require.NoError(t, err)
	z := zip.NewWriter(out)
	noise := make([]byte, 1<<20)
	for i := range 300 {
		for j := range noise {
			noise[j] = byte(i*j>>3) ^ byte(j)
		}
		f, err := z.Create(fmt.Sprintf("slot_05/part%d.bin", i))
		require.NoError(t, err)
		_, err = f.Write(noise)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	require.NoError(t, out.Close())
	before := state(t, w.path("games"), w.path("prefix"), w.path("player"))
	cmd := exec.Command(w.bin, "vet", file)
	cmd.Env = append(os.Environ(), "OSTROV_HOME="+w.path("ostrov"), "HOME="+w.path("nobody"))
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = &said, &said
	require.NoError(t, cmd.Start())
	time.Sleep(150 * time.Millisecond)
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	done := make(chan error, 1)
	go func() { done <- cmd.Wait() }()
	select {
	case <-done:
	case <-time.After(patience):
		_ = cmd.Process.Kill()
		require.Fail(t, "it goes on")
	}
	if cmd.ProcessState.ExitCode() == 4 { // it was quick
		t.Skip("the machine reads 300 MB in no time")
	}
	assert.Equal(t, 128+int(syscall.SIGINT), cmd.ProcessState.ExitCode(), said.String())
	for _, word := range []string{"canceled", "unclear", "unfit", "damaged"} {
		assert.NotContains(t, said.String(), word)
	}
	assert.Equal(t, before, state(t, w.path("games"), w.path("prefix"), w.path("player")))
}

// TestASaveThatHoldsAnArchiveIsPlaced places a save in which an archive lies: it comes as the file that it is.
func TestASaveThatHoldsAnArchiveIsPlaced(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	m := vettest.NewMaker(t, w.path)
	for _, inner := range [][]byte{m.Zip([]unpacktest.File{{"a/b", "x"}, {"c", "y"}}), unpacktest.Tar(t, true, unpacktest.File{"a", "x"}), unpacktest.SevenZip(unpacktest.File{"a", "x"})} {
		file := filepath.Join(t.TempDir(), "a.zip")
		require.NoError(t, os.WriteFile(file, m.Zip(m.Slot("slot_05"), unpacktest.File{"slot_05/replay.dat", string(inner)}), 0o600))
		w.ok("vet", file)
		w.ok("place", file, "--slot", "10", "--yes")
		got, err := os.ReadFile(w.voyages("slot_09", "replay.dat"))
		require.NoError(t, err)
		assert.Equal(t, inner, got)
		left, err := os.ReadDir(w.voyages("slot_09"))
		require.NoError(t, err)
		assert.Len(t, left, 3)
	}
}

// TestModsGoThroughTheSameDoor adds hostile downloads as mods, and takes a part of a save out of one: everything stays as it is.
func TestModsGoThroughTheSameDoor(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	mod := unpacktest.File{"kelp/mod.json", `{"id": "kelp", "version": "1.0.0", "title": "Kelp"}`}
	hidden := unpacktest.RawZip(nil, unpacktest.Raw{File: mod}, unpacktest.Raw{File: unpacktest.File{"kelp/a", "x"}, Before: unpacktest.LocalFile(unpacktest.File{"kelp/run.bat", "del *"})})
	flipped := unpacktest.SevenZip(mod, unpacktest.File{"kelp/a", "some content"})
	flipped[bytes.Index(flipped, []byte("some content"))] ^= 1
	for about, data := range map[string][]byte{
		"a file that only a stream shows": hidden,
		"a flipped bit":                   flipped,
		"a second tar":                    append(unpacktest.Tar(t, false, mod), unpacktest.Tar(t, false, unpacktest.File{"kelp/run.bat", "del *"})...),
		"a junction":                      unpacktest.Rar5(mod, unpacktest.File{"kelp/x", "j> ../../x"}),
		"a hostile pickle":                unpacktest.Zip(t, mod, unpacktest.File{"kelp/data", "cos\nsystem\n(S'x'\ntR."}),
		"a path three archives deep":      unpacktest.Zip(t, mod, unpacktest.File{"kelp/a.zip", string(unpacktest.Zip(t, unpacktest.File{"b.zip", string(unpacktest.Zip(t, unpacktest.File{"../x", "x"}))}))}),
	} {
		file := filepath.Join(t.TempDir(), "kelp.download")
		require.NoError(t, os.WriteFile(file, data, 0o600))
		before := state(t, w.path("games"), w.path("prefix"), w.path("player"))
		assert.NotZero(t, w.run("mods", "add", "tidewrack", file, "--yes").status, about)
		assert.Contains(t, []int{4, 6}, w.run("vet", file).status, about)
		assert.NotZero(t, w.run("borrow", "islands", "--from", file, "--into", "tidewrack/1", "--yes").status, about)
		assert.NotZero(t, w.run("members", "put", "tidewrack/1", file, "--yes").status, about)
		assert.Equal(t, before, state(t, w.path("games"), w.path("prefix"), w.path("player")), about)
	}
}
