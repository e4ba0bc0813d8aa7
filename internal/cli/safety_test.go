package cli_test

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestNoControlSequenceReachesTheTerminal puts one into every text that a game, a mod, a download or a player gives, and runs what shows
// it.
func TestNoControlSequenceReachesTheTerminal(t *testing.T) {
	t.Parallel()
	const evil = "\x1b]0;owned\x07\x1b[2J\u009b31m\u202e"
	quoted := `\u001b]0;owned\u0007\u001b[2J\u009b31m\u202e`
	w := newWorld(t)
	for old, new := range map[string]string{`"title": "Gannet Rock"`: `"title": "` + quoted + `"`, `"version": "1.6.2"`: `"version": "1.6.2` + quoted + `"`, `{"id": "gull-post", "version": "1.4.2"`: `{"id": "gull` + quoted + `", "version": "1.4` + quoted + `"`} {
		rewrite(t, w.voyages("slot_00", "voyage.json.gz"), old, new)
	}
	mod := w.path("games", "Tidewrack", "mods", "deep-tides", "mod.json")
	data, err := os.ReadFile(mod)
	require.NoError(t, err)
	data = []byte(strings.NewReplacer(`"title": "Deep Tides"`, `"title": "Deep`+quoted+`"`, `"2.1.0"`, `"2.1.0`+quoted+`"`).Replace(string(data)))
	require.NoError(t, os.WriteFile(mod, data, 0o644))
	if runtime.GOOS != "windows" {
		require.NoError(t, os.WriteFile(w.voyages("slot_00", "name"+evil+".bin"), []byte("x"), 0o644))
		require.NoError(t, os.CopyFS(w.path("games", "Tidewrack", "mods", "mod"+strings.ReplaceAll(evil, "/", "")), os.DirFS(filepath.Dir(mod))))
		require.NoError(t, os.CopyFS(w.path("downloads", "evil"+evil, "slot_07"), os.DirFS(w.voyages("slot_00"))))
	}
	lines := [][]string{
		{"keep", "tidewrack", "-m", "note " + evil}, {"playthroughs", "start", "Night " + evil, "tidewrack"}, {"playthroughs", "note", "tidewrack", evil}, {"playthroughs"},
		{"look"}, {"look", "tidewrack"}, {"saves", "tidewrack"}, {"needs", "tidewrack/1"}, {"mods", "tidewrack"}, {"kept"}, {"kept", "tidewrack.1"}, {"compare", "tidewrack.1", "tidewrack@main"},
		{"vet", "downloads/evil" + evil}, {"place", "downloads/evil" + evil, "--anyway", "--dry-run"}, {"place", "downloads/evil" + evil, "--anyway", "--slot", "8", "--yes"},
		{"undo", "--list"}, {"undo", "--dry-run"}, {"saves", "duplicate", "tidewrack/1", "--yes"}, {"saves", "remove", "tidewrack/1", "--yes"}, {"restore", "tidewrack.1", "--dry-run"},
		{"restore", "tidewrack.1", "--slot", "1", "--yes"}, {"undo", "--yes"}, {"parcel", "tidewrack/2", "-o", "parcel.zip", "--dry-run"}, {"games", "show", "tidewrack"},
		{"look", "tidewrack", "--if", "drop:deep-tides"}, {"swap", "tidewrack", "--dry-run"}, {"no" + evil}, {"look", evil}, {"needs", "tidewrack/" + evil}, {"vet", evil}, {"kept", evil},
	}
	shown := 0
	for _, args := range lines {
		for _, line := range [][]string{args, append([]string{"--json"}, args...)} {
			if line[0] == "--json" && (args[0] == "keep" || strings.Contains(strings.Join(args, " "), "--yes") || len(args) > 1 && args[1] == "start") {
				continue
			}
			r := w.run(line...)
			for _, c := range r.out + r.err {
				if c < ' ' && c != '\n' && c != '\t' || c == 0x7f || c >= 0x80 && c < 0xa0 || c == 0x202e {
					t.Errorf("%q shows %U", line, c)
					break
				}
			}
			if strings.Contains(r.out+r.err, "owned") {
				shown++
			}
		}
	}
	assert.Greater(t, shown, 15, "the texts are shown, made visible")
}

// TestOutputThatCannotBeWritten has a terminal or file that takes nothing.
func TestOutputThatCannotBeWritten(t *testing.T) {
	t.Parallel()
	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	if err != nil {
		t.Skip("needs /dev/full")
	}
	defer full.Close()
	w := newWorld(t)
	for _, args := range [][]string{{"look"}, {"look", "--json"}, {"help"}, {"vet", "downloads/quiet-cove.zip"}, {"keep", "tidewrack"}} {
		cmd := exec.Command(w.bin, args...)
		cmd.Dir, cmd.Stdout = w.dir, full
		cmd.Env = append(os.Environ(), "OSTROV_HOME="+w.path("ostrov"))
		require.Error(t, cmd.Run(), args)
		assert.Equal(t, 1, cmd.ProcessState.ExitCode(), args)
	}
}

// TestASaveThatIsOpenIsNotReplaced holds a file of a save open for writing, as a game does that is still saving.
func TestASaveThatIsOpenIsNotReplaced(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "linux" {
		t.Skip("open files are looked for on Linux; Windows refuses by itself")
	}
	w := newWorld(t)
	f, err := os.OpenFile(w.voyages("slot_01", "chart.bin"), os.O_WRONLY|os.O_APPEND, 0)
	require.NoError(t, err)
	r := w.run("place", "downloads/quiet-cove.zip", "--slot", "2", "--yes")
	assert.Equal(t, 7, r.status)
	assert.Contains(t, r.err, "open")
	assert.Equal(t, 7, w.run("saves", "remove", "tidewrack/2", "--yes").status)
	require.NoError(t, f.Close())
	w.ok("place", "downloads/quiet-cove.zip", "--slot", "2", "--yes")
}

// TestAPlantedJournalIsNotBelieved lays the journal of a change beside the folder of saves that would have files of the player moved,
// overwritten and deleted.
func TestAPlantedJournalIsNotBelieved(t *testing.T) {
	t.Parallel()
	w := newWorld(t)
	w.ok("place", "downloads/quiet-cove.zip", "--yes")
	w.ok("undo", "--yes")
	areas, err := filepath.Glob(filepath.Join(filepath.Dir(filepath.Dir(w.voyages())), ".ostrov", "*"))
	require.NoError(t, err)
	require.Len(t, areas, 1)
	precious := w.path("player", "precious")
	require.NoError(t, os.MkdirAll(filepath.Join(precious, "inside"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(precious, "diary.txt"), []byte("mine"), 0o644))
	const id = "c0000000099-abcdef"
	require.NoError(t, os.MkdirAll(filepath.Join(areas[0], id, "new"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(areas[0], id, "new", "0000"), []byte("evil"), 0o644))
	unfinished := func(items []map[string]any, of, state string) {
		journal, err := json.Marshal(map[string]any{"ostrov_change": 2, "id": id, "of": of, "seq": 99, "title": "harmless", "install": "tidewrack@main", "time": time.Now(), "state": state, "items": items})
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(areas[0], "journal.json"), journal, 0o644))
	}
	inside := []map[string]any{{"root": w.voyages(), "name": "slot_00", "new": id + "/new/0000", "old": id + "/old/0000", "after": map[string]any{"entries": []any{}}}}
	for name, items := range map[string][]map[string]any{
		"outside":   {{"root": precious, "name": "diary.txt", "new": id + "/new/0000", "old": id + "/old/0000", "after": map[string]any{"entries": []any{}}}},
		"inside":    inside,
		"leads out": {{"root": w.voyages(), "name": "../../../x", "new": id + "/new/0000", "after": map[string]any{"entries": []any{}}}},
		"no id":     {{"root": w.voyages(), "name": "slot_00", "new": "../../../player/precious/0000", "after": map[string]any{"entries": []any{}}}},
	} {
		for _, state := range []string{"applying", "done"} {
			for _, of := range []string{id, "../../" + id} {
				unfinished(items, of, state)
				before := everything(t, w.dir)
				for _, args := range [][]string{{"look", "tidewrack"}, {"keep", "tidewrack"}, {"place", "downloads/quiet-cove.zip", "--yes"}, {"undo", "--unfinished", "--dry-run"}, {"restore", "tidewrack.1", "--yes"}, {"vet", "downloads/quiet-cove.zip"}} {
					r := w.run(args...)
					assert.NotContains(t, r.err, "panic", "%s %v", name, args)
				}
				after := everything(t, w.dir)
				for path, was := range before {
					if !strings.HasPrefix(path, w.path("ostrov")) {
						assert.Equal(t, was, after[path], "%s, %s: %s", name, state, path)
					}
				}
			}
		}
	}
	unfinished(inside, id, "applying")
	r := w.run("look", "tidewrack")
	assert.Contains(t, r.out+r.err, "not finished")
	require.NoError(t, os.Remove(filepath.Join(areas[0], "journal.json")))
	w.ok("look", "tidewrack")
}
